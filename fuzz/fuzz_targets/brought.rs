//! Keys and certificates that were made elsewhere: PEM, DER, PKCS#12.
#![no_main]

use libfuzzer_sys::fuzz_target;

fuzz_target!(|bytes: &[u8]| {
    let mut ask = || Ok(zeroize::Zeroizing::new("x".to_owned()));
    if let Ok(brought) = yestrel_core::x509::bring::read(bytes, &mut ask, &ring::rand::SystemRandom::new()) {
        let _ = brought.check_authority(jiff::Timestamp::now());
    }
});
