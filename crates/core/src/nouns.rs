//! The objects of the estate. Each is a table of the same name in the plural, and each field a column.

use std::net::{IpAddr, Ipv4Addr};

use ipnet::{IpNet, Ipv4Net};
use jiff::Timestamp;
use serde::{Deserialize, Serialize};

use crate::account::Account;
use crate::keys::PublicKey;
use crate::x509::names::SubjectName;
use crate::{Problem, Result, pool};

/// A secret as the store keeps it: sealed, base64. It can be stored and shown without harm.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(transparent)]
pub struct SealedSecret(pub String);

/// One place: its networks, its time zone, what stands in front of it.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct Site {
    pub name: String,
    /// The site's own networks.
    pub networks: Vec<IpNet>,
    /// An IANA time zone, "Europe/Oslo".
    pub time_zone: String,
    /// What stands between the site and the internet, in words.
    pub front: Option<String>,
    pub created: Timestamp,
}

/// The kind of a host.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum HostKind {
    Computer,
    Cloud,
    Router,
    Storage,
}

/// How one gets in at a host that is managed over SSH. Passwords and passphrases are asked for, never kept.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(default)]
pub struct Access {
    /// The host's public key as it was first seen, in the form of RFC 4253 section 6.6: algorithm and base64.
    pub host_key: Option<String>,
    /// The file with the private key that the host knows; otherwise the key agent, usual files, a password.
    pub key_file: Option<String>,
    /// A host on the way, `ssh://user@address:port`.
    pub jump: Option<String>,
    /// That host's public key.
    pub jump_key: Option<String>,
    /// The agent's program for the host's processor, where it is not the one of this machine.
    pub agent_binary: Option<String>,
}

/// A machine at a site.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct Host {
    pub name: String,
    pub site: String,
    pub kind: HostKind,
    /// How it is managed: `lab:FOLDER` or `ssh://user@address:port`.
    pub via: String,
    /// How one gets in there; no secret among it.
    #[serde(default)]
    pub access: Access,
    /// What the last probe found.
    pub facts: Option<crate::facts::Facts>,
    pub probed: Option<Timestamp>,
    pub created: Timestamp,
}

/// The VPN server on a host.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct Gateway {
    pub name: String,
    pub host: String,
    /// The site that it serves.
    pub site: String,
    /// The name or address that devices dial.
    pub dialled: String,
    /// The interface towards the outside; `None`: the one with the default route.
    pub outward: Option<String>,
    /// Whether inner addresses are translated to the gateway's own towards the site.
    pub masquerade: bool,
    pub public_key: PublicKey,
    pub private_key: SealedSecret,
    /// Whether an agent on the host has taken this gateway over.
    pub adopted: bool,
    /// The newest order that the agent has confirmed; 0 for none.
    pub order_number: u64,
    /// News of the agent are collected up to this number.
    pub news_seen: u64,
    /// When its agent may be upgraded without a person; off when there is none.
    #[serde(default)]
    pub updates: Option<crate::schedule::Schedule>,
    /// Where it answers what it measures, as OpenMetrics text over HTTP: an inner address and port; nowhere without.
    #[serde(default)]
    pub metrics: Option<std::net::SocketAddrV4>,
    /// Further names and addresses that devices dial, besides `dialled`.
    #[serde(default)]
    pub also: Vec<String>,
    /// What it proves itself with to clients of open standards.
    #[serde(default)]
    pub certificate: Option<GatewayCertificate>,
    #[serde(default)]
    pub certificate_key: Option<SealedSecret>,
    /// The key of a request that somebody else is to sign.
    #[serde(default)]
    pub request_key: Option<SealedSecret>,
    /// The TCP port at which it publishes the state of certificates; nowhere without.
    #[serde(default)]
    pub publish_port: Option<u16>,
    /// The number of the newest list of each authority that its agent has.
    #[serde(default)]
    pub lists_known: std::collections::BTreeMap<String, u64>,
    /// The estate's key that its agent trusts, where that is not the newest.
    #[serde(default)]
    pub trusts: Option<PublicKey>,
    pub created: Timestamp,
}

