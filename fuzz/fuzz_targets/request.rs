//! Requests that devices make.
#![no_main]

use libfuzzer_sys::fuzz_target;

fuzz_target!(|bytes: &[u8]| {
    if let Ok(read) = yestrel_core::x509::request::read(bytes) {
        let _ = read.check_names(&["mara".into()]);
    }
});
