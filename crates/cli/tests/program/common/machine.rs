//! A machine as an administrator really has it, in namespaces: its own files, processes and network, an OpenSSH server with keys
//! of its own, systemd or nothing that starts services.

use std::fs;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Output, Stdio};

use super::terminal::{Terminal, surroundings};
use super::{Came, World, wait};

/// The machine ends by itself after this many seconds, should everything else fail.
const LIFETIME: &str = "280";
/// Its address, and the one from which it is managed.
pub const ADDRESS: &str = "203.0.113.10";
pub const PASSWORD: &str = "gannet-on-the-ledge";

/// What starts services there.
#[derive(Clone, Copy, PartialEq, Eq)]
pub enum System {
    Systemd,
    OpenRc,
    /// Scripts in /etc/init.d, linked into run levels.
    Scripts,
    /// Only /etc/rc.local, which is there when `rc_local`.
    Plain {
        rc_local: bool,
    },
}

/// A running machine, and the network beside it from which it is managed.
pub struct Machine {
    pub folder: tempfile::TempDir,
    process: Child,
    /// Holds the network of the administrator.
    beside: Child,
    number: u8,
}

fn command(program: &str, arguments: &[&str]) -> Output {
    let output = Command::new(program)
        .args(arguments)
        .env("PATH", "/usr/sbin:/sbin:/usr/bin:/bin")
        .stdin(Stdio::null())
        .output()
        .unwrap();
    assert!(output.status.success(), "{program} {arguments:?}: {}", String::from_utf8_lossy(&output.stderr));
    output
}

impl Drop for Machine {
    fn drop(&mut self) {
        let _ = self.beside.kill();
        let _ = self.beside.wait();
        // The first process of its inner world takes all others with it; then the outer one tidies up and ends.
        for within in children(self.process.id()).into_iter().flat_map(children).flat_map(children) {
            let _ =
                nix::sys::signal::kill(nix::unistd::Pid::from_raw(within as i32), nix::sys::signal::Signal::SIGKILL);
        }
        let _ = self.process.wait();
    }
}

fn children(pid: u32) -> Vec<u32> {
    let list = fs::read_to_string(format!("/proc/{pid}/task/{pid}/children")).unwrap_or_default();
    list.split_whitespace().filter_map(|pid| pid.parse().ok()).collect()
}

impl Machine {
    /// Boots a machine.
    pub fn boot(system: System) -> Self {
        Self::boot_as(system, 10)
    }

    /// Boots a machine whose address ends in `number`.
    pub fn boot_as(system: System, number: u8) -> Self {
        let folder = tempfile::tempdir().unwrap();
        let path = |name: &str| folder.path().join(name);
        for name in ["memory", "ssh", "ssh/keys"] {
            fs::create_dir(path(name)).unwrap();
        }
        let text = |path: &Path| path.to_str().unwrap().to_owned();
        for (kind, name) in [("ed25519", "host_ed25519"), ("rsa", "host_rsa")] {
            command("ssh-keygen", &["-q", "-t", kind, "-N", "", "-f", &text(&path("ssh").join(name))]);
        }
        command("ssh-keygen", &["-q", "-t", "ed25519", "-N", "", "-C", "test", "-f", &text(&path("key"))]);
        for user in ["root", "astrid"] {
            fs::copy(path("key.pub"), path("ssh/keys").join(user)).unwrap();
        }
        fs::write(
            path("ssh/sshd_config"),
            "Port 22\nHostKey /etc/yestrel-test-ssh/host_ed25519\nHostKey /etc/yestrel-test-ssh/host_rsa\n\
             AuthorizedKeysFile /etc/yestrel-test-ssh/keys/%u\nStrictModes no\nUsePAM no\nPermitRootLogin yes\n\
             PasswordAuthentication yes\nKbdInteractiveAuthentication no\nPrintMotd no\nPidFile none\n\
             MaxStartups 100\nUseDNS no\n",
        )
        .unwrap();
        let hash = command("openssl", &["passwd", "-6", PASSWORD]).stdout;
        let hash = String::from_utf8(hash).unwrap();
        fs::write(path("passwd"), "astrid:x:1500:1500::/home/astrid:/bin/bash\n").unwrap();
        fs::write(path("shadow"), format!("astrid:{}:19000:0:99999:7:::\n", hash.trim())).unwrap();
        let script = path("machine.sh");
        fs::write(&script, include_str!("machine.sh")).unwrap();
        let name = match system {
            System::Systemd => "systemd",
            System::OpenRc => "openrc",
            System::Scripts => "scripts",
            System::Plain { .. } => "plain",
        };
        if system == System::OpenRc {
            // Brought there by scripts/install-test-needs.
            let files = concat!(env!("CARGO_MANIFEST_DIR"), "/../../target/test-needs/openrc");
            command("cp", &["-r", files, &text(&path("openrc"))]);
        }
        let process = Command::new("bash")
            .args([&text(&script), "outer", name, &text(folder.path()), LIFETIME])
            .env("PATH", "/usr/sbin:/sbin:/usr/bin:/bin")
            .stdin(Stdio::null())
            .stdout(Stdio::null())
            .stderr(fs::File::create(path("errors")).unwrap())
            .spawn()
            .unwrap();
        let beside = Command::new("unshare").args(["--net", "sleep", LIFETIME]).stdin(Stdio::null()).spawn().unwrap();
        let machine = Self { folder, process, beside, number };
        machine.wait_for("its files", || machine.path("built").exists().then_some(()));
        if let System::Plain { rc_local } = system {
            let root = machine.path("memory/root");
            machine.outside(&format!("rm -rf {0}/etc/init.d {0}/etc/rc?.d; rm -f {0}/etc/rc.local", root.display()));
            if rc_local {
                machine.outside(&format!("printf '#!/bin/sh\\n# mine\\nexit 0\\n' > {}/etc/rc.local", root.display()));
            }
        }
        machine.wire();
        fs::write(machine.path("wired"), "").unwrap();
        machine.wait_for_ssh();
        machine
    }

