//! What was found about a host, a listener, a secret, and how good that is.
//!
//! | file | holds |
//! |---|---|
//! | `finding` | one line of a probe or a checkup |
//! | `facts` | what a probe of a host collected, and what follows from it |

mod facts;
mod finding;

pub use facts::{BusyPort, DISK_NEEDED, Facts, Hook, Init, Interface, Plane, RuleInTheWay};
pub(crate) use finding::finding;
pub use finding::{Finding, Grade};
