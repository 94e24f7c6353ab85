//! Certificates, requests, lists and answers that others might send: nothing of it may crash or be believed.
#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]

use std::collections::HashSet;
use std::sync::LazyLock;

use jiff::{SignedDuration, Timestamp};
use proptest::prelude::*;
use ring::rand::SystemRandom;
use yestrel_core::x509::certificate::{self, Issuer, Points, Purpose, Wanted, check_chain};
use yestrel_core::x509::list::{self, Entry, List, Reason};
use yestrel_core::x509::names::SubjectName;
use yestrel_core::x509::status::{Responder, is_question};
use yestrel_core::x509::{Algorithm, Certificate, PrivateKey, bring, request};

fn now() -> Timestamp {
    "2027-03-02T08:15:00Z".parse().unwrap()
}

fn days(count: i64) -> Timestamp {
    now() + SignedDuration::from_hours(24 * count)
}

fn random() -> SystemRandom {
    SystemRandom::new()
}

fn key() -> PrivateKey {
    PrivateKey::generate(Algorithm::P256, &random()).unwrap()
}

struct Authority {
    key: PrivateKey,
    certificate: Certificate,
}

impl Authority {
    fn issuer(&self) -> Issuer<'_> {
        Issuer { certificate: &self.certificate, key: &self.key, above: &[] }
    }
}

fn wanted<'a>(
    key: &'a PrivateKey,
    name: &'a str,
    names: &'a [SubjectName],
    purpose: Purpose,
    until: i64,
) -> Wanted<'a> {
    static POINTS: LazyLock<Points> = LazyLock::new(Points::default);
    Wanted {
        serial: [7; 16],
        organisation: "skerry",
        common_name: Some(name),
        names,
        key: key.public(),
        from: now(),
        until: days(until),
        purpose,
        points: &POINTS,
    }
}

fn root() -> Authority {
    let key = key();
    let purpose = Purpose::Authority { path_length: 1, domain: None };
    let certificate = certificate::root(&wanted(&key, "root", &[], purpose, 400), &key, &random()).unwrap();
    Authority { key, certificate }
}

fn leaf(by: &Authority, purpose: Purpose) -> (PrivateKey, Certificate) {
    let key = key();
    let made = certificate::issue(&wanted(&key, "mara/phone", &[], purpose, 90), &by.issuer(), &random()).unwrap();
    (key, made)
}

/// Content with a tag and a DER length before it.
fn tlv(tag: u8, content: &[u8]) -> Vec<u8> {
    let mut out = vec![tag];
    if content.len() < 128 {
        out.push(content.len() as u8);
    } else {
        let bytes: Vec<_> = content.len().to_be_bytes().into_iter().skip_while(|byte| *byte == 0).collect();
        out.push(0x80 | bytes.len() as u8);
        out.extend(bytes);
    }
    out.extend_from_slice(content);
    out
}

/// The same certificate with another serial number; its signature does not hold any more, and it does not come to that.
fn with_serial(der: &[u8], serial: &[u8]) -> Vec<u8> {
    let before = [&[2, 16, 0x47][..], &[7; 15]].concat();
    let at = der.windows(before.len()).position(|part| part == before).unwrap() - 4;
    // SEQUENCE { tbs, algorithm, signature } with lengths of two octets each.
    let tbs_length = 4 + usize::from(u16::from_be_bytes([der[6], der[7]]));
    let (tbs, rest) = der[4..].split_at(tbs_length);
    let changed = [&tbs[4..at], &tlv(2, serial)[..], &tbs[at + before.len()..]].concat();
    tlv(0x30, &[&tlv(0x30, &changed)[..], rest].concat())
}

#[test]
fn hostile_certificates_are_refused_with_words_and_none_of_them_crashes() {
    let (_, good) = leaf(&root(), Purpose::Device);
    let der = good.der().to_vec();
    Certificate::from_der(&der).unwrap();
    Certificate::from_der(&with_serial(&der, &[0x47; 16])).unwrap();
    let altered = |at: usize, bytes: &[u8]| {
        let mut der = der.clone();
        der[at..at + bytes.len()].copy_from_slice(bytes);
        der
    };
    // A length in more octets than it needs is BER and not DER (X.690 section 10.1).
    let not_shortest = [&[0x30, 0x83, 0, der[2], der[3]][..], &der[4..]].concat();
    let table: Vec<(&str, Vec<u8>)> = vec![
        ("nothing", vec![]),
        ("one octet", vec![0x30]),
        ("a length beyond the end", altered(2, &[0xff, 0xff])),
        ("a length of four octets beyond the end", vec![0x30, 0x84, 0xff, 0xff, 0xff, 0xff]),
        ("an indefinite length", altered(1, &[0x80])),
        ("a length not in its shortest form", not_shortest),
        ("a SET in place of a SEQUENCE", altered(0, &[0x31])),
        ("an OCTET STRING in place of the inner SEQUENCE", altered(4, &[4])),
        ("something after the end", [&der[..], &[0]].concat()),
        ("a negative serial number", with_serial(&der, &[0x80, 1])),
        ("a serial number of nought", with_serial(&der, &[0])),
        ("a serial number that is too long", with_serial(&der, &[0x11; 22])),
        ("an empty serial number", with_serial(&der, &[])),
        ("depth", [0x30, 0x80].repeat(20_000)),
        ("a text", b"not a certificate at all, but long enough to be one".to_vec()),
        ("too much", vec![0x30; 2 * 1024 * 1024]),
    ];
    for (what, der) in &table {
        let problem = Certificate::from_der(der).err().unwrap_or_else(|| panic!("{what} was taken"));
        assert!(problem.why.is_some(), "{what}: {problem:?}");
    }
    for cut in 0..der.len() {
        assert!(Certificate::from_der(&der[..cut]).is_err(), "cut at {cut}");
    }
}

