//! What remains of several limits to where a device may go: handover, listener, policy, its own rules. Nothing widens.

use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};

use ipnet::{IpNet, Ipv4Net, Ipv6Net};

/// The ranges that lie in every one of `limits`, as few as say it; with no limits, nothing.
#[must_use]
pub fn within(limits: &[&[IpNet]]) -> Vec<IpNet> {
    let Some((first, rest)) = limits.split_first() else { return Vec::new() };
    rest.iter().fold(IpNet::aggregate(&first.to_vec()), |have, limit| {
        let common = have.iter().flat_map(|range| limit.iter().filter_map(move |most| common(range, most)));
        IpNet::aggregate(&common.collect())
    })
}

/// What two ranges have in common: the narrower, or nothing.
fn common(one: &IpNet, other: &IpNet) -> Option<IpNet> {
    if other.contains(one) {
        Some(*one)
    } else if one.contains(other) {
        Some(*other)
    } else {
        None
    }
}

/// Whether a reach is everything there is in an IP version.
#[must_use]
pub fn is_everything(reach: &[IpNet]) -> bool {
    reach.contains(&IpNet::V4(Ipv4Net::new_assert(Ipv4Addr::UNSPECIFIED, 0)))
        || reach.contains(&IpNet::V6(Ipv6Net::new_assert(Ipv6Addr::UNSPECIFIED, 0)))
}

/// Ranges that no reach means unless it names them, however wide it is (RFC 6890): the sender's own machine, the link, multicast,
/// what is reserved.
const SPECIAL: [IpNet; 10] = [
    four(0, 0, 8),
    four(127, 0, 8),
    four(169, 254, 16),
    four(224, 0, 4),
    four(240, 0, 4),
    six(0, 0, 96),
    six(0, 0xffff, 96),
    six(0xfe80, 0, 10),
    six(0xfec0, 0, 10),
    six(0xff00, 0, 8),
];

const fn four(first: u8, second: u8, length: u8) -> IpNet {
    IpNet::V4(Ipv4Net::new_assert(Ipv4Addr::new(first, second, 0, 0), length))
}

const fn six(first: u16, sixth: u16, length: u8) -> IpNet {
    IpNet::V6(Ipv6Net::new_assert(Ipv6Addr::new(first, 0, 0, 0, 0, sixth, 0, 0), length))
}

/// Where inner packets of one device may go.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Bounds {
    /// The gateway's own addresses in the device's pools; what is open there is the firewall's to say.
    gateways: Vec<IpAddr>,
    reach: Vec<IpNet>,
    /// The pools of the gateway: other devices are no part of a site, unless a reach names them.
    pools: Vec<IpNet>,
}

impl Bounds {
    /// For a device that reaches `reach`, at a gateway that has these addresses in its pools and these pools in all.
    #[must_use]
    pub fn new(gateways: Vec<IpAddr>, reach: &[IpNet], pools: &[IpNet]) -> Self {
        Self { gateways, reach: reach.to_vec(), pools: pools.to_vec() }
    }

