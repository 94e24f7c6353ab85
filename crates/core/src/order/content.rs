//! What a gateway is to be, and computing it from the estate.

use std::collections::{BTreeMap, BTreeSet, HashMap, HashSet};
use std::net::{IpAddr, Ipv4Addr};

use ipnet::{IpNet, Ipv4Net, Ipv6Net};
use jiff::Timestamp;
use serde::{Deserialize, Serialize};

use crate::Result;
use crate::admission::{Proof, ProofKind, account_purpose};
use crate::estate::{Gateway, Listener, Material, Permit, Revocation, SharedSecret, Site};
use crate::firewall::Service;
use crate::keys::{PublicKey, Secret};
use crate::policy::{Asks, Claimant, List, Registries, Rule};
use crate::pool::{gateway_address, gateway_address6};
use crate::sealed::{self, Sealed};
use crate::tunnel::Tunnel;
use crate::tunnel::quill::Cipher;

/// One listener as its gateway runs it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct OrderListener {
    pub name: String,
    /// Its kind, with what only this kind knows.
    pub tunnel: Tunnel,
    /// Every port and protocol at which it takes what comes.
    pub serves: Vec<Service>,
    pub pool: Ipv4Net,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub pool6: Option<Ipv6Net>,
    pub reach: Vec<IpNet>,
    pub resolvers: Vec<IpAddr>,
    /// Seconds; 0 for none.
    pub keep_alive: u16,
    /// Bytes of the largest inner packet.
    pub packet_size: u16,
    /// In which devices ask its resolvers, where its kind tells them.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub domains: Vec<String>,
}

/// Somebody who is let in.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Admit {
    /// By what.
    pub proof: Proof,
    pub device: String,
    /// At this listener; `None`: at every listener of the gateway whose tunnel takes the proof.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub at: Option<String>,
    /// The inner address that was given with the credential; `None`: one is leased at sign-in.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub address: Option<Ipv4Addr>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub from: Option<Timestamp>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub until: Option<Timestamp>,
    /// The user is suspended: known, and not let in.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub suspended: bool,
    /// How many sessions it is good for; `None`: any number.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub sessions: Option<u32>,
    /// The user's groups, of those that a policy of the order names.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub groups: Vec<String>,
    /// The device's platform in lower case, where a policy asks for it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub platform: Option<String>,
    /// When the credential was issued, in whole seconds, where a policy asks for its age.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub issued: Option<Timestamp>,
    /// What the codes of its second factor come from, for this agent alone.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub second: Option<Sealed>,
    /// No gateway has said yet that the device signed in, where a policy asks for that.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub new: bool,
}

/// The list of policies that decides at a gateway.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct OrderPolicies {
    /// Those that are on, in their order.
    pub list: Vec<Rule>,
    /// The gateway's site.
    pub site: String,
    /// Its time zone, by its name in the IANA time zone database.
    pub zone: String,
    /// Who checks accounts, in their order; nobody but the estate itself, whatever the name, where there is none.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub registries: Vec<Claimant>,
}

impl OrderPolicies {
    /// The list made ready.
    ///
    /// # Errors
    /// A condition is none, or a zone is not known here.
    pub fn ready(&self) -> Result<List> {
        List::new(&self.list, &self.zone)
    }

    /// The registries made ready, where there are any.
    ///
    /// # Errors
    /// A claim is none, or a zone is not known here.
    pub fn registries(&self) -> Result<Option<Registries>> {
        (!self.registries.is_empty()).then(|| Registries::new(&self.registries, &self.zone)).transpose()
    }
}

impl Admit {
    /// In which order entries stand in an order.
    #[must_use]
    pub fn in_order(&self, other: &Self) -> std::cmp::Ordering {
        self.place().cmp(&other.place())
    }

    /// Where it stands in an order.
    pub(crate) fn place(&self) -> (Option<&str>, &str, ProofKind, PublicKey) {
        (self.at.as_deref(), &self.device, self.proof.kind(), self.proof.identity())
    }
}

/// What a gateway publishes over HTTP about the certificates of the estate's authorities.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct OrderPublish {
    /// TCP.
    pub port: u16,
    /// Certificates of the authorities by name, DER in base64.
    pub authorities: BTreeMap<String, String>,
}

