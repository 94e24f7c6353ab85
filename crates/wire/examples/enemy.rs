//! What an enemy sends at a gateway of quill, for `benches/abuse`: noise at line rate, openings with right tags from ten thousand
//! addresses, replays, openings of a device that is not let in. Only in a lab of network namespaces: it binds to whatever
//! addresses it is given.
//!
//! enemy HANDOVER GATEWAY:PORT SECONDS noise|openings|replays|refused FROM/COUNT [A-SECOND]
//! enemy speed      how many handshakes a second one core does, and how many its curve operations alone allow

mod dice;

use std::net::{IpAddr, Ipv4Addr, SocketAddr, UdpSocket};
use std::time::{Duration, Instant};

use dice::Dice;
use yestrel_wire::quill::call::Call;
use yestrel_wire::quill::door::{Door, Valid};
use yestrel_wire::quill::handshake::{self, Towards};
use yestrel_wire::quill::message::{Answer, Opening, Settings};
use yestrel_wire::quill::second::{self, Ids, Offer};
use yestrel_wire::quill::{ConnectionId, Suite};
use yestrel_wire::{Moment, Random};

fn value(handover: &str, key: &str) -> Vec<u8> {
    let line = handover.lines().find_map(|line| line.strip_prefix(&format!("{key} = "))).unwrap_or_default();
    base64(line.trim_matches('"'))
}

fn base64(text: &str) -> Vec<u8> {
    let letters = b"ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789+/";
    let (mut bits, mut have, mut out) = (0_u32, 0, Vec::new());
    for six in text.bytes().filter_map(|byte| letters.iter().position(|letter| *letter == byte)) {
        (bits, have) = (bits << 6 | six as u32, have + 6);
        if have >= 8 {
            have -= 8;
            out.push((bits >> have) as u8);
        }
    }
    out
}

fn key(bytes: &[u8]) -> [u8; 32] {
    bytes.try_into().expect("32 bytes")
}

fn opening(random: &mut Dice, suite: Suite, call: &Call, public: &[u8; 32], private: &[u8; 32]) -> Vec<u8> {
    let mut id = [0; 8];
    random.fill(&mut id);
    let said =
        Opening { versions: vec![1], id: ConnectionId(id), software: "an enemy".into(), continues: None, notice: 0 };
    let towards = Towards { suite, call, gateway_public: public, device_private: private };
    handshake::open(&towards, None, said, random).1
}

fn main() {
    let words: Vec<String> = std::env::args().skip(1).collect();
    if words.first().is_some_and(|word| word == "speed") {
        return speed();
    }
    let [handover, gateway, seconds, what, rest @ ..] = &words[..] else {
        eprintln!("enemy HANDOVER GATEWAY:PORT SECONDS noise|openings|replays|refused FROM/COUNT [A-SECOND]");
        std::process::exit(2);
    };
    let handover = std::fs::read_to_string(handover).expect("a handover");
    let gateway: SocketAddr = gateway.parse().expect("an address and a port");
    let seconds: u64 = seconds.parse().expect("seconds");
    let suite = if handover.contains("aes-256-gcm") { Suite::Aes256Gcm } else { Suite::ChaCha20Poly1305 };
    let (call, public) = (Call::new(&key(&value(&handover, "call_secret"))), key(&value(&handover, "server_key")));
    let mut random = Dice(0x9e37_79b9_7f4a_7c15);
    // What is sent is made beforehand: the enemy is not to be the slow one.
    let made: Vec<Vec<u8>> = match what.as_str() {
        "noise" => (0..512)
            .map(|_| {
                let mut bytes = vec![0; 900 + usize::from(random.0 as u8)];
                random.fill(&mut bytes);
                bytes
            })
            .collect(),
        "replays" => (0..64)
            .map(|_| opening(&mut random, suite, &call, &public, &key(&value(&handover, "device_key"))))
            .collect(),
        "refused" => (0..2048)
            .map(|_| opening(&mut random, suite, &call, &public, &key(&value(&handover, "device_key"))))
            .collect(),
        _ => (0..2048_u64)
            .map(|number| {
                let mut private = [7; 32];
                private[..8].copy_from_slice(&number.to_be_bytes());
                opening(&mut random, suite, &call, &public, &private)
            })
            .collect(),
    };
    let from: Vec<UdpSocket> =
        sources(rest.first()).into_iter().filter_map(|at| UdpSocket::bind((at, 0)).ok()).collect();
    let began = Instant::now();
    let end = began + Duration::from_secs(seconds.min(120));
    let pace = rest.get(1).map_or(u64::MAX, |pace| pace.parse().expect("so many a second"));
    let mut sent = 0_u64;
    'all: loop {
        for (at, datagram) in made.iter().enumerate() {
            let socket = &from[(sent as usize * 31 + at) % from.len()];
            sent += u64::from(socket.send_to(datagram, gateway).is_ok());
            if sent.is_multiple_of(64) {
                if Instant::now() >= end {
                    break 'all;
                }
                let due = Duration::from_secs_f64(sent as f64 / pace as f64);
                if let Some(early) = due.checked_sub(began.elapsed()) {
                    std::thread::sleep(early);
                }
            }
        }
    }
    println!("{sent}");
}

