//! The kinds of tunnel: what each has of its own, and what the rest of the program must know of any.
//!
//! | file | its kind |
//! |---|---|
//! | `quill` | Yestrel's own tunnel |
//! | `ikev2` | what phones and computers have built in |
//!
//! A new kind is a file here, a variant of [`Tunnel`] and of [`WayIn`], and its parts in `wire`, `agent` and `device`. What
//! another version wrote is carried as [`Other`]: whoever does not know it says so by its name.

pub mod ikev2;
pub mod quill;

use std::net::{IpAddr, Ipv6Addr};

use ipnet::{IpNet, Ipv6Net};
use serde::{Deserialize, Serialize};
use serde_json::{Map, Value};

use crate::admission::ProofKind;
use crate::firewall::{Protocol, Service};
use crate::{Problem, Result};
pub use ikev2::Ikev2;
pub use quill::Quill;

/// Where a device's inner address comes from.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Addresses {
    /// Given when its credential is issued.
    Issued,
    /// Leased by the agent when it signs in, the same again while it is free.
    Leased,
}

/// A port or protocol that a kind of tunnel needs.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Need {
    /// A port of the administrator's choice, or a free one.
    AnyPort(Protocol),
    /// This port or protocol and no other: clients dial it.
    Exactly(Service),
}

/// What ikev2 needs.
const IKE_NEEDS: [Need; 2] = [
    Need::Exactly(Service::Port(Protocol::Udp, ikev2::PORTS[0])),
    Need::Exactly(Service::Port(Protocol::Udp, ikev2::PORTS[1])),
];

/// A kind of tunnel that this version has no code for.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Other {
    pub kind: String,
    /// By what devices come in.
    pub proofs: Vec<ProofKind>,
    pub addresses: Addresses,
    pub needs: Vec<Need>,
    /// What only this kind knows.
    #[serde(default)]
    pub settings: Map<String, Value>,
}

/// The kind of a listener's tunnel, with what only this kind knows.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(into = "Value", try_from = "Value")]
pub enum Tunnel {
    Quill(Quill),
    Ikev2(Ikev2),
    Other(Other),
}

impl Tunnel {
    /// The kind that a command names, with its defaults for a host with fast AES or without.
    ///
    /// # Errors
    /// There is none of that name, with why.
    pub fn named(word: &str, fast_aes: bool) -> Result<Self> {
        match word {
            quill::WORD => Ok(Self::Quill(Quill::for_host(fast_aes))),
            ikev2::WORD => Ok(Self::Ikev2(Ikev2::default())),
            _ => Err(unknown(word)),
        }
    }

    /// The word for the kind, as commands take it.
    #[must_use]
    pub fn word(&self) -> &str {
        match self {
            Self::Quill(_) => quill::WORD,
            Self::Ikev2(_) => ikev2::WORD,
            Self::Other(other) => &other.kind,
        }
    }

    /// By what devices come in.
    #[must_use]
    pub fn proofs(&self) -> &[ProofKind] {
        match self {
            Self::Quill(_) => &[ProofKind::Key],
            Self::Ikev2(own) => own.proofs(),
            Self::Other(other) => &other.proofs,
        }
    }

