//! The lab: stand-ins for hosts, networks and services, good enough to find real bugs.
//!
//! With privileges, each host is a process with network and mount namespaces of its own, joined by virtual cables, with
//! real routers between; everything vanishes with the processes. Without, each host is a process with a loopback
//! address of its own, and inner traffic ends in IP stacks inside the processes.

mod host;
mod namespaces;
pub mod plan;
mod services;
mod world;

pub use host::run as run_host;
pub use namespaces::available as namespaces_available;
pub use plan::{Kind, Mode};
pub use world::{HostView, Lab, enter};
