//! Public and private keys of devices as files (RFC 8410), sealed secrets in orders, questions of commands to agents and devices.
#![no_main]

use libfuzzer_sys::fuzz_target;
use yestrel_core::exchange::{agent, device};
use yestrel_core::keys::KeyPair;
use yestrel_core::sealed::Sealed;
use yestrel_core::x509::agreement;

fuzz_target!(|bytes: &[u8]| {
    let _ = agreement::read_public(bytes);
    let _ = agreement::read_private(bytes);
    let _ = serde_json::from_slice::<agent::Ask>(bytes);
    let _ = serde_json::from_slice::<device::Ask>(bytes);
    if let Ok(sealed) = serde_json::from_slice::<Sealed>(bytes) {
        assert!(sealed.open(&KeyPair::from_random([3; 32]).private, "fuzz").is_err(), "nobody guesses a seal");
    }
});
