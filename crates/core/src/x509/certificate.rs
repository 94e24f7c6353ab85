//! Certificates: what each kind is good for, issued and read.

use jiff::{SignedDuration, Timestamp};
use ring::rand::SecureRandom;
use x509_cert::der::asn1::{Ia5String, Null, OctetString};
use x509_cert::der::oid::{AssociatedOid, ObjectIdentifier};
use x509_cert::der::{Decode as _, Encode};
use x509_cert::ext::Extension;
use x509_cert::ext::pkix::crl::CrlDistributionPoints;
use x509_cert::ext::pkix::crl::dp::DistributionPoint;
use x509_cert::ext::pkix::name::{DistributionPointName, GeneralName};
use x509_cert::ext::pkix::{
    AccessDescription, AuthorityInfoAccessSyntax, AuthorityKeyIdentifier, BasicConstraints, ExtendedKeyUsage, KeyUsage,
    KeyUsages, SubjectAltName, SubjectKeyIdentifier,
};
use x509_cert::name::Name;
use x509_cert::serial_number::SerialNumber;
use x509_cert::spki::SubjectPublicKeyInfoOwned;
use x509_cert::time::Validity;
use x509_cert::{TbsCertificate, Version};

use super::key::{self, PrivateKey};
use super::names::{self, SubjectName, subject_of};
use super::{distinguished, fingerprint, moment_of, pem, time, unencodable};
use crate::{Problem, Result, moment};

/// Days at most that a gateway's certificate holds.
pub const GATEWAY_DAYS: i64 = 398;
/// Names at most in a certificate that is read.
const MOST_NAMES: usize = 1000;
/// A certificate holds from this much before it was made: clocks differ.
const BEFORE: SignedDuration = SignedDuration::from_mins(10);

const SERVER: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.3.6.1.5.5.7.3.1");
const CLIENT: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.3.6.1.5.5.7.3.2");
const MAIL: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.3.6.1.5.5.7.3.4");
const OCSP_SIGNING: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.3.6.1.5.5.7.3.9");
/// RFC 4945 section 5.1.3.12: id-kp-ipsecIKE.
const IKE: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.3.6.1.5.5.7.3.17");
/// The purpose that some built-in IKE clients look for in the other end's certificate.
const IKE_INTERMEDIATE: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.3.6.1.5.5.8.2.2");
const NO_CHECK: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.3.6.1.5.5.7.48.1.5");
const AT_OCSP: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.3.6.1.5.5.7.48.1");
const AT_ISSUERS: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.3.6.1.5.5.7.48.2");

/// What a certificate is good for.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Purpose {
    /// Signs certificates and revocation lists.
    Authority {
        /// How many authorities may stand below it.
        path_length: u8,
        /// Only this domain and what is below it.
        domain: Option<String>,
    },
    /// A gateway: proves itself over TLS and IKE.
    Gateway,
    /// A device: proves itself over TLS and IKE.
    Device,
    /// Signs answers on the state of certificates (RFC 6960 section 4.2.2.2).
    Responder,
    /// Signs handovers.
    Signer,
}

/// Where the state of a certificate is published, as URLs over HTTP.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Points {
    pub lists: Vec<String>,
    pub status: Vec<String>,
    /// The issuing authority's own certificate.
    pub issuer: Vec<String>,
}

/// What is to be certified.
pub struct Wanted<'a> {
    /// 16 random bytes.
    pub serial: [u8; 16],
    pub organisation: &'a str,
    /// Of authorities and of what acts for them. A gateway's and a device's is one of its names, or there is none.
    pub common_name: Option<&'a str>,
    pub names: &'a [SubjectName],
    pub key: &'a SubjectPublicKeyInfoOwned,
    pub from: Timestamp,
    pub until: Timestamp,
    pub purpose: Purpose,
    pub points: &'a Points,
}

/// Who signs.
pub struct Issuer<'a> {
    pub certificate: &'a Certificate,
    pub key: &'a PrivateKey,
    /// The authorities above it, the nearest first.
    pub above: &'a [Certificate],
}

impl Issuer<'_> {
    fn line(&self) -> impl Iterator<Item = &Certificate> {
        std::iter::once(self.certificate).chain(self.above)
    }
}

