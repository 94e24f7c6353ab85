//! Questions and answers of the domain name system, resolver files, names and ranges that people type.
#![no_main]

use libfuzzer_sys::fuzz_target;
use yestrel_net::names;

fuzz_target!(|bytes: &[u8]| {
    let _ = names::asked_for(bytes);
    let _ = names::addresses(7, bytes);
    if let Ok(text) = std::str::from_utf8(bytes) {
        let _ = names::resolvers(text);
        let _ = yestrel_core::name::dialled(text);
        if let Ok(domain) = yestrel_core::name::domain(text) {
            assert_eq!(yestrel_core::name::domain(&domain).ok(), Some(domain));
        }
        let _ = yestrel_core::pool::range(text);
    }
});
