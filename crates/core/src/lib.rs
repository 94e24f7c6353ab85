//! The estate and every decision about it.
//!
//! Nothing here reads a clock, draws randomness, opens a file or prints: moments, random bytes and facts
//! are arguments. What a command does is therefore decided in functions that a test calls in three lines.
//!
//! | module | holds |
//! |---|---|
//! | `estate` | the nouns: sites, hosts, gateways, listeners, people, credentials, authorities |
//! | `tunnel` | the kinds of tunnel and their settings |
//! | `policy` | the list that decides who may come in, when, from where, by what |
//! | `admission` | who may come in |
//! | `order` | what a gateway is to be, signed and numbered |
//! | `firewall` | what it opens and allows |
//! | `handover` | what a device is given |
//! | `notice` | what it is told later of its ways in |
//! | `exchange` | questions and answers between commands, agents, hosts and devices |
//! | `findings` | what a probe found, and what follows |
//! | `glance` | the whole estate at one glance |
//! | `lapse` | how long ago, how far ahead |
//! | `x509` | certificates, lists, requests |
//! | `account`, `keys`, `sealed`, `pool`, `name`, `schedule`, `audit` | one subject each |
//! | `syslog` | what happened, as lines for other programs |
//! | `undo` | what a change did, and how it is taken back |
//! | `problem` | what is said when something goes wrong |
//! | `shown` | text of somebody else as a person may be shown it |
//! | `sample` | nouns of the example, for tests |

pub mod account;
pub mod admission;
pub mod audit;
pub mod estate;
pub mod exchange;
pub mod findings;
pub mod firewall;
pub mod glance;
pub mod handover;
pub mod keys;
pub mod lapse;
pub mod name;
pub mod notice;
pub mod order;
pub mod policy;
pub mod pool;
pub mod problem;
#[doc(hidden)]
pub mod sample;
pub mod schedule;
pub mod sealed;
pub mod shown;
pub mod syslog;
pub mod tunnel;
pub mod undo;
pub mod x509;

/// The program's version, as everything that it is says it.
pub const VERSION: &str = env!("CARGO_PKG_VERSION");

pub use problem::{Kind, Problem, moment};

/// What can go wrong is always said in the three lines of a [`Problem`].
pub type Result<T> = std::result::Result<T, Problem>;
