//! Orders: what a gateway is to be, complete, numbered and signed.
//!
//! An order is canonical JSON (object keys sorted, no spaces: RFC 8785 for the subset of strings, integers,
//! lists and objects that occur), so that equal estates give equal bytes. It travels as text with a signature over exactly
//! that text, and names the hash of the order before it.

use std::collections::BTreeMap;
use std::net::{IpAddr, Ipv4Addr};

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD as BASE64;
use ed25519_dalek::{Signature, Signer as _, SigningKey, Verifier as _, VerifyingKey};
use ipnet::{IpNet, Ipv4Net};
use jiff::Timestamp;
use serde::{Deserialize, Serialize};

use crate::keys::{PublicKey, Secret, sha256_hex};
use crate::nouns::{Credential, CredentialKind, Gateway, Listener, Revocation, Site, User, UserState};
use crate::{Problem, Result};

/// The format that this code writes and reads.
pub const FORMAT: &str = "yestrel order 1";

/// One listener as its gateway runs it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct OrderListener {
    pub name: String,
    pub tunnel: String,
    pub port: u16,
    pub pool: Ipv4Net,
    pub reach: Vec<IpNet>,
    pub resolvers: Vec<IpAddr>,
    pub keep_alive: u16,
    pub packet_size: u16,
    pub cipher: String,
}

/// One credential that is let in at one listener.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Admit {
    pub key: PublicKey,
    pub device: String,
    pub listener: String,
    /// `None`: the pool has no address for it.
    pub inner: Option<Ipv4Addr>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub from: Option<Timestamp>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub until: Option<Timestamp>,
    /// The user is suspended: known, and not let in.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub suspended: bool,
    /// Good for one session.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub once: bool,
}

/// One certificate that the gateway decides about by itself, whatever lists say.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct AdmitCertificate {
    /// SHA-256 of its public key with algorithm.
    pub key: PublicKey,
    pub device: String,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub until: Option<Timestamp>,
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub suspended: bool,
}

/// What a gateway publishes over HTTP about the certificates of the estate's authorities.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct OrderPublish {
    /// TCP.
    pub port: u16,
    /// Certificates of the authorities by name, DER in base64.
    pub authorities: BTreeMap<String, String>,
}

/// A key that stays out for good.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Revoked {
    pub device: String,
    pub reason: String,
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
    /// By public key. Agents only ever add to what they know of these.
    pub revoked: BTreeMap<String, Revoked>,
    /// Where it answers what it measures, over HTTP.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub metrics: Option<std::net::SocketAddrV4>,
    /// What the gateway proves itself with to clients of open standards: DER in base64, leaf first.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub certificate: Vec<String>,
    /// Certificates of devices that may come in here.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub certificates: Vec<AdmitCertificate>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub publish: Option<OrderPublish>,
}

/// An order.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Order {
    pub format: String,
    /// The estate's id.
    pub estate: String,
    /// Counts up per gateway.
    pub number: u64,
    /// SHA-256 of the text of the order before; empty for the first.
    pub previous: String,
    pub issued: Timestamp,
    /// The estate's new key: whoever carries this order out obeys that one from then on.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub successor: Option<PublicKey>,
    pub content: Content,
}

/// An order on its way: its text, and the signature over the text.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Envelope {
    pub order: String,
    /// Ed25519 (RFC 8032), base64.
    pub signature: String,
    /// By the estate's new key over the same text, where the order names one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub successor_signature: Option<String>,
}

/// Canonical JSON of anything that serialises.
fn canonical<T: Serialize>(value: &T) -> String {
    // `serde_json::Value` keeps objects in a sorted map.
    serde_json::to_value(value).map(|value| value.to_string()).unwrap_or_default()
}

/// What an estate says about one gateway.
pub struct View<'a> {
    pub gateway: &'a Gateway,
    pub site: &'a Site,
    pub listeners: &'a [Listener],
    pub credentials: &'a [Credential],
    pub users: &'a [User],
    pub revocations: &'a [Revocation],
    /// The estate's authorities that this gateway publishes about: name and certificate.
    pub published: &'a [(String, String)],
}

