//! Taking an estate along: saved and loaded, caught up with its gateways, its keys renewed and recovered; what gateways publish;
//! credentials for one session.

use crate::certificates::third_judge;
use crate::common::{World, wait};

/// Asks for everything that must come back.
fn everything(world: &World) -> String {
    // The history has grown by the saving and the loading themselves.
    let grown = |line: &&str| line.contains("estate save") || line.starts_with("history_head.");
    world.everything().lines().filter(|line| !grown(line)).collect::<Vec<_>>().join("\n")
}

// Long: each passphrase takes a second of work, by design.
#[test]
fn a_saved_estate_comes_back_whole() {
    let world = World::estate();
    world.run("authority create").is(0);
    world.run("user add mara --mail mara@skerry.example").is(0);
    world.run("device add mara/phone").is(0);
    world.run("credential issue mara/phone --kind certificate").is(0);
    world.run("credential issue mara/phone --kind password --generate --second-factor").is(0);
    world.secret("pass", "seven skerries in the fog");
    world.secret("wrong", "six skerries in the fog");
    let before = everything(&world);
    world.run("estate save saved --passphrase-file pass").is(0);
    let bytes = std::fs::read(world.path("saved")).unwrap();
    assert!(bytes.starts_with(b"age-encryption.org/v1\n"));
    use std::os::unix::fs::PermissionsExt as _;
    assert_eq!(std::fs::metadata(world.path("saved")).unwrap().permissions().mode() & 0o777, 0o600);
    world.run("estate save saved --passphrase-file pass").is(3).says("never written over");
    world.run("estate load saved --passphrase-file pass").is(3).says("already something");
    world
        .run("estate load saved --passphrase-file wrong --estate other")
        .is(3)
        .says("the passphrase in wrong is wrong");
    for cut in [bytes.len() - 1, bytes.len() / 2, 200, 30] {
        std::fs::write(world.path("cut"), &bytes[..cut]).unwrap();
        world.run("estate load cut --passphrase-file pass --estate other").is(2).says("cut short");
        assert!(!world.path("other").exists() && !world.path("other.key").exists(), "nothing is left at {cut}");
    }
    let mut altered = bytes.clone();
    let at = altered.len() - 40;
    altered[at] ^= 1;
    std::fs::write(world.path("cut"), altered).unwrap();
    world.run("estate load cut --passphrase-file pass --estate other").is(2);
    std::fs::write(world.path("cut"), "something else").unwrap();
    world.run("estate load cut --passphrase-file pass --estate other").is(2).says("no saved estate");
    for file in ["skerry", "skerry.key", "skerry-wal", "skerry-shm"] {
        let _ = std::fs::remove_file(world.path(file));
    }
    world.run("estate load saved --passphrase-file pass").is(0).says("loaded the estate skerry");
    let after: Vec<String> = everything(&world).lines().map(str::to_owned).collect();
    for line in before.lines() {
        assert!(after.iter().any(|other| other == line), "{line}");
    }
    world.run("estate history --verify").is(0);
    // Its secrets open: what was not handed over yet still can be.
    world.run("credential handover mara/phone --kind certificate --to phone.p12 --yes").is(0);
    world.run("credential handover mara/phone --kind password --yes").is(0).says("otpauth://");
}

#[test]
fn an_estate_is_saved_to_a_key_and_opens_with_that_key_only() {
    use age::secrecy::ExposeSecret as _;
    let world = World::estate();
    world.run("user add mara").is(0);
    let (own, other) = (age::x25519::Identity::generate(), age::x25519::Identity::generate());
    for (name, identity) in [("own", &own), ("other", &other)] {
        world.write(name, &format!("# made for this test\n{}\n", identity.to_string().expose_secret()));
    }
    world.run("estate save saved --recipient age1nonsense").is(2).says("no recipient key");
    assert!(!world.path("saved").exists());
    world.run(&format!("estate save saved --recipient {}", own.to_public())).is(0);
    world.run("estate load saved --estate copy").is(2).says("--identity FILE");
    world.run("estate load saved --estate copy --identity other").is(3).says("another key");
    assert!(!world.path("copy").exists() && !world.path("copy.key").exists());
    world.run("estate load saved --estate copy --identity own").is(0);
    world.run("user list --estate copy").is(0).says("mara");
    world.run("estate save saved --recipient x --readable").is(2);
}

