//! A configuration profile for Apple's systems: authorities, what the device shows, and one connection for each gateway.

use plist::{Dictionary, Value};
use yestrel_core::estate::{Gateway, Listener};
use yestrel_core::x509::key;
use yestrel_core::{Problem, Result};
use zeroize::Zeroizing;

use super::parts::{Parts, Who};
use crate::keyring::random16;

/// The algorithms of the connection that profiles set up (RFC 8247): AES-256-GCM, SHA-256, the curve P-256.
const GROUP: u64 = 19;
/// Minutes after which the keys of a connection are made anew.
const LIFETIME: u64 = 480;

/// A version 4 UUID (RFC 9562 section 5.4) of random bytes.
fn uuid(mut bytes: [u8; 16]) -> String {
    bytes[6] = bytes[6] & 0x0f | 0x40;
    bytes[8] = bytes[8] & 0x3f | 0x80;
    let hex: String = bytes.iter().map(|byte| format!("{byte:02X}")).collect();
    [&hex[..8], &hex[8..12], &hex[12..16], &hex[16..20], &hex[20..]].join("-")
}

fn yes_or_no(yes: bool) -> Value {
    Value::from(u64::from(yes))
}

fn array(all: impl IntoIterator<Item = String>) -> Value {
    Value::Array(all.into_iter().map(Value::from).collect())
}

fn dictionary<const N: usize>(entries: [(&str, Value); N]) -> Value {
    Value::Dictionary(entries.into_iter().map(|(key, value)| (key.to_owned(), value)).collect())
}

/// What kind of key the device proves itself with, in Apple's words.
fn certificate_type(parts: &Parts) -> Result<Option<&'static str>> {
    let Who::Certificate { leaf, .. } = &parts.who else { return Ok(None) };
    Ok(Some(match key::strength(leaf.key())? {
        key::Strength::Rsa(_) => "RSA",
        key::Strength::P256 => "ECDSA256",
        key::Strength::P384 => "ECDSA384",
        key::Strength::Ed25519 => {
            return Err(Problem::refused("Apple's systems take no certificate with an Ed25519 key here")
                .why("what their IKEv2 takes is RSA and ECDSA on P-256 and P-384")
                .try_(format!("yestrel credential renew {} --kind certificate, with another key", parts.device)));
        }
    }))
}

/// The names that go to the site's resolvers, with these.
fn names(listener: &Listener) -> Option<Value> {
    if listener.resolvers.is_empty() || listener.domains.is_empty() {
        return None;
    }
    Some(dictionary([
        ("ServerAddresses", array(listener.resolvers.iter().map(ToString::to_string))),
        ("SupplementalMatchDomains", array(listener.domains.iter().cloned())),
    ]))
}

/// When the connection is made by itself: for names of the site, or, where everything goes through it, always.
fn rules(listener: &Listener, everything: bool) -> Option<Value> {
    if everything {
        return Some(Value::Array(vec![dictionary([("Action", "Connect".into())])]));
    }
    if listener.domains.is_empty() {
        return None;
    }
    let needed =
        dictionary([("Domains", array(listener.domains.iter().cloned())), ("DomainAction", "ConnectIfNeeded".into())]);
    let evaluate =
        dictionary([("Action", "EvaluateConnection".into()), ("ActionParameters", Value::Array(vec![needed]))]);
    Some(Value::Array(vec![evaluate, dictionary([("Action", "Ignore".into())])]))
}

struct Writer<'p> {
    parts: &'p Parts,
    base: String,
}

