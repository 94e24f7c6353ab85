//! The responder of IKE and a device whose keys are right: whatever payloads it sends, in whatever exchange and sequence, whole and in
//! parts; and the same bytes as a datagram of a stranger, as EAP, and as ESP. The other way around: an end that calls, and a hostile
//! gateway whose keys are right.
#![no_main]

use libfuzzer_sys::fuzz_target;
use yestrel_wire::esp::cipher::{Encryption, Protection};
use yestrel_wire::ike::call::{Nobody, everything};
use yestrel_wire::ike::eap::{Conversation, Form, Peer};
use yestrel_wire::ike::exchange::{Exchange, Group};
use yestrel_wire::ike::gateway::{Config, Gateway};
use yestrel_wire::ike::message::{
    Chain, HEAD, Head, Identity, Proposal, Transform, emit_key_exchange, emit_proposals, exchange, key_exchange, kind, payloads,
};
use yestrel_wire::ike::sealed::Sealed;
use yestrel_wire::ike::state::{Call, Caller, Door, Granted, Keeper, Reason, Refusal, Settings, Shown};
use yestrel_wire::ike::suite::{Keys, Prf, Sought, Suite, choose};
use yestrel_wire::{Moment, Random};

struct Steps(u64);
impl Random for Steps {
    fn fill(&mut self, bytes: &mut [u8]) {
        for byte in bytes {
            self.0 = self.0.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
            *byte = (self.0 >> 56) as u8;
        }
    }
}

/// Lets everybody in who shows anything.
struct Anybody;
impl Anybody {
    fn granted() -> Granted {
        let settings = Settings {
            inner: "10.187.44.2".parse().expect("an address"),
            inner6: Some("fd01:203:405::2".parse().expect("an address")),
            resolvers: vec!["10.44.0.20".parse().expect("an address")],
            domains: vec!["skerry.example".into()],
            reach: vec!["10.44.0.0/22".parse().expect("a range")],
            lifetime: None,
        };
        Granted { credential: [7; 32], settings }
    }
}
impl Keeper for Anybody {
    fn certificates(&self) -> Vec<Vec<u8>> {
        vec![vec![0x30; 600]]
    }
    fn identity(&self, asked: Option<&Identity>) -> Result<Identity, Refusal> {
        Ok(asked.cloned().unwrap_or_default())
    }
    fn prove(&self, octets: &[u8], _: &[u16]) -> Option<Vec<u8>> {
        Some(octets[..8].to_vec())
    }
    fn authorities(&self) -> Vec<u8> {
        vec![1; 20]
    }
    fn takes_accounts(&self) -> bool {
        true
    }
    fn certificate(&self, _: &Shown<'_>, _: std::net::SocketAddr) -> Result<Granted, Refusal> {
        Ok(Self::granted())
    }
    fn account(&self, name: &str, _: std::net::SocketAddr) -> Result<Form, Refusal> {
        if name == "x" { Ok(Form::new([1; 16])) } else { Err(Refusal { credential: None, reason: Reason::Unknown, words: String::new() }) }
    }
    fn signed_in(&self, _: &str, right: bool, _: std::net::SocketAddr) -> Result<Granted, Refusal> {
        if right { Ok(Self::granted()) } else { Err(Refusal { credential: None, reason: Reason::Password, words: String::new() }) }
    }
}

impl Caller for Anybody {
    fn dialled(&self) -> Option<Identity> {
        None
    }
    fn identity(&self) -> Identity {
        Identity { kind: 2, data: b"phone".to_vec() }
    }
    fn certificates(&self) -> Vec<Vec<u8>> {
        vec![vec![0x30; 600]]
    }
    fn prove(&self, octets: &[u8], _: &[u16]) -> Option<Vec<u8>> {
        Some(octets[..8].to_vec())
    }
    fn account(&self) -> Option<Peer> {
        None
    }
    fn believes(&self, _: &Shown<'_>) -> Result<(), String> {
        Ok(())
    }
}