/// Computes what a gateway is to be. Equal views give equal contents, in whatever sequence things are listed.
#[must_use]
pub fn content(view: &View<'_>) -> Content {
    let gateway = view.gateway;
    let mut networks = view.site.networks.clone();
    networks.sort();
    let mut listeners: Vec<_> = view
        .listeners
        .iter()
        .filter(|listener| listener.gateway == gateway.name)
        .map(|listener| OrderListener {
            name: listener.name.clone(),
            tunnel: listener.tunnel.clone(),
            port: listener.port,
            pool: listener.pool,
            reach: listener.reach.ranges(&networks),
            resolvers: listener.resolvers.clone(),
            keep_alive: listener.keep_alive,
            packet_size: listener.packet_size,
            cipher: listener.cipher.clone(),
        })
        .collect();
    listeners.sort_by(|a, b| a.name.cmp(&b.name));
    let suspended: std::collections::HashSet<_> =
        view.users.iter().filter(|user| user.state == UserState::Suspended).map(|user| user.name.as_str()).collect();
    let mut admit: Vec<_> = view
        .credentials
        .iter()
        .filter(|credential| credential.revoked.is_none() && credential.kind == CredentialKind::KeyPair)
        .flat_map(|credential| credential.ways.iter().map(move |way| (credential, way)))
        .filter(|(_, way)| listeners.iter().any(|listener| listener.name == way.listener))
        .map(|(credential, way)| Admit {
            key: credential.public_key,
            device: credential.device.clone(),
            listener: way.listener.clone(),
            inner: Some(way.inner),
            from: credential.valid_from,
            until: credential.expires,
            suspended: suspended.contains(credential.user.as_str()),
            once: credential.once,
        })
        .collect();
    let mut certificates: Vec<_> = view
        .credentials
        .iter()
        .filter(|credential| credential.revoked.is_none() && credential.kind == CredentialKind::Certificate)
        .filter(|credential| credential.gateways.contains(&gateway.name))
        .map(|credential| AdmitCertificate {
            key: credential.public_key,
            device: credential.device.clone(),
            until: credential.expires,
            suspended: suspended.contains(credential.user.as_str()),
        })
        .collect();
    certificates.sort_by(|a, b| (&a.device, a.key).cmp(&(&b.device, b.key)));
    admit.sort_by(|a, b| (&a.listener, &a.device, a.key).cmp(&(&b.listener, &b.device, b.key)));
    let revoked = view
        .revocations
        .iter()
        .filter(|revocation| revocation.gateways.contains(&gateway.name))
        .map(|revocation| {
            let Revocation { device, reason, .. } = revocation.clone();
            (revocation.name.clone(), Revoked { device, reason })
        })
        .collect();
    Content {
        gateway: gateway.name.clone(),
        dialled: gateway.dialled.clone(),
        outward: gateway.outward.clone(),
        masquerade: gateway.masquerade,
        networks,
        public_key: gateway.public_key,
        listeners,
        admit,
        revoked,
        metrics: gateway.metrics,
        certificate: gateway.certificate.as_ref().map(|certificate| certificate.chain.clone()).unwrap_or_default(),
        certificates,
        publish: gateway
            .publish_port
            .filter(|_| !view.published.is_empty())
            .map(|port| OrderPublish { port, authorities: view.published.iter().cloned().collect() }),
    }
}

/// Numbers, dates and signs an order.
///
/// # Errors
/// The signing key is damaged.
pub fn sign(
    estate: &str,
    number: u64,
    previous: &str,
    issued: Timestamp,
    content: Content,
    key: &Secret,
) -> Result<Envelope> {
    let order = Order {
        format: FORMAT.into(),
        estate: estate.into(),
        number,
        previous: previous.into(),
        issued,
        successor: None,
        content,
    };
    let order = canonical(&order);
    Ok(Envelope { signature: signature(key, &order)?, order, successor_signature: None })
}

