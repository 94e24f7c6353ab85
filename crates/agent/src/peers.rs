//! What an agent remembers of the estate's other gateways, and what it hears of them.

use std::collections::HashMap;
use std::time::{Duration, Instant};

use yestrel_core::keys::PublicKey;

/// Bytes at most of what another gateway may say at once: an order for a hundred thousand devices is shorter.
pub const LONGEST: usize = 32 * 1024 * 1024;
/// What was sent to somebody is not sent again for so long.
const NOT_AGAIN: Duration = Duration::from_secs(3600);

/// What came over a listener, for the thread that deals with it.
pub struct Heard {
    pub listener: String,
    pub from: PublicKey,
    /// Nothing: it has just come in.
    pub bytes: Vec<u8>,
}

/// What an agent remembers of the others.
#[derive(Default)]
pub(crate) struct Memory {
    /// When each gateway was last met, by its key.
    pub met: HashMap<PublicKey, Instant>,
    /// Which order was sent to whom, and when: by key and hash.
    sent: HashMap<(PublicKey, String), Instant>,
}

impl Memory {
    /// Whether an order may be sent to somebody now; from then on it counts as sent.
    pub fn may_send(&mut self, to: PublicKey, hash: &str) -> bool {
        let now = Instant::now();
        self.sent.retain(|_, at| now.duration_since(*at) < NOT_AGAIN);
        let mut fresh = false;
        self.sent.entry((to, hash.to_owned())).or_insert_with(|| {
            fresh = true;
            now
        });
        fresh
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_order_is_not_sent_again_and_again_to_whoever_cannot_take_it() {
        let mut memory = Memory::default();
        let (one, other) = (PublicKey([1; 32]), PublicKey([2; 32]));
        assert!(memory.may_send(one, "a") && memory.may_send(other, "a") && memory.may_send(one, "b"));
        assert!(!memory.may_send(one, "a") && !memory.may_send(other, "a"));
    }
}
