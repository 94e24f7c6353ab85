//! The decision, and what it grants.

use std::borrow::Cow;
use std::collections::BTreeMap;
use std::net::{IpAddr, Ipv4Addr};

use ipnet::{IpNet, Ipv4Net, Ipv6Net};
use jiff::{SignedDuration, Timestamp};

use super::{Claim, Proof, ProofKind, Reason, Refusal, Roll, Shown, reach};
use crate::order::{Admit, OrderListener, Revoked};
use crate::policy::span;
use crate::policy::{At, Effect, List, Person, RegistryKind, Rule, Terms, nearest_soon, realm};
use crate::pool::{beside, gateway_address, gateway_address6};
use crate::sealed::Sealed;
use crate::tunnel::{Second, Settings};

/// What somebody is granted.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Admission {
    pub device: String,
    pub proof: Proof,
    /// The inner address that came with the credential, of this listener's pool; `None`: one is leased from that.
    pub address: Option<Ipv4Addr>,
    pub pool: Ipv4Net,
    pub pool6: Option<Ipv6Net>,
    /// How many sessions it is good for; `None`: any number.
    pub sessions: Option<u32>,
    pub until: Option<Timestamp>,
    /// The most that the device may reach.
    pub reach: Vec<IpNet>,
    pub resolvers: Vec<IpAddr>,
    pub packet_size: u16,
    pub keep_alive: u16,
    /// The policy by which it is admitted; `None` in an order without any.
    pub policy: Option<String>,
    /// How many policies were asked, that one with them.
    pub asked: Option<u16>,
    pub terms: Terms,
    /// Parts of the pool from which only others are leased an address.
    pub reserved: Vec<Ipv4Net>,
    /// What the codes of its second factor come from, sealed to this gateway.
    pub second: Option<Sealed>,
    /// When it ends or may end by itself, at the latest; of a session that is up.
    pub again: Option<Timestamp>,
}

impl Admission {
    /// Whether it may be leased this inner address, by its policy and those that reserve some for others.
    #[must_use]
    pub fn may_lease(&self, address: Ipv4Addr) -> bool {
        match &self.terms.pool {
            Some(own) => own.contains(&address),
            None => !self.reserved.iter().any(|other| other.contains(&address)),
        }
    }

    /// Seconds after which it is over, unless it signs in again before (RFC 4478).
    #[must_use]
    pub fn lifetime(&self) -> Option<u32> {
        self.terms.session.into_iter().chain(self.terms.anew()).min()
    }

    /// What the device is told, once it has an inner address, by an order of this number.
    #[must_use]
    pub fn settings(&self, inner: Ipv4Addr, order: u64) -> Settings {
        let address = inner;
        let inner = Ipv4Net::new(inner, self.pool.prefix_len()).unwrap_or_else(|_| Ipv4Net::from(inner));
        Settings {
            edition: u32::try_from(order).unwrap_or(u32::MAX),
            inner: inner.into(),
            gateway: IpAddr::V4(gateway_address(&self.pool)),
            second: self.pool6.map(|pool6| Second {
                inner: Ipv6Net::new(beside(address, &self.pool, &pool6), pool6.prefix_len()).unwrap_or(pool6),
                gateway: gateway_address6(&pool6),
            }),
            resolvers: self.resolvers.clone(),
            reach: self.reach.clone(),
            packet_size: self.packet_size,
            keep_alive: self.keep_alive,
            asks: false,
        }
    }
}

