//! The kinds of tunnel as an agent runs them, one file each, behind one trait.
//!
//! | file | holds |
//! |---|---|
//! | `kind` | what a kind of tunnel is, and a running listener of one |
//! | `queue` | what waits for the thread that does handshakes |
//! | `strangers` | whether strangers flood a port |
//! | `quill` | Yestrel's own tunnel |
//! | `travels` | its reasons and settings as they travel |
//! | `ikev2` | what phones and computers have built in |
//! | `papers` | what a gateway shows to these, and what it makes of what they show |

pub mod ikev2;
mod kind;
mod papers;
mod queue;
pub mod quill;
mod strangers;
mod travels;

use std::sync::Arc;

pub use kind::{Ground, Kind, Tunnel};

/// Every kind that this version has.
#[must_use]
pub fn all() -> Vec<Arc<dyn Kind>> {
    vec![Arc::new(quill::QuillKind), Arc::new(ikev2::Ikev2Kind)]
}
