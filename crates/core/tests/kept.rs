//! Orders and messages of every version are read for ever. `UPDATE_FIXTURES=1` writes the messages of this version, where it has none yet.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

use serde::Serialize;
use serde::de::DeserializeOwned;
use serde_json::Value;
use yestrel_core::admission::Reason;
use yestrel_core::exchange::agent::{self, Ask};
use yestrel_core::exchange::{Answered, News, NewsEvent, host};
use yestrel_core::findings::Plane;
use yestrel_core::firewall::Service;
use yestrel_core::keys::{PublicKey, Secret};
use yestrel_core::order::{Envelope, Order, Revoked, SignedAmendment, SignedRenewal};
use yestrel_core::{Problem, sample, sealed};

fn folder(version: &str) -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../cli/tests/fixtures").join(version)
}

fn at() -> jiff::Timestamp {
    "2027-03-02T08:15:00Z".parse().unwrap()
}

/// One of each message that travels between commands, agents and hosts; with how it is read.
fn messages() -> Vec<(&'static str, Value)> {
    fn one<T: Serialize>(kind: &'static str, message: &T) -> (&'static str, Value) {
        (kind, serde_json::to_value(message).unwrap())
    }
    let envelope =
        Envelope { order: "{}".into(), signature: "AA==".into(), successor_signature: None, amendments: Vec::new() };
    let key = PublicKey([5; 32]);
    let secret = || Secret::new(vec![7; 32]);
    let sealed = sealed::seal(&sample::gateway_pair().public, "way notice", &secret()).unwrap();
    let ask = |ask: Ask| one("ask agent", &ask);
    let mut all = vec![
        ask(agent::Status.into()),
        ask(agent::Adopt {
            estate: "id".into(),
            estate_key: key,
            gateway: "harbour".into(),
            private_key: secret(),
            recovery_key: Some(key),
        }
        .into()),
        ask(agent::Carry { envelope: envelope.clone(), hold: 60 }.into()),
        ask(agent::Amend { amendment: SignedAmendment { amendment: "{}".into(), signature: "AA==".into() } }.into()),
        ask(agent::Confirm { hash: "ab".into() }.into()),
        ask(agent::Certify { private_key: secret() }.into()),
        ask(agent::Publish {
            publications: vec![agent::Publication {
                authority: "issuing".into(),
                list: "AA==".into(),
                responder: "AA==".into(),
                responder_key: secret(),
                issued: "AA==".into(),
            }],
        }
        .into()),
        ask(agent::Tell { notices: vec![agent::ForDevice { identity: key, number: 2, sealed }] }.into()),
        ask(agent::Renew { renewal: SignedRenewal { renewal: "{}".into(), signature: "AA==".into() } }.into()),
        ask(agent::Forward { envelopes: vec![envelope.clone()] }.into()),
        ask(agent::OrderInForce.into()),
        ask(agent::NewsAfter { after: 7 }.into()),
        ask(agent::Sessions.into()),
        ask(agent::EndSessions { device: "mara/laptop".into(), words: "noon".into() }.into()),
        ask(agent::Facts.into()),
        ask(agent::Metrics.into()),
        ask(agent::Close.into()),
        ask(agent::Retire.into()),
        one("ask host", &host::Ask::from(host::Facts)),
        one("ask host", &host::Ask::from(host::Restart)),
        one("ask host", &host::Ask::from(host::Log { offset: Some(9) })),
        one("ask host", &host::Ask::from(host::Remove { estate: "id".into(), force: false })),
        one("ask host", &host::Ask::from(host::Agent { question: agent::Status.into() })),
        one("answer", &Answered::to(&agent::EndSessions { device: "x".into(), words: String::new() }, Ok(3))),
        one("answer", &Answered::to(&agent::Status, Err(Problem::refused("no").why("because").try_("this")))),
    ];
    let status = agent::AgentStatus {
        uncounted: vec!["pier".into()],
        version: "0.4.0".into(),
        estate: Some("id".into()),
        gateway: Some("harbour".into()),
        order: 7,
        order_hash: "ab".into(),
        since: at(),
        plane: Plane::Kernel,
        revoked: 3,
        listeners: vec![("harbour/quill".into(), vec![Service::udp(23817)])],
        newest: 9,
        program: "cd".into(),
        amends: true,
        clock: Some(at()),
        held: Some(at()),
        published: BTreeMap::from([("issuing".into(), 2)]),
        estate_key: Some(key),
        recovery_key: Some(key),
        unkept: Some("full".into()),
        public_key: None,
        holds_until: Some(at()),
        amiss: Some("gone".into()),
    };
    all.push(one("status", &status));
    all.push(one(
        "receipt",
        &agent::Receipt {
            number: 7,
            hash: "ab".into(),
            at: at(),
            ended: 1,
            held: Some(at()),
            unkept: Some("full".into()),
        },
    ));
    let revoked = BTreeMap::from([("k".to_owned(), Revoked { device: "mara/laptop".into(), reason: "lost".into() })]);
    all.push(one("standing", &agent::Standing { envelope: Some(envelope), revoked }));
    for event in [
        NewsEvent::Started { version: "0.4.0".into() },
        NewsEvent::Opened {
            session: 1,
            device: "mara/laptop".into(),
            identity: key,
            listener: "harbour/quill".into(),
            from: "198.51.100.23:4711".into(),
            inner: "10.187.44.2".parse().unwrap(),
            leased: true,
            notice: 2,
            policy: Some("everyone".into()),
            method: Some("key".into()),
            asked: Some(3),
            realm: Some("crew.skerry.example".into()),
        },
        NewsEvent::Passed { gateway: "pier".into(), order: 3 },
        NewsEvent::Noticed { identity: key, notice: 2 },
        NewsEvent::Moved { session: 1, to: "198.51.100.24:4711".into() },
        NewsEvent::Ended {
            session: 1,
            device: "mara/laptop".into(),
            identity: key,
            reason: Reason::Closed,
            words: "noon".into(),
            received: 1,
            sent: 2,
            last_heard: at(),
        },
        NewsEvent::Refused {
            device: None,
            from: "198.51.100.23:4711".into(),
            reason: Reason::Revoked,
            times: 4,
            words: String::new(),
            method: None,
        },
        NewsEvent::Carried { order: 7 },
        NewsEvent::Undone { order: 8 },
        NewsEvent::Righted { what: "the firewall".into(), times: 1 },
    ] {
        all.push(one("news", &News { number: 5, at: at(), event }));
    }
    all
}

