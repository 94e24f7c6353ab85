//! An order as it was signed, and what became of it.

use jiff::Timestamp;
use serde::{Deserialize, Serialize};

use crate::order::Envelope;

/// An order as it was signed, and what became of it.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct StoredOrder {
    /// `harbour 13`.
    pub name: String,
    pub gateway: String,
    pub number: u64,
    pub envelope: Envelope,
    /// SHA-256 of the order's text.
    pub hash: String,
    pub made: Timestamp,
    /// When the agent confirmed it.
    pub received: Option<Timestamp>,
}