    fn wait_for<T>(&self, what: &str, mut holds: impl FnMut() -> Option<T>) -> T {
        wait(40, what, || {
            let errors = || fs::read_to_string(self.path("errors")).unwrap_or_default();
            assert!(
                Path::new(&format!("/proc/{}/root", self.process.id())).exists(),
                "the machine ended: {}",
                errors()
            );
            holds()
        })
    }

    /// The process whose network the machine has.
    fn middle(&self) -> u32 {
        self.wait_for("its processes", || {
            // This process, the one that limits its time, the one that makes the namespaces, and the one within.
            let within = children(self.process.id()).into_iter().flat_map(children).flat_map(children);
            within.into_iter().find(|pid| {
                fs::read_to_string(format!("/proc/{pid}/cmdline")).is_ok_and(|line| line.contains("\0middle\0"))
            })
        })
    }

    /// The machine's first process.
    fn init(&self) -> u32 {
        self.wait_for("its first process", || {
            let unshare = children(self.middle())
                .into_iter()
                .find(|pid| fs::read_to_string(format!("/proc/{pid}/comm")).is_ok_and(|name| name.trim() == "unshare"));
            unshare.and_then(|pid| children(pid).into_iter().next())
        })
    }

    /// A cable between the two networks; both ends are made inside them.
    fn wire(&self) {
        let (machine, beside) = (self.middle().to_string(), self.beside.id().to_string());
        let own = format!("203.0.113.{}/24", self.number);
        let inside = |pid: &str, words: &str| {
            let mut all = vec!["-t", pid, "-n", "--"];
            all.extend(words.split(' '));
            command("nsenter", &all);
        };
        wait(5, "a network of its own", || {
            let net = |pid: &str| fs::read_link(format!("/proc/{pid}/ns/net")).ok();
            (net(&beside)? != net("self")?).then_some(())
        });
        inside(&machine, &format!("ip link add eth0 type veth peer name eth0 netns {beside}"));
        inside(&machine, &format!("ip address add {own} dev eth0"));
        inside(&machine, "ip link set eth0 up");
        inside(&machine, "ip address add 10.44.0.20/32 dev lo");
        inside(&beside, "ip link set lo up");
        inside(&beside, "ip address add 203.0.113.1/24 dev eth0");
        inside(&beside, "ip link set eth0 up");
        inside(&machine, "ip route add default via 203.0.113.1");
    }

    /// Puts the program where it would be brought, for root.
    fn stage(&self) {
        let stage = self.path("memory/root/root/.yestrel-stage");
        let stage = stage.display();
        let program = env!("CARGO_BIN_EXE_yestrel");
        self.outside(&format!(
            "umask 077; mkdir -p {stage} && cp {program} {stage}/program && chmod 700 {stage}/program"
        ));
    }

    fn wait_for_ssh(&self) {
        self.wait_for("its SSH server", || {
            let pid = self.beside.id().to_string();
            let address =
                format!("exec 3<>/dev/tcp/203.0.113.{}/22; read -t 2 line <&3; [[ $line == SSH-2.0* ]]", self.number);
            let tried = Command::new("nsenter")
                .args(["-t", &pid, "-n", "--", "bash", "-c", &address])
                .stderr(Stdio::null())
                .status();
            tried.is_ok_and(|status| status.success()).then_some(())
        });
    }

    pub fn path(&self, name: &str) -> PathBuf {
        self.folder.path().join(name)
    }

    /// Runs a shell script as root on the machine.
    pub fn shell(&self, script: &str) -> Came {
        let init = self.init().to_string();
        let output = Command::new("timeout")
            .args(["60", "nsenter", "-t", &init, "-m", "-p", "-n", "-u", "-i", "-C", "--", "sh", "-c", script])
            .env_clear()
            .env("PATH", "/usr/sbin:/sbin:/usr/bin:/bin")
            .stdin(Stdio::null())
            .output()
            .unwrap();
        Came::of(&output)
    }

    /// Runs a shell script in the machine's network and files before it has booted.
    fn outside(&self, script: &str) {
        let middle = self.middle().to_string();
        command("nsenter", &["-t", &middle, "-m", "--", "sh", "-c", script]);
    }

