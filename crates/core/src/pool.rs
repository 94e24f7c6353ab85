//! Ranges of addresses: whether they can be used, what they collide with, and which is free.

use std::collections::BTreeSet;
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};

use ipnet::{IpNet, Ipv4Net, Ipv6Net};

use crate::{Problem, Result};

/// Where home routers commonly put their networks. A pool or site there cannot be told apart from what many devices
/// are sitting in.
const HOME: [&str; 12] = [
    "192.168.0.0/24",
    "192.168.1.0/24",
    "192.168.2.0/24",
    "192.168.8.0/24",
    "192.168.10.0/24",
    "192.168.50.0/24",
    "192.168.86.0/24",
    "192.168.100.0/24",
    "192.168.178.0/24",
    "10.0.0.0/24",
    "10.0.1.0/24",
    "172.17.0.0/16",
];

/// Reads a range such as `10.44.0.0/22`; a lone address is a range of one.
///
/// # Errors
/// Not a range, or host bits set: then the range that was probably meant is offered.
pub fn range(text: &str) -> Result<IpNet> {
    let parsed = text.parse::<IpNet>().ok().or_else(|| text.parse::<IpAddr>().ok().map(IpNet::from));
    let Some(range) = parsed else {
        return Err(Problem::words(format!("{text:?} is not a range of addresses"))
            .why("a range is an address and a prefix length, such as 10.44.0.0/22"));
    };
    if range.addr() != range.network() {
        return Err(Problem::words(format!("{text} does not begin on its boundary"))
            .why(format!("a /{} that contains {} begins at {}", range.prefix_len(), range.addr(), range.network()))
            .try_(range.trunc().to_string()));
    }
    Ok(range)
}

/// Whether a device can have an address of a pool: neither its first, its last, nor the gateway's.
#[must_use]
pub fn usable(pool: &Ipv4Net, address: Ipv4Addr) -> bool {
    let ends = [pool.network(), pool.broadcast(), gateway_address(pool)];
    pool.contains(&address) && !ends.contains(&address)
}

/// Whether two ranges share an address.
#[must_use]
pub fn overlap(a: &IpNet, b: &IpNet) -> bool {
    a.contains(b) || b.contains(a)
}

/// The common home range that `range` collides with, if any.
#[must_use]
pub fn common_at_home(range: &IpNet) -> Option<IpNet> {
    HOME.iter().filter_map(|home| home.parse().ok()).find(|home| overlap(home, range))
}

/// Something that already uses a range, for messages: "the network 10.44.0.0/22 of the site harbour".
#[derive(Debug, Clone)]
pub struct Taken {
    /// The range.
    pub range: IpNet,
    /// What it is, in words, without the range: "the network {} of the site harbour".
    pub what: String,
}

fn private(range: &IpNet) -> bool {
    ["10.0.0.0/8", "172.16.0.0/12", "192.168.0.0/16", "100.64.0.0/10"]
        .iter()
        .filter_map(|text| text.parse::<IpNet>().ok())
        .any(|whole| whole.contains(range))
}

