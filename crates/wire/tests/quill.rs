//! A device and a gateway over a made-up network that loses, doubles and reorders.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]

use std::collections::HashMap;
use std::net::SocketAddr;
use std::sync::Arc;

use proptest::prelude::*;
use x25519_dalek::{PublicKey, StaticSecret};
use yestrel_wire::quill::device::{self, Config, Device};
use yestrel_wire::quill::frame::{Frame, frames};
use yestrel_wire::quill::gateway::{self, Doorkeeper, Gateway};
use yestrel_wire::quill::lane::Lane;
use yestrel_wire::quill::message::Settings;
use yestrel_wire::quill::{ConnectionId, Reason, Suite};
use yestrel_wire::{Moment, Random};
use zeroize::Zeroizing;

/// A small generator, so that a failing case can be played again.
#[derive(Clone)]
struct Dice(u64);
impl Dice {
    fn next(&mut self) -> u64 {
        self.0 ^= self.0 << 13;
        self.0 ^= self.0 >> 7;
        self.0 ^= self.0 << 17;
        self.0
    }
}
impl Random for Dice {
    fn fill(&mut self, bytes: &mut [u8]) {
        for byte in bytes {
            *byte = (self.next() >> 32) as u8;
        }
    }
}

struct Door(HashMap<[u8; 32], Result<Settings, (Reason, String)>>);
impl Doorkeeper for Door {
    fn admit(&self, key: &[u8; 32]) -> Result<Settings, (Reason, String)> {
        self.0.get(key).cloned().unwrap_or(Err((Reason::Unknown, String::new())))
    }
}

fn settings(edition: u32) -> Settings {
    Settings {
        edition,
        inner: "10.187.44.2/24".parse().unwrap(),
        gateway: "10.187.44.1".parse().unwrap(),
        resolvers: vec![],
        reach: vec!["10.44.0.0/22".parse().unwrap()],
        packet_size: 1400,
        keep_alive: 20,
    }
}

/// Faults of the network, in percent of datagrams.
#[derive(Clone, Copy, Debug)]
struct Faults {
    lost: u64,
    doubled: u64,
    late: u64,
}
const CLEAN: Faults = Faults { lost: 0, doubled: 0, late: 0 };

/// Numbers of sessions, from `first` on.
fn numbers(first: u64) -> Box<dyn FnMut() -> u64 + Send> {
    let mut next = first..;
    Box::new(move || next.next().unwrap())
}

struct World {
    now: Moment,
    dice: Dice,
    faults: Faults,
    device_at: SocketAddr,
    gateway_at: SocketAddr,
    device: Device,
    gateway: Gateway,
    door: Door,
    device_lanes: HashMap<ConnectionId, Arc<Lane>>,
    gateway_lanes: HashMap<ConnectionId, Arc<Lane>>,
    current: Option<Arc<Lane>>,
    serving: Option<Arc<Lane>>,
    flying: Vec<(Moment, SocketAddr, SocketAddr, Vec<u8>)>,
    device_events: Vec<device::Event>,
    gateway_events: Vec<gateway::Event>,
    at_device: Vec<Vec<u8>>,
    at_gateway: Vec<Vec<u8>>,
    crossed: Vec<Vec<u8>>,
}

const DEVICE_PRIVATE: [u8; 32] = [9; 32];
const GATEWAY_PRIVATE: [u8; 32] = [5; 32];

fn public(private: [u8; 32]) -> [u8; 32] {
    *PublicKey::from(&StaticSecret::from(private)).as_bytes()
}

impl World {
    fn new(seed: u64, faults: Faults) -> Self {
        Self::with_versions(seed, faults, vec![1])
    }

