//! Reads a configuration profile as phones take it: signed (RFC 5652), a property list in it, certificates and a key under the transport
//! password (RFC 7292).

use jiff::Timestamp;
use plist::{Dictionary, Value};
use ring::rand::SystemRandom;
use yestrel_core::x509::bundle::{self, Closed};
use yestrel_core::x509::{Certificate, PrivateKey, signed};
use yestrel_core::{Problem, Result};
use yestrel_wire::esp::cipher::{Encryption, Integrity, Protection};
use yestrel_wire::ike::exchange::Group;
use yestrel_wire::ike::suite::{Prf, Suite};

/// What a profile says.
pub struct Profile {
    pub organisation: String,
    pub holder: String,
    /// The certificate with what stands above it, and its key.
    pub identity: Option<(Vec<Certificate>, PrivateKey)>,
    pub trusted: Vec<Certificate>,
    pub connections: Vec<Connection>,
}

/// One connection.
pub struct Connection {
    pub name: String,
    pub address: String,
    pub remote: String,
    pub local: String,
    /// The common name of who signed the gateway's certificate.
    pub issuer: Option<String>,
    /// Names in these go to the resolvers that the gateway gives.
    pub domains: Vec<String>,
    /// Name and password, where it signs in with an account.
    pub account: Option<(String, String)>,
    /// The association's, and the packets'.
    pub suites: (Suite, Suite),
    /// Minutes after which keys are made anew: of the association, of packets.
    pub lifetimes: (u64, u64),
}

fn wrong(why: impl Into<String>) -> Problem {
    Problem::words("a phone would not take this profile").why(why)
}

fn text(dictionary: &Dictionary, key: &str) -> Result<String> {
    let value = dictionary.get(key).and_then(Value::as_string);
    value.map(str::to_owned).ok_or_else(|| wrong(format!("it has no {key}")))
}

fn data<'a>(dictionary: &'a Dictionary, key: &str) -> Result<&'a [u8]> {
    dictionary.get(key).and_then(Value::as_data).ok_or_else(|| wrong(format!("it has no {key}")))
}

fn number(dictionary: &Dictionary, key: &str) -> Result<u64> {
    let value = dictionary.get(key).and_then(Value::as_unsigned_integer);
    value.ok_or_else(|| wrong(format!("it has no {key}")))
}

/// What of algorithms a profile can say.
fn suite(dictionary: &Dictionary, key: &str) -> Result<(Suite, u64)> {
    let own = dictionary.get(key).and_then(Value::as_dictionary);
    let own = own.ok_or_else(|| wrong(format!("it has no {key}")))?;
    let (encryption, integrity) = (text(own, "EncryptionAlgorithm")?, text(own, "IntegrityAlgorithm")?);
    let (prf, beside) = match integrity.as_str() {
        "SHA2-256" => (Prf::Sha256, Integrity::Sha256),
        "SHA2-384" => (Prf::Sha384, Integrity::Sha384),
        "SHA2-512" => (Prf::Sha512, Integrity::Sha512),
        other => return Err(wrong(format!("a phone does not have {other}"))),
    };
    let (encryption, integrity) = match encryption.as_str() {
        "AES-128" => (Encryption::AesCbc(128), Some(beside)),
        "AES-256" => (Encryption::AesCbc(256), Some(beside)),
        "AES-128-GCM" => (Encryption::AesGcm(128), None),
        "AES-256-GCM" => (Encryption::AesGcm(256), None),
        "ChaCha20Poly1305" => (Encryption::ChaCha20Poly1305, None),
        other => return Err(wrong(format!("a phone does not have {other}"))),
    };
    let group = u16::try_from(number(own, "DiffieHellmanGroup")?).ok().and_then(Group::of);
    let group = Some(group.ok_or_else(|| wrong("it names a group that nobody takes"))?);
    let suite = Suite { protection: Protection { encryption, integrity }, prf, group, extended: false };
    Ok((suite, number(own, "LifeTimeInMinutes")?))
}

