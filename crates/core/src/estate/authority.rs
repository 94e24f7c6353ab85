//! Certificate authorities of the estate, and what they signed.

use jiff::Timestamp;
use serde::{Deserialize, Serialize};

use super::SealedSecret;
use crate::x509::Algorithm;
use crate::x509::list::Reason;

/// A certificate authority of the estate.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct Authority {
    pub name: String,
    /// The authority that signed it; `None` for a root, and for one that was brought in with its chain.
    pub parent: Option<String>,
    /// DER in base64.
    pub certificate: String,
    /// Certificates above it that are not of the estate, DER in base64.
    pub above: Vec<String>,
    pub serial: String,
    pub algorithm: Algorithm,
    /// `None` when it left the estate.
    pub private_key: Option<SealedSecret>,
    pub domain: Option<String>,
    /// The newest revocation list, DER in base64.
    pub list: Option<String>,
    pub list_number: u64,
    /// When the newest list was signed, and by when the next will be there.
    pub list_from: Option<Timestamp>,
    pub list_until: Option<Timestamp>,
    pub responder: Option<Delegate>,
    /// Gateways that publish the state of its certificates.
    pub published_at: Vec<String>,
    pub retired: Option<Timestamp>,
    pub created: Timestamp,
    pub expires: Timestamp,
}

/// The short-lived certificate that answers for an authority.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct Delegate {
    /// DER in base64.
    pub certificate: String,
    pub private_key: SealedSecret,
    pub until: Timestamp,
}

/// What a certificate that an authority signed is for.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum CertificateKind {
    Device,
    Gateway,
    Authority,
    /// Answers for an authority (RFC 6960 section 4.2.2.2).
    Responder,
    /// Signs profiles for devices.
    Signer,
    /// The authority signed it before it was brought in; only its serial number is known, from a list.
    Elsewhere,
}

/// What lists and answers say of a certificate.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum CertificateState {
    Good,
    /// certificateHold (RFC 5280 section 5.3.1): it can be lifted again.
    Held,
    Revoked,
}

impl CertificateState {
    /// The word for tables.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::Good => "good",
            Self::Held => "held",
            Self::Revoked => "revoked",
        }
    }
}

/// A certificate that an authority of the estate signed.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct IssuedCertificate {
    /// The serial number in lower-case hexadecimal.
    pub name: String,
    pub authority: String,
    pub kind: CertificateKind,
    /// The credential, gateway or authority that it is for.
    pub subject: String,
    /// DER in base64.
    pub certificate: String,
    pub state: CertificateState,
    pub issued: Timestamp,
    pub expires: Timestamp,
    pub revoked: Option<Timestamp>,
    pub reason: Option<Reason>,
}
