//! Deadlines in order, for every state machine: what is due is found without looking at what is not.

use std::collections::{BTreeSet, HashMap};
use std::hash::Hash;

use crate::Moment;

/// Timers of a kind `T`, each with at most one deadline. Setting, clearing and taking cost the logarithm of how many are set.
#[derive(Debug)]
pub struct Deadlines<T> {
    order: BTreeSet<(Moment, T)>,
    set: HashMap<T, Moment>,
}

impl<T> Default for Deadlines<T> {
    fn default() -> Self {
        Self { order: BTreeSet::new(), set: HashMap::new() }
    }
}

impl<T: Copy + Ord + Hash> Deadlines<T> {
    /// Sets a timer, in place of the deadline that it had.
    pub fn set(&mut self, timer: T, at: Moment) {
        if let Some(before) = self.set.insert(timer, at) {
            self.order.remove(&(before, timer));
        }
        self.order.insert((at, timer));
    }

    /// Sets a timer, unless it has an earlier deadline already.
    pub fn set_sooner(&mut self, timer: T, at: Moment) {
        if self.set.get(&timer).is_none_or(|before| *before > at) {
            self.set(timer, at);
        }
    }

    /// Clears a timer; nothing happens if it is not set.
    pub fn clear(&mut self, timer: T) {
        if let Some(before) = self.set.remove(&timer) {
            self.order.remove(&(before, timer));
        }
    }

    /// Whether a timer is set.
    #[must_use]
    pub fn is_set(&self, timer: T) -> bool {
        self.set.contains_key(&timer)
    }

    /// Takes the timer that is due the longest; `None` when none is.
    pub fn due(&mut self, now: Moment) -> Option<T> {
        let (at, timer) = self.order.first().copied().filter(|(at, _)| *at <= now)?;
        self.order.remove(&(at, timer));
        self.set.remove(&timer);
        Some(timer)
    }

    /// The next deadline.
    #[must_use]
    pub fn next(&self) -> Option<Moment> {
        self.order.first().map(|(at, _)| *at)
    }

    /// How many timers are set.
    #[must_use]
    pub fn len(&self) -> usize {
        self.set.len()
    }

    /// Whether none is set.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.set.is_empty()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        /// Whatever is set and cleared, timers come when they are due, in order, each once.
        #[test]
        fn timers_come_in_the_order_of_their_last_deadline(steps in proptest::collection::vec((0_u8..6, 0_u64..50, 0_u8..4), 0..60)) {
            let mut deadlines = Deadlines::default();
            let mut model: HashMap<u8, u64> = HashMap::new();
            for (timer, at, what) in steps {
                match what {
                    0 => {
                        deadlines.clear(timer);
                        model.remove(&timer);
                    }
                    1 => {
                        deadlines.set_sooner(timer, Moment(at));
                        let sooner = model.get(&timer).copied().unwrap_or(u64::MAX).min(at);
                        model.insert(timer, sooner);
                    }
                    _ => {
                        deadlines.set(timer, Moment(at));
                        model.insert(timer, at);
                    }
                }
                prop_assert_eq!(deadlines.next().map(|at| at.0), model.values().min().copied());
                prop_assert_eq!(deadlines.len(), model.len());
            }
            let mut expected: Vec<_> = model.iter().filter(|(_, at)| **at <= 25).map(|(timer, at)| (*at, *timer)).collect();
            expected.sort_unstable();
            let mut came = Vec::new();
            while let Some(timer) = deadlines.due(Moment(25)) {
                came.push(timer);
                prop_assert!(!deadlines.is_set(timer));
            }
            prop_assert_eq!(came, expected.into_iter().map(|(_, timer)| timer).collect::<Vec<_>>());
        }
    }
}
