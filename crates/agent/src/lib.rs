//! The gateway's agent: takes orders, keeps to the newest, answers questions.
//!
//! | file | its job |
//! |---|---|
//! | `run` | starts, answers, stops |
//! | `admit` | who may come in now, with which address; who is in |
//! | `terms` | what policies say of sessions while they last |
//! | `switch` | carries orders out: prepares, switches, holds, goes back |
//! | `mend` | puts right what something else changes on the host |
//! | `among` | what agents bring each other |
//! | `answers` | second factors that policies ask for |
//! | `peers` | what it remembers of the others |
//! | `certificate` | the gateway's own certificate and its key |
//! | `keep` | who it is, its orders, revocations, on disk |
//! | `in_force` | an order in force, with what is looked up in it |
//! | `signs` | what is remembered of how somebody signed in |
//! | `scribe` | what is seen, on its way to the disk |
//! | `news` | the news there |
//! | `disk` | files that grow |
//! | `log` | its own log |
//! | `totals` | what it counted |
//! | `metrics` | what it measures, as text |
//! | `publish` | the state of certificates over HTTP |
//! | `web` | the web server that the two share, with its limits |
//! | `tunnels` | one file a kind of tunnel |

pub mod admit;
mod among;
mod answers;
mod certificate;
mod disk;
mod in_force;
pub mod keep;
pub mod log;
mod mend;
mod metrics;
mod news;
mod peers;
mod publish;
pub mod run;
mod scribe;
mod signs;
mod switch;
mod terms;
mod totals;
pub mod tunnels;
mod web;
