//! What an agent is asked.

use std::collections::BTreeMap;
use std::net::Ipv4Addr;

use jiff::Timestamp;
use serde::{Deserialize, Serialize};

use super::{News, questions};
use crate::findings::{Facts as HostFacts, Plane};
use crate::firewall::Service;
use crate::keys::{PublicKey, Secret};
use crate::moment;
use crate::order::{Envelope, Revoked, SignedAmendment, SignedRenewal};
use crate::sealed::Sealed;

questions! {
    /// Everything that an agent answers.
    Ask {
        Status -> Box<AgentStatus>,
        Adopt -> (),
        Carry -> Receipt,
        Amend -> Receipt,
        Confirm -> Receipt,
        Certify -> (),
        Publish -> (),
        Tell -> (),
        Renew -> (),
        Forward -> (),
        OrderInForce -> Standing,
        NewsAfter -> NewsPage,
        Sessions -> Vec<Live>,
        EndSessions -> u64,
        Facts -> Box<HostFacts>,
        Metrics -> String,
        Close -> (),
        Retire -> (),
    }
}

/// What are you, and which order is in force?
#[derive(Debug, Clone, Copy, Serialize, Deserialize)]
pub struct Status;

/// Become this gateway of this estate. Refused when the agent is already another.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct Adopt {
    pub estate: String,
    pub estate_key: PublicKey,
    pub gateway: String,
    pub private_key: Secret,
    /// What may sign in the place of `estate_key`, when that is lost.
    #[serde(default)]
    pub recovery_key: Option<PublicKey>,
}

/// Carry this order out. A change of firewall or addresses is then held for this many seconds, and undone unless it is
/// confirmed; 0 holds nothing.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct Carry {
    pub envelope: Envelope,
    #[serde(default)]
    pub hold: u16,
}

/// The order in force is amended so. Refused where it is another one, or waits for its confirmation: then the whole is carried.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct Amend {
    pub amendment: SignedAmendment,
}

/// The order with this hash may stay: asked over a connection that was made after it came into force.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct Confirm {
    pub hash: String,
}

/// The private key (PKCS#8) of the certificate that the next order names.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct Certify {
    pub private_key: Secret,
}

/// Publish these lists, and answer from them, at the port that the order names.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct Publish {
    pub publications: Vec<Publication>,
}

/// The estate stands by your order, if it is the newest.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct Renew {
    pub renewal: SignedRenewal,
}

/// Bring these orders to the gateways that they are for, when you meet them.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct Forward {
    pub envelopes: Vec<Envelope>,
}

/// Bring these way notices to their devices when they are here, in place of those before.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct Tell {
    pub notices: Vec<ForDevice>,
}

/// A way notice on its way: only its device can open it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct ForDevice {
    /// By which the device's credential is known.
    pub identity: PublicKey,
    pub number: u32,
    pub sealed: Sealed,
}

/// Which order is in force, and which revocations did you ever learn? For an estate that was loaded from a backup.
#[derive(Debug, Clone, Copy, Serialize, Deserialize)]
pub struct OrderInForce;

/// What have you seen after the news with this number?
#[derive(Debug, Clone, Copy, Serialize, Deserialize)]
pub struct NewsAfter {
    pub after: u64,
}

/// Who is connected?
#[derive(Debug, Clone, Copy, Serialize, Deserialize)]
pub struct Sessions;

/// End the sessions of this device. Answered with how many there were.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct EndSessions {
    pub device: String,
    pub words: String,
}

/// What is the host like?
#[derive(Debug, Clone, Copy, Serialize, Deserialize)]
pub struct Facts;

/// How is it going, as OpenMetrics text?
#[derive(Debug, Clone, Copy, Serialize, Deserialize)]
pub struct Metrics;

/// End all sessions and take no new ones for a while, so that what was seen can be collected to its end before the gateway is
/// retired.
#[derive(Debug, Clone, Copy, Serialize, Deserialize)]
pub struct Close;

/// Undo everything on the host and forget the estate.
#[derive(Debug, Clone, Copy, Serialize, Deserialize)]
pub struct Retire;

/// The newest revocation list of one authority, and who answers for it.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct Publication {
    pub authority: String,
    /// The list, DER in base64.
    pub list: String,
    /// The short-lived certificate that signs answers, DER in base64, and its key as PKCS#8.
    pub responder: String,
    pub responder_key: Secret,
    /// Serial numbers that were issued, 16 octets each, base64 of all of them.
    pub issued: String,
}