    /// By which method a device proves itself here that has such a proof, in the words of policies.
    #[must_use]
    pub fn method(&self, kind: ProofKind) -> &'static str {
        match (kind, self) {
            (ProofKind::Key, _) => "key",
            (ProofKind::Certificate, _) => "certificate",
            (ProofKind::Account, Self::Ikev2(_)) => "eap-ms-chap-v2",
            (ProofKind::Account, _) => "password",
            (ProofKind::SharedSecret, _) => "shared-secret",
        }
    }

    /// Its value of Tunnel-Type (RFC 2868 section 3.1), where it has one: IKEv2 is not in the register, what carries its packets is.
    #[must_use]
    pub fn radius_type(&self) -> Option<u32> {
        match self {
            Self::Ikev2(_) => Some(9),
            Self::Quill(_) | Self::Other(_) => None,
        }
    }

    /// Where devices' inner addresses come from.
    #[must_use]
    pub fn addresses(&self) -> Addresses {
        match self {
            Self::Quill(_) => Addresses::Issued,
            Self::Ikev2(_) => Addresses::Leased,
            Self::Other(other) => other.addresses,
        }
    }

    /// Every port and protocol that it needs.
    #[must_use]
    pub fn needs(&self) -> &[Need] {
        match self {
            Self::Quill(_) => &[Need::AnyPort(Protocol::Udp)],
            Self::Ikev2(_) => &IKE_NEEDS,
            Self::Other(other) => &other.needs,
        }
    }

    /// Takes the settings of its own that a command names: word and value.
    ///
    /// # Errors
    /// It has no such setting, or not that value.
    pub fn set(&mut self, name: &str, value: &str) -> Result<()> {
        match (self, name) {
            (Self::Quill(quill), "cipher") => {
                quill.cipher = value.parse()?;
                Ok(())
            }
            (Self::Ikev2(own), name) => own
                .set(name, value)
                .unwrap_or_else(|| Err(Problem::words(format!("the {} tunnel has no setting {name}", ikev2::WORD)))),
            (tunnel, _) => {
                let problem = Problem::words(format!("the {} tunnel has no setting {name}", tunnel.word()));
                let others = ikev2::SETTINGS.contains(&name) && !matches!(tunnel, Self::Ikev2(_));
                Err(if others { problem.try_(format!("--tunnel {}", ikev2::WORD)) } else { problem })
            }
        }
    }

    /// Its own settings as name and value, for people.
    #[must_use]
    pub fn settings(&self) -> Vec<(&'static str, String)> {
        match self {
            Self::Quill(quill) => {
                vec![("cipher", quill.cipher.to_string()), ("call secret", quill.calls_in_words())]
            }
            Self::Ikev2(own) => own.settings(),
            Self::Other(other) => vec![("settings", Value::Object(other.settings.clone()).to_string())],
        }
    }

    /// As it stands in an order: without what only the estate has.
    #[must_use]
    pub fn in_order(&self) -> Self {
        match self {
            Self::Quill(quill) => Self::Quill(quill.in_order()),
            Self::Ikev2(own) => Self::Ikev2(own.clone()),
            Self::Other(other) => Self::Other(other.clone()),
        }
    }

    /// Whether a listener that runs as one goes on as the other, with whoever is in.
    #[must_use]
    pub fn goes_on_as(&self, other: &Self) -> bool {
        match (self, other) {
            (Self::Quill(own), Self::Quill(new)) => own.cipher == new.cipher,
            (Self::Ikev2(own), Self::Ikev2(new)) => own.goes_on_as(new),
            (Self::Other(own), Self::Other(new)) => own == new,
            _ => false,
        }
    }

    /// Its call secrets, the newest first; `None` where its kind has none.
    #[must_use]
    pub fn calls(&self) -> Option<&[quill::CallSecret]> {
        match self {
            Self::Quill(quill) => Some(&quill.calls),
            Self::Ikev2(_) | Self::Other(_) => None,
        }
    }

    /// Which of its own settings devices have learned from their handover, so that it cannot change under them.
    #[must_use]
    pub fn handed_over(&self) -> &[&str] {
        match self {
            Self::Quill(_) => &["cipher"],
            Self::Ikev2(_) | Self::Other(_) => &[],
        }
    }

    /// What one of several ports is needed for.
    #[must_use]
    pub fn use_of(&self, service: Service) -> Option<&'static str> {
        match (self, service) {
            (Self::Ikev2(_), Service::Port(_, 500)) => Some("the first message of every sign-in"),
            (Self::Ikev2(_), _) => Some("everything after it"),
            _ => None,
        }
    }

    /// Whether it tells devices by itself in which domains they ask its resolvers: others have it from their handover.
    #[must_use]
    pub fn tells_domains(&self) -> bool {
        matches!(self, Self::Ikev2(_))
    }

    /// Whether somebody who has come in can be asked for more.
    #[must_use]
    pub fn asks(&self) -> bool {
        matches!(self, Self::Quill(_))
    }

    /// Whether accounts prove their passwords by MS-CHAPv2, so that the agent must have the form that equals the password.
    #[must_use]
    pub fn takes_ms_chap(&self) -> bool {
        matches!(self, Self::Ikev2(Ikev2 { accounts: true, .. }))
    }
}

