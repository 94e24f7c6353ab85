//! How many handshakes whoever may have, before any curve operation. Who shows no token shares a small budget, and beyond it is asked to
//! come again with one; who shows one has proved their address and is limited with the others of the same network only.

use std::hash::Hasher as _;
use std::net::{IpAddr, SocketAddr};
use std::sync::atomic::{AtomicU64, Ordering};

use siphasher::sip128::{Hasher128 as _, SipHasher24};

use crate::{Moment, Random};

/// Handshakes a second without a token, in all; as many may come at once as in two seconds.
pub const WITHOUT_TOKEN: u32 = 50;
/// Handshakes a second without a token from one network.
pub const WITHOUT_TOKEN_NETWORK: u32 = 20;
/// Handshakes a second with a token from one network.
pub const WITH_TOKEN_NETWORK: u32 = 100;
/// Datagrams that ask to come again, a second, in all.
pub const ASKED: u32 = 4_000;
/// The same to one network: nearly as many as may then come with a token.
pub const ASKED_NETWORK: u32 = 60;
/// Milliseconds for which nothing is done with openings without a token once even these are used up: a twentieth of a second's worth comes
/// back.
pub const QUIET: u64 = 50;
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
    /// Nothing: its network has had its share of openings with tokens.
    Nothing,
    /// Nothing: beyond every budget for openings without a token, of its network or, `everywhere`, of all; see [`Quiet`].
    Flooded { everywhere: bool },
}

/// The place of a network among those that are told apart.
fn place(mut hasher: SipHasher24, from: SocketAddr) -> usize {
    match from.ip().to_canonical() {
        IpAddr::V4(four) => hasher.write(&four.octets()[..3]),
        IpAddr::V6(six) => hasher.write(&six.octets()[..6]),
    }
    hasher.finish128().h1 as usize % NETWORKS
}

/// For a moment nothing is done with openings that show no token, from one network or from all. Whoever receives asks it, so that a flood wakes
/// nobody. A fixed 16 KiB.
pub struct Quiet {
    all: AtomicU64,
    networks: Box<[AtomicU64]>,
    place: SipHasher24,
}

impl Quiet {
    /// Nobody is quiet yet.
    pub fn new(random: &mut dyn Random) -> Self {
        let networks = (0..NETWORKS).map(|_| AtomicU64::new(0)).collect();
        Self { all: AtomicU64::new(0), networks, place: drawn(random) }
    }

    /// Begins, from the network of this address or everywhere.
    pub fn begin(&self, now: Moment, from: SocketAddr, everywhere: bool) {
        let until = if everywhere { &self.all } else { &self.networks[place(self.place, from)] };
        until.store(now.after(QUIET).0, Ordering::Relaxed);
    }

    /// Whether openings from here that show no token are let go.
    #[must_use]
    pub fn holds(&self, now: Moment, from: SocketAddr) -> bool {
        now.0 < self.all.load(Ordering::Relaxed)
            || now.0 < self.networks[place(self.place, from)].load(Ordering::Relaxed)
    }
}

/// How many handshakes whoever may have. A fixed 96 KiB, whatever comes.
pub struct Budget {
    without: Bucket,
    asked: Bucket,
    networks: Box<[Network]>,
    place: SipHasher24,
}

/// What one network has left.
#[derive(Clone, Copy)]
struct Network {
    without: Bucket,
    with: Bucket,
    asked: Bucket,
}

impl Budget {
    /// Full budgets. Which networks share a place is drawn, so that nobody can choose whom to share with.
    pub fn new(random: &mut dyn Random) -> Self {
        Self {
            without: FULL,
            asked: FULL,
            networks: vec![Network { without: FULL, with: FULL, asked: FULL }; NETWORKS].into_boxed_slice(),
            place: drawn(random),
        }
    }

    /// What is done with an opening from here, with a token or without one.
    pub fn spend(&mut self, now: Moment, from: SocketAddr, proved: bool) -> Verdict {
        let network = &mut self.networks[place(self.place, from)];
        if proved {
            return if network.with.take(now, WITH_TOKEN_NETWORK) { Verdict::Read } else { Verdict::Nothing };
        }
        if network.without.take(now, WITHOUT_TOKEN_NETWORK) && self.without.take(now, WITHOUT_TOKEN) {
            return Verdict::Read;
        }
        // One network's flood leaves the others their answers.
        if network.asked.take(now, ASKED_NETWORK) { self.ask(now) } else { Verdict::Flooded { everywhere: false } }
    }

    /// Whether one more may be asked to come again.
    pub fn ask(&mut self, now: Moment) -> Verdict {
        if self.asked.take(now, ASKED) { Verdict::Again } else { Verdict::Flooded { everywhere: true } }
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

    #[test]
    fn the_flood_of_some_networks_leaves_another_its_answer_and_one_of_all_is_quiet_everywhere() {
        let mut budget = Budget::new(&mut Steps(1));
        let now = Moment(5_000);
        let mut verdicts = std::collections::HashMap::new();
        for number in 0..40_000_u32 {
            let from = SocketAddr::from(((0xc612_0000 + (number % 10_000)).to_be_bytes(), 9));
            *verdicts.entry(format!("{:?}", budget.spend(now, from, false))).or_insert(0) += 1;
        }
        // Forty networks (two may share a place), each as often as two seconds allow.
        let asked = verdicts["Again"];
        assert!((3_800..=4_800).contains(&asked), "{verdicts:?}");
        assert!(!verdicts.contains_key("Flooded { everywhere: true }"), "{verdicts:?}");
        assert_eq!(budget.spend(now, at("198.51.100.7:4000"), false), Verdict::Again);
        let many = (0..60_000_u32).map(|number| SocketAddr::from(((number << 8).to_be_bytes(), 9)));
        let last = many.map(|from| budget.spend(now, from, false)).last();
        assert_eq!(last, Some(Verdict::Flooded { everywhere: true }));
        let quiet = Quiet::new(&mut Steps(3));
        let (here, there) = (at("198.51.100.7:4000"), at("203.0.113.9:4000"));
        quiet.begin(now, here, false);
        assert!(quiet.holds(now, here) && quiet.holds(now, at("198.51.100.9:7")) && !quiet.holds(now, there));
        assert!(!quiet.holds(now.after(QUIET), here));
        quiet.begin(now, here, true);
        assert!(quiet.holds(now, there) && !quiet.holds(now.after(QUIET), there));
    }
}
