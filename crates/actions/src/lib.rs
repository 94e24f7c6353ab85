//! What a command does: one function a use case, one folder or file a noun. Each opens the estate, asks core, keeps the result
//! in one transaction; `carry` brings it to the places. No words for people beyond those of a problem, no parsing of arguments.
//!
//! | module | its job |
//! |---|---|
//! | `context` | an estate that a command works on |
//! | `keyring` | what opens and signs |
//! | `find` | what several nouns look up |
//! | `estate`, `site`, `host`, `gateway`, `listener`, `people`, `credential`, `authority`, `registry`, `policy` | one noun each |
//! | `session` | who is connected, who was, what agents saw |
//! | `record` | what happened, counted, and told to other programs |
//! | `secure` | a connection over TLS to another program |
//! | `hear` | asking gateways all at once, with a deadline, and nobody at the terminal |
//! | `job` | commands on many that are done in batches |
//! | `unfinished` | going on with one that was broken off, taking it back |
//! | `inside` | who is in now, as far as gateways say within the deadline |
//! | `status` | the whole estate at one glance |
//! | `rename` | other names for people, groups, devices, sites, gateways, listeners |
//! | `renewal` | orders that hold for a time |
//! | `rollout` | bringing gateways to their newest order |
//! | `leftover` | agents on hosts that could not be reached |
//! | `changed` | what a change made, and which gateways must learn it |
//! | `carry` | bringing a change to the gateways that it affects |

pub mod authority;
pub mod carry;
mod changed;
mod context;
pub mod credential;
pub mod estate;
mod find;
pub mod gateway;
mod hear;
pub mod host;
pub mod inside;
pub mod job;
mod keyring;
pub mod leftover;
pub mod listener;
pub mod people;
pub mod policy;
pub mod record;
pub mod registry;
pub mod rename;
mod renewal;
pub mod rollout;
pub mod secure;
pub mod session;
pub mod site;
pub mod status;
pub mod unfinished;

pub use context::{AskPassphrase, Context, who};
pub use find::Stale;
pub use yestrel_places::{Person, Whose};