impl Gateway {
    /// What devices dial: the name or address that handovers name, and the others.
    #[must_use]
    pub fn names(&self) -> Vec<SubjectName> {
        let mut names: Vec<_> =
            std::iter::once(&self.dialled).chain(&self.also).map(|n| SubjectName::dialled(n)).collect();
        let mut seen = std::collections::HashSet::new();
        names.retain(|name| seen.insert(name.to_string()));
        names
    }
}

/// A gateway's certificate and who stands above it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct GatewayCertificate {
    pub serial: String,
    /// The authority that signed it, where that is one of the estate.
    pub authority: Option<String>,
    /// DER in base64, leaf first, without the root.
    pub chain: Vec<String>,
    pub names: Vec<String>,
    pub expires: Timestamp,
}

/// What may be reached through a tunnel.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(into = "String", try_from = "String")]
pub enum Reach {
    /// Everything: no traffic of the device goes beside the tunnel.
    Everything,
    /// The networks of the gateway's site.
    Site,
    /// These ranges.
    Ranges(Vec<IpNet>),
}

impl std::str::FromStr for Reach {
    type Err = Problem;

    fn from_str(text: &str) -> Result<Self> {
        match text {
            "everything" => Ok(Self::Everything),
            "site" => Ok(Self::Site),
            ranges => {
                let mut parsed: Vec<_> = ranges
                    .split(',')
                    .map(|text| pool::range(text.trim()))
                    .collect::<Result<_>>()
                    .map_err(|problem| {
                        problem.try_("--reach everything, --reach site, or ranges: --reach 10.44.0.0/22,10.45.0.0/24")
                    })?;
                parsed.sort();
                parsed.dedup();
                Ok(Self::Ranges(parsed))
            }
        }
    }
}

impl TryFrom<String> for Reach {
    type Error = Problem;

    fn try_from(text: String) -> Result<Self> {
        text.parse()
    }
}

impl From<Reach> for String {
    fn from(reach: Reach) -> Self {
        reach.to_string()
    }
}

impl std::fmt::Display for Reach {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            Self::Everything => f.write_str("everything"),
            Self::Site => f.write_str("site"),
            Self::Ranges(ranges) => f.write_str(&ranges.iter().map(ToString::to_string).collect::<Vec<_>>().join(",")),
        }
    }
}

impl Reach {
    /// As ranges, for the site with these networks.
    #[must_use]
    pub fn ranges(&self, site: &[IpNet]) -> Vec<IpNet> {
        match self {
            Self::Everything => vec![IpNet::V4(Ipv4Net::new_assert(Ipv4Addr::UNSPECIFIED, 0))],
            Self::Site => site.to_vec(),
            Self::Ranges(ranges) => ranges.clone(),
        }
    }
}

/// One tunnel on one port of a gateway, `harbour/talon`.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct Listener {
    pub name: String,
    pub gateway: String,
    /// `talon`.
    pub tunnel: String,
    /// UDP port on the host, 1..=65535.
    pub port: u16,
    /// The port that devices dial, where something in front translates it.
    pub outside_port: u16,
    pub pool: Ipv4Net,
    pub reach: Reach,
    pub resolvers: Vec<IpAddr>,
    /// Seconds, 0..=3600; RFC 3948 section 4 suggests 20.
    pub keep_alive: u16,
    /// Bytes of the largest inner packet, 1280..=9000.
    pub packet_size: u16,
    /// `aes-256-gcm` or `chacha20-poly1305`.
    pub cipher: String,
    pub created: Timestamp,
}

/// Whether a user may come in at all.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum UserState {
    Active,
    Suspended,
}

/// A person.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct User {
    pub name: String,
    pub mail: Option<String>,
    /// "engineer".
    pub about: Option<String>,
    pub state: UserState,
    pub groups: Vec<String>,
    pub created: Timestamp,
}

