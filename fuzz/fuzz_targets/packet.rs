//! Inner packets, as the other end of a tunnel may make them.
#![no_main]

use libfuzzer_sys::fuzz_target;
use yestrel_core::admission::Bounds;
use yestrel_net::packets::ends;

fuzz_target!(|bytes: &[u8]| {
    if let Some((source, destination)) = ends(bytes) {
        assert_eq!(source.is_ipv4(), destination.is_ipv4());
        let everything = ["0.0.0.0/0", "::/0"].map(|text| text.parse().expect("a range"));
        let pools = ["10.187.44.0/24", "fd01:203:405::/64"].map(|text| text.parse().expect("a range"));
        let bounds = Bounds::new(vec![], &everything, &pools);
        assert!(!(bounds.lets(destination) && pools.iter().any(|pool: &ipnet::IpNet| pool.contains(&destination))));
    }
});
