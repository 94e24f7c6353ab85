//! What touches the machine: sockets, TUN, routes, the firewall. The gateway's agent and the device's side of a
//! tunnel, with the parts that both share.

pub mod clock;
pub mod connect;
pub mod control;
pub mod echo;
pub mod fetch;
pub mod gateway;
pub mod keep;
pub mod log;
pub mod manage;
pub mod names;
pub mod netlink;
pub mod package;
pub mod packets;
pub mod probe;
pub mod proxy;
pub mod service;
pub mod stack;
pub mod system;
pub mod tunnels;
pub mod upgrade;