#[test]
fn ten_thousand_names_are_too_many() {
    let (root, key) = (root(), key());
    let names: Vec<_> = (0..10_000).map(|at| SubjectName::Host(format!("h{at}.skerry.example"))).collect();
    let wanted = wanted(&key, "many", &names, Purpose::Gateway, 90);
    let made = certificate::issue(&wanted, &root.issuer(), &random()).unwrap();
    assert!(Certificate::from_der(made.der()).unwrap_err().why.unwrap().contains("10000 names"));
}

#[test]
fn a_signature_by_anybody_else_and_any_altered_bit_is_noticed() {
    let (own, other) = (root(), root());
    let (_, made) = leaf(&own, Purpose::Device);
    made.check_signed_by(&own.certificate).unwrap();
    assert!(made.check_signed_by(&other.certificate).is_err(), "the same name, another key");
    for at in (0..made.der().len()).step_by(3) {
        let mut altered = made.der().to_vec();
        altered[at] ^= 0x04;
        if let Ok(read) = Certificate::from_der(&altered) {
            assert!(read.check_signed_by(&own.certificate).is_err(), "bit at {at}");
        }
    }
}

#[test]
fn chains_hold_only_whole_in_time_and_through_authorities() {
    let root = root();
    let below = || Purpose::Authority { path_length: 0, domain: None };
    let (own, middle) = leaf(&root, below());
    let issuing = Authority { key: own, certificate: middle };
    let (_, device) = leaf(&issuing, Purpose::Device);
    let chain = |parts: &[&Certificate]| parts.iter().map(|one| (*one).clone()).collect::<Vec<_>>();
    check_chain(&chain(&[&device, &issuing.certificate, &root.certificate]), now(), false).unwrap();
    let open = chain(&[&device, &issuing.certificate]);
    check_chain(&open, now(), true).unwrap();
    assert!(check_chain(&open, now(), false).is_err(), "no root");
    assert!(check_chain(&open, days(91), true).is_err(), "after the end");
    assert!(check_chain(&open, days(-1), true).is_err(), "before the beginning");
    assert!(check_chain(&chain(&[&device, &root.certificate]), now(), false).is_err(), "a link is missing");
    // A device that signs others is no authority, whatever it signed.
    let (own, plain) = leaf(&root, Purpose::Device);
    let rogue = Authority { key: own, certificate: plain };
    let (_, under) = leaf(&rogue, Purpose::Device);
    assert!(check_chain(&chain(&[&under, &rogue.certificate, &root.certificate]), now(), false).is_err());
    let key = key();
    let deeper = certificate::issue(&wanted(&key, "x", &[], below(), 30), &issuing.issuer(), &random());
    assert!(deeper.unwrap_err().why.unwrap().contains("path length"));
}

#[test]
fn a_clock_that_was_set_back_signs_nothing() {
    let (root, key) = (root(), key());
    let mut early = wanted(&key, "mara/phone", &[], Purpose::Device, 90);
    early.from = days(-2);
    let problem = certificate::issue(&early, &root.issuer(), &random()).unwrap_err();
    assert!(problem.tries[0].contains("clock"), "{problem:?}");
    let list = list::sign(&root.issuer(), 1, days(-2), days(2), vec![], &random());
    assert!(list.unwrap_err().tries[0].contains("clock"));
}

/// A question about a certificate of nobody (RFC 6960 section 4.1.1).
/// A question with extensions for all of it.
fn question_with(extensions: &[Vec<u8>]) -> Vec<u8> {
    let sha1 = tlv(0x30, &[&tlv(6, &[0x2b, 0x0e, 3, 2, 0x1a])[..], &[5, 0]].concat());
    let id = tlv(0x30, &[sha1, tlv(4, &[1; 20]), tlv(4, &[2; 20]), tlv(2, &[9])].concat());
    let list = tlv(0x30, &tlv(0x30, &id));
    tlv(0x30, &tlv(0x30, &[list, tlv(0xa2, &tlv(0x30, &extensions.concat()))].concat()))
}

