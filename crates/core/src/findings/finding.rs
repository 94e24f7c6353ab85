//! One line of a probe or a checkup, and how good it is.

use serde::{Deserialize, Serialize};

/// How good a finding is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Grade {
    Good,
    Poor,
    Bad,
}

impl Grade {
    /// The word for tables.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::Good => "good",
            Self::Poor => "poor",
            Self::Bad => "bad",
        }
    }
}

/// One line of a probe or checkup.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Finding {
    pub grade: Grade,
    /// One word: "clock".
    pub subject: String,
    pub words: String,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub try_: Option<String>,
}

pub(crate) fn finding(grade: Grade, subject: &str, words: impl Into<String>, try_: Option<&str>) -> Finding {
    Finding { grade, subject: subject.into(), words: words.into(), try_: try_.map(Into::into) }
}
