//! Both ends of ikev2 for measurements and for judges: a gateway on loopback, many phones at once, and how fast one core is.
//!
//! phones serve FOLDER SECONDS [RENEW-MS]        a gateway on 127.0.0.1: writes root.pem, chain.pem, key.pem for a device, says its two ports;
//!                                               an account: mara.phone, "clientPass"; what it answers inside is echo
//! phones speed                                  sign-ins a second on one core, beside what their curve operations alone allow; memory of a pair
//! phones storm FOLDERS GATEWAY SECONDS FROM...  everybody whose chain.pem and key.pem lie in a folder of FOLDERS comes in at once, from these
//!                                               addresses; ends when all are in, or after so many seconds
//! phones flood GATEWAY:PORT SECONDS FROM/COUNT A-SECOND
//!                                               openings that nobody goes on with, each under an SPI of its own, from these addresses

use std::collections::HashMap;
use std::io::{Read as _, Write as _};
use std::net::{IpAddr, Ipv4Addr, SocketAddr, UdpSocket};
use std::path::Path;
use std::sync::Arc;
use std::time::{Duration, Instant};

use jiff::{SignedDuration, Timestamp};
use ring::rand::{SecureRandom as _, SystemRandom};
use yestrel_core::keys::Secret;
use yestrel_core::x509::certificate::{self, Issuer, Points, Purpose, Wanted};
use yestrel_core::x509::names::SubjectName;
use yestrel_core::x509::{self, Algorithm, Certificate, PrivateKey, proof};
use yestrel_wire::esp::cipher::{Encryption, Protection};
use yestrel_wire::esp::pair::Pair;
use yestrel_wire::ike::call::{Nobody, everything};
use yestrel_wire::ike::eap::{Form, Peer};
use yestrel_wire::ike::exchange::{Exchange, Group};
use yestrel_wire::ike::gateway::{Config, Gateway};
use yestrel_wire::ike::message::{Identity, attribute, id};
use yestrel_wire::ike::state::{Call, Caller, Door, Event, Granted, Keeper, Reason, Refusal, Settings, Shown};
use yestrel_wire::ike::suite::{Prf, Suite};
use yestrel_wire::{Moment, Random};

const NAME: &str = "gangway.skerry.example";
const DEVICE: &str = "phone.mara.skerry.example";
const ACCOUNT: &str = "mara.phone";
const PASSWORD: &str = "clientPass";
/// MD4 of it in UTF-16 (RFC 2759 section 9.2).
const FORM: [u8; 16] = [0x44, 0xeb, 0xba, 0x8d, 0x53, 0x12, 0xb8, 0xd6, 0x11, 0x47, 0x44, 0x11, 0xf5, 0x69, 0x89, 0xae];

struct Bits;
impl Random for Bits {
    fn fill(&mut self, bytes: &mut [u8]) {
        SystemRandom::new().fill(bytes).expect("the system gives random bytes");
    }
}

fn sixteen() -> [u8; 16] {
    let mut bytes = [0; 16];
    Bits.fill(&mut bytes);
    bytes
}

fn named(text: &str) -> Identity {
    Identity { kind: id::FQDN, data: text.as_bytes().to_vec() }
}

/// An authority, a gateway's certificate and a device's.
struct World {
    root: Certificate,
    gateway: (Certificate, PrivateKey),
    device: (Certificate, Arc<PrivateKey>),
}