/// Checks a range as a listener's pool: private IPv4, room for at least two devices, no overlap.
///
/// # Errors
/// Says what is wrong; where another range would do, offers one that is free.
pub fn check(pool: &IpNet, taken: &[Taken]) -> Result<Ipv4Net> {
    let offer = || offer(taken).map(|free| format!("--pool {free}, which is free"));
    let with_offer = |problem: Problem| match offer() {
        Some(free) => problem.try_(free),
        None => problem,
    };
    let IpNet::V4(four) = pool else {
        return Err(with_offer(
            Problem::refused(format!("the pool {pool} is an IPv6 range"))
                .why("this version gives out IPv4 inner addresses; the tunnel itself runs over IPv4 and IPv6"),
        ));
    };
    if !private(pool) {
        return Err(with_offer(
            Problem::refused(format!("the pool {pool} is not in a private range"))
                .why("those addresses belong to somebody; RFC 1918 and RFC 6598 set ranges aside for this"),
        ));
    }
    if four.prefix_len() > 29 {
        return Err(Problem::refused(format!("the pool {pool} is too small"))
            .why("it must hold the gateway and a few devices: /29 at least")
            .try_(format!("{}/24", Ipv4Net::new_assert(four.addr(), 24).network())));
    }
    if four.prefix_len() < 12 {
        return Err(with_offer(
            Problem::refused(format!("the pool {pool} is larger than any gateway can serve"))
                .why("every address in it becomes unreachable for devices outside the tunnel; /12 is the largest"),
        ));
    }
    if let Some(other) = taken.iter().find(|other| overlap(&other.range, pool)) {
        return Err(with_offer(
            Problem::refused(format!(
                "the pool {pool} overlaps {}",
                other.what.replace("{}", &other.range.to_string())
            ))
            .why("devices could not tell the tunnel's addresses from the others"),
        ));
    }
    Ok(*four)
}

/// A /24 that collides with nothing in `taken` and with no common home range; the same question gets the
/// same answer.
#[must_use]
pub fn offer(taken: &[Taken]) -> Option<IpNet> {
    let second = (187..=254).chain(64..187);
    let candidates =
        second.flat_map(|second| (44..=254).chain(0..44).map(move |third| Ipv4Addr::new(10, second, third, 0)));
    // By their first and last address, in order and joined, so that each candidate costs one look-up.
    let mut ranges: Vec<(u32, u32)> = taken
        .iter()
        .filter_map(|other| match other.range {
            IpNet::V4(four) => Some((u32::from(four.network()), u32::from(four.broadcast()))),
            IpNet::V6(_) => None,
        })
        .collect();
    ranges.sort_unstable();
    let mut joined: Vec<(u32, u32)> = Vec::with_capacity(ranges.len());
    for (first, last) in ranges {
        match joined.last_mut() {
            Some(before) if first <= before.1 => before.1 = before.1.max(last),
            _ => joined.push((first, last)),
        }
    }
    let is_free = |candidate: &Ipv4Net| {
        let (first, last) = (u32::from(candidate.network()), u32::from(candidate.broadcast()));
        let at = joined.partition_point(|range| range.1 < first);
        joined.get(at).is_none_or(|range| range.0 > last)
    };
    candidates.map(|start| Ipv4Net::new_assert(start, 24)).find(is_free).map(IpNet::V4)
}

/// The gateway's own address in a pool: the first that is not the network's.
#[must_use]
pub fn gateway_address(pool: &Ipv4Net) -> Ipv4Addr {
    Ipv4Addr::from(u32::from(pool.network()) + 1)
}

/// A pool of unique local IPv6 addresses (RFC 4193 section 3.1): a /64 in a /48 that is drawn at random.
#[must_use]
pub fn unique_local(random: [u8; 5]) -> Ipv6Net {
    let [a, b, c, d, e] = random;
    let pair = |high: u8, low: u8| u16::from_be_bytes([high, low]);
    Ipv6Net::new_assert(Ipv6Addr::new(pair(0xfd, a), pair(b, c), pair(d, e), 0, 0, 0, 0, 0), 64)
}