#[test]
fn a_readable_save_names_every_secret_first_and_loads() {
    let world = World::estate();
    let asked = world.run("estate save readable --readable").is(2);
    for secret in ["signs orders", "of the authorities", "second factors", "shared secrets", "sealing key"] {
        assert!(asked.err.contains(secret), "{secret}: {asked:?}");
    }
    world.run("estate save readable --readable --yes").is(0);
    world.judge("tar tzf readable").is(0).says("about.json").says("estate").says("key");
    world.run("estate load readable --estate other").is(0);
    world.run("user list --estate other").is(0);
}

#[test]
fn a_backup_made_while_others_write_is_one_moment() {
    let world = World::estate();
    std::thread::scope(|scope| {
        let writing = scope.spawn(|| {
            for at in 0..40 {
                world.run(&format!("group add group-{at}")).is(0);
            }
        });
        for at in 0..6 {
            world.run(&format!("estate save saved-{at} --readable --yes")).is(0);
        }
        writing.join().unwrap();
    });
    for at in 0..6 {
        let name = format!("copy-{at}");
        world.run(&format!("estate load saved-{at} --estate {name}")).is(0);
        // Every group has its row in the history, and the chain holds.
        let groups =
            world.run(&format!("group list --format json --estate {name}")).is(0).json().as_array().unwrap().len();
        let rows = world.run(&format!("estate history --format json --estate {name}")).is(0).json();
        let added = rows.as_array().unwrap().iter().filter(|row| row["what"] == "group add").count();
        assert_eq!(groups, added);
        world.run(&format!("estate history --verify --estate {name}")).is(0);
    }
}

#[test]
fn an_older_backup_takes_over_what_its_gateways_know_and_two_copies_notice_each_other() {
    let world = World::mara("--processes");
    world.admit("tomas", "tomas/tablet");
    world.run("rollout --yes").is(0);
    world.run("estate save saved --readable --yes").is(0);
    // After the backup: a device is revoked, and the gateway goes on to newer orders.
    world.run("credential revoke tomas/tablet --reason lost --yes").is(0);
    world.run("listener change harbour/quill --keep-alive 25s").is(0);
    world.admit("ines", "ines/desk");
    world.run("rollout --yes").is(0);
    let came = world.run("estate load saved --estate later").is(0).says("caught up").says("tomas/tablet");
    assert!(came.err.contains("1 device was admitted after this backup: ines/desk"), "{came:?}");
    // Whom it does not know it throws out only when that was said yes to.
    world.run("rollout --estate later").is(2).says("throws out 1 device").says("ines/desk");
    world.run("rollout --preview").is(0).says("nothing to do");
    world.run("credential list --estate later").is(0).says("revoked");
    world.run("gateway list --estate later").is(0).says("behind");
    // The copy can go on, and the first one then sees that it is not alone.
    world.run("rollout --yes --estate later").is(0);
    world.run("listener change harbour/quill --keep-alive 30s").is(0);
    world.run("rollout --yes").is(4).says("two copies of the estate are in use");
    world.run("credential list").is(0).says("tomas/tablet/1");
    // A gateway that does not answer is named, and the estate is there all the same.
    world.run("lab stop").is(0);
    world.run("estate load saved --estate third").is(4).says("harbour could not be asked");
    world.run("estate show --estate third").is(0);
}

#[test]
fn estate_keys_are_renewed_by_an_order_that_both_sign() {
    let world = World::mara("--processes");
    let identity = |world: &World| {
        world.judge("python3 -c \"import json; print(json.load(open('lab/hosts/harbour/var/yestrel/identity.json'))['estate_key'])\"").is(0).out
    };
    let before = identity(&world);
    world.run("estate renew --yes").is(0).says("tells 1 gateway,");
    world.run("rollout --preview").is(0).says("new signing key");
    // A second renewal before the gateway heard of the first is no harm.
    world.run("estate renew --yes").is(0);
    world.run("rollout --yes").is(0);
    assert_ne!(identity(&world), before);
    world.run("rollout --preview").is(0).says("nothing to do");
    world.run("listener change harbour/quill --keep-alive 25s").is(0);
    world.run("rollout --yes").is(0).says("done");
    world.run("gateway restart harbour").is(0);
    world.run("gateway show harbour").is(0).says("up to date").says("running since");
    // And once more, now that the newest order already told of a new key.
    let between = identity(&world);
    world.run("estate renew --yes").is(0);
    world.run("rollout --yes").is(0).says("done");
    assert_ne!(identity(&world), between);
    // Renewed, and moved to a new host before the gateway heard of it.
    world.run("estate renew --yes").is(0);
    world.run("host add breakwater --site harbour --kind cloud --via lab").is(0);
    world.run("gateway move harbour --to breakwater --yes").is(0);
    world.run("rollout --preview").is(0).says("nothing to do");
    world.run("estate history --verify").is(0);
}