/// A set of users.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct Group {
    pub name: String,
    pub about: Option<String>,
    /// Days that a certificate of a member holds, 1..=3650.
    #[serde(default)]
    pub lifetime: Option<u16>,
    pub created: Timestamp,
}

/// What a user carries, `mara/laptop`.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct Device {
    pub name: String,
    pub user: String,
    /// `linux`, `android`, ... in words.
    pub platform: Option<String>,
    pub created: Timestamp,
}

/// One path by which a credential may come in.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Way {
    /// `harbour/talon`.
    pub listener: String,
    /// The device's address in the listener's pool.
    pub inner: Ipv4Addr,
}

/// What a handover told the device, to notice when it has become stale.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Told {
    pub listener: String,
    pub address: String,
    pub port: u16,
    pub reach: Vec<IpNet>,
}

/// The kind of a credential.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum CredentialKind {
    /// X25519, for the tunnel talon.
    #[default]
    KeyPair,
    /// X.509, for clients that devices have.
    Certificate,
    /// An account with a password, and perhaps a second factor.
    Password,
}

impl CredentialKind {
    /// The word for it, as commands take it.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::KeyPair => "key-pair",
            Self::Certificate => "certificate",
            Self::Password => "password",
        }
    }

    /// For sentences.
    #[must_use]
    pub fn words(self) -> &'static str {
        match self {
            Self::KeyPair => "key pair",
            Self::Certificate => "certificate",
            Self::Password => "password account",
        }
    }
}

/// What lets one device in, `mara/laptop/1`.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct Credential {
    pub name: String,
    pub device: String,
    pub user: String,
    #[serde(default)]
    pub kind: CredentialKind,
    /// By this gateways know it: the key of a key pair, SHA-256 of a certificate's key, 32 random bytes for an account.
    pub public_key: PublicKey,
    /// Only until it is handed over; never when the key was made on the device.
    pub private_key: Option<SealedSecret>,
    /// Whether the key was made on the device: then its handover holds no secret.
    pub made_on_device: bool,
    /// In order of preference.
    pub ways: Vec<Way>,
    /// Where a certificate or an account may come in.
    #[serde(default)]
    pub gateways: Vec<String>,
    /// Serial number of its certificate.
    #[serde(default)]
    pub certificate: Option<String>,
    #[serde(default)]
    pub account: Option<Account>,
    /// Good for one session only.
    #[serde(default)]
    pub once: bool,
    /// A newer one stands in its place; this one holds until its end.
    #[serde(default)]
    pub superseded: Option<Timestamp>,
    pub issued: Timestamp,
    pub valid_from: Option<Timestamp>,
    pub expires: Option<Timestamp>,
    pub handed_over: Option<Timestamp>,
    pub told: Vec<Told>,
    pub revoked: Option<Timestamp>,
    pub reason: Option<String>,
    pub first_used: Option<Timestamp>,
    pub last_used: Option<Timestamp>,
}

/// Where a credential stands.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum CredentialState {
    /// Made here, and its private key not yet handed over.
    Ready,
    HandedOver,
    Expired,
    Revoked,
}

impl CredentialState {
    /// The word for tables.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::Ready => "ready",
            Self::HandedOver => "handed-over",
            Self::Expired => "expired",
            Self::Revoked => "revoked",
        }
    }
}

impl Credential {
    /// Where it stands at `now`.
    #[must_use]
    pub fn state(&self, now: Timestamp) -> CredentialState {
        if self.revoked.is_some() {
            CredentialState::Revoked
        } else if self.expires.is_some_and(|end| end <= now) {
            CredentialState::Expired
        } else if self.handed_over.is_some() {
            CredentialState::HandedOver
        } else {
            CredentialState::Ready
        }
    }

