//! Rows of any database, and what a database must be able to do with them.

use std::collections::BTreeSet;

use serde_json::{Map, Value};
use yestrel_core::Result;
use yestrel_core::audit::{HistoryRow, SignedHead};
use yestrel_core::undo::Change;

/// A row: column to value; lists and structures as JSON text.
pub type Row = Map<String, Value>;

/// One cell of a row that is being looked at.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Cell<'a> {
    Null,
    Integer(i64),
    Text(&'a str),
}

/// A row while it is looked at: nothing of it is copied that nobody asks for.
pub trait View {
    /// The name of the column `at`; `None` after the last.
    fn column(&self, at: usize) -> Option<&str>;

    /// The cell in the column `at`.
    ///
    /// # Errors
    /// It holds what no column of an estate holds.
    fn cell(&self, at: usize) -> Result<Cell<'_>>;
}

/// What several records of one table have in common with a record of another, kept by the database beside the lists in them.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Link {
    /// Users of a group.
    Members,
    /// Credentials that are not revoked, and may come in at a gateway.
    Admitted,
    /// Revocations that a gateway must know.
    KeptOut,
    /// Records of devices whose entries may be other than a gateway's newest order says.
    Pending,
}

/// A number that stands beside the columns of a row: how many rows of another table have its key in a column.
#[derive(Debug, Clone, Copy)]
pub struct Count {
    /// What the number is called.
    pub named: &'static str,
    pub table: &'static str,
    pub by: &'static str,
    /// Only rows that have nothing in this column.
    pub without: Option<&'static str>,
}

/// Which rows, in the order of their keys.
#[derive(Debug, Clone, Default)]
pub struct Query<'q> {
    pub table: &'static str,
    /// Only these columns; none: all.
    pub columns: &'static [&'static str],
    pub counts: &'static [Count],
    /// Columns with these values (`Null` for none).
    pub filters: &'q [(&'q str, Value)],
    /// Only what is linked so to the record of this name.
    pub linked: Option<(Link, &'q str)>,
    /// Only those in which this column begins so.
    pub beginning: Option<(&'static str, &'q str)>,
    /// Only those in which this column has something.
    pub having: Option<&'static str>,
    /// Only those in which this column has something, and that is at most this.
    pub at_most: Option<(&'static str, &'q str)>,
    /// Only those in which this column is at least this.
    pub at_least: Option<(&'static str, &'q str)>,
    /// In the order of this column, and of keys only among those that have the same there.
    pub by: Option<&'static str>,
    /// Only keys after this one.
    pub after: Option<&'q str>,
    pub limit: Option<usize>,
}

/// What a database must be able to do, within one transaction. `table` and column names come from this program
/// alone, never from outside.
pub trait Rows {
    /// The row with this key.
    ///
    /// # Errors
    /// The database cannot be read.
    fn get(&self, table: &str, key: &str) -> Result<Option<Row>>;