/// Whether a claim is let in at `now`, by an order in force and by every revocation that was ever learned, each under the
/// identity that it names, in base64.
///
/// # Errors
/// The refusal: a revocation before everything else, so that a device learns why it was thrown out.
pub fn decide(
    claim: &Claim<'_>,
    roll: &Roll,
    revoked: &BTreeMap<String, Revoked>,
    now: Timestamp,
) -> Result<Admission, Refusal> {
    // An account is called as the registry that checks it calls it.
    let called = match claim.shown {
        Shown::Account(name) => Some(account(name, claim.listener, claim.from, roll, now)?),
        _ => None,
    };
    let admit = roll.find(claim.listener, called.as_deref().map_or(claim.shown, Shown::Account));
    let identity = match (&admit, claim.shown) {
        (Some(admit), _) => Some(admit.proof.identity()),
        (None, Shown::Key(id) | Shown::Certificate(id) | Shown::Session(id)) => Some(id),
        (None, _) => None,
    };
    if let Some(revoked) = identity.and_then(|identity| revoked.get(&identity.to_string())) {
        return Err(Refusal { reason: Reason::Revoked, words: revoked.reason.clone() });
    }
    let (Some(admit), Some(listener)) = (admit, roll.listener(claim.listener)) else {
        return Err(Refusal::plain(Reason::Unknown));
    };
    if !listener.tunnel.proofs().contains(&admit.proof.kind()) {
        return Err(Refusal::plain(Reason::Unknown));
    }
    if admit.suspended {
        return Err(Refusal::plain(Reason::Suspended));
    }
    if let Some(from) = admit.from.filter(|from| *from > now) {
        return Err(Refusal::not_yet(from, now));
    }
    if let Some(until) = admit.until.filter(|until| *until <= now) {
        return Err(Refusal::expired(until, now));
    }
    let judged = match roll.policies() {
        Some(list) => Some(judged(list, &Of { claim, admit: &admit, listener, roll, now })?),
        None => None,
    };
    let asked = judged.map(|(place, _)| u16::try_from(place + 1).unwrap_or(u16::MAX));
    let (policy, terms) = judged.map(|(_, rule)| (rule.name.clone(), rule.terms.clone())).unzip();
    let terms = terms.unwrap_or_default();
    if terms.second_factor {
        let asked_by = || format!("the policy {} asks for a second factor", policy.as_deref().unwrap_or_default());
        if !listener.tunnel.asks() {
            let words = format!("{}, and the tunnel {} cannot ask for one", asked_by(), listener.tunnel.word());
            return Err(Refusal { reason: Reason::Policy, words });
        }
        if admit.second.is_none() {
            let words = format!("{}, and {} has none", asked_by(), admit.device);
            return Err(Refusal { reason: Reason::Policy, words });
        }
    }
    let over = claim.since.zip(terms.session).and_then(|(since, seconds)| later(since, seconds));
    if let Some(seconds) = terms.session.filter(|_| over.is_some_and(|over| over <= now)) {
        return Err(Refusal { reason: Reason::Limit, words: format!("its session time of {} is over", span(seconds)) });
    }
    let stale = claim.since.zip(terms.anew()).and_then(|(since, seconds)| later(since, seconds));
    if let Some(seconds) = terms.anew().filter(|_| stale.is_some_and(|stale| stale <= now)) {
        return Err(Refusal {
            reason: Reason::Limit,
            words: format!("it did not sign in again within {}", span(seconds)),
        });
    }
    let ages = roll.policies().filter(|_| !terms.stay).and_then(|list| list.next_age(admit.issued?, now));
    let reach = match &terms.reach {
        Some(most) => reach::within(&[&listener.reach, most]),
        None => listener.reach.clone(),
    };
    Ok(Admission {
        again: [admit.until, over, stale, ages].into_iter().flatten().min(),
        reserved: roll.policies().map(|list| list.pools().collect()).unwrap_or_default(),
        policy,
        asked,
        device: admit.device,
        proof: admit.proof,
        address: admit.address.filter(|address| listener.pool.contains(address)),
        pool: listener.pool,
        pool6: listener.pool6,
        sessions: admit.sessions,
        second: admit.second,
        until: admit.until,
        reach,
        resolvers: if terms.resolvers.is_empty() { listener.resolvers.clone() } else { terms.resolvers.clone() },
        terms,
        packet_size: listener.packet_size,
        keep_alive: listener.keep_alive,
    })
}

/// What the account is called that somebody signs in to at a listener, by the registry that claims the name.
///
/// # Errors
/// None does, or it is one that this gateway cannot ask.
pub fn account<'a>(
    name: &'a str,
    listener: &str,
    from: Option<IpAddr>,
    roll: &Roll,
    now: Timestamp,
) -> Result<Cow<'a, str>, Refusal> {
    let Some(registries) = roll.registries() else { return Ok(name.into()) };
    let Some(listener) = roll.listener(listener) else { return Err(Refusal::plain(Reason::Unknown)) };
    let content = roll.settings();
    let site = content.policies.as_ref().map_or("", |policies| &policies.site);
    let realm = realm(name).1;
    let ours = At::ours(&content.gateway, site, &listener.tunnel, ProofKind::Account, now);
    let at = At { from, realm: realm.as_deref(), ..ours };
    let refused = |words: String| Refusal { reason: Reason::Unclaimed, words };
    match registries.in_charge(&at) {
        None => Err(refused("no registry claims such a name here and now".into())),
        Some(one) if one.kind != RegistryKind::Estate => Err(refused(format!(
            "the registry {} claims such a name, and no gateway of this version can ask it",
            one.name
        ))),
        Some(one) => Ok(one.called.of(name)),
    }
}

fn later(from: Timestamp, seconds: u32) -> Option<Timestamp> {
    from.checked_add(SignedDuration::from_secs(seconds.into())).ok()
}

/// What the policies are asked about.
struct Of<'a> {
    claim: &'a Claim<'a>,
    admit: &'a Admit,
    listener: &'a OrderListener,
    roll: &'a Roll,
    now: Timestamp,
}

