//! IKEv2, version 2.0 (RFC 7296), the responder's side.
//!
//! | file | holds |
//! |---|---|
//! | `message` | how messages are laid out |
//! | `exchange` | the exchanges of keys |
//! | `sealed` | encrypted messages, whole and in parts |
//! | `eap` | signing in with an account |
//! | `suite` | which algorithms are taken, and the keys that follow |

pub mod eap;
pub mod exchange;
pub mod message;
pub mod sealed;
pub mod suite;
