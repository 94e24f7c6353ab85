//! Orders: what a gateway is to be, complete, numbered and signed.
//!
//! An order is canonical JSON (object keys sorted, no spaces: RFC 8785 for the subset of strings, integers,
//! lists and objects that occur), so that equal estates give equal bytes. It travels as text with a signature over exactly
//! that text, and names the hash of the order before it.
//!
//! | file | its job |
//! |---|---|
//! | `content` | what a gateway is to be, and computing it from the estate |
//! | `envelope` | numbering, signing, verifying |
//! | `follow` | which order may follow which, and which could cut its author off |
//! | `renewal` | keeping an order that holds for a time in force |
//! | `difference` | what changes from one to the next, in words |
//! | `tests` | what holds of all of them together |

mod content;
mod difference;
mod envelope;
mod follow;
mod renewal;

pub use content::{
    Admit, Content, Extract, OrderListener, OrderPublish, PEER_CALL, Part, Peer, PeerDial, Revoked, content, limited,
};
pub use difference::{Change, difference};
pub(crate) use envelope::canonical;
pub use envelope::{Envelope, FORMAT, Order, check_text, sign, sign_over, sign_text, signer};
pub use follow::{may_follow, touches_the_way_in};
pub use renewal::{RENEWAL, Renewal, SignedRenewal, ends_soon, for_seconds, holds_until};

#[cfg(test)]
mod tests;