/// Why a kind of tunnel is not offered.
fn unknown(word: &str) -> Problem {
    let problem = Problem::words(format!("there is no tunnel {word:?}"));
    if ["pptp", "l2tp"].contains(&word) {
        return problem.why("it protects nothing that an attacker of today would not read; it is not offered");
    }
    problem.why(format!("this version has the tunnels {} and {}", quill::WORD, ikev2::WORD))
}

impl From<Tunnel> for Value {
    fn from(tunnel: Tunnel) -> Self {
        match tunnel {
            Tunnel::Quill(quill) => tagged("kind", quill::WORD, &quill),
            Tunnel::Ikev2(own) => tagged("kind", ikev2::WORD, &own),
            Tunnel::Other(other) => serde_json::to_value(other).unwrap_or_default(),
        }
    }
}

/// An object with the word of its kind in it.
fn tagged(key: &str, word: &str, value: &impl Serialize) -> Value {
    let mut value = serde_json::to_value(value).unwrap_or_default();
    if let Value::Object(fields) = &mut value {
        fields.insert(key.into(), word.into());
    }
    value
}

impl TryFrom<Value> for Tunnel {
    type Error = serde_json::Error;

    fn try_from(value: Value) -> std::result::Result<Self, Self::Error> {
        match value.get("kind").and_then(Value::as_str) {
            Some(quill::WORD) => serde_json::from_value(value).map(Self::Quill),
            Some(ikev2::WORD) => serde_json::from_value(value).map(Self::Ikev2),
            _ => serde_json::from_value(value).map(Self::Other),
        }
    }
}

/// What a handover tells a device of a way in, besides address and reach: what its tunnel's kind needs.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(into = "Value", try_from = "Value")]
pub enum WayIn {
    Quill(quill::QuillWay),
    /// Of another version: a device passes it over, by its name.
    Other(OtherWay),
}

/// A way in of a kind that this version has no code for.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct OtherWay {
    /// The kind.
    pub tunnel: String,
    #[serde(flatten)]
    pub settings: Map<String, Value>,
}

impl WayIn {
    /// The word for the kind.
    #[must_use]
    pub fn word(&self) -> &str {
        match self {
            Self::Quill(_) => quill::WORD,
            Self::Other(other) => &other.tunnel,
        }
    }

    /// What a handover tells of a listener with this tunnel, at a gateway with this public key; with the call secret that the
    /// estate keeps, where its kind has one.
    ///
    /// # Errors
    /// The listener has no call secret, which its kind needs.
    pub fn of(tunnel: &Tunnel, gateway: crate::keys::PublicKey, call: Option<crate::keys::Secret>) -> Result<Self> {
        match tunnel {
            Tunnel::Quill(quill) => {
                let none = || Problem::failed("the listener has no call secret").try_("yestrel listener renew");
                let call_secret = call.ok_or_else(none)?;
                Ok(Self::Quill(quill::QuillWay { cipher: quill.cipher, server_key: gateway, call_secret }))
            }
            Tunnel::Ikev2(_) => Err(Problem::failed("a key pair opens no listener of this kind")
                .why("its devices come in by certificate or account, with what their systems have built in")),
            Tunnel::Other(other) => {
                Ok(Self::Other(OtherWay { tunnel: other.kind.clone(), settings: other.settings.clone() }))
            }
        }
    }
}

