//! Orders, as they reach an agent before their signature was checked.
#![no_main]

use libfuzzer_sys::fuzz_target;
use yestrel_core::keys::PublicKey;
use yestrel_core::order::Envelope;

fuzz_target!(|text: &str| {
    if let Ok(envelope) = serde_envelope(text) {
        let _ = envelope.read();
        let _ = envelope.verify(&PublicKey([9; 32]));
    }
});

fn serde_envelope(text: &str) -> Result<Envelope, ()> {
    let (order, signature) = text.split_once('\n').ok_or(())?;
    Ok(Envelope { order: order.into(), signature: signature.into(), successor_signature: None })
}
