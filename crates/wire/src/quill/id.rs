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