fn signature(key: &Secret, text: &str) -> Result<String> {
    Ok(BASE64.encode(SigningKey::from_bytes(&*key.private_key()?).sign(text.as_bytes()).to_bytes()))
}

/// As [`sign`], for a gateway that still obeys `key`: signed with it and with `successor`, which it obeys from then on.
///
/// # Errors
/// One of the signing keys is damaged.
pub fn sign_over(envelope: &Envelope, key: &Secret, successor: &Secret) -> Result<Envelope> {
    let mut order = envelope.read()?;
    order.successor = Some(signer(successor)?);
    let order = canonical(&order);
    Ok(Envelope { signature: signature(key, &order)?, successor_signature: Some(signature(successor, &order)?), order })
}

/// The public half of a signing key.
///
/// # Errors
/// Not 32 bytes.
pub fn signer(key: &Secret) -> Result<PublicKey> {
    Ok(PublicKey(SigningKey::from_bytes(&*key.private_key()?).verifying_key().to_bytes()))
}

impl Envelope {
    /// SHA-256 of the order's text.
    #[must_use]
    pub fn hash(&self) -> String {
        sha256_hex(self.order.as_bytes())
    }

    /// Reads the order without asking who signed it: for showing what the estate itself stored.
    ///
    /// # Errors
    /// The text is not an order of a format that this version reads.
    pub fn read(&self) -> Result<Order> {
        #[derive(Deserialize)]
        struct Format {
            format: String,
        }
        let unreadable = |_| {
            Problem::refused("the order cannot be read")
                .why("its text is cut short or altered")
                .try_("yestrel rollout   to send it again")
        };
        let Format { format } = serde_json::from_str(&self.order).map_err(unreadable)?;
        if format != FORMAT {
            return Err(Problem::refused(format!("the order has the format {format:?}"))
                .why(format!("this version carries out {FORMAT:?}"))
                .try_("bring the agent to the version of the command that made the order"));
        }
        serde_json::from_str(&self.order).map_err(unreadable)
    }

    /// Reads the order if `signer` signed it.
    ///
    /// # Errors
    /// The signature is not the signer's, or as [`Envelope::read`].
    pub fn verify(&self, signer: &PublicKey) -> Result<Order> {
        let by_successor = self.successor_signature.as_deref().unwrap_or_default();
        let own = self.check(signer, &self.signature);
        let order = match own {
            Ok(()) => self.read()?,
            // Whoever obeys the new key already goes by its signature alone.
            Err(problem) => match self.read() {
                Ok(order) if order.successor == Some(*signer) => order,
                _ => return Err(problem),
            },
        };
        if let Some(successor) = &order.successor {
            self.check(successor, by_successor)?;
        }
        Ok(order)
    }

    fn check(&self, signer: &PublicKey, signature: &str) -> Result<()> {
        let stranger = || {
            Problem::refused("the order is not signed by this gateway's estate")
                .why("it was altered on its way, or belongs to another estate")
        };
        let key = VerifyingKey::from_bytes(&signer.0).map_err(|_| stranger())?;
        let bytes = BASE64.decode(signature).map_err(|_| stranger())?;
        let signature = Signature::from_slice(&bytes).map_err(|_| stranger())?;
        key.verify(self.order.as_bytes(), &signature).map_err(|_| stranger())
    }
}

/// Whether an agent that stands at `current` may take `next`. The same order again is taken.
///
/// # Errors
/// An older number, another order under the same number, another gateway, or a successor of another predecessor.
pub fn may_follow(current: Option<(&Order, &str)>, next: &Order, next_hash: &str, gateway: &str) -> Result<()> {
    if next.content.gateway != gateway {
        return Err(Problem::refused(format!("the order is for the gateway {}", next.content.gateway))
            .why(format!("this agent is the gateway {gateway}")));
    }
    let Some((current, hash)) = current else { return Ok(()) };
    if next.number < current.number {
        return Err(Problem::refused(format!(
            "order {} is older than order {}, which is in force",
            next.number, current.number
        ))
        .why("an agent never goes back; two copies of the estate may be in use")
        .try_("work with the newest copy of the estate"));
    }
    let split = (next.number == current.number && next_hash != hash)
        || (next.number == current.number + 1 && next.previous != hash);
    if split {
        return Err(Problem::refused(format!(
            "order {} does not continue order {}, which is in force",
            next.number, current.number
        ))
        .why("somebody else rolled out another order under that number: two copies of the estate are in use")
        .try_("work with the copy whose orders the gateway has"));
    }
    Ok(())
}