/// Another gateway of the estate: agents bring each other what the estate wants of one that it does not reach.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Peer {
    pub gateway: String,
    /// By which it shows who it is.
    pub public_key: PublicKey,
    /// Where it can be called on; nowhere, where it has no listener for that, or was left behind.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub dial: Option<PeerDial>,
}

/// Where a gateway can be called on.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct PeerDial {
    /// The name or address that devices dial.
    pub address: String,
    pub port: u16,
    pub cipher: Cipher,
}

/// What the secret by which gateways call on each other is sealed for.
pub const PEER_CALL: &str = "call among gateways";

/// A key that stays out for good.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Revoked {
    pub device: String,
    pub reason: String,
}

impl OrderListener {
    /// Its pools, of both IP versions.
    #[must_use]
    pub fn pools(&self) -> Vec<IpNet> {
        std::iter::once(self.pool.into()).chain(self.pool6.map(IpNet::from)).collect()
    }

    /// The gateway's own addresses in them.
    #[must_use]
    pub fn gateways(&self) -> Vec<IpAddr> {
        let six = self.pool6.as_ref().map(|pool6| gateway_address6(pool6).into());
        std::iter::once(gateway_address(&self.pool).into()).chain(six).collect()
    }
}

/// What a gateway is to be.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Content {
    pub gateway: String,
    pub dialled: String,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub outward: Option<String>,
    pub masquerade: bool,
    pub networks: Vec<IpNet>,
    pub public_key: PublicKey,
    pub listeners: Vec<OrderListener>,
    pub admit: Vec<Admit>,
    /// By identity, base64. Agents only ever add to what they know of these.
    pub revoked: BTreeMap<String, Revoked>,
    /// Where it answers what it measures, over HTTP.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub metrics: Option<std::net::SocketAddrV4>,
    /// What the gateway proves itself with to clients of open standards: DER in base64, leaf first.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub certificate: Vec<String>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub publish: Option<OrderPublish>,
    /// The authorities whose certificates devices show here, where a listener takes certificates: by name, DER in base64.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub authorities: BTreeMap<String, String>,
    /// Seconds that it holds from when it was made or renewed: after that nobody is let in. `None`: for ever.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub holds: Option<u32>,
    /// The estate's other gateways.
    #[serde(default, rename = "other_gateways", skip_serializing_if = "Vec::is_empty")]
    pub peers: Vec<Peer>,
    /// By what they call on each other, for this agent alone; absent where there are no others.
    #[serde(default, rename = "gateways_call", skip_serializing_if = "Option::is_none")]
    pub peer_call: Option<Sealed>,
    /// Who of those that are let in is admitted when; `None` in an order of a version before there were policies: whoever it names.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub policies: Option<OrderPolicies>,
}

impl Content {
    /// All of it but who is let in and who is kept out.
    #[must_use]
    pub fn settings(&self) -> Self {
        let Self {
            gateway,
            dialled,
            outward,
            masquerade,
            networks,
            public_key,
            listeners,
            admit: _,
            revoked: _,
            metrics,
            certificate,
            publish,
            authorities,
            holds,
            peers,
            peer_call,
            policies,
        } = self;
        Self {
            gateway: gateway.clone(),
            dialled: dialled.clone(),
            outward: outward.clone(),
            masquerade: *masquerade,
            networks: networks.clone(),
            public_key: *public_key,
            listeners: listeners.clone(),
            admit: Vec::new(),
            revoked: BTreeMap::new(),
            metrics: *metrics,
            certificate: certificate.clone(),
            publish: publish.clone(),
            authorities: authorities.clone(),
            holds: *holds,
            peers: peers.clone(),
            peer_call: peer_call.clone(),
            policies: policies.clone(),
        }
    }

    /// What whoever carries this out must know, each by its name: `tunnel quill`, `proof account`. Something that a later version
    /// adds and that must not be passed over gets a name of its own here.
    #[must_use]
    pub fn needs(&self) -> BTreeSet<String> {
        let tunnels = self.listeners.iter().map(|listener| format!("tunnel {}", listener.tunnel.word()));
        let proofs = self.admit.iter().map(|admit| admit.proof.kind()).collect::<HashSet<_>>();
        let proofs = proofs.into_iter().map(|kind| format!("proof {}", kind.word()));
        let rules = self.policies.iter().flat_map(|policies| policies.list.iter().flat_map(Rule::needs));
        let policies = self.policies.iter().map(|_| "policies".to_owned()).chain(rules);
        let registries = self.policies.iter().filter(|policies| !policies.registries.is_empty());
        let policies = policies.chain(registries.map(|_| "registries".to_owned()));
        tunnels.chain(proofs).chain(self.holds.map(|_| "holds".to_owned())).chain(policies).collect()
    }
}