    fn with_versions(seed: u64, faults: Faults, versions: Vec<u16>) -> Self {
        let suite = if seed.is_multiple_of(2) { Suite::Aes256Gcm } else { Suite::ChaCha20Poly1305 };
        let gateway_at = "203.0.113.10:23817".parse().unwrap();
        let mut config = Config::new(suite, Zeroizing::new(DEVICE_PRIVATE), public(GATEWAY_PRIVATE), "test 1");
        config.versions = versions;
        Self {
            now: Moment(1_000_000),
            dice: Dice(seed * 2 + 1),
            faults,
            device_at: "198.51.100.23:40000".parse().unwrap(),
            gateway_at,
            device: Device::new(config, gateway_at, Box::new(Dice(seed + 77))),
            gateway: Gateway::new(
                suite,
                Zeroizing::new(GATEWAY_PRIVATE),
                &public(GATEWAY_PRIVATE),
                numbers(0),
                Box::new(Dice(seed + 99)),
            ),
            door: Door(HashMap::from([(public(DEVICE_PRIVATE), Ok(settings(1)))])),
            device_lanes: HashMap::new(),
            gateway_lanes: HashMap::new(),
            current: None,
            serving: None,
            flying: Vec::new(),
            device_events: Vec::new(),
            gateway_events: Vec::new(),
            at_device: Vec::new(),
            at_gateway: Vec::new(),
            crossed: Vec::new(),
        }
    }

    fn throw(&mut self, from: SocketAddr, to: SocketAddr, datagram: Vec<u8>) {
        self.crossed.push(datagram.clone());
        let copies = if self.dice.next() % 100 < self.faults.doubled { 2 } else { 1 };
        for _ in 0..copies {
            if self.dice.next() % 100 < self.faults.lost {
                continue;
            }
            let late = if self.dice.next() % 100 < self.faults.late { self.dice.next() % 400 } else { 0 };
            self.flying.push((self.now.after(10 + late), from, to, datagram.clone()));
        }
    }

    fn collect(&mut self) {
        for (to, datagram) in self.device.take_output() {
            self.throw(self.device_at, to, datagram);
        }
        for (to, datagram) in self.gateway.take_output() {
            self.throw(self.gateway_at, to, datagram);
        }
        for event in self.device.take_events() {
            match &event {
                device::Event::LaneAdded(lane) => drop(self.device_lanes.insert(lane.own, lane.clone())),
                device::Event::LaneRemoved(id) => drop(self.device_lanes.remove(id)),
                device::Event::Current(lane) => self.current = Some(lane.clone()),
                device::Event::Ended(..) | device::Event::Refused(..) => self.current = None,
                _ => {}
            }
            self.device_events.push(event);
        }
        for event in self.gateway.take_events() {
            match &event {
                gateway::Event::LaneAdded(lane) => drop(self.gateway_lanes.insert(lane.own, lane.clone())),
                gateway::Event::LaneRemoved(id) => drop(self.gateway_lanes.remove(id)),
                gateway::Event::Opened { lane, .. } | gateway::Event::Renewed { lane, .. } => {
                    self.serving = Some(lane.clone());
                }
                gateway::Event::Ended { session, .. }
                    if self.serving.as_ref().is_some_and(|lane| lane.session == *session) =>
                {
                    self.serving = None;
                }
                _ => {}
            }
            self.gateway_events.push(event);
        }
    }

    fn deliver(&mut self, from: SocketAddr, to: SocketAddr, mut datagram: Vec<u8>) {
        if to == self.device_at {
            let lanes = &self.device_lanes;
            let inner = &mut self.at_device;
            self.device.receive(self.now, from, &mut datagram, &|id| lanes.get(&id).cloned(), &mut |packet| {
                inner.push(packet.to_vec());
            });
        } else if to == self.gateway_at {
            let Some(lane) = ConnectionId::of(&datagram).and_then(|id| self.gateway_lanes.get(&id).cloned()) else {
                self.gateway.opening(self.now, from, &datagram, &self.door);
                return;
            };
            let Ok(body) = lane.open(self.now, &mut datagram) else {
                return;
            };
            if lane.needs_attention(from) && !self.gateway.heard(self.now, &lane, from) {
                return;
            }
            for frame in frames(body) {
                match frame {
                    Ok(Frame::Data(packet)) => {
                        lane.count_received(packet.len());
                        self.at_gateway.push(packet.to_vec());
                    }
                    Ok(frame) => self.gateway.control(self.now, &lane, from, frame),
                    Err(_) => break,
                }
            }
        }
    }