/// Whether going from `old` to `new` touches firewall, addresses or ports, so that it could cut its author off. Admitting,
/// withdrawing and revoking do not.
#[must_use]
pub fn touches_the_way_in(old: Option<&Content>, new: &Content) -> bool {
    let Some(old) = old else { return true };
    let way_in = |content: &Content| {
        let listeners: Vec<_> =
            content.listeners.iter().map(|l| (l.name.clone(), l.port, l.pool, l.reach.clone())).collect();
        let publish = content.publish.as_ref().map(|publish| publish.port);
        (listeners, content.networks.clone(), content.masquerade, content.outward.clone(), content.metrics, publish)
    };
    way_in(old) != way_in(new)
}

/// One line of what an order changes: a verb and what it applies to.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Change {
    /// `add`, `change`, `remove`, `admit`, `withdraw`, `revoke`, `ports`, `gateway`.
    pub verb: &'static str,
    pub words: String,
}

/// What changes from `old` (nothing, for a gateway that has no order yet) to `new`.
#[must_use]
pub fn difference(old: Option<&Content>, new: &Content) -> Vec<Change> {
    let mut changes = Vec::new();
    let mut say = |verb, words: String| changes.push(Change { verb, words });
    let none = Vec::new();
    let old_listeners = old.map_or(&none, |old| &old.listeners);
    let describe =
        |listener: &OrderListener| format!("listener {}, {}/udp, pool {}", listener.name, listener.port, listener.pool);
    for listener in &new.listeners {
        match old_listeners.iter().find(|before| before.name == listener.name) {
            None => say("add", describe(listener)),
            Some(before) if before != listener => say("change", listener_changes(before, listener)),
            Some(_) => {}
        }
    }
    for listener in old_listeners.iter().filter(|old| !new.listeners.iter().any(|new| new.name == old.name)) {
        say("remove", describe(listener));
    }
    if let Some(old) = old {
        for (what, before, after) in [
            ("dialled", &old.dialled, &new.dialled),
            ("masquerade", &word(old.masquerade), &word(new.masquerade)),
            ("networks", &list(&old.networks), &list(&new.networks)),
            ("outward", &outward(old), &outward(new)),
            ("metrics at", &address(old), &address(new)),
            ("key", &old.public_key.fingerprint(), &new.public_key.fingerprint()),
        ] {
            if before != after {
                say("gateway", format!("{what} {before} -> {after}"));
            }
        }
    }
    if old.map(|old| &old.certificate).unwrap_or(&Vec::new()) != &new.certificate {
        say("certify", certified(&new.certificate));
    }
    let holders = |content: &Content| -> BTreeMap<(String, PublicKey), bool> {
        content.certificates.iter().map(|one| ((one.device.clone(), one.key), one.suspended)).collect()
    };
    let (had, has) = (old.map(holders).unwrap_or_default(), holders(new));
    for (holder, suspended) in &has {
        let device = &holder.0;
        match had.get(holder) {
            None => say("admit", format!("{device}  (certificate)")),
            Some(was) if was != suspended && *suspended => {
                say("withdraw", format!("{device}  (certificate, suspended)"));
            }
            Some(was) if was != suspended => say("admit", format!("{device}  (certificate, restored)")),
            Some(_) => {}
        }
    }
    for (device, key) in had.keys().filter(|holder| !has.contains_key(*holder)) {
        if !new.revoked.contains_key(&key.to_string()) {
            say("withdraw", format!("{device}  (certificate)"));
        }
    }
    let published = |content: &Content| content.publish.clone().map(|publish| publish.authorities);
    let (was, is) = (old.and_then(published).unwrap_or_default(), published(new).unwrap_or_default());
    for name in is.keys().filter(|name| !was.contains_key(*name)) {
        say("publish", format!("what {name} revoked"));
    }
    for name in was.keys().filter(|name| !is.contains_key(*name)) {
        say("withhold", format!("what {name} revoked"));
    }
    let key = |admit: &Admit| (admit.listener.clone(), admit.key);
    let before: BTreeMap<_, _> = old.iter().flat_map(|old| &old.admit).map(|admit| (key(admit), admit)).collect();
    let after: BTreeMap<_, _> = new.admit.iter().map(|admit| (key(admit), admit)).collect();
    let several = new.listeners.len() > 1;
    let named =
        |admit: &Admit| if several { format!("{} at {}", admit.device, admit.listener) } else { admit.device.clone() };
    for (key, admit) in &after {
        match before.get(key) {
            None if admit.suspended => say("known", format!("{}  (suspended)", named(admit))),
            None => say("admit", named(admit)),
            Some(was) if was.suspended != admit.suspended => {
                let (verb, why) = if admit.suspended { ("withdraw", "suspended") } else { ("admit", "restored") };
                say(verb, format!("{}  ({why})", named(admit)));
            }
            Some(was) if was != admit => say("change", format!("{}: address or dates", named(admit))),
            Some(_) => {}
        }
    }
    let newly: BTreeMap<_, _> =
        new.revoked.iter().filter(|(key, _)| !old.is_some_and(|old| old.revoked.contains_key(*key))).collect();
    for (_, admit) in before.iter().filter(|(key, _)| !after.contains_key(*key)) {
        if !new.revoked.contains_key(&admit.key.to_string()) {
            say("withdraw", named(admit));
        }
    }
    for revoked in newly.values() {
        say("revoke", format!("{}  ({})", revoked.device, revoked.reason));
    }
    let ports = |listeners: &[OrderListener], content: Option<&Content>| {
        let published = content.and_then(|content| content.publish.as_ref()).map(|at| format!("{}/tcp", at.port));
        listeners.iter().map(|l| format!("{}/udp", l.port)).chain(published).collect::<Vec<_>>()
    };
    let (was, is) = (ports(old_listeners, old), ports(&new.listeners, Some(new)));
    let missing = |from: &[String], of: &[String]| {
        let missing: Vec<_> = from.iter().filter(|port| !of.contains(port)).cloned().collect();
        if missing.is_empty() { "none".to_owned() } else { missing.join(", ") }
    };
    let (opens, closes) = (missing(&is, &was), missing(&was, &is));
    if opens != "none" || closes != "none" {
        say("ports", format!("opens {opens}; closes {closes}"));
    }
    changes
}