impl World {
    fn new() -> Self {
        let random = SystemRandom::new();
        let key = || PrivateKey::generate(Algorithm::P256, &random).expect("a key");
        let (above, gateway, device) = (key(), key(), key());
        let (from, until) = (Timestamp::now(), Timestamp::now() + SignedDuration::from_hours(24));
        let wanted = |own: &'static str, names: &'static [SubjectName], purpose| (own, names, purpose);
        let make =
            |(own, names, purpose): (&str, &[SubjectName], Purpose), key: &PrivateKey, by: Option<&Issuer<'_>>| {
                let points = Points::default();
                let common_name = names.is_empty().then_some(own);
                let wanted = Wanted {
                    serial: sixteen(),
                    organisation: "skerry",
                    common_name,
                    names,
                    key: key.public(),
                    from,
                    until,
                    purpose,
                    points: &points,
                };
                match by {
                    Some(by) => certificate::issue(&wanted, by, &random),
                    None => certificate::root(&wanted, key, &random),
                }
                .expect("a certificate")
            };
        let root = make(wanted("root", &[], Purpose::Authority { path_length: 0, domain: None }), &above, None);
        let by = Issuer { certificate: &root, key: &above, above: &[] };
        let host = |name: &str| [SubjectName::Host(name.into())];
        // So many names that its messages come in parts.
        let also = (0..40).map(|at| SubjectName::Host(format!("gangway-{at}.skerry.example")));
        let names: Vec<_> = host(NAME).into_iter().chain(also).collect();
        let own = make((NAME, &names, Purpose::Gateway), &gateway, Some(&by));
        let theirs = make((DEVICE, &host(DEVICE), Purpose::Device), &device, Some(&by));
        drop(above);
        Self { root, gateway: (own, gateway), device: (theirs, Arc::new(device)) }
    }
}

struct Keep<'w> {
    world: &'w World,
    /// Everybody gets an address of their own.
    one: bool,
    next: std::cell::Cell<u32>,
}

impl Keep<'_> {
    fn granted(&self) -> Granted {
        let number = self.next.get();
        self.next.set(number + 1);
        let mut credential = [7; 32];
        if !self.one {
            credential[..4].copy_from_slice(&number.to_be_bytes());
        }
        let inner = Ipv4Addr::from(0x0abb_2c09 + if self.one { 0 } else { number });
        let settings = Settings {
            inner,
            inner6: Some("fd01:203:405::9".parse().expect("an address")),
            resolvers: vec!["10.44.0.20".parse().expect("an address")],
            domains: vec!["skerry.example".into()],
            reach: vec!["10.44.0.0/22".parse().expect("a range"), "fd01:203:406::/64".parse().expect("a range")],
            lifetime: None,
        };
        Granted { credential, settings }
    }
}

fn refusal<T>(reason: Reason) -> Result<T, Refusal> {
    Err(Refusal { credential: None, reason, words: String::new() })
}

impl Keeper for Keep<'_> {
    fn certificates(&self) -> Vec<Vec<u8>> {
        vec![self.world.gateway.0.der().to_vec()]
    }
    fn identity(&self, asked: Option<&Identity>) -> Result<Identity, Refusal> {
        if asked.is_none_or(|asked| *asked == named(NAME)) { Ok(named(NAME)) } else { refusal(Reason::Name) }
    }
    fn prove(&self, octets: &[u8], hashes: &[u16]) -> Option<Vec<u8>> {
        self.world.gateway.1.prove(octets, hashes, &SystemRandom::new())
    }
    fn authorities(&self) -> Vec<u8> {
        let key = self.world.root.key_der().expect("a key");
        ring::digest::digest(&ring::digest::SHA1_FOR_LEGACY_USE_ONLY, &key).as_ref().to_vec()
    }
    fn takes_accounts(&self) -> bool {
        true
    }
    fn certificate(&self, shown: &Shown<'_>, _: SocketAddr) -> Result<Granted, Refusal> {
        let Some(leaf) = shown.certificates.first().and_then(|der| Certificate::from_der(der).ok()) else {
            return refusal(Reason::Untrusted);
        };
        let chain = [leaf.clone(), self.world.root.clone()];
        if certificate::check_chain(&chain, Timestamp::now(), true).is_err() || *shown.identity != named(DEVICE) {
            return refusal(Reason::Untrusted);
        }
        if proof::check(leaf.key(), shown.proof, shown.octets).is_err() {
            return refusal(Reason::Proof);
        }
        Ok(self.granted())
    }
    fn account(&self, name: &str, _: SocketAddr) -> Result<Form, Refusal> {
        if name == ACCOUNT { Ok(Form::new(FORM)) } else { refusal(Reason::Unknown) }
    }
    fn signed_in(&self, _: &str, right: bool, _: SocketAddr) -> Result<Granted, Refusal> {
        if right { Ok(self.granted()) } else { refusal(Reason::Password) }
    }
}

