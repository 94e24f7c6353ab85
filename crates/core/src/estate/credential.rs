//! What lets one device in, by its kind.

use std::collections::{BTreeMap, BTreeSet};
use std::net::Ipv4Addr;

use jiff::Timestamp;
use serde::{Deserialize, Serialize};

use super::told::{NoticeMade, Told, stale};
use super::{Gateway, Listener, SealedSecret, Site};
use crate::account::Account;
use crate::keys::PublicKey;
use crate::sealed::Sealed;

/// One path by which a credential may come in.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Way {
    /// `harbour/quill`.
    pub listener: String,
    /// The device's address in the listener's pool.
    pub inner: Ipv4Addr,
}

/// The kind of a credential.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum CredentialKind {
    /// X25519.
    #[default]
    KeyPair,
    /// X.509.
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

/// A key pair as the estate has it.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
pub struct HeldKeyPair {
    /// Only until it is handed over; never when the key was made on the device.
    #[serde(default)]
    pub private_key: Option<SealedSecret>,
    /// Whether the key was made on the device: then its handover holds no secret.
    pub made_on_device: bool,
    /// In order of preference.
    pub ways: Vec<Way>,
    /// What the codes come from that policies ask for beside the key.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub second_factor: Option<KeyFactor>,
}

/// The second factor of a key pair: codes of an authenticator (RFC 6238).
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct KeyFactor {
    pub secret: SealedSecret,
    /// The code that is scanned is shown once.
    pub handed_over: bool,
    /// The secret sealed to agents, by the public keys of their gateways.
    pub for_agents: BTreeMap<String, Sealed>,
}

/// A certificate as the estate has it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct HeldCertificate {
    /// In lower-case hexadecimal.
    pub serial: String,
    /// Only until it is handed over; never when the key was made on the device.
    #[serde(default)]
    pub private_key: Option<SealedSecret>,
    pub made_on_device: bool,
    /// Where it may come in.
    pub gateways: Vec<String>,
    /// The address that it always has, and at which listener; elsewhere it has what it is leased.
    #[serde(default)]
    pub fixed: Option<Way>,
    /// A newer one stands in its place; this one holds until its end.
    #[serde(default)]
    pub superseded: Option<Timestamp>,
}

/// A password account as the estate has it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct HeldPassword {
    pub account: Account,
    /// Where it may come in.
    pub gateways: Vec<String>,
    /// The address that it always has, and at which listener; elsewhere it has what it is leased.
    #[serde(default)]
    pub fixed: Option<Way>,
}

/// What a credential is made of: the data of its kind.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(tag = "kind", rename_all = "kebab-case")]
pub enum Material {
    KeyPair(HeldKeyPair),
    Certificate(HeldCertificate),
    Password(HeldPassword),
}

impl Material {
    /// The address that a certificate or an account always has, where it has one.
    #[must_use]
    pub fn fixed(&self) -> Option<&Way> {
        match self {
            Self::KeyPair(_) => None,
            Self::Certificate(HeldCertificate { fixed, .. }) | Self::Password(HeldPassword { fixed, .. }) => {
                fixed.as_ref()
            }
        }
    }
}

/// What lets one device in, `mara/laptop/1`.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct Credential {
    pub name: String,
    pub device: String,
    pub user: String,
    /// By this gateways know it: the key of a key pair, SHA-256 of a certificate's key, 32 random bytes for an account.
    pub identity: PublicKey,
    #[serde(flatten)]
    pub material: Material,
    /// Good for one session only.
    #[serde(default)]
    pub once: bool,
    pub issued: Timestamp,
    pub valid_from: Option<Timestamp>,
    pub expires: Option<Timestamp>,
    pub handed_over: Option<Timestamp>,
    /// What the device knows of its ways in, by its handover or by the newest way notice that it has taken.
    pub told: Vec<Told>,
    /// The newest way notice that was made for it.
    pub notice: Option<NoticeMade>,
    /// The highest number that the device was seen to have, also where the estate does not know of that notice: it was made after the backup
    /// from which this estate comes.
    pub notice_seen: u32,
    pub revoked: Option<Timestamp>,
    pub reason: Option<String>,
    pub first_used: Option<Timestamp>,
    pub last_used: Option<Timestamp>,
    /// The command on many that made it; until that is finished it counts nowhere.
    #[serde(default)]
    pub job: Option<String>,
}

