//! The device's side: brings the tunnel of a handover up, keeps it up, and takes everything back.
//!
//! | file | its job |
//! |---|---|
//! | `asked` | what a tunnel that is up answers to commands |
//! | `bounds` | which inner packets pass |
//! | `failure` | why a device does not come in |
//! | `connect` | brings a tunnel up, way by way, and keeps it up |
//! | `notices` | what an estate says later of the ways in, kept beside the handover |
//! | `options` | how a tunnel is brought up |
//! | `proxy` | offers a tunnel inside the process to programs on loopback |
//! | `running` | the tunnels that are up on this machine |
//! | `split` | which names are asked of whom, where only some traffic goes through a tunnel |
//! | `system` | what a tunnel changes on the system, and taking it back |
//! | `tunnel` | what the threads of one tunnel share |
//! | `ways` | one file a kind of tunnel |

mod asked;
mod bounds;
pub mod connect;
mod failure;
pub mod notices;
mod options;
pub mod proxy;
pub mod running;
mod split;
pub mod system;
mod tunnel;
pub mod ways;
