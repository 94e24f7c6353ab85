//! The names that a certificate is for (RFC 5280 section 4.2.1.6), and the domain that an authority may be limited to.

use std::net::IpAddr;

use x509_cert::der::asn1::{Any, Ia5String, OctetString, Utf8StringRef};
use x509_cert::der::oid::ObjectIdentifier;
use x509_cert::der::{Decode as _, Encode as _};
use x509_cert::ext::pkix::constraints::name::{GeneralSubtree, NameConstraints};
use x509_cert::ext::pkix::name::{GeneralName, OtherName};

use super::unencodable;
use crate::{Problem, Result};

/// The user principal name, as built-in clients and directories use it in an `otherName`.
const PRINCIPAL: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.3.6.1.4.1.311.20.2.3");

/// One name in a certificate.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub enum SubjectName {
    /// `gangway.skerry.example`; a leading `*` label stands for one label.
    Host(String),
    Address(IpAddr),
    /// `mara@skerry.example` (RFC 5321).
    Mail(String),
    /// `mara@skerry.example`, as an `otherName`.
    Principal(String),
    /// Of a kind that is not used here; its DER in hexadecimal.
    Other(String),
}

impl std::fmt::Display for SubjectName {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            Self::Host(text) | Self::Mail(text) | Self::Principal(text) | Self::Other(text) => f.write_str(text),
            Self::Address(address) => write!(f, "{address}"),
        }
    }
}

impl SubjectName {
    /// What devices dial: a name or an address.
    #[must_use]
    pub fn dialled(text: &str) -> Self {
        text.parse().map_or_else(|_| Self::Host(text.to_owned()), Self::Address)
    }

    pub(super) fn to_general(&self) -> Result<GeneralName> {
        let ia5 = |text: &str| {
            Ia5String::new(text).map_err(|_| {
                Problem::words(format!("{text:?} cannot stand in a certificate"))
                    .why("names and mail addresses in certificates are ASCII (RFC 5280 section 4.2.1.6)")
            })
        };
        Ok(match self {
            Self::Host(text) => GeneralName::DnsName(ia5(text)?),
            Self::Mail(text) => GeneralName::Rfc822Name(ia5(text)?),
            Self::Address(address) => {
                let octets = match address {
                    IpAddr::V4(address) => address.octets().to_vec(),
                    IpAddr::V6(address) => address.octets().to_vec(),
                };
                GeneralName::IpAddress(OctetString::new(octets).map_err(unencodable)?)
            }
            Self::Principal(text) => GeneralName::OtherName(OtherName {
                type_id: PRINCIPAL,
                value: Any::from(Utf8StringRef::new(text).map_err(unencodable)?),
            }),
            Self::Other(hex) => {
                return Err(Problem::failed("a name of a kind that is not used cannot be written").why(hex.clone()));
            }
        })
    }

    pub(super) fn from_general(name: &GeneralName) -> Self {
        match name {
            GeneralName::DnsName(text) => Self::Host(text.to_string()),
            GeneralName::Rfc822Name(text) => Self::Mail(text.to_string()),
            GeneralName::IpAddress(octets) => match octets.as_bytes() {
                bytes if bytes.len() == 4 || bytes.len() == 16 => {
                    let four = <[u8; 4]>::try_from(bytes).map(IpAddr::from);
                    let sixteen = <[u8; 16]>::try_from(bytes).map(IpAddr::from);
                    four.or(sixteen).map_or_else(|_| other(name), Self::Address)
                }
                _ => other(name),
            },
            GeneralName::OtherName(value) if value.type_id == PRINCIPAL => {
                let text = value.value.decode_as::<String>();
                text.map_or_else(|_| other(name), Self::Principal)
            }
            _ => other(name),
        }
    }
}

fn other(name: &GeneralName) -> SubjectName {
    let der = name.to_der().unwrap_or_default();
    SubjectName::Other(der.iter().map(|byte| format!("{byte:02x}")).collect())
}

/// The limits of an authority that may only sign for `domain` and what is below it (RFC 5280 section 4.2.1.10).
pub(super) fn constraints(domain: &str) -> Result<NameConstraints> {
    let subtree = |base| GeneralSubtree { base, minimum: 0, maximum: None };
    let ia5 = |text: &str| Ia5String::new(text).map_err(unencodable);
    Ok(NameConstraints {
        permitted_subtrees: Some(vec![
            subtree(GeneralName::DnsName(ia5(domain)?)),
            subtree(GeneralName::Rfc822Name(ia5(domain)?)),
            subtree(GeneralName::Rfc822Name(ia5(&format!(".{domain}"))?)),
        ]),
        // A domain says nothing of addresses, so that all of them are kept out: base and mask of each version (RFC 5280 section 4.2.1.10).
        excluded_subtrees: Some(
            [8, 32]
                .into_iter()
                .map(|length| OctetString::new(vec![0; length]).map(GeneralName::IpAddress).map(subtree))
                .collect::<std::result::Result<_, _>>()
                .map_err(unencodable)?,
        ),
    })
}

/// Whether an authority that is limited to `domain` may sign for a name: none of an address, nor of what nobody here can judge. Verifiers do
/// not judge principal names, so it is done here.
#[must_use]
pub fn within(name: &SubjectName, domain: &str) -> bool {
    let below = |host: &str| host == domain || host.ends_with(&format!(".{domain}"));
    match name {
        SubjectName::Host(host) => below(&host.to_ascii_lowercase()),
        SubjectName::Mail(mail) | SubjectName::Principal(mail) => {
            mail.rsplit_once('@').is_some_and(|(_, host)| below(&host.to_ascii_lowercase()))
        }
        SubjectName::Address(_) | SubjectName::Other(_) => false,
    }
}

/// A number as DER INTEGER content has it.
pub(super) fn is_negative(bytes: &[u8]) -> bool {
    bytes.first().is_some_and(|first| first & 0x80 != 0)
}

/// The elements of a DER sequence, with their whole encodings.
pub(super) fn first_of_sequence(der: &[u8]) -> Result<Vec<u8>> {
    use x509_cert::der::Reader as _;
    use x509_cert::der::asn1::AnyRef;
    AnyRef::from_der(der)
        .and_then(|outer| {
            outer.sequence(|reader| {
                let first = reader.tlv_bytes()?.to_vec();
                reader.read_slice(reader.remaining_len())?;
                Ok(first)
            })
        })
        .map_err(|error| Problem::words("this is no DER").why(error.to_string()))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_authority_with_a_domain_signs_for_what_is_in_it_and_for_no_address() {
        let mail = |text: &str| SubjectName::Mail(text.into());
        let principal = |text: &str| SubjectName::Principal(text.into());
        for (name, may) in [
            (SubjectName::Host("gangway.skerry.example".into()), true),
            (SubjectName::Host("Skerry.Example".into()), true),
            (SubjectName::Host("notskerry.example".into()), false),
            (mail("mara@skerry.example"), true),
            (mail("mara@skerry.example@elsewhere.example"), false),
            (principal("mara@mail.skerry.example"), true),
            (principal("mara@elsewhere.example"), false),
            (principal("mara"), false),
            (SubjectName::Address("203.0.113.10".parse().unwrap()), false),
            (SubjectName::Address("2001:db8::1".parse().unwrap()), false),
            (SubjectName::Other("8601".into()), false),
        ] {
            assert_eq!(within(&name, "skerry.example"), may, "{name}");
        }
        let excluded = constraints("skerry.example").unwrap().excluded_subtrees.unwrap();
        assert_eq!(excluded.len(), 2, "all addresses of both IP versions");
    }
}