/// Somebody who calls, with a certificate or with the account.
struct Phone {
    chain: Vec<Vec<u8>>,
    key: Arc<PrivateKey>,
    identity: Identity,
    dialled: Option<Identity>,
    account: bool,
    /// Checks the other end's certificate against it; in a storm nobody does, whose time is not measured.
    root: Option<Certificate>,
}

impl Caller for Phone {
    fn dialled(&self) -> Option<Identity> {
        self.dialled.clone()
    }
    fn identity(&self) -> Identity {
        self.identity.clone()
    }
    fn certificates(&self) -> Vec<Vec<u8>> {
        self.chain.clone()
    }
    fn prove(&self, octets: &[u8], hashes: &[u16]) -> Option<Vec<u8>> {
        self.key.prove(octets, hashes, &SystemRandom::new())
    }
    fn account(&self) -> Option<Peer> {
        self.account.then(|| Peer::new(ACCOUNT, PASSWORD))
    }
    fn believes(&self, shown: &Shown<'_>) -> Result<(), String> {
        let Some(root) = &self.root else { return Ok(()) };
        let leaf = shown.certificates.first().and_then(|der| Certificate::from_der(der).ok()).ok_or("none")?;
        certificate::check_chain(&[leaf.clone(), root.clone()], Timestamp::now(), true)
            .and_then(|()| proof::check(leaf.key(), shown.proof, shown.octets))
            .map_err(|problem| problem.line())
    }
}

fn end(listens: bool, renew: Option<u64>) -> Gateway {
    let mut next = 0;
    let number = Box::new(move || {
        next += 1;
        next
    });
    let config = Config { listens, ..Config::default() };
    let config = renew.map_or(config.clone(), |renew| Config { renew_pair: renew, renew_self: 2 * renew, ..config });
    Gateway::new(config, number, Box::new(Bits))
}

const GCM: Protection = Protection { encryption: Encryption::AesGcm(256), integrity: None };

fn call(to: IpAddr, ports: [u16; 2], who: Phone) -> Call {
    let suite = Suite { protection: GCM, prf: Prf::Sha256, group: Some(Group::P256), extended: false };
    Call {
        first: SocketAddr::new(to, ports[0]),
        second: SocketAddr::new(to, ports[1]),
        suites: vec![suite],
        pair_suites: vec![Suite { group: None, ..suite }],
        attributes: vec![attribute::IPV4_ADDRESS, attribute::IPV4_DNS],
        reach: everything(),
        in_parts: true,
        mobike: true,
        who: Arc::new(who),
    }
}

/// An echo's answer; nothing for anything else.
fn echoed(packet: &[u8]) -> Option<Vec<u8>> {
    let mut answer = packet.to_vec();
    let (at, asked, answers) = match packet.first()? >> 4 {
        4 if packet.get(9) == Some(&1) => (20, 8, 0),
        6 if packet.get(6) == Some(&58) => (40, 128, 129),
        _ => return None,
    };
    if *packet.get(at)? != asked {
        return None;
    }
    let (first, size) = if at == 20 { (12, 4) } else { (8, 16) };
    let (source, destination) = (packet.get(first..first + size)?, packet.get(first + size..first + 2 * size)?);
    answer[first..first + size].copy_from_slice(destination);
    answer[first + size..first + 2 * size].copy_from_slice(source);
    answer[at] = answers;
    // The checksum changes by what the type does (RFC 1624).
    let before = u32::from(u16::from_be_bytes([packet[at + 2], packet[at + 3]]));
    let mut sum =
        u32::from(!(before as u16)) + u32::from(!((u16::from(asked)) << 8)) + (u32::from(answers as u16) << 8);
    sum = (sum & 0xffff) + (sum >> 16);
    sum = (sum & 0xffff) + (sum >> 16);
    answer[at + 2..at + 4].copy_from_slice(&(!(sum as u16)).to_be_bytes());
    Some(answer)
}

