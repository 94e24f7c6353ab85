//! Answers on the state of one certificate (OCSP, RFC 6960), signed by a short-lived certificate that the authority delegated.

use std::collections::{HashMap, HashSet};

use jiff::{SignedDuration, Timestamp};
use ring::digest;
use ring::rand::SecureRandom;
use x509_cert::der::asn1::{BitString, GeneralizedTime, Null, OctetString};
use x509_cert::der::oid::ObjectIdentifier;
use x509_cert::der::{Decode as _, Encode as _};
use x509_cert::ext::Extension;
use x509_ocsp::{
    BasicOcspResponse, CertId, CertStatus, OcspGeneralizedTime, OcspRequest, OcspResponse, ResponderId, ResponseData,
    RevokedInfo, SingleResponse, Version,
};

use super::certificate::Certificate;
use super::key::PrivateKey;
use super::list::List;
use super::{names, unencodable};
use crate::{Problem, Result};

const SHA1: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.3.14.3.2.26");
const SHA256: ObjectIdentifier = ObjectIdentifier::new_unwrap("2.16.840.1.101.3.4.2.1");
const SHA384: ObjectIdentifier = ObjectIdentifier::new_unwrap("2.16.840.1.101.3.4.2.2");
const SHA512: ObjectIdentifier = ObjectIdentifier::new_unwrap("2.16.840.1.101.3.4.2.3");
const NONCE: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.3.6.1.5.5.7.48.1.2");
/// Bytes at most of a question.
pub const LONGEST: usize = 16 * 1024;
/// Certificates at most that one question asks about.
const MOST: usize = 50;
/// Octets at most of a nonce; an empty one is none (RFC 9654 section 2.1).
const LONGEST_NONCE: usize = 128;
/// How long an answer may be kept, at most.
const KEPT: SignedDuration = SignedDuration::from_hours(12);

/// Whoever answers for one authority.
pub struct Responder {
    certificate: Certificate,
    key: PrivateKey,
    list: List,
    revoked: HashMap<Vec<u8>, usize>,
    issued: HashSet<Vec<u8>>,
    /// Hashes of the authority's name and key, by the algorithm that asks with them.
    known_as: Vec<(ObjectIdentifier, Vec<u8>, Vec<u8>)>,
}

/// An answer.
pub struct Answer {
    /// DER of an OCSP response.
    pub der: Vec<u8>,
    /// When it ends, where it is one on certificates.
    pub until: Option<Timestamp>,
}

/// Whether nothing is asked for that would have to be understood and is not (RFC 6960 section 4.4), and the nonce is one.
fn is_understood(request: &OcspRequest) -> bool {
    let of_one = request.tbs_request.request_list.iter().flat_map(|one| one.single_request_extensions.iter().flatten());
    let of_all = request.tbs_request.request_extensions.iter().flatten();
    of_one.into_iter().all(|extension| !extension.critical)
        && of_all.into_iter().all(|extension| match extension.extn_id {
            NONCE => OctetString::from_der(extension.extn_value.as_bytes())
                .is_ok_and(|nonce| (1..=LONGEST_NONCE).contains(&nonce.as_bytes().len())),
            _ => !extension.critical,
        })
}

fn answer_only(response: &OcspResponse) -> Vec<u8> {
    response.to_der().unwrap_or_default()
}

fn generalized(at: Timestamp) -> Result<OcspGeneralizedTime> {
    let since = std::time::Duration::from_secs(u64::try_from(at.as_second()).unwrap_or(0));
    GeneralizedTime::from_unix_duration(since).map(OcspGeneralizedTime).map_err(unencodable)
}

impl Responder {
    /// Answers from a list of the authority and the serial numbers that it issued.
    ///
    /// # Errors
    /// The authority did not delegate the certificate, or the key is not the certificate's.
    pub fn new(
        authority: &Certificate,
        certificate: Certificate,
        key: PrivateKey,
        list: List,
        issued: HashSet<Vec<u8>>,
    ) -> Result<Self> {
        certificate.check_signed_by(authority)?;
        if !certificate.is_responder() || certificate.key() != key.public() {
            return Err(Problem::refused("this certificate may not answer for the authority")
                .why("it was not delegated for that, or its key is another"));
        }
        let name = authority.parsed().tbs_certificate.subject.to_der().map_err(unencodable)?;
        let public = authority.key().subject_public_key.raw_bytes();
        let by = |oid, how| {
            (oid, digest::digest(how, &name).as_ref().to_vec(), digest::digest(how, public).as_ref().to_vec())
        };
        let known_as = vec![
            by(SHA1, &digest::SHA1_FOR_LEGACY_USE_ONLY),
            by(SHA256, &digest::SHA256),
            by(SHA384, &digest::SHA384),
            by(SHA512, &digest::SHA512),
        ];
        let revoked = list
            .entries
            .iter()
            .enumerate()
            .filter_map(|(at, entry)| Some((super::list::from_hex(&entry.serial)?, at)))
            .collect();
        Ok(Self { certificate, key, list, revoked, issued, known_as })
    }

