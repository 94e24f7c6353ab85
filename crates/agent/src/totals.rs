//! What an agent counted since it began to run.

use std::collections::BTreeMap;
use std::time::Instant;

use yestrel_core::admission::Reason;
use yestrel_core::exchange::NewsEvent;

/// What was put right, and what cannot be.
#[derive(Default)]
pub(crate) struct Mended {
    pub told: Option<Instant>,
    /// Since the last line.
    pub times: u64,
    pub what: Vec<&'static str>,
    /// What is not right now.
    pub amiss: Option<String>,
}

/// What was counted since the agent began to run.
#[derive(Default)]
pub(crate) struct Totals {
    pub opened: u64,
    /// By reason.
    pub refused: BTreeMap<String, u64>,
    /// By reason.
    pub ended: BTreeMap<String, u64>,
    /// Bytes of sessions that are over.
    pub received: u64,
    pub sent: u64,
}

impl Totals {
    pub fn refused(&mut self, reason: Reason) {
        *self.refused.entry(reason.to_string()).or_default() += 1;
    }

    pub fn count(&mut self, event: &NewsEvent) {
        match event {
            NewsEvent::Opened { .. } => self.opened += 1,
            NewsEvent::Ended { reason, received, sent, .. } => {
                *self.ended.entry(reason.to_string()).or_default() += 1;
                self.received += received;
                self.sent += sent;
            }
            _ => {}
        }
    }
}