fn serve(folder: &str, seconds: u64, renew: Option<u64>) {
    let world = World::new();
    let folder = Path::new(folder);
    let write = |name: &str, text: String| std::fs::write(folder.join(name), text).expect("it can be written");
    write("root.pem", world.root.pem());
    write("chain.pem", world.device.0.pem());
    write("key.pem", x509::pem("PRIVATE KEY", world.device.1.pkcs8().reveal()));
    let keep = Keep { world: &world, one: true, next: 0.into() };
    let bind = || {
        let socket = UdpSocket::bind("127.0.0.1:0").expect("a port");
        socket.set_read_timeout(Some(Duration::from_millis(2))).expect("a socket");
        socket
    };
    let doors = [bind(), bind()];
    let port = |at: usize| doors[at].local_addr().expect("an address").port();
    println!("{} {}", port(0), port(1));
    std::io::stdout().flush().expect("somebody reads");
    let (began, mut machine) = (Instant::now(), end(true, renew));
    let (mut pairs, mut serving): (HashMap<u32, Arc<Pair>>, HashMap<u64, Arc<Pair>>) = Default::default();
    let mut buffer = vec![0; 65536];
    while began.elapsed() < Duration::from_secs(seconds) {
        for (door, socket) in [Door::First, Door::Second].into_iter().zip(&doors) {
            let now = Moment(1_000 + began.elapsed().as_millis() as u64);
            let Ok((length, from)) = socket.recv_from(&mut buffer) else { continue };
            let datagram = &mut buffer[..length];
            if door == Door::First {
                machine.receive(now, door, from, datagram, &keep);
            } else if let Some(message) = datagram.strip_prefix(&[0; 4]) {
                machine.receive(now, door, from, message, &keep);
            } else if let Some(pair) = Pair::spi(datagram).and_then(|spi| pairs.get(&spi).cloned()) {
                let answer = pair.open(now, datagram).ok().and_then(|(packet, _)| echoed(packet));
                machine.heard_in(now, pair.own);
                machine.moved(now, pair.session, from);
                take(&mut machine, &mut pairs, &mut serving);
                let mut out = Vec::new();
                if let (Some(answer), Some(pair)) = (answer, serving.get(&pair.session))
                    && pair.seal_packet(now, &answer, &mut out).is_ok()
                {
                    let _ = doors[1].send_to(&out, pair.path.get());
                }
            }
        }
        let now = Moment(1_000 + began.elapsed().as_millis() as u64);
        machine.tick(now);
        take(&mut machine, &mut pairs, &mut serving);
        for out in machine.take_output() {
            let _ = match out.door {
                Door::First => doors[0].send_to(&out.bytes, out.to),
                Door::Second => doors[1].send_to(&[&[0; 4][..], &out.bytes].concat(), out.to),
            };
        }
    }
}

fn take(machine: &mut Gateway, pairs: &mut HashMap<u32, Arc<Pair>>, serving: &mut HashMap<u64, Arc<Pair>>) {
    for event in machine.take_events() {
        match event {
            Event::PairAdded(pair) => drop(pairs.insert(pair.own, pair)),
            Event::PairRemoved(spi) => drop(pairs.remove(&spi)),
            Event::Opened { session, pair, .. } | Event::Serves { session, pair } => {
                drop(serving.insert(session, pair));
            }
            _ => {}
        }
    }
}

/// Bytes of this process in memory.
fn resident() -> usize {
    let text = std::fs::read_to_string("/proc/self/statm").unwrap_or_default();
    text.split(' ').nth(1).and_then(|pages| pages.parse::<usize>().ok()).unwrap_or_default() * 4096
}

