//! Whether strangers flood a port, so that a thread that receives lets their datagrams gather, and has the system drop most of them.

use std::time::Duration;

use yestrel_net::sieve::ALL;
use yestrel_wire::Moment;

/// So many pieces in one receive are worth its system calls.
pub const ENOUGH: usize = 24;
/// How long more datagrams gather while strangers flood the port.
pub const GATHER: Duration = Duration::from_micros(100);
/// So many datagrams of strangers in [`SPAN`] are a flood: five thousand a second.
const FLOOD: u64 = 50;
/// Milliseconds.
const SPAN: u64 = 10;
/// So many strangers are looked at in [`SPAN`], at most: thirty thousand a second, or fifteen thousand who know how to call. Beyond, lots are drawn.
const LOOKED_AT: u64 = 300;
/// Somebody who knows how to call is so many times the work of somebody who does not.
const CALLER: u64 = 2;
/// How long it has to have been calmer before more of them are looked at, in milliseconds.
const CALM: u64 = 200;
/// Lines about it are so far apart, in milliseconds.
const SAY: u64 = 10_000;
/// However many there are, so many of [`ALL`] are looked at: somebody who calls again and again comes in.
const LEAST: u32 = 32;

/// Datagrams of nobody known, in one receive.
#[derive(Debug, Clone, Copy, Default)]
pub struct Unknown {
    pub all: u32,
    /// Of them, openings with a right tag.
    pub callers: u32,
}

/// Datagrams of nobody known, lately.
pub struct Strangers {
    since: Moment,
    count: u64,
    callers: u64,
    flooded: bool,
    /// Whoever receives found as much as it takes at once, each time: it does not keep up.
    behind: bool,
    /// How many of [`ALL`] are looked at.
    share: u32,
    /// The system drops nothing for this program: all are looked at, whatever comes.
    helpless: bool,
    /// Since when a larger share would do.
    calm: Option<Moment>,
    /// When it was last said that lots are drawn, and whether they were then.
    said: (Moment, bool),
}

impl Default for Strangers {
    fn default() -> Self {
        Self {
            since: Moment::default(),
            count: 0,
            callers: 0,
            flooded: false,
            behind: true,
            share: ALL,
            helpless: false,
            calm: None,
            said: (Moment::default(), false),
        }
    }
}

impl Strangers {
    /// Counts so many of one receive, some of whom know how to call, which was as much as is taken at once or not; whether strangers flood the port.
    pub fn flood(&mut self, now: Moment, unknown: Unknown, full: bool) -> bool {
        self.behind &= full;
        self.count += u64::from(unknown.all);
        self.callers += u64::from(unknown.callers);
        let span = now.since(self.since);
        if span >= SPAN {
            self.flooded = self.count >= FLOOD && span < 2 * SPAN;
            let each_span = |count: u64| count * SPAN / span;
            self.draw(now, each_span(self.count), each_span(self.count + self.callers * (CALLER - 1)));
            (self.since, self.count, self.callers, self.behind) = (now, 0, 0, true);
        }
        self.flooded
    }

    /// How many of [`ALL`] strangers are to be looked at now.
    pub fn share(&self) -> u32 {
        self.share
    }

    /// The system drops nothing for this program, and is not asked again.
    pub fn do_without(&mut self) {
        (self.helpless, self.share) = (true, ALL);
    }

    /// Whether lots are drawn now, where it is to be said: when it has changed, and at most once in [`SAY`].
    pub fn says(&mut self, now: Moment) -> Option<bool> {
        let drawn = self.share < ALL;
        if drawn == self.said.1 || now.since(self.said.0) < SAY {
            return None;
        }
        self.said = (now, drawn);
        Some(drawn)
    }