    fn state(&self, asked: &CertId) -> Result<CertStatus> {
        let ours = self.known_as.iter().any(|(oid, name, key)| {
            asked.hash_algorithm.oid == *oid
                && asked.issuer_name_hash.as_bytes() == name
                && asked.issuer_key_hash.as_bytes() == key
        });
        let serial = asked.serial_number.as_bytes();
        if !ours {
            return Ok(CertStatus::Unknown(Null));
        }
        Ok(match self.revoked.get(serial).and_then(|at| self.list.entries.get(*at)) {
            Some(entry) => CertStatus::Revoked(RevokedInfo {
                revocation_time: generalized(entry.at)?,
                revocation_reason: Some(entry.reason.code()),
            }),
            None if self.issued.contains(serial) => CertStatus::Good(Null),
            // What was never issued is not good.
            None => CertStatus::Unknown(Null),
        })
    }

    /// Answers a question; an answer comes of any bytes.
    #[must_use]
    pub fn answer(&self, question: &[u8], now: Timestamp, random: &dyn SecureRandom) -> Answer {
        let short = |response: &OcspResponse| Answer { der: answer_only(response), until: None };
        if question.len() > LONGEST {
            return short(&OcspResponse::malformed_request());
        }
        let Ok(request) = OcspRequest::from_der(question) else {
            return short(&OcspResponse::malformed_request());
        };
        let asked = &request.tbs_request.request_list;
        if asked.is_empty() || asked.len() > MOST || !is_understood(&request) {
            return short(&OcspResponse::malformed_request());
        }
        // From an outdated list nothing is said (RFC 6960 section 2.3).
        if now >= self.list.until || now >= self.certificate.not_after() {
            return short(&OcspResponse::try_later());
        }
        let until = (now + KEPT).min(self.list.until).min(self.certificate.not_after());
        match self.signed(&request, now, until, random) {
            Ok(der) => Answer { der, until: Some(until) },
            Err(_) => short(&OcspResponse::internal_error()),
        }
    }

    fn signed(
        &self,
        request: &OcspRequest,
        now: Timestamp,
        until: Timestamp,
        random: &dyn SecureRandom,
    ) -> Result<Vec<u8>> {
        let mut responses = Vec::new();
        for one in &request.tbs_request.request_list {
            responses.push(SingleResponse {
                cert_id: one.req_cert.clone(),
                cert_status: self.state(&one.req_cert)?,
                this_update: generalized(self.list.from)?,
                next_update: Some(generalized(until)?),
                single_extensions: None,
            });
        }
        let nonce = request.tbs_request.request_extensions.iter().flatten().find(|e| e.extn_id == NONCE);
        let response_extensions = nonce
            .map(|nonce| vec![Extension { extn_id: NONCE, critical: false, extn_value: nonce.extn_value.clone() }]);
        let own = digest::digest(&digest::SHA1_FOR_LEGACY_USE_ONLY, self.key.public().subject_public_key.raw_bytes());
        let tbs_response_data = ResponseData {
            version: Version::V1,
            responder_id: ResponderId::ByKey(OctetString::new(own.as_ref()).map_err(unencodable)?),
            produced_at: generalized(now)?,
            responses,
            response_extensions,
        };
        let signature: BitString = self.key.sign(&tbs_response_data.to_der().map_err(unencodable)?, random)?;
        let basic = BasicOcspResponse {
            tbs_response_data,
            signature_algorithm: self.key.signature_algorithm(),
            signature,
            certs: Some(vec![self.certificate.parsed().clone()]),
        };
        let response = OcspResponse::successful(basic).map_err(unencodable)?;
        response.to_der().map_err(unencodable)
    }

    /// The list that it answers from.
    #[must_use]
    pub fn list(&self) -> &List {
        &self.list
    }
}

/// Whether bytes are a question at all: for checking what comes over HTTP before it is given on.
#[must_use]
pub fn is_question(bytes: &[u8]) -> bool {
    bytes.len() <= LONGEST && OcspRequest::from_der(bytes).is_ok() && names::first_of_sequence(bytes).is_ok()
}