/// Who of an authority and those above it does not permit a name.
///
/// # Errors
/// What one of them is limited to cannot be read.
pub fn forbids<'a>(
    authority: &'a Certificate,
    above: &'a [Certificate],
    name: &SubjectName,
) -> Result<Option<&'a Certificate>> {
    for one in std::iter::once(authority).chain(above) {
        if one.constraints()?.is_some_and(|constraints| !names::permits(&constraints, name)) {
            return Ok(Some(one));
        }
    }
    Ok(None)
}

/// A certificate that was read or made.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Certificate {
    der: Vec<u8>,
    parsed: x509_cert::Certificate,
}

/// A serial number as certificates carry it: positive, 16 octets of the 20 that are allowed (RFC 5280 section 4.1.2.2).
fn serial_number(mut random: [u8; 16]) -> Result<SerialNumber> {
    random[0] = random[0] & 0x7f | 0x40;
    SerialNumber::new(&random).map_err(unencodable)
}

/// The serial number that comes of 16 random bytes, in lower-case hexadecimal.
#[must_use]
pub fn serial_of(mut random: [u8; 16]) -> String {
    random[0] = random[0] & 0x7f | 0x40;
    random.iter().map(|byte| format!("{byte:02x}")).collect()
}

/// RFC 7093 section 2, method 1: the leftmost 160 bits of the SHA-256 of the key.
fn key_id(key: &SubjectPublicKeyInfoOwned) -> Result<OctetString> {
    use sha2::Digest as _;
    let digest = sha2::Sha256::digest(key.subject_public_key.raw_bytes());
    OctetString::new(&digest[..20]).map_err(unencodable)
}

fn extension<T: AssociatedOid + Encode>(value: &T, critical: bool) -> Result<Extension> {
    of(T::OID, value, critical)
}

fn of<T: Encode>(oid: ObjectIdentifier, value: &T, critical: bool) -> Result<Extension> {
    let value = OctetString::new(value.to_der().map_err(unencodable)?).map_err(unencodable)?;
    Ok(Extension { extn_id: oid, critical, extn_value: value })
}

fn locations(urls: &[String]) -> Result<Vec<GeneralName>> {
    urls.iter()
        .map(|url| Ok(GeneralName::UniformResourceIdentifier(Ia5String::new(url).map_err(unencodable)?)))
        .collect()
}

/// The subject: organisation and common name. Where there is nothing that could be the common name, it is empty, and the alternative names
/// are critical (RFC 5280 section 4.2.1.6).
fn subject(wanted: &Wanted<'_>) -> Result<Name> {
    match wanted.common_name {
        Some(common_name) => distinguished(wanted.organisation, common_name),
        None => subject_of(wanted.organisation, wanted.names),
    }
}

fn extensions(wanted: &Wanted<'_>, issuer_key: Option<OctetString>) -> Result<Vec<Extension>> {
    let mut all = Vec::new();
    let authority = matches!(wanted.purpose, Purpose::Authority { .. });
    if let Purpose::Authority { path_length, domain } = &wanted.purpose {
        all.push(extension(&BasicConstraints { ca: true, path_len_constraint: Some(*path_length) }, true)?);
        if let Some(domain) = domain {
            all.push(extension(&names::constraints(domain)?, true)?);
        }
    } else {
        all.push(extension(&BasicConstraints { ca: false, path_len_constraint: None }, true)?);
    }
    let rsa = matches!(key::strength(wanted.key)?, key::Strength::Rsa(_));
    let usage = match wanted.purpose {
        Purpose::Authority { .. } => KeyUsages::KeyCertSign | KeyUsages::CRLSign,
        // RSA clients of the older kind send a secret that is encrypted to the key.
        Purpose::Gateway | Purpose::Device if rsa => KeyUsages::DigitalSignature | KeyUsages::KeyEncipherment,
        _ => KeyUsages::DigitalSignature.into(),
    };
    all.push(extension(&KeyUsage(usage), true)?);
    let purposes = match wanted.purpose {
        Purpose::Authority { .. } => vec![],
        Purpose::Gateway => vec![SERVER, IKE, IKE_INTERMEDIATE],
        Purpose::Device => vec![CLIENT, IKE],
        Purpose::Responder => vec![OCSP_SIGNING],
        Purpose::Signer => vec![MAIL],
    };
    if !purposes.is_empty() {
        all.push(extension(&ExtendedKeyUsage(purposes), false)?);
    }
    if !wanted.names.is_empty() {
        let names: Vec<_> = wanted.names.iter().map(SubjectName::to_general).collect::<Result<_>>()?;
        all.push(extension(&SubjectAltName(names), subject(wanted)?.is_empty())?);
    }
    all.push(extension(&SubjectKeyIdentifier(key_id(wanted.key)?), false)?);
    if issuer_key.is_some() {
        let of = AuthorityKeyIdentifier { key_identifier: issuer_key, ..Default::default() };
        all.push(extension(&of, false)?);
    }
    if wanted.purpose == Purpose::Responder {
        // It lives so short that nobody asks whether it was revoked (RFC 6960 section 4.2.2.2.1).
        all.push(of(NO_CHECK, &Null, false)?);
        return Ok(all);
    }
    if !wanted.points.lists.is_empty() {
        let name = DistributionPointName::FullName(locations(&wanted.points.lists)?);
        let point = DistributionPoint { distribution_point: Some(name), reasons: None, crl_issuer: None };
        all.push(extension(&CrlDistributionPoints(vec![point]), false)?);
    }
    let at = |access_method, urls: &[String]| {
        let locations = locations(urls)?.into_iter();
        Ok(locations.map(move |access_location| AccessDescription { access_method, access_location }))
    };
    let mut access: Vec<AccessDescription> = Vec::new();
    // Whoever checks the authority itself is answered by its parent's responder, if there is one.
    if !authority {
        access.extend(at(AT_OCSP, &wanted.points.status)?);
    }
    access.extend(at(AT_ISSUERS, &wanted.points.issuer)?);
    if !access.is_empty() {
        all.push(extension(&AuthorityInfoAccessSyntax(access), false)?);
    }
    Ok(all)
}

