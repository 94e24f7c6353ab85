//! Everybody of a listener of quill at once, for `benches/crowd`: devices that all come back within ten seconds, and then stay.
//!
//! crowd FOLDER GATEWAY:PORT SECONDS STAY FROM...      the devices whose handovers are in a folder, from these addresses in turns; tells
//!                                                     when all were in, at most SECONDS, and then keeps them in for STAY seconds

mod dice;

use std::collections::HashMap;
use std::net::{SocketAddr, UdpSocket};
use std::path::Path;
use std::sync::Arc;
use std::time::{Duration, Instant};

use dice::Dice;
use yestrel_core::keys::PublicKey;
use yestrel_wire::Moment;
use yestrel_wire::quill::call::Call;
use yestrel_wire::quill::device::{Config, Device, Event};
use yestrel_wire::quill::lane::Lane;
use yestrel_wire::quill::{ConnectionId, Suite};

/// A device with a socket of its own.
struct Member {
    device: Device,
    socket: UdpSocket,
    lanes: HashMap<ConnectionId, Arc<Lane>>,
    up: bool,
}

impl Member {
    /// From its handover.
    fn new(handover: &str, gateway: SocketAddr, from: &str, seed: u64) -> Self {
        let value = |key: &str| {
            let line = handover.lines().find_map(|line| line.strip_prefix(&format!("{key} = "))).expect("a handover");
            let key: PublicKey = line.trim_matches('"').parse().expect("32 bytes");
            key.0
        };
        let suite = if handover.contains("aes-256-gcm") { Suite::Aes256Gcm } else { Suite::ChaCha20Poly1305 };
        let call = Call::new(&value("call_secret"));
        let config = Config::new(suite, value("device_key").into(), value("server_key"), call, "one of a crowd");
        let socket = UdpSocket::bind((from, 0)).expect("an address of its own");
        socket.set_nonblocking(true).expect("a socket");
        let dice = Dice(seed.wrapping_mul(0x9e37_79b9_7f4a_7c15) | 1);
        Self { device: Device::new(config, gateway, Box::new(dice)), socket, lanes: HashMap::new(), up: false }
    }

    /// Takes what has come and does what is due; what it came to, where it was refused or lost.
    fn step(&mut self, now: Moment, buffer: &mut [u8]) -> Option<String> {
        while let Ok((length, from)) = self.socket.recv_from(buffer) {
            let lanes = &self.lanes;
            let taken = |id| lanes.get(&id).cloned();
            self.device.receive(now, from, &mut buffer[..length], &taken, &mut |_| {});
        }
        self.device.tick(now);
        let mut came_to = None;
        for event in self.device.take_events() {
            match event {
                Event::LaneAdded(lane) => drop(self.lanes.insert(lane.own, lane)),
                Event::LaneRemoved(id) => drop(self.lanes.remove(&id)),
                Event::Up(_) => self.up = true,
                Event::Lost => came_to = Some("lost".into()),
                Event::Refused(_, words) | Event::Ended(_, words) => came_to = Some(words),
                Event::Current(_) | Event::Changed(_) | Event::Parcel(..) => {}
            }
        }
        for (to, datagram) in self.device.take_output() {
            let _ = self.socket.send_to(&datagram, to);
        }
        came_to
    }
}

fn crowd(folder: &str, gateway: &str, seconds: u64, stay: u64, from: &[String]) {
    let gateway: SocketAddr = gateway.parse().expect("an address and a port");
    let found = std::fs::read_dir(Path::new(folder)).expect("a folder").flatten();
    let mut files: Vec<_> =
        found.map(|entry| entry.path()).filter(|path| path.extension().is_some_and(|e| e == "yestrel")).collect();
    files.sort();
    let member = |(at, path): (usize, &std::path::PathBuf)| {
        let handover = std::fs::read_to_string(path).expect("a handover");
        Member::new(&handover, gateway, &from[at % from.len()], at as u64 + 1)
    };
    let mut all: Vec<Member> = files.iter().enumerate().map(member).collect();
    let (count, began) = (all.len(), Instant::now());
    println!("{count} are ready");
    let (mut inside, mut called, mut marks) = (0, 0, Vec::new());
    let mut failed = HashMap::<String, usize>::new();
    let mut buffer = vec![0; 65_536];
    let mut in_after = None;
    let mut whole = Instant::now();
    loop {
        let passed = began.elapsed();
        let now = Moment(1_000 + passed.as_millis() as u64);
        let due = ((count as f64 * passed.as_secs_f64() / 10.0) as usize).min(count);
        for member in &mut all[called..due] {
            member.device.open(now);
        }
        called = due;
        // Who is in is looked after seldom; who comes in, always.
        let seldom = whole.elapsed() > Duration::from_millis(250);
        if seldom {
            whole = Instant::now();
        }
        for member in &mut all[..called] {
            if member.up && !seldom {
                continue;
            }
            let was = member.up;
            if let Some(words) = member.step(now, &mut buffer) {
                *failed.entry(words).or_default() += 1;
            }
            inside += usize::from(member.up && !was);
        }
        if passed.as_secs() / 2 > marks.len() as u64 && in_after.is_none() {
            marks.push(inside);
        }
        if inside == count && in_after.is_none() {
            in_after = Some(passed);
            println!(
                "all {count} in after {:.1} s; every two seconds {marks:?}; failed {failed:?}",
                passed.as_secs_f64()
            );
            failed.clear();
        }
        match in_after {
            None if passed > Duration::from_secs(seconds) => {
                println!("{inside} of {count} in after {seconds} s; every two seconds {marks:?}; failed {failed:?}");
                return;
            }
            Some(at) if passed > at + Duration::from_secs(stay) => {
                println!("stayed {stay} s; since then {failed:?}");
                return;
            }
            _ => {}
        }
        std::thread::sleep(Duration::from_millis(2));
    }
}

fn main() {
    let words: Vec<String> = std::env::args().skip(1).collect();
    let number = |text: &str| text.parse().expect("a number");
    match &words[..] {
        [folder, gateway, seconds, stay, from @ ..] if !from.is_empty() => {
            crowd(folder, gateway, number(seconds), number(stay), from);
        }
        _ => eprintln!("crowd FOLDER GATEWAY:PORT SECONDS STAY FROM..., as its first lines say"),
    }
}