/// What an estate says about one gateway.
pub struct Extract<'a> {
    pub gateway: &'a Gateway,
    pub site: &'a Site,
    pub listeners: &'a [Listener],
    /// Of credentials that are not revoked.
    pub permits: &'a [Permit],
    pub shared_secrets: &'a [SharedSecret],
    /// The names of users who are suspended.
    pub suspended: &'a HashSet<String>,
    pub revocations: &'a [Revocation],
    /// The estate's authorities that this gateway publishes about: name and certificate.
    pub published: &'a [(String, String)],
    /// All authorities of the estate: name and certificate.
    pub authorities: &'a [(String, String)],
    /// Seconds that orders of the estate hold.
    pub holds: Option<u32>,
    pub peers: &'a [Peer],
    /// The policies that are on, in their order.
    pub policies: &'a [Rule],
    /// Registries in their order.
    pub registries: &'a [Claimant],
    /// Devices that have signed in anywhere, where a policy asks for that.
    pub used: &'a HashSet<String>,
    /// The groups of users, of those that a policy names; whoever is in none is not there.
    pub groups: &'a HashMap<String, Vec<String>>,
    /// The platforms of devices, in lower case, where a policy asks for them.
    pub platforms: &'a HashMap<String, String>,
    pub now: Timestamp,
}

/// Computes what a gateway is to be. Equal extracts give equal contents, in whatever sequence things are listed.
///
/// # Errors
/// The gateway's key is damaged, so that nothing can be sealed to it.
pub fn content(extract: &Extract<'_>) -> Result<Content> {
    let gateway = extract.gateway;
    let mut networks = extract.site.networks.clone();
    networks.sort();
    let mut listeners: Vec<_> = extract
        .listeners
        .iter()
        .filter(|listener| listener.gateway == gateway.name)
        .map(|listener| OrderListener {
            name: listener.name.clone(),
            tunnel: listener.tunnel.in_order(),
            serves: listener.serves.iter().map(|served| served.inside).collect(),
            pool: listener.pool,
            pool6: listener.pool6,
            reach: listener.reach.ranges(&networks),
            resolvers: listener.resolvers.clone(),
            keep_alive: listener.keep_alive,
            packet_size: listener.packet_size,
            domains: if listener.tunnel.tells_domains() { listener.domains.clone() } else { Vec::new() },
        })
        .collect();
    listeners.sort_by(|a, b| a.name.cmp(&b.name));
    let revoked = extract
        .revocations
        .iter()
        .filter(|revocation| revocation.gateways.contains(&gateway.name))
        .map(|revocation| {
            let Revocation { device, reason, .. } = revocation.clone();
            (revocation.name.clone(), Revoked { device, reason })
        })
        .collect();
    Ok(Content {
        holds: extract.holds,
        authorities: if listeners.iter().any(|one| one.tunnel.proofs().contains(&ProofKind::Certificate)) {
            extract.authorities.iter().cloned().collect()
        } else {
            BTreeMap::new()
        },
        peer_call: (!extract.peers.is_empty()).then(|| gateway.peer_call.clone()),
        peers: extract.peers.to_vec(),
        admit: admitted(extract, &listeners)?,
        gateway: gateway.name.clone(),
        dialled: gateway.dialled.clone(),
        outward: gateway.outward.clone(),
        masquerade: gateway.masquerade,
        networks,
        public_key: gateway.public_key,
        listeners,
        revoked,
        metrics: gateway.metrics,
        certificate: gateway.certificate.as_ref().map(|certificate| certificate.chain.clone()).unwrap_or_default(),
        policies: Some(OrderPolicies {
            list: extract.policies.to_vec(),
            site: extract.site.name.clone(),
            zone: extract.site.time_zone.clone(),
            // The estate alone, as it always was, goes without saying.
            registries: match extract.registries {
                [one] if one.is_plain() => Vec::new(),
                all => all.to_vec(),
            },
        }),
        publish: gateway
            .publish_port
            .filter(|_| !extract.published.is_empty())
            .map(|port| OrderPublish { port, authorities: extract.published.iter().cloned().collect() }),
    })
}