    /// Shows the rows of a query one by one, for as long as `visit` says yes.
    ///
    /// # Errors
    /// The database cannot be read, or what `visit` returns.
    fn each(&self, query: &Query<'_>, visit: &mut dyn FnMut(&dyn View) -> Result<bool>) -> Result<()>;

    /// Whether the text in a column of the row with this key has `text` in it; no where there is no such row.
    ///
    /// # Errors
    /// The database cannot be read.
    fn holds(&self, table: &str, column: &str, key: &str, text: &str) -> Result<bool>;

    /// Addresses of a listener's pool that can be given, at most `most`, as numbers at least `from` and below `below`: those whose time of
    /// being held is over, the longest first, then the lowest that are in no row; each with whether it is in one. None: the pool is full.
    ///
    /// # Errors
    /// As [`Rows::put`]: where it looked is noted, so that the next look costs no more than this one.
    fn free_addresses(&self, listener: &str, from: u32, below: u32, now: &str, most: usize)
    -> Result<Vec<(u32, bool)>>;

    /// Devices of which something pends at a gateway, at most so many.
    ///
    /// # Errors
    /// The database cannot be read.
    fn pending(&self, gateway: &str, most: usize) -> Result<BTreeSet<String>>;

    /// Nothing pends there of these devices any more, or of any.
    ///
    /// # Errors
    /// As [`Rows::put`].
    fn settle(&self, gateway: &str, devices: Option<&BTreeSet<String>>) -> Result<()>;

    /// Something of this device pends there.
    ///
    /// # Errors
    /// As [`Rows::put`].
    fn unsettle(&self, gateway: &str, device: &str) -> Result<()>;

    /// What devices were told whose credentials are not revoked, each text once, with how many were.
    ///
    /// # Errors
    /// The database cannot be read.
    fn told(&self) -> Result<Vec<(String, usize)>>;

    /// The names of the credentials whose account is called so.
    ///
    /// # Errors
    /// The database cannot be read.
    fn with_account(&self, name: &str) -> Result<Vec<String>>;

    /// How many rows have these values.
    ///
    /// # Errors
    /// The database cannot be read.
    fn count(&self, table: &str, filters: &[(&str, Value)]) -> Result<usize>;

    /// The greatest whole number in a column of the rows that have these values; 0 where there is none.
    ///
    /// # Errors
    /// The database cannot be read.
    fn greatest(&self, table: &str, column: &str, filters: &[(&str, Value)]) -> Result<u64>;

    /// Writes a row that is not there yet.
    ///
    /// # Errors
    /// There is one with its key, the database cannot be written, or a constraint forbids it.
    fn add(&self, table: &str, row: &Row) -> Result<()>;

    /// Writes a row over the one with its key.
    ///
    /// # Errors
    /// The database cannot be written, or a constraint forbids it.
    fn put(&self, table: &str, row: &Row) -> Result<()>;

    /// Sets some columns of the row with this key, where there is one.
    ///
    /// # Errors
    /// As [`Rows::put`].
    fn set(&self, table: &str, key: &str, columns: &[(&str, Value)]) -> Result<()>;

    /// Removes a row; whether there was one.
    ///
    /// # Errors
    /// As [`Rows::put`].
    fn remove(&self, table: &str, key: &str) -> Result<bool>;

    /// From here to the end of the transaction, records may name others that are not there yet.
    ///
    /// # Errors
    /// The database cannot be written.
    fn defer_references(&self) -> Result<()>;

    /// The newest `limit` rows of the history, oldest first.
    ///
    /// # Errors
    /// The database cannot be read.
    fn history(&self, limit: usize) -> Result<Vec<HistoryRow>>;

    /// Shows the rows of the history one by one, the oldest first, for as long as `visit` says yes. One whose hash only follows from it and the
    /// one before it has none.
    ///
    /// # Errors
    /// The database cannot be read, or what `visit` returns.
    fn each_history(&self, visit: &mut dyn FnMut(HistoryRow) -> Result<bool>) -> Result<()>;

    /// Number and hash of the newest row of the history, as they were noted apart from it; `None` before the first.
    ///
    /// # Errors
    /// The database cannot be read.
    fn history_head(&self) -> Result<Option<(u64, String)>>;

    /// Up to which row the estate's key has signed the history; `None` where it has not yet.
    ///
    /// # Errors
    /// The database cannot be read.
    fn signed_head(&self) -> Result<Option<SignedHead>>;

    /// Notes up to which row the estate's key has signed.
    ///
    /// # Errors
    /// As [`Rows::put`].
    fn set_signed_head(&self, signed: &SignedHead) -> Result<()>;

    /// Appends to the history. `before`: the `what` of the row before it, where that is of the same command, so that what they have in common
    /// is not kept again: moment, who and hash, which follow.
    ///
    /// # Errors
    /// As [`Rows::put`].
    fn append_history(&self, row: &HistoryRow, before: Option<&str>) -> Result<()>;

    /// Notes which row of the history is the newest.
    ///
    /// # Errors
    /// As [`Rows::put`].
    fn set_history_head(&self, number: u64, hash: &str) -> Result<()>;

    /// Keeps what the command that wrote the rows `first` to `last` of the history did to records, as [`crate::journal`] packs it.
    ///
    /// # Errors
    /// As [`Rows::put`].
    fn keep_changes(&self, first: u64, last: u64, packed: &[u8]) -> Result<()>;

    /// What was kept of the command whose last row of the history has this number.
    ///
    /// # Errors
    /// The database cannot be read.
    fn changes_at(&self, number: u64) -> Result<Vec<Change>>;

    /// What was kept of commands that wrote rows from `number` on: first and last row, and the changes in their order.
    ///
    /// # Errors
    /// The database cannot be read.
    fn changes_from(&self, number: u64) -> Result<Vec<(u64, u64, Vec<Change>)>>;
}
