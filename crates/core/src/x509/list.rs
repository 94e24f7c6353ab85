//! Revocation lists (RFC 5280 section 5): signed, numbered, read.

use jiff::Timestamp;
use ring::rand::SecureRandom;
use serde::{Deserialize, Serialize};
use x509_cert::Version;
use x509_cert::crl::{CertificateList, RevokedCert, TbsCertList};
use x509_cert::der::asn1::{OctetString, Uint};
use x509_cert::der::oid::AssociatedOid;
use x509_cert::der::{Decode as _, Encode as _};
use x509_cert::ext::Extension;
use x509_cert::ext::pkix::{AuthorityKeyIdentifier, CrlNumber, CrlReason};
use x509_cert::serial_number::SerialNumber;

use super::certificate::{Certificate, Issuer};
use super::{key, moment_of, names, time, unencodable};
use crate::{Problem, Result, moment};

/// Why a certificate is revoked (RFC 5280 section 5.3.1).
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Reason {
    Unspecified,
    KeyCompromise,
    CaCompromise,
    AffiliationChanged,
    Superseded,
    CessationOfOperation,
    CertificateHold,
    PrivilegeWithdrawn,
}

impl Reason {
    /// Every reason that can be given.
    pub const ALL: [Self; 8] = [
        Self::Unspecified,
        Self::KeyCompromise,
        Self::CaCompromise,
        Self::AffiliationChanged,
        Self::Superseded,
        Self::CessationOfOperation,
        Self::CertificateHold,
        Self::PrivilegeWithdrawn,
    ];

    /// The word for it, as commands take it.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::Unspecified => "unspecified",
            Self::KeyCompromise => "key-compromise",
            Self::CaCompromise => "authority-compromise",
            Self::AffiliationChanged => "affiliation-changed",
            Self::Superseded => "superseded",
            Self::CessationOfOperation => "cessation-of-operation",
            Self::CertificateHold => "certificate-hold",
            Self::PrivilegeWithdrawn => "privilege-withdrawn",
        }
    }

    /// The reason behind a word, or what is nearest to an administrator's own words: "lost" and "stolen" mean that a key is
    /// in other hands.
    #[must_use]
    pub fn of_words(words: &str) -> Self {
        let lower = words.to_lowercase();
        if let Some(exact) = Self::ALL.into_iter().find(|reason| reason.word() == lower) {
            return exact;
        }
        let any = |of: &[&str]| of.iter().any(|part| lower.contains(part));
        if any(&["lost", "stolen", "theft", "leak", "compromis"]) {
            Self::KeyCompromise
        } else if any(&["renewed", "replaced", "superseded"]) {
            Self::Superseded
        } else if any(&["retired", "closed", "season"]) {
            Self::CessationOfOperation
        } else if any(&["left", "moved", "changed"]) {
            Self::AffiliationChanged
        } else {
            Self::Unspecified
        }
    }

    pub(super) fn code(self) -> CrlReason {
        match self {
            Self::Unspecified => CrlReason::Unspecified,
            Self::KeyCompromise => CrlReason::KeyCompromise,
            Self::CaCompromise => CrlReason::CaCompromise,
            Self::AffiliationChanged => CrlReason::AffiliationChanged,
            Self::Superseded => CrlReason::Superseded,
            Self::CessationOfOperation => CrlReason::CessationOfOperation,
            Self::CertificateHold => CrlReason::CertificateHold,
            Self::PrivilegeWithdrawn => CrlReason::PrivilegeWithdrawn,
        }
    }

    fn of_code(code: CrlReason) -> Self {
        Self::ALL.into_iter().find(|reason| reason.code() == code).unwrap_or(Self::Unspecified)
    }
}

/// One certificate on a list.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Entry {
    /// Lower-case hexadecimal.
    pub serial: String,
    pub at: Timestamp,
    pub reason: Reason,
}

/// A list that was signed or read.
#[derive(Debug, Clone)]
pub struct List {
    der: Vec<u8>,
    /// Counts up with every list of one authority.
    pub number: u64,
    pub from: Timestamp,
    /// The next list will be there by then.
    pub until: Timestamp,
    pub entries: Vec<Entry>,
}

/// Bytes behind hexadecimal digits.
pub(super) fn from_hex(text: &str) -> Option<Vec<u8>> {
    if !text.len().is_multiple_of(2) {
        return None;
    }
    (0..text.len()).step_by(2).map(|at| u8::from_str_radix(text.get(at..at + 2)?, 16).ok()).collect()
}

fn extension<T: AssociatedOid + x509_cert::der::Encode>(value: &T, critical: bool) -> Result<Extension> {
    let value = OctetString::new(value.to_der().map_err(unencodable)?).map_err(unencodable)?;
    Ok(Extension { extn_id: T::OID, critical, extn_value: value })
}

