//! Two ends of ikev2 in one process, on a way that loses, doubles and turns around what it carries, from a seed. What each end says is
//! judged elsewhere, by an implementation of its own; here they are to agree whatever the way does.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]

use std::collections::BTreeMap;
use std::net::{IpAddr, Ipv4Addr, SocketAddr};
use std::sync::{Arc, Mutex};

use proptest::prelude::*;
use ring::rand::SystemRandom;
use ring::signature::{self, EcdsaKeyPair, KeyPair as _, UnparsedPublicKey};
use yestrel_wire::esp::cipher::{Encryption, Integrity, Protection};
use yestrel_wire::esp::pair::Pair;
use yestrel_wire::ike::call::everything;
use yestrel_wire::ike::eap::{Conversation, Form, Next, Peer, Talk};
use yestrel_wire::ike::exchange::Group;
use yestrel_wire::ike::gateway::{Config, Gateway, lets_by};
use yestrel_wire::ike::message::{Identity, attribute, id};
use yestrel_wire::ike::state::{Call, Caller, Door, Event, Granted, Keeper, Reason, Refusal, Settings, Shown};
use yestrel_wire::ike::suite::{Prf, Suite};
use yestrel_wire::{Moment, Random};

/// A generator that gives the same for the same seed.
#[derive(Clone)]
struct Dice(u64);

