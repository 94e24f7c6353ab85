//! The VPN server on a host, and what it proves itself with.

use jiff::Timestamp;
use serde::{Deserialize, Serialize};

use super::SealedSecret;
use crate::keys::PublicKey;
use crate::sealed::Sealed;
use crate::x509::names::SubjectName;

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
    /// Its agent takes amendments to orders.
    #[serde(default)]
    pub amends: bool,
    /// The newest order that the agent has confirmed; 0 for none.
    pub order_number: u64,
    /// News of the agent are collected up to this number.
    pub news_seen: u64,
    /// When its agent may be upgraded without a person; off when there is none.
    pub updates: Option<crate::schedule::Schedule>,
    /// Where it answers what it measures, as OpenMetrics text over HTTP: an inner address and port; nowhere without.
    pub metrics: Option<std::net::SocketAddrV4>,
    /// Further names and addresses that devices dial, besides `dialled`.
    pub also: Vec<String>,
    /// What it proves itself with to clients of open standards.
    pub certificate: Option<GatewayCertificate>,
    pub certificate_key: Option<SealedSecret>,
    /// The key of a request that somebody else is to sign.
    pub request_key: Option<SealedSecret>,
    /// The TCP port at which it publishes the state of certificates; nowhere without.
    pub publish_port: Option<u16>,
    /// The number of the newest list of each authority that its agent has.
    pub lists_there: std::collections::BTreeMap<String, u64>,
    /// The estate's key that its agent trusts, where that is not the newest.
    pub trusts: Option<PublicKey>,
    /// The estate's secret by which gateways call on each other, for its agent alone.
    pub peer_call: Sealed,
    /// When its agent was last reached: an order that holds for a time goes on from there.
    pub renewed: Option<Timestamp>,
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
    /// The root above what was brought in, where it came along: who goes by it must know it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub root: Option<String>,
    pub names: Vec<String>,
    pub expires: Timestamp,
}
