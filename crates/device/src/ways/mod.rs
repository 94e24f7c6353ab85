//! The kinds of tunnel as a device runs them, one file each, behind one trait.
//!
//! | file | holds |
//! |---|---|
//! | `kind` | what a kind of tunnel is, and a way in by one |
//! | `quill` | Yestrel's own tunnel |

mod kind;
mod quill;

use std::sync::Arc;

pub use kind::{Event, Ground, Kind, Way};

/// Every kind that this version has.
#[must_use]
pub fn all() -> Vec<Arc<dyn Kind>> {
    vec![Arc::new(quill::QuillKind)]
}
