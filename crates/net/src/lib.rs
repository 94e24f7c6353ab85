//! What agents, devices and hosts share of the machine: sockets, TUN, routes, the firewall's tool, an IP stack inside the
//! process. Nothing here knows which tunnel it serves.
//!
//! | file | its job |
//! |---|---|
//! | `clock` | the system's clocks and randomness, for state machines that have none |
//! | `control` | local sockets for questions and answers |
//! | `echo` | an ICMP echo by the system's own stack |
//! | `fetch` | fetching one page, to prove what can be reached |
//! | `files` | files that are there whole or not at all |
//! | `names` | looking names up |
//! | `netlink` | addresses, routes and rules of the system |
//! | `nft` | running the firewall's tool |
//! | `packets` | packets in batches, from UDP and TUN |
//! | `plane` | how inner traffic meets the site: through the kernel, or a stack inside the process |
//! | `rights` | what a process gives up |
//! | `rate` | how much may pass in a time |
//! | `sieve` | what the system drops of a flood |
//! | `seats` | who is connected, by inner address |
//! | `stack` | an IP stack inside the process |
//! | `watch` | seeing when somebody changes the firewall or the network |

pub mod clock;
pub mod control;
pub mod echo;
pub mod fetch;
pub mod files;
pub mod names;
pub mod netlink;
pub mod nft;
pub mod packets;
pub mod plane;
pub mod rate;
pub mod rights;
pub mod seats;
pub mod sieve;
pub mod stack;
pub mod watch;
