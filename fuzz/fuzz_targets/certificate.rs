//! Certificates and everything that is read off them.
#![no_main]

use libfuzzer_sys::fuzz_target;
use yestrel_core::x509::Certificate;
use yestrel_core::x509::list::List;

fuzz_target!(|bytes: &[u8]| {
    if let Ok(read) = Certificate::read(bytes) {
        let _ = (read.names(), read.fingerprint(), read.is_authority(), read.signs_lists(), read.domain(), read.path_length());
        let _ = (read.common_name(), read.subject(), read.serial(), read.key_id(), read.is_root());
        let _ = List::read(bytes, &read);
    }
});
