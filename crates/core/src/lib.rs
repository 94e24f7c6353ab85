//! The estate and every decision about it.
//!
//! Nothing here reads a clock, draws randomness, opens a file or prints: moments, random bytes and facts
//! are arguments. What a command does is therefore decided in functions that a test calls in three lines.

pub mod account;
pub mod audit;
pub mod control;
pub mod facts;
pub mod firewall;
pub mod handover;
pub mod keys;
pub mod name;
pub mod nouns;
pub mod order;
pub mod pool;
pub mod problem;
pub mod schedule;
pub mod shared;
pub mod x509;

pub use problem::{Kind, Problem, moment};

/// What can go wrong is always said in the three lines of a [`Problem`].
pub type Result<T> = std::result::Result<T, Problem>;