fn connection(payload: &Dictionary, typed: &str) -> Result<Connection> {
    let own = payload.get("IKEv2").and_then(Value::as_dictionary).ok_or_else(|| wrong("it has no IKEv2"))?;
    let (suite_, lifetime) = suite(own, "IKESecurityAssociationParameters")?;
    let (packets, packets_lifetime) = suite(own, "ChildSecurityAssociationParameters")?;
    let account = match (own.get("ExtendedAuthEnabled").and_then(Value::as_unsigned_integer), text(own, "AuthName")) {
        // Without a password in it, the person types it.
        (Some(1), Ok(name)) => Some((name, text(own, "AuthPassword").unwrap_or_else(|_| typed.to_owned()))),
        _ => None,
    };
    let names = payload.get("DNS").and_then(Value::as_dictionary);
    let domains = names.and_then(|names| names.get("SupplementalMatchDomains")).and_then(Value::as_array);
    let pfs = own.get("EnablePFS").and_then(Value::as_unsigned_integer) == Some(1);
    Ok(Connection {
        name: text(payload, "PayloadDisplayName")?,
        address: text(own, "RemoteAddress")?,
        remote: text(own, "RemoteIdentifier")?,
        local: text(own, "LocalIdentifier").unwrap_or_default(),
        issuer: text(own, "ServerCertificateIssuerCommonName").ok(),
        domains: domains.into_iter().flatten().filter_map(Value::as_string).map(str::to_owned).collect(),
        account,
        suites: (suite_, Suite { group: packets.group.filter(|_| pfs), ..packets }),
        lifetimes: (lifetime, packets_lifetime),
    })
}

fn identity(bundle: &[u8], transport: &str) -> Result<(Vec<Certificate>, PrivateKey)> {
    let held = bundle::open(bundle, transport).map_err(|closed| match closed {
        Closed::Password => Problem::refused("the transport password does not open the key in this profile")
            .try_("--transport-file FILE, with what was shown beside the handover"),
        Closed::Unreadable(problem) => problem,
    })?;
    let key = held.key.ok_or_else(|| wrong("there is no key in it"))?;
    Ok((held.certificates, PrivateKey::from_pkcs8(key, &SystemRandom::new())?))
}

impl Profile {
    /// Reads one that somebody's phone was given; `typed` is what the person types when it asks: the transport password, or the account's.
    ///
    /// # Errors
    /// It is none, its signature does not hold, or the password is another's.
    pub fn read(bytes: &[u8], typed: &str, now: Timestamp) -> Result<Self> {
        let list = signed::open(bytes, now)?;
        let value = Value::from_reader_xml(&list[..]).map_err(|error| wrong(error.to_string()))?;
        let whole = value.as_dictionary().ok_or_else(|| wrong("it is no dictionary"))?;
        let contents = whole.get("PayloadContent").and_then(Value::as_array);
        let contents = contents.ok_or_else(|| wrong("there is nothing in it"))?;
        let mut profile = Self {
            organisation: text(whole, "PayloadOrganization")?,
            holder: text(whole, "PayloadDisplayName")?,
            identity: None,
            trusted: Vec::new(),
            connections: Vec::new(),
        };
        for payload in contents.iter().filter_map(Value::as_dictionary) {
            match text(payload, "PayloadType")?.as_str() {
                "com.apple.security.root" | "com.apple.security.pkcs1" => {
                    profile.trusted.push(Certificate::from_der(data(payload, "PayloadContent")?)?);
                }
                "com.apple.security.pkcs12" => {
                    profile.identity = Some(identity(data(payload, "PayloadContent")?, typed)?);
                }
                "com.apple.vpn.managed" => profile.connections.push(connection(payload, typed)?),
                other => return Err(wrong(format!("a phone does not know {other}"))),
            }
        }
        if profile.connections.is_empty() {
            return Err(wrong("it sets no connection up"));
        }
        Ok(profile)
    }
}