fn sign(
    wanted: &Wanted<'_>,
    issuer: Name,
    by: Option<&Certificate>,
    key: &PrivateKey,
    random: &dyn SecureRandom,
) -> Result<Certificate> {
    let issuer_key = match by {
        Some(certificate) => Some(match certificate.key_id() {
            Some(id) => OctetString::new(id).map_err(unencodable)?,
            None => key_id(&certificate.parsed.tbs_certificate.subject_public_key_info)?,
        }),
        None => None,
    };
    let tbs_certificate = TbsCertificate {
        version: Version::V3,
        serial_number: serial_number(wanted.serial)?,
        signature: key.signature_algorithm(),
        issuer,
        validity: Validity { not_before: time(wanted.from - BEFORE)?, not_after: time(wanted.until)? },
        subject: subject(wanted)?,
        subject_public_key_info: wanted.key.clone(),
        issuer_unique_id: None,
        subject_unique_id: None,
        extensions: Some(extensions(wanted, issuer_key)?),
    };
    let signature = key.sign(&tbs_certificate.to_der().map_err(unencodable)?, random)?;
    let parsed = x509_cert::Certificate { tbs_certificate, signature_algorithm: key.signature_algorithm(), signature };
    Ok(Certificate { der: parsed.to_der().map_err(unencodable)?, parsed })
}

/// A root's certificate, signed by its own key.
///
/// # Errors
/// A name that cannot be encoded.
pub fn root(wanted: &Wanted<'_>, key: &PrivateKey, random: &dyn SecureRandom) -> Result<Certificate> {
    sign(wanted, subject(wanted)?, None, key, random)
}

