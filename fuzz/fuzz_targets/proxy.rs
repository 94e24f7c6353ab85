//! What a program on a device says to the proxy: whatever it is, the answer is short.
#![no_main]

use libfuzzer_sys::fuzz_target;

fuzz_target!(|bytes: &[u8]| {
    let (_, answered) = yestrel_device::proxy::reads(bytes);
    assert!(answered <= 64, "{answered}");
});
