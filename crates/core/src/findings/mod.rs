//! What was found about a host, a listener, a secret, and how good that is.
//!
//! | file | holds |
//! |---|---|
//! | `finding` | one line of a probe or a checkup |
//! | `firewall` | other people's rules on a host, and what they let through |
//! | `facts` | what a probe of a host collected, and what follows from it |

mod facts;
mod finding;
mod firewall;

pub use facts::{BusyPort, DISK_NEEDED, Facts, Init, Interface, Plane};
pub(crate) use finding::finding;
pub use finding::{Finding, Grade};
pub use firewall::{Hook, Passes, RuleInTheWay, in_the_way};
