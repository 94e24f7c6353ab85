//! Rows of any database, and what a database must be able to do with them.

use serde_json::{Map, Value};
use yestrel_core::Result;
use yestrel_core::audit::{HistoryRow, SignedHead};
use yestrel_core::undo::Change;

/// A row: column to value; lists and structures as JSON text.
pub type Row = Map<String, Value>;

/// What a database must be able to do, within one transaction. `table` and column names come from this program
/// alone, never from outside.
pub trait Rows {
    /// The row with this key.
    ///
    /// # Errors
    /// The database cannot be read.
    fn get(&self, table: &str, key: &str) -> Result<Option<Row>>;

    /// Rows whose columns have these values (`Null` for none), by key, at most `limit`.
    ///
    /// # Errors
    /// The database cannot be read.
    fn select(&self, table: &str, filters: &[(&str, Value)], limit: usize) -> Result<Vec<Row>>;

    /// All keys of a table, in order.
    ///
    /// # Errors
    /// The database cannot be read.
    fn names(&self, table: &str) -> Result<Vec<String>>;

    /// Credentials whose account is called so.
    ///
    /// # Errors
    /// The database cannot be read.
    fn with_account(&self, name: &str) -> Result<Vec<Row>>;

    /// How many rows have these values.
    ///
    /// # Errors
    /// The database cannot be read.
    fn count(&self, table: &str, filters: &[(&str, Value)]) -> Result<usize>;

    /// Writes a row over the one with its key.
    ///
    /// # Errors
    /// The database cannot be written, or a constraint forbids it.
    fn put(&self, table: &str, row: &Row) -> Result<()>;

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

    /// Appends to the history, and notes that row as the newest.
    ///
    /// # Errors
    /// As [`Rows::put`].
    fn append_history(&self, row: &HistoryRow) -> Result<()>;

    /// Keeps what the command that wrote the rows `first` to `last` of the history did to records.
    ///
    /// # Errors
    /// As [`Rows::put`].
    fn keep_changes(&self, first: u64, last: u64, changes: &[Change]) -> Result<()>;

    /// What was kept of commands that wrote rows from `number` on: first and last row, and the changes in their order.
    ///
    /// # Errors
    /// The database cannot be read.
    fn changes_from(&self, number: u64) -> Result<Vec<(u64, u64, Vec<Change>)>>;
}
