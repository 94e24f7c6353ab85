//! Certificates (RFC 5280), requests for them (RFC 2986), revocation lists (RFC 5280 section 5) and answers on the state of one
//! certificate (RFC 6960), made and read.
//!
//! Moments and the source of randomness are arguments. What comes from outside is read strictly as DER (X.690), and nothing of
//! it is believed before its signature was checked.
//!
//! | file | holds |
//! |---|---|
//! | `key` | private keys of each algorithm, made and read |
//! | `names` | names in certificates, and reading DER by hand where it must be strict |
//! | `certificate` | certificates, made and read, and chains of them |
//! | `request` | requests for certificates |
//! | `list` | revocation lists |
//! | `status` | answers on the state of one certificate |
//! | `signed` | data signed with a certificate (RFC 5652) |
//! | `bundle` | a key and certificates under a password (PKCS#12) |
//! | `bring` | keys and certificates that were made elsewhere |
//! | `proof` | proofs that a key is had, as IKE carries them |
//! | `agreement` | key pairs that a device makes for itself |
//! | `parts` | what all of these are made of: names, moments, PEM |

pub mod agreement;
pub mod bring;
pub mod bundle;
pub mod certificate;
pub mod key;
pub mod list;
pub mod names;
mod parts;
pub mod proof;
pub mod request;
pub mod signed;
pub mod status;

pub use certificate::Certificate;
pub use key::{Algorithm, PrivateKey};
pub use parts::{LONGEST, blocks, fingerprint, one_of, pem};
pub(crate) use parts::{distinguished, moment_of, time, unencodable};