impl From<WayIn> for Value {
    fn from(way: WayIn) -> Self {
        match way {
            WayIn::Quill(way) => tagged("tunnel", quill::WORD, &way),
            WayIn::Other(other) => serde_json::to_value(other).unwrap_or_default(),
        }
    }
}

impl TryFrom<Value> for WayIn {
    type Error = serde_json::Error;

    fn try_from(value: Value) -> std::result::Result<Self, Self::Error> {
        match value.get("tunnel").and_then(Value::as_str) {
            Some(quill::WORD) => serde_json::from_value(value).map(Self::Quill),
            _ => serde_json::from_value(value).map(Self::Other),
        }
    }
}

/// Inner addresses in IPv6, beside those in IPv4.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Second {
    /// The device's, with the length of its pool's prefix.
    pub inner: Ipv6Net,
    /// The gateway's.
    pub gateway: Ipv6Addr,
}

/// What a gateway gives a device that has come in, whatever the tunnel.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Settings {
    /// Counts up: the order that they come from.
    pub edition: u32,
    /// The device's address with the length of its pool's prefix.
    pub inner: IpNet,
    /// The gateway's own inner address.
    pub gateway: IpAddr,
    /// The same in IPv6, where the listener has a pool of it.
    pub second: Option<Second>,
    pub resolvers: Vec<IpAddr>,
    pub reach: Vec<IpNet>,
    /// Bytes of the largest inner packet.
    pub packet_size: u16,
    /// Seconds; 0 for none.
    pub keep_alive: u16,
    /// A second factor is asked for: nothing passes before it is answered.
    pub asks: bool,
}

impl Settings {
    /// The device's inner addresses, with the lengths of their pools' prefixes.
    #[must_use]
    pub fn inners(&self) -> Vec<IpNet> {
        std::iter::once(self.inner).chain(self.second.map(|second| second.inner.into())).collect()
    }

    /// The gateway's inner addresses.
    #[must_use]
    pub fn gateways(&self) -> Vec<IpAddr> {
        std::iter::once(self.gateway).chain(self.second.map(|second| second.gateway.into())).collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn kinds_come_back_as_they_were_written_also_those_of_another_version() {
        let quill = Tunnel::named("quill", true).unwrap();
        let text = serde_json::to_string(&quill).unwrap();
        assert_eq!(text, r#"{"calls":[],"cipher":"aes-256-gcm","kind":"quill"}"#);
        assert_eq!(serde_json::from_str::<Tunnel>(&text).unwrap(), quill);
        let other = Tunnel::Other(Other {
            kind: "later".into(),
            proofs: vec![ProofKind::Account],
            addresses: Addresses::Leased,
            needs: vec![Need::AnyPort(Protocol::Tcp), Need::Exactly(Service::Ip(50))],
            settings: Map::from_iter([("depth".to_owned(), 3.into())]),
        });
        let back: Tunnel = serde_json::from_str(&serde_json::to_string(&other).unwrap()).unwrap();
        assert_eq!((back.word(), &back), ("later", &other));
        assert!(serde_json::from_str::<Tunnel>(r#"{"kind":"quill","cipher":"rot13"}"#).is_err(), "no other kind's");
        assert!(serde_json::from_str::<Tunnel>(r#"{"kind":"later"}"#).is_err());
    }

    #[test]
    fn what_is_not_offered_is_said_with_why() {
        for (word, why) in
            [("pptp", "not offered"), ("l2tp", "not offered"), ("qill", "has the tunnels quill and ikev2")]
        {
            assert!(Tunnel::named(word, true).unwrap_err().why.unwrap().contains(why), "{word}");
        }
        let mut quill = Tunnel::named("quill", false).unwrap();
        assert_eq!(quill.settings()[0], ("cipher", "chacha20-poly1305".to_owned()));
        assert!(quill.set("cipher", "rot13").is_err());
        assert!(quill.set("colour", "red").is_err());
        quill.set("cipher", "aes-256-gcm").unwrap();
    }
}
