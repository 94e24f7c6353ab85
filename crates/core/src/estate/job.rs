//! A command on many, done in batches.

use jiff::Timestamp;
use serde::{Deserialize, Serialize};

/// A command on many that is not finished: credentials that it has made count nowhere until it is.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Job {
    /// Its number.
    pub name: String,
    /// The command, as it would be typed.
    pub what: String,
    /// What it was told, as JSON: going on needs no more.
    pub wish: String,
    pub who: String,
    pub begun: Timestamp,
    pub done: u64,
    pub whole: u64,
}

impl Job {
    /// Whether it makes users, and not credentials.
    #[must_use]
    pub fn imports(&self) -> bool {
        self.what.starts_with("user import ")
    }
}
