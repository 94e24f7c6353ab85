//! Packages, and upgrades without a person: only what somebody trusted has signed is installed.

use std::path::{Path, PathBuf};
use std::process::Command;

use crate::common::machine::{Machine, System};
use crate::common::{Came, World};

fn run(command: &mut Command) -> Came {
    Came::of(&command.output().unwrap())
}

fn key(world: &World, name: &str) -> PathBuf {
    let path = world.path(name);
    run(Command::new("openssl").args(["genpkey", "-algorithm", "ed25519", "-out"]).arg(&path)).is(0);
    path
}

/// Packs a program and signs it; gives the tarball and the public key.
fn pack(world: &World, program: &Path, key: &Path, folder: &str) -> (PathBuf, String) {
    let script = concat!(env!("CARGO_MANIFEST_DIR"), "/../../scripts/package");
    let came = run(Command::new(script)
        .arg(world.path(folder))
        .env("YESTREL_PROGRAM", program)
        .env("YESTREL_SIGNING_KEY", key)
        .env("YESTREL_PACKAGE_LEVEL", "1"))
    .is(0);
    let tarball = came.out.lines().find(|line| line.ends_with(".tar.gz")).unwrap();
    (tarball.into(), came.out.rsplit("signed by ").next().unwrap().trim().to_owned())
}

#[test]
fn packages_are_whole_and_signed() {
    let world = World::empty();
    let script = concat!(env!("CARGO_MANIFEST_DIR"), "/../../scripts/package");
    let came = run(Command::new(script).arg(world.path("out")).env_remove("YESTREL_SIGNING_KEY")).is(1);
    came.says("no key to sign with");
    let key = key(&world, "key.pem");
    let (tarball, public) = pack(&world, Path::new(env!("CARGO_BIN_EXE_yestrel")), &key, "out");
    assert_eq!(public.len(), 44, "{public}");
    // Another program finds the signature right.
    let packages: Vec<_> = std::fs::read_dir(world.path("out")).unwrap().map(|entry| entry.unwrap().path()).collect();
    let signed: Vec<_> =
        packages.iter().filter(|path| path.extension().is_some_and(|e| e == "gz" || e == "deb")).collect();
    assert_eq!(signed.len(), 2, "{packages:?}");
    for package in signed {
        let signature = format!("{}.sig", package.display());
        let check = format!(
            "base64 -d {signature} > {0}/raw && openssl pkeyutl -verify -rawin -inkey {1} -in {2} -sigfile {0}/raw",
            world.folder.path().display(),
            key.display(),
            package.display()
        );
        run(Command::new("sh").args(["-c", &check])).is(0).says("Verified Successfully");
    }
    let deb = packages.iter().find(|path| path.extension().is_some_and(|extension| extension == "deb")).unwrap();
    run(Command::new("dpkg-deb").arg("--info").arg(deb)).is(0).says("Package: yestrel").says("Architecture: amd64");
    run(Command::new("dpkg-deb").arg("-x").arg(deb).arg(world.path("root"))).is(0);
    run(Command::new(world.path("root/usr/bin/yestrel")).arg("--version")).is(0).says("yestrel ");
    assert!(world.path("root/usr/share/man/man1/yestrel-rollout.1.gz").exists());
    run(Command::new("tar").arg("-xzf").arg(&tarball).arg("-C").arg(world.folder.path())).is(0);
    let unpacked = tarball.file_name().unwrap().to_str().unwrap().trim_end_matches(".tar.gz").to_owned();
    run(Command::new(world.path(&unpacked).join("yestrel")).arg("--version")).is(0);
}

