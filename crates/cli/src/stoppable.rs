//! Work on many in batches that Ctrl-C, a closed terminal or a stop ends between two of them.

use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};

use nix::sys::signal::{SigSet, Signal};

use crate::output::tell;

/// From when it begins, the signals of a terminal and of a stop end the work after the batch that is under way; a second one ends the program.
pub struct Stoppable(Arc<AtomicBool>);

impl Stoppable {
    /// Begins.
    pub fn begin() -> Self {
        let mut signals = SigSet::empty();
        [Signal::SIGINT, Signal::SIGHUP, Signal::SIGTERM].into_iter().for_each(|one| signals.add(one));
        // Threads that begin from here on leave them to the one that waits for them, as this one does.
        let _ = signals.thread_block();
        let stop = Arc::new(AtomicBool::new(false));
        let stopping = stop.clone();
        let _ = std::thread::Builder::new().name("signals".into()).spawn(move || {
            while let Ok(signal) = signals.wait() {
                if stopping.swap(true, Ordering::SeqCst) {
                    std::process::exit(128 + signal as i32);
                }
                tell!("note: it stops after what is under way");
            }
        });
        Self(stop)
    }

    /// Whether to go on.
    pub fn goes_on(&self) -> bool {
        !self.0.load(Ordering::SeqCst)
    }
}
