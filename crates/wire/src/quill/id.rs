//! The id that datagrams carry in front.

use crate::Random;

/// Chosen at random by whoever will receive datagrams under it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct ConnectionId(pub [u8; 8]);

impl ConnectionId {
    /// The id that a datagram carries in its first eight bytes, if it is that long.
    #[must_use]
    pub fn of(datagram: &[u8]) -> Option<Self> {
        datagram.first_chunk::<8>().map(|bytes| Self(*bytes))
    }
}

/// Bits of an id that its mark takes.
pub const MARK_BITS: u32 = 6;

/// What the ids of one port have in common, and nobody knows but whoever chooses them: one datagram of strangers in 64 has it by chance. So
/// simple that a filter of the system can look for it: with the two halves of an id as numbers h and l (big-endian), the upper
/// [`MARK_BITS`] of h × `factors[0]` + l × `factors[1]` (mod 2^32) are `want`.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Mark {
    pub factors: [u32; 2],
    pub want: u32,
}

impl Mark {
    /// A random mark.
    #[must_use]
    pub fn new(random: &mut dyn Random) -> Self {
        let ([first, second], [want, _]) = (halves(eight(random)), halves(eight(random)));
        // An odd number can be divided by.
        Self { factors: [first | 1, second | 1], want: want >> (32 - MARK_BITS) }
    }

    /// A random id that carries it.
    pub(crate) fn id(&self, random: &mut dyn Random) -> ConnectionId {
        let [high, low] = halves(eight(random));
        let sum = (self.want << (32 - MARK_BITS)) | (low >> MARK_BITS);
        let low = sum.wrapping_sub(high.wrapping_mul(self.factors[0])).wrapping_mul(inverse(self.factors[1]));
        let mut bytes = [0; 8];
        bytes[..4].copy_from_slice(&high.to_be_bytes());
        bytes[4..].copy_from_slice(&low.to_be_bytes());
        ConnectionId(bytes)
    }

    /// Whether an id carries it.
    #[must_use]
    pub fn is_on(&self, id: ConnectionId) -> bool {
        let [high, low] = halves(id.0);
        let sum = high.wrapping_mul(self.factors[0]).wrapping_add(low.wrapping_mul(self.factors[1]));
        sum >> (32 - MARK_BITS) == self.want
    }
}

fn halves(bytes: [u8; 8]) -> [u32; 2] {
    let [a, b, c, d, e, f, g, h] = bytes;
    [u32::from_be_bytes([a, b, c, d]), u32::from_be_bytes([e, f, g, h])]
}

/// The number that an odd one times makes 1, mod 2^32: each step of Newton's doubles the bits that are right, from three on.
fn inverse(odd: u32) -> u32 {
    (0..4).fold(odd, |so_far, _| so_far.wrapping_mul(2_u32.wrapping_sub(odd.wrapping_mul(so_far))))
}

/// Eight random bytes.
pub(crate) fn eight(random: &mut dyn Random) -> [u8; 8] {
    let mut bytes = [0; 8];
    random.fill(&mut bytes);
    bytes
}

/// A random number from 0 to `most` - 1, at most 65,535; 0 where there is no choice.
pub(crate) fn below(random: &mut dyn Random, most: usize) -> usize {
    let [high, low, ..] = eight(random);
    usize::from(u16::from_be_bytes([high, low])) % most.max(1)
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    struct Given(Vec<u8>, usize);
    impl Random for Given {
        fn fill(&mut self, bytes: &mut [u8]) {
            for byte in bytes {
                *byte = self.0[self.1 % self.0.len()];
                self.1 += 1;
            }
        }
    }

    proptest! {
        #[test]
        fn every_id_that_is_chosen_carries_the_mark_and_one_stranger_in_sixty_four(bytes in prop::collection::vec(any::<u8>(), 4096)) {
            let mut random = Given(bytes, 0);
            let mark = Mark::new(&mut random);
            let ids: Vec<_> = (0..100).map(|_| mark.id(&mut random)).collect();
            prop_assert!(ids.iter().all(|id| mark.is_on(*id)));
            // The whole of both halves varies: an id is as hard to hit as one of 58 random bits.
            let [ors, ands] = ids.iter().fold([0, u64::MAX], |[or, and], id| {
                let id = u64::from_be_bytes(id.0);
                [or | id, and & id]
            });
            prop_assert_eq!((ors, ands), (u64::MAX, 0));
            let strangers = (0..300).filter(|_| mark.is_on(ConnectionId(eight(&mut random)))).count();
            prop_assert!(strangers < 30, "{strangers} of 300");
        }
    }
}