/// What an agent is.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct AgentStatus {
    pub version: String,
    /// The estate's id and the gateway's name, once adopted.
    pub estate: Option<String>,
    pub gateway: Option<String>,
    /// 0 before the first.
    pub order: u64,
    pub order_hash: String,
    pub since: Timestamp,
    pub plane: Plane,
    /// How many revocations it knows.
    pub revoked: u64,
    /// Listeners that are up: name, and where each takes what comes.
    pub listeners: Vec<(String, Vec<Service>)>,
    /// Number of the newest news.
    pub newest: u64,
    /// SHA-256 of the program that runs.
    pub program: String,
    /// It takes amendments to the order in force.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub amends: bool,
    /// Until when the order in force waits for its confirmation.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub held: Option<Timestamp>,
    /// The number of the list that it publishes, by authority.
    #[serde(default)]
    pub published: BTreeMap<String, u64>,
    /// The estate's key that it obeys.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub estate_key: Option<PublicKey>,
    /// What may sign in its place.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub recovery_key: Option<PublicKey>,
    /// Why something that is in force is not kept: a restart would lose it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub unkept: Option<String>,
    /// The key of the gateway that it is; agents of 0.4 do not say it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub public_key: Option<PublicKey>,
    /// What the host's clock says, by which policies are decided there.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub clock: Option<Timestamp>,
    /// Gateways of which it hears nothing while a policy counts sessions over all of them.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub uncounted: Vec<String>,
    /// Until when the order in force holds, where it does not for ever.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub holds_until: Option<Timestamp>,
    /// What something else on the host has changed and the agent cannot put right.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub amiss: Option<String>,
}

/// Confirmation of an order.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct Receipt {
    pub number: u64,
    pub hash: String,
    pub at: Timestamp,
    /// Sessions that the order ended.
    pub ended: u64,
    /// It is undone at this moment unless it is confirmed.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub held: Option<Timestamp>,
    /// Why it is in force and not kept: a restart would bring the order before back, until there is room.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub unkept: Option<String>,
}

/// An order in force, and every revocation that was ever learned.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct Standing {
    pub envelope: Option<Envelope>,
    pub revoked: BTreeMap<String, Revoked>,
}

/// News in their sequence.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct NewsPage {
    pub items: Vec<News>,
    /// Whether there are more after the last.
    pub more: bool,
}

/// A session that is up now.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct Live {
    pub number: u64,
    pub device: String,
    /// By which its credential is known.
    pub identity: PublicKey,
    pub listener: String,
    pub from: String,
    pub inner: Ipv4Addr,
    pub opened: Timestamp,
    /// Bytes of inner packets from the device, and to it.
    pub received: u64,
    pub sent: u64,
    pub last_heard: Timestamp,
    pub software: String,
    /// By which it was admitted.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub policy: Option<String>,
    /// A second factor was asked for and is not answered: nothing passes.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub asks: bool,
    /// The realm of the name that was given.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub realm: Option<String>,
    /// The device had not signed in before.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub first: bool,
    /// The device has answered with a second factor.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub answered: bool,
}

impl AgentStatus {
    /// How this agent is not the one that the estate with this id knows as the gateway of this name and key: then nothing that it says is of
    /// this estate. One that was renamed and has not heard of it has the key.
    #[must_use]
    pub fn is_another(&self, gateway: &str, key: &PublicKey, estate: &str) -> Option<String> {
        match (&self.estate, &self.gateway) {
            (None, _) => Some("the agent there belongs to no estate: the host was replaced or wiped".into()),
            (Some(other), _) if other != estate => Some("the agent there is of another estate".into()),
            (_, Some(other)) if other != gateway && self.public_key != Some(*key) => {
                Some(format!("the agent there is the gateway {other}"))
            }
            _ => None,
        }
    }

    /// How it differs from what its estate wants: the newest order there has this hash.
    #[must_use]
    pub fn differs(&self, gateway: &str, key: &PublicKey, estate: &str, hash: &str) -> Option<String> {
        if let Some(words) = self.is_another(gateway, key, estate) {
            return Some(words);
        }
        if self.order == 0 {
            return Some("no order is in force there".into());
        }
        if self.order_hash != hash {
            return Some(format!("order {} is in force there", self.order));
        }
        if let Some(until) = self.held {
            return Some(format!("the order there waits for its confirmation until {}", moment(until)));
        }
        self.amiss.as_ref().map(|why| format!("amiss there: {why}"))
    }
}
