//! Handovers, as they reach a device.
#![no_main]

use libfuzzer_sys::fuzz_target;

fuzz_target!(|text: &str| {
    let _ = yestrel_core::handover::Handover::read(text);
});