    /// Whether a packet may go to this address.
    #[must_use]
    pub fn lets(&self, destination: IpAddr) -> bool {
        if self.gateways.contains(&destination) {
            return true;
        }
        let mut special = SPECIAL.iter().chain(&self.pools).filter(|range| range.contains(&destination));
        match special.next() {
            Some(special) => self.reach.iter().any(|range| range.contains(&destination) && special.contains(range)),
            None => self.reach.iter().any(|range| range.contains(&destination)),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn ranges(texts: &[&str]) -> Vec<IpNet> {
        texts.iter().map(|text| text.parse().unwrap()).collect()
    }

    #[test]
    fn a_device_reaches_what_every_limit_allows() {
        let cases: [(&[&str], &[&str], &[&str]); 8] = [
            (&["10.44.0.0/22"], &["10.44.0.0/22"], &["10.44.0.0/22"]),
            (&["0.0.0.0/0"], &["10.44.0.0/22"], &["10.44.0.0/22"]),
            (&["10.44.0.0/24"], &["10.44.0.0/22"], &["10.44.0.0/24"]),
            (&["10.48.0.0/24"], &["10.44.0.0/22"], &[]),
            (&["2001:db8:44::/48", "10.44.0.0/22"], &["2001:db8::/32"], &["2001:db8:44::/48"]),
            (&["10.44.0.20/32"], &["10.44.0.0/22"], &["10.44.0.20/32"]),
            (&["10.45.0.0/24", "10.44.1.0/24"], &["10.44.0.0/22"], &["10.44.1.0/24"]),
            (&["10.44.0.0/23", "10.44.2.0/23"], &["0.0.0.0/0"], &["10.44.0.0/22"]),
        ];
        for (one, other, both) in cases {
            assert_eq!(within(&[&ranges(one), &ranges(other)]), ranges(both), "{one:?} {other:?}");
        }
        assert_eq!(within(&[]), []);
        assert_eq!(within(&[&ranges(&["0.0.0.0/0"]), &ranges(&["10.0.0.0/8"]), &ranges(&["10.44.0.0/22"])]).len(), 1);
    }

    #[test]
    fn a_reach_means_what_it_names_and_never_other_devices_the_machine_or_the_link() {
        let bounds = |reach: &[&str]| {
            let gateways = vec!["10.187.44.1".parse().unwrap(), "fd01:203:405::1".parse().unwrap()];
            Bounds::new(gateways, &ranges(reach), &ranges(&["10.187.44.0/24", "10.190.0.0/29", "fd01:203:405::/64"]))
        };
        let lets = |reach: &[&str], to: &str| bounds(reach).lets(to.parse().unwrap());
        let everything = ["0.0.0.0/0", "::/0"];
        for to in ["192.0.2.80", "10.44.0.20", "10.187.45.1", "10.187.44.1", "2001:db8::1", "fd01:203:405::1"] {
            assert!(lets(&everything, to), "{to}");
        }
        for to in [
            "10.187.44.2",
            "10.190.0.3",
            "127.0.0.1",
            "127.9.9.9",
            "0.0.0.0",
            "169.254.169.254",
            "224.0.0.251",
            "255.255.255.255",
            "fd01:203:405::2",
            "::1",
            "::",
            "::ffff:127.0.0.1",
            "::ffff:10.44.0.20",
            "fe80::1",
            "ff02::fb",
        ] {
            assert!(!lets(&everything, to), "{to}");
        }
        // Named, they are meant.
        assert!(lets(&["10.187.44.0/24"], "10.187.44.2") && lets(&["10.187.44.9/32"], "10.187.44.9"));
        assert!(lets(&["169.254.7.0/24"], "169.254.7.1") && !lets(&["169.254.7.0/24"], "169.254.169.254"));
        // And a site is a site.
        assert!(lets(&["10.44.0.0/22"], "10.44.3.255") && !lets(&["10.44.0.0/22"], "10.44.4.0"));
        assert!(lets(&[], "10.187.44.1") && !lets(&[], "10.44.0.20"));
    }

    #[test]
    fn everything_is_known_as_such() {
        assert!(is_everything(&ranges(&["0.0.0.0/0"])) && is_everything(&ranges(&["::/0"])));
        assert!(!is_everything(&ranges(&["0.0.0.0/1", "128.0.0.0/2"])));
    }

    proptest! {
        /// Whatever the limits are, an address is reached exactly where each of them reaches it.
        #[test]
        fn nothing_widens(
            limits in proptest::collection::vec(proptest::collection::vec((0_u32..64, 26_u8..=32), 0..5), 1..4),
            address in 0_u32..64,
        ) {
            let limits: Vec<Vec<IpNet>> = limits.iter().map(|limit| {
                limit.iter().map(|(low, length)| {
                    IpNet::V4(Ipv4Net::new_assert(Ipv4Addr::from(0x0a2c_0000 + low), *length).trunc())
                }).collect()
            }).collect();
            let address = std::net::IpAddr::V4(Ipv4Addr::from(0x0a2c_0000 + address));
            let slices: Vec<_> = limits.iter().map(Vec::as_slice).collect();
            let reached = within(&slices).iter().any(|range| range.contains(&address));
            prop_assert_eq!(reached, limits.iter().all(|limit| limit.iter().any(|range| range.contains(&address))));
        }
    }
}