/// A certificate signed by an authority.
///
/// # Errors
/// It would outlive its authority, or begins before it; a name beyond the authority's domain; the authority's path is at its
/// end; the clock stands before the authority's beginning.
pub fn issue(wanted: &Wanted<'_>, issuer: &Issuer<'_>, random: &dyn SecureRandom) -> Result<Certificate> {
    let authority = issuer.certificate;
    if wanted.from < authority.not_before() {
        return Err(Problem::refused(format!("the authority {} does not hold yet", authority.common_name()))
            .why(format!(
                "it holds from {}, and this machine's clock says {}",
                moment(authority.not_before()),
                moment(wanted.from)
            ))
            .try_("set this machine's clock; it may have been set back"));
    }
    // Certificates carry whole seconds.
    if wanted.until.as_second() > authority.not_after().as_second() {
        return Err(Problem::refused("the certificate would hold longer than its authority")
            .why(format!(
                "{} ends on {}, and {} was asked for",
                authority.common_name(),
                moment(authority.not_after()),
                moment(wanted.until)
            ))
            .try_(format!("--until {}", authority.not_after().strftime("%Y-%m-%d")))
            .try_("yestrel authority create NAME   for an authority that holds longer"));
    }
    if wanted.until <= wanted.from {
        return Err(Problem::words("the certificate would end before it begins").try_("a later --until"));
    }
    if matches!(wanted.purpose, Purpose::Authority { .. }) {
        for (below, one) in issuer.line().enumerate() {
            // Between it and what the new authority signs stand the new one and those already there (RFC 5280 section 4.2.1.9).
            if one.path_length().is_some_and(|length| usize::from(length) < below + 1) {
                return Err(Problem::refused(format!("no authority may stand below {}", authority.common_name()))
                    .why(format!(
                        "the certificate of {} says a path length of {}",
                        one.common_name(),
                        one.path_length().unwrap_or_default()
                    ))
                    .try_("--under a root"));
            }
        }
    }
    for name in wanted.names {
        if let Some(one) = forbids(issuer.certificate, issuer.above, name)? {
            let what = one
                .domain()
                .map_or_else(|| "by its certificate".to_owned(), |domain| format!("to {domain} and what is below it"));
            return Err(Problem::refused(format!("{name} is beyond what the authority may sign for"))
                .why(format!("{} is limited {what}", one.common_name())));
        }
    }
    let own = subject(wanted)?;
    for one in issuer.line() {
        if one.constraints()?.is_some_and(|constraints| !names::permits_subject(&constraints, &own)) {
            return Err(Problem::refused(format!("the subject {own} is beyond what the authority may sign for"))
                .why(format!("the certificate of {} limits it to other directory names", one.common_name())));
        }
    }
    let subject = authority.parsed.tbs_certificate.subject.clone();
    sign(wanted, subject, Some(authority), issuer.key, random)
}

impl Certificate {
    /// Reads a certificate, strictly.
    ///
    /// # Errors
    /// Not DER, cut short, a serial number or a count of names that no authority may use.
    pub fn from_der(der: &[u8]) -> Result<Self> {
        let no = |why: String| Problem::words("this is no certificate").why(why);
        if der.len() > super::LONGEST {
            return Err(no("it is longer than 1 MiB".into()));
        }
        let parsed = x509_cert::Certificate::from_der(der).map_err(|error| no(error.to_string()))?;
        let serial = parsed.tbs_certificate.serial_number.as_bytes();
        if names::is_negative(serial) || serial.iter().all(|byte| *byte == 0) {
            return Err(no("its serial number is not positive (RFC 5280 section 4.1.2.2)".into()));
        }
        if parsed.signature_algorithm != parsed.tbs_certificate.signature {
            return Err(no("it names two different signature algorithms".into()));
        }
        let read = Self { der: der.to_vec(), parsed };
        let names = read.names()?.len();
        if names > MOST_NAMES {
            return Err(no(format!("it is for {names} names; more than {MOST_NAMES} are not read")));
        }
        Ok(read)
    }

    /// Reads a certificate from a file's bytes: DER or PEM.
    ///
    /// # Errors
    /// As [`Certificate::from_der`].
    pub fn read(bytes: &[u8]) -> Result<Self> {
        Self::from_der(&super::one_of(bytes, &["CERTIFICATE"], "certificate")?)
    }

    /// The certificate as DER.
    #[must_use]
    pub fn der(&self) -> &[u8] {
        &self.der
    }

    /// As PEM (RFC 7468).
    #[must_use]
    pub fn pem(&self) -> String {
        pem("CERTIFICATE", &self.der)
    }

    pub(super) fn parsed(&self) -> &x509_cert::Certificate {
        &self.parsed
    }

    /// SHA-256 in groups of four.
    #[must_use]
    pub fn fingerprint(&self) -> String {
        fingerprint(&self.der)
    }

    /// The serial number in lower-case hexadecimal.
    #[must_use]
    pub fn serial(&self) -> String {
        self.parsed.tbs_certificate.serial_number.as_bytes().iter().map(|byte| format!("{byte:02x}")).collect()
    }

    /// The subject, "O=skerry,CN=issuing".
    #[must_use]
    pub fn subject(&self) -> String {
        self.parsed.tbs_certificate.subject.to_string()
    }

    /// The subject as DER: by this some clients name themselves (RFC 7296 section 3.5).
    ///
    /// # Errors
    /// Never for a certificate that was read.
    pub fn subject_der(&self) -> Result<Vec<u8>> {
        self.parsed.tbs_certificate.subject.to_der().map_err(unencodable)
    }