    /// What in the handover is no longer so; empty when the device was told the truth, or nothing yet.
    #[must_use]
    pub fn stale(&self, listeners: &[Listener], gateways: &[Gateway], sites: &[Site]) -> Vec<String> {
        let mut stale = Vec::new();
        for told in &self.told {
            let Some(listener) = listeners.iter().find(|listener| listener.name == told.listener) else {
                stale.push(format!("{} is closed", told.listener));
                continue;
            };
            let Some(gateway) = gateways.iter().find(|gateway| gateway.name == listener.gateway) else { continue };
            if gateway.dialled != told.address {
                stale.push(format!("dials {}, which is now {}", told.address, gateway.dialled));
            }
            if listener.outside_port != told.port {
                stale.push(format!("dials port {}, which is now {}", told.port, listener.outside_port));
            }
            let networks = sites.iter().find(|site| site.name == gateway.site).map(|site| site.networks.as_slice());
            let reach = listener.reach.ranges(networks.unwrap_or_default());
            if let Some(more) = reach.iter().find(|range| !told.reach.iter().any(|old| old.contains(*range))) {
                let what = if more.prefix_len() == 0 { "everything".to_owned() } else { more.to_string() };
                stale.push(format!("does not send {what} into the tunnel"));
            }
        }
        stale
    }
}

/// A key that is out for good.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Revocation {
    /// The public key in base64: the table's key.
    pub name: String,
    pub device: String,
    pub reason: String,
    pub at: Timestamp,
    /// Gateways that must know it.
    pub gateways: Vec<String>,
}

/// An order as it was signed, and what became of it.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct StoredOrder {
    /// `harbour 13`.
    pub name: String,
    pub gateway: String,
    pub number: u64,
    pub envelope: crate::order::Envelope,
    /// SHA-256 of the order's text.
    pub hash: String,
    pub made: Timestamp,
    /// When the agent confirmed it.
    pub received: Option<Timestamp>,
}

/// A session, or the record of one.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct Session {
    /// `harbour 1762`.
    pub name: String,
    pub gateway: String,
    pub number: u64,
    pub device: String,
    pub from_address: String,
    pub inner: Ipv4Addr,
    pub opened: Timestamp,
    pub ended: Option<Timestamp>,
    pub reason: Option<String>,
    /// Bytes of inner packets from the device.
    pub received: u64,
    /// Bytes of inner packets to the device.
    pub sent: u64,
    pub last_heard: Option<Timestamp>,
}

/// The estate itself: one row.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct Estate {
    pub name: String,
    /// 16 random bytes in hexadecimal: two estates with one name are still two.
    pub id: String,
    /// Ed25519: what signs orders.
    pub public_key: PublicKey,
    pub private_key: SealedSecret,
    /// What signs in its place when it is lost: printed when the estate was made, and kept nowhere.
    #[serde(default)]
    pub recovery_key: Option<PublicKey>,
    /// The sealing key, for whoever has the recovery key.
    #[serde(default)]
    pub recovery_sealed: Option<SealedSecret>,
    /// Signing keys from before, while a gateway still trusts them.
    #[serde(default)]
    pub previous_keys: Vec<PreviousKey>,
    pub created: Timestamp,
}

/// A signing key of the estate from before.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct PreviousKey {
    pub public_key: PublicKey,
    pub private_key: SealedSecret,
}

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
    /// `p-256`, ...
    pub algorithm: String,
    /// `None` when it left the estate.
    pub private_key: Option<SealedSecret>,
    pub domain: Option<String>,
    /// The newest revocation list, DER in base64.
    pub list: Option<String>,
    pub list_number: u64,
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

/// A certificate that an authority of the estate signed.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct IssuedCertificate {
    /// The serial number in lower-case hexadecimal.
    pub name: String,
    pub authority: String,
    /// `device`, `gateway`, `authority`, `responder`, `signer`.
    pub kind: String,
    /// The credential, gateway or authority that it is for.
    pub subject: String,
    /// DER in base64.
    pub certificate: String,
    /// `good`, `held` or `revoked`.
    pub state: String,
    pub issued: Timestamp,
    pub expires: Timestamp,
    pub revoked: Option<Timestamp>,
    pub reason: Option<crate::x509::list::Reason>,
}

