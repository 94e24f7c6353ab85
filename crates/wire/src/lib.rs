//! The protocols of Yestrel as state machines and layouts.
//!
//! Nothing here opens a socket, reads a clock or draws randomness by itself: a state machine is fed
//! with the moment and the bytes that arrived, and answers with bytes to send, events, and the next
//! moment at which it wants to be asked again. The same code therefore runs in the agent, on a
//! device, and in tests over a made-up network that loses, doubles and reorders what it likes.
//!
//! | module | holds |
//! |---|---|
//! | `quill` | Yestrel's own tunnel |
//! | `ike` | IKEv2: how clients of open standards come in |
//! | `esp` | what protects their packets |
//! | `replay` | which packet numbers were seen |
//! | `budget` | how many handshakes whoever may have |
//! | `timer` | deadlines in order, for every state machine |
//! | `counters` | what happened in a session, counted by whoever moves its packets |

pub mod budget;
pub mod counters;
pub mod esp;
pub mod ike;
pub mod quill;
pub mod replay;
pub mod timer;

use std::net::SocketAddr;

/// A source of random bytes, handed in so that everything else can be repeated.
pub trait Random: Send {
    /// Fills `bytes`.
    fn fill(&mut self, bytes: &mut [u8]);
}

/// Keys that inner packets of one session go out under.
pub trait Outward: Send + Sync {
    /// Where the other end is.
    fn to(&self) -> SocketAddr;

    /// Bytes of a datagram with an inner packet of so many, at most.
    fn length(&self, packet: usize) -> usize;

    /// The marks of congestion (RFC 3168) that a datagram with this inner packet goes out with: two bits.
    fn mark(&self, _packet: &[u8]) -> u8 {
        0
    }

    /// Appends the datagram to `out`; whether it did.
    fn lay(&self, now: Moment, packet: &[u8], out: &mut Vec<u8>) -> bool;
}

/// Milliseconds since an origin that the caller chooses; it never goes backwards.
///
/// Only differences matter, so a system clock that is years off changes nothing here.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Default)]
pub struct Moment(pub u64);

impl Moment {
    /// The moment `millis` milliseconds later.
    #[must_use]
    pub fn after(self, millis: u64) -> Self {
        Self(self.0.saturating_add(millis))
    }

    /// Milliseconds from `earlier` to here; 0 if `earlier` is not earlier.
    #[must_use]
    pub fn since(self, earlier: Self) -> u64 {
        self.0.saturating_sub(earlier.0)
    }
}
