//! What was recorded is carried to its end: a closed terminal or Ctrl-C does not leave a revocation half-way.

use std::sync::Once;
use std::sync::atomic::{AtomicUsize, Ordering};

use nix::sys::signal::{SigSet, Signal};

use crate::output::tell;

/// How many pieces of work are not to be left half-way.
static WORK: AtomicUsize = AtomicUsize::new(0);
static WATCHED: Once = Once::new();

/// As long as this lives, the signals of a terminal and of a stop do not end the program; they are told why.
pub struct Unhurried(());

impl Unhurried {
    /// Begins a piece of work that is to be carried to its end.
    pub fn begin() -> Self {
        WORK.fetch_add(1, Ordering::SeqCst);
        let mut signals = SigSet::empty();
        [Signal::SIGINT, Signal::SIGHUP, Signal::SIGTERM, Signal::SIGQUIT].into_iter().for_each(|one| signals.add(one));
        // Threads that begin from here on leave them to the one that waits for them, as this one does.
        let _ = signals.thread_block();
        WATCHED.call_once(|| {
            let _ = std::thread::Builder::new().name("signals".into()).spawn(move || {
                loop {
                    match signals.wait() {
                        Ok(_) if WORK.load(Ordering::SeqCst) > 0 => {
                            tell!("note: what was recorded is being carried to its gateways; this ends by itself");
                        }
                        Ok(signal) => std::process::exit(128 + signal as i32),
                        Err(_) => return,
                    }
                }
            });
        });
        Self(())
    }
}

impl Drop for Unhurried {
    fn drop(&mut self) {
        WORK.fetch_sub(1, Ordering::SeqCst);
    }
}