#[test]
fn the_recovery_key_survives_the_loss_of_either_key() {
    let mut world = World::empty();
    let made = world.run("estate create skerry").is(0);
    let recovery = made.out.lines().last().unwrap().trim().to_owned();
    world.start_lab("--processes");
    world.run("site add harbour --network 10.44.0.0/22").is(0);
    world.run("host add harbour --site harbour --kind cloud --via lab").is(0);
    world.run("gateway create harbour --host harbour --dialled gangway.skerry.example").is(0);
    world.run("listener open harbour").is(0);
    world.run("rollout --yes").is(0);
    world.secret("recovery", &recovery);
    world.secret("pass", "seven skerries in the fog");
    std::fs::remove_file(world.path("skerry.key")).unwrap();
    world.run("rollout --yes --again").is(1).says("sealing key");
    // Another beginning than it has, whatever that is; one in 256 passes the check byte, and opens nothing all the same.
    let mut noticed = 0;
    for other in ["xx", "yy", "zz"].into_iter().filter(|other| !recovery.starts_with(other)) {
        world.secret("mistyped", &format!("{other}{}", &recovery[2..]));
        let came = world.run("estate recover --recovery-file mistyped");
        assert!(came.code != 0 && !world.path("skerry.key").exists(), "{came:?}");
        noticed += u8::from(came.code == 2 && came.err.contains("no recovery key"));
    }
    assert!(noticed > 0);
    world.run("estate recover --recovery-file recovery --passphrase-file pass").is(0);
    world.run("rollout --yes --again --estate-passphrase-file pass").is(0).says("done");
    // The signing key is gone: what the recovery key signs is obeyed, and brings a new one.
    world.judge("python3 -c \"import sqlite3; d = sqlite3.connect('skerry'); d.execute('update estates set private_key = ?', ('AAAA',)); d.commit()\"").is(0);
    world.run("listener change harbour/quill --keep-alive 25s").is(0);
    world.run("rollout --yes --estate-passphrase-file pass").is(1);
    world.run("estate renew --yes --recovery-file recovery --estate-passphrase-file pass").is(0);
    world.run("rollout --yes --estate-passphrase-file pass").is(0).says("done");
    // A new recovery key takes the place of the old one.
    let known = || {
        world.judge("python3 -c \"import json; print(json.load(open('lab/hosts/harbour/var/yestrel/identity.json'))['recovery_key'])\"").is(0).out
    };
    let before = known();
    world.run("estate renew --recovery --estate-passphrase-file pass").is(0).says("rollout --again");
    world.run("rollout --again --yes --estate-passphrase-file pass").is(0);
    assert_ne!(known(), before, "the gateway obeys the new one in its place");
    world.run("estate recover --recovery-file recovery").is(3).says("not this estate's");
}

