//! What waits for the thread that does handshakes: bounded, and whoever has proved their address comes first.

use std::collections::VecDeque;
use std::time::Duration;

use parking_lot::{Condvar, Mutex};

/// The most that waits of either sort: some hundred kilobytes, and a tenth of a second of work.
pub const MOST: usize = 256;

/// How long whoever has taken all there was leaves the next to gather, so that a flood does not wake it for each datagram.
const GATHER: Duration = Duration::from_micros(500);

/// Work that waits, in two sorts: the preferred is taken first.
pub struct Queue<T> {
    waiting: Mutex<Waiting<T>>,
    come: Condvar,
}

struct Waiting<T> {
    sorts: [VecDeque<T>; 2],
    /// Somebody waits for work and is to be woken.
    asleep: bool,
    /// Work was taken since somebody last waited in vain.
    busy: bool,
}

impl<T> Default for Queue<T> {
    fn default() -> Self {
        let waiting = Waiting { sorts: [VecDeque::new(), VecDeque::new()], asleep: false, busy: false };
        Self { waiting: Mutex::new(waiting), come: Condvar::new() }
    }
}

impl<T> Queue<T> {
    /// Puts work in; whether there was room. What finds none is lost, as a datagram may be.
    pub fn push(&self, preferred: bool, work: T) -> bool {
        let mut waiting = self.waiting.lock();
        let sort = &mut waiting.sorts[usize::from(!preferred)];
        if sort.len() >= MOST {
            return false;
        }
        sort.push_back(work);
        let wake = std::mem::take(&mut waiting.asleep);
        drop(waiting);
        if wake {
            self.come.notify_one();
        }
        true
    }

    /// Whether so much waits that it matters who comes first.
    #[must_use]
    pub fn is_crowded(&self) -> bool {
        self.waiting.lock().sorts[1].len() >= MOST / 2
    }

    /// Takes what is next, waiting at most `wait` for it.
    pub fn take(&self, wait: Duration) -> Option<T> {
        let next = |waiting: &mut Waiting<T>| waiting.sorts.iter_mut().find_map(VecDeque::pop_front);
        let mut waiting = self.waiting.lock();
        if let Some(work) = next(&mut waiting) {
            waiting.busy = true;
            return Some(work);
        }
        if std::mem::take(&mut waiting.busy) {
            drop(waiting);
            std::thread::sleep(GATHER);
            waiting = self.waiting.lock();
            if let Some(work) = next(&mut waiting) {
                waiting.busy = true;
                return Some(work);
            }
        }
        waiting.asleep = true;
        self.come.wait_for(&mut waiting, wait);
        waiting.asleep = false;
        let work = next(&mut waiting);
        waiting.busy = work.is_some();
        work
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_preferred_comes_first_and_neither_sort_takes_the_room_of_the_other() {
        let queue = Queue::default();
        let pushed = (0..1000).filter(|number| queue.push(false, *number)).count();
        assert_eq!(pushed, MOST);
        assert!(queue.is_crowded());
        assert!(queue.push(true, 5000));
        let taken: Vec<_> = std::iter::from_fn(|| queue.take(Duration::ZERO)).collect();
        assert_eq!(taken[..2], [5000, 0]);
        assert_eq!(taken.len(), MOST + 1);
    }
}
