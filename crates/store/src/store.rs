//! What an estate is kept in: transactions, whatever is behind them.

use std::path::Path;

use jiff::Timestamp;
use yestrel_core::{Problem, Result};

use crate::book::Book;

/// What an estate is kept in.
pub trait Store {
    /// A consistent look.
    ///
    /// # Errors
    /// What `look` returns, or the store's own.
    fn look(&self, now: Timestamp, look: &mut dyn FnMut(&Book<'_>) -> Result<()>) -> Result<()>;

    /// One change, whole or, when `change` fails, not at all. Waits for another that is writing.
    ///
    /// # Errors
    /// What `change` returns, or the store's own.
    fn change(&mut self, now: Timestamp, who: &str, change: &mut dyn FnMut(&Book<'_>) -> Result<()>) -> Result<()>;

    /// What a change would come to: as [`Store::change`], and then nothing of it happens.
    ///
    /// # Errors
    /// As [`Store::change`].
    fn try_out(&mut self, now: Timestamp, who: &str, change: &mut dyn FnMut(&Book<'_>) -> Result<()>) -> Result<()>;

    /// Copies everything as it stands at one moment, whatever others do meanwhile, into one file of the form that saved estates have.
    ///
    /// # Errors
    /// The file is there, or cannot be written.
    fn copy_to(&mut self, path: &Path) -> Result<()>;
}

fn nothing_done() -> Problem {
    Problem::failed("the estate did not answer").why("its store asked nobody what to do")
}

impl dyn Store + '_ {
    /// A consistent look.
    ///
    /// # Errors
    /// What `look` returns, or the store's own.
    pub fn read<R>(&self, now: Timestamp, look: impl FnOnce(&Book<'_>) -> Result<R>) -> Result<R> {
        let (mut look, mut found) = (Some(look), None);
        self.look(now, &mut |book| {
            found = look.take().map(|look| look(book)).transpose()?;
            Ok(())
        })?;
        found.ok_or_else(nothing_done)
    }

    /// One change, whole or not at all.
    ///
    /// # Errors
    /// What `change` returns, or the store's own.
    pub fn write<R>(&mut self, now: Timestamp, who: &str, change: impl FnOnce(&Book<'_>) -> Result<R>) -> Result<R> {
        let (mut change, mut made) = (Some(change), None);
        self.change(now, who, &mut |book| {
            made = change.take().map(|change| change(book)).transpose()?;
            Ok(())
        })?;
        made.ok_or_else(nothing_done)
    }

    /// What a change would come to.
    ///
    /// # Errors
    /// As [`Store::change`].
    pub fn rehearse<R>(&mut self, now: Timestamp, who: &str, change: impl FnOnce(&Book<'_>) -> Result<R>) -> Result<R> {
        let (mut change, mut made) = (Some(change), None);
        self.try_out(now, who, &mut |book| {
            made = change.take().map(|change| change(book)).transpose()?;
            Ok(())
        })?;
        made.ok_or_else(nothing_done)
    }
}
