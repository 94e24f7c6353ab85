//! Amendments come to the same as whole orders, and nobody else's are taken.

use std::collections::{BTreeMap, BTreeSet};

use proptest::prelude::*;

use super::*;
use crate::admission::{Roll, Shown};
use crate::keys::PublicKey;
use crate::sample::{self, at, content as sample, signing as secret};

/// Who could be in an order: devices with a key of their own at one of two listeners, suspended or not.
fn people() -> impl Strategy<Value = BTreeMap<(u8, bool), bool>> {
    proptest::collection::btree_map((0_u8..12, any::<bool>()), any::<bool>(), 0..12)
}

fn content(people: &BTreeMap<(u8, bool), bool>, revoked: &BTreeSet<u8>) -> Content {
    let mut content = sample();
    let second = OrderListener { name: "harbour/second".into(), ..content.listeners[0].clone() };
    content.listeners.push(second);
    content.admit.clear();
    for ((key, second), suspended) in people {
        if revoked.contains(key) {
            continue;
        }
        // Two keys share a device.
        let mut admit = sample::admit(&format!("mara/{}", key / 2), *key + 1);
        admit.at = Some(if *second { "harbour/second" } else { "harbour/quill" }.into());
        admit.suspended = *suspended;
        content.admit.push(admit);
    }
    content.admit.sort_by(Admit::in_order);
    for key in revoked {
        let one = Revoked { device: format!("mara/{}", key / 2), reason: "lost".into() };
        content.revoked.insert(PublicKey([*key + 1; 32]).to_string(), one);
    }
    content
}

fn amendment(number: u64, previous: &str, amends: Amends) -> SignedAmendment {
    Amendment::new("estate-1", "harbour", number, previous, at(), amends).sign(&secret()).unwrap()
}

proptest! {
    /// Whatever becomes of people from order to order, the amended order is the whole one; so is what an agent finds in it.
    #[test]
    fn amended_orders_are_the_whole_ones(steps in proptest::collection::vec((people(), proptest::collection::btree_set(0_u8..12, 0..3)), 1..6)) {
        let mut revoked = BTreeSet::new();
        let mut was = content(&BTreeMap::new(), &revoked);
        let mut envelope = sign("estate-1", 7, "before", at(), was.clone(), &secret()).unwrap();
        let mut roll = Roll::new(was.clone());
        for (number, (people, more)) in (8..).zip(steps) {
            revoked.extend(more);
            let is = content(&people, &revoked);
            let amends = amendable(&was, &is).unwrap();
            let signed = amendment(number, &envelope.hash(), amends);
            roll = roll.amended(&signed.read().unwrap());
            envelope.amendments.push(signed);
            let order = envelope.verify(&signer(&secret()).unwrap()).unwrap();
            prop_assert_eq!((order.number, &order.content), (number, &is));
            let whole = Roll::new(is.clone());
            prop_assert_eq!(roll.admitted(), whole.admitted());
            for key in 0..12 {
                let identity = PublicKey([key + 1; 32]);
                for listener in ["harbour/quill", "harbour/second"] {
                    prop_assert_eq!(roll.find(listener, Shown::Key(identity)), whole.find(listener, Shown::Key(identity)));
                    prop_assert!(roll.find(listener, Shown::Certificate(identity)).is_none());
                }
                prop_assert_eq!(roll.device_of(&identity), whole.device_of(&identity));
                let device = format!("mara/{key}");
                let of = |roll: &Roll| { let mut all: Vec<_> = roll.of_device(&device).collect(); all.sort_by(Admit::in_order); all };
                prop_assert_eq!(of(&roll), of(&whole));
            }
            was = is;
        }
    }

    /// What is looked up in the text of an order is what stands in it, whatever devices are called.
    #[test]
    fn an_excerpt_is_what_stands_there(names in proptest::collection::btree_set("[a-z\"{}\\\\:]{1,4}/[a-z\"{}]{1,3}", 1..6), asked in proptest::collection::btree_set("[a-z\"{}]{1,4}/[a-z\"{}]{1,3}", 0..3)) {
        let mut content = sample();
        content.admit = (1..).zip(&names).map(|(key, name)| sample::admit(name, key)).collect();
        content.revoked.insert("key".into(), Revoked { device: names.first().unwrap().clone(), reason: "\"device\":\"x\"".into() });
        content.admit.sort_by(Admit::in_order);
        let text = sign("estate-1", 7, "before", at(), content.clone(), &secret()).unwrap().order;
        for devices in [asked, names.iter().take(2).cloned().collect()] {
            let admit: Vec<_> = content.admit.iter().filter(|admit| devices.contains(&admit.device)).cloned().collect();
            // Names that an estate cannot have may make it ask for the whole; never for something else.
            if let Some(found) = excerpt(&text, &devices, &["key".into(), "another".into()].into()) {
                prop_assert_eq!(found, Excerpt { admit, revoked: content.revoked.clone() });
            }
        }
    }

    #[test]
    fn no_altered_amendment_verifies(at in 0_usize..2000, bit in 0_u8..7) {
        let signer = signer(&secret()).unwrap();
        let amends = Amends { devices: ["mara/laptop".into()].into(), ..Amends::default() };
        let mut signed = amendment(8, "before", amends);
        let mut bytes = signed.amendment.into_bytes();
        let at = at % bytes.len();
        bytes[at] ^= 1 << bit;
        prop_assume!(std::str::from_utf8(&bytes).is_ok());
        signed.amendment = String::from_utf8(bytes).unwrap();
        prop_assert!(signed.verify(&signer).is_err());
    }
}

