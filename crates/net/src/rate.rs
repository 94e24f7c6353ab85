//! How much may pass in a time: the generic cell rate algorithm (ITU-T I.371, in its virtual-scheduling form), in one word that threads share
//! without a lock.

use std::sync::atomic::{AtomicU64, Ordering};

use yestrel_wire::Moment;

/// Microseconds by which packets may come earlier than the rate has room for them.
const EARLY: u64 = 200_000;
/// Bytes that may come at once in any case: as many as the system gives in one piece.
const PIECE: u64 = 128 * 1024;

/// A limit, and how far it is used.
#[derive(Debug, Default)]
pub struct Rate {
    /// Bits a second; 0 for no limit.
    bits: AtomicU64,
    /// When, in microseconds, all that has passed would have passed at this rate.
    due: AtomicU64,
}

impl Rate {
    /// Sets the limit, in bits a second; `None`: there is none.
    pub fn set(&self, bits: Option<u64>) {
        self.bits.store(bits.unwrap_or(0), Ordering::Relaxed);
    }

    /// Whether so many bytes may pass now. `now` is only asked where there is a limit.
    #[must_use]
    pub fn lets(&self, bytes: usize, now: impl FnOnce() -> Moment) -> bool {
        let bits = self.bits.load(Ordering::Relaxed);
        if bits == 0 {
            return true;
        }
        let now = now().0.saturating_mul(1_000);
        let takes = |bytes: u64| bytes.saturating_mul(8_000_000) / bits;
        let early = EARLY.max(takes(PIECE));
        let mut due = self.due.load(Ordering::Relaxed);
        loop {
            let next = due.max(now).saturating_add(takes(bytes as u64));
            if next - now > early {
                return false;
            }
            match self.due.compare_exchange_weak(due, next, Ordering::Relaxed, Ordering::Relaxed) {
                Ok(_) => return true,
                Err(other) => due = other,
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn without_a_limit_everything_passes_and_no_clock_is_asked() {
        let rate = Rate::default();
        assert!(rate.lets(usize::MAX, || panic!("nobody needs to know")));
        rate.set(Some(1_000_000));
        assert!(!rate.lets(usize::MAX, || Moment(1_000_000)));
        rate.set(None);
        assert!(rate.lets(usize::MAX, || Moment(1_000_000)));
    }

    proptest! {
        /// Whatever comes when: over any time no more passes than the rate and one burst, and of what comes evenly at less than the rate
        /// everything does.
        #[test]
        fn no_more_passes_than_the_rate_and_one_burst(
            bits in 64_000_u64..100_000_000,
            packets in proptest::collection::vec((1_usize..9_000, 0_u64..200), 1..300),
        ) {
            let rate = Rate::default();
            rate.set(Some(bits));
            let (mut now, mut passed) = (1_000_000_u64, 0_u64);
            for (bytes, later) in &packets {
                now += later;
                if rate.lets(*bytes, || Moment(now)) {
                    passed += *bytes as u64;
                }
            }
            let burst = (bits / 8 * EARLY / 1_000_000).max(PIECE);
            prop_assert!(passed <= bits / 8 * (now - 1_000_000) / 1_000 + burst + packets.len() as u64);
            let evenly = Rate::default();
            evenly.set(Some(bits));
            let each = (bits / 8 / 10) as usize;
            for tenth in 0..50 {
                prop_assert!(evenly.lets(each.min(PIECE as usize), || Moment(now + 100 * tenth)));
            }
        }
    }
}
