//! The end of managing that runs on a gateway's host: facts, services, programs and their upgrades.
//!
//! | file | its job |
//! |---|---|
//! | `folder` | the agent's folder, as both the agent and its manager know it |
//! | `manage` | carries out what is asked over a managing connection |
//! | `package` | signed packages with a program in them |
//! | `probe` | collects the facts of the host |
//! | `service` | whatever starts services on this host |
//! | `upgrade` | puts a new program on trial, and goes back |

pub mod folder;
pub mod manage;
pub mod package;
pub mod probe;
pub mod service;
pub mod upgrade;
