//! Policies: the one ordered list that decides who is admitted, and with which limits. The first whose conditions all hold decides; who comes to
//! the end of the list is refused.
//!
//! | file | holds |
//! |---|---|
//! | `asks` | what a policy may ask of a sign-in, and the values for it |
//! | `hours` | hours of the week, dates and ages |
//! | `numbers` | values of RADIUS attributes by their registered names |
//! | `rule` | one policy as it decides, and its terms |
//! | `sign_in` | a sign-in as policies see it |
//! | `list` | the list made ready, and its decisions |
//! | `explain` | the same decisions in words, and when they would be others |
//! | `check` | what is wrong with a list |
//! | `check_tests` | that it finds exactly what trying every sign-in finds |
//! | `registries` | who checks a name and its proof, and in which order |
//! | `form` | the list as a file |
//! | `slow` | a second judge, for tests |

mod asks;
mod check;
#[cfg(test)]
mod check_tests;
mod explain;
pub mod form;
mod hours;
mod list;
mod numbers;
mod registries;
mod rule;
mod sign_in;
#[cfg(test)]
mod slow;

pub use asks::{Asks, Conditions, METHODS, NO_REALM, Values, any_of, condition, in_words};
pub use check::{Finding, Place, Someone, Weight, World, admits_somebody, check};
pub use explain::{Asked, HORIZON, Nearest, asked, nearest, nearest_soon};
pub use hours::{Age, Dates, Hours, Local, moment_at, span, zone};
pub use list::{Decision, Known, List};
pub use registries::{
    CLAIMS, Claimant, Method, NameForm, Registries, RegistryKind, both_claim, check_claims, realm, realms,
};
pub use rule::{Effect, Listed, Rule, SHORTEST, Terms, megabits, rate};
pub use sign_in::{At, Person};

/// What the last line of every list says.
pub const END: &str = "end of list";