fn question() -> Vec<u8> {
    let sha1 = tlv(0x30, &[&tlv(6, &[0x2b, 0x0e, 3, 2, 0x1a])[..], &[5, 0]].concat());
    let id = tlv(0x30, &[sha1, tlv(4, &[1; 20]), tlv(4, &[2; 20]), tlv(2, &[9])].concat());
    tlv(0x30, &tlv(0x30, &tlv(0x30, &tlv(0x30, &id))))
}

#[test]
fn lists_come_back_as_they_were_signed_and_answers_need_a_list_that_holds() {
    let root = root();
    let entry = |serial: &str, reason| Entry { serial: serial.into(), at: now(), reason };
    let entries = vec![
        entry("47070707070707070707070707070707", Reason::KeyCompromise),
        entry("01", Reason::Unspecified),
        entry("7f01", Reason::CertificateHold),
    ];
    let signed = list::sign(&root.issuer(), 300, now(), days(14), entries.clone(), &random()).unwrap();
    let read = List::read(signed.der(), &root.certificate).unwrap();
    assert_eq!((read.number, read.from, read.until, &read.entries), (300, now(), days(14), &entries));
    for cut in (0..signed.der().len()).step_by(7) {
        assert!(List::read(&signed.der()[..cut], &root.certificate).is_err());
    }
    assert!(List::read(signed.der(), &self::root().certificate).is_err(), "of another authority");
    let (own, delegated) = leaf(&root, Purpose::Responder);
    let responder = Responder::new(&root.certificate, delegated, own, signed, HashSet::new()).unwrap();
    let answered = |question: &[u8], at| responder.answer(question, at, &random()).der;
    assert_eq!(answered(b"what?", now()), [0x30, 3, 10, 1, 1], "malformed");
    assert!(is_question(&question()));
    assert_eq!(answered(&question(), days(15)), [0x30, 3, 10, 1, 3], "try later");
    assert!(answered(&question(), now()).len() > 300);
    // A nonce of 1 to 128 octets comes back (RFC 9654); what would have to be understood and is not is refused (RFC 6960 section 4.4).
    let nonce = |length: usize, critical: bool| {
        let oid = tlv(6, &[0x2b, 6, 1, 5, 5, 7, 0x30, 1, 2]);
        let flag = if critical { vec![1, 1, 0xff] } else { vec![] };
        let value = tlv(4, &tlv(4, &vec![0x5a; length]));
        (tlv(0x30, &[oid, flag, value.clone()].concat()), value)
    };
    for (length, taken) in [(0, false), (1, true), (16, true), (32, true), (128, true), (129, false)] {
        for critical in [false, true] {
            let (extension, value) = nonce(length, critical);
            let answer = answered(&question_with(&[extension]), now());
            let there = answer.windows(value.len()).any(|part| part == value);
            assert_eq!((there, answer == [0x30, 3, 10, 1, 1]), (taken, !taken), "{length}");
        }
    }
    let unknown = |flag: &[u8]| tlv(0x30, &[&tlv(6, &[0x2b, 6, 1, 4, 1, 0x7f])[..], flag, &tlv(4, &[5, 0])].concat());
    assert!(answered(&question_with(&[unknown(&[])]), now()).len() > 300);
    assert_eq!(answered(&question_with(&[unknown(&[1, 1, 0xff])]), now()), [0x30, 3, 10, 1, 1]);
    // Who was not delegated does not answer.
    let (own, device) = leaf(&root, Purpose::Device);
    let list = list::sign(&root.issuer(), 1, now(), days(1), vec![], &random()).unwrap();
    assert!(Responder::new(&root.certificate, device, own, list, HashSet::new()).is_err());
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(300))]
    #[test]
    fn no_bytes_make_a_reader_fail(bytes in proptest::collection::vec(any::<u8>(), 0..400)) {
        let _ = Certificate::from_der(&bytes);
        let _ = request::read(&bytes);
        let _ = is_question(&bytes);
        let _ = bring::read(&bytes, &mut || Ok("x".to_owned().into()), &random());
        let _ = yestrel_core::x509::blocks(&String::from_utf8_lossy(&bytes));
    }

    #[test]
    fn no_altered_certificate_makes_a_reader_fail(at in 0_usize..2000, to in any::<u8>(), cut in 0_usize..3) {
        static GOOD: LazyLock<Vec<u8>> = LazyLock::new(|| root().certificate.der().to_vec());
        let mut der = GOOD.clone();
        let length = der.len();
        der[at % length] = to;
        der.truncate(length - cut);
        if let Ok(read) = Certificate::from_der(&der) {
            let _ = (read.names(), read.fingerprint(), read.is_authority(), read.domain(), read.common_name());
            let _ = read.check_signed_by(&read);
        }
    }
}