/// Where a credential stands.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum CredentialState {
    /// Made here, and its private key not yet handed over.
    Ready,
    HandedOver,
    Expired,
    Revoked,
}

impl CredentialState {
    /// Where a credential stands at `now` that was revoked, ends, and was handed over then.
    #[must_use]
    pub fn of(
        revoked: Option<Timestamp>,
        expires: Option<Timestamp>,
        handed_over: Option<Timestamp>,
        now: Timestamp,
    ) -> Self {
        match (revoked, expires, handed_over) {
            (Some(_), ..) => Self::Revoked,
            (_, Some(end), _) if end <= now => Self::Expired,
            (.., Some(_)) => Self::HandedOver,
            _ => Self::Ready,
        }
    }

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
    /// Its kind.
    #[must_use]
    pub fn kind(&self) -> CredentialKind {
        match self.material {
            Material::KeyPair(_) => CredentialKind::KeyPair,
            Material::Certificate(_) => CredentialKind::Certificate,
            Material::Password(_) => CredentialKind::Password,
        }
    }

    /// The paths of a key pair, in order of preference; a certificate and an account have none of their own.
    #[must_use]
    pub fn ways(&self) -> &[Way] {
        match &self.material {
            Material::KeyPair(pair) => &pair.ways,
            _ => &[],
        }
    }

    /// The gateways at which a certificate or an account may come in, wherever its proof is taken there.
    #[must_use]
    pub fn anywhere_at(&self) -> &[String] {
        match &self.material {
            Material::KeyPair(_) => &[],
            Material::Certificate(certificate) => &certificate.gateways,
            Material::Password(password) => &password.gateways,
        }
    }

    /// The address that a certificate or an account always has, where it has one.
    #[must_use]
    pub fn fixed(&self) -> Option<&Way> {
        self.material.fixed()
    }

    /// Every address that was given with it, and where.
    pub fn given_mut(&mut self) -> impl Iterator<Item = &mut Way> {
        let (ways, fixed) = match &mut self.material {
            Material::KeyPair(pair) => (pair.ways.as_mut_slice(), None),
            Material::Certificate(HeldCertificate { fixed, .. }) | Material::Password(HeldPassword { fixed, .. }) => {
                ((&mut []) as &mut [Way], fixed.as_mut())
            }
        };
        ways.iter_mut().chain(fixed)
    }

    /// Every gateway at which it may come in.
    #[must_use]
    pub fn gateways(&self) -> BTreeSet<String> {
        let by_way = self.ways().iter().filter_map(|way| way.listener.split_once('/')).map(|(gateway, _)| gateway);
        by_way.map(str::to_owned).chain(self.anywhere_at().iter().cloned()).collect()
    }

    /// Takes away every way in at the listener, or, where `name` is a gateway, at all that it has. Whether there was one.
    pub fn leave(&mut self, name: &str) -> bool {
        let here = |listener: &str| listener == name || listener.split('/').next() == Some(name);
        let before = (self.ways().len(), self.anywhere_at().len());
        match &mut self.material {
            Material::KeyPair(pair) => pair.ways.retain(|way| !here(&way.listener)),
            Material::Certificate(HeldCertificate { gateways, fixed, .. })
            | Material::Password(HeldPassword { gateways, fixed, .. }) => {
                gateways.retain(|gateway| gateway != name);
                fixed.take_if(|way| here(&way.listener));
            }
        }
        before != (self.ways().len(), self.anywhere_at().len())
    }

