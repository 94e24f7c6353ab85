//! How fast lists are signed and questions answered: `cargo bench -p yestrel-core`.
#![allow(clippy::unwrap_used, reason = "a measurement that cannot go on ends")]

use std::collections::HashSet;
use std::hint::black_box;
use std::time::Instant;

use jiff::{SignedDuration, Timestamp};
use ring::rand::SystemRandom;
use yestrel_core::x509::certificate::{self, Issuer, Points, Purpose, Wanted, serial_of};
use yestrel_core::x509::list::{self, Entry, List, Reason};
use yestrel_core::x509::status::Responder;
use yestrel_core::x509::{Algorithm, PrivateKey};

const ENTRIES: usize = 100_000;

/// Content with a tag before it; short lengths only.
fn tlv(tag: u8, content: &[u8]) -> Vec<u8> {
    [&[tag, content.len() as u8], content].concat()
}

fn main() {
    let random = SystemRandom::new();
    let now = Timestamp::now();
    let until = now + SignedDuration::from_hours(24 * 14);
    let points = Points::default();
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
    let key = PrivateKey::generate(Algorithm::P256, &random).unwrap();
    let purpose = Purpose::Authority { path_length: 0, domain: None };
    let authority = certificate::root(&wanted(key.public(), purpose), &key, &random).unwrap();
    let issuer = Issuer { certificate: &authority, key: &key, above: &[] };
    let serial = |at: usize| {
        let mut bytes = [0; 16];
        bytes[8..].copy_from_slice(&(at as u64).to_be_bytes());
        bytes
    };
    let entries: Vec<_> = (0..ENTRIES)
        .map(|at| Entry { serial: serial_of(serial(at)), at: now, reason: Reason::KeyCompromise })
        .collect();

    let began = Instant::now();
    let signed = list::sign(&issuer, 1, now, until, entries, &random).unwrap();
    println!(
        "list of {ENTRIES} entries, signed      {:8.1} ms, {} kB",
        began.elapsed().as_secs_f64() * 1e3,
        signed.der().len() / 1000
    );
    let began = Instant::now();
    let read = List::read(signed.der(), &authority).unwrap();
    println!("list of {ENTRIES} entries, read        {:8.1} ms", began.elapsed().as_secs_f64() * 1e3);

    let own = PrivateKey::generate(Algorithm::P256, &random).unwrap();
    let delegated = certificate::issue(&wanted(own.public(), Purpose::Responder), &issuer, &random).unwrap();
    let issued: HashSet<_> = (0..ENTRIES).map(|at| serial(at).to_vec()).collect();
    let began = Instant::now();
    let responder = Responder::new(&authority, delegated, own, read, issued).unwrap();
    println!("responder for {ENTRIES} certificates   {:8.1} ms", began.elapsed().as_secs_f64() * 1e3);
    let sha1 = tlv(0x30, &[&tlv(6, &[0x2b, 0x0e, 3, 2, 0x1a])[..], &[5, 0]].concat());
    let id = tlv(0x30, &[sha1, tlv(4, &[1; 20]), tlv(4, &[2; 20]), tlv(2, &[9])].concat());
    let question = tlv(0x30, &tlv(0x30, &tlv(0x30, &tlv(0x30, &id))));
    let rounds = 10_000;
    let began = Instant::now();
    for _ in 0..rounds {
        black_box(responder.answer(black_box(&question), now, &random));
    }
    println!("answer on one certificate          {:8.3} ms", began.elapsed().as_secs_f64() * 1e3 / f64::from(rounds));
}