/// Checks a range as a listener's IPv6 pool beside its IPv4 pool: room for as many, no overlap. Routable ranges are fine here: a site may route
/// one of its own to the gateway.
///
/// # Errors
/// Says what is wrong.
pub fn check6(pool6: &IpNet, pool: &Ipv4Net, taken: &[Taken]) -> Result<Ipv6Net> {
    let drawn = "leave --pool6 out: a unique local range is drawn";
    let IpNet::V6(six) = pool6 else {
        return Err(Problem::words(format!("{pool6} is no IPv6 range")).try_(drawn));
    };
    let special = ["::/16", "fe80::/10", "fec0::/10", "ff00::/8", "2002::/16"];
    if special.iter().filter_map(|text| text.parse::<IpNet>().ok()).any(|special| overlap(&special, pool6)) {
        return Err(Problem::refused(format!("the pool {pool6} means something else everywhere"))
            .why("devices need unique local addresses (fd00::/8, RFC 4193), or some of the site's own")
            .try_(drawn));
    }
    if six.prefix_len() < 32 || 128 - six.prefix_len() < 32 - pool.prefix_len() {
        return Err(Problem::refused(format!("the pool {pool6} does not fit beside {pool}"))
            .why(format!("each device has an address in both: /32 to /{}", 96 + pool.prefix_len()))
            .try_(drawn));
    }
    if let Some(other) = taken.iter().find(|other| overlap(&other.range, pool6)) {
        return Err(Problem::refused(format!(
            "the pool {pool6} overlaps {}",
            other.what.replace("{}", &other.range.to_string())
        ))
        .why("devices could not tell the tunnel's addresses from the others")
        .try_(drawn));
    }
    Ok(*six)
}

/// The gateway's own address in an IPv6 pool.
#[must_use]
pub fn gateway_address6(pool6: &Ipv6Net) -> Ipv6Addr {
    Ipv6Addr::from(u128::from(pool6.network()) + 1)
}

/// A device's IPv6 address: as far into the IPv6 pool as its IPv4 address is into that pool, so that one says the other.
#[must_use]
pub fn beside(inner: Ipv4Addr, pool: &Ipv4Net, pool6: &Ipv6Net) -> Ipv6Addr {
    let offset = u32::from(inner).wrapping_sub(u32::from(pool.network()));
    Ipv6Addr::from(u128::from(pool6.network()) + u128::from(offset))
}

/// How many devices a pool holds.
#[must_use]
pub fn room(pool: &Ipv4Net) -> u32 {
    (1_u32 << (32 - u32::from(pool.prefix_len()))).saturating_sub(3)
}

/// The addresses of a pool that a device can have, as numbers: from the first to below the second.
#[must_use]
pub fn numbers(pool: &Ipv4Net) -> (u32, u32) {
    (u32::from(pool.network()) + 2, u32::from(pool.broadcast()))
}

/// The lowest free address of `pool` for a device, given those in use. Network, gateway and broadcast are never
/// given out.
///
/// # Errors
/// The pool is full.
pub fn next_free(listener: &str, pool: &Ipv4Net, used: &BTreeSet<Ipv4Addr>) -> Result<Ipv4Addr> {
    let (first, below) = numbers(pool);
    let mut candidate = first;
    for address in used.range(Ipv4Addr::from(first)..Ipv4Addr::from(below)) {
        if u32::from(*address) != candidate {
            break;
        }
        candidate += 1;
    }
    if candidate < below { Ok(Ipv4Addr::from(candidate)) } else { Err(full(listener, pool)) }
}

