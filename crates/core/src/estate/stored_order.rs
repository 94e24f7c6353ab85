//! An order as it was signed, and what became of it.

use jiff::Timestamp;
use serde::{Deserialize, Serialize};

/// An order as it was signed, whole or as an amendment, and what became of it.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct StoredOrder {
    /// `harbour 13`.
    pub name: String,
    pub gateway: String,
    pub number: u64,
    /// The number of the whole order that it amends; its own, where it is whole.
    pub base: u64,
    /// Ed25519 (RFC 8032), base64.
    pub signature: String,
    /// By the estate's new key, where the order names one.
    pub successor_signature: Option<String>,
    /// SHA-256 of the text.
    pub hash: String,
    /// Everything that a whole order says but of people, as JSON.
    pub settings: Option<String>,
    /// Bytes of the whole order that it stands on.
    pub size: u64,
    /// Bytes of the amendments on that, this one included.
    pub amended: u64,
    pub made: Timestamp,
    /// When the agent confirmed it.
    pub received: Option<Timestamp>,
}

impl StoredOrder {
    /// What the order `number` of a gateway is called.
    #[must_use]
    pub fn name_of(gateway: &str, number: u64) -> String {
        format!("{gateway} {number}")
    }
}

/// What was signed as an order, whole or as an amendment; of old ones it is not kept.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct OrderText {
    /// That of the order.
    pub name: String,
    pub text: String,
}

/// What is known of an order without its signatures.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct OrderKept {
    /// `harbour 13`.
    pub name: String,
    pub gateway: String,
    pub number: u64,
    /// The number of the whole order that it amends; its own, where it is whole.
    pub base: u64,
    /// SHA-256 of the order's text.
    pub hash: String,
    /// Bytes of the whole order that it stands on.
    pub size: u64,
    /// Bytes of the amendments on that, this one included.
    pub amended: u64,
    pub made: Timestamp,
    /// When the agent confirmed it.
    pub received: Option<Timestamp>,
}

impl OrderKept {
    /// Whether one more amendment may stand on it. At some time it is cheaper to begin anew.
    #[must_use]
    pub fn may_be_amended(&self) -> bool {
        self.number - self.base < MOST_AMENDMENTS && self.amended <= (self.size / 4).max(LEAST_AMENDED)
    }
}

/// How many amendments stand on one whole order at most.
const MOST_AMENDMENTS: u64 = 200;
/// How many bytes of amendments stand on an order however small it is.
const LEAST_AMENDED: u64 = 64 * 1024;
