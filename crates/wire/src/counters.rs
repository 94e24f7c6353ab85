//! What happened in a session, counted by whoever moves its packets, read by whoever asks.

use std::sync::atomic::{AtomicU64, Ordering};

use crate::Moment;

/// Milliseconds without an answer after which the other end counts as silent.
pub const SILENT_AFTER: u64 = 2_000;

/// What happened in a session, under whatever keys. Bytes are those of inner packets.
#[derive(Debug, Default)]
pub struct Counters {
    /// Bytes of inner packets that this end sent.
    pub sent: AtomicU64,
    /// Bytes of inner packets that this end received.
    pub received: AtomicU64,
    /// When this end last heard the other: milliseconds of [`Moment`].
    pub heard: AtomicU64,
    /// When this end last sent anything.
    pub spoke: AtomicU64,
    /// Since when what this end sent has had no answer; 0: it has had one.
    pub unanswered: AtomicU64,
}

impl Counters {
    /// When the other end was last heard.
    #[must_use]
    pub fn last_heard(&self) -> Moment {
        Moment(self.heard.load(Ordering::Relaxed))
    }

    /// Whether this end has sent something and heard nothing for a while.
    #[must_use]
    pub fn is_silent(&self, now: Moment) -> bool {
        let since = self.unanswered.load(Ordering::Relaxed);
        since > 0 && now.since(Moment(since)) >= SILENT_AFTER
    }

    /// When this end last sent anything.
    #[must_use]
    pub fn last_spoke(&self) -> Moment {
        Moment(self.spoke.load(Ordering::Relaxed))
    }
}
