//! What an agent saw, kept until it is collected and after.

use std::net::Ipv4Addr;

use jiff::Timestamp;
use serde::{Deserialize, Serialize};

use crate::admission::Reason;
use crate::keys::PublicKey;

/// Something that an agent saw.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct News {
    /// From 1. A gap: what was there had to be dropped before it was collected.
    pub number: u64,
    pub at: Timestamp,
    #[serde(flatten)]
    pub event: NewsEvent,
}

/// What was seen.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[serde(tag = "event", rename_all = "kebab-case")]
pub enum NewsEvent {
    /// The agent began to run; sessions that it had before are over.
    Started { version: String },
    /// A device came in.
    Opened {
        session: u64,
        device: String,
        /// By which its credential is known.
        identity: PublicKey,
        listener: String,
        from: String,
        inner: Ipv4Addr,
        /// Whether the inner address was leased at this sign-in.
        #[serde(default)]
        leased: bool,
        /// The newest way notice that the device has taken; 0 for none.
        #[serde(default)]
        notice: u32,
        /// The policy by which it was admitted.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        policy: Option<String>,
        /// By which method it proved who it is, in the word of policies for it.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        method: Option<String>,
        /// How many policies were asked, the one that admitted it with them.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        asked: Option<u16>,
        /// The realm of the name that was given.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        realm: Option<String>,
    },
    /// An order was brought to another gateway, which has it now.
    Passed { gateway: String, order: u64 },
    /// A device has taken a way notice.
    Noticed { identity: PublicKey, notice: u32 },
    /// A device proved a new address.
    Moved { session: u64, to: String },
    /// A session is over.
    Ended {
        session: u64,
        device: String,
        /// By which its credential is known.
        identity: PublicKey,
        reason: Reason,
        words: String,
        received: u64,
        sent: u64,
        last_heard: Timestamp,
    },
    /// Somebody was not let in, so many times since the last line on that credential and reason; the address is the latest.
    Refused {
        device: Option<String>,
        from: String,
        reason: Reason,
        times: u64,
        /// What it was, of the latest, for an administrator.
        #[serde(default, skip_serializing_if = "String::is_empty")]
        words: String,
        /// The method, of the latest; nothing of strangers.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        method: Option<String>,
    },
    /// An order came into force.
    Carried { order: u64 },
    /// Nobody confirmed it, so the one before is in force again.
    Undone { order: u64 },
    /// Something else on the host had changed what the gateway needs, so many times since the last line; it is right again.
    Righted { what: String, times: u64 },
    /// Of a version that knows more.
    #[serde(other)]
    Other,
}
