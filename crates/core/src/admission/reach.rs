//! What remains of several limits to where a device may go: handover, listener, policy, its own rules. Nothing widens.

use std::net::{Ipv4Addr, Ipv6Addr};

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
