//! The record, told over TLS (RFC 5425) to a server that is none of ours.

use std::io::{BufRead as _, BufReader, Read as _, Write as _};
use std::process::{Child, Command, Stdio};

use crate::common::World;

/// `openssl s_server`, for one who comes; gone when it is dropped.
struct Server {
    child: Child,
    port: u16,
    out: BufReader<std::process::ChildStdout>,
}

impl Server {
    fn start(world: &World, options: &[&str]) -> Self {
        let words = ["s_server", "-accept", "127.0.0.1:0", "-naccept", "1"];
        let mut child = Command::new("openssl")
            .args(words)
            .args(options)
            .current_dir(world.path(""))
            .stdin(Stdio::piped())
            .stdout(Stdio::piped())
            .stderr(Stdio::null())
            .spawn()
            .unwrap();
        let mut out = BufReader::new(child.stdout.take().unwrap());
        let mut line = String::new();
        while !line.starts_with("ACCEPT ") {
            line.clear();
            assert!(out.read_line(&mut line).unwrap() > 0, "openssl s_server ended: {options:?}");
        }
        let port = line.trim().rsplit(':').next().unwrap().parse().unwrap();
        Self { child, port, out }
    }

    /// All that it said until it ended.
    fn heard(mut self) -> String {
        let mut all = Vec::new();
        self.out.read_to_end(&mut all).unwrap();
        String::from_utf8_lossy(&all).into_owned()
    }
}