/// One sign-in; gives the time that the gateway's end took.
fn sign_in(world: &World, keep: &Keep<'_>, gateway: &mut Gateway, at: u64, account: bool) -> Duration {
    let address = IpAddr::V4(Ipv4Addr::LOCALHOST);
    let who = Phone {
        chain: vec![world.device.0.der().to_vec()],
        key: world.device.1.clone(),
        identity: named(DEVICE),
        dialled: Some(named(NAME)),
        account,
        root: Some(world.root.clone()),
    };
    let mut phone = end(false, None);
    // Ten milliseconds between two, so that nobody is asked to wait.
    let now = Moment(1_000 + 10 * at);
    let from = SocketAddr::new(Ipv4Addr::from(0x0a00_0000 + ((at as u32 % 4_096) << 8)).into(), 40_000);
    phone.call(now, call(address, [500, 4500], who));
    let (mut spent, mut inside) = (Duration::ZERO, false);
    while !inside {
        let out = phone.take_output();
        assert!(!out.is_empty(), "it goes on: {:?}", phone.take_events().len());
        for one in out {
            let began = Instant::now();
            gateway.receive(now, one.door, from, &one.bytes, keep);
            let answers = gateway.take_output();
            inside |= gateway.take_events().iter().any(|event| matches!(event, Event::Opened { .. }));
            spent += began.elapsed();
            for answer in answers {
                let port = if answer.door == Door::First { 500 } else { 4500 };
                phone.receive(now, answer.door, SocketAddr::new(address, port), &answer.bytes, &Nobody);
            }
        }
    }
    assert!(phone.take_events().iter().any(|event| matches!(event, Event::Opened { .. })), "the phone is in as well");
    spent
}

/// Seconds of one turn, the median of five runs.
fn timed(turns: u32, mut turn: impl FnMut()) -> f64 {
    let mut runs: Vec<f64> = (0..5)
        .map(|_| {
            let began = Instant::now();
            (0..turns).for_each(|_| turn());
            began.elapsed().as_secs_f64() / f64::from(turns)
        })
        .collect();
    runs.sort_by(f64::total_cmp);
    runs[2]
}

fn speed() {
    let world = World::new();
    let keep = Keep { world: &world, one: false, next: 0.into() };
    let other = Exchange::new(Group::P256, &mut Bits).expect("a key");
    let random = SystemRandom::new();
    let octets = [5; 700];
    let theirs = world.device.1.prove(&octets, &[2], &random).expect("a proof");
    let agrees = || drop(Exchange::new(Group::P256, &mut Bits).and_then(|own| own.agree(other.public())));
    let proves = || drop(world.gateway.1.prove(&octets, &[2], &random));
    let checks = || {
        world.device.0.check_signed_by(&world.root).expect("it is");
        proof::check(world.device.0.key(), &theirs, &octets).expect("it is");
    };
    let mut gateway = end(true, None);
    let mut at = 0;
    println!("one core, gateway's end alone                   a second");
    for (account, what) in [(false, "certificate, P-256"), (true, "account, EAP-MSCHAPv2")] {
        let bare = timed(300, || {
            agrees();
            proves();
            if !account {
                checks();
            }
        });
        let mut runs: Vec<f64> = (0..5)
            .map(|_| {
                let all: Duration = (0..300)
                    .map(|_| {
                        at += 1;
                        sign_in(&world, &keep, &mut gateway, at, account)
                    })
                    .sum();
                all.as_secs_f64() / 300.0
            })
            .collect();
        runs.sort_by(f64::total_cmp);
        println!("{what:24} curve operations alone {:8.0}", 1.0 / bare);
        println!("{:24} whole sign-ins         {:8.0}    {:3.0} %", "", 1.0 / runs[2], 100.0 * bare / runs[2]);
    }
    drop(gateway);
    let mut gateway = end(true, None);
    let before = resident();
    for _ in 0..10_000 {
        at += 1;
        sign_in(&world, &keep, &mut gateway, at, false);
    }
    let grown = resident() - before;
    println!(
        "10,000 sessions at rest, each one association and one pair: {:.1} KiB each",
        grown as f64 / 10_000.0 / 1024.0
    );
    for protection in [GCM, Protection { encryption: Encryption::ChaCha20Poly1305, integrity: None }] {
        let made = |flip: bool| {
            let key: Vec<u8> = (0..protection.key_length() as u8).collect();
            let other: Vec<u8> = key.iter().map(|byte| byte ^ 0xff).collect();
            let (out, inward) = if flip { (other, key) } else { (key, other) };
            let own = if flip { 1_000 } else { 2_000 };
            let path = yestrel_wire::esp::pair::Path::new("127.0.0.1:4500".parse().expect("an address"));
            let made = yestrel_wire::esp::pair::Made {
                own,
                other: 3_000 - own,
                session: 1,
                counters: Arc::default(),
                path,
                protection,
                extended: false,
                out_keys: (&out, &[]),
                in_keys: (&inward, &[]),
                vector_key: [0; 16],
            };
            Pair::new(made).expect("a pair")
        };
        let (one, other) = (made(false), made(true));
        let mut packet = vec![0; 1_400];
        packet[0] = 0x45;
        packet[2..4].copy_from_slice(&1_400_u16.to_be_bytes());
        let mut out = Vec::with_capacity(2_000);
        let both = timed(50_000, || {
            out.clear();
            one.seal_packet(Moment(1), &packet, &mut out).expect("sealed");
            other.open(Moment(1), &mut out).expect("opened");
        });
        println!(
            "{:?}: sealed and opened, 1,400 bytes: {:.0} Mbit/s",
            protection.encryption,
            1_400.0 * 8.0 / both / 1e6
        );
    }
}

