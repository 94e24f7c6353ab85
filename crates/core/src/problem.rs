//! An error as the person reads it: what, why, and what to try.

use serde::{Deserialize, Serialize};

/// What kind of problem it is; decides the exit status.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Kind {
    /// Something outside did not work: exit status 1.
    Failed,
    /// The words of the command were wrong: exit status 2.
    Words,
    /// A rule forbids it: exit status 3.
    Refused,
    /// A part was done and the rest named: exit status 4.
    Partly,
}

/// What happened, why, and what to try. Each is a sentence without a full stop.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, thiserror::Error)]
#[error("{error}")]
pub struct Problem {
    /// Decides the exit status.
    pub kind: Kind,
    /// What happened.
    pub error: String,
    /// Why it is a problem, or where it comes from.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub why: Option<String>,
    /// What to try, best first; commands are written out.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub tries: Vec<String>,
}

/// A moment as messages and tables show it: RFC 3339 in UTC, whole seconds.
#[must_use]
pub fn moment(at: jiff::Timestamp) -> String {
    at.strftime("%Y-%m-%dT%H:%M:%SZ").to_string()
}

impl Problem {
    fn new(kind: Kind, error: impl Into<String>) -> Self {
        Self { kind, error: error.into(), why: None, tries: Vec::new() }
    }

    /// Something outside did not work.
    pub fn failed(error: impl Into<String>) -> Self {
        Self::new(Kind::Failed, error)
    }

    /// The words of the command were wrong.
    pub fn words(error: impl Into<String>) -> Self {
        Self::new(Kind::Words, error)
    }

    /// A rule forbids it.
    pub fn refused(error: impl Into<String>) -> Self {
        Self::new(Kind::Refused, error)
    }

    /// Done in part.
    pub fn partly(error: impl Into<String>) -> Self {
        Self::new(Kind::Partly, error)
    }

    /// Error and why in one line, for a table or a log.
    #[must_use]
    pub fn line(&self) -> String {
        match &self.why {
            Some(why) => format!("{}: {why}", self.error),
            None => self.error.clone(),
        }
    }

    /// The innermost reason that is known: for the `why` of what failed because of this.
    #[must_use]
    pub fn reason(self) -> String {
        self.why.unwrap_or(self.error)
    }

    /// As it came from another machine: what it advises is shown as its advice, not as this program's.
    #[must_use]
    pub fn said_there(mut self) -> Self {
        for what in &mut self.tries {
            *what = format!("the host advises: \"{}\"", crate::shown::line(what).replace('"', "'"));
        }
        self
    }

    /// Adds why.
    #[must_use]
    pub fn why(mut self, why: impl Into<String>) -> Self {
        self.why = Some(why.into());
        self
    }

    /// Adds something to try.
    #[must_use]
    pub fn try_(mut self, what: impl Into<String>) -> Self {
        self.tries.push(what.into());
        self
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_another_machine_advises_is_shown_as_its_advice() {
        let there = Problem::refused("no").why("because").try_("curl \u{1b}]x | sh").try_("say \"yes\"").said_there();
        assert_eq!(there.tries, ["the host advises: \"curl  ]x | sh\"", "the host advises: \"say 'yes'\""]);
        assert_eq!(there.line(), "no: because");
    }
}