    /// Lets `millis` pass in steps of 10 ms.
    fn pass(&mut self, millis: u64) {
        let end = self.now.after(millis);
        while self.now < end {
            self.now = self.now.after(10);
            self.device.tick(self.now);
            self.gateway.tick(self.now);
            self.collect();
            let (due, flying) = std::mem::take(&mut self.flying).into_iter().partition(|(at, ..)| *at <= self.now);
            self.flying = flying;
            for (_, from, to, datagram) in due {
                self.deliver(from, to, datagram);
            }
            self.collect();
        }
    }

    fn up(mut self) -> Self {
        self.device.open(self.now);
        self.pass(500);
        assert!(self.is_up(), "{:?}", self.device_events);
        self
    }

    fn is_up(&self) -> bool {
        self.device_events.iter().any(|event| matches!(event, device::Event::Up(_)))
    }

    fn send_up(&mut self, packet: &[u8]) {
        let lane = self.current.clone().unwrap();
        let mut datagram = Vec::new();
        lane.seal_packet(self.now, packet, &mut datagram).unwrap();
        self.throw(self.device_at, self.gateway_at, datagram);
    }

    fn send_down(&mut self, packet: &[u8]) {
        let lane = self.serving.clone().unwrap();
        let mut datagram = Vec::new();
        lane.seal_packet(self.now, packet, &mut datagram).unwrap();
        self.throw(self.gateway_at, lane.path(), datagram);
    }

    fn ended_at_device(&self) -> Option<Reason> {
        self.device_events.iter().rev().find_map(|event| match event {
            device::Event::Ended(reason, _) | device::Event::Refused(reason, _) => Some(*reason),
            _ => None,
        })
    }
}

#[test]
fn packets_cross_both_ways_and_both_ends_count_the_same() {
    let mut world = World::new(4, CLEAN).up();
    world.send_up(b"a question");
    world.send_down(b"an answer!!");
    world.pass(50);
    assert_eq!(world.at_gateway, [b"a question"]);
    assert_eq!(world.at_device, [b"an answer!!"]);
    let (up, down) = (world.current.unwrap().counters.clone(), world.serving.unwrap().counters.clone());
    use std::sync::atomic::Ordering::Relaxed;
    assert_eq!(up.sent.load(Relaxed), down.received.load(Relaxed));
    assert_eq!(up.received.load(Relaxed), down.sent.load(Relaxed));
    assert_eq!((up.sent.load(Relaxed), up.received.load(Relaxed)), (10, 11));
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(40))]

    #[test]
    fn a_bad_network_delays_but_neither_doubles_nor_alters(seed in 1_u64..10_000, lost in 0_u64..35, doubled in 0_u64..40, late in 0_u64..60) {
        let mut world = World::new(seed, Faults { lost, doubled, late });
        world.device.open(world.now);
        for _ in 0..120 {
            world.pass(250);
            if world.is_up() && world.serving.is_some() { break; }
        }
        prop_assert!(world.is_up() && world.serving.is_some(), "not up after 30 s: {:?}", world.device_events);
        let mut sent = Vec::new();
        for number in 0..40_u32 {
            if world.current.is_some() {
                let packet = number.to_be_bytes();
                world.send_up(&packet);
                sent.push(packet.to_vec());
            }
            world.pass(20);
        }
        world.pass(1000);
        let mut seen = std::collections::HashSet::new();
        for packet in &world.at_gateway {
            prop_assert!(sent.contains(packet), "altered: {:?}", packet);
            prop_assert!(seen.insert(packet.clone()), "doubled: {:?}", packet);
        }
        prop_assert!(lost > 0 || seen.len() == sent.len());
    }

    /// Whatever is thrown at the gateway by somebody without its public key, nothing comes back.
    #[test]
    fn strangers_hear_nothing(seed in 1_u64..1000, datagrams in prop::collection::vec(prop::collection::vec(any::<u8>(), 0..1300), 1..20)) {
        let mut world = World::new(seed, CLEAN).up();
        let crossed = world.crossed.len();
        for datagram in datagrams {
            let gateway_at = world.gateway_at;
            world.deliver("192.0.2.66:7".parse().unwrap(), gateway_at, datagram);
        }
        world.collect();
        prop_assert_eq!(world.crossed.len(), crossed);
        prop_assert!(world.serving.is_some());
    }

    /// Bits changed on the way are noticed, and the true datagram is still taken afterwards.
    #[test]
    fn altered_datagrams_are_dropped(seed in 1_u64..1000, bit in 0_usize..400) {
        let mut world = World::new(seed, CLEAN).up();
        let mut datagram = Vec::new();
        world.current.clone().unwrap().seal_packet(world.now, b"thirty-two bytes of inner packet", &mut datagram).unwrap();
        let mut altered = datagram.clone();
        let bit = bit % (altered.len() * 8);
        altered[bit / 8] ^= 1 << (bit % 8);
        let (from, to) = (world.device_at, world.gateway_at);
        world.deliver(from, to, altered);
        prop_assert_eq!(world.at_gateway.len(), 0);
        world.deliver(from, to, datagram.clone());
        world.deliver(from, to, datagram);
        prop_assert_eq!(world.at_gateway.len(), 1);
    }
}