/// That a pool has no address left.
#[must_use]
pub fn full(listener: &str, pool: &Ipv4Net) -> Problem {
    Problem::refused(format!("the pool {pool} of {listener} is full"))
        .why(format!(
            "it holds {} devices, and all its addresses are given out, or held after a revocation",
            room(pool)
        ))
        .try_(format!("yestrel listener show {listener}   says how many are held"))
        .try_(format!("yestrel listener change {listener} --pool with a larger range"))
        .try_("yestrel estate change --hold-addresses 0   gives held ones out again")
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn taken(range: &str) -> Taken {
        Taken { range: range.parse().unwrap(), what: "the network {} of the site harbour".into() }
    }

    #[test]
    fn each_unusable_pool_is_refused_with_its_reason() {
        let taken = [taken("10.44.0.0/22")];
        for (pool, error) in [
            ("10.44.0.0/24", "overlaps the network 10.44.0.0/22 of the site harbour"),
            ("10.0.0.0/8", "larger than any gateway"),
            ("203.0.113.0/24", "not in a private range"),
            ("10.9.9.0/30", "too small"),
            ("fd00::/64", "IPv6"),
        ] {
            let problem = check(&pool.parse().unwrap(), &taken).unwrap_err();
            assert!(problem.error.contains(error), "{pool}: {problem:?}");
            assert!(!problem.tries.is_empty(), "{pool}");
        }
        assert!(range("10.44.0.1/22").unwrap_err().tries[0].contains("10.44.0.0/22"));
        assert!(range("ten").is_err());
    }

    #[test]
    fn an_ipv6_pool_fits_beside_the_other_and_each_address_has_its_own() {
        let pool: Ipv4Net = "10.187.44.0/24".parse().unwrap();
        let drawn = unique_local([1, 2, 3, 4, 5]);
        assert_eq!(drawn.to_string(), "fd01:203:405::/64");
        assert_eq!(check6(&drawn.into(), &pool, &[]).unwrap(), drawn);
        assert_eq!(gateway_address6(&drawn).to_string(), "fd01:203:405::1");
        assert_eq!(beside("10.187.44.2".parse().unwrap(), &pool, &drawn).to_string(), "fd01:203:405::2");
        assert_eq!(beside("10.187.44.254".parse().unwrap(), &pool, &drawn).to_string(), "fd01:203:405::fe");
        let taken =
            [Taken { range: "fd01:203::/32".parse().unwrap(), what: "the network {} of the site harbour".into() }];
        for (pool6, error) in [
            ("fd01:203:405::/64", "overlaps the network fd01:203::/32"),
            ("fe80::/64", "means something else"),
            ("ff05::/64", "means something else"),
            ("::/64", "means something else"),
            ("fd00::/121", "does not fit"),
            ("10.9.9.0/24", "no IPv6"),
        ] {
            let problem = check6(&pool6.parse().unwrap(), &pool, &taken).unwrap_err();
            assert!(problem.error.contains(error), "{pool6}: {problem:?}");
        }
        assert!(check6(&"2001:db8:44:187::/112".parse().unwrap(), &pool, &taken).is_ok());
    }

    #[test]
    fn home_ranges_are_known() {
        assert!(common_at_home(&"192.168.1.0/25".parse().unwrap()).is_some());
        assert!(common_at_home(&"192.168.0.0/16".parse().unwrap()).is_some());
        assert!(common_at_home(&"10.187.44.0/24".parse().unwrap()).is_none());
    }

    proptest! {
        #[test]
        fn what_is_offered_can_be_taken(ranges in prop::collection::vec((any::<u32>(), 8_u8..30), 0..60)) {
            let taken: Vec<_> = ranges.into_iter().map(|(address, prefix)| {
                let address = Ipv4Addr::from((10 << 24) | (address & 0x00ff_ffff));
                Taken { range: IpNet::V4(Ipv4Net::new(address, prefix).unwrap().trunc()), what: "{}".into() }
            }).collect();
            if let Some(free) = offer(&taken) {
                prop_assert!(check(&free, &taken).is_ok());
                prop_assert!(common_at_home(&free).is_none());
            }
        }

        #[test]
        fn no_text_makes_the_reader_fail_and_what_it_reads_begins_on_its_boundary(text in "[0-9a-f.:/ ]{0,24}|\\PC{0,30}") {
            if let Ok(range) = range(&text) {
                prop_assert_eq!(range, range.trunc());
            }
        }

        /// Against the plainest model: look at every address in turn.
        #[test]
        fn the_next_free_address_is_the_lowest(prefix in 24_u8..=29, used in prop::collection::btree_set(0_u32..256, 0..256)) {
            let pool = Ipv4Net::new("10.187.44.0".parse().unwrap(), prefix).unwrap();
            let start = u32::from(pool.network());
            let used: BTreeSet<_> = used.into_iter().map(|n| Ipv4Addr::from(start + n)).collect();
            let expected = pool.hosts().skip(1).find(|address| !used.contains(address));
            prop_assert_eq!(next_free("harbour/quill", &pool, &used).ok(), expected);
        }
    }
}
