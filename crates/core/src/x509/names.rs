//! The names that a certificate is for (RFC 5280 section 4.2.1.6), and the domain that an authority may be limited to.

use std::net::IpAddr;

use x509_cert::der::asn1::{Any, Ia5String, OctetString, Utf8StringRef};
use x509_cert::der::oid::ObjectIdentifier;
use x509_cert::der::{Decode as _, Encode as _};
use x509_cert::ext::pkix::constraints::name::{GeneralSubtree, NameConstraints};
use x509_cert::ext::pkix::name::{GeneralName, OtherName};
use x509_cert::name::Name;

use super::parts::{LONGEST_COMMON, distinguished, unencodable};
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

/// Whether a name stands in a subtree; `None`: the subtree is of another kind of name.
fn stands_in(name: &SubjectName, base: &GeneralName) -> Option<bool> {
    let below = |host: &str, base: &str| {
        let (host, base) = (host.to_ascii_lowercase(), base.to_ascii_lowercase());
        match base.strip_prefix('.') {
            Some(_) => host.ends_with(&base),
            None => base.is_empty() || host == base || host.ends_with(&format!(".{base}")),
        }
    };
    match (name, base) {
        (SubjectName::Host(host), GeneralName::DnsName(base)) => Some(below(host, base.as_str())),
        (SubjectName::Mail(mail), GeneralName::Rfc822Name(base)) => {
            let (base, host) = (base.as_str(), mail.rsplit_once('@').map_or("", |(_, host)| host));
            Some(match base.rsplit_once('@') {
                // A mailbox, the mailboxes of one host, or those of all hosts below one.
                Some((local, of)) => {
                    of.eq_ignore_ascii_case(host)
                        && mail.len() - host.len() == base.len() - of.len()
                        && mail.starts_with(local)
                }
                None if base.starts_with('.') => below(host, base),
                None => host.eq_ignore_ascii_case(base),
            })
        }
        (SubjectName::Address(address), GeneralName::IpAddress(base)) => {
            let octets = match address {
                IpAddr::V4(four) => four.octets().to_vec(),
                IpAddr::V6(six) => six.octets().to_vec(),
            };
            let (base, mask) = base.as_bytes().split_at(base.as_bytes().len() / 2);
            let same = |((own, base), mask): ((&u8, &u8), &u8)| own & mask == base & mask;
            (octets.len() == base.len()).then(|| octets.iter().zip(base).zip(mask).all(same))
        }
        _ => None,
    }
}

/// Whether an authority with these constraints may sign for a name (RFC 5280 section 4.2.1.10): it stands in a permitted subtree, where there
/// are some of its kind, and in no excluded one. A principal name, of which verifiers judge nothing, is held to what is permitted of
/// mail addresses or hosts; of what nobody here can judge, none is signed for.
#[must_use]
pub fn permits(constraints: &NameConstraints, name: &SubjectName) -> bool {
    let permitted = || constraints.permitted_subtrees.iter().flatten();
    let excluded = || constraints.excluded_subtrees.iter().flatten();
    let odd = |subtree: &GeneralSubtree| subtree.minimum != 0 || subtree.maximum.is_some();
    if permitted().chain(excluded()).any(odd) {
        return false;
    }
    let judged = match name {
        SubjectName::Principal(text) => {
            let Some((_, host)) = text.rsplit_once('@') else { return permitted().next().is_none() };
            vec![SubjectName::Mail(text.clone()), SubjectName::Host(host.to_owned())]
        }
        SubjectName::Other(_) => return false,
        one => vec![one.clone()],
    };
    let answers = |name: &SubjectName| permitted().filter_map(|tree| stands_in(name, &tree.base)).collect::<Vec<_>>();
    let out = judged.iter().any(|name| excluded().any(|tree| stands_in(name, &tree.base) == Some(true)));
    let of_kind: Vec<_> = judged.iter().map(answers).find(|answers| !answers.is_empty()).unwrap_or_default();
    !out && (of_kind.is_empty() || of_kind.contains(&true))
}

/// Whether an authority with these constraints may sign for a subject.
pub(super) fn permits_subject(constraints: &NameConstraints, subject: &Name) -> bool {
    let within = |base: &GeneralName| match base {
        GeneralName::DirectoryName(base) => Some(subject.0.starts_with(&base.0)),
        _ => None,
    };
    let answers: Vec<_> =
        constraints.permitted_subtrees.iter().flatten().filter_map(|tree| within(&tree.base)).collect();
    let excluded = constraints.excluded_subtrees.iter().flatten().any(|tree| within(&tree.base) == Some(true));
    subject.is_empty() || (!excluded && (answers.is_empty() || answers.contains(&true)))
}

