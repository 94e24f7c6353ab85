//! What waits for the thread that does handshakes: bounded, and whoever has proved their address comes first.

use std::collections::VecDeque;
use std::time::Duration;

use parking_lot::{Condvar, Mutex};

/// The most that waits of either sort: some hundred kilobytes, and a tenth of a second of work.
pub const MOST: usize = 256;

/// Work that waits, in two sorts: the preferred is taken first.
pub struct Queue<T> {
    waiting: Mutex<[VecDeque<T>; 2]>,
    come: Condvar,
}

impl<T> Default for Queue<T> {
    fn default() -> Self {
        Self { waiting: Mutex::new([VecDeque::new(), VecDeque::new()]), come: Condvar::new() }
    }
}

impl<T> Queue<T> {
    /// Puts work in; whether there was room. What finds none is lost, as a datagram may be.
    pub fn push(&self, preferred: bool, work: T) -> bool {
        let mut waiting = self.waiting.lock();
        let sort = &mut waiting[usize::from(!preferred)];
        if sort.len() >= MOST {
            return false;
        }
        sort.push_back(work);
        drop(waiting);
        self.come.notify_one();
        true
    }

    /// Takes what is next, waiting at most `wait` for it.
    pub fn take(&self, wait: Duration) -> Option<T> {
        let next = |waiting: &mut [VecDeque<T>; 2]| waiting.iter_mut().find_map(VecDeque::pop_front);
        let mut waiting = self.waiting.lock();
        if let Some(work) = next(&mut waiting) {
            return Some(work);
        }
        self.come.wait_for(&mut waiting, wait);
        next(&mut waiting)
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
        assert!(queue.push(true, 5000));
        let taken: Vec<_> = std::iter::from_fn(|| queue.take(Duration::ZERO)).collect();
        assert_eq!(taken[..2], [5000, 0]);
        assert_eq!(taken.len(), MOST + 1);
    }
}
