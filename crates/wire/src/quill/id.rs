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
