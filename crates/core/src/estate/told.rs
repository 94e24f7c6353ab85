//! What devices know of their ways in, and what of it is no longer so.

use std::collections::BTreeSet;

use ipnet::IpNet;
use jiff::Timestamp;
use serde::{Deserialize, Serialize};

use super::{Gateway, Listener, Site};
use crate::keys::PublicKey;
use crate::moment;
use crate::sealed::Sealed;

/// A way notice that was made for a credential.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct NoticeMade {
    pub number: u32,
    pub made: Timestamp,
    /// Sealed to the device.
    pub sealed: Sealed,
    /// What the device knows once it has taken it.
    pub told: Vec<Told>,
    /// Gateways whose agents have it, for when the device is there.
    pub at: BTreeSet<String>,
    /// When the device was seen to have taken it.
    pub taken: Option<Timestamp>,
}

/// What a handover told the device, to notice when it has become stale.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Told {
    pub listener: String,
    /// The gateway's; none where the device knows it by its certificate.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub server_key: Option<PublicKey>,
    /// The authority of the estate whose certificate the gateway then had, where the device knows it by that.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub signer: Option<String>,
    /// The estate's, by which the device knows way notices.
    pub estate_key: PublicKey,
    pub address: String,
    pub port: u16,
    /// None where the device asks the gateway each time; so the next two.
    #[serde(default)]
    pub reach: Option<Vec<IpNet>>,
    #[serde(default)]
    pub domains: Option<Vec<String>>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub resolvers: Option<Vec<std::net::IpAddr>>,
    /// The number of the listener's call secret; none where its tunnel has none.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub call: Option<u32>,
}

/// What of this is no longer so; empty when the device was told the truth, or nothing yet.
#[must_use]
pub fn stale(told: &[Told], listeners: &[Listener], gateways: &[Gateway], sites: &[Site]) -> Vec<String> {
    let mut stale = Vec::new();
    for told in told {
        let Some(listener) = listeners.iter().find(|listener| listener.name == told.listener) else {
            stale.push(format!("{} is closed", told.listener));
            continue;
        };
        let Some(gateway) = gateways.iter().find(|gateway| gateway.name == listener.gateway) else { continue };
        let by = gateway.certificate.as_ref().and_then(|one| one.authority.as_ref());
        if let Some(signer) = told.signer.as_ref().filter(|signer| Some(*signer) != by) {
            let now = by.map_or("nobody of this estate", String::as_str);
            stale.push(format!("expects a certificate by {signer}, and {} has one by {now}", gateway.name));
        }
        if told.server_key.is_some_and(|key| key != gateway.public_key) {
            stale.push(format!("knows {} by a key that it has no more", gateway.name));
        }
        if gateway.dialled != told.address {
            stale.push(format!("dials {}, which is now {}", told.address, gateway.dialled));
        }
        if listener.outside_port() != told.port {
            stale.push(format!("dials port {}, which is now {}", told.port, listener.outside_port()));
        }
        let told_domains = told.domains.as_ref();
        let domain = |all: &Vec<String>| listener.domains.iter().find(|domain| !all.contains(domain)).cloned();
        if let Some(more) = told_domains.and_then(domain) {
            stale.push(format!("does not ask the site for names in {more}"));
        }
        if told.resolvers.as_ref().is_some_and(|all| *all != listener.resolvers) {
            stale.push("asks resolvers that are not the listener's any more".into());
        }
        let newest = listener.tunnel.calls().and_then(|calls| calls.first()).map(|call| call.number);
        if newest != told.call {
            let old = listener.tunnel.calls().unwrap_or_default().iter().find(|call| Some(call.number) == told.call);
            let until = old.and_then(|call| call.until).map(moment);
            let until = until.map_or_else(|| "nothing any more".into(), |until| format!("until {until}"));
            stale.push(format!("calls with a secret that has been renewed and opens {until}"));
        }
        let networks = sites.iter().find(|site| site.name == gateway.site).map(|site| site.networks.as_slice());
        let reach = listener.reach.ranges(networks.unwrap_or_default());
        let missing = |all: &Vec<IpNet>| reach.iter().find(|range| !all.iter().any(|old| old.contains(*range)));
        if let Some(more) = told.reach.as_ref().and_then(missing) {
            let what = if more.prefix_len() == 0 { "everything".to_owned() } else { more.to_string() };
            stale.push(format!("does not send {what} into the tunnel"));
        }
    }
    stale
}
