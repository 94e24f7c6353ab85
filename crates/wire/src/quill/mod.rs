//! Yestrel's own tunnel over UDP, specified byte by byte in `docs/quill.md`.
//!
//! | file | holds |
//! |---|---|
//! | `id` | the id that datagrams carry in front |
//! | `reason` | why a device is not let in, why a session ended |
//! | `suite` | the two sets of algorithms and the protection of one datagram |
//! | `frame` | what stands inside a protected datagram |
//! | `message` | what stands inside the two handshake messages |
//! | `parcel` | what is longer than a datagram, in parts |
//! | `call` | the call secret: tags that keep strangers out, covers that make everything look random |
//! | `keys` | the keys that a handshake gives, in both of its steps |
//! | `primitives` | what the handshake computes with |
//! | `handshake` | Noise IK under tag and cover |
//! | `second` | the second secret, which a quantum computer does not find |
//! | `lane` | one pair of keys in use, shared by the threads that move packets |
//! | `door` | what is done with an opening before any curve operation: tags, budgets, tokens |
//! | `device`, `gateway` | the two ends as state machines |
//! | `ends` | what a gateway has of each device |
//! | `event` | what a gateway asks and tells |
//! | `waits` | what a gateway waits for |
//! | `hands` | a gateway's handshakes, beside the thread that carries data |

pub mod call;
pub mod device;
pub mod door;
mod ends;
mod event;
pub mod frame;
pub mod gateway;
pub mod hands;
pub mod handshake;
mod id;
pub mod keys;
pub mod lane;
pub mod message;
pub mod parcel;
mod primitives;
mod reason;
pub mod second;
pub mod suite;
mod waits;

pub use id::{ConnectionId, MARK_BITS, Mark};
pub(crate) use id::{below, eight};
pub use reason::{MOST_WORDS, Reason, words_of};
pub use suite::Suite;

/// The version of the protocol that this code speaks.
pub const VERSION: u16 = 1;