// Long: two judges ask for everything over the network of the lab.
#[test]
fn gateways_publish_lists_and_answers_that_both_judges_take() {
    let world = World::harbour("--namespaces");
    world.run("authority create").is(0);
    world.run("user add mara --mail mara@skerry.example").is(0);
    world.run("device add mara/phone").is(0);
    world.run("authority publish --at nowhere").is(2).says("no gateway");
    // The port is looked at before it is opened.
    world.run("authority publish --at harbour --yes").is(0).says("signed the certificate of issuing anew");
    world.run("credential issue mara/phone --kind certificate").is(0);
    world.run("credential handover mara/phone --as pem --to phone --yes").is(0);
    world.run("authority export issuing --to chain.pem").is(0);
    world.run("authority export root --to root.pem").is(0);
    // It was made before there was an address: now it names where the list above it is.
    world.judge("openssl x509 -in chain.pem -noout -text").is(0).says("http://gangway.skerry.example/lists/root.crl");
    world.run("authority publish --at harbour --yes").is(0);
    world.run("port list").is(0).says("80/tcp").says("unknown");
    world.run("rollout --preview").is(0).says("80/tcp").says("of issuing none -> 3");
    world.run("rollout --yes").is(0);
    world.run("port list").is(0).says("the state of certificates");
    world.shell("harbour", "nft list table inet yestrel").is(0).says("tcp dport @open1 ");
    world.shell("harbour", "nft list set inet yestrel open1").is(0).says("elements = { 80 }");
    // The certificate itself says where to ask.
    let uri = world.judge("openssl x509 -in phone/certificate.pem -noout -ocsp_uri").is(0).out.trim().to_owned();
    assert_eq!(uri, "http://gangway.skerry.example/status/issuing");
    let ask = format!(
        "openssl ocsp -issuer chain.pem -cert phone/certificate.pem -url {uri} -CAfile root.pem -verify_other chain.pem"
    );
    let from =
        |host: &str, script: &str| world.shell(host, &format!("cd '{}' && {script}", world.folder.path().display()));
    from("cafe-router", "true").is(0);
    from("mara-laptop", &ask).is(0).says("Response verify OK").says("certificate.pem: good");
    for hash in ["-sha256", "-sha384", "-sha512"] {
        from("mara-laptop", &ask.replace("-issuer", &format!("{hash} -issuer"))).is(0).says(": good");
    }
    from("mara-laptop", "ocsptool --ask=http://gangway.skerry.example/status/issuing --load-issuer chain.pem --load-cert phone/certificate.pem --load-trust chain.pem --outfile answer.der").is(0).says("Verifying OCSP Response: Success");
    from("mara-laptop", &format!("{ask} -no_nonce -respout good.der")).is(0);
    let third = |ocsp: &str| {
        world.run("authority export root --list --to root.crl").is(0);
        third_judge(
            &world,
            &format!("root.pem phone/certificate.pem phone/chain.pem client_auth --ocsp {ocsp} --crl root.crl"),
        )
    };
    third("good.der").is(0).says("accepted");
    let fetch = |path: &str, to: &str| {
        from(
            "mara-laptop",
            &format!(
                "python3 -c \"import urllib.request as u; open('{to}','wb').write(u.urlopen('http://gangway.skerry.example/{path}').read())\""
            ),
        )
    };
    fetch("lists/issuing.crl", "published.crl").is(0);
    fetch("authorities/issuing.cer", "published.cer").is(0);
    world.judge("openssl x509 -inform DER -in published.cer -out published.pem && openssl crl -inform DER -in published.crl -CAfile published.pem -noout").is(0);
    world.judge("openssl crl -inform DER -in published.crl -noout -crlnumber").is(0).says("03");
    // The answer of GET is the same (RFC 6960 appendix A.1).
    world.judge("openssl ocsp -issuer chain.pem -cert phone/certificate.pem -no_nonce -reqout question.der").is(0);
    from("mara-laptop", "python3 -c \"import base64, urllib.parse, urllib.request as u; q = urllib.parse.quote(base64.b64encode(open('question.der','rb').read()), safe=''); open('answer2.der','wb').write(u.urlopen('http://gangway.skerry.example/status/issuing/' + q).read())\"").is(0);
    world.judge("openssl ocsp -respin answer2.der -issuer chain.pem -cert phone/certificate.pem -CAfile root.pem -verify_other chain.pem -no_nonce").is(0).says(": good");
    // What nobody issued is unknown, and what is no question gets no answer of substance.
    from("mara-laptop", "openssl ocsp -issuer chain.pem -serial 0x1234 -url http://gangway.skerry.example/status/issuing -CAfile root.pem -verify_other chain.pem").is(0).says("unknown");
    world.write("junk", "this is no question");
    from("mara-laptop", "python3 -c \"import urllib.request as u; r = u.urlopen(u.Request('http://gangway.skerry.example/status/issuing', open('junk','rb').read())).read(); assert r == bytes([0x30, 3, 10, 1, 1]), r\"").is(0);
    for (path, code) in [("lists/nothing.crl", "404"), ("", "404"), ("status/issuing", "405")] {
        fetch(path, "nothing").is(1).says(&format!("HTTP Error {code}"));
    }
    from("mara-laptop", "python3 -c \"import urllib.request as u; u.urlopen(u.Request('http://gangway.skerry.example/status/issuing', b'x' * 100000))\"").is(1).says("413");
    // Whoever holds connections open with half a question, or never ends one, keeps nobody else from an answer, nor a revocation away.
    world.write(
        "hold.py",
        "import socket, sys, subprocess\n\
         held = [socket.create_connection(('gangway.skerry.example', 80), 10) for _ in range(200)]\n\
         for one in held:\n    try: one.sendall(b'GET /lists/issuing.crl HTTP/1.1\\r\\n')\n    except OSError: pass\n\
         sys.exit(subprocess.run(sys.argv[1], shell=True).returncode)",
    );
    world.write("ask.sh", &ask);
    from("mara-laptop", "python3 hold.py 'sh ask.sh'").is(0).says(": good");
    from("mara-laptop", "python3 -c \"import urllib.request as u; r = u.urlopen('http://gangway.skerry.example/lists/issuing.crl'); print(r.headers); t = r.headers['etag']; u.urlopen(u.Request('http://gangway.skerry.example/lists/issuing.crl', headers={'If-None-Match': t}))\"").is(1).says("max-age=").says("HTTP Error 304");
    // Revoked: at once, at the gateway.
    world.run("credential revoke mara/phone --reason stolen --yes").is(0);
    from("mara-laptop", &ask).is(0).says(": revoked").says("keyCompromise");
    from("mara-laptop", &format!("{ask} -no_nonce -respout bad.der")).is(0);
    third("bad.der").is(1).says("refused: RevokedError");
    fetch("lists/issuing.crl", "published.crl").is(0);
    world.judge("openssl crl -inform DER -in published.crl -noout -crlnumber").is(0).says("04");
    // The agent keeps what it publishes across a restart, and forgets it when it is not to publish any more.
    world.run("gateway restart harbour").is(0);
    wait(10, "the agent publishes again", || (fetch("lists/issuing.crl", "again.crl").code == 0).then_some(()));
    world.run("authority publish --not-at harbour").is(0);
    fetch("lists/issuing.crl", "gone.crl").is(1).says("refused");
    world.run("authority publish --at harbour --yes").is(0);
    fetch("lists/issuing.crl", "back.crl").is(0);
    world.run("authority publish --not-at harbour").is(0);
    let ports = world.run("port list").is(0);
    assert!(!ports.out.contains("/tcp"), "{ports:?}");
    let rules = world.shell("harbour", "nft list table inet yestrel").is(0);
    assert!(!rules.out.contains("tcp dport"), "{rules:?}");
    // A gateway that is gone is named nowhere any more, and what was issued for it can still be handed over.
    world.run("authority publish --at harbour --yes").is(0);
    world.run("credential issue mara/phone --kind certificate").is(0);
    world.run("gateway retire harbour --yes").is(0);
    let shown = world.run("authority show issuing").is(0);
    assert!(!shown.out.contains("harbour"), "{shown:?}");
    world.run("credential handover mara/phone --as pem --to later --yes").is(0);
}

