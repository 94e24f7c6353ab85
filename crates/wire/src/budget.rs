//! How many handshakes whoever may have, before any curve operation. Who shows no token shares a small budget, and beyond it is asked to
//! come again with one; who shows one has proved their address and is limited with the others of the same network only.

use std::hash::Hasher as _;
use std::net::{IpAddr, SocketAddr};

use siphasher::sip128::{Hasher128 as _, SipHasher24};

use crate::{Moment, Random};

/// Handshakes a second without a token, in all; as many may come at once as in two seconds.
pub const WITHOUT_TOKEN: u32 = 50;
/// Handshakes a second without a token from one network.
pub const WITHOUT_TOKEN_NETWORK: u32 = 20;
/// Handshakes a second with a token from one network.
pub const WITH_TOKEN_NETWORK: u32 = 100;
/// Datagrams that ask to come again, a second, in all.
pub const ASKED: u32 = 2_000;
/// Networks that are told apart: a fixed table, in which some share a place.
const NETWORKS: usize = 2048;

fn drawn(random: &mut dyn Random) -> SipHasher24 {
    let mut secret = zeroize::Zeroizing::new([0; 16]);
    random.fill(&mut secret[..]);
    SipHasher24::new_with_key(&secret)
}

/// So many a second, and twice as many at once.
#[derive(Debug, Clone, Copy)]
struct Bucket {
    /// Thousandths.
    left: u64,
    at: Moment,
}

impl Bucket {
    fn take(&mut self, now: Moment, rate: u32) -> bool {
        let most = u64::from(rate) * 2_000;
        self.left = most.min(self.left.saturating_add(now.since(self.at).saturating_mul(u64::from(rate))));
        self.at = now;
        if self.left < 1_000 {
            return false;
        }
        self.left -= 1_000;
        true
    }
}

/// A full bucket, whatever its rate.
const FULL: Bucket = Bucket { left: u64::MAX, at: Moment(0) };

/// What is done with an opening whose tag is right.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Verdict {
    /// It is read.
    Read,
    /// Its sender is asked to come again with a token.
    Again,
    /// Nothing: beyond every budget.
    Nothing,
}

/// How many handshakes whoever may have. A fixed 96 KiB, whatever comes.
pub struct Budget {
    without: Bucket,
    asked: Bucket,
    networks: Box<[(Bucket, Bucket)]>,
    place: SipHasher24,
}

impl Budget {
    /// Full budgets. Which networks share a place is drawn, so that nobody can choose whom to share with.
    pub fn new(random: &mut dyn Random) -> Self {
        Self {
            without: FULL,
            asked: FULL,
            networks: vec![(FULL, FULL); NETWORKS].into_boxed_slice(),
            place: drawn(random),
        }
    }

    fn network(&mut self, from: SocketAddr) -> &mut (Bucket, Bucket) {
        let mut place = self.place;
        match from.ip().to_canonical() {
            IpAddr::V4(four) => place.write(&four.octets()[..3]),
            IpAddr::V6(six) => place.write(&six.octets()[..6]),
        }
        &mut self.networks[place.finish128().h1 as usize % NETWORKS]
    }

    /// What is done with an opening from here, with a token or without one.
    pub fn spend(&mut self, now: Moment, from: SocketAddr, proved: bool) -> Verdict {
        let (without, with) = self.network(from);
        if proved {
            return if with.take(now, WITH_TOKEN_NETWORK) { Verdict::Read } else { Verdict::Nothing };
        }
        if without.take(now, WITHOUT_TOKEN_NETWORK) && self.without.take(now, WITHOUT_TOKEN) {
            return Verdict::Read;
        }
        self.ask(now)
    }

    /// Whether one more may be asked to come again.
    pub fn ask(&mut self, now: Moment) -> Verdict {
        if self.asked.take(now, ASKED) { Verdict::Again } else { Verdict::Nothing }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    struct Steps(u8);
    impl Random for Steps {
        fn fill(&mut self, bytes: &mut [u8]) {
            for byte in bytes {
                *byte = self.0;
                self.0 = self.0.wrapping_mul(5).wrapping_add(3);
            }
        }
    }

    fn at(text: &str) -> SocketAddr {
        text.parse().unwrap()
    }

    #[test]
    fn a_budget_fills_again_and_one_network_cannot_use_up_that_of_another_with_tokens() {
        let mut budget = Budget::new(&mut Steps(1));
        let (here, there) = (at("198.51.100.7:4000"), at("203.0.113.9:4000"));
        let read = |budget: &mut Budget, now, from, proved| {
            (0..10_000).filter(|_| budget.spend(now, from, proved) == Verdict::Read).count()
        };
        let now = Moment(5_000);
        assert_eq!(read(&mut budget, now, here, false), 2 * WITHOUT_TOKEN_NETWORK as usize);
        assert_eq!(read(&mut budget, now, here, true), 2 * WITH_TOKEN_NETWORK as usize);
        assert_eq!(read(&mut budget, now, there, true), 2 * WITH_TOKEN_NETWORK as usize);
        assert_eq!(read(&mut budget, now.after(1_000), here, false), WITHOUT_TOKEN_NETWORK as usize);
        // From ever other networks the whole budget holds.
        let mut budget = Budget::new(&mut Steps(2));
        let many = (0..60_000_u32)
            .map(|number| SocketAddr::from((number.to_be_bytes(), 9)))
            .filter(|from| budget.spend(now, *from, false) == Verdict::Read);
        assert_eq!(many.count(), 2 * WITHOUT_TOKEN as usize);
    }
}
