//! Questions to a responder, as they come over HTTP from anybody.
#![no_main]

use std::collections::HashSet;
use std::sync::LazyLock;

use jiff::{SignedDuration, Timestamp};
use libfuzzer_sys::fuzz_target;
use ring::rand::SystemRandom;
use yestrel_core::x509::certificate::{self, Issuer, Points, Purpose, Wanted};
use yestrel_core::x509::list;
use yestrel_core::x509::status::Responder;
use yestrel_core::x509::{Algorithm, PrivateKey};

static RESPONDER: LazyLock<Responder> = LazyLock::new(|| {
    let (random, now, points) = (SystemRandom::new(), Timestamp::now(), Points::default());
    let until = now + SignedDuration::from_hours(24);
    let wanted = |key, purpose| Wanted {
        serial: [7; 16],
        organisation: "skerry",
        common_name: Some("issuing"),
        names: &[],
        key,
        from: now,
        until,
        purpose,
        points: &points,
    };
    let key = PrivateKey::generate(Algorithm::P256, &random).expect("a key");
    let purpose = Purpose::Authority { path_length: 0, domain: None };
    let authority = certificate::root(&wanted(key.public(), purpose), &key, &random).expect("a root");
    let issuer = Issuer { certificate: &authority, key: &key, above: &[] };
    let list = list::sign(&issuer, 1, now, until, Vec::new(), &random).expect("a list");
    let own = PrivateKey::generate(Algorithm::P256, &random).expect("a key");
    let delegated = certificate::issue(&wanted(own.public(), Purpose::Responder), &issuer, &random).expect("a responder");
    Responder::new(&authority, delegated, own, list, HashSet::new()).expect("a responder")
});

fuzz_target!(|bytes: &[u8]| {
    let answer = RESPONDER.answer(bytes, Timestamp::now(), &SystemRandom::new());
    assert!(!answer.der.is_empty());
});
