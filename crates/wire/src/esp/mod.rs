//! ESP in tunnel mode, in UDP (RFC 4303, RFC 3948).
//!
//! | file | holds |
//! |---|---|
//! | `pair` | one pair of associations in use |
//! | `cipher` | encryption and integrity, which IKE has as well |
//! | `ecn` | marks of congestion, in and out |

pub mod cipher;
pub mod ecn;
pub mod pair;