#[test]
fn keys_are_renewed_by_time_within_the_same_session() {
    let mut world = World::new(6, CLEAN).up();
    let (first, session) = (world.current.clone().unwrap().own, world.serving.clone().unwrap().session);
    world.send_up(b"before");
    world.pass(device::RENEW_AFTER + 2_000);
    assert_ne!(world.current.clone().unwrap().own, first);
    assert_eq!(world.serving.clone().unwrap().session, session);
    world.send_up(b"after.");
    world.send_down(b"back");
    world.pass(50);
    assert_eq!(world.at_gateway, [b"before", b"after."]);
    assert_eq!(world.at_device, [b"back"]);
    let counters = world.serving.clone().unwrap().counters.clone();
    assert_eq!(counters.received.load(std::sync::atomic::Ordering::Relaxed), 12, "renewal keeps the counters");
    world.pass(20_000);
    assert_eq!(world.gateway_lanes.len(), 1, "replaced keys are forgotten");
    assert_eq!(world.device_lanes.len(), 1);
}

#[test]
fn a_revoked_device_hears_why_and_cannot_come_back() {
    let mut world = World::new(8, CLEAN).up();
    let key = public(DEVICE_PRIVATE);
    world.door.0.insert(key, Err((Reason::Revoked, "lost on the ferry".into())));
    assert!(world.gateway.end(world.now, &key, Reason::Revoked, "lost on the ferry"));
    world.pass(100);
    assert!(
        matches!(world.device_events.last(), Some(device::Event::Ended(Reason::Revoked, words)) if words == "lost on the ferry")
    );
    assert!(world.serving.is_none());
    world.device.open(world.now);
    world.pass(1000);
    assert!(
        matches!(world.device_events.last(), Some(device::Event::Refused(Reason::Revoked, words)) if words == "lost on the ferry")
    );
}

#[test]
fn the_end_is_said_again_to_a_device_that_missed_it() {
    let mut world = World::new(8, CLEAN).up();
    world.gateway.end(world.now, &public(DEVICE_PRIVATE), Reason::Administrator, "");
    let _missed = world.gateway.take_output();
    world.collect();
    world.pass(600);
    world.send_up(b"still here?");
    world.pass(100);
    assert_eq!(world.ended_at_device(), Some(Reason::Administrator));
    assert!(world.at_gateway.is_empty(), "nothing is carried for an ended session");
}

#[test]
fn versions_that_do_not_meet_are_said() {
    let mut world = World::with_versions(3, CLEAN, vec![99]);
    world.device.open(world.now);
    world.pass(500);
    assert_eq!(world.ended_at_device(), Some(Reason::Versions));
}