    /// The public key with its algorithm, as DER: its SHA-1 names an authority in requests for certificates (RFC 7296 section 3.7).
    ///
    /// # Errors
    /// Never for a certificate that was read.
    pub fn key_der(&self) -> Result<Vec<u8>> {
        self.parsed.tbs_certificate.subject_public_key_info.to_der().map_err(unencodable)
    }

    /// The last common name of the subject, or the whole subject without one.
    #[must_use]
    pub fn common_name(&self) -> String {
        common_name(&self.parsed.tbs_certificate.subject).unwrap_or_else(|| self.subject())
    }

    /// The last common name of who signed it, or its whole name without one.
    #[must_use]
    pub fn issuer_name(&self) -> String {
        let issuer = &self.parsed.tbs_certificate.issuer;
        common_name(issuer).unwrap_or_else(|| issuer.to_string())
    }

    /// Where it says that the list of who signed it is published (RFC 5280 section 4.2.1.13).
    #[must_use]
    pub fn lists(&self) -> Vec<String> {
        let points = self.get::<CrlDistributionPoints>().map(|points| points.0).unwrap_or_default();
        let names = points.into_iter().filter_map(|point| point.distribution_point);
        let full = names.flat_map(|name| match name {
            DistributionPointName::FullName(names) => names,
            DistributionPointName::NameRelativeToCRLIssuer(_) => Vec::new(),
        });
        full.filter_map(|name| match name {
            GeneralName::UniformResourceIdentifier(url) => Some(url.to_string()),
            _ => None,
        })
        .collect()
    }

    /// From when it holds.
    #[must_use]
    pub fn not_before(&self) -> Timestamp {
        moment_of(&self.parsed.tbs_certificate.validity.not_before)
    }

    /// Until when it holds.
    #[must_use]
    pub fn not_after(&self) -> Timestamp {
        moment_of(&self.parsed.tbs_certificate.validity.not_after)
    }

    /// The holder's key.
    #[must_use]
    pub fn key(&self) -> &SubjectPublicKeyInfoOwned {
        &self.parsed.tbs_certificate.subject_public_key_info
    }

    fn get<'a, T: x509_cert::der::Decode<'a> + AssociatedOid>(&'a self) -> Option<T> {
        self.parsed.tbs_certificate.get::<T>().ok().flatten().map(|(_, value)| value)
    }

    /// Whom it is for, besides the subject.
    ///
    /// # Errors
    /// The extension cannot be read.
    pub fn names(&self) -> Result<Vec<SubjectName>> {
        let names = self
            .parsed
            .tbs_certificate
            .get::<SubjectAltName>()
            .map_err(|error| Problem::words("this is no certificate").why(format!("its names: {error}")))?;
        Ok(names.map(|(_, names)| names.0.iter().map(SubjectName::from_general).collect()).unwrap_or_default())
    }

    /// Whether it may sign certificates: the constraint and, where there is one, the key usage say so.
    #[must_use]
    pub fn is_authority(&self) -> bool {
        self.get::<BasicConstraints>().is_some_and(|constraints| constraints.ca)
            && self.get::<KeyUsage>().is_none_or(|usage| usage.0.contains(KeyUsages::KeyCertSign))
    }

    /// Whether it may sign revocation lists.
    #[must_use]
    pub fn signs_lists(&self) -> bool {
        self.get::<KeyUsage>().is_none_or(|usage| usage.0.contains(KeyUsages::CRLSign))
    }

    /// How many authorities may stand below; `None`: as many as they like.
    #[must_use]
    pub fn path_length(&self) -> Option<u8> {
        self.get::<BasicConstraints>().and_then(|constraints| constraints.path_len_constraint)
    }

    /// The domain that it is limited to, where it is to one.
    #[must_use]
    pub fn domain(&self) -> Option<String> {
        let constraints = self.get::<x509_cert::ext::pkix::NameConstraints>()?;
        constraints.permitted_subtrees?.into_iter().find_map(|subtree| match subtree.base {
            GeneralName::DnsName(domain) => Some(domain.to_string()),
            _ => None,
        })
    }

    /// What names it may sign for (RFC 5280 section 4.2.1.10).
    ///
    /// # Errors
    /// They are there, and cannot be read.
    fn constraints(&self) -> Result<Option<x509_cert::ext::pkix::NameConstraints>> {
        let found = self.parsed.tbs_certificate.get::<x509_cert::ext::pkix::NameConstraints>();
        found.map(|found| found.map(|(_, constraints)| constraints)).map_err(|error| {
            Problem::refused(format!("what {} may sign for cannot be read", self.common_name())).why(error.to_string())
        })
    }

