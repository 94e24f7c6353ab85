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
//! | `amendment` | an order that is the one before it but for some devices |
//! | `signed` | texts that the estate signs: their form, their signatures |
//! | `follow` | which order may follow which, and which could cut its author off |
//! | `limited` | a part of it, while the rest waits |
//! | `renaming` | an order before a rename, told as after it |
//! | `renewal` | keeping an order that holds for a time in force |
//! | `difference` | what changes from one to the next, in words |
//! | `amendment_tests` | that amendments come to the same as whole orders |
//! | `tests` | what holds of all of them together |

mod amendment;
mod content;
mod difference;
mod envelope;
mod follow;
mod limited;
mod renaming;
mod renewal;
mod signed;

pub use amendment::{AMENDMENT, Amendment, Amends, Excerpt, SignedAmendment, amendable, excerpt};
pub use content::{
    Admit, Content, Extract, OrderListener, OrderPolicies, OrderPublish, PEER_CALL, Peer, PeerDial, Revoked, content,
};
pub use difference::{Change, difference};
pub use envelope::{Envelope, FORMAT, Order, sign, sign_over, signer};
pub use follow::{closed, may_follow, touches_the_way_in};
pub use limited::{Part, limited};
pub use renaming::renames;
pub use renewal::{RENEWAL, Renewal, SignedRenewal, ends_soon, for_seconds, holds_until};
pub(crate) use signed::canonical;
pub use signed::{check_text, sign_text};

#[cfg(test)]
mod amendment_tests;
#[cfg(test)]
mod tests;
