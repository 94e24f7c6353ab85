//! IKEv2, version 2.0 (RFC 7296): the responder's side, and that of an end that calls.
//!
//! | file | holds |
//! |---|---|
//! | `message` | how messages are laid out |
//! | `exchange` | the exchanges of keys |
//! | `sealed` | encrypted messages, whole and in parts |
//! | `eap` | signing in with an account |
//! | `state` | what is kept of associations and sessions, what is asked, what has happened |
//! | `gateway` | the responder: what arrives, and time |
//! | `greet` | the first exchange |
//! | `sign_in` | who somebody is, and what they are given |
//! | `call` | an end that calls: its opening, what it shows, what it is given |
//! | `inform` | INFORMATIONAL exchanges, and where the other end is |
//! | `renew` | new keys, from either side |
//! | `suite` | which algorithms are taken, and the keys that follow |

pub mod call;
pub mod eap;
pub mod exchange;
pub mod gateway;
mod greet;
mod inform;
pub mod message;
mod renew;
pub mod sealed;
mod sign_in;
pub mod state;
pub mod suite;
