//! Inner addresses that are given at sign-in, the same again while they are free.

use std::collections::{BTreeMap, HashSet};
use std::net::Ipv4Addr;

use ipnet::Ipv4Net;
use serde::{Deserialize, Serialize};

use crate::pool;

/// What one listener has leased, by device. Kept by the agent.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(transparent)]
pub struct Leases(BTreeMap<String, Ipv4Addr>);

impl Leases {
    /// The address that a device has had.
    #[must_use]
    pub fn of(&self, device: &str) -> Option<Ipv4Addr> {
        self.0.get(device).copied()
    }

    /// Who has an address.
    pub fn holders(&self) -> impl Iterator<Item = (&str, Ipv4Addr)> {
        self.0.iter().map(|(device, address)| (device.as_str(), *address))
    }

    /// An address of the pool for a device: the one that it had, else one that nobody has, else one whose holder is neither
    /// connected nor in the way. Addresses that are given with credentials (`given`) are never leased. Leases go from the
    /// top of the pool down, where credentials get theirs from the bottom up. `None`: the pool is full.
    pub fn lease(
        &mut self,
        device: &str,
        pool: &Ipv4Net,
        given: &HashSet<Ipv4Addr>,
        connected: &HashSet<Ipv4Addr>,
    ) -> Option<Ipv4Addr> {
        let usable = |address: Ipv4Addr| {
            pool.contains(&address) && address != pool::gateway_address(pool) && !given.contains(&address)
        };
        if let Some(had) = self.of(device).filter(|had| usable(*had)) {
            return Some(had);
        }
        let leased: HashSet<_> = self.0.values().copied().collect();
        let (first, last) = (u32::from(pool.network()) + 2, u32::from(pool.broadcast()) - 1);
        let mut candidates = (first..=last).rev().map(Ipv4Addr::from).filter(|address| usable(*address));
        let free = candidates.find(|address| !leased.contains(address));
        let address = free.or_else(|| {
            let idle = self.0.iter().find(|(_, address)| usable(**address) && !connected.contains(*address));
            idle.map(|(_, address)| *address)
        })?;
        self.0.retain(|_, other| *other != address);
        self.0.insert(device.into(), address);
        Some(address)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn pool() -> Ipv4Net {
        "10.187.44.0/29".parse().unwrap()
    }

    #[test]
    fn a_device_gets_the_same_address_again_and_from_the_top() {
        let mut leases = Leases::default();
        let none = HashSet::new();
        let first = leases.lease("mara/phone", &pool(), &none, &none).unwrap();
        assert_eq!(first, Ipv4Addr::new(10, 187, 44, 6));
        assert_ne!(leases.lease("tomas/phone", &pool(), &none, &none), Some(first));
        assert_eq!(leases.lease("mara/phone", &pool(), &none, &none), Some(first));
        // It was given with a credential since: the lease yields.
        let given = HashSet::from([first]);
        assert_ne!(leases.lease("mara/phone", &pool(), &given, &none), Some(first));
    }

    #[test]
    fn a_full_pool_takes_the_address_of_somebody_who_is_away_and_never_of_somebody_who_is_there() {
        let mut leases = Leases::default();
        let none = HashSet::new();
        let taken: HashSet<_> =
            (0..5).map(|n| leases.lease(&format!("user-{n}/phone"), &pool(), &none, &none).unwrap()).collect();
        assert_eq!(taken.len(), 5);
        let mut connected = taken.clone();
        assert_eq!(leases.lease("late/phone", &pool(), &none, &connected), None);
        let away = leases.of("user-3/phone").unwrap();
        connected.remove(&away);
        assert_eq!(leases.lease("late/phone", &pool(), &none, &connected), Some(away));
        assert_eq!(leases.of("user-3/phone"), None);
    }

    proptest! {
        #[test]
        fn no_two_devices_have_one_address(asks in proptest::collection::vec((0_u8..12, 0_u8..6), 1..60)) {
            let mut leases = Leases::default();
            for (device, given) in asks {
                let given = HashSet::from([Ipv4Addr::new(10, 187, 44, given)]);
                let connected: HashSet<_> = leases.holders().map(|(_, address)| address).take(2).collect();
                if let Some(address) = leases.lease(&format!("{device}"), &pool(), &given, &connected) {
                    prop_assert!(pool().contains(&address) && !given.contains(&address));
                }
                let held: Vec<_> = leases.holders().map(|(_, address)| address).collect();
                prop_assert_eq!(held.iter().collect::<HashSet<_>>().len(), held.len());
            }
        }
    }
}
