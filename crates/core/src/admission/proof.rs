//! By what a device may prove itself, as an order says it.

use serde::{Deserialize, Serialize};

use crate::keys::PublicKey;
use crate::sealed::Sealed;

/// The kinds of proof.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum ProofKind {
    Key,
    Certificate,
    Account,
    SharedSecret,
}

impl ProofKind {
    /// The word for it, as orders say it.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::Key => "key",
            Self::Certificate => "certificate",
            Self::Account => "account",
            Self::SharedSecret => "shared-secret",
        }
    }
}

/// What a device that is admitted can show.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(tag = "by", rename_all = "kebab-case")]
pub enum Proof {
    /// An X25519 key.
    Key { key: PublicKey },
    /// A certificate, by SHA-256 of its public key with algorithm.
    Certificate { key: PublicKey },
    /// An account.
    Account {
        /// By this it is revoked.
        id: PublicKey,
        /// What is signed in with.
        name: String,
        /// The form of its password at rest (Argon2id, RFC 9106), for this gateway's agent alone.
        password: Sealed,
        /// What MS-CHAPv2 needs of it (RFC 2759 section 8.3), where a listener of this gateway takes that: it equals the password.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        ms_chap: Option<Sealed>,
    },
    /// A secret that several share.
    SharedSecret {
        /// By this it is revoked: SHA-256 of its name.
        id: PublicKey,
        number: u64,
        secret: Sealed,
    },
}

impl Proof {
    /// Its kind.
    #[must_use]
    pub fn kind(&self) -> ProofKind {
        match self {
            Self::Key { .. } => ProofKind::Key,
            Self::Certificate { .. } => ProofKind::Certificate,
            Self::Account { .. } => ProofKind::Account,
            Self::SharedSecret { .. } => ProofKind::SharedSecret,
        }
    }

    /// By what revocations and sessions name it.
    #[must_use]
    pub fn identity(&self) -> PublicKey {
        match self {
            Self::Key { key } | Self::Certificate { key } => *key,
            Self::Account { id, .. } | Self::SharedSecret { id, .. } => *id,
        }
    }
}

/// What the secret of a key pair's second factor is sealed for.
#[must_use]
pub fn second_factor_purpose(identity: &PublicKey) -> String {
    format!("second factor {identity}")
}

/// What an account's form of the password is sealed for.
#[must_use]
pub fn account_purpose(name: &str) -> String {
    format!("account {name}")
}

/// What an account's form for MS-CHAPv2 is sealed for.
#[must_use]
pub fn ms_chap_purpose(name: &str) -> String {
    format!("account for ms-chap-v2 {name}")
}

/// What a shared secret is sealed for.
#[must_use]
pub fn shared_secret_purpose(holder: &str, number: u64) -> String {
    format!("shared secret {holder} {number}")
}