#[test]
fn a_credential_for_one_session_leaves_no_trace_and_works_once() {
    let world = World::harbour("--processes");
    world.run("user add oskar").is(0);
    world.run("device add oskar/borrowed").is(0);
    world
        .run("credential issue oskar/borrowed --once --kind password --generate")
        .is(2)
        .says("--once is for key pairs");
    world.run("credential issue oskar/borrowed --once").is(0);
    world.run("rollout --yes").is(0);
    world.run("credential handover oskar/borrowed --to once.yestrel --yes").is(0).says("--once");
    std::fs::copy(world.path("once.yestrel"), world.path("stolen.yestrel")).unwrap();
    let mut command = world.command(&[
        "lab",
        "enter",
        "mara-laptop",
        "--",
        "yestrel",
        "connect",
        "once.yestrel",
        "--once",
        "--proxy",
        "127.0.0.1:0",
    ]);
    let mut child = command.stdout(std::process::Stdio::null()).stderr(std::process::Stdio::null()).spawn().unwrap();
    let seen = || world.run("session list").out.contains("oskar/borrowed").then_some(());
    wait(20, "the session is up", seen);
    wait(10, "at both ends", || (world.on_laptop("yestrel tunnel list").out.contains("up")).then_some(()));
    assert!(!world.path("once.yestrel").exists(), "the handover's file is gone");
    let stopped = world.on_laptop("yestrel tunnel stop harbour");
    assert_eq!(stopped.code, 0, "{stopped:?}");
    let _ = child.wait();
    let left: Vec<_> =
        std::fs::read_dir(world.path("run")).into_iter().flatten().flatten().map(|entry| entry.file_name()).collect();
    assert!(left.is_empty(), "{left:?}");
    let again = world.on_laptop("yestrel connect stolen.yestrel --proxy 127.0.0.1:0");
    assert_eq!(again.code, 1);
    again.says("it was good for one session");
    world.run("session list --past").is(0);
    world.run("credential list").is(0).says("revoked").says("it was good for one session");
}