/// A secret that several share: a listener's, or that of a link between two sites.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct SharedSecret {
    /// `harbour/talon 2` or `boatyard+harbour 1`.
    pub name: String,
    /// `harbour/talon`, or two sites: `boatyard+harbour`.
    pub holder: String,
    pub number: u64,
    pub secret: SealedSecret,
    pub issued: Timestamp,
    /// When it was shown; it is shown once.
    pub handed_over: Option<Timestamp>,
    /// A newer one stands in its place; it still holds until then.
    pub until: Option<Timestamp>,
    pub revoked: Option<Timestamp>,
    pub reason: Option<String>,
}

/// Where accounts are kept and checked.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct Registry {
    pub name: String,
    /// `estate`.
    pub kind: String,
    /// How sign-ins may prove their password: `password`, `ms-chap-v2`.
    pub methods: Vec<String>,
    pub created: Timestamp,
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_reach_reads_as_it_is_written() {
        for text in ["everything", "site", "10.44.0.0/22", "10.44.0.0/22,10.46.0.0/24"] {
            assert_eq!(text.parse::<Reach>().unwrap().to_string(), text);
        }
        assert_eq!(
            "10.46.0.0/24, 10.44.0.0/22,10.46.0.0/24".parse::<Reach>().unwrap().to_string(),
            "10.44.0.0/22,10.46.0.0/24"
        );
        for bad in ["", "nowhere", "10.44.0.1/22", "10.44.0.0/22,"] {
            assert!(bad.parse::<Reach>().is_err(), "{bad}");
        }
    }

    #[test]
    fn a_reach_becomes_ranges_by_the_site_that_it_is_at() {
        let site: Vec<IpNet> = vec!["10.44.0.0/22".parse().unwrap()];
        assert_eq!(Reach::Site.ranges(&site), site);
        assert_eq!(Reach::Everything.ranges(&site)[0].to_string(), "0.0.0.0/0");
        assert_eq!("10.9.0.0/24".parse::<Reach>().unwrap().ranges(&site)[0].to_string(), "10.9.0.0/24");
    }

    fn credential() -> Credential {
        Credential {
            name: "mara/laptop/1".into(),
            device: "mara/laptop".into(),
            user: "mara".into(),
            kind: CredentialKind::KeyPair,
            public_key: PublicKey([1; 32]),
            private_key: None,
            made_on_device: false,
            ways: vec![],
            gateways: vec![],
            certificate: None,
            account: None,
            once: false,
            superseded: None,
            issued: "2027-03-02T08:15:00Z".parse().unwrap(),
            valid_from: None,
            expires: Some("2027-05-31T00:00:00Z".parse().unwrap()),
            handed_over: None,
            told: vec![],
            revoked: None,
            reason: None,
            first_used: None,
            last_used: None,
        }
    }

    #[test]
    fn a_credential_goes_through_its_states() {
        let (before, after): (Timestamp, Timestamp) =
            ("2027-05-30T23:59:59Z".parse().unwrap(), "2027-05-31T00:00:00Z".parse().unwrap());
        let mut credential = credential();
        assert_eq!(credential.state(before), CredentialState::Ready);
        credential.handed_over = Some(before);
        assert_eq!(credential.state(before), CredentialState::HandedOver);
        assert_eq!(credential.state(after), CredentialState::Expired);
        credential.revoked = Some(after);
        assert_eq!(credential.state(before), CredentialState::Revoked);
    }

    #[test]
    fn a_handover_whose_listener_is_gone_is_stale() {
        let mut credential = credential();
        assert!(credential.stale(&[], &[], &[]).is_empty(), "nothing was told yet");
        credential.told.push(Told {
            listener: "harbour/talon".into(),
            address: "gangway.skerry.example".into(),
            port: 23817,
            reach: vec![],
        });
        assert_eq!(credential.stale(&[], &[], &[]), ["harbour/talon is closed"]);
    }
}
