//! What certificates, requests and lists are made of: names, moments, texts in PEM (RFC 7468).

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD as BASE64;
use jiff::Timestamp;
use x509_cert::attr::AttributeTypeAndValue;
use x509_cert::der::asn1::{Any, GeneralizedTime, SetOfVec, UtcTime, Utf8StringRef};
use x509_cert::der::oid::ObjectIdentifier;
use x509_cert::name::{Name, RdnSequence, RelativeDistinguishedName};
use x509_cert::time::Time;

use crate::keys::sha256_hex;
use crate::{Problem, Result};

/// Bytes at most of anything in DER or PEM that is taken from outside.
pub const LONGEST: usize = 1024 * 1024;

/// Characters at most of a common name or an organisation (RFC 5280 appendix A.1: ub-common-name, ub-organization-name).
pub(super) const LONGEST_COMMON: usize = 64;

/// What cannot happen with values that this program made itself, and is said all the same.
pub(crate) fn unencodable(error: x509_cert::der::Error) -> Problem {
    Problem::failed("the certificate's parts cannot be encoded").why(error.to_string())
}

/// A distinguished name of an organisation and a common name; either may be left out by being empty.
pub(crate) fn distinguished(organisation: &str, common_name: &str) -> Result<Name> {
    const ORGANISATION: ObjectIdentifier = ObjectIdentifier::new_unwrap("2.5.4.10");
    const COMMON_NAME: ObjectIdentifier = ObjectIdentifier::new_unwrap("2.5.4.3");
    let mut sequence = RdnSequence::default();
    for (oid, text) in [(ORGANISATION, organisation), (COMMON_NAME, common_name)] {
        if text.is_empty() {
            continue;
        }
        let text: String = text.chars().take(LONGEST_COMMON).collect();
        let value = Any::from(Utf8StringRef::new(&text).map_err(unencodable)?);
        let set = SetOfVec::try_from(vec![AttributeTypeAndValue { oid, value }]).map_err(unencodable)?;
        sequence.0.push(RelativeDistinguishedName(set));
    }
    Ok(sequence)
}

/// A moment as certificates carry it: UTCTime through 2049, GeneralizedTime from then on (RFC 5280 section 4.1.2.5).
pub(crate) fn time(at: Timestamp) -> Result<Time> {
    let since = std::time::Duration::from_secs(u64::try_from(at.as_second()).unwrap_or(0));
    match UtcTime::from_unix_duration(since) {
        Ok(utc) => Ok(Time::UtcTime(utc)),
        Err(_) => GeneralizedTime::from_unix_duration(since).map(Time::GeneralTime).map_err(unencodable),
    }
}

/// The moment that a certificate carries.
pub(crate) fn moment_of(time: &Time) -> Timestamp {
    let seconds = i64::try_from(time.to_unix_duration().as_secs()).unwrap_or(i64::MAX);
    Timestamp::from_second(seconds).unwrap_or(Timestamp::MAX)
}

/// SHA-256 of anything in groups of four, to compare by eye or voice.
#[must_use]
pub fn fingerprint(der: &[u8]) -> String {
    let hex = sha256_hex(der);
    hex.as_bytes().chunks(4).map(|group| String::from_utf8_lossy(group)).collect::<Vec<_>>().join(" ")
}

/// DER as text between a BEGIN and an END line (RFC 7468).
#[must_use]
pub fn pem(label: &str, der: &[u8]) -> String {
    let text = BASE64.encode(der);
    let lines: Vec<_> = text.as_bytes().chunks(64).map(String::from_utf8_lossy).collect();
    format!("-----BEGIN {label}-----\n{}\n-----END {label}-----\n", lines.join("\n"))
}

/// Every block of a PEM text: its label and its DER. Text around the blocks is passed over (RFC 7468 section 2).
///
/// # Errors
/// A block without an end, or what stands in one is not base64.
pub fn blocks(text: &str) -> Result<Vec<(String, Vec<u8>)>> {
    let damaged = |what: String| Problem::words("this PEM text is damaged").why(what);
    let mut blocks = Vec::new();
    let mut lines = text.lines();
    while let Some(line) = lines.next() {
        let Some(label) = line.trim().strip_prefix("-----BEGIN ").and_then(|rest| rest.strip_suffix("-----")) else {
            continue;
        };
        let end = format!("-----END {label}-----");
        let mut body = String::new();
        loop {
            let Some(line) = lines.next() else {
                return Err(damaged(format!("the block {label:?} has no end: the text was cut short")));
            };
            if line.trim() == end {
                break;
            }
            if line.contains(':') {
                return Err(Problem::words("this key is encrypted in an outdated way")
                    .why("its block has headers of its own; what is taken is PKCS#8 (RFC 5958), encrypted or not")
                    .try_("openssl pkcs8 -topk8 -in OLD -out NEW"));
            }
            body.push_str(line.trim());
        }
        let der = BASE64.decode(&body).map_err(|_| damaged(format!("the block {label:?} is not base64")))?;
        blocks.push((label.to_owned(), der));
    }
    Ok(blocks)
}

/// A file with one thing in it, in DER or in a PEM block with one of these labels.
///
/// # Errors
/// Neither, or too long.
pub fn one_of(bytes: &[u8], labels: &[&str], what: &str) -> Result<Vec<u8>> {
    if bytes.len() > LONGEST {
        return Err(Problem::words(format!("this is no {what}")).why("it is longer than 1 MiB"));
    }
    let Ok(text) = std::str::from_utf8(bytes) else { return Ok(bytes.to_vec()) };
    if !text.contains("-----BEGIN ") {
        // DER can be valid UTF-8 by chance.
        return Ok(bytes.to_vec());
    }
    let found = blocks(text)?;
    let labels_there: Vec<_> = found.iter().map(|(label, _)| label.clone()).collect();
    found.into_iter().find(|(label, _)| labels.contains(&label.as_str())).map(|(_, der)| der).ok_or_else(|| {
        Problem::words(format!("this is no {what}")).why(match labels_there.first() {
            Some(label) => format!("it is a PEM text with {label:?}; {:?} is wanted", labels[0]),
            None => "there is nothing in it".into(),
        })
    })
}