    /// Its private key, sealed, while the estate has it.
    #[must_use]
    pub fn private_key(&self) -> Option<&SealedSecret> {
        match &self.material {
            Material::KeyPair(HeldKeyPair { private_key, .. })
            | Material::Certificate(HeldCertificate { private_key, .. }) => private_key.as_ref(),
            Material::Password(_) => None,
        }
    }

    /// Puts its private key in, or takes it away; an account has none.
    pub fn set_private_key(&mut self, sealed: Option<SealedSecret>) {
        match &mut self.material {
            Material::KeyPair(HeldKeyPair { private_key, .. })
            | Material::Certificate(HeldCertificate { private_key, .. }) => *private_key = sealed,
            Material::Password(_) => {}
        }
    }

    /// Whether its key was made on the device.
    #[must_use]
    pub fn made_on_device(&self) -> bool {
        match &self.material {
            Material::KeyPair(HeldKeyPair { made_on_device, .. })
            | Material::Certificate(HeldCertificate { made_on_device, .. }) => *made_on_device,
            Material::Password(_) => false,
        }
    }

    /// The certificate, where it is one.
    #[must_use]
    pub fn certificate(&self) -> Option<&HeldCertificate> {
        match &self.material {
            Material::Certificate(certificate) => Some(certificate),
            _ => None,
        }
    }

    /// Its account, where it is one.
    #[must_use]
    pub fn account(&self) -> Option<&Account> {
        match &self.material {
            Material::Password(password) => Some(&password.account),
            _ => None,
        }
    }

    /// Its account, to be changed.
    pub fn account_mut(&mut self) -> Option<&mut Account> {
        match &mut self.material {
            Material::Password(password) => Some(&mut password.account),
            _ => None,
        }
    }

    /// The second factor of a key pair, where it has one.
    #[must_use]
    pub fn key_factor(&self) -> Option<&KeyFactor> {
        match &self.material {
            Material::KeyPair(pair) => pair.second_factor.as_ref(),
            Material::Certificate(_) | Material::Password(_) => None,
        }
    }

    /// As [`Credential::key_factor`], to be changed.
    pub fn key_factor_mut(&mut self) -> Option<&mut KeyFactor> {
        match &mut self.material {
            Material::KeyPair(pair) => pair.second_factor.as_mut(),
            Material::Certificate(_) | Material::Password(_) => None,
        }
    }

    /// A second factor is of no use any more.
    pub fn forget_key_factor(&mut self) {
        if let Material::KeyPair(pair) = &mut self.material {
            pair.second_factor = None;
        }
    }

    /// Since when a newer one stands in its place, while it holds until its end.
    #[must_use]
    pub fn superseded(&self) -> Option<Timestamp> {
        self.certificate().and_then(|certificate| certificate.superseded)
    }

    /// Neither revoked nor replaced.
    #[must_use]
    pub fn is_current(&self) -> bool {
        self.revoked.is_none() && self.superseded().is_none()
    }

    /// Where it stands at `now`.
    #[must_use]
    pub fn state(&self, now: Timestamp) -> CredentialState {
        CredentialState::of(self.revoked, self.expires, self.handed_over, now)
    }

    /// The device says that it has the way notice with this number, or a later one. Whether that is new.
    pub fn has_taken(&mut self, number: u32, at: Timestamp) -> bool {
        let seen = self.notice_seen < number;
        self.notice_seen = self.notice_seen.max(number);
        let Some(notice) = self.notice.as_mut().filter(|notice| notice.taken.is_none() && notice.number <= number)
        else {
            return seen;
        };
        notice.taken = Some(at);
        self.told.clone_from(&notice.told);
        true
    }

    /// What in the handover is no longer so; empty when the device was told the truth, or nothing yet.
    #[must_use]
    pub fn stale(&self, listeners: &[Listener], gateways: &[Gateway], sites: &[Site]) -> Vec<String> {
        stale(&self.told, listeners, gateways, sites)
    }
}