    /// Whether it names itself as its issuer.
    fn is_self_issued(&self) -> bool {
        self.parsed.tbs_certificate.subject == self.parsed.tbs_certificate.issuer
    }

    fn purposes(&self) -> Vec<ObjectIdentifier> {
        self.get::<ExtendedKeyUsage>().map(|usage| usage.0).unwrap_or_default()
    }

    /// Whether a server may prove itself with it.
    #[must_use]
    pub fn is_for_servers(&self) -> bool {
        let purposes = self.purposes();
        purposes.is_empty() || purposes.contains(&SERVER)
    }

    /// Whether it may sign answers on the state of certificates.
    #[must_use]
    pub fn is_responder(&self) -> bool {
        self.purposes().contains(&OCSP_SIGNING)
    }

    /// The identifier of the holder's key.
    #[must_use]
    pub fn key_id(&self) -> Option<Vec<u8>> {
        self.get::<SubjectKeyIdentifier>().map(|id| id.0.as_bytes().to_vec())
    }

    /// Whether its own key signed it.
    #[must_use]
    pub fn is_root(&self) -> bool {
        self.is_self_issued() && self.check_signed_by(self).is_ok()
    }

    /// Checks that `issuer` signed it: names and signature. Times and purposes are not looked at.
    ///
    /// # Errors
    /// It did not.
    pub fn check_signed_by(&self, issuer: &Self) -> Result<()> {
        if self.parsed.tbs_certificate.issuer != issuer.parsed.tbs_certificate.subject {
            return Err(Problem::refused(format!("{} is not signed by {}", self.common_name(), issuer.common_name()))
                .why(format!("it names {} as its issuer", self.parsed.tbs_certificate.issuer)));
        }
        let message = names::first_of_sequence(&self.der)?;
        key::verify(issuer.key(), &self.parsed.signature_algorithm, &message, &self.parsed.signature)
            .map_err(|problem| problem.why(format!("of {} over {}", issuer.common_name(), self.common_name())))
    }
}

pub(super) fn common_name(name: &Name) -> Option<String> {
    let attribute = name.0.iter().rev().flat_map(|set| set.0.iter()).find(|one| one.oid.to_string() == "2.5.4.3")?;
    use x509_cert::der::asn1::{PrintableString, TeletexString};
    let value = &attribute.value;
    value
        .decode_as::<String>()
        .or_else(|_| value.decode_as::<PrintableString>().map(|text| text.to_string()))
        .or_else(|_| value.decode_as::<TeletexString>().map(|text| text.to_string()))
        .ok()
}

/// Checks a chain, leaf first: each signed by the next, every issuer an authority, all of them holding at `now`, the last its own
/// root unless `open_end`.
///
/// # Errors
/// The first thing that does not hold.
pub fn check_chain(chain: &[Certificate], now: Timestamp, open_end: bool) -> Result<()> {
    for (at, certificate) in chain.iter().enumerate() {
        if now < certificate.not_before() || now > certificate.not_after() {
            return Err(Problem::refused(format!("{} does not hold now", certificate.common_name())).why(format!(
                "it holds from {} to {}; this machine's clock says {}",
                moment(certificate.not_before()),
                moment(certificate.not_after()),
                moment(now)
            )));
        }
        let Some(issuer) = chain.get(at + 1) else { break };
        certificate.check_signed_by(issuer)?;
        if !issuer.is_authority() {
            return Err(Problem::refused(format!("{} may not sign certificates", issuer.common_name()))
                .why("its certificate does not say that it is an authority"));
        }
        // Authorities below it, which do not issue themselves (RFC 5280 section 6.1.4); the first of a chain may be one.
        let below = chain[..=at].iter().filter(|one| one.is_authority() && !one.is_self_issued()).count();
        if issuer.path_length().is_some_and(|length| usize::from(length) < below) {
            return Err(Problem::refused("the chain of authorities is too long")
                .why(format!("{} allows fewer below it", issuer.common_name())));
        }
    }
    match chain.last() {
        Some(last) if !open_end && !last.is_root() => Err(Problem::refused("the chain does not end at a root")
            .why(format!("{} is signed by somebody who is not in it", last.common_name()))
            .try_("add the certificates above it to the same file")),
        Some(_) => Ok(()),
        None => Err(Problem::words("there is no certificate in it")),
    }
}
