//! The objects of the estate. Each is a table of the same name in the plural, and each field a column.
//!
//! | file | holds |
//! |---|---|
//! | `site` | one place and its networks |
//! | `host` | a machine at a site, and how it is managed |
//! | `gateway` | the VPN server on a host, and its certificate |
//! | `listener` | one tunnel of a gateway, where it listens, what it reaches |
//! | `people` | users, groups, devices |
//! | `credential` | what lets one device in, by its kind |
//! | `told` | what devices know of their ways in |
//! | `shared_secret` | secrets that several share, and how old they are |
//! | `authority` | certificate authorities and what they signed |
//! | `policy` | a policy in the one list |
//! | `registry` | where accounts are kept and checked |
//! | `stored_order` | orders as they were sent |
//! | `record` | revocations, sessions |
//! | `job` | a command on many, done in batches |
//! | `sealed_secret` | a secret as the store keeps it |

mod authority;
mod credential;
mod gateway;
mod host;
mod job;
mod listener;
mod people;
mod policy;
mod record;
mod registry;
mod sealed_secret;
pub mod shared_secret;
mod site;
mod stored_order;
pub mod told;

use jiff::Timestamp;
use serde::{Deserialize, Serialize};

use crate::keys::PublicKey;

pub use authority::{Authority, CertificateKind, CertificateState, Delegate, IssuedCertificate};
pub use credential::{
    Credential, CredentialKind, CredentialState, HeldCertificate, HeldKeyPair, HeldPassword, KeyFactor, Material,
    Permit, Way,
};
pub use gateway::{Gateway, GatewayCertificate};
pub use host::{Access, Host, HostKind, Leftover, SshTarget, Via};
pub use job::{Does, Job};
pub use listener::{Listener, Reach, Served};
pub use people::{Device, Group, User, UserState};
pub use policy::{GAP, Policy};
pub use record::{Revocation, Session};
pub use registry::{Method, Registry, RegistryKind};
pub use sealed_secret::SealedSecret;
pub use shared_secret::SharedSecret;
pub use site::Site;
pub use stored_order::{OrderKept, OrderText, StoredOrder};
pub use told::{NoticeMade, Told};

/// The estate itself: one row.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct Estate {
    pub name: String,
    /// 16 random bytes in hexadecimal: two estates with one name are still two.
    pub id: String,
    /// Ed25519: what signs orders.
    pub public_key: PublicKey,
    pub private_key: SealedSecret,
    /// What signs in its place when it is lost: printed when the estate was made, and kept nowhere.
    pub recovery_key: Option<PublicKey>,
    /// The sealing key, for whoever has the recovery key.
    pub recovery_sealed: Option<SealedSecret>,
    /// Signing keys from before, while a gateway still trusts them.
    pub previous_keys: Vec<PreviousKey>,
    /// By what the estate's gateways call on each other: a call secret that no device has.
    pub peer_secret: SealedSecret,
    /// For how many days the inner address of a revoked credential is given to nobody else, so that logs stay readable.
    pub hold_addresses: u16,
    /// For how many seconds an order holds, from when it was made or renewed: after that its agent lets nobody in. `None`: for ever.
    pub orders_hold: Option<u32>,
    /// For how many days sessions that are over, and refusals, stay on record.
    #[serde(default = "keep_sessions")]
    pub keep_sessions: u16,
    /// When a backup was last made.
    #[serde(default)]
    pub saved: Option<Timestamp>,
    pub created: Timestamp,
}

/// Days that what happened stays on record where nothing else is said.
pub const KEEP_SESSIONS: u16 = 365;

fn keep_sessions() -> u16 {
    KEEP_SESSIONS
}

/// Days that an address is held where nothing else is said.
pub const HOLD_ADDRESSES: u16 = 30;

/// A signing key of the estate from before.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct PreviousKey {
    pub public_key: PublicKey,
    pub private_key: SealedSecret,
}
