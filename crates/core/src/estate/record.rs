//! What happened: revocations, sessions.

use std::net::Ipv4Addr;

use jiff::Timestamp;
use serde::{Deserialize, Serialize};

/// A key that is out for good.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Revocation {
    /// The public key in base64: the table's key.
    pub name: String,
    pub device: String,
    pub reason: String,
    pub at: Timestamp,
    /// Gateways that must know it.
    pub gateways: Vec<String>,
}

/// A session, or the record of one.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct Session {
    /// `harbour 1762`.
    pub name: String,
    pub gateway: String,
    pub number: u64,
    pub device: String,
    pub from_address: String,
    pub inner: Ipv4Addr,
    pub opened: Timestamp,
    pub ended: Option<Timestamp>,
    pub reason: Option<String>,
    /// Bytes of inner packets from the device.
    pub received: u64,
    /// Bytes of inner packets to the device.
    pub sent: u64,
    pub last_heard: Option<Timestamp>,
    /// By which it was admitted, as far as the gateway said.
    #[serde(default)]
    pub policy: Option<String>,
    /// By which it was proved who comes, in the word of policies for it, as far as the gateway said.
    #[serde(default)]
    pub method: Option<String>,
    /// How many policies were asked at its beginning, the one that admitted it with them: the first so many of the list that was in force.
    #[serde(default)]
    pub asked: Option<u16>,
    /// The realm of the name that was given.
    #[serde(default)]
    pub realm: Option<String>,
}
