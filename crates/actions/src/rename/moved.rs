//! A record in the place of another.

use yestrel_core::{Problem, Result};
use yestrel_store::{Book, Record};

/// Puts a record in the place of the one that was called `old`.
pub(super) fn instead<T: Record>(book: &Book<'_>, old: &str, record: &T) -> Result<()> {
    // What is unique in it is so only once the old one is gone.
    book.remove::<T>(old)?;
    book.add(record)
}

/// Another name is another.
pub(super) fn different(old: &str, new: &str) -> Result<()> {
    if old == new {
        return Err(Problem::words(format!("{old} is called that already")).try_("another name"));
    }
    Ok(())
}
