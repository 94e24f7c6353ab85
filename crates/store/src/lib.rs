//! Where an estate is kept. One trait in terms of rows, one implementation per kind of database, and the sealing
//! of secrets, which never stand readable in any of them.
//!
//! | file | its job |
//! |---|---|
//! | `store` | what an estate is kept in: transactions |
//! | `rows` | what a database must be able to do within one |
//! | `records` | how the nouns become rows |
//! | `reading` | nouns straight from the cells of a row |
//! | `queries` | questions that read no more than they need |
//! | `journal` | what a command did to records, packed as it goes |
//! | `book` | the typed view of one transaction |
//! | `sqlite` | an estate in one SQLite file |
//! | `seal` | the sealing key, and what it seals |

mod book;
mod journal;
pub mod queries;
mod reading;
pub mod records;
pub mod rows;
pub mod seal;
pub mod sqlite;
mod store;

pub use book::{Book, looked_up};
pub use records::{Readable, Record};
pub use rows::{Link, Query, Rows};
pub use seal::SealingKey;
pub use sqlite::SqliteStore;
pub use store::Store;
