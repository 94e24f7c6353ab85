//! The lab: stand-ins for hosts, networks and services, good enough to find real bugs.
//!
//! With privileges, each host is a process with network and mount namespaces of its own, joined by virtual cables, with
//! real routers between; everything vanishes with the processes. Without, each host is a process with a loopback
//! address of its own, and inner traffic ends in IP stacks inside the processes.
//!
//! | file | its job |
//! |---|---|
//! | `plan` | which hosts there are, how they are joined, what runs on them |
//! | `world` | a lab as a whole: started, looked at, broken, mended, entered, stopped |
//! | `host` | the process that is one host |
//! | `namespaces` | hosts as namespaces, joined by virtual cables |
//! | `services` | a name service, a ticket server, a mirror |
//! | `owner` | the process that a lab belongs to |
//! | `phone` | what a person carries that has its tunnel built in |

mod host;
mod namespaces;
mod owner;
mod phone;
pub mod plan;
mod services;
mod world;

pub use host::run as run_host;
pub use namespaces::missing as missing_for_namespaces;
pub use owner::Owner;
pub use phone::{NAME as PHONE, switch_on};
pub use plan::{Fault, Kind, Mode};
pub use world::{HostStanding, HostState, Lab, enter};
