//! Who may come in: one decision, asked by every tunnel, by rehearsals and by tests.
//!
//! | file | holds |
//! |---|---|
//! | `proof` | by what a device may prove itself, as an order says it |
//! | `claim` | what somebody shows who wants to come in |
//! | `roll` | an order's list of the admitted, found by what they show |
//! | `decide` | the decision, and what it grants |
//! | `reason` | why somebody is not let in, or why a session ended |
//! | `reach` | what remains of several limits to where a device may go |
//! | `lease` | inner addresses that are given at sign-in |

mod claim;
mod decide;
pub mod lease;
mod proof;
mod reach;
mod reason;
mod roll;

pub use claim::{Claim, Shown, Signed};
pub use decide::{Admission, account, decide};
pub use proof::{Proof, ProofKind, account_purpose, ms_chap_purpose, second_factor_purpose, shared_secret_purpose};
pub use reach::{Bounds, is_everything, within};
pub use reason::{Reason, Refusal};
pub use roll::Roll;