#[test]
fn each_refusal_arrives_with_its_reason() {
    for reason in [Reason::Expired, Reason::NotYet, Reason::Suspended, Reason::PoolFull, Reason::Unknown] {
        let mut world = World::new(5, CLEAN);
        world.door.0.insert(public(DEVICE_PRIVATE), Err((reason, String::new())));
        world.device.open(world.now);
        world.pass(500);
        assert_eq!(world.ended_at_device(), Some(reason));
    }
}

#[test]
fn a_new_address_is_used_only_after_it_has_proved_itself() {
    let mut world = World::new(10, CLEAN).up();
    let (before, elsewhere) = (world.device_at, "192.0.2.50:5555".parse().unwrap());
    // Somebody repeats a datagram from another address: it is taken once, the path does not move.
    let mut datagram = Vec::new();
    world.current.clone().unwrap().seal_packet(world.now, b"taken", &mut datagram).unwrap();
    let gateway_at = world.gateway_at;
    world.deliver(elsewhere, gateway_at, datagram);
    world.collect();
    world.pass(200);
    assert_eq!(world.serving.clone().unwrap().path(), before);
    // The device itself moves: its path check comes back from there.
    world.device_at = elsewhere;
    world.send_up(b"moved");
    world.pass(1000);
    world.send_up(b"moved again");
    world.pass(1000);
    assert_eq!(world.serving.clone().unwrap().path(), elsewhere);
    world.send_down(b"found you");
    world.pass(50);
    assert_eq!(world.at_device, [b"found you"]);
}

/// Somebody on the way sends a device's datagrams on from a thousand addresses: nobody is flooded by the gateway for that, and
/// the device can still move.
#[test]
fn path_checks_are_limited_per_session_whatever_the_addresses() {
    let mut world = World::new(33, CLEAN).up();
    let lane = world.serving.clone().unwrap();
    world.gateway.take_output();
    for number in 0..1000_u16 {
        let from = SocketAddr::from(([203, 0, 113, (number % 250) as u8], 2000 + number));
        world.gateway.heard(world.now, &lane, from);
    }
    let sent = world.gateway.take_output().len();
    assert!((1..=4).contains(&sent), "{sent}");
    world.device_at = "198.51.100.99:41000".parse().unwrap();
    world.send_up(b"from elsewhere");
    world.pass(3_000);
    world.send_up(b"again");
    world.pass(3_000);
    assert_eq!(world.serving.as_ref().unwrap().path(), world.device_at);
}

/// A device could write that it was revoked, or draw on the terminal of whoever reads who was in.
#[test]
fn a_devices_own_end_is_its_own_whatever_it_writes() {
    let mut world = World::new(31, CLEAN).up();
    let lane = world.serving.clone().unwrap();
    let words = format!("{}\u{1b}[2Jover", "x".repeat(300));
    world.gateway.control(world.now, &lane, world.device_at, Frame::End(Reason::Revoked, &words));
    let ended = world.gateway.take_events().into_iter().find_map(|event| match event {
        gateway::Event::Ended { reason, words, .. } => Some((reason, words)),
        _ => None,
    });
    let (reason, words) = ended.unwrap();
    assert_eq!(reason, Reason::Closed);
    assert_eq!(words, "x".repeat(200));
}

#[test]
fn a_gateway_that_restarted_is_noticed_and_opened_anew() {
    let mut world = World::new(12, CLEAN).up();
    world.gateway = Gateway::new(
        Suite::Aes256Gcm,
        Zeroizing::new(GATEWAY_PRIVATE),
        &public(GATEWAY_PRIVATE),
        numbers(1000),
        Box::new(Dice(4242)),
    );
    world.gateway_lanes.clear();
    world.serving = None;
    world.send_up(b"into the void");
    world.pass(12_000);
    assert!(world.device_events.iter().any(|event| matches!(event, device::Event::Lost)));
    assert!(world.serving.is_some(), "{:?}", world.device_events);
    world.send_up(b"and back");
    world.pass(50);
    assert_eq!(world.at_gateway, [b"and back"]);
}