/// As much of a credential as says who is let in.
#[derive(Debug, Clone, Deserialize)]
pub struct Permit {
    pub device: String,
    pub user: String,
    pub identity: PublicKey,
    #[serde(flatten)]
    pub material: Material,
    #[serde(default)]
    pub once: bool,
    pub valid_from: Option<Timestamp>,
    pub expires: Option<Timestamp>,
    pub issued: Timestamp,
    /// The command on many that made it.
    #[serde(default)]
    pub job: Option<String>,
}

impl From<Credential> for Permit {
    fn from(credential: Credential) -> Self {
        let Credential { device, user, identity, material, once, valid_from, expires, issued, job, .. } = credential;
        Self { device, user, identity, material, once, valid_from, expires, issued, job }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::sample;

    #[test]
    fn a_credential_goes_through_its_states() {
        let (before, after): (Timestamp, Timestamp) =
            ("2027-05-30T23:59:59Z".parse().unwrap(), "2027-05-31T00:00:00Z".parse().unwrap());
        let mut credential = Credential { expires: Some(after), ..sample::key_pair("mara", 1, &[]) };
        assert_eq!(credential.state(before), CredentialState::Ready);
        credential.handed_over = Some(before);
        assert_eq!(credential.state(before), CredentialState::HandedOver);
        assert_eq!(credential.state(after), CredentialState::Expired);
        credential.revoked = Some(after);
        assert_eq!(credential.state(before), CredentialState::Revoked);
    }

    #[test]
    fn a_notice_that_an_older_estate_does_not_know_of_counts_for_the_next_number() {
        let mut credential = crate::sample::key_pair("mara", 1, &["harbour/quill"]);
        let at: Timestamp = "2027-03-02T08:15:00Z".parse().unwrap();
        assert!(!credential.has_taken(0, at), "none");
        assert!(credential.has_taken(3, at) && !credential.has_taken(3, at) && !credential.has_taken(2, at));
        assert_eq!(credential.notice_seen, 3);
    }

    #[test]
    fn a_handover_whose_listener_is_gone_is_stale() {
        let mut credential = sample::key_pair("mara", 1, &[]);
        assert!(credential.stale(&[], &[], &[]).is_empty(), "nothing was told yet");
        credential.told.push(Told {
            listener: "harbour/quill".into(),
            server_key: Some(PublicKey([5; 32])),
            signer: None,
            estate_key: PublicKey([6; 32]),
            address: "gangway.skerry.example".into(),
            port: 23817,
            reach: Some(vec![]),
            domains: Some(vec![]),
            resolvers: None,
            call: None,
        });
        assert_eq!(credential.stale(&[], &[], &[]), ["harbour/quill is closed"]);
    }

    #[test]
    fn a_credential_leaves_a_listener_or_a_whole_gateway() {
        let both = ["harbour/quill", "harbour/second", "boatyard/quill"];
        let mut pair = sample::key_pair("mara", 1, &both);
        assert_eq!(pair.gateways().into_iter().collect::<Vec<_>>(), ["boatyard", "harbour"]);
        assert!(pair.leave("harbour/quill") && !pair.leave("harbour/quill"));
        assert!(pair.leave("harbour"));
        assert_eq!(pair.ways().iter().map(|way| way.listener.as_str()).collect::<Vec<_>>(), ["boatyard/quill"]);
        let mut account = sample::account("ines", 2, &["harbour", "boatyard"]);
        assert!(account.leave("harbour") && !account.leave("harbour"));
        assert_eq!(account.anywhere_at(), ["boatyard"]);
    }

    #[test]
    fn the_data_of_each_kind_stand_beside_what_all_have() {
        for credential in [sample::key_pair("mara", 1, &["harbour/quill"]), sample::account("ines", 2, &["harbour"])] {
            let value = serde_json::to_value(&credential).unwrap();
            assert_eq!(value["kind"], credential.kind().word());
            let back: Credential = serde_json::from_value(value).unwrap();
            assert_eq!(back.material, credential.material);
        }
    }
}