// Long: a machine boots systemd, and four programs of 50 MB are packed, copied and put on trial.
#[test]
fn a_host_takes_only_signed_programs_and_upgrades_itself_within_its_hours() {
    let machine = Machine::boot(System::Systemd);
    let world = World::estate();
    let key = key(&world, "key.pem");
    let (package, public) = pack(&world, &world.older("packaged!"), &key, "out");
    world.harbour_on(&machine, "root");
    let binary = package.to_str().unwrap().to_owned();
    let with_trust = |keys: &str, words: &[&str]| {
        std::fs::write(world.path("trusted"), keys).unwrap();
        let mut command = Command::new("timeout");
        command.args(["--kill-after=5", "120", env!("CARGO_BIN_EXE_yestrel")]).args(words);
        let mut command = world.set_up(command);
        command.env("YESTREL_TRUSTED_KEYS", world.path("trusted"));
        run(&mut machine.beside(command))
    };
    // For the host, as for one with another processor: signed by nobody who is trusted, then by somebody.
    let change = ["host", "change", "harbour", "--agent-binary", &binary];
    with_trust("", &change).is(3).says("signed by nobody who is trusted").says("no key is trusted");
    with_trust("AAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAA=\n", &change).is(3).says("signed by nobody");
    with_trust(&public, &change).is(0);
    with_trust(&public, &["rollout", "--yes"]).is(0).says("agent installed");
    let installed = || machine.shell("tail -c 9 /opt/yestrel/yestrel").out;
    assert_eq!(installed(), "packaged!");
    world.at_words(&machine, &["host", "change", "harbour", "--agent-binary", ""]).is(0);

    // Within its hours, and not before: what was sent waits on the host.
    let hour = jiff::Timestamp::now().to_zoned(jiff::tz::TimeZone::get("Europe/Oslo").unwrap()).hour();
    let at = |from: i8, until: i8| format!("daily {:02}:00-{:02}:00", (hour + from) % 24, (hour + until) % 24);
    world.run_words(&["gateway", "change", "harbour", "--updates", "whenever"]).is(2).says("no schedule");
    world.run_words(&["gateway", "change", "harbour", "--updates", &at(3, 5)]).is(0);
    world.at(&machine, "rollout --again --yes").is(0).says("agent to be upgraded from");
    assert_eq!(installed(), "packaged!");
    let update = || machine.shell("/opt/yestrel/yestrel agent update");
    update().is(0).says("nothing to do");
    assert_eq!(installed(), "packaged!");
    machine.shell("systemctl is-enabled yestrel-update.timer && systemctl is-active yestrel-update.timer").is(0);
    world.run_words(&["gateway", "change", "harbour", "--updates", &at(23, 2)]).is(0);
    world.at(&machine, "rollout --again --yes").is(0);
    machine.shell("systemctl start yestrel-update.service").is(0);
    assert_ne!(installed(), "packaged!");
    update().is(0).says("nothing to do");
    world.at(&machine, "gateway show harbour").is(0).says("up to date").says("Europe/Oslo");

    // A package that somebody put there: without a signature, altered, and as it was made.
    let bring = |from: &Path, name: &str| {
        let bytes = std::fs::read(from).unwrap();
        let mut command = Command::new("ssh");
        command.args(["-q", "-o", "StrictHostKeyChecking=no", "-o", "UserKnownHostsFile=/dev/null", "-i"]);
        command.arg(machine.path("key")).arg("root@203.0.113.10");
        command.arg(format!("mkdir -p /opt/yestrel/incoming; cat > /opt/yestrel/incoming/{name}"));
        let mut process = machine.beside(command).stdin(std::process::Stdio::piped()).spawn().unwrap();
        std::io::Write::write_all(&mut process.stdin.take().unwrap(), &bytes).unwrap();
        assert!(process.wait().unwrap().success());
    };
    bring(&package, "new.tar.gz");
    update().is(3).says("is not signed");
    bring(&PathBuf::from(format!("{binary}.sig")), "new.tar.gz.sig");
    update().is(3).says("signed by nobody who is trusted");
    machine.shell(&format!("mkdir -p /etc/yestrel; echo {public} > /etc/yestrel/release-keys")).is(0);
    machine.shell("cp /opt/yestrel/incoming/new.tar.gz /tmp/good; echo more >> /opt/yestrel/incoming/new.tar.gz").is(0);
    update().is(3).says("altered");
    assert_ne!(installed(), "packaged!");
    machine.shell("cp /tmp/good /opt/yestrel/incoming/new.tar.gz").is(0);
    update().is(0).says("upgraded the agent");
    assert_eq!(installed(), "packaged!");
    // Never again.
    world.run("gateway change harbour --updates never").is(0);
    world.at(&machine, "rollout --again --upgrade-now --yes").is(0).says("agent upgraded");
    assert_ne!(machine.shell("systemctl is-enabled yestrel-update.timer").code, 0);
    assert!(!machine.shell("ls /opt/yestrel").out.contains("schedule"));
    world.at(&machine, "gateway retire harbour --yes").is(0);
}
