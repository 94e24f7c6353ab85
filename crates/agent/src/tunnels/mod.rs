//! The kinds of tunnel as an agent runs them, one file each, behind one trait.
//!
//! | file | holds |
//! |---|---|
//! | `kind` | what a kind of tunnel is, and a running listener of one |
//! | `quill` | Yestrel's own tunnel |

mod kind;
pub mod quill;

use std::sync::Arc;

pub use kind::{Ground, Kind, Tunnel};

/// Every kind that this version has.
#[must_use]
pub fn all() -> Vec<Arc<dyn Kind>> {
    vec![Arc::new(quill::QuillKind)]
}
