//! Questions to the estate that read no more than they need, by noun.
//!
//! | file | its job |
//! |---|---|
//! | `addresses` | which inner addresses are held, and for whom |
//! | `credentials` | who may come in where, and what devices know of their ways in |
//! | `people` | users and devices as lists show them |
//! | `orders` | orders, whole or put together from what was amended |

mod addresses;
mod credentials;
mod orders;
mod people;

pub use credentials::{Has, Knows, Opens, Stands, Used, admitted_at};
pub use people::{OpenedAt, SignIn, UserLine};

use crate::rows::{Link, Query};

/// The users of a group.
#[must_use]
pub fn in_group(group: &str) -> Query<'_> {
    Query { linked: Some((Link::Members, group)), ..Query::default() }
}

/// The revocations that a gateway must know.
#[must_use]
pub fn kept_out_at(gateway: &str) -> Query<'_> {
    Query { linked: Some((Link::KeptOut, gateway)), ..Query::default() }
}
