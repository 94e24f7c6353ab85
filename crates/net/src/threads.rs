//! What a thread can say of itself.

use std::io;

/// How far a thread that gives way stands behind others, in steps of niceness (getpriority(2)): beside one that takes all it can, it still
/// gets a quarter of a processor.
const BEHIND: i32 = 5;

/// The calling thread gives way to others where the processor is short.
///
/// # Errors
/// The system does not let it.
pub fn give_way() -> io::Result<()> {
    // On Linux this concerns the calling thread alone (setpriority(2), "C library/kernel differences").
    Ok(rustix::process::setpriority_process(None, BEHIND)?)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn one_thread_gives_way_and_the_others_do_not() {
        let niceness = || rustix::process::getpriority_process(None).unwrap();
        let before = niceness();
        let behind = std::thread::spawn(move || {
            give_way().unwrap();
            niceness()
        });
        assert_eq!(behind.join().unwrap(), BEHIND.max(before));
        assert_eq!(niceness(), before);
    }
}