impl Dice {
    fn next(&mut self) -> u64 {
        self.0 = self.0.wrapping_add(0x9e37_79b9_7f4a_7c15);
        let mut one = self.0;
        one = (one ^ (one >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
        one = (one ^ (one >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
        one ^ (one >> 31)
    }

    fn below(&mut self, bound: u64) -> u64 {
        self.next() % bound
    }
}

impl Random for Dice {
    fn fill(&mut self, bytes: &mut [u8]) {
        bytes.iter_mut().for_each(|byte| *byte = self.next() as u8);
    }
}

fn of(name: &str) -> Identity {
    Identity { kind: id::FQDN, data: name.as_bytes().to_vec() }
}

/// A key of P-256, and what its owner shows: method 9 (RFC 4754).
struct Own {
    key: EcdsaKeyPair,
    certificate: Vec<u8>,
}

impl Own {
    fn new() -> Self {
        let random = SystemRandom::new();
        let kind = &signature::ECDSA_P256_SHA256_FIXED_SIGNING;
        let key = EcdsaKeyPair::generate_pkcs8(kind, &random).unwrap();
        let key = EcdsaKeyPair::from_pkcs8(kind, key.as_ref(), &random).unwrap();
        let certificate = key.public_key().as_ref().to_vec();
        Self { key, certificate }
    }

    fn prove(&self, octets: &[u8]) -> Vec<u8> {
        let signed = self.key.sign(&SystemRandom::new(), octets).unwrap();
        [&[9, 0, 0, 0], signed.as_ref()].concat()
    }
}

/// What stands for a certificate here is a public key alone.
fn holds(shown: &Shown<'_>, certificate: &[u8]) -> bool {
    let key = UnparsedPublicKey::new(&signature::ECDSA_P256_SHA256_FIXED, certificate);
    shown.certificates == [certificate.to_vec()]
        && shown.proof.starts_with(&[9, 0, 0, 0])
        && key.verify(shown.octets, &shown.proof[4..]).is_ok()
}

/// MD4 of "clientPass" in UTF-16 (RFC 2759 section 9.2).
const FORM: [u8; 16] = [0x44, 0xeb, 0xba, 0x8d, 0x53, 0x12, 0xb8, 0xd6, 0x11, 0x47, 0x44, 0x11, 0xf5, 0x69, 0x89, 0xae];

/// What another registry would say, and to which association.
type Later = Mutex<Vec<(u64, Next)>>;

struct Keep {
    own: Own,
    device: Vec<u8>,
    password: Form,
    /// EAP is answered elsewhere.
    later: Option<Arc<Later>>,
}

/// Takes what a device says to a registry elsewhere.
struct Elsewhere {
    talk: Conversation,
    association: u64,
    later: Arc<Later>,
}

impl Talk for Elsewhere {
    fn take(&mut self, bytes: &[u8]) -> Next {
        let said = match self.talk.take(bytes) {
            Next::Named(name) => {
                let (_, said) = self.talk.check(bytes, &name, Some(&Form::new(FORM)), &mut Dice(9));
                Next::Say(said)
            }
            said => said,
        };
        self.later.lock().unwrap().push((self.association, said));
        Next::Later
    }

    fn check(&mut self, _: &[u8], _: &str, _: Option<&Form>, _: &mut dyn Random) -> (bool, Vec<u8>) {
        unreachable!("it never names anybody here")
    }
}

impl Keep {
    fn granted() -> Granted {
        Granted {
            credential: [7; 32],
            settings: Settings {
                inner: Ipv4Addr::new(10, 187, 44, 9),
                inner6: Some("fd01:203:405::9".parse().unwrap()),
                resolvers: vec!["10.44.0.20".parse().unwrap()],
                domains: vec!["skerry.example".into()],
                reach: vec!["10.44.0.0/22".parse().unwrap(), "fd01:203:405::/64".parse().unwrap()],
                lifetime: None,
            },
        }
    }
}

impl Keeper for Keep {
    fn certificates(&self) -> Vec<Vec<u8>> {
        vec![self.own.certificate.clone()]
    }
    fn identity(&self, _: Option<&Identity>) -> Result<Identity, Refusal> {
        Ok(of("gangway.skerry.example"))
    }
    fn prove(&self, octets: &[u8], _: &[u16]) -> Option<Vec<u8>> {
        Some(self.own.prove(octets))
    }
    fn authorities(&self) -> Vec<u8> {
        vec![5; 20]
    }
    fn takes_accounts(&self) -> bool {
        true
    }
    fn talk(&self, association: u64, random: &mut dyn Random) -> Option<(Box<dyn Talk>, Vec<u8>)> {
        let (talk, first) = Conversation::begin(random);
        Some(match &self.later {
            Some(later) => (Box::new(Elsewhere { talk, association, later: later.clone() }), first),
            None => (Box::new(talk), first),
        })
    }
    fn certificate(&self, shown: &Shown<'_>, _: SocketAddr) -> Result<Granted, Refusal> {
        let refusal = Refusal { credential: None, reason: Reason::Proof, words: "not the device".into() };
        if holds(shown, &self.device) { Ok(Self::granted()) } else { Err(refusal) }
    }
    fn account(&self, name: &str, _: SocketAddr) -> Result<Form, Refusal> {
        assert_eq!(name, "mara.phone");
        Ok(self.password.clone())
    }
    fn signed_in(&self, _: &str, right: bool, _: SocketAddr) -> Result<Granted, Refusal> {
        let refusal = Refusal { credential: None, reason: Reason::Password, words: "wrong".into() };
        if right { Ok(Self::granted()) } else { Err(refusal) }
    }
}

struct Phone {
    own: Own,
    gateway: Vec<u8>,
    password: Option<&'static str>,
}

impl Caller for Phone {
    fn dialled(&self) -> Option<Identity> {
        Some(of("gangway.skerry.example"))
    }
    fn identity(&self) -> Identity {
        of("phone.mara.skerry.example")
    }
    fn certificates(&self) -> Vec<Vec<u8>> {
        vec![self.own.certificate.clone()]
    }
    fn prove(&self, octets: &[u8], _: &[u16]) -> Option<Vec<u8>> {
        Some(self.own.prove(octets))
    }
    fn account(&self) -> Option<Peer> {
        self.password.map(|password| Peer::new("mara.phone", password))
    }
    fn believes(&self, shown: &Shown<'_>) -> Result<(), String> {
        let wrong = || Err("it is somebody else".to_owned());
        if holds(shown, &self.gateway) && *shown.identity == of("gangway.skerry.example") { Ok(()) } else { wrong() }
    }
}

fn aead(encryption: Encryption, group: Group) -> Suite {
    Suite {
        protection: Protection { encryption, integrity: None },
        prf: Prf::Sha256,
        group: Some(group),
        extended: false,
    }
}

/// The suites that a call offers, by number.
fn suites(which: u8) -> (Vec<Suite>, Vec<Suite>) {
    let cbc = Protection { encryption: Encryption::AesCbc(256), integrity: Some(Integrity::Sha256) };
    let ike = match which {
        0 => vec![aead(Encryption::AesGcm(256), Group::X25519)],
        1 => vec![aead(Encryption::ChaCha20Poly1305, Group::P256)],
        _ => vec![Suite { protection: cbc, prf: Prf::Sha384, group: Some(Group::P256), extended: false }],
    };
    let pairs =
        ike.iter().map(|suite| Suite { group: None, extended: which == 0, prf: Prf::Sha256, ..*suite }).collect();
    (ike, pairs)
}

/// The way between them.
struct Way {
    dice: Dice,
    loses: u64,
    doubles: u64,
    /// Of 100, in both directions.
    latest: u64,
    under_way: BTreeMap<(u64, u64), (bool, Door, Vec<u8>)>,
    count: u64,
}

impl Way {
    fn carry(&mut self, now: u64, to_gateway: bool, door: Door, bytes: &[u8]) {
        if self.dice.below(100) < self.loses {
            return;
        }
        let copies = 1 + u64::from(self.dice.below(100) < self.doubles);
        for _ in 0..copies {
            self.count += 1;
            let at = now + 1 + self.dice.below(self.latest.max(1));
            self.under_way.insert((at, self.count), (to_gateway, door, bytes.to_vec()));
        }
    }
}

/// What one end has said of itself.
#[derive(Default)]
struct Heard {
    session: Option<u64>,
    settings: Option<Settings>,
    serving: Option<Arc<Pair>>,
    pairs: BTreeMap<u32, Arc<Pair>>,
    failed: Option<(Reason, String)>,
    refused: Vec<Refusal>,
    ended: Option<Reason>,
}

impl Heard {
    fn take(&mut self, events: Vec<Event>) {
        for event in events {
            match event {
                Event::PairAdded(pair) => {
                    self.pairs.insert(pair.own, pair);
                }
                Event::PairRemoved(spi) => {
                    self.pairs.remove(&spi);
                }
                Event::Opened { session, granted, pair, .. } => {
                    // A session that replaces another has said so before.
                    self.session = Some(session);
                    self.settings = Some(granted.settings);
                    self.serving = Some(pair);
                    self.ended = None;
                }
                Event::Serves { pair, .. } => self.serving = Some(pair),
                Event::Failed { reason, words, .. } => self.failed = Some((reason, words)),
                Event::Refused { refusal, .. } => self.refused.push(refusal),
                Event::Ended { session, reason, .. } if self.session == Some(session) => self.ended = Some(reason),
                _ => {}
            }
        }
    }
}

struct World {
    gateway: Gateway,
    phone: Gateway,
    keep: Keep,
    way: Way,
    at_gateway: Heard,
    at_phone: Heard,
    call: Call,
    now: u64,
    /// Where the gateway sees the phone.
    seen: SocketAddr,
    /// The phone does not get what is sent to where it is seen.
    elsewhere: bool,
}

const GATEWAY: SocketAddr = SocketAddr::new(IpAddr::V4(Ipv4Addr::new(203, 0, 113, 10)), 4500);
const PHONE: SocketAddr = SocketAddr::new(IpAddr::V4(Ipv4Addr::new(198, 51, 100, 23)), 40_001);

fn end(seed: u64) -> Gateway {
    let mut next = 0;
    let number = Box::new(move || {
        next += 1;
        next
    });
    Gateway::new(Config::default(), number, Box::new(Dice(seed)))
}

impl World {
    /// A gateway, and a phone that calls: with suites by number, by certificate or with this password.
    fn new(seed: u64, which: u8, password: Option<&'static str>, way: (u64, u64, u64)) -> Self {
        let (device, own) = (Own::new(), Own::new());
        let (loses, doubles, latest) = way;
        let keep = Keep { device: device.certificate.clone(), own, password: Form::new(FORM), later: None };
        let who = Arc::new(Phone { own: device, gateway: keep.own.certificate.clone(), password });
        let (suites, pair_suites) = suites(which);
        let call = Call {
            first: SocketAddr::new(GATEWAY.ip(), 500),
            second: GATEWAY,
            suites,
            pair_suites,
            attributes: vec![
                attribute::IPV4_ADDRESS,
                attribute::IPV6_ADDRESS,
                attribute::IPV4_DNS,
                attribute::DNS_DOMAIN,
            ],
            reach: everything(),
            in_parts: true,
            mobike: true,
            who,
        };
        let mut world = Self {
            gateway: end(seed),
            phone: end(seed ^ 0x5555),
            keep,
            way: Way { dice: Dice(seed ^ 0xaaaa), loses, doubles, latest, under_way: BTreeMap::new(), count: 0 },
            at_gateway: Heard::default(),
            at_phone: Heard::default(),
            call,
            now: 1_000,
            seen: PHONE,
            elsewhere: false,
        };
        world.phone.call(Moment(world.now), world.call.clone()).unwrap();
        world
    }

    fn collect(&mut self) {
        for (to_gateway, end) in [(true, &mut self.phone), (false, &mut self.gateway)] {
            for out in end.take_output() {
                if !to_gateway && self.elsewhere && out.to == self.seen {
                    continue;
                }
                self.way.carry(self.now, to_gateway, out.door, &out.bytes);
            }
        }
        self.at_gateway.take(self.gateway.take_events());
        self.at_phone.take(self.phone.take_events());
    }

    /// Goes on until `until`, in the world's time.
    fn run_until(&mut self, until: u64) {
        self.collect();
        loop {
            let deadlines = [self.gateway.deadline(), self.phone.deadline()].into_iter().flatten().map(|at| at.0);
            let arrives = self.way.under_way.keys().next().map(|(at, _)| *at);
            let Some(next) = deadlines.chain(arrives).min().filter(|next| *next <= until) else { break };
            self.now = next.max(self.now);
            let now = Moment(self.now);
            while let Some(entry) = self.way.under_way.first_entry().filter(|entry| entry.key().0 <= self.now) {
                let (to_gateway, door, bytes) = entry.remove();
                let (end, from) = if to_gateway {
                    (&mut self.gateway, self.seen)
                } else {
                    (&mut self.phone, SocketAddr::new(GATEWAY.ip(), if door == Door::First { 500 } else { 4500 }))
                };
                end.receive(now, door, from, &bytes, &self.keep);
            }
            self.gateway.tick(now);
            self.phone.tick(now);
            self.collect();
        }
        self.now = until;
    }

    /// Carries a packet from one end to the other under what each sends with, and back.
    fn packets(&mut self) -> Result<(), String> {
        let now = Moment(self.now);
        for there in [true, false] {
            let (from, to) =
                if there { (&self.at_phone, &self.at_gateway) } else { (&self.at_gateway, &self.at_phone) };
            let pair = from.serving.clone().ok_or("nothing to send with")?;
            let mut packet = vec![0x45, 0, 0, 24, 0, 0, 0, 0, 64, 17, 0, 0, 10, 187, 44, 9, 10, 44, 0, 20];
            packet.extend_from_slice(&[1, 2, 3, u8::from(there)]);
            let mut datagram = Vec::new();
            pair.seal_packet(now, &packet, &mut datagram).map_err(|dropped| format!("{dropped:?}"))?;
            let spi = Pair::spi(&datagram).ok_or("no SPI")?;
            let other = to.pairs.get(&spi).cloned().ok_or("the other end does not know that SPI")?;
            let (inner, _) = other.open(now, &mut datagram).map_err(|dropped| format!("{dropped:?}"))?;
            if inner != packet {
                return Err("another packet".into());
            }
            let end = if there { &mut self.gateway } else { &mut self.phone };
            end.heard_in(now, spi);
            self.collect();
        }
        Ok(())
    }

    /// Both ends have the same pairs.
    fn agree(&self) -> Result<(), String> {
        let spis = |heard: &Heard, turned: bool| {
            let both = |pair: &Arc<Pair>| if turned { (pair.other, pair.own) } else { (pair.own, pair.other) };
            heard.pairs.values().map(both).collect::<std::collections::BTreeSet<_>>()
        };
        let (one, other) = (spis(&self.at_gateway, false), spis(&self.at_phone, true));
        if one == other && one.len() == 1 { Ok(()) } else { Err(format!("{one:?} and {other:?}")) }
    }
}

#[test]
fn a_phone_comes_in_and_is_given_what_it_may() {
    for which in 0..3 {
        for password in [None, Some("clientPass")] {
            let mut world = World::new(11 + u64::from(which), which, password, (0, 0, 1));
            world.run_until(3_000);
            assert_eq!(world.at_phone.failed, None);
            assert_eq!(world.at_phone.settings, Some(Keep::granted().settings), "{which} {password:?}");
            world.packets().unwrap();
            world.agree().unwrap();
            let session = world.at_gateway.session.unwrap();
            world.gateway.end(Moment(world.now), session, Reason::Revoked, "");
            world.run_until(4_000);
            assert_eq!(world.at_phone.ended, Some(Reason::Closed));
            assert!(world.at_phone.pairs.is_empty() && world.at_gateway.pairs.is_empty());
        }
    }
}

#[test]
fn whoever_should_not_come_in_does_not_and_neither_end_believes_a_stranger() {
    let mut world = World::new(5, 0, Some("another"), (0, 0, 1));
    world.run_until(3_000);
    assert_eq!(world.at_phone.failed.as_ref().map(|failed| failed.0), Some(Reason::Password));
    assert!(
        world.at_gateway.session.is_none() && world.at_gateway.refused.iter().any(|one| one.reason == Reason::Password)
    );
    let mut world = World::new(6, 0, None, (0, 0, 1));
    world.keep.device = Own::new().certificate;
    world.run_until(3_000);
    assert_eq!(world.at_phone.failed.as_ref().map(|failed| failed.0), Some(Reason::Proof));
    let mut world = World::new(7, 0, None, (0, 0, 1));
    world.keep.own = Own::new();
    world.run_until(3_000);
    assert_eq!(world.at_phone.failed, Some((Reason::Untrusted, "it is somebody else".into())));
    let mut world = World::new(8, 0, None, (100, 0, 1));
    world.run_until(200_000);
    assert_eq!(world.at_phone.failed.as_ref().map(|failed| failed.0), Some(Reason::Silent));
    assert_eq!((world.phone.deadline(), world.gateway.deadline()), (None, None), "nothing is left of it");
}

/// A flood of openings makes the gateway quiet for a moment, towards the networks that it comes from; whoever shows a cookie is looked at
/// even then, and everybody else at once.
#[test]
fn while_every_budget_is_used_up_an_opening_without_a_cookie_is_let_go() {
    let mut world = World::new(21, 0, None, (0, 0, 1));
    let opening = world.phone.take_output().remove(0).bytes;
    let (quiet, now) = (world.gateway.quiet(), Moment(world.now));
    let flood = |number: u32| SocketAddr::new(Ipv4Addr::from(0xc612_0000 + number % 10_000).into(), 500);
    let mut cookies = 0;
    for number in 0..40_000_u32 {
        let mut another = opening.clone();
        another[..4].copy_from_slice(&number.to_be_bytes());
        world.gateway.receive(now, Door::First, flood(number), &another, &world.keep);
        cookies += world.gateway.take_output().iter().filter(|out| out.bytes.len() < 60).count();
    }
    assert!((3_800..=4_800).contains(&cookies), "{cookies}");
    assert!(!lets_by(&quiet, now, flood(7), &opening) && lets_by(&quiet, now, PHONE, &opening));
    let mut with_cookie = opening.clone();
    with_cookie[16] = 41;
    assert!(lets_by(&quiet, now, flood(7), &with_cookie) && lets_by(&quiet, now.after(60), flood(7), &opening));
    let mut later = opening.clone();
    later[18] = 35;
    assert!(lets_by(&quiet, now, flood(7), &later), "what is no opening");
    assert!(world.gateway.half_open() <= 512);
    // Somebody real, from elsewhere, comes in in the middle of it.
    world.gateway.receive(now, Door::First, PHONE, &opening, &world.keep);
    world.collect();
    world.run_until(world.now + 500);
    assert!(world.at_phone.settings.is_some() && world.packets().is_ok());
}

/// RFC 4555 section 3.7: whoever says that they are elsewhere shows it, or is out before long; nobody else is sent their packets for ever.
#[test]
fn a_device_that_moves_shows_that_it_is_there() {
    for answers in [true, false] {
        let mut world = World::new(3, 0, None, (0, 0, 1));
        world.run_until(3_000);
        let session = world.at_gateway.session.unwrap();
        (world.seen, world.elsewhere) = ("192.0.2.99:4500".parse().unwrap(), !answers);
        world.gateway.moved(Moment(world.now), session, world.seen);
        world.collect();
        world.run_until(4_000);
        assert_eq!(world.at_gateway.ended, None);
        world.run_until(100_000);
        let ended = if answers { None } else { Some(Reason::Silent) };
        assert_eq!(world.at_gateway.ended, ended);
    }
}

/// A device in a car, and a clock that somebody has set back: neither ends a session or makes anything wait for ever.
#[test]
fn a_device_that_moves_every_second_and_a_clock_that_goes_back_end_nothing() {
    let mut world = World::new(13, 0, None, (0, 0, 1));
    world.run_until(3_000);
    let session = world.at_gateway.session.unwrap();
    for port in 0..120 {
        world.seen = SocketAddr::new(PHONE.ip(), 41_000 + port);
        world.gateway.moved(Moment(world.now), session, world.seen);
        world.collect();
        world.run_until(world.now + 1_000);
        world.packets().unwrap();
    }
    assert_eq!((world.at_gateway.ended, world.at_phone.ended), (None, None));
    let before = world.now;
    for now in [before - 100_000, 500, 0, before] {
        world.gateway.tick(Moment(now));
        world.gateway.receive(Moment(now), Door::Second, PHONE, &[0; 60], &world.keep);
        world.gateway.moved(Moment(now), session, SocketAddr::new(PHONE.ip(), now as u16));
        world.gateway.worn(Moment(now), *world.at_gateway.pairs.keys().next().unwrap());
        world.phone.tick(Moment(now));
        world.collect();
    }
    world.run_until(before + 150_000);
    assert_eq!((world.at_gateway.ended, world.at_phone.ended), (None, None));
    world.packets().unwrap();
    world.agree().unwrap();
}

/// Somebody else answers a device's EAP, later: until then nothing is said, however often it asks.
#[test]
fn another_registry_may_answer_later() {
    let mut world = World::new(4, 0, Some("clientPass"), (0, 0, 1));
    world.keep.later = Some(Arc::default());
    world.run_until(3_500);
    assert!(world.at_phone.failed.is_none() && world.at_gateway.session.is_none());
    let (association, said) = world.keep.later.as_ref().unwrap().lock().unwrap().pop().unwrap();
    world.gateway.said(Moment(world.now), association, said, &world.keep);
    // The next step waits again.
    while world.at_phone.settings.is_none() {
        world.run_until(world.now + 100);
        if let Some((association, said)) = world.keep.later.as_ref().unwrap().lock().unwrap().pop() {
            world.gateway.said(Moment(world.now), association, said, &world.keep);
        }
        assert!(world.now < 30_000 && world.at_phone.failed.is_none(), "{:?}", world.at_phone.failed);
    }
    world.packets().unwrap();
    // An answer that nobody waits for is nothing.
    world.gateway.said(Moment(world.now), association, Next::Nothing, &world.keep);
    world.packets().unwrap();
}

/// An agent that is killed in the middle of everything knows nothing of it afterwards; whoever was in finds out and calls again.
#[test]
fn a_gateway_that_begins_anew_in_the_middle_of_a_renewal_leaves_nothing_behind() {
    for after in [0, 1, 3, 5, 8, 13] {
        let mut world = World::new(40 + after, 0, None, (0, 0, 4));
        world.run_until(5_000);
        let (at_phone, at_gateway) = (world.at_phone.session.unwrap(), world.at_gateway.session.unwrap());
        world.phone.renew_pair_of(Moment(world.now), at_phone);
        world.gateway.renew_association_of(Moment(world.now), at_gateway);
        world.run_until(5_000 + after);
        world.gateway = end(90 + after);
        world.at_gateway = Heard::default();
        world.run_until(300_000);
        assert_eq!(world.at_phone.ended, Some(Reason::Silent), "{after}");
        assert!(world.at_phone.pairs.is_empty() && world.at_gateway.session.is_none());
        assert_eq!((world.phone.deadline(), world.gateway.deadline()), (None, None), "nothing is left of it");
        world.phone.call(Moment(world.now), world.call.clone()).unwrap();
        world.run_until(310_000);
        assert!(world.packets().is_ok() && world.agree().is_ok());
    }
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 256, ..ProptestConfig::default() })]

    /// Renewals of both kinds from both sides, at the same moment or nearly, on a bad way; when it is quiet again both ends have one pair, the
    /// same, and packets go both ways.
    #[test]
    fn both_ends_agree_whatever_the_way_does(
        seed in any::<u64>(),
        which in 0_u8..3,
        loses in 0_u64..25,
        doubles in 0_u64..30,
        latest in 1_u64..900,
        begins in proptest::collection::vec((any::<bool>(), any::<bool>(), 0_u64..1_500), 1..6),
    ) {
        let mut world = World::new(seed, which, None, (loses, doubles, latest));
        world.run_until(70_000);
        prop_assume!(world.at_gateway.session.is_some() && world.at_phone.session.is_some());
        prop_assert!(world.packets().is_ok());
        let mut begins = begins;
        begins.sort_by_key(|begin| begin.2);
        let start = world.now;
        for (gateway, association, after) in begins {
            world.run_until(start + after);
            let now = Moment(world.now);
            let (end, heard) = if gateway { (&mut world.gateway, &world.at_gateway) } else { (&mut world.phone, &world.at_phone) };
            let Some(session) = heard.session else { continue };
            if association { end.renew_association_of(now, session) } else { end.renew_pair_of(now, session) }
        }
        // Quiet: nothing is lost any more, and everything that waits comes to its end.
        world.run_until(start + 3_000);
        (world.way.loses, world.way.doubles, world.way.latest) = (0, 0, 20);
        world.run_until(start + 200_000);
        if world.at_gateway.ended.is_none() && world.at_phone.ended.is_none() {
            let agreed = world.agree();
            prop_assert!(agreed.is_ok(), "{agreed:?}");
            let carried = world.packets();
            prop_assert!(carried.is_ok(), "{carried:?}");
        } else {
            // Where six tries were lost the session is over, and at both ends.
            prop_assert!(world.at_gateway.ended.is_some() && world.at_phone.ended.is_some());
            prop_assert!(world.at_gateway.pairs.is_empty() && world.at_phone.pairs.is_empty());
        }
    }
}
