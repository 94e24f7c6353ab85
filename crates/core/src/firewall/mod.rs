//! The firewall of a gateway: what it is to do, in the words of the job, and how nftables says it.
//!
//! | file | its job |
//! |---|---|
//! | `service` | a port or an IP protocol, as people write it |
//! | `intent` | what is opened, what is allowed, what is masqueraded |
//! | `nftables` | the script that brings the intent into force |

mod intent;
mod nftables;
mod service;

pub use intent::{Allows, Intent, Opens, Set};
pub use nftables::TABLE;
pub use service::{Protocol, Service};