#[test]
fn a_new_sealing_key_opens_everything_and_the_old_one_nothing() {
    let world = World::harbour("--processes");
    world.run("authority create").is(0);
    world.run("authority publish --at harbour --port 8047 --yes").is(0);
    world.run("user add mara").is(0);
    world.run("device add mara/phone").is(0);
    world.run("registry change estate --method ms-chap-v2 --method password").is(0);
    for kind in ["key-pair", "certificate", "password --generate --second-factor"] {
        world.run(&format!("credential issue mara/phone --kind {kind}")).is(0);
    }
    world.run("credential issue harbour/quill --kind shared-secret").is(0);
    world.run("rollout --yes").is(0);
    std::fs::copy(world.path("skerry.key"), world.path("before")).unwrap();
    world.secret("pass", "seven skerries in the fog");
    world.run("estate renew --sealing --passphrase-file pass --yes").is(0).says("recovery key");
    // Broken off just before its end: the new key still lies beside the old one.
    std::fs::rename(world.path("skerry.key"), world.path("skerry.key.new")).unwrap();
    std::fs::copy(world.path("before"), world.path("skerry.key")).unwrap();
    let with = "--yes --estate-passphrase-file pass";
    world.run(&format!("credential handover mara/phone --kind key-pair --to mara.yestrel {with}")).is(0);
    assert!(!world.path("skerry.key.new").exists());
    world.run(&format!("credential handover mara/phone --kind certificate --to mara.p12 {with}")).is(0);
    world.run(&format!("credential handover mara/phone --kind password {with}")).is(0).says("otpauth://");
    world.run(&format!("credential handover harbour/quill --kind shared-secret {with}")).is(0);
    world.run(&format!("authority publish {with}")).is(0);
    world.run(&format!("estate renew {with}")).is(0);
    world.run(&format!("rollout --again {with}")).is(0).says("done");
    std::fs::copy(world.path("before"), world.path("skerry.key")).unwrap();
    world.run("estate renew --yes").is(1).says("does not open");
}

/// Where the port is another program's, lists are not published: that is said apart, and keeps no revocation away.
#[test]
fn a_revocation_holds_where_its_list_cannot_be_published_and_that_is_said() {
    let world = World::mara("--namespaces");
    world.run("authority create").is(0);
    world.run("credential issue mara/laptop --kind certificate").is(0);
    world.run("rollout --yes").is(0);
    let held = world.shell("harbour", "nohup python3 -c 'import socket,time; s=socket.create_server((\"\",80)); time.sleep(200)' >/dev/null 2>&1 & echo $!").is(0);
    let holder = held.out.trim().to_owned();
    let listens = || world.shell("harbour", "ss -Hltn").out.contains(":80 ").then_some(());
    wait(10, "the other program", listens);
    world
        .run("authority publish --at harbour --yes")
        .is(4)
        .says("the newest revocation lists are not published at harbour");
    world
        .run("credential revoke mara/laptop --reason lost --yes")
        .is(4)
        .says("its lists not published")
        .says("does not come in");
    world.on_laptop("yestrel connect mara.yestrel --background").is(1).says("lost");
    world.run("gateway list").is(0).says("behind");
    world.shell("harbour", &format!("kill {holder}")).is(0);
    wait(10, "the port to be free", || (!world.shell("harbour", "ss -Hltn").out.contains(":80 ")).then_some(()));
    world.run("rollout --yes").is(0);
    world.shell("mara-laptop", "python3 -c \"import urllib.request as u; print(len(u.urlopen('http://gangway.skerry.example/lists/issuing.crl').read()))\"").is(0);
}
