//! Which packet numbers were seen: a sliding window over the newest ones.

const WORDS: usize = 64;
/// How far behind the newest number a datagram may come and still be taken. Wide, because one batch
/// of the data path already holds hundreds.
pub const WIDTH: u64 = (WORDS as u64 - 1) * 64;

/// Remembers the newest [`WIDTH`] numbers; anything older counts as seen.
pub struct Window {
    /// One above the highest number seen.
    next: u64,
    bits: [u64; WORDS],
}

impl Default for Window {
    fn default() -> Self {
        Self { next: 0, bits: [0; WORDS] }
    }
}

impl Window {
    fn word(number: u64) -> usize {
        (number / 64) as usize % WORDS
    }

    /// One above the highest number seen.
    #[must_use]
    pub fn next(&self) -> u64 {
        self.next
    }

    /// The 64-bit number nearest to what is expected next, of which `low` are the low 32 bits
    /// (the procedure of RFC 9000 appendix A.3 with a fixed length).
    #[must_use]
    pub fn whole(&self, low: u32) -> u64 {
        let span = 1_u64 << 32;
        let candidate = (self.next & !(span - 1)) | u64::from(low);
        if candidate + span / 2 <= self.next {
            candidate + span
        } else if candidate > self.next + span / 2 && candidate >= span {
            candidate - span
        } else {
            candidate
        }
    }

    /// Whether `number` has not been marked and is not too old to tell.
    #[must_use]
    pub fn is_new(&self, number: u64) -> bool {
        if number >= self.next {
            return true;
        }
        self.next - number <= WIDTH && self.bits[Self::word(number)] & (1 << (number % 64)) == 0
    }

    /// Marks `number` as seen and moves the window forward if it is the newest.
    pub fn mark(&mut self, number: u64) {
        if number >= self.next {
            let (old, new) = (self.next.div_ceil(64), number / 64);
            // Every word that the window newly enters starts empty.
            for word in old..=new.min(old + WORDS as u64 - 1) {
                self.bits[word as usize % WORDS] = 0;
            }
            if new >= old + WORDS as u64 {
                self.bits = [0; WORDS];
            }
            self.next = number + 1;
        }
        self.bits[Self::word(number)] |= 1 << (number % 64);
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use std::collections::HashSet;

    proptest! {
        /// Against the plainest model there is: a set, and the rule about age.
        #[test]
        fn the_window_agrees_with_a_set(steps in prop::collection::vec((0_u64..9000, any::<bool>()), 1..400)) {
            let mut window = Window::default();
            let mut seen = HashSet::new();
            let mut next = 0_u64;
            let mut base = 0_u64;
            for (step, forward) in steps {
                let number = if forward { base + step % 700 } else { (base + 700).saturating_sub(step) };
                let expected = !seen.contains(&number) && (number >= next || next - number <= WIDTH);
                prop_assert_eq!(window.is_new(number), expected, "number {} next {}", number, next);
                if expected {
                    window.mark(number);
                    seen.insert(number);
                    next = next.max(number + 1);
                }
                base = base.max(number);
            }
        }

        #[test]
        fn the_low_half_is_completed_within_half_the_span(next in 0_u64..1 << 40, offset in -2_000_000_000_i64..2_000_000_000) {
            let window = Window { next, ..Window::default() };
            let number = next as i64 + offset;
            prop_assume!(number >= 0);
            prop_assert_eq!(window.whole(number as u32), number as u64);
        }
    }
}