/// The distinguished name of somebody with alternative names: with the first host name or address as common name that is short enough for
/// one (RFC 5280 appendix A.1: 64 characters), else empty.
pub(super) fn subject_of(organisation: &str, names: &[SubjectName]) -> Result<Name> {
    let common = names.iter().filter(|name| matches!(name, SubjectName::Host(_) | SubjectName::Address(_)));
    match common.map(ToString::to_string).find(|name| name.chars().count() <= LONGEST_COMMON) {
        Some(common) => distinguished(organisation, &common),
        None => Ok(Name::default()),
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
        let constraints = constraints("skerry.example").unwrap();
        for (name, may) in [
            (SubjectName::Host("gangway.skerry.example".into()), true),
            (SubjectName::Host("Skerry.Example".into()), true),
            (SubjectName::Host("notskerry.example".into()), false),
            (mail("mara@skerry.example"), true),
            (mail("mara@mail.skerry.example"), true),
            (mail("mara@skerry.example@elsewhere.example"), false),
            (principal("mara@mail.skerry.example"), true),
            (principal("mara@elsewhere.example"), false),
            (principal("mara"), false),
            (SubjectName::Address("203.0.113.10".parse().unwrap()), false),
            (SubjectName::Address("2001:db8::1".parse().unwrap()), false),
            (SubjectName::Other("8601".into()), false),
        ] {
            assert_eq!(permits(&constraints, &name), may, "{name}");
        }
    }

    #[test]
    fn constraints_that_somebody_else_wrote_are_read_as_the_standard_has_them() {
        let ia5 = |text: &str| Ia5String::new(text).unwrap();
        let tree = |base| GeneralSubtree { base, minimum: 0, maximum: None };
        let octets = |bytes: &[u8]| GeneralName::IpAddress(OctetString::new(bytes.to_vec()).unwrap());
        let host = |text: &str| SubjectName::Host(text.into());
        let mail = |text: &str| SubjectName::Mail(text.into());
        let address = |text: &str| SubjectName::Address(text.parse().unwrap());
        let only = |permitted: Vec<GeneralName>, excluded: Vec<GeneralName>| NameConstraints {
            permitted_subtrees: (!permitted.is_empty()).then(|| permitted.into_iter().map(tree).collect()),
            excluded_subtrees: (!excluded.is_empty()).then(|| excluded.into_iter().map(tree).collect()),
        };
        let dns = |text: &str| GeneralName::DnsName(ia5(text));
        let rfc822 = |text: &str| GeneralName::Rfc822Name(ia5(text));
        // Kinds of name of which nothing is said are free.
        let hosts = only(vec![dns("skerry.example")], vec![dns("old.skerry.example")]);
        for (name, may) in [
            (host("a.skerry.example"), true),
            (host("a.old.skerry.example"), false),
            (host("elsewhere.example"), false),
            (mail("mara@elsewhere.example"), true),
            (address("203.0.113.10"), true),
        ] {
            assert_eq!(permits(&hosts, &name), may, "{name}");
        }
        let mails = only(vec![rfc822("mara@skerry.example"), rfc822("post.example"), rfc822(".ferry.example")], vec![]);
        for (name, may) in [
            ("mara@skerry.example", true),
            ("mara@SKERRY.example", true),
            ("tomas@skerry.example", false),
            ("x@post.example", true),
            ("x@a.post.example", false),
            ("x@a.ferry.example", true),
            ("x@ferry.example", false),
        ] {
            assert_eq!(permits(&mails, &mail(name)), may, "{name}");
            assert_eq!(permits(&mails, &SubjectName::Principal(name.into())), may, "{name}");
        }
        let addresses = only(vec![octets(&[203, 0, 113, 0, 255, 255, 255, 0])], vec![]);
        assert!(permits(&addresses, &address("203.0.113.10")) && !permits(&addresses, &address("198.51.100.1")));
        let mut odd = only(vec![dns("skerry.example")], vec![]);
        odd.permitted_subtrees.as_mut().unwrap()[0].minimum = 1;
        assert!(!permits(&odd, &host("a.skerry.example")), "what the standard does not know permits nothing");
        let directory = |organisation| GeneralName::DirectoryName(distinguished(organisation, "").unwrap());
        let own = only(vec![directory("skerry")], vec![]);
        assert!(permits_subject(&own, &distinguished("skerry", "x").unwrap()));
        assert!(!permits_subject(&own, &distinguished("elsewhere", "x").unwrap()));
        assert!(permits_subject(&own, &Name::default()), "an empty subject is nobody's");
    }
}
