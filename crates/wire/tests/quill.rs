//! A device and a gateway over a made-up network that loses, doubles and reorders.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]

use std::collections::HashMap;
use std::net::SocketAddr;
use std::sync::Arc;

use parking_lot::Mutex;
use proptest::prelude::*;
use x25519_dalek::{PublicKey, StaticSecret};
use yestrel_wire::quill::call::Call;
use yestrel_wire::quill::device::{self, Config, Device};
use yestrel_wire::quill::door::{Door, Valid};
use yestrel_wire::quill::frame::{Frame, frames};
use yestrel_wire::quill::gateway::{self, Doorkeeper, Gateway};
use yestrel_wire::quill::hands::Hands;
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

struct Keeper(HashMap<[u8; 32], Result<Settings, (Reason, String)>>);
impl Doorkeeper for Keeper {
    fn admit(&self, key: &[u8; 32], _from: SocketAddr, _continues: bool) -> Result<Settings, (Reason, String)> {
        self.0.get(key).cloned().unwrap_or(Err((Reason::Unknown, String::new())))
    }
}

/// A gateway with its door and the hands that do its handshakes, here in one thread.
struct Listener {
    machine: Mutex<Gateway>,
    hands: Hands,
    door: Door,
    keeper: Keeper,
    lanes: HashMap<ConnectionId, Arc<Lane>>,
    /// Inner packets that arrived.
    arrived: Vec<Vec<u8>>,
    /// Requests to come again, with where to.
    asked: Vec<(SocketAddr, Vec<u8>)>,
}

impl Listener {
    fn new(suite: Suite, first_number: u64, seed: u64, keeper: Keeper) -> Self {
        let door = Door::new(&mut Dice(seed + 5));
        door.set_calls(vec![Valid { number: 1, call: Call::new(&CALL), until: None }]);
        Self {
            machine: Mutex::new(Gateway::new(suite, numbers(first_number), Box::new(Dice(seed + 1)))),
            hands: Hands::new(suite, Zeroizing::new(GATEWAY_PRIVATE), Box::new(Dice(seed + 3))),
            door,
            keeper,
            lanes: HashMap::new(),
            arrived: Vec::new(),
            asked: Vec::new(),
        }
    }

    /// Takes a datagram as an agent does.
    fn take(&mut self, now: Moment, from: SocketAddr, datagram: &[u8]) {
        let mut datagram = datagram.to_vec();
        let length = datagram.len();
        let Some(lane) = ConnectionId::of(&datagram).and_then(|id| self.lanes.get(&id).cloned()) else {
            if let Some(knock) = self.door.knock(now, from, &datagram) {
                let again = self.hands.opening(now, &knock, &self.door, &self.machine, &self.keeper);
                self.asked.extend(again.map(|again| (from, again)));
            }
            return;
        };
        let Ok(body) = lane.open(now, &mut datagram) else {
            return;
        };
        if lane.needs_attention(from) && !self.machine.lock().heard(now, &lane, from, length) {
            return;
        }
        for frame in frames(body) {
            match frame {
                Ok(Frame::Data(packet)) if lane.carries => {
                    lane.count_received(packet.len());
                    self.arrived.push(packet.to_vec());
                }
                Ok(frame) => self.machine.lock().control(now, &lane, from, length, frame),
                Err(_) => break,
            }
        }
        let tasks = self.machine.lock().take_tasks();
        tasks.iter().for_each(|task| self.hands.second(now, task, &self.machine));
    }

    fn events(&mut self) -> Vec<gateway::Event> {
        let events = self.machine.lock().take_events();
        for event in &events {
            match event {
                gateway::Event::LaneAdded(lane) => drop(self.lanes.insert(lane.own, lane.clone())),
                gateway::Event::LaneRemoved(id) => drop(self.lanes.remove(id)),
                _ => {}
            }
        }
        events
    }

    fn output(&mut self) -> Vec<(SocketAddr, Vec<u8>)> {
        let mut output = std::mem::take(&mut self.asked);
        output.append(&mut self.machine.lock().take_output());
        output
    }
}

