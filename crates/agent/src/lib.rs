//! The gateway's agent: takes orders, keeps to the newest, answers questions.
//!
//! | file | its job |
//! |---|---|
//! | `run` | starts, answers, stops |
//! | `admit` | who may come in now, with which address; who is in |
//! | `switch` | carries orders out: prepares, switches, holds, goes back |
//! | `certificate` | the gateway's own certificate and its key |
//! | `keep` | what the agent keeps on disk |
//! | `log` | its own log |
//! | `totals` | what it counted |
//! | `metrics` | what it measures, as text |
//! | `publish` | the state of certificates over HTTP |
//! | `tunnels` | one file a kind of tunnel |

pub mod admit;
mod certificate;
pub mod keep;
pub mod log;
mod metrics;
mod publish;
pub mod run;
mod switch;
mod totals;
pub mod tunnels;