impl Writer<'_> {
    fn payload(&self, kind: &str, name: &str, id: &str) -> Result<Dictionary> {
        let mut payload = Dictionary::new();
        payload.insert("PayloadType".into(), kind.into());
        payload.insert("PayloadVersion".into(), Value::from(1_u64));
        payload.insert("PayloadIdentifier".into(), format!("{}.{id}", self.base).into());
        payload.insert("PayloadUUID".into(), uuid(random16()?).into());
        payload.insert("PayloadDisplayName".into(), name.into());
        Ok(payload)
    }

    fn connection(&self, gateway: &Gateway, identity: Option<&Value>) -> Result<Value> {
        let parts = self.parts;
        let mut connection =
            self.payload("com.apple.vpn.managed", &gateway.name, &format!("connection.{}", gateway.name))?;
        connection.insert("UserDefinedName".into(), format!("{} {}", parts.estate, gateway.name).into());
        connection.insert("VPNType".into(), "IKEv2".into());
        let mut ike = Dictionary::new();
        ike.insert("RemoteAddress".into(), gateway.dialled.as_str().into());
        ike.insert("RemoteIdentifier".into(), gateway.dialled.as_str().into());
        ike.insert("LocalIdentifier".into(), parts.identifier().into());
        match &parts.who {
            Who::Certificate { .. } => {
                ike.insert("AuthenticationMethod".into(), "Certificate".into());
                ike.insert("CertificateType".into(), certificate_type(parts)?.unwrap_or_default().into());
                ike.extend(identity.map(|uuid| ("PayloadCertificateUUID".to_owned(), uuid.clone())));
                ike.insert("ExtendedAuthEnabled".into(), yes_or_no(false));
            }
            Who::Account { name, password } => {
                ike.insert("AuthenticationMethod".into(), "None".into());
                ike.insert("ExtendedAuthEnabled".into(), yes_or_no(true));
                ike.insert("AuthName".into(), name.as_str().into());
                // Without it the system asks the person.
                ike.extend(password.as_ref().map(|own| ("AuthPassword".to_owned(), Value::from(own.as_str()))));
            }
        }
        ike.insert("ServerCertificateIssuerCommonName".into(), parts.issuer_of(gateway)?.into());
        ike.insert("ServerCertificateCommonName".into(), gateway.dialled.as_str().into());
        ike.insert("EnablePFS".into(), yes_or_no(true));
        ike.insert("DeadPeerDetectionRate".into(), "Medium".into());
        for which in ["IKESecurityAssociationParameters", "ChildSecurityAssociationParameters"] {
            let parameters = dictionary([
                ("EncryptionAlgorithm", "AES-256-GCM".into()),
                ("IntegrityAlgorithm", "SHA2-256".into()),
                ("DiffieHellmanGroup", Value::from(GROUP)),
                ("LifeTimeInMinutes", Value::from(LIFETIME)),
            ]);
            ike.insert(which.into(), parameters);
        }
        let everything = parts.reaches_everything(gateway);
        if let Some(listener) = parts.listeners.get(&gateway.name) {
            if let Some(rules) = rules(listener, everything) {
                ike.insert("OnDemandEnabled".into(), yes_or_no(parts.on_demand));
                ike.insert("OnDemandRules".into(), rules);
            }
            connection.extend(names(listener).map(|names| ("DNS".to_owned(), names)));
        }
        connection.insert("IKEv2".into(), Value::Dictionary(ike));
        Ok(Value::Dictionary(connection))
    }
}

/// The profile, not signed yet.
pub(super) fn profile(parts: &Parts, transport: &str) -> Result<Zeroizing<Vec<u8>>> {
    parts.first_gateway()?;
    let writer = Writer { parts, base: format!("example.{}.{}", parts.estate, parts.device.replace('/', ".")) };
    certificate_type(parts)?;
    let mut contents = Vec::new();
    let (roots, below) = parts.trusted();
    for (kind, label, all) in
        [("com.apple.security.root", "root", roots), ("com.apple.security.pkcs1", "authority", below)]
    {
        for (at, one) in all.iter().enumerate() {
            let mut trusted = writer.payload(kind, &one.common_name(), &format!("{label}{at}"))?;
            trusted.insert("PayloadContent".into(), Value::Data(one.der().to_vec()));
            contents.push(Value::Dictionary(trusted));
        }
    }
    let mut uuid = None;
    if let Who::Certificate { .. } = parts.who {
        // The systems themselves still ask for the older form; without a password inside, they ask the person for it.
        let mut identity = writer.payload("com.apple.security.pkcs12", &parts.device, "identity")?;
        identity.insert("PayloadContent".into(), Value::Data(parts.pkcs12(transport, true)?.to_vec()));
        uuid = identity.get("PayloadUUID").cloned();
        contents.push(Value::Dictionary(identity));
    }
    for (gateway, _) in &parts.gateways {
        contents.push(writer.connection(gateway, uuid.as_ref())?);
    }
    let mut profile = writer.payload("Configuration", &format!("{} for {}", parts.estate, parts.device), "profile")?;
    profile.insert("PayloadOrganization".into(), parts.estate.as_str().into());
    let holds = parts.holds();
    profile.insert(
        "PayloadDescription".into(),
        format!("Lets {} into {}. {holds}", parts.device, parts.gateway_names()).into(),
    );
    profile.insert("PayloadContent".into(), Value::Array(contents));
    let mut text = Zeroizing::new(Vec::new());
    Value::Dictionary(profile)
        .to_writer_xml(&mut *text)
        .map_err(|error| Problem::failed("the profile cannot be written").why(error.to_string()))?;
    Ok(text)
}