#[test]
fn keep_alive_holds_an_idle_session_and_silence_ends_it() {
    let mut world = World::new(14, CLEAN).up();
    world.pass(300_000);
    assert!(world.serving.is_some(), "20 s keep-alive over 5 min");
    assert!(!world.device_events.iter().any(|event| matches!(event, device::Event::Lost)), "one session throughout");
    world.faults.lost = 100;
    world.pass(120_000);
    assert!(
        world.gateway_events.iter().any(|event| matches!(event, gateway::Event::Ended { reason: Reason::Silent, .. }))
    );
}

#[test]
fn changed_settings_reach_the_device_even_over_a_bad_network() {
    let mut world = World::new(16, CLEAN).up();
    world.faults = Faults { lost: 40, doubled: 10, late: 20 };
    let changed = Settings { reach: vec!["10.44.0.20/32".parse().unwrap()], ..settings(2) };
    world.gateway.change(world.now, &public(DEVICE_PRIVATE), changed.clone());
    world.pass(20_000);
    let arrived: Vec<_> = world
        .device_events
        .iter()
        .filter_map(|event| if let device::Event::Changed(settings) = event { Some(settings.clone()) } else { None })
        .collect();
    assert_eq!(arrived, [changed]);
}

#[test]
fn the_same_credential_elsewhere_replaces_the_session_and_says_so() {
    let mut world = World::new(18, CLEAN).up();
    let first = world.serving.clone().unwrap().session;
    world.device.open(world.now);
    world.pass(500);
    assert_ne!(world.serving.clone().unwrap().session, first);
    assert!(world.gateway_events.iter().any(
        |event| matches!(event, gateway::Event::Ended { reason: Reason::Replaced, session, .. } if *session == first)
    ));
    // The device that opened anew does not mistake the end of its old session for that of the new one.
    assert_eq!(world.ended_at_device(), None);
}

#[test]
fn a_replayed_opening_changes_nothing() {
    let mut world = World::new(20, CLEAN).up();
    let opening = world.crossed[0].clone();
    let session = world.serving.clone().unwrap().session;
    let gateway_at = world.gateway_at;
    for _ in 0..5 {
        world.deliver("192.0.2.66:99".parse().unwrap(), gateway_at, opening.clone());
        world.collect();
        world.pass(3_000);
    }
    assert_eq!(world.serving.clone().unwrap().session, session);
    assert_eq!(world.serving.clone().unwrap().path(), world.device_at);
    world.send_down(b"undisturbed");
    world.pass(50);
    assert_eq!(world.at_device, [b"undisturbed"]);
}

/// Somebody who knows the public key but has no device key can make a tag, and still hears nothing.
#[test]
fn a_right_tag_over_nonsense_is_not_answered() {
    let mut world = World::new(22, CLEAN).up();
    let (crossed, gateway_at) = (world.crossed.len(), world.gateway_at);
    let mut opening = world.crossed[0].clone();
    // The tag is made over the altered message, as the page says.
    let last = opening.len() - 1;
    opening[last] ^= 1;
    use hmac::Mac as _;
    use sha2::Digest as _;
    let key =
        sha2::Sha256::new().chain_update(b"yestrel quill 1 opening").chain_update(public(GATEWAY_PRIVATE)).finalize();
    let mut mac = <hmac::Hmac<sha2::Sha256> as hmac::Mac>::new_from_slice(&key).unwrap();
    mac.update(&opening[8..]);
    opening[..8].copy_from_slice(&mac.finalize().into_bytes()[..8]);
    world.deliver("192.0.2.66:9".parse().unwrap(), gateway_at, opening);
    world.collect();
    assert_eq!(world.crossed.len(), crossed);
}

#[test]
fn openings_differ_in_length_and_answers_are_never_longer() {
    let mut lengths = std::collections::HashSet::new();
    for seed in 1..40 {
        let world = World::new(seed, CLEAN).up();
        let (opening, answer) = (&world.crossed[0], &world.crossed[1]);
        assert!((900..1200).contains(&opening.len()));
        assert!(answer.len() <= opening.len());
        lengths.insert(opening.len());
    }
    assert!(lengths.len() > 20, "{lengths:?}");
}