#[test]
fn an_excerpt_of_common_names_needs_no_whole_order() {
    let text = sign("estate-1", 7, "before", at(), sample(), &secret()).unwrap().order;
    let found = excerpt(&text, &["mara/laptop".into(), "nobody/phone".into()].into(), &BTreeSet::new()).unwrap();
    assert_eq!(found.admit, [sample::admit("mara/laptop", 1)]);
}

#[test]
fn what_is_more_than_people_is_no_amendment() {
    let was = sample();
    let mut is = sample();
    is.admit.clear();
    assert!(amendable(&was, &is).is_some());
    is.masquerade = false;
    assert_eq!(amendable(&was, &is), None);
    // Revocations only grow: where one is missing, the whole must say so.
    let mut before = sample();
    before.revoked.insert("key".into(), Revoked { device: "mara/laptop".into(), reason: "lost".into() });
    assert_eq!(amendable(&before, &sample()), None);
}

#[test]
fn amendments_out_of_sequence_of_others_or_of_later_are_refused() {
    let whole = sign("estate-1", 7, "before", at(), sample(), &secret()).unwrap();
    let key = signer(&secret()).unwrap();
    let amends = || Amends { devices: ["mara/laptop".into()].into(), ..Amends::default() };
    let with = |amendments: Vec<SignedAmendment>| Envelope { amendments, ..whole.clone() }.verify(&key);
    let first = amendment(8, &whole.hash(), amends());
    let second = amendment(9, &first.hash(), amends());
    assert_eq!(with(vec![first.clone(), second.clone()]).unwrap().number, 9);
    for wrong in [
        vec![second.clone()],
        vec![second.clone(), first.clone()],
        vec![first.clone(), first.clone()],
        vec![amendment(9, &whole.hash(), amends())],
        vec![amendment(8, "another", amends())],
    ] {
        assert!(with(wrong).unwrap_err().error.contains("does not continue"));
    }
    let foreign = |estate: &str, gateway: &str| {
        Amendment::new(estate, gateway, 8, &whole.hash(), at(), amends()).sign(&secret()).unwrap()
    };
    assert!(with(vec![foreign("estate-2", "harbour")]).is_err());
    assert!(with(vec![foreign("estate-1", "boatyard")]).is_err());
    let by_another = Amendment::new("estate-1", "harbour", 8, &whole.hash(), at(), amends())
        .sign(&crate::keys::Secret::new(vec![66; 32]))
        .unwrap();
    assert!(with(vec![by_another]).unwrap_err().error.contains("not signed"));
    let mut stray = Amendment::new("estate-1", "harbour", 8, &whole.hash(), at(), amends());
    stray.admit.push(sample::admit("oskar/phone", 9));
    assert!(with(vec![stray.sign(&secret()).unwrap()]).unwrap_err().error.contains("does not name"));
    let mut later = Amendment::new("estate-1", "harbour", 8, &whole.hash(), at(), amends());
    later.needs.insert("weather".into());
    assert!(with(vec![later.sign(&secret()).unwrap()]).unwrap_err().error.contains("\"weather\""));
    // An order is no amendment, and the other way round.
    let order_as = SignedAmendment { amendment: whole.order.clone(), signature: whole.signature.clone() };
    assert!(order_as.verify(&key).unwrap_err().error.contains("format"));
    let as_order = Envelope { order: first.amendment, signature: first.signature, ..whole };
    assert!(as_order.verify(&key).unwrap_err().error.contains("format"));
}
