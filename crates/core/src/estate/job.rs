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

/// What a job does, by the command that began it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Does {
    /// Credentials, which count once all are made.
    Issue,
    /// Users, who are there at once.
    Import,
    /// Other credentials in the place of old ones, each at once.
    Renew,
}

impl Job {
    /// What it does.
    #[must_use]
    pub fn does(&self) -> Does {
        let begins = |words: &str| self.what.starts_with(words);
        match (begins("user import "), begins("credential renew ")) {
            (true, _) => Does::Import,
            (_, true) => Does::Renew,
            _ => Does::Issue,
        }
    }

    /// How far it is, in words: "500 of 3600 made, and none of them counts until it is finished".
    #[must_use]
    pub fn progress(&self) -> String {
        let (done, whole) = (self.done, self.whole);
        match self.does() {
            Does::Issue => format!("{done} of {whole} made, and none of them counts until it is finished"),
            Does::Import => format!("{done} of {whole} users are there"),
            Does::Renew => format!("{done} of {whole} are renewed"),
        }
    }
}