/// Signs a complete list.
///
/// # Errors
/// The authority may not sign lists, or the list would end before it begins.
pub fn sign(
    issuer: &Issuer<'_>,
    number: u64,
    from: Timestamp,
    until: Timestamp,
    entries: Vec<Entry>,
    random: &dyn SecureRandom,
) -> Result<List> {
    let authority = issuer.certificate;
    if !authority.signs_lists() {
        return Err(Problem::refused(format!("{} may not sign revocation lists", authority.common_name()))
            .why("its certificate does not grant that use of its key"));
    }
    if from < authority.not_before() || until <= from {
        return Err(Problem::refused("a revocation list cannot be signed now")
            .why(format!("this machine's clock says {}", moment(from)))
            .try_("set this machine's clock; it may have been set back"));
    }
    let mut revoked = Vec::with_capacity(entries.len());
    for entry in &entries {
        let serial = from_hex(&entry.serial).ok_or_else(|| Problem::failed("a serial number cannot be read"))?;
        let reason = match entry.reason {
            // RFC 5280 section 5.3.1: left out rather than said.
            Reason::Unspecified => None,
            reason => Some(vec![extension(&reason.code(), false)?]),
        };
        revoked.push(RevokedCert {
            serial_number: SerialNumber::new(&serial).map_err(unencodable)?,
            revocation_date: time(entry.at)?,
            crl_entry_extensions: reason,
        });
    }
    let key_identifier = authority.key_id().map(OctetString::new).transpose().map_err(unencodable)?;
    let numbered = Uint::new(&number.to_be_bytes()).map_err(unencodable)?;
    let tbs_cert_list = TbsCertList {
        version: Version::V2,
        signature: issuer.key.signature_algorithm(),
        issuer: authority.parsed().tbs_certificate.subject.clone(),
        this_update: time(from)?,
        next_update: Some(time(until)?),
        revoked_certificates: Some(revoked).filter(|revoked| !revoked.is_empty()),
        crl_extensions: Some(vec![
            extension(&AuthorityKeyIdentifier { key_identifier, ..Default::default() }, false)?,
            extension(&CrlNumber(numbered), false)?,
        ]),
    };
    let signature = issuer.key.sign(&tbs_cert_list.to_der().map_err(unencodable)?, random)?;
    let signature_algorithm = issuer.key.signature_algorithm();
    let der = CertificateList { tbs_cert_list, signature_algorithm, signature }.to_der().map_err(unencodable)?;
    Ok(List { der, number, from, until, entries })
}

impl List {
    /// Reads a list that `authority` signed.
    ///
    /// # Errors
    /// Not a list, not the authority's, or without a number or an end.
    pub fn read(der: &[u8], authority: &Certificate) -> Result<Self> {
        let no = |why: String| Problem::words("this is no revocation list that can be used").why(why);
        let parsed = CertificateList::from_der(der).map_err(|error| no(error.to_string()))?;
        let tbs = &parsed.tbs_cert_list;
        if tbs.issuer != authority.parsed().tbs_certificate.subject {
            return Err(no(format!("it is of {}, not of {}", tbs.issuer, authority.subject())));
        }
        key::verify(authority.key(), &parsed.signature_algorithm, &names::first_of_sequence(der)?, &parsed.signature)?;
        let numbered = tbs.crl_extensions.iter().flatten().find(|extension| extension.extn_id == CrlNumber::OID);
        let number = numbered
            .and_then(|extension| CrlNumber::from_der(extension.extn_value.as_bytes()).ok())
            .and_then(|number| {
                let bytes = number.0.as_bytes();
                let mut wide = [0; 8];
                wide.get_mut(8_usize.checked_sub(bytes.len())?..)?.copy_from_slice(bytes);
                Some(u64::from_be_bytes(wide))
            })
            .ok_or_else(|| no("it has no number".into()))?;
        let until = tbs.next_update.as_ref().map(moment_of).ok_or_else(|| no("it has no end".into()))?;
        let entry = |revoked: &RevokedCert| {
            let of = revoked.crl_entry_extensions.iter().flatten().find(|e| e.extn_id == CrlReason::OID);
            let code = of.and_then(|extension| CrlReason::from_der(extension.extn_value.as_bytes()).ok());
            Entry {
                serial: revoked.serial_number.as_bytes().iter().map(|byte| format!("{byte:02x}")).collect(),
                at: moment_of(&revoked.revocation_date),
                reason: code.map_or(Reason::Unspecified, Reason::of_code),
            }
        };
        let entries = tbs.revoked_certificates.iter().flatten().map(entry).collect();
        Ok(Self { der: der.to_vec(), number, from: moment_of(&tbs.this_update), until, entries })
    }

    /// The list as DER.
    #[must_use]
    pub fn der(&self) -> &[u8] {
        &self.der
    }
}