fn read(path: &Path) -> Vec<u8> {
    let mut bytes = Vec::new();
    std::fs::File::open(path).and_then(|mut file| file.read_to_end(&mut bytes)).expect("it can be read");
    bytes
}

/// What one device has in a folder.
fn device(folder: &Path) -> Phone {
    let pem = |name: &str| x509::blocks(&String::from_utf8_lossy(&read(&folder.join(name)))).expect("PEM");
    let chain: Vec<Vec<u8>> = pem("chain.pem").into_iter().map(|(_, der)| der).collect();
    let leaf = Certificate::from_der(&chain[0]).expect("a certificate");
    let names = leaf.names().expect("names");
    let own = names.iter().find(|name| matches!(name, SubjectName::Host(_))).expect("a host name").to_string();
    let (_, key) = pem("key.pem").remove(0);
    let key = PrivateKey::from_pkcs8(Secret::new(key), &SystemRandom::new()).expect("a key");
    Phone { chain, key: Arc::new(key), identity: named(&own), dialled: None, account: false, root: None }
}

/// One machine for each address, with everybody who calls from there.
struct Crowd {
    machine: Gateway,
    doors: [UdpSocket; 2],
    waiting: Vec<Phone>,
}

fn storm(folders: &str, gateway: &str, seconds: u64, from: &[String]) {
    let gateway: IpAddr = gateway.parse().expect("an address");
    let mut all: Vec<_> = std::fs::read_dir(folders).expect("a folder").flatten().map(|entry| entry.path()).collect();
    all.retain(|path| path.is_dir());
    all.sort();
    let mut crowds: Vec<Crowd> = from
        .iter()
        .map(|own| {
            let bind = || {
                let socket = UdpSocket::bind((own.as_str(), 0)).expect("an address of its own");
                socket.set_nonblocking(true).expect("a socket");
                socket
            };
            Crowd { machine: end(false, None), doors: [bind(), bind()], waiting: Vec::new() }
        })
        .collect();
    let (count, places) = (all.len(), crowds.len());
    for (at, folder) in all.iter().enumerate() {
        crowds[at % places].waiting.push(device(folder));
    }
    // They come back within the same ten seconds.
    let (began, mut inside, mut failed) = (Instant::now(), 0, HashMap::<String, usize>::new());
    let mut buffer = vec![0; 65536];
    let (mut marks, most) = (Vec::new(), Duration::from_secs(seconds));
    while inside < count && began.elapsed() < most {
        let now = Moment(1_000 + began.elapsed().as_millis() as u64);
        let due = (count as f64 * began.elapsed().as_secs_f64() / 10.0) as usize / places;
        for crowd in &mut crowds {
            let called = count.div_ceil(places) - crowd.waiting.len();
            for _ in called..due.min(count) {
                let Some(phone) = crowd.waiting.pop() else { break };
                crowd.machine.call(now, call(gateway, [500, 4500], phone));
            }
            for (at, door) in [Door::First, Door::Second].into_iter().enumerate() {
                while let Ok((length, from)) = crowd.doors[at].recv_from(&mut buffer) {
                    let datagram = &buffer[..length];
                    let message = if at == 0 { Some(datagram) } else { datagram.strip_prefix(&[0; 4]) };
                    if let Some(message) = message {
                        crowd.machine.receive(now, door, from, message, &Nobody);
                    }
                }
            }
            crowd.machine.tick(now);
            for out in crowd.machine.take_output() {
                let _ = match out.door {
                    Door::First => crowd.doors[0].send_to(&out.bytes, out.to),
                    Door::Second => crowd.doors[1].send_to(&[&[0; 4][..], &out.bytes].concat(), out.to),
                };
            }
            for event in crowd.machine.take_events() {
                match event {
                    Event::Opened { .. } => inside += 1,
                    Event::Failed { words, .. } => *failed.entry(words).or_default() += 1,
                    _ => {}
                }
            }
        }
        if began.elapsed().as_secs() / 5 > marks.len() as u64 {
            marks.push(inside);
        }
        std::thread::sleep(Duration::from_micros(300));
    }
    println!(
        "{inside} of {count} in after {:.1} s; every five seconds {marks:?}; failed {failed:?}",
        began.elapsed().as_secs_f64()
    );
}

