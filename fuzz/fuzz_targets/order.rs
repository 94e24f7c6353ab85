//! Orders and what was amended of them, as they reach an agent before their signature was checked; and looking some devices up in a text.
#![no_main]

use std::collections::BTreeSet;

use libfuzzer_sys::fuzz_target;
use yestrel_core::keys::PublicKey;
use yestrel_core::order::{Envelope, SignedAmendment, excerpt};

fuzz_target!(|text: &str| {
    let names: BTreeSet<String> = ["mara/laptop", "tomas/tablet", "a/b"].map(str::to_owned).into();
    let _ = excerpt(text, &names, &names);
    let Some(envelope) = envelope(text) else { return };
    let _ = envelope.verify(&PublicKey([9; 32]));
    for amendment in &envelope.amendments {
        let _ = amendment.verify(&PublicKey([9; 32]));
    }
    let Ok(order) = envelope.read() else { return };
    // What is looked up in the text of a whole order is what stands in it, or it must be read whole.
    if envelope.amendments.is_empty()
        && serde_json::to_value(&order).is_ok_and(|value| value.to_string() == envelope.order)
        && let Some(found) = excerpt(&envelope.order, &names, &names)
    {
        let theirs = order.content.admit.iter().filter(|admit| names.contains(&admit.device)).count();
        assert_eq!(found.admit.len(), theirs);
    }
});

/// The text of an order, its signature, and then amendments with theirs, a line each.
fn envelope(text: &str) -> Option<Envelope> {
    let mut lines = text.lines();
    let (order, signature) = (lines.next()?.into(), lines.next()?.into());
    let mut amendments = Vec::new();
    while let Some(amendment) = lines.next() {
        amendments.push(SignedAmendment { amendment: amendment.into(), signature: lines.next().unwrap_or_default().into() });
    }
    Some(Envelope { order, signature, successor_signature: None, amendments })
}