/// Whom a gateway's certificate is for, and until when.
fn certified(chain: &[String]) -> String {
    let leaf = chain.first().and_then(|first| BASE64.decode(first).ok());
    let Some(leaf) = leaf.and_then(|der| crate::x509::Certificate::from_der(&der).ok()) else {
        return "none any more".into();
    };
    let names = leaf.names().unwrap_or_default();
    format!("{}, until {}", list(&names), crate::moment(leaf.not_after()))
}

fn word(masquerade: bool) -> String {
    if masquerade { "yes" } else { "no" }.into()
}

fn address(content: &Content) -> String {
    content.metrics.map_or_else(|| "nowhere".into(), |at| at.to_string())
}

fn outward(content: &Content) -> String {
    content.outward.clone().unwrap_or_else(|| "by the default route".into())
}

fn list<T: std::fmt::Display>(items: &[T]) -> String {
    if items.is_empty() { "-".into() } else { items.iter().map(ToString::to_string).collect::<Vec<_>>().join(",") }
}

fn listener_changes(before: &OrderListener, after: &OrderListener) -> String {
    let changed: Vec<_> = [
        ("port", before.port.to_string(), after.port.to_string()),
        ("pool", before.pool.to_string(), after.pool.to_string()),
        ("reach", list(&before.reach), list(&after.reach)),
        ("resolvers", list(&before.resolvers), list(&after.resolvers)),
        ("keep-alive", before.keep_alive.to_string(), after.keep_alive.to_string()),
        ("packet size", before.packet_size.to_string(), after.packet_size.to_string()),
        ("cipher", before.cipher.clone(), after.cipher.clone()),
    ]
    .into_iter()
    .filter(|(_, before, after)| before != after)
    .map(|(what, before, after)| format!("{what} {before} -> {after}"))
    .collect();
    format!("listener {}: {}", after.name, changed.join(", "))
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    pub(crate) fn sample() -> Content {
        Content {
            gateway: "harbour".into(),
            dialled: "gangway.skerry.example".into(),
            outward: None,
            masquerade: true,
            networks: vec!["10.44.0.0/22".parse().unwrap()],
            public_key: PublicKey([4; 32]),
            listeners: vec![OrderListener {
                name: "harbour/talon".into(),
                tunnel: "talon".into(),
                port: 23817,
                pool: "10.187.44.0/24".parse().unwrap(),
                reach: vec!["10.44.0.0/22".parse().unwrap()],
                resolvers: vec![],
                keep_alive: 20,
                packet_size: 1400,
                cipher: "aes-256-gcm".into(),
            }],
            admit: vec![admit("mara/laptop", 1), admit("tomas/tablet", 2)],
            revoked: BTreeMap::new(),
            metrics: None,
            certificate: vec![],
            certificates: vec![],
            publish: None,
        }
    }

    fn admit(device: &str, key: u8) -> Admit {
        Admit {
            key: PublicKey([key; 32]),
            device: device.into(),
            listener: "harbour/talon".into(),
            inner: Some(Ipv4Addr::new(10, 187, 44, key + 1)),
            from: None,
            until: None,
            suspended: false,
            once: false,
        }
    }

    fn at() -> Timestamp {
        "2027-03-02T08:15:00Z".parse().unwrap()
    }

    fn secret() -> Secret {
        Secret::new(vec![7; 32])
    }

    fn envelope(number: u64, previous: &str) -> Envelope {
        sign("estate-1", number, previous, at(), sample(), &secret()).unwrap()
    }

    #[test]
    fn a_signed_order_comes_back_whole_and_the_same_order_gives_the_same_bytes() {
        let signer = signer(&secret()).unwrap();
        let order = envelope(13, "before").verify(&signer).unwrap();
        assert_eq!((order.number, &order.content), (13, &sample()));
        assert_eq!(envelope(13, "before"), envelope(13, "before"));
    }

    proptest! {
        #[test]
        fn no_altered_order_verifies(at in 0_usize..5000, bit in 0_u8..7) {
            let signer = signer(&secret()).unwrap();
            let mut envelope = envelope(13, "before");
            let mut bytes = envelope.order.into_bytes();
            let at = at % bytes.len();
            bytes[at] ^= 1 << bit;
            prop_assume!(std::str::from_utf8(&bytes).is_ok());
            envelope.order = String::from_utf8(bytes).unwrap();
            prop_assert!(envelope.verify(&signer).is_err());
        }

        #[test]
        fn no_text_makes_the_reader_fail(order in ".{0,200}", signature in "[A-Za-z0-9+/=]{0,90}") {
            let signer = signer(&secret()).unwrap();
            let envelope = Envelope { order, signature, successor_signature: None };
            prop_assert!(envelope.verify(&signer).is_err());
        }

        #[test]
        fn an_agent_never_goes_back(have in 1_u64..50, offered in 1_u64..50) {
            let current = envelope(have, "x");
            let current_order = current.read().unwrap();
            let hash = current.hash();
            let previous = if offered == have + 1 { hash.clone() } else { "x".into() };
            let next = envelope(offered, &previous);
            let allowed = may_follow(Some((&current_order, &hash)), &next.read().unwrap(), &next.hash(), "harbour");
            prop_assert_eq!(allowed.is_ok(), offered >= have);
        }
    }

    #[test]
    fn two_copies_of_an_estate_are_noticed() {
        let current = envelope(13, "x");
        let (order, hash) = (current.read().unwrap(), current.hash());
        let other = envelope(14, "another thirteenth");
        let problem = may_follow(Some((&order, &hash)), &other.read().unwrap(), &other.hash(), "harbour").unwrap_err();
        assert!(problem.why.unwrap().contains("two copies"));
        let mut content = sample();
        content.masquerade = false;
        let same_number = sign("estate-1", 13, "x", at(), content, &secret()).unwrap();
        assert!(
            may_follow(Some((&order, &hash)), &same_number.read().unwrap(), &same_number.hash(), "harbour").is_err()
        );
        assert!(may_follow(Some((&order, &hash)), &order, &hash, "harbour").is_ok(), "the same again");
        assert!(may_follow(None, &order, &hash, "boatyard").is_err(), "another gateway's");
    }

    #[test]
    fn a_newer_format_is_named() {
        let newer = Envelope {
            order: r#"{"format":"yestrel order 9","extra":1}"#.into(),
            signature: String::new(),
            successor_signature: None,
        };
        assert!(newer.read().unwrap_err().error.contains("yestrel order 9"));
    }

    mod from_the_estate {
        use super::*;
        use crate::nouns::{Reach, SealedSecret, Way};

        fn gateway() -> Gateway {
            Gateway {
                name: "harbour".into(),
                host: "harbour".into(),
                site: "harbour".into(),
                dialled: "gangway.skerry.example".into(),
                outward: None,
                masquerade: true,
                public_key: PublicKey([4; 32]),
                private_key: SealedSecret(String::new()),
                adopted: false,
                order_number: 0,
                news_seen: 0,
                updates: None,
                metrics: None,
                also: vec![],
                certificate: None,
                certificate_key: None,
                request_key: None,
                publish_port: None,
                lists_known: BTreeMap::new(),
                trusts: None,
                created: at(),
            }
        }

        fn site() -> Site {
            Site {
                name: "harbour".into(),
                networks: vec!["10.46.0.0/24".parse().unwrap(), "10.44.0.0/22".parse().unwrap()],
                time_zone: "Europe/Oslo".into(),
                front: None,
                created: at(),
            }
        }

        fn listener(name: &str, third: u8, reach: Reach) -> Listener {
            Listener {
                name: name.into(),
                gateway: name.split('/').next().unwrap().into(),
                tunnel: "talon".into(),
                port: 20_000 + u16::from(third),
                outside_port: 443,
                pool: format!("10.187.{third}.0/24").parse().unwrap(),
                reach,
                resolvers: vec![],
                keep_alive: 20,
                packet_size: 1400,
                cipher: "aes-256-gcm".into(),
                created: at(),
            }
        }

        fn credential(user: &str, key: u8, listeners: &[&str]) -> Credential {
            Credential {
                name: format!("{user}/laptop/1"),
                device: format!("{user}/laptop"),
                user: user.into(),
                kind: CredentialKind::KeyPair,
                public_key: PublicKey([key; 32]),
                private_key: None,
                made_on_device: false,
                ways: listeners
                    .iter()
                    .map(|listener| Way { listener: (*listener).into(), inner: Ipv4Addr::new(10, 187, 44, key) })
                    .collect(),
                gateways: vec![],
                certificate: None,
                account: None,
                once: false,
                superseded: None,
                issued: at(),
                valid_from: None,
                expires: None,
                handed_over: None,
                told: vec![],
                revoked: None,
                reason: None,
                first_used: None,
                last_used: None,
            }
        }

        fn user(name: &str, state: UserState) -> User {
            User { name: name.into(), mail: None, about: None, state, groups: vec![], created: at() }
        }

        fn made(
            listeners: &[Listener],
            credentials: &[Credential],
            users: &[User],
            revocations: &[Revocation],
        ) -> Content {
            content(&View {
                gateway: &gateway(),
                site: &site(),
                listeners,
                credentials,
                users,
                revocations,
                published: &[],
            })
        }

        proptest! {
            /// Equal estates give equal bytes, in whatever sequence a database lists things.
            #[test]
            fn the_sequence_of_rows_does_not_matter(order in Just((0..6_usize).collect::<Vec<_>>()).prop_shuffle()) {
                let names = ["mara", "tomas", "ines", "oskar", "astrid", "jorun"];
                let listeners = [listener("harbour/talon", 44, Reach::Site), listener("harbour/second", 45, Reach::Everything)];
                let all: Vec<_> = names.iter().zip(1..).map(|(name, key)| credential(name, key, &["harbour/second", "harbour/talon"])).collect();
                let users: Vec<_> = names.iter().map(|name| user(name, UserState::Active)).collect();
                let shuffled: Vec<_> = order.iter().map(|at| all[*at].clone()).collect();
                let turned: Vec<_> = listeners.iter().rev().cloned().collect();
                let (one, other) = (made(&listeners, &all, &users, &[]), made(&turned, &shuffled, &users, &[]));
                prop_assert_eq!(canonical(&one), canonical(&other));
                prop_assert_eq!(one.admit.len(), 12);
            }
        }

        #[test]
        fn only_what_belongs_to_the_gateway_is_in_its_order() {
            let listeners = [listener("harbour/talon", 44, Reach::Site), listener("boatyard/talon", 61, Reach::Site)];
            let mut gone = credential("tomas", 2, &["harbour/talon"]);
            gone.revoked = Some(at());
            let credentials = [
                credential("mara", 1, &["harbour/talon", "boatyard/talon"]),
                gone,
                credential("ines", 3, &["boatyard/talon"]),
            ];
            let users = [user("mara", UserState::Suspended), user("ines", UserState::Active)];
            let revocation = |device: &str, key: u8, gateway: &str| Revocation {
                name: PublicKey([key; 32]).to_string(),
                device: device.into(),
                reason: "lost".into(),
                at: at(),
                gateways: vec![gateway.into()],
            };
            let revocations = [revocation("tomas/laptop", 2, "harbour"), revocation("oskar/laptop", 9, "boatyard")];
            let content = made(&listeners, &credentials, &users, &revocations);
            assert_eq!(content.listeners.iter().map(|l| l.name.as_str()).collect::<Vec<_>>(), ["harbour/talon"]);
            assert_eq!(content.listeners[0].reach, site().networks.iter().rev().copied().collect::<Vec<_>>(), "sorted");
            let admitted: Vec<_> = content.admit.iter().map(|admit| (admit.device.as_str(), admit.suspended)).collect();
            assert_eq!(admitted, [("mara/laptop", true)]);
            assert_eq!(
                content.revoked.values().map(|revoked| revoked.device.as_str()).collect::<Vec<_>>(),
                ["tomas/laptop"]
            );
        }
    }

    #[test]
    fn the_difference_says_what_a_person_asked_for() {
        let (old, mut new) = (sample(), sample());
        assert_eq!(difference(Some(&old), &new), []);
        new.admit.remove(1);
        new.admit.push(admit("ines/phone", 9));
        new.revoked
            .insert(PublicKey([2; 32]).to_string(), Revoked { device: "tomas/tablet".into(), reason: "lost".into() });
        new.listeners[0].port = 4500;
        let words: Vec<_> =
            difference(Some(&old), &new).into_iter().map(|c| format!("{} {}", c.verb, c.words)).collect();
        assert_eq!(
            words,
            [
                "change listener harbour/talon: port 23817 -> 4500",
                "admit ines/phone",
                "revoke tomas/tablet  (lost)",
                "ports opens 4500/udp; closes 23817/udp",
            ]
        );
        let first: Vec<_> = difference(None, &sample()).into_iter().map(|change| change.verb).collect();
        assert_eq!(first, ["add", "admit", "admit", "ports"]);
    }
}