/// Openings without end.
fn flood(gateway: &str, seconds: u64, from: &str, pace: u64) {
    let gateway: SocketAddr = gateway.parse().expect("an address and a port");
    let (first, count) = from.split_once('/').expect("an address and how many");
    let (first, count): (Ipv4Addr, u32) = (first.parse().expect("an address"), count.parse().expect("how many"));
    let sources = (0..count.min(10_000)).map(|number| Ipv4Addr::from(u32::from(first) + number));
    let sockets: Vec<_> = sources.filter_map(|at| UdpSocket::bind((at, 0)).ok()).collect();
    let world = World::new();
    let chain = vec![world.device.0.der().to_vec()];
    let (key, identity) = (world.device.1.clone(), named(DEVICE));
    let who = Phone { chain, key, identity, dialled: None, account: false, root: None };
    let mut machine = end(false, None);
    machine.call(Moment(1), call(gateway.ip(), [gateway.port(); 2], who));
    let mut opening = machine.take_output().remove(0).bytes;
    // The SPI comes first.
    let (began, mut sent) = (Instant::now(), 0_u64);
    while began.elapsed() < Duration::from_secs(seconds.min(120)) {
        opening[..8].copy_from_slice(&(sent + 1).to_be_bytes());
        let _ = sockets[sent as usize * 31 % sockets.len()].send_to(&opening, gateway);
        sent += 1;
        if sent.is_multiple_of(64) {
            let due = Duration::from_secs_f64(sent as f64 / pace as f64);
            std::thread::sleep(due.saturating_sub(began.elapsed()));
        }
    }
    println!("{sent}");
}

fn main() {
    let words: Vec<String> = std::env::args().skip(1).collect();
    let words: Vec<&str> = words.iter().map(String::as_str).collect();
    let number = |text: &str| text.parse().expect("a number");
    match words[..] {
        ["serve", folder, seconds] => serve(folder, number(seconds), None),
        ["serve", folder, seconds, renew] => serve(folder, number(seconds), Some(number(renew))),
        ["speed"] => speed(),
        ["storm", folders, gateway, seconds, ref from @ ..] => {
            storm(folders, gateway, number(seconds), &from.iter().map(|one| (*one).to_owned()).collect::<Vec<_>>());
        }
        ["flood", gateway, seconds, from, pace] => flood(gateway, number(seconds), from, number(pace)),
        _ => eprintln!("phones serve ... | speed | storm ... | flood ..., as its first lines say"),
    }
}