/// Whatever a gateway says whose keys are right.
fn called(bytes: &[u8]) {
    let (first, second) = ("203.0.113.10:500".parse().expect("an address"), "203.0.113.10:4500".parse().expect("an address"));
    let now = Moment(1_000_000);
    let mut numbers = 1..;
    let config = Config { listens: false, ..Config::default() };
    let mut phone = Gateway::new(config, Box::new(move || numbers.next().unwrap_or(0)), Box::new(Steps(5)));
    let protection = Protection { encryption: Encryption::AesGcm(256), integrity: None };
    let suite = Suite { protection, prf: Prf::Sha256, group: Some(Group::X25519), extended: false };
    let call = Call {
        first,
        second,
        suites: vec![suite],
        pair_suites: vec![Suite { group: None, ..suite }],
        attributes: vec![1],
        reach: everything(),
        in_parts: true,
        mobike: true,
        who: std::sync::Arc::new(Anybody),
    };
    let spi = phone.call(now, call).expect("it offers something");
    let opening = phone.take_output().remove(0).bytes;
    phone.receive(now, Door::First, first, bytes, &Nobody);
    let said = Head::read(&opening).expect("a message");
    let inner = payloads(said.first, &opening[HEAD..]).expect("payloads");
    let one = |which: u8| inner.iter().find(|payload| payload.kind == which).expect("it is there").body;
    let own = Exchange::new(Group::X25519, &mut Steps(6)).expect("a key");
    let shared = own.agree(key_exchange(one(kind::KE)).expect("a key").1).expect("a secret");
    let mut chain = Chain::default();
    let transforms = suite.transforms(1);
    chain.add(kind::SA, &emit_proposals(&[Proposal { number: 1, protocol: 1, spi: vec![], transforms }]));
    chain.add(kind::KE, &emit_key_exchange(31, own.public()));
    chain.add(kind::NONCE, &[9; 32]);
    chain.notify(16430, &[]);
    let (kind_first, body) = chain.parts();
    let head = Head { responder_spi: 7, first: kind_first, from_initiator: false, response: true, ..said };
    phone.receive(now, Door::First, first, &[&head.emit(HEAD + body.len())[..], body].concat(), &Nobody);
    let keys = Keys::first(&suite, &shared, (one(kind::NONCE), &[9; 32]), (spi, 7));
    let mut sealed = Sealed::new(&suite, &keys, false).expect("the keys fit");
    let (mut rest, mut asked, mut answered) = (bytes, 0, 1);
    while let [how, first, length, more @ ..] = rest {
        let plain = &more[..usize::from(*length).min(more.len())];
        rest = &more[plain.len()..];
        let exchange = [exchange::AUTH, exchange::CREATE, exchange::INFO, *how][usize::from(how & 3)];
        let response = how & 0x80 != 0;
        let number = if response { answered } else { asked };
        let head = Head { initiator_spi: spi, responder_spi: 7, first: 0, exchange, from_initiator: false, response, number };
        for datagram in sealed.seal(&head, *first, plain, how & 4 != 0, &mut Steps(number.into())) {
            phone.receive(now.after(u64::from(number)), Door::Second, second, &datagram, &Nobody);
        }
        (asked, answered) = if response { (asked, answered + 1) } else { (asked + 1, answered) };
        phone.take_events();
        phone.take_output();
    }
    phone.tick(now.after(100_000));
    phone.shut_down(now.after(200_000));
}

fuzz_target!(|bytes: &[u8]| {
    called(bytes);
    let _ = Peer::new("x", "y").take(bytes, &mut Steps(1));
    let from = "198.51.100.23:40000".parse().expect("an address");
    let now = Moment(1_000_000);
    let mut numbers = 1..;
    let mut gateway = Gateway::new(Config::default(), Box::new(move || numbers.next().unwrap_or(0)), Box::new(Steps(2)));
    gateway.receive(now, Door::First, from, bytes, &Anybody);
    let _ = Conversation::begin(&mut Steps(1)).0.take(bytes);
    // An opening that is right.
    let own = Exchange::new(Group::X25519, &mut Steps(3)).expect("a key");
    let transform = |kind, number, bits| Transform { kind, number, bits };
    let transforms = vec![transform(1, 20, Some(256)), transform(2, 5, None), transform(4, 31, None)];
    let mut chain = Chain::default();
    chain.add(kind::SA, &emit_proposals(&[Proposal { number: 1, protocol: 1, spi: vec![], transforms }]));
    chain.add(kind::KE, &emit_key_exchange(31, own.public()));
    chain.add(kind::NONCE, &[9; 32]);
    chain.notify(16430, &[]);
    let (first, body) = chain.parts();
    let head = Head { initiator_spi: 5, responder_spi: 0, first, exchange: exchange::INIT, from_initiator: true, response: false, number: 0 };
    gateway.receive(now, Door::First, from, &[&head.emit(HEAD + body.len())[..], body].concat(), &Anybody);
    let Some(answer) = gateway.take_output().pop() else { return };
    let said = Head::read(&answer.bytes).expect("a message");
    let inner = payloads(said.first, &answer.bytes[HEAD..]).expect("payloads");
    let one = |which: u8| inner.iter().find(|payload| payload.kind == which).expect("it is there").body;
    let chosen = choose(&yestrel_wire::ike::message::proposals(one(kind::SA)).expect("one"), &Sought::ike(Some(31), 0)).expect("it was offered");
    let shared = own.agree(key_exchange(one(kind::KE)).expect("a key").1).expect("a secret");
    let keys = Keys::first(&chosen.suite, &shared, (&[9; 32], one(kind::NONCE)), (5, said.responder_spi));
    let mut sealed = Sealed::new(&chosen.suite, &keys, true).expect("the keys fit");
    // Each message is a byte for its exchange, one for its first payload, one for its length, and that many bytes.
    let (mut rest, mut number) = (bytes, 1);
    while let [how, first, length, more @ ..] = rest {
        let plain = &more[..usize::from(*length).min(more.len())];
        rest = &more[plain.len()..];
        let exchange = [exchange::AUTH, exchange::CREATE, exchange::INFO, *how][usize::from(how & 3)];
        let head = Head {
            initiator_spi: 5,
            responder_spi: said.responder_spi,
            first: 0,
            exchange,
            from_initiator: true,
            response: how & 0x80 != 0,
            number,
        };
        for datagram in sealed.seal(&head, *first, plain, how & 4 != 0, &mut Steps(number.into())) {
            gateway.receive(now.after(u64::from(number)), Door::Second, from, &datagram, &Anybody);
        }
        number += u32::from(how & 0x88 == 0);
        gateway.take_events();
        gateway.take_output();
    }
    for session in gateway.sessions().collect::<Vec<_>>() {
        for pair in gateway.pairs_of(session.0) {
            let mut datagram = [&pair.own.to_be_bytes()[..], bytes].concat();
            let _ = pair.open(now, &mut datagram);
        }
    }
    gateway.tick(now.after(100_000));
    gateway.shut_down(now.after(200_000));
});