fn settings(edition: u32) -> Settings {
    Settings {
        edition,
        inner: "10.187.44.2/24".parse().unwrap(),
        gateway: "10.187.44.1".parse().unwrap(),
        second: None,
        resolvers: vec![],
        reach: vec!["10.44.0.0/22".parse().unwrap()],
        packet_size: 1400,
        keep_alive: 20,
        asks: false,
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
    gateway: Listener,
    device_lanes: HashMap<ConnectionId, Arc<Lane>>,
    current: Option<Arc<Lane>>,
    serving: Option<Arc<Lane>>,
    flying: Vec<(Moment, SocketAddr, SocketAddr, Vec<u8>)>,
    device_events: Vec<device::Event>,
    gateway_events: Vec<gateway::Event>,
    at_device: Vec<Vec<u8>>,
    /// Everything that was sent, with from where and to where.
    crossed: Vec<(SocketAddr, SocketAddr, Vec<u8>)>,
}

const DEVICE_PRIVATE: [u8; 32] = [9; 32];
const GATEWAY_PRIVATE: [u8; 32] = [5; 32];
const CALL: [u8; 32] = [6; 32];

fn public(private: [u8; 32]) -> [u8; 32] {
    *PublicKey::from(&StaticSecret::from(private)).as_bytes()
}

fn config(suite: Suite, private: [u8; 32]) -> Config {
    Config::new(suite, Zeroizing::new(private), public(GATEWAY_PRIVATE), Call::new(&CALL), "test 1")
}

impl World {
    fn new(seed: u64, faults: Faults) -> Self {
        Self::with_versions(seed, faults, vec![1])
    }

    fn with_versions(seed: u64, faults: Faults, versions: Vec<u16>) -> Self {
        let suite = if seed.is_multiple_of(2) { Suite::Aes256Gcm } else { Suite::ChaCha20Poly1305 };
        let gateway_at = "203.0.113.10:23817".parse().unwrap();
        let mut config = config(suite, DEVICE_PRIVATE);
        config.versions = versions;
        Self {
            now: Moment(1_000_000),
            dice: Dice(seed * 2 + 1),
            faults,
            device_at: "198.51.100.23:40000".parse().unwrap(),
            gateway_at,
            device: Device::new(config, gateway_at, Box::new(Dice(seed + 77))),
            gateway: Listener::new(
                suite,
                0,
                seed + 99,
                Keeper(HashMap::from([(public(DEVICE_PRIVATE), Ok(settings(1)))])),
            ),
            device_lanes: HashMap::new(),
            current: None,
            serving: None,
            flying: Vec::new(),
            device_events: Vec::new(),
            gateway_events: Vec::new(),
            at_device: Vec::new(),
            crossed: Vec::new(),
        }
    }

    fn throw(&mut self, from: SocketAddr, to: SocketAddr, datagram: Vec<u8>) {
        self.crossed.push((from, to, datagram.clone()));
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
        for (to, datagram) in self.gateway.output() {
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
        for event in self.gateway.events() {
            match &event {
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
            self.gateway.take(self.now, from, &datagram);
        }
    }

    /// Lets `millis` pass in steps of 10 ms.
    fn pass(&mut self, millis: u64) {
        let end = self.now.after(millis);
        while self.now < end {
            self.now = self.now.after(10);
            self.device.tick(self.now);
            self.gateway.machine.lock().tick(self.now);
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
    assert_eq!(world.gateway.arrived, [b"a question"]);
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
        for packet in &world.gateway.arrived {
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
        prop_assert_eq!(world.gateway.arrived.len(), 0);
        world.deliver(from, to, datagram.clone());
        world.deliver(from, to, datagram);
        prop_assert_eq!(world.gateway.arrived.len(), 1);
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
    assert_eq!(world.gateway.arrived, [b"before", b"after."]);
    assert_eq!(world.at_device, [b"back"]);
    let counters = world.serving.clone().unwrap().counters.clone();
    assert_eq!(counters.received.load(std::sync::atomic::Ordering::Relaxed), 12, "renewal keeps the counters");
    world.pass(20_000);
    assert_eq!(world.gateway.lanes.len(), 1, "replaced keys are forgotten");
    assert_eq!(world.device_lanes.len(), 1);
}

#[test]
fn a_revoked_device_hears_why_and_cannot_come_back() {
    let mut world = World::new(8, CLEAN).up();
    let key = public(DEVICE_PRIVATE);
    world.gateway.keeper.0.insert(key, Err((Reason::Revoked, "lost on the ferry".into())));
    assert!(world.gateway.machine.lock().end(world.now, &key, Reason::Revoked, "lost on the ferry"));
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
    world.gateway.machine.lock().end(world.now, &public(DEVICE_PRIVATE), Reason::Administrator, "");
    let _missed = world.gateway.output();
    world.collect();
    world.pass(600);
    world.send_up(b"still here?");
    world.pass(100);
    assert_eq!(world.ended_at_device(), Some(Reason::Administrator));
    assert!(world.gateway.arrived.is_empty(), "nothing is carried for an ended session");
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
        world.gateway.keeper.0.insert(public(DEVICE_PRIVATE), Err((reason, String::new())));
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
    world.gateway.output();
    for number in 0..1000_u16 {
        let from = SocketAddr::from(([203, 0, 113, (number % 250) as u8], 2000 + number));
        world.gateway.machine.lock().heard(world.now, &lane, from, 100);
    }
    let sent = world.gateway.output().len();
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
    world.gateway.machine.lock().control(world.now, &lane, world.device_at, 100, Frame::End(Reason::Revoked, &words));
    let ended = world.gateway.events().into_iter().find_map(|event| match event {
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
    let keeper = Keeper(std::mem::take(&mut world.gateway.keeper.0));
    world.gateway = Listener::new(Suite::Aes256Gcm, 1000, 4242, keeper);
    world.serving = None;
    world.send_up(b"into the void");
    world.pass(12_000);
    assert!(world.device_events.iter().any(|event| matches!(event, device::Event::Lost)));
    assert!(world.serving.is_some(), "{:?}", world.device_events);
    world.send_up(b"and back");
    world.pass(50);
    assert_eq!(world.gateway.arrived, [b"and back"]);
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
    world.gateway.machine.lock().change(world.now, &public(DEVICE_PRIVATE), changed.clone());
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
    let opening = world.crossed[0].2.clone();
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

#[test]
fn openings_differ_in_length_and_answers_are_never_longer() {
    let mut lengths = std::collections::HashSet::new();
    for seed in 1..40 {
        let world = World::new(seed, CLEAN).up();
        let (opening, answer) = (&world.crossed[0].2, &world.crossed[1].2);
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
    let sent: Vec<_> = world.crossed[before..].iter().map(|(_, _, datagram)| datagram.clone()).collect();
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
    let suite = Suite::Aes256Gcm;
    let privates: Vec<[u8; 32]> = (1..=60).map(|n| [n; 32]).collect();
    let keeper = Keeper(privates.iter().map(|private| (public(*private), Ok(settings(1)))).collect());
    let mut gateway = Listener::new(suite, 0, 5, keeper);
    let gateway_at: SocketAddr = "203.0.113.10:23817".parse().unwrap();
    let mut serving = HashMap::new();
    let mut devices = Vec::new();
    for (at, private) in privates.iter().enumerate() {
        let from: SocketAddr = format!("198.51.100.{}:4000", at + 1).parse().unwrap();
        let mut device = Device::new(config(suite, *private), gateway_at, Box::new(Dice(at as u64 + 1000)));
        let now = Moment(5_000 + 100 * at as u64);
        device.open(now);
        let (mut lanes, mut current) = (HashMap::new(), None);
        for _ in 0..5 {
            for (_, datagram) in device.take_output() {
                gateway.take(now, from, &datagram);
                for event in gateway.events() {
                    if let gateway::Event::Opened { lane, .. } = event {
                        serving.insert(at, lane);
                    }
                }
            }
            for (to, mut datagram) in gateway.output() {
                assert_eq!(to, from);
                device.receive(now, gateway_at, &mut datagram, &|id| lanes.get(&id).cloned(), &mut |_| {});
                for event in device.take_events() {
                    match event {
                        device::Event::LaneAdded(lane) => drop(lanes.insert(lane.own, lane)),
                        device::Event::Current(lane) => current = Some(lane),
                        _ => {}
                    }
                }
            }
        }
        devices.push(current.unwrap());
    }
    let mut gateway = gateway.machine.into_inner();
    assert_eq!(gateway.device_keys().len(), 60);
    for (at, lane) in &serving {
        let mut datagram = Vec::new();
        lane.seal_packet(Moment(19_000), format!("for {at}").as_bytes(), &mut datagram).unwrap();
        for (other, device) in devices.iter().enumerate() {
            let mut copy = datagram.clone();
            let opened = device.open(Moment(19_000), &mut copy).is_ok();
            assert_eq!(opened, other == *at, "for {at}, at {other}");
        }
    }
    // Ending one leaves the others.
    assert!(gateway.end(Moment(19_500), &public(privates[7]), Reason::Administrator, ""));
    assert!(!gateway.end(Moment(19_500), &public(privates[7]), Reason::Administrator, ""));
    assert_eq!(gateway.device_keys().len(), 59);
    gateway.shut_down(Moment(19_600));
    assert!(gateway.device_keys().is_empty());
    assert_eq!(gateway.take_output().len(), 60, "each is told, once");
}

/// Whoever has recorded openings replays them without a pause, from everywhere: the device comes in, its session goes on, and so does
/// its renewal.
#[test]
fn replays_without_a_pause_keep_no_device_out_and_disturb_neither_session_nor_renewal() {
    let suite = Suite::Aes256Gcm;
    let mut world = World::new(40, CLEAN);
    let mut recorded = Vec::new();
    for seed in 0..12 {
        let mut device = Device::new(config(suite, DEVICE_PRIVATE), world.gateway_at, Box::new(Dice(seed * 7 + 3)));
        device.open(world.now);
        recorded.extend(device.take_output().into_iter().map(|(_, opening)| opening));
    }
    let replay = |world: &mut World, millis: u64| {
        for step in 0..millis / 10 {
            for (at, opening) in recorded.iter().enumerate() {
                let from = SocketAddr::from(([192, 0, 2, at as u8 + 1], 7000 + (step % 50) as u16));
                let gateway_at = world.gateway_at;
                world.deliver(from, gateway_at, opening.clone());
            }
            world.pass(10);
        }
    };
    replay(&mut world, 3_000);
    world.device.open(world.now);
    replay(&mut world, 3_000);
    assert!(world.is_up() && world.serving.is_some(), "{:?}", world.device_events);
    let (session, first) = (world.serving.clone().unwrap().session, world.current.clone().unwrap().own);
    world.pass(device::RENEW_AFTER - 4_000);
    replay(&mut world, 8_000);
    assert_ne!(world.current.clone().unwrap().own, first, "renewed under replays");
    assert_eq!(world.serving.clone().unwrap().session, session);
    world.send_up(b"up");
    world.send_down(b"down");
    world.pass(50);
    assert_eq!((&world.gateway.arrived[..], &world.at_device[..]), (&[b"up".to_vec()][..], &[b"down".to_vec()][..]));
    let lost = world.device_events.iter().filter(|event| {
        !matches!(event, device::Event::LaneAdded(_) | device::Event::LaneRemoved(_) | device::Event::Current(_))
    });
    assert_eq!(lost.count(), 1, "up, and nothing else: {:?}", world.device_events);
    // What they cost the gateway does not grow: what it holds is bounded, and gone when they stop.
    world.pass(30_000);
    assert_eq!(world.gateway.lanes.len(), 1);
}

/// An address that has not proved itself gets at most one datagram for each that it sent, and no longer one: whatever of an honest
/// course of things is sent on from there.
#[test]
fn nobody_is_flooded_through_a_gateway() {
    let mut world = World::new(41, CLEAN).up();
    world.send_up(b"one more");
    world.send_down(b"something to send");
    world.pass(3_000);
    let course: Vec<_> =
        world.crossed.iter().filter(|(from, ..)| *from == world.device_at).map(|(.., sent)| sent.clone()).collect();
    assert!(course.len() >= 5, "opening, two parts of a key, ready, an answer to the path check");
    for whole in [true, false] {
        // Either beside the device's own, later; or in place of it, as if the device itself wrote this address.
        let mut world = World::new(41, CLEAN);
        let victim: SocketAddr = "192.0.2.99:53".parse().unwrap();
        let (mut count, mut bytes) = ((0, 0), (0, 0));
        if whole {
            world = world.up();
        } else {
            world.device_at = victim;
            world.device.open(world.now);
        }
        let gateway_at = world.gateway_at;
        for round in 0..200 {
            let sent: Vec<_> = if whole {
                vec![course[round % course.len()].clone()]
            } else {
                // The device hears everything that its own address would, and never answers a path check.
                world.pass(10);
                Vec::new()
            };
            for datagram in sent {
                count.0 += 1;
                bytes.0 += datagram.len();
                world.deliver(victim, gateway_at, datagram);
                world.collect();
                world.pass(10);
            }
        }
        for (from, to, datagram) in &world.crossed {
            if *to == victim {
                count.1 += 1;
                bytes.1 += datagram.len();
            }
            if *from == victim {
                count.0 += 1;
                bytes.0 += datagram.len();
            }
        }
        assert!(count.1 <= count.0 && bytes.1 <= bytes.0, "{count:?} {bytes:?}");
    }
}

/// What a device sends in its session comes from an address that never answers: no inner packet and no settings go there.
#[test]
fn no_inner_packet_goes_to_an_address_that_has_not_answered() {
    let mut world = World::new(42, CLEAN);
    world.device.open(world.now);
    // Until the session begins at the gateway, before the path check has been answered.
    while world.serving.is_none() {
        world.pass(10);
    }
    let lane = world.serving.clone().unwrap();
    assert!(!lane.is_proved());
    world.gateway.machine.lock().change(world.now, &public(DEVICE_PRIVATE), settings(9));
    world.gateway.machine.lock().tick(world.now);
    assert!(world.gateway.output().iter().all(|(_, datagram)| datagram.len() <= 92), "a path check, an echo answer");
    world.pass(100);
    assert!(lane.is_proved());
    world.pass(600);
    assert!(
        world
            .device_events
            .iter()
            .any(|event| matches!(event, device::Event::Changed(changed) if changed.edition == 9))
    );
}

#[test]
fn an_idle_session_without_keep_alive_goes_on_for_hours() {
    let mut world = World::new(43, CLEAN);
    let idle = Settings { keep_alive: 0, ..settings(1) };
    world.gateway.keeper.0.insert(public(DEVICE_PRIVATE), Ok(idle));
    let mut world = world.up();
    let session = world.serving.clone().unwrap().session;
    world.faults = Faults { lost: 20, doubled: 5, late: 30 };
    world.pass(3 * 3_600_000);
    assert_eq!(world.serving.clone().map(|lane| lane.session), Some(session));
    assert!(!world.device_events.iter().any(|event| matches!(event, device::Event::Lost)));
}

/// A device that hears nothing for a while goes on with the session that the gateway still has.
#[test]
fn a_lost_session_goes_on_where_the_gateway_still_has_it() {
    let mut world = World::new(44, CLEAN).up();
    let session = world.serving.clone().unwrap().session;
    world.send_up(b"before");
    world.faults.lost = 100;
    world.send_up(b"lost");
    world.pass(12_000);
    world.faults.lost = 0;
    world.pass(12_000);
    world.send_up(b"behind");
    world.pass(50);
    assert_eq!(world.gateway.arrived, [b"before", b"behind"]);
    assert_eq!(world.serving.clone().unwrap().session, session);
    let ended = world.gateway_events.iter().filter(|event| matches!(event, gateway::Event::Ended { .. }));
    assert_eq!(ended.count(), 0);
}

/// A gateway that sends ever other settings, and asks for ever other keys, does not make the device flap.
#[test]
fn a_hostile_gateway_does_not_make_a_device_flap() {
    let mut world = World::new(45, CLEAN).up();
    let lane = world.serving.clone().unwrap();
    let before = world.crossed.len();
    for edition in 2..2_000_u32 {
        let body = settings(edition).emit();
        for frame in [Frame::Settings(&body), Frame::Renew] {
            let datagram = lane.seal_frames(world.now, &[frame]).unwrap();
            let (from, to) = (world.gateway_at, world.device_at);
            world.deliver(from, to, datagram);
        }
        if edition % 100 == 0 {
            world.pass(100);
        }
    }
    world.pass(3_000);
    let changed: Vec<_> = world
        .device_events
        .iter()
        .filter_map(|event| if let device::Event::Changed(settings) = event { Some(settings.edition) } else { None })
        .collect();
    assert!((2..=4).contains(&changed.len()) && changed.last() == Some(&1_999), "{changed:?}");
    let openings =
        world.crossed[before..].iter().filter(|(from, _, sent)| *from == world.device_at && sent.len() >= 900);
    assert!(openings.count() <= 3, "one renewal: an opening and two parts of a key");
    // Settings beyond what fits, or with a wrong value, are not taken at all.
    for wrong in
        [Settings { reach: vec!["10.0.0.0/8".parse().unwrap(); 300], ..settings(9_000) }.emit(), vec![6, 0, 2, 0, 1]]
    {
        let datagram = lane.seal_frames(world.now, &[Frame::Settings(&wrong)]).unwrap();
        let (from, to) = (world.gateway_at, world.device_at);
        world.deliver(from, to, datagram);
    }
    world.pass(2_000);
    assert!(
        !world
            .device_events
            .iter()
            .any(|event| matches!(event, device::Event::Changed(changed) if changed.edition > 2_000))
    );
}

/// Under the first keys nothing is carried, in either direction, whatever the other end sends.
#[test]
fn no_inner_packet_goes_under_the_first_keys() {
    let mut world = World::new(46, CLEAN);
    world.device.open(world.now);
    while world.device_lanes.is_empty() {
        world.pass(10);
    }
    let first = world.device_lanes.values().next().unwrap().clone();
    assert!(!first.carries && first.seal_packet(world.now, b"early", &mut Vec::new()).is_err());
    // As somebody would who has broken the first handshake alone: a data frame under its keys.
    let datagram = first.seal_frames(world.now, &[Frame::Data(b"early"), Frame::End(Reason::Closed, "")]).unwrap();
    let (from, to) = (world.device_at, world.gateway_at);
    world.deliver(from, to, datagram);
    assert!(world.gateway.arrived.is_empty());
    world.pass(500);
    assert!(world.is_up() && world.gateway.arrived.is_empty());
}

/// Beyond the budget openings are answered with a request to come again; with the token the device comes in all the same.
#[test]
fn a_device_comes_in_with_a_token_when_others_have_used_the_budget_up() {
    let mut world = World::new(47, CLEAN);
    let (device_at, gateway_at) = (world.device_at, world.gateway_at);
    let suite = Suite::ChaCha20Poly1305;
    for seed in 0..60 {
        let mut other = Device::new(config(suite, [seed as u8 + 100; 32]), gateway_at, Box::new(Dice(seed + 900)));
        other.open(world.now);
        for (_, opening) in other.take_output() {
            // From the device's own network.
            world.deliver(SocketAddr::new(device_at.ip(), 9_000 + seed as u16), gateway_at, opening);
        }
    }
    world.gateway.output();
    world.device.open(world.now);
    world.pass(500);
    assert!(world.is_up(), "{:?}", world.device_events);
    let from_device = |(from, _, datagram): &&(SocketAddr, SocketAddr, Vec<u8>)| {
        *from == device_at && (900..1180).contains(&datagram.len())
    };
    assert!(world.crossed.iter().filter(from_device).count() >= 2, "the opening, and the one with the token");
}