#[test]
fn nothing_that_crosses_counts_visibly_or_repeats() {
    let mut world = World::new(24, CLEAN).up();
    let before = world.crossed.len();
    for _ in 0..200 {
        world.send_up(b"the same packet each time");
    }
    let sent = &world.crossed[before..];
    let numbers: std::collections::HashSet<_> = sent.iter().map(|datagram| datagram[8..12].to_vec()).collect();
    assert_eq!(numbers.len(), 200);
    let rising = sent.windows(2).filter(|pair| pair[0][8..12] < pair[1][8..12]).count();
    assert!((50..150).contains(&rising), "masked numbers rise {rising} times of 199");
    let bodies: std::collections::HashSet<_> = sent.iter().map(|datagram| datagram[12..].to_vec()).collect();
    assert_eq!(bodies.len(), 200);
}

/// Many devices at one gateway: each hears only what is for it.
#[test]
fn sessions_do_not_mix() {
    let gateway_at: SocketAddr = "203.0.113.10:23817".parse().unwrap();
    let suite = Suite::Aes256Gcm;
    let mut gateway = Gateway::new(
        suite,
        Zeroizing::new(GATEWAY_PRIVATE),
        &public(GATEWAY_PRIVATE),
        Box::new(|| 1),
        Box::new(Dice(5)),
    );
    let privates: Vec<[u8; 32]> = (1..=60).map(|n| [n; 32]).collect();
    let door = Door(privates.iter().map(|private| (public(*private), Ok(settings(1)))).collect());
    let mut lanes = HashMap::new();
    let mut serving = HashMap::new();
    let mut devices = Vec::new();
    for (at, private) in privates.iter().enumerate() {
        let from: SocketAddr = format!("198.51.100.{}:4000", at + 1).parse().unwrap();
        let config = Config::new(suite, Zeroizing::new(*private), public(GATEWAY_PRIVATE), "test");
        let mut device = Device::new(config, gateway_at, Box::new(Dice(at as u64 + 1000)));
        let now = Moment(5_000 + at as u64);
        device.open(now);
        for (_, opening) in device.take_output() {
            gateway.opening(now, from, &opening, &door);
        }
        for (to, answer) in gateway.take_output() {
            assert_eq!(to, from);
            assert!(device.awaits(&answer));
            device.answer(now, &answer);
        }
        for event in gateway.take_events() {
            if let gateway::Event::LaneAdded(lane) = event {
                lanes.insert(lane.own, lane);
            }
        }
        for (_, mut first) in device.take_output() {
            let lane: &Arc<Lane> = &lanes[&ConnectionId::of(&first).unwrap()];
            lane.open(now, &mut first).unwrap();
            assert!(gateway.heard(now, lane, from));
            serving.insert(at, lane.clone());
        }
        gateway.take_events();
        let own = device.take_events().into_iter().find_map(|event| match event {
            device::Event::Current(lane) => Some(lane),
            _ => None,
        });
        devices.push(own.unwrap());
    }
    assert_eq!(gateway.device_keys().len(), 60);
    for (at, lane) in &serving {
        let mut datagram = Vec::new();
        lane.seal_packet(Moment(9_000), format!("for {at}").as_bytes(), &mut datagram).unwrap();
        for (other, device) in devices.iter().enumerate() {
            let mut copy = datagram.clone();
            let opened = device.open(Moment(9_000), &mut copy).is_ok();
            assert_eq!(opened, other == *at, "for {at}, at {other}");
        }
    }
    // Ending one leaves the others.
    assert!(gateway.end(Moment(9_500), &public(privates[7]), Reason::Administrator, ""));
    assert!(!gateway.end(Moment(9_500), &public(privates[7]), Reason::Administrator, ""));
    assert_eq!(gateway.device_keys().len(), 59);
    gateway.shut_down(Moment(9_600));
    assert!(gateway.device_keys().is_empty());
    assert_eq!(gateway.take_output().len(), 60, "each is told, once");
}
