//! Yestrel's own tunnel over UDP, specified byte by byte in `docs/quill.md`.
//!
//! | file | holds |
//! |---|---|
//! | `id` | the id that datagrams carry in front |
//! | `reason` | why a device is not let in, why a session ended |
//! | `suite` | the two sets of algorithms and the protection of one datagram |
//! | `replay` | which packet numbers were seen |
//! | `frame` | what stands inside a protected datagram |
//! | `message` | what stands inside the two handshake messages |
//! | `handshake` | Noise IK, and the tag that keeps strangers out |
//! | `lane` | one pair of keys in use, shared by the threads that move packets |
//! | `device`, `gateway` | the two ends as state machines |

pub mod device;
pub mod frame;
pub mod gateway;
pub mod handshake;
mod id;
pub mod lane;
pub mod message;
mod reason;
pub mod replay;
pub mod suite;

pub use id::ConnectionId;
pub(crate) use id::eight;
pub use reason::{MOST_WORDS, Reason, words_of};
pub use suite::Suite;

/// The version of the protocol that this code speaks.
pub const VERSION: u16 = 1;