/// Up to ten thousand addresses of a range, or any.
fn sources(range: Option<&String>) -> Vec<IpAddr> {
    let Some((first, count)) = range.and_then(|range| range.split_once('/')) else {
        return vec![Ipv4Addr::UNSPECIFIED.into()];
    };
    let (first, count): (Ipv4Addr, u32) = (first.parse().expect("an address"), count.parse().expect("how many"));
    (0..count.min(10_000)).map(|number| Ipv4Addr::from(u32::from(first) + number).into()).collect()
}

/// Handshakes of the gateway's end on one core, whole with the second secret, beside the four operations with somebody's point and the
/// one with the base point that none can do without.
fn speed() {
    let (suite, mut random) = (Suite::Aes256Gcm, Dice(7));
    let gateway = x25519_dalek::StaticSecret::from([5; 32]);
    let public = *x25519_dalek::PublicKey::from(&gateway).as_bytes();
    let call = Call::new(&[6; 32]);
    let door = Door::new(&mut random);
    door.set_calls(vec![Valid { number: 1, call: call.clone(), until: None }]);
    let openings: Vec<_> = (0..500).map(|_| opening(&mut random, suite, &call, &public, &[9; 32])).collect();
    let offer = Offer::new(&mut random);
    let ek = offer.parts().concat().try_into().expect("its length");
    let settings = Settings {
        edition: 1,
        inner: "10.187.44.2/24".parse().expect("a range"),
        gateway: "10.187.44.1".parse().expect("an address"),
        second: None,
        resolvers: vec![],
        reach: vec!["10.44.0.0/22".parse().expect("a range")],
        packet_size: 1400,
        keep_alive: 20,
        asks: false,
    };
    let ids = Ids { device: ConnectionId([1; 8]), gateway: ConnectionId([2; 8]) };
    let from = "198.51.100.23:4000".parse().expect("an address");
    let per = |run: &mut dyn FnMut(usize)| {
        let began = Instant::now();
        let mut count = 0;
        while began.elapsed() < Duration::from_secs(3) {
            run(count);
            count += 1;
        }
        count as f64 / began.elapsed().as_secs_f64()
    };
    let mut knocks = Dice(9);
    let with = |second: bool, random: &mut Dice| {
        per(&mut |count| {
            let knock = door.knock(Moment(1), from, &openings[count % openings.len()]).expect("a right tag");
            let received =
                handshake::receive(suite, gateway.as_bytes(), &call, &knock.front().expect("tagged"), &knock.datagram)
                    .expect("whole");
            let answer = Answer::Admitted { version: 1, id: ConnectionId([3; 8]), settings: settings.clone() };
            let (_, first) = received.answer(&answer, random).expect("it fits");
            if second {
                second::accept(&first, ids, &ek, random).expect("a key");
            }
        })
    };
    let (first, both) = (with(false, &mut knocks), with(true, &mut knocks));
    let point = x25519_dalek::PublicKey::from([9; 32]);
    let curve = per(&mut |_| {
        std::hint::black_box(x25519_dalek::PublicKey::from(&gateway));
        for _ in 0..4 {
            std::hint::black_box(gateway.diffie_hellman(std::hint::black_box(&point)));
        }
    });
    let tags = per(&mut |count| {
        std::hint::black_box(door.knock(Moment(1), from, &openings[count % openings.len()]).is_some());
    });
    let mut noise = vec![0; 1100];
    knocks.fill(&mut noise);
    let dropped = per(&mut |_| {
        std::hint::black_box(door.knock(Moment(1), from, std::hint::black_box(&noise)).is_none());
    });
    println!("handshakes of the gateway, one core, a second");
    println!("  the five curve operations alone        {curve:8.0}");
    println!("  the first secret: opening and answer   {first:8.0}   {:3.0} %", 100.0 * first / curve);
    println!("  both secrets                           {both:8.0}   {:3.0} %", 100.0 * both / curve);
    println!("looked at in the thread that carries data, a second");
    println!("  openings with a right tag              {tags:8.0}");
    println!("  noise                                  {dropped:8.0}");
}