/// The policy that admits somebody, also a session that is up, with its place.
fn judged<'a>(list: &'a List, of: &Of<'a>) -> Result<(usize, &'a Rule), Refusal> {
    let Of { claim, admit, listener, roll, now } = *of;
    let content = roll.settings();
    let kind = admit.proof.kind();
    let person = Person {
        user: admit.device.split('/').next().unwrap_or_default(),
        groups: &admit.groups,
        device: &admit.device,
        platform: admit.platform.as_deref(),
        credential: match kind {
            ProofKind::Key => "key-pair",
            ProofKind::Certificate => "certificate",
            ProofKind::Account => "password",
            ProofKind::SharedSecret => "shared-secret",
        },
        issued: admit.issued,
    };
    let site = content.policies.as_ref().map_or("", |policies| &policies.site);
    let named = match claim.shown {
        Shown::Account(name) => realm(name).1,
        _ => None,
    };
    let at = At {
        from: claim.from,
        realm: named.as_deref().or(claim.signed.realm),
        first: claim.signed.first,
        second_factor: claim.signed.second_factor,
        ..At::ours(&content.gateway, site, &listener.tunnel, kind, now)
    };
    let known = list.know(&person);
    // A session is of the policy that let it in: whether that still lets it in now is for its terms to say.
    if let Some(since) = claim.since {
        let began = list.decide(&known, &person, &At { at: since, ..at });
        if let Some(by) = began.by.filter(|(_, rule)| rule.effect == Effect::Admit && rule.terms.stay) {
            return Ok(by);
        }
    }
    let decision = list.decide(&known, &person, &at);
    match decision.by {
        Some(by) if by.1.effect == Effect::Admit => Ok(by),
        refused => {
            let by = match refused {
                Some((_, rule)) => format!("the policy {} refuses", rule.name),
                None => "no policy admits it now".to_owned(),
            };
            let near = nearest_soon(list, &person, &at).words(list, now, now);
            Err(Refusal { reason: Reason::Policy, words: format!("{by}; {near}") })
        }
    }
}

#[cfg(test)]
mod tests {
    use super::super::Signed;
    use super::*;
    use crate::keys::PublicKey;
    use crate::order::{Admit, Content};
    use crate::sample;
    use crate::tunnel::{Addresses, Other, Tunnel};

    fn ask(content: &Content, shown: Shown<'_>, now: &str) -> Result<Admission, Refusal> {
        let revoked = content.revoked.clone();
        let claim = Claim { listener: "harbour/quill", shown, from: None, since: None, signed: Signed::default() };
        decide(&claim, &Roll::new(content.clone()), &revoked, now.parse().unwrap())
    }

    const NOW: &str = "2027-03-02T08:15:00Z";

    fn key(byte: u8) -> Shown<'static> {
        Shown::Key(PublicKey([byte; 32]))
    }

    #[test]
    fn each_refusal_has_its_reason_and_the_admitted_get_what_the_listener_gives() {
        let mut content = sample::content();
        let admitted = ask(&content, key(1), NOW).unwrap();
        assert_eq!((admitted.device.as_str(), admitted.address), ("mara/laptop", Some(Ipv4Addr::new(10, 187, 44, 2))));
        assert_eq!(admitted.settings(Ipv4Addr::new(10, 187, 44, 2), 7).inner.to_string(), "10.187.44.2/24");
        assert_eq!(ask(&content, key(9), NOW).unwrap_err().reason, Reason::Unknown);
        type Case = (Reason, &'static str, fn(&mut Admit));
        let cases: [Case; 3] = [
            (Reason::Suspended, "", |admit| admit.suspended = true),
            (Reason::NotYet, "from 2027-03-02T08:15:01Z", |admit| {
                admit.from = Some("2027-03-02T08:15:01Z".parse().unwrap())
            }),
            (Reason::Expired, "on 2027-03-02T08:15:00Z", |admit| admit.until = Some(NOW.parse().unwrap())),
        ];
        for (reason, words, change) in cases {
            let mut content = content.clone();
            change(&mut content.admit[0]);
            let refusal = ask(&content, key(1), NOW).unwrap_err();
            assert_eq!(refusal.reason, reason);
            assert!(refusal.words.starts_with(words), "{refusal:?}");
        }
        // Revoked comes before everything else, also for a key that no order names any more.
        content
            .revoked
            .insert(PublicKey([1; 32]).to_string(), Revoked { device: "mara/laptop".into(), reason: "lost".into() });
        content.admit[0].suspended = true;
        for content in [content.clone(), Content { admit: vec![], ..content }] {
            let refusal = ask(&content, key(1), NOW).unwrap_err();
            assert_eq!((refusal.reason, refusal.words.as_str()), (Reason::Revoked, "lost"));
        }
    }

    #[test]
    fn a_proof_is_taken_where_the_tunnel_takes_it_and_nowhere_else() {
        let mut content = sample::content();
        let certificate = Admit {
            proof: Proof::Certificate { key: PublicKey([7; 32]) },
            at: None,
            address: None,
            ..content.admit[0].clone()
        };
        content.admit.push(certificate);
        let shown = Shown::Certificate(PublicKey([7; 32]));
        assert_eq!(ask(&content, shown, NOW).unwrap_err().reason, Reason::Unknown, "quill takes none");
        content.listeners[0].tunnel = Tunnel::Other(Other {
            kind: "later".into(),
            proofs: vec![super::super::ProofKind::Certificate],
            addresses: Addresses::Leased,
            needs: vec![],
            settings: serde_json::Map::new(),
        });
        assert_eq!(ask(&content, shown, NOW).unwrap().address, None, "leased");
        assert_eq!(ask(&content, key(1), NOW).unwrap_err().reason, Reason::Unknown);
        // The bytes of a key are no certificate, and the other way round.
        assert_eq!(ask(&content, key(7), NOW).unwrap_err().reason, Reason::Unknown);
    }
}
