//! Where an estate is kept. One trait in terms of rows, one implementation per kind of database, and the sealing
//! of secrets, which never stand readable in any of them.

pub mod records;
pub mod rows;
pub mod seal;
pub mod sqlite;

pub use records::Record;
pub use rows::{Book, Rows};
pub use seal::SealingKey;
pub use sqlite::SqliteStore;
