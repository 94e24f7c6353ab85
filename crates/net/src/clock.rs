//! The system's clocks and randomness, for state machines that have none.

use std::sync::OnceLock;
use std::sync::atomic::{AtomicI64, Ordering};
use std::time::Instant;

use yestrel_wire::{Moment, Random};

static ORIGIN: OnceLock<Instant> = OnceLock::new();

/// Milliseconds of the monotonic clock since the process first asked, and 1,000,000: never 0.
#[must_use]
pub fn now() -> Moment {
    let origin = ORIGIN.get_or_init(Instant::now);
    Moment(1_000_000 + origin.elapsed().as_millis() as u64)
}

/// By how many seconds the clock of this process is set otherwise than the system's: in the lab, so that it can be Friday there.
static AHEAD: AtomicI64 = AtomicI64::new(0);

/// Sets the clock of this process ahead of the system's by so many seconds, or back. Whether it was set otherwise before.
pub fn set_ahead(seconds: i64) -> bool {
    AHEAD.swap(seconds, Ordering::Relaxed) != seconds
}

/// What the clock of this process shows.
#[must_use]
pub fn shown() -> jiff::Timestamp {
    let system = jiff::Timestamp::now();
    system.checked_add(jiff::SignedDuration::from_secs(AHEAD.load(Ordering::Relaxed))).unwrap_or(system)
}

/// The wall-clock time of a moment.
#[must_use]
pub fn wall(moment: Moment) -> jiff::Timestamp {
    let ago = now().since(moment);
    shown() - jiff::SignedDuration::from_millis(ago as i64)
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
