//! Inner addresses that are given at sign-in, the same again while they are free.

use std::collections::{BTreeMap, HashMap, HashSet};
use std::net::Ipv4Addr;

use ipnet::Ipv4Net;

use crate::pool;

/// What one listener has leased. Kept by the agent.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Leases {
    by_device: BTreeMap<String, Ipv4Addr>,
    by_address: HashMap<Ipv4Addr, String>,
}

impl Leases {
    /// The address that a device has had.
    #[must_use]
    pub fn of(&self, device: &str) -> Option<Ipv4Addr> {
        self.by_device.get(device).copied()
    }

    /// Who has an address.
    pub fn holders(&self) -> impl Iterator<Item = (&str, Ipv4Addr)> {
        self.by_device.iter().map(|(device, address)| (device.as_str(), *address))
    }

    /// A device has an address from now on, whoever had it before.
    pub fn set(&mut self, device: &str, address: Ipv4Addr) {
        if let Some(before) = self.by_device.insert(device.into(), address) {
            self.by_address.remove(&before);
        }
        if let Some(other) = self.by_address.insert(address, device.into())
            && other != device
        {
            self.by_device.remove(&other);
        }
    }

    /// An address of the pool for a device, of those that it `may` have: the one that it had, else one that nobody has, else one whose holder is neither
    /// connected nor in the way (`connected` is only asked then). Addresses that are given with credentials (`given`) are never
    /// leased. Leases go from the top of the pool down, where credentials get theirs from the bottom up. `None`: the pool is full.
    pub fn lease(
        &mut self,
        device: &str,
        pool: &Ipv4Net,
        may: impl Fn(Ipv4Addr) -> bool,
        given: &HashSet<Ipv4Addr>,
        connected: impl FnOnce() -> HashSet<Ipv4Addr>,
    ) -> Option<Ipv4Addr> {
        let usable = |address: Ipv4Addr| {
            pool.contains(&address)
                && address != pool::gateway_address(pool)
                && !given.contains(&address)
                && may(address)
        };
        if let Some(had) = self.of(device).filter(|had| usable(*had)) {
            return Some(had);
        }
        let (first, last) = (u32::from(pool.network()) + 2, u32::from(pool.broadcast()) - 1);
        let mut candidates = (first..=last).rev().map(Ipv4Addr::from).filter(|address| usable(*address));
        let free = candidates.find(|address| !self.by_address.contains_key(address));
        let address = free.or_else(|| {
            let connected = connected();
            let idle = self.by_device.values().find(|address| usable(**address) && !connected.contains(*address));
            idle.copied()
        })?;
        self.set(device, address);
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
        let first = leases.lease("mara/phone", &pool(), |_| true, &none, HashSet::new).unwrap();
        assert_eq!(first, Ipv4Addr::new(10, 187, 44, 6));
        assert_ne!(leases.lease("tomas/phone", &pool(), |_| true, &none, HashSet::new), Some(first));
        assert_eq!(leases.lease("mara/phone", &pool(), |_| true, &none, HashSet::new), Some(first));
        // It was given with a credential since: the lease yields.
        let given = HashSet::from([first]);
        assert_ne!(leases.lease("mara/phone", &pool(), |_| true, &given, HashSet::new), Some(first));
    }

    #[test]
    fn a_full_pool_takes_the_address_of_somebody_who_is_away_and_never_of_somebody_who_is_there() {
        let mut leases = Leases::default();
        let none = HashSet::new();
        let taken: HashSet<_> = (0..5)
            .map(|n| leases.lease(&format!("user-{n}/phone"), &pool(), |_| true, &none, HashSet::new).unwrap())
            .collect();
        assert_eq!(taken.len(), 5);
        let mut connected = taken.clone();
        assert_eq!(leases.lease("late/phone", &pool(), |_| true, &none, || connected.clone()), None);
        let away = leases.of("user-3/phone").unwrap();
        connected.remove(&away);
        assert_eq!(leases.lease("late/phone", &pool(), |_| true, &none, || connected.clone()), Some(away));
        assert_eq!(leases.of("user-3/phone"), None);
    }

    #[test]
    fn what_is_for_some_nobody_else_gets_and_who_may_not_keep_an_address_gets_another() {
        let mut leases = Leases::default();
        let none = HashSet::new();
        let low = |address: Ipv4Addr| address.octets()[3] < 4;
        let first = leases.lease("mara/phone", &pool(), |_| true, &none, HashSet::new).unwrap();
        assert_eq!(first, Ipv4Addr::new(10, 187, 44, 6));
        let other = leases.lease("mara/phone", &pool(), low, &none, HashSet::new).unwrap();
        assert_eq!(other, Ipv4Addr::new(10, 187, 44, 3));
        assert_eq!(leases.lease("tomas/phone", &pool(), low, &none, HashSet::new), Some(Ipv4Addr::new(10, 187, 44, 2)));
        let full = leases.lease("ines/phone", &pool(), low, &none, || leases_of(&[2, 3]));
        assert_eq!(full, None);
        assert_eq!(leases.lease("ines/phone", &pool(), |address| !low(address), &none, HashSet::new), Some(first));
    }

    fn leases_of(all: &[u8]) -> HashSet<Ipv4Addr> {
        all.iter().map(|last| Ipv4Addr::new(10, 187, 44, *last)).collect()
    }

    proptest! {
        #[test]
        fn no_two_devices_have_one_address(asks in proptest::collection::vec((0_u8..12, 0_u8..6), 1..60)) {
            let mut leases = Leases::default();
            for (device, given) in asks {
                let given = HashSet::from([Ipv4Addr::new(10, 187, 44, given)]);
                let connected: HashSet<_> = leases.holders().map(|(_, address)| address).take(2).collect();
                if let Some(address) = leases.lease(&format!("{device}"), &pool(), |_| true, &given, || connected) {
                    prop_assert!(pool().contains(&address) && !given.contains(&address));
                }
                let held: Vec<_> = leases.holders().map(|(_, address)| address).collect();
                prop_assert_eq!(held.iter().collect::<HashSet<_>>().len(), held.len());
            }
        }
    }
}