/// Reads a message as its kind, and writes it again.
fn again<T: Serialize + DeserializeOwned>(value: &Value) -> Value {
    let read: T = serde_json::from_value(value.clone()).unwrap_or_else(|error| panic!("{value}: {error}"));
    serde_json::to_value(&read).unwrap()
}

fn reads(kind: &str, value: &Value) -> Value {
    match kind {
        "ask agent" => again::<Ask>(value),
        "ask host" => again::<host::Ask>(value),
        "answer" => again::<Answered>(value),
        "status" => again::<agent::AgentStatus>(value),
        "receipt" => again::<agent::Receipt>(value),
        "standing" => again::<agent::Standing>(value),
        "news" => again::<News>(value),
        other => panic!("an unknown kind {other}"),
    }
}

#[test]
fn messages_of_every_version_are_read_with_everything_that_they_say() {
    let own = folder("0.8").join("messages.jsonl");
    if std::env::var_os("UPDATE_FIXTURES").is_some() && !own.exists() {
        let lines: String =
            messages().iter().map(|(kind, value)| format!("{}\n", serde_json::json!([kind, value]))).collect();
        std::fs::write(&own, lines).unwrap();
    }
    for entry in std::fs::read_dir(folder("")).unwrap() {
        let text = std::fs::read_to_string(entry.unwrap().path().join("messages.jsonl")).unwrap();
        let mut kinds = 0;
        for line in text.lines() {
            let (kind, value): (String, Value) = serde_json::from_str(line).unwrap();
            assert_eq!(reads(&kind, &value), value, "{kind}");
            kinds += 1;
        }
        assert!(kinds >= 37, "{kinds}");
    }
}

#[test]
fn orders_of_every_version_are_read_whole_and_give_the_same_bytes() {
    for entry in std::fs::read_dir(folder("")).unwrap() {
        let text = std::fs::read_to_string(entry.unwrap().path().join("order.json")).unwrap();
        let envelope: Envelope = serde_json::from_str(&text).unwrap();
        let order: Order = envelope.read().unwrap();
        assert_eq!(serde_json::to_value(&order).unwrap().to_string(), envelope.order);
        assert_eq!(order.content.gateway, "harbour");
        assert!(
            !order.content.admit.is_empty() && !order.content.revoked.is_empty() && !order.content.peers.is_empty()
        );
    }
}

#[test]
fn what_this_version_says_is_what_it_reads() {
    for (kind, value) in messages() {
        assert_eq!(reads(kind, &value), value, "{kind}");
    }
}
