//! Why somebody is not let in, or why a session ended: the same words in tables, records, metrics and messages.

use jiff::Timestamp;
use serde::{Deserialize, Serialize};

use crate::moment;

/// Why, in one word.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Reason {
    /// The credential was revoked.
    Revoked,
    /// Its end date has passed.
    Expired,
    /// Its first day has not come.
    NotYet,
    /// The user is suspended.
    Suspended,
    /// The gateway's order names no such credential, or not for this listener.
    Unknown,
    /// The proof itself does not hold: a wrong password, a wrong code.
    Unproved,
    /// No inner address is left for the device.
    PoolFull,
    /// The two ends have no version in common.
    Versions,
    /// Nothing was heard for too long.
    Silent,
    /// A limit was reached.
    Limit,
    /// The gateway stops; it may come back.
    Shutdown,
    /// An administrator ended the session.
    #[serde(rename = "ended")]
    Administrator,
    /// The same credential opened a newer session.
    Replaced,
    /// The device closed the tunnel.
    Closed,
    /// The agent stopped without saying goodbye.
    AgentStopped,
    /// The two ends have no algorithms in common.
    Algorithms,
    /// No authority of the estate signed what was shown, or it does not hold now.
    Untrusted,
    /// Another name was dialled, or shown, than there is.
    Name,
    /// Too many wrong passwords.
    LockedOut,
    /// It began and went silent.
    Unfinished,
    /// No policy admits it, or one refuses it.
    Policy,
    /// No registry that the gateway can ask claims the name.
    Unclaimed,
    /// A reason of another version.
    #[serde(other)]
    Other,
}

impl Reason {
    /// One word for tables and records.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::Revoked => "revoked",
            Self::Expired => "expired",
            Self::NotYet => "not-yet",
            Self::Suspended => "suspended",
            Self::Unknown => "unknown",
            Self::Unproved => "unproved",
            Self::PoolFull => "pool-full",
            Self::Versions => "versions",
            Self::Silent => "silent",
            Self::Limit => "limit",
            Self::Shutdown => "shutdown",
            Self::Administrator => "ended",
            Self::Replaced => "replaced",
            Self::Closed => "closed",
            Self::AgentStopped => "agent-stopped",
            Self::Algorithms => "algorithms",
            Self::Untrusted => "untrusted",
            Self::Name => "name",
            Self::LockedOut => "locked-out",
            Self::Unfinished => "unfinished",
            Self::Policy => "policy",
            Self::Unclaimed => "unclaimed",
            Self::Other => "other",
        }
    }

    /// A sentence for the person at the device.
    #[must_use]
    pub fn sentence(self) -> &'static str {
        match self {
            Self::Revoked => "this credential was revoked",
            Self::Expired => "this credential has expired",
            Self::NotYet => "this credential is not valid yet",
            Self::Suspended => "this user is suspended",
            Self::Unknown => "the gateway does not admit this credential",
            Self::Unproved => "what was shown does not prove who it is",
            Self::PoolFull => "the gateway's pool has no address left for this device (pool full)",
            Self::Versions => "this program and the gateway have no protocol version in common",
            Self::Silent => "nothing was heard from the other end for too long",
            Self::Limit => "a limit set for this device was reached",
            Self::Shutdown => "the gateway was shut down",
            Self::Administrator => "an administrator ended the session",
            Self::Replaced => "the same credential was used to connect again, here or elsewhere",
            Self::Closed => "the device closed the tunnel",
            Self::AgentStopped => "the gateway's agent stopped",
            Self::Algorithms => "this program and the gateway have no algorithms in common",
            Self::Untrusted => "no authority of the gateway's estate signed the certificate, or it does not hold now",
            Self::Name => "another name was dialled, or shown, than there is",
            Self::LockedOut => "the account is locked out after too many wrong passwords",
            Self::Unfinished => "the sign-in began and did not come to its end",
            Self::Unclaimed => "no registry that the gateway can ask claims this name",
            Self::Policy => "the gateway's policies do not admit this now",
            Self::Other => "a reason that this version does not know",
        }
    }

    /// Whether the credential itself is the reason, so that another is needed.
    #[must_use]
    pub fn needs_another_credential(self) -> bool {
        matches!(self, Self::Revoked | Self::Expired | Self::Unknown)
    }
}

impl std::fmt::Display for Reason {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str(self.word())
    }
}

/// A refusal, and what the device's person is told beside the reason's own sentence; empty where that is enough.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Refusal {
    pub reason: Reason,
    pub words: String,
}

impl Refusal {
    /// For the reason alone.
    #[must_use]
    pub fn plain(reason: Reason) -> Self {
        Self { reason, words: String::new() }
    }

    pub(super) fn not_yet(from: Timestamp, now: Timestamp) -> Self {
        let words = format!("from {}; the gateway's clock says {}", moment(from), moment(now));
        Self { reason: Reason::NotYet, words }
    }

    pub(super) fn expired(until: Timestamp, now: Timestamp) -> Self {
        let words = format!("on {}; the gateway's clock says {}", moment(until), moment(now));
        Self { reason: Reason::Expired, words }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn reasons_travel_as_the_words_that_tables_show() {
        for reason in [Reason::NotYet, Reason::PoolFull, Reason::Administrator, Reason::AgentStopped, Reason::Closed] {
            assert_eq!(serde_json::to_value(reason).unwrap(), reason.word());
            assert_eq!(serde_json::from_value::<Reason>(reason.word().into()).unwrap(), reason);
        }
        assert_eq!(serde_json::from_str::<Reason>("\"curfew\"").unwrap(), Reason::Other);
    }
}
