//! Whether strangers flood a port, so that a thread that receives lets their datagrams gather.

use std::time::Duration;

use yestrel_wire::Moment;

/// So many pieces in one receive are worth its system calls.
pub const ENOUGH: usize = 24;
/// How long more datagrams gather while strangers flood the port.
pub const GATHER: Duration = Duration::from_micros(100);
/// So many datagrams of strangers in [`SPAN`] are a flood: five thousand a second.
const FLOOD: u32 = 50;
/// Milliseconds.
const SPAN: u64 = 10;

/// Datagrams of nobody known, lately.
#[derive(Default)]
pub struct Strangers {
    since: Moment,
    count: u32,
    flooded: bool,
}

impl Strangers {
    /// Counts so many; whether strangers flood the port.
    pub fn flood(&mut self, now: Moment, unknown: u32) -> bool {
        self.count += unknown;
        if now.since(self.since) >= SPAN {
            self.flooded = self.count >= FLOOD && now.since(self.since) < 2 * SPAN;
            *self = Self { since: now, count: 0, flooded: self.flooded };
        }
        self.flooded
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_flood_is_as_many_strangers_as_no_site_has_and_is_over_soon_after_the_last() {
        let mut strangers = Strangers::default();
        let mut at = Moment(1_000_000);
        let mut play = |each: u32, spans: u64| {
            let mut flooded = false;
            for _ in 0..spans * SPAN {
                at = at.after(1);
                flooded = strangers.flood(at, each);
            }
            flooded
        };
        assert!(!play(FLOOD / SPAN as u32 - 1, 20), "a few");
        assert!(play(FLOOD / SPAN as u32 + 1, 3), "five thousand a second");
        assert!(!play(0, 2), "it is over");
        // As many, but over a long time in which nothing else arrived.
        assert!(!strangers.flood(at.after(60_000), 10 * FLOOD));
    }
}