    /// A smaller share at once where more came than are looked at, a larger one after a while.
    fn draw(&mut self, now: Moment, count: u64, work: u64) {
        if self.helpless {
            return;
        }
        if work > LOOKED_AT || (self.behind && count >= FLOOD) {
            self.calm = None;
            self.share = (self.share / 2).max(LEAST);
        } else if self.share < ALL && !self.behind && work * 2 < LOOKED_AT {
            let since = *self.calm.get_or_insert(now);
            if now.since(since) >= CALM {
                self.calm = None;
                self.share *= 2;
            }
        } else {
            self.calm = None;
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const MOST: u32 = 150;

    fn noise(all: u32) -> Unknown {
        Unknown { all, callers: 0 }
    }

    /// Plays so many spans of a flood of which `each` come in a millisecond, of which whoever receives takes 150 in that time.
    fn play(strangers: &mut Strangers, at: &mut Moment, each: u32, spans: u64) -> bool {
        let mut flooded = false;
        for _ in 0..spans * SPAN {
            *at = at.after(1);
            let heard = each * strangers.share() / ALL;
            flooded = strangers.flood(*at, noise(heard.min(MOST)), heard > MOST);
        }
        flooded
    }

    #[test]
    fn a_flood_is_as_many_strangers_as_no_site_has_and_is_over_soon_after_the_last() {
        let (mut strangers, mut at) = (Strangers::default(), Moment(1_000_000));
        let mut play = |each: u64, spans: u64| play(&mut strangers, &mut at, each as u32, spans);
        assert!(!play(FLOOD / SPAN - 1, 20), "a few");
        assert!(play(FLOOD / SPAN + 1, 3), "five thousand a second");
        assert!(!play(0, 2), "it is over");
        // As many, but over a long time in which nothing else arrived.
        assert!(!strangers.flood(at.after(60_000), noise(10 * FLOOD as u32), false));
    }

    #[test]
    fn of_a_large_flood_as_many_are_looked_at_as_of_a_middling_one_and_of_none_all() {
        let (mut strangers, mut at) = (Strangers::default(), Moment(1_000_000));
        let mut after = |each: u32, spans: u64| {
            play(&mut strangers, &mut at, each, spans);
            strangers.share()
        };
        assert_eq!(after(20, 100), ALL, "twenty thousand a second");
        assert_eq!(after(100, 3), ALL / 4, "a hundred thousand: at once");
        assert_eq!(after(100, 500), ALL / 4, "and so it stays");
        assert_eq!(after(10_000, 500), LEAST);
        assert_eq!(after(0, 10), LEAST, "not at once");
        assert_eq!(after(0, 200), ALL, "when it is over");
    }

    #[test]
    fn where_not_even_a_smaller_flood_can_be_followed_lots_are_drawn_as_well() {
        let (mut strangers, mut at) = (Strangers::default(), Moment(1_000_000));
        for _ in 0..10 * SPAN {
            at = at.after(1);
            strangers.flood(at, noise(10), strangers.share() == ALL);
        }
        assert_eq!(strangers.share(), ALL / 2);
    }

    #[test]
    fn where_the_system_drops_nothing_nobody_says_that_it_does() {
        let (mut strangers, mut at) = (Strangers::default(), Moment(1_000_000));
        play(&mut strangers, &mut at, 100, 5);
        assert!(strangers.share() < ALL);
        strangers.do_without();
        assert!(play(&mut strangers, &mut at, 100, 500), "it is a flood all the same");
        assert_eq!((strangers.share(), strangers.says(at)), (ALL, None));
    }

    #[test]
    fn who_knows_how_to_call_counts_for_two() {
        let (mut strangers, mut at) = (Strangers::default(), Moment(1_000_000));
        for _ in 0..100 * SPAN {
            at = at.after(1);
            let heard = 20 * strangers.share() / ALL;
            strangers.flood(at, Unknown { all: heard, callers: heard }, false);
        }
        assert_eq!(strangers.share(), ALL / 2, "of twenty thousand a second ten are heard");
    }

    #[test]
    fn that_lots_are_drawn_is_said_once_however_a_flood_comes_and_goes() {
        let (mut strangers, mut at) = (Strangers::default(), Moment(1_000_000));
        let mut said = Vec::new();
        for round in 0..40 {
            play(&mut strangers, &mut at, if round % 2 == 0 { 100 } else { 0 }, 50);
            said.extend(strangers.says(at));
        }
        // In twenty seconds.
        assert_eq!(said, [true, false]);
    }
}
