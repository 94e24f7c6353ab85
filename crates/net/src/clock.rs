//! The system's clocks and randomness, for state machines that have none.

use std::sync::OnceLock;
use std::time::Instant;

use yestrel_wire::{Moment, Random};

static ORIGIN: OnceLock<Instant> = OnceLock::new();

/// Milliseconds of the monotonic clock since the process first asked, and 1,000,000: never 0.
#[must_use]
pub fn now() -> Moment {
    let origin = ORIGIN.get_or_init(Instant::now);
    Moment(1_000_000 + origin.elapsed().as_millis() as u64)
}

/// The wall-clock time of a moment.
#[must_use]
pub fn wall(moment: Moment) -> jiff::Timestamp {
    let ago = now().since(moment);
    jiff::Timestamp::now() - jiff::SignedDuration::from_millis(ago as i64)
}

/// The system's random source.
pub struct SystemRandom(ring::rand::SystemRandom);

impl SystemRandom {
    /// Boxed, as the state machines take it.
    #[must_use]
    pub fn boxed() -> Box<dyn Random> {
        Box::new(Self(ring::rand::SystemRandom::new()))
    }
}

impl Random for SystemRandom {
    fn fill(&mut self, bytes: &mut [u8]) {
        use ring::rand::SecureRandom as _;
        // Without randomness every key would be guessable: stopping is the only safe answer.
        self.0.fill(bytes).expect("the system gives random bytes");
    }
}