impl Drop for Server {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

/// An estate with a hundred sessions on record, and certificates by openssl: an authority's, a server's that it signed, one that is its own,
/// one that has ended, one for another name, and a client's.
fn world() -> World {
    let world = World::bare();
    world.run("site add harbour").is(0);
    let script = r#"
set -e
key() { openssl genpkey -quiet -algorithm EC -pkeyopt ec_paramgen_curve:P-256 -out "$1.key" 2>/dev/null || openssl genpkey -algorithm EC -pkeyopt ec_paramgen_curve:P-256 -out "$1.key" 2>/dev/null; }
signed() { key "$1"; openssl req -new -key "$1.key" -subj "/CN=$1" -out "$1.csr"; printf 'subjectAltName=%s\n' "$2" > "$1.ext"; openssl x509 -req -in "$1.csr" -CA ca.pem -CAkey ca.key -CAcreateserial -extfile "$1.ext" $3 -out "$1.pem" 2>/dev/null; }
key ca; openssl req -x509 -key ca.key -subj '/CN=log authority' -days 30 -out ca.pem
key stranger; openssl req -x509 -key stranger.key -subj '/CN=stranger' -days 30 -out stranger.pem
key own; openssl req -x509 -key own.key -subj '/CN=own' -days 30 -addext 'subjectAltName=DNS:elsewhere' -out own.pem
signed server 'IP:127.0.0.1,DNS:localhost' '-days 30'
signed other 'DNS:other.example' '-days 30'
signed ended 'IP:127.0.0.1' '-not_before 20200101000000Z -not_after 20210101000000Z' || signed ended 'IP:127.0.0.1' '-days -1'
signed client 'DNS:yestrel' '-days 30'
"#;
    world.write("make.sh", script);
    world.judge("bash make.sh").is(0);
    let database = rusqlite::Connection::open(world.path("skerry")).unwrap();
    let insert = "INSERT INTO sessions (name, gateway, number, device, from_address, inner, opened, ended, received, sent, reason)
        VALUES (?1, 'harbour', ?2, 'mara/laptop', '198.51.100.7:4000', '10.187.44.2', ?3, ?3, 0, 0, 'closed')";
    for number in 0..100 {
        let at = format!("2027-03-02T08:15:{:02}Z", number % 60);
        database.execute(insert, rusqlite::params![format!("harbour {number}"), number, at]).unwrap();
    }
    world
}

#[test]
fn the_record_goes_over_tls_to_whom_somebody_trusts_and_to_nobody_else() {
    let world = world();
    let export = |server: &Server, host: &str, more: &str| {
        world.run(&format!("session export --as syslog --to tls:{host}:{} {more}", server.port))
    };
    let messages = world.run("session export --as syslog").is(0).out;
    let wanted: String = messages.lines().map(|line| format!("{} {line}", line.len())).collect();
    assert!(wanted.len() > 16 * 1024, "more than one record of TLS");
    let server = ["-cert", "server.pem", "-key", "server.key"];
    // By who signed it, by a name and by an address, in both versions; by itself, though it is for another name.
    for (options, host, trust) in [
        (&server[..], "127.0.0.1", "ca.pem"),
        (&[&server[..], &["-tls1_2"]].concat(), "localhost", "ca.pem"),
        (&["-cert", "own.pem", "-key", "own.key"][..], "127.0.0.1", "own.pem"),
        (&["-cert", "server.pem", "-key", "server.key", "-cert_chain", "ca.pem"][..], "127.0.0.1", "server.pem"),
    ] {
        let started = Server::start(&world, options);
        export(&started, host, &format!("--trust {trust}")).is(0).says("told 200 events");
        let heard = started.heard();
        assert!(heard.contains(&wanted), "{options:?}: {heard}");
    }
    // Nothing is told to anybody else.
    for (options, trust, why) in [
        (&server[..], "stranger.pem", "nothing that is trusted signed its certificate"),
        (&["-cert", "stranger.pem", "-key", "stranger.key"][..], "ca.pem", "is not trusted for itself"),
        (&["-cert", "other.pem", "-key", "other.key"][..], "ca.pem", "for another name"),
        (&["-cert", "ended.pem", "-key", "ended.key"][..], "ca.pem", "has ended"),
    ] {
        let started = Server::start(&world, options);
        export(&started, "127.0.0.1", &format!("--trust {trust}")).is(1).says("nobody takes the record").says(why);
        assert!(!started.heard().contains("mara"), "{options:?}");
    }
    // Where the other end wants to know who comes, it is shown; and where it is not, that is said though it was sent already.
    let asks = [&server[..], &["-Verify", "1", "-verify_return_error", "-CAfile", "ca.pem"]].concat();
    let started = Server::start(&world, &asks);
    export(&started, "127.0.0.1", "--trust ca.pem --certificate client.pem --key client.key").is(0);
    assert!(started.heard().contains(&wanted));
    let started = Server::start(&world, &asks);
    export(&started, "127.0.0.1", "--trust ca.pem").is(4).says("CertificateRequired");
    let started = Server::start(&world, &asks);
    let strange = export(&started, "127.0.0.1", "--trust ca.pem --certificate stranger.pem --key stranger.key");
    strange.is(4).says("broke off");
    for (words, code, says) in [
        ("--to tls:127.0.0.1:9", 2, "whom to trust"),
        ("--to tls:127.0.0.1:9 --trust nowhere.pem", 1, "nowhere.pem"),
        ("--to tls:127.0.0.1:9 --trust ca.key", 1, "it holds none"),
        ("--to tls:127.0.0.1:9 --trust ca.pem --certificate client.pem --key server.key", 1, "do not go together"),
        ("--to tls:127.0.0.1:9 --trust ca.pem --certificate client.pem --key ca.pem", 1, "private key"),
        ("--to tls:127.0.0.1:9 --trust ca.pem --certificate client.pem", 2, "--key"),
        ("--to tls:127.0.0.1:1 --trust ca.pem", 1, "nobody takes the record at 127.0.0.1:1"),
        ("--to tls: --trust ca.pem", 2, "a name or an address"),
        ("--trust ca.pem", 2, "--to"),
    ] {
        world.run(&format!("session export {words}")).is(code).says(says);
    }
}

/// Something that speaks no TLS, or begins to and then says nothing: it holds nobody for long.
#[test]
fn whoever_speaks_no_tls_or_falls_silent_is_told_nothing() {
    let world = world();
    for says in [b"220 mail.skerry.example ready\r\n".as_slice(), b"\x16\x03\x03"] {
        let listener = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
        let port = listener.local_addr().unwrap().port();
        let answering = std::thread::spawn(move || {
            let (mut stream, _) = listener.accept().unwrap();
            stream.write_all(says).unwrap();
            let mut heard = Vec::new();
            let _ = stream.read_to_end(&mut heard);
            heard
        });
        let came = world.run(&format!("session export --to tls:127.0.0.1:{port} --trust ca.pem"));
        came.is(1).says("nobody takes the record");
        let heard = answering.join().unwrap();
        assert!(!heard.windows(4).any(|part| part == b"mara"), "{says:?}");
    }
}