    /// Ends everything that runs on it, without a warning, and boots it again.
    pub fn reboot(&self) {
        fs::write(self.path("reboot"), "").unwrap();
        let init = self.init() as i32;
        nix::sys::signal::kill(nix::unistd::Pid::from_raw(init), nix::sys::signal::Signal::SIGKILL).unwrap();
        self.wait_for("another first process", || (self.init() as i32 != init).then_some(()));
        self.wait_for_ssh();
    }

    /// `--via` for a user.
    pub fn via(&self, user: &str) -> String {
        format!("ssh://{user}@203.0.113.{}:22", self.number)
    }

    /// The fingerprint of the host's key, as the host itself says it.
    pub fn fingerprint(&self, kind: &str) -> String {
        let file = self.path("ssh").join(format!("host_{kind}.pub"));
        let said = command("ssh-keygen", &["-l", "-f", file.to_str().unwrap()]).stdout;
        String::from_utf8(said).unwrap().split(' ').nth(1).unwrap().to_owned()
    }

    /// Puts a command into the network from which the machine is managed.
    pub fn beside(&self, inner: Command) -> Command {
        let pid = self.beside.id().to_string();
        let mut outer = Command::new("nsenter");
        outer.args(["-t", &pid, "-n", "--"]).arg(inner.get_program()).args(inner.get_args());
        surroundings(&inner, &mut outer);
        outer.stdin(Stdio::null());
        outer
    }
}

impl World {
    /// Runs `yestrel` with words separated by spaces, in the network beside a machine.
    pub fn at(&self, machine: &Machine, words: &str) -> Came {
        self.at_words(machine, &words.split_whitespace().collect::<Vec<_>>())
    }

    pub fn at_words(&self, machine: &Machine, words: &[&str]) -> Came {
        let mut inner = Command::new("timeout");
        inner.args(["--kill-after=5", "120", env!("CARGO_BIN_EXE_yestrel")]).args(words);
        let inner = self.set_up(inner);
        Came::of(&machine.beside(inner).stdin(Stdio::null()).output().unwrap())
    }

    /// Runs `yestrel` at a terminal, in the network beside a machine.
    pub fn terminal(&self, machine: &Machine, words: &[&str]) -> Terminal {
        let mut inner = Command::new(env!("CARGO_BIN_EXE_yestrel"));
        inner.args(words);
        Terminal::start(&machine.beside(self.set_up(inner)))
    }

    /// The program with something behind its end: another program, and the same.
    pub fn another(&self, name: &str) -> PathBuf {
        let path = self.path(name);
        let mut bytes = fs::read(env!("CARGO_BIN_EXE_yestrel")).unwrap();
        bytes.extend_from_slice(name.as_bytes());
        write_program(&path, &bytes);
        path
    }

    /// The program as [`World::another`], which says that it is of a version long ago.
    pub fn older(&self, name: &str) -> PathBuf {
        let path = self.another(name);
        let (mut bytes, version) = (fs::read(&path).unwrap(), env!("CARGO_PKG_VERSION").as_bytes());
        let old: Vec<u8> = version.iter().map(|byte| if byte.is_ascii_digit() { b'0' } else { *byte }).collect();
        let mut at = 0;
        while let Some(next) = bytes[at..].windows(version.len()).position(|part| part == version) {
            bytes[at + next..at + next + old.len()].copy_from_slice(&old);
            at += next + old.len();
        }
        write_program(&path, &bytes);
        path
    }

    /// Adds the machine as the host `harbour`, with the gateway of the harbour on it. The program lies there already: bringing
    /// it is what other tests are about.
    pub fn harbour_on(&self, machine: &Machine, user: &str) {
        machine.stage();
        self.run("site add harbour --network 10.44.0.0/22 --time-zone Europe/Oslo").is(0);
        self.add_host(machine, "harbour", user).is(0);
        self.run("gateway create harbour --host harbour --dialled 203.0.113.10").is(0);
        self.at(machine, "listener open harbour --pool 10.187.44.0/24").is(0);
    }

    pub fn add_host(&self, machine: &Machine, name: &str, user: &str) -> Came {
        let (via, key) = (machine.via(user), machine.path("key"));
        let fingerprint = machine.fingerprint("ed25519");
        let words = [
            "host",
            "add",
            name,
            "--site",
            "harbour",
            "--kind",
            "computer",
            "--via",
            &via,
            "--key",
            key.to_str().unwrap(),
            "--host-key",
            &fingerprint,
        ];
        self.at_words(machine, &words)
    }
}

/// Writes a program by another process: were it written by this one, a test that starts something meanwhile would hand it on while it is
/// open for writing, and it could not be started.
fn write_program(path: &Path, bytes: &[u8]) {
    let part = path.with_extension("part");
    fs::write(&part, bytes).unwrap();
    let put = Command::new("install").args(["-m", "755"]).args([&part, path]).status().unwrap();
    assert!(put.success());
    fs::remove_file(&part).unwrap();
}