/// Everybody who is let in at these listeners.
fn admitted(extract: &Extract<'_>, listeners: &[OrderListener]) -> Result<Vec<Admit>> {
    let gateway = extract.gateway;
    let taken = |kind: ProofKind| listeners.iter().any(|listener| listener.tunnel.proofs().contains(&kind));
    let accounts = taken(ProofKind::Account);
    let ms_chap = listeners.iter().any(|listener| listener.tunnel.takes_ms_chap());
    // Of an entry for all listeners of a gateway it holds for the one in whose pool it is.
    let fixed = |material: &Material| {
        material.fixed().filter(|way| listeners.iter().any(|one| one.name == way.listener)).map(|way| way.inner)
    };
    let asked: BTreeSet<Asks> = extract.policies.iter().flat_map(Rule::asks).collect();
    let whole = |at: Timestamp| Timestamp::from_second(at.as_second()).unwrap_or(at);
    let asks_factor = extract.policies.iter().any(|rule| rule.terms.second_factor);
    let own = gateway.public_key.to_string();
    let mut admit = Vec::new();
    for permit in extract.permits {
        let groups = extract.groups.get(&permit.user).cloned().unwrap_or_default();
        let platform = extract.platforms.get(&permit.device).cloned();
        let issued = asked.contains(&Asks::CredentialAge).then(|| whole(permit.issued));
        let entry = |proof: Proof, at: Option<&str>, address: Option<Ipv4Addr>| Admit {
            proof,
            device: permit.device.clone(),
            at: at.map(str::to_owned),
            address,
            from: permit.valid_from,
            until: permit.expires,
            suspended: extract.suspended.contains(&permit.user),
            sessions: permit.once.then_some(1),
            groups: groups.clone(),
            platform: platform.clone(),
            issued,
            second: None,
            new: asked.contains(&Asks::FirstSignIn) && !extract.used.contains(&permit.device),
        };
        match &permit.material {
            Material::KeyPair(pair) => admit.extend(
                pair.ways.iter().filter(|way| listeners.iter().any(|listener| listener.name == way.listener)).map(
                    |way| Admit {
                        // Where no policy asks for one, none travels.
                        second: pair
                            .second_factor
                            .as_ref()
                            .filter(|_| asks_factor)
                            .and_then(|factor| factor.for_agents.get(&own).cloned()),
                        ..entry(Proof::Key { key: permit.identity }, Some(&way.listener), Some(way.inner))
                    },
                ),
            ),
            // Its own dates say from when it holds; lists and answers are asked for the rest by other people's equipment.
            Material::Certificate(certificate) if certificate.gateways.contains(&gateway.name) => {
                let proof = Proof::Certificate { key: permit.identity };
                admit.push(Admit { from: None, ..entry(proof, None, fixed(&permit.material)) });
            }
            Material::Password(password_of) if accounts && password_of.gateways.contains(&gateway.name) => {
                let name = &password_of.account.name;
                let form = Secret::new(password_of.account.password.clone().into_bytes());
                let password = sealed::seal(&gateway.public_key, &account_purpose(name), &form)?;
                let of = &password_of.account.for_agents;
                let ms_chap = of.get(&gateway.name).filter(|_| ms_chap).cloned();
                let proof = Proof::Account { id: permit.identity, name: name.clone(), password, ms_chap };
                admit.push(entry(proof, None, fixed(&permit.material)));
            }
            Material::Certificate(_) | Material::Password(_) => {}
        }
    }
    for listener in listeners.iter().filter(|listener| listener.tunnel.proofs().contains(&ProofKind::SharedSecret)) {
        let held = extract.shared_secrets.iter().filter(|one| one.holder == listener.name && one.holds(extract.now));
        admit.extend(held.filter_map(|one| {
            let secret = one.for_agent.clone()?;
            Some(Admit {
                proof: Proof::SharedSecret { id: one.identity(), number: one.number, secret },
                device: one.name.clone(),
                at: Some(listener.name.clone()),
                address: None,
                from: None,
                until: one.until,
                suspended: false,
                sessions: None,
                groups: Vec::new(),
                platform: None,
                issued: None,
                second: None,
                new: false,
            })
        }));
    }
    admit.sort_by(Admit::in_order);
    Ok(admit)
}
