//! A sign-in as policies see it.

use std::net::IpAddr;

use jiff::Timestamp;

use crate::admission::ProofKind;
use crate::tunnel::Tunnel;

/// Who signs in: the same at each sign-in of a device by one credential.
#[derive(Debug, Clone, Copy)]
pub struct Person<'a> {
    pub user: &'a str,
    /// At least those that a policy of the list names.
    pub groups: &'a [String],
    /// `mara/laptop`; empty where the equipment that asks knows none.
    pub device: &'a str,
    /// In lower case.
    pub platform: Option<&'a str>,
    /// The kind of credential, in the word for it.
    pub credential: &'a str,
    pub issued: Option<Timestamp>,
}

/// How, where and when somebody signs in.
#[derive(Debug, Clone, Copy)]
pub struct At<'a> {
    pub at: Timestamp,
    pub from: Option<IpAddr>,
    /// Ours, in the word for it; `None` of other equipment.
    pub tunnel: Option<&'a str>,
    /// Tunnel-Type (RFC 2868 section 3.1).
    pub tunnel_type: Option<u32>,
    /// NAS-Port-Type (RFC 2865 section 5.41).
    pub port_type: Option<u32>,
    pub gateway: &'a str,
    pub site: &'a str,
    pub registry: &'a str,
    /// In lower case.
    pub realm: Option<&'a str>,
    pub method: &'a str,
    pub second_factor: bool,
    /// The device never signed in before.
    pub first: bool,
}

impl<'a> At<'a> {
    /// A sign-in of which nothing is known but when it is.
    #[must_use]
    pub fn nowhere(at: Timestamp) -> Self {
        Self {
            at,
            from: None,
            tunnel: None,
            tunnel_type: None,
            port_type: None,
            gateway: "",
            site: "",
            registry: "estate",
            realm: None,
            method: "",
            second_factor: false,
            first: false,
        }
    }

    /// A sign-in at one of the estate's own gateways, by a tunnel and a proof, from nobody knows where.
    #[must_use]
    pub fn ours(gateway: &'a str, site: &'a str, tunnel: &'a Tunnel, kind: ProofKind, at: Timestamp) -> Self {
        Self {
            tunnel: Some(tunnel.word()),
            tunnel_type: tunnel.radius_type(),
            // "Virtual": no line that anybody could touch.
            port_type: Some(5),
            gateway,
            site,
            method: tunnel.method(kind),
            ..Self::nowhere(at)
        }
    }
}
