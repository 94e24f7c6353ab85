//! Who somebody is (RFC 7296 sections 1.2, 2.15, 2.16), and what they are given.

use std::net::{IpAddr, SocketAddr};
use std::sync::Arc;

use super::eap::{Next, Talk};
use super::gateway::{Gateway, IDLE, Timer};
use super::message::{
    Chain, Head, Identity, Notification, PROTOCOL_ESP, Payload, Selector, asked_attributes, attribute, body,
    emit_attributes, emit_proposals, emit_selectors, kind, notify, proposals, selectors,
};
use super::state::{
    Asked, Door, Event, Granted, Greeting, Held, Keeper, Phase, Reason, Refusal, Sa, Session, Settings, Shown,
};
use super::suite::{ChildKeys, Sought, Suite, choose};
use crate::Moment;
use crate::counters::Counters;
use crate::esp::cipher::same;
use crate::esp::pair::{Made, Pair};

/// How long somebody may take who has to type a password.
const TALK: u64 = 60_000;
/// The method of an AUTH payload by a key that both have (section 3.8).
pub(super) const SHARED_KEY: u8 = 2;
/// X.509 (section 3.6).
pub(super) const X509: u8 = 4;
/// Certificates of a device that are read.
pub(super) const MOST_CERTIFICATES: usize = 8;

/// Everything beside the question itself.
struct At<'a> {
    now: Moment,
    door: Door,
    from: SocketAddr,
    head: &'a Head,
    keeper: &'a dyn Keeper,
}

/// EAP that goes on.
struct Talking {
    greeting: Box<Greeting>,
    asked: Box<Asked>,
    talk: Box<dyn Talk>,
}

/// What a device has asked for; `None` where something is missing that must be there.
fn read(inner: &[Payload<'_>]) -> Option<(Asked, Option<Identity>)> {
    let said = |what: u16| {
        let notes = inner.iter().filter(|payload| payload.kind == kind::NOTIFY);
        notes.filter_map(|payload| Notification::read(payload.body).ok()).any(|note| note.what == what)
    };
    let asked = Asked {
        identity: Identity::read(body(inner, kind::IDI)?).ok()?,
        own: Identity::default(),
        proposals: body(inner, kind::SA)?.to_vec(),
        from: selectors(body(inner, kind::TSI)?).ok()?,
        to: selectors(body(inner, kind::TSR)?).ok()?,
        attributes: body(inner, kind::CP).and_then(|body| asked_attributes(body).ok()).unwrap_or_default(),
        mobike: said(notify::MOBIKE_SUPPORTED),
        proved: false,
    };
    let wanted = body(inner, kind::IDR).map(Identity::read).transpose().ok()?;
    Some((asked, wanted))
}

/// What a refusal is called on the wire.
fn word(reason: Reason) -> u16 {
    match reason {
        Reason::PoolFull => notify::INTERNAL_ADDRESS_FAILURE,
        Reason::Algorithms => notify::NO_PROPOSAL_CHOSEN,
        _ => notify::AUTHENTICATION_FAILED,
    }
}

impl Gateway {
    /// A message of the second exchange; whether its association stays.
    #[expect(clippy::too_many_arguments, reason = "what arrives, where, and for what")]
    pub(super) fn sign_in(
        &mut self,
        now: Moment,
        door: Door,
        from: SocketAddr,
        head: &Head,
        sa: &mut Sa,
        inner: &[Payload<'_>],
        keeper: &dyn Keeper,
    ) -> bool {
        let at = At { now, door, from, head, keeper };
        match std::mem::replace(&mut sa.phase, Phase::Over) {
            Phase::Greeted(greeting) => self.first(&at, sa, greeting, inner),
            Phase::Talking { greeting, asked, mut talk, .. } => {
                let bytes = body(inner, kind::EAP).unwrap_or_default();
                let next = talk.take(bytes);
                self.talks(&at, sa, Talking { greeting, asked, talk }, next, bytes)
            }
            Phase::Keyed { greeting, asked, key, granted } => {
                let shown = body(inner, kind::AUTH).unwrap_or_default();
                let octets = device_octets(sa, &greeting, &asked.identity);
                if shown.len() < 4 || shown[0] != SHARED_KEY || !same(&shown[4..], &proof(sa, &key[..], &octets)) {
                    let words = "the key of its sign-in does not fit: somebody stands between";
                    return self.refuse(&at, sa, Some(granted.credential), Reason::Proof, words);
                }
                let octets = gateway_octets(sa, &greeting, &asked.own);
                let own = [&[SHARED_KEY, 0, 0, 0][..], &proof(sa, &key[..], &octets)].concat();
                self.come_in(&at, sa, &greeting, &asked, *granted, |chain| chain.add(kind::AUTH, &own))
            }
            before @ (Phase::Calling(_) | Phase::Up(_) | Phase::Over) => {
                sa.phase = before;
                true
            }
        }
    }

    /// Somebody stays out, and is told as little as the protocol allows; whoever looks after the gateway is told what it was.
    fn refuse(&mut self, at: &At<'_>, sa: &mut Sa, credential: Option<[u8; 32]>, reason: Reason, words: &str) -> bool {
        let mut chain = Chain::default();
        chain.notify(word(reason), &[]);
        self.refuse_with(at, sa, Refusal { credential, reason, words: words.into() }, &chain)
    }

    fn refuse_with(&mut self, at: &At<'_>, sa: &mut Sa, refusal: Refusal, chain: &Chain) -> bool {
        self.respond(at.door, at.from, at.head, sa, chain);
        self.events.push(Event::Refused { from: at.from, refusal });
        self.ungreet(sa.own);
        self.over(at.now, sa);
        true
    }

    fn first(&mut self, at: &At<'_>, sa: &mut Sa, greeting: Box<Greeting>, inner: &[Payload<'_>]) -> bool {
        let Some((mut asked, wanted)) = read(inner) else {
            let mut chain = Chain::default();
            chain.notify(notify::INVALID_SYNTAX, &[]);
            let words = "what it said of itself cannot be read".into();
            return self.refuse_with(at, sa, Refusal { credential: None, reason: Reason::Other, words }, &chain);
        };
        asked.own = match at.keeper.identity(wanted.as_ref()) {
            Ok(own) => own,
            Err(refusal) => return self.refuse(at, sa, refusal.credential, refusal.reason, &refusal.words),
        };
        let shows = body(inner, kind::AUTH);
        let octets = gateway_octets(sa, &greeting, &asked.own);
        let Some(own_proof) = at.keeper.prove(&octets, &greeting.hashes) else {
            let words = "this gateway has no certificate with a key that the device takes";
            return self.refuse(at, sa, None, Reason::Algorithms, words);
        };
        let certificates = at.keeper.certificates();
        let own = asked.own.emit();
        let say = |chain: &mut Chain| {
            chain.add(kind::IDR, &own);
            certificates.iter().for_each(|one| chain.add(kind::CERT, &[&[X509], &one[..]].concat()));
            chain.add(kind::AUTH, &own_proof);
        };
        let Some(shown) = shows else {
            // Without a proof it wants EAP (section 2.16).
            let Some((talk, first)) = at.keeper.talk(sa.own, &mut *self.random) else {
                let words = "it has no certificate, and this listener takes no accounts";
                return self.refuse(at, sa, None, Reason::Unknown, words);
            };
            let mut chain = Chain::default();
            say(&mut chain);
            chain.add(kind::EAP, &first);
            self.respond(at.door, at.from, at.head, sa, &chain);
            asked.proved = true;
            self.timers.set(Timer::Forget(sa.own), at.now.after(TALK));
            sa.phase = Phase::Talking { greeting, asked: Box::new(asked), talk, waits: None };
            return true;
        };
        let shown_certificates = certificates_in(inner);
        let octets = device_octets(sa, &greeting, &asked.identity);
        let device =
            Shown { identity: &asked.identity, certificates: &shown_certificates, proof: shown, octets: &octets };
        match at.keeper.certificate(&device, at.from) {
            Ok(granted) => self.come_in(at, sa, &greeting, &asked, granted, say),
            Err(refusal) => self.refuse(at, sa, refusal.credential, refusal.reason, &refusal.words),
        }
    }

    /// Somebody else has come to an answer in an association whose [`Talk`] said [`Next::Later`]. Where nobody waits for it any more, it is
    /// nothing.
    pub fn said(&mut self, now: Moment, association: u64, next: Next, keeper: &dyn Keeper) {
        let Some(mut sa) = self.sas.remove(&association) else { return };
        match std::mem::replace(&mut sa.phase, Phase::Over) {
            Phase::Talking { greeting, asked, talk, waits: Some((door, from, head)) } => {
                let at = At { now, door, from, head: &head, keeper };
                self.talks(&at, &mut sa, Talking { greeting, asked, talk }, next, &[]);
            }
            before => sa.phase = before,
        }
        self.sas.insert(association, sa);
    }

    /// What comes next in EAP; `bytes`: what the device said.
    fn talks(&mut self, at: &At<'_>, sa: &mut Sa, talking: Talking, next: Next, bytes: &[u8]) -> bool {
        let Talking { greeting, asked, mut talk } = talking;
        let mut chain = Chain::default();
        match next {
            Next::Later => {
                // Its question stands; asked again, it waits like the first time.
                sa.answered.clear();
                let waits = Some((at.door, at.from, *at.head));
                sa.phase = Phase::Talking { greeting, asked, talk, waits };
                return true;
            }
            Next::Nothing => {
                // It is asked nothing new; its patience ends with this conversation's.
                self.respond(at.door, at.from, at.head, sa, &chain);
                sa.phase = Phase::Talking { greeting, asked, talk, waits: None };
                return true;
            }
            Next::Say(said) => chain.add(kind::EAP, &said),
            Next::Named(name) => {
                let form = at.keeper.account(&name, at.from);
                let (right, said) = talk.check(bytes, &name, form.as_ref().ok(), &mut *self.random);
                if let Err(refusal) = form {
                    self.events.push(Event::Refused { from: at.from, refusal });
                } else if !right && let Err(refusal) = at.keeper.signed_in(&name, false, at.from) {
                    self.events.push(Event::Refused { from: at.from, refusal });
                }
                chain.add(kind::EAP, &said);
            }
            Next::Out { name, told } => {
                chain.add(kind::EAP, &told);
                self.respond(at.door, at.from, at.head, sa, &chain);
                if name.is_empty() {
                    let words =
                        "it does not sign in by MS-CHAPv2, which is what this gateway offers for accounts".into();
                    let refusal = Refusal { credential: None, reason: Reason::Proof, words };
                    self.events.push(Event::Refused { from: at.from, refusal });
                }
                self.ungreet(sa.own);
                self.over(at.now, sa);
                return true;
            }
            Next::In { name, told, key } => match at.keeper.signed_in(&name, true, at.from) {
                Ok(granted) => {
                    chain.add(kind::EAP, &told);
                    self.respond(at.door, at.from, at.head, sa, &chain);
                    sa.phase = Phase::Keyed { greeting, asked, key, granted: Box::new(granted) };
                    return true;
                }
                Err(refusal) => return self.refuse(at, sa, refusal.credential, refusal.reason, &refusal.words),
            },
        }
        self.respond(at.door, at.from, at.head, sa, &chain);
        sa.phase = Phase::Talking { greeting, asked, talk, waits: None };
        true
    }

    /// Somebody is in, if there is something that both can do: their first pair, their addresses.
    fn come_in(
        &mut self,
        at: &At<'_>,
        sa: &mut Sa,
        greeting: &Greeting,
        asked: &Asked,
        granted: Granted,
        say: impl FnOnce(&mut Chain),
    ) -> bool {
        let credential = Some(granted.credential);
        let no = |reason: Reason, what: u16, words: String| {
            let mut chain = Chain::default();
            chain.notify(what, &[]);
            (Refusal { credential, reason, words }, chain)
        };
        let offered = proposals(&asked.proposals).map_err(|unread| unread.to_string());
        let chosen = match offered.and_then(|offered| choose(&offered, &Sought::esp(None))) {
            Ok(chosen) => chosen,
            Err(words) => {
                let (refusal, chain) =
                    no(Reason::Algorithms, notify::NO_PROPOSAL_CHOSEN, format!("for its packets, {words}"));
                return self.refuse_with(at, sa, refusal, &chain);
            }
        };
        if !asked.attributes.contains(&attribute::IPV4_ADDRESS) && !asked.attributes.contains(&attribute::IPV6_ADDRESS)
        {
            let words = "it does not ask for an inner address: it is set up as a link between networks".into();
            let (refusal, chain) = no(Reason::Other, notify::FAILED_CP_REQUIRED, words);
            return self.refuse_with(at, sa, refusal, &chain);
        }
        let settings = &granted.settings;
        let (own, reach) =
            (narrowed(&asked.from, &own_selectors(settings, asked)), narrowed(&asked.to, &reach(settings)));
        if own.is_empty() || reach.is_empty() {
            let words = "what it wants to send and where has nothing in common with what it may".into();
            let (refusal, chain) = no(Reason::Other, notify::TS_UNACCEPTABLE, words);
            return self.refuse_with(at, sa, refusal, &chain);
        }
        let number = (self.number)();
        let counters: Arc<Counters> = Arc::default();
        counters.heard.store(at.now.0, std::sync::atomic::Ordering::Relaxed);
        let theirs = spi_of(&chosen.spi);
        let nonces = (&greeting.nonces.0[..], &greeting.nonces.1[..]);
        let keys = ChildKeys::new(&chosen.suite.protection, sa.suite.prf, &sa.keys.d, &[], nonces);
        let spi = self.random_pair_spi();
        let path = sa.path.clone();
        path.set(at.from);
        let Some(pair) = self.pair(&chosen.suite, &keys, (spi, theirs), false, number, counters.clone(), &path) else {
            return false;
        };
        let mut chain = Chain::default();
        say(&mut chain);
        chain.add(kind::CP, &emit_attributes(&attributes(settings, &asked.attributes)));
        chain.add(kind::SA, &emit_proposals(&[chosen.proposal(PROTOCOL_ESP, &spi.to_be_bytes())]));
        chain.add(kind::TSI, &emit_selectors(&own));
        chain.add(kind::TSR, &emit_selectors(&reach));
        if asked.mobike {
            chain.notify(notify::MOBIKE_SUPPORTED, &[]);
        }
        if let Some(seconds) = settings.lifetime {
            chain.notify(notify::AUTH_LIFETIME, &seconds.to_be_bytes());
        }
        self.respond(at.door, at.from, at.head, sa, &chain);
        // One session for each credential: who comes again has left, whether they said so or not.
        if let Some(before) = self.by_credential.get(&granted.credential).copied() {
            self.end(at.now, before, Reason::Replaced, "it has signed in again");
        }
        self.by_credential.insert(granted.credential, number);
        let session = Session {
            granted,
            sa: sa.own,
            pairs: vec![Held { pair: pair.clone(), suite: chosen.suite, from: own, to: reach, replaced: false }],
            path,
            counters,
            mobike: asked.mobike,
            serving: spi,
            called: false,
        };
        self.ungreet(sa.own);
        self.begin(at.now, sa, number, session, pair, &greeting.software);
        true
    }

    /// A session begins, in its association and with its first pair.
    pub(super) fn begin(
        &mut self,
        now: Moment,
        sa: &mut Sa,
        number: u64,
        session: Session,
        pair: Arc<Pair>,
        software: &str,
    ) {
        let (granted, from) = (session.granted.clone(), session.path.get());
        self.by_pair.insert(pair.own, number);
        self.sessions.insert(number, session);
        sa.phase = Phase::Up(number);
        self.timers.clear(Timer::Forget(sa.own));
        self.timers.set(Timer::Idle(sa.own), now.after(IDLE));
        self.timers.set(Timer::RenewSelf(sa.own), now.after(self.config.renew_self));
        self.timers.set(Timer::RenewPair(number, pair.own), now.after(self.config.renew_pair));
        self.events.push(Event::Known(sa.own));
        self.events.push(Event::PairAdded(pair.clone()));
        self.events.push(Event::Opened { session: number, granted, from, software: software.into(), pair });
    }

    /// A pair under keys; `made_here`: this end began the exchange.
    #[expect(clippy::too_many_arguments, reason = "what a pair is made of, each once")]
    pub(super) fn pair(
        &mut self,
        suite: &Suite,
        keys: &ChildKeys,
        (own, other): (u32, u32),
        made_here: bool,
        session: u64,
        counters: Arc<Counters>,
        path: &Arc<crate::esp::pair::Path>,
    ) -> Option<Arc<Pair>> {
        let (from, to) = (&keys.from_initiator, &keys.to_initiator);
        let (out, inward) = if made_here { (from, to) } else { (to, from) };
        let mut vector_key = [0; 16];
        self.random.fill(&mut vector_key);
        Pair::new(Made {
            own,
            other,
            session,
            counters,
            path: path.clone(),
            protection: suite.protection,
            extended: suite.extended,
            out_keys: (&out.0, &out.1),
            in_keys: (&inward.0, &inward.1),
            vector_key,
        })
    }
}

/// The certificates of a message, the other end's own first (section 3.6).
pub(super) fn certificates_in(inner: &[Payload<'_>]) -> Vec<Vec<u8>> {
    let all = inner.iter().filter(|payload| payload.kind == kind::CERT && payload.body.first() == Some(&X509));
    all.take(MOST_CERTIFICATES).map(|payload| payload.body[1..].to_vec()).collect()
}

pub(super) fn spi_of(bytes: &[u8]) -> u32 {
    bytes.try_into().map_or(0, u32::from_be_bytes)
}

/// What the device's proof covers (section 2.15).
pub(super) fn device_octets(sa: &Sa, greeting: &Greeting, identity: &Identity) -> Vec<u8> {
    let mac = sa.suite.prf.of(&sa.keys.initiator_proof, &[&identity.emit()]);
    [&greeting.request[..], &greeting.nonces.1, &mac].concat()
}

pub(super) fn gateway_octets(sa: &Sa, greeting: &Greeting, identity: &Identity) -> Vec<u8> {
    let mac = sa.suite.prf.of(&sa.keys.responder_proof, &[&identity.emit()]);
    [&greeting.response[..], &greeting.nonces.0, &mac].concat()
}

/// A proof by a key that both have (section 2.15).
pub(super) fn proof(sa: &Sa, key: &[u8], octets: &[u8]) -> zeroize::Zeroizing<Vec<u8>> {
    let key = sa.suite.prf.of(key, &[b"Key Pad for IKEv2"]);
    sa.suite.prf.of(&key, &[octets])
}

/// The device's own addresses of the kinds that it asks for.
fn own_selectors(settings: &Settings, asked: &Asked) -> Vec<Selector> {
    let four = asked.attributes.contains(&attribute::IPV4_ADDRESS);
    let six = asked.attributes.contains(&attribute::IPV6_ADDRESS);
    let wanted = |address: &ipnet::IpNet| if address.addr().is_ipv4() { four } else { six };
    settings.inners().into_iter().filter(wanted).map(Selector::of).collect()
}

fn reach(settings: &Settings) -> Vec<Selector> {
    settings.reach.iter().copied().map(Selector::of).collect()
}

/// What is in both (section 2.9), each range once.
pub(super) fn narrowed(asked: &[Selector], may: &[Selector]) -> Vec<Selector> {
    let mut found: Vec<Selector> = Vec::new();
    for one in may.iter().flat_map(|may| asked.iter().filter_map(move |asked| asked.common(may))) {
        let within = |other: &Selector| other.common(&one) == Some(one);
        if !found.iter().any(within) {
            found.push(one);
        }
    }
    found.truncate(usize::from(u8::MAX));
    found
}

/// The configuration that a device asked for, as far as there is something.
fn attributes(settings: &Settings, asked: &[u16]) -> Vec<(u16, Vec<u8>)> {
    let wants = |kind: u16| asked.contains(&kind);
    let mut given = Vec::new();
    if wants(attribute::IPV4_ADDRESS) {
        given.push((attribute::IPV4_ADDRESS, settings.inner.octets().to_vec()));
        if wants(attribute::IPV4_NETMASK) {
            given.push((attribute::IPV4_NETMASK, vec![255; 4]));
        }
    }
    if let Some(six) = settings.inner6.filter(|_| wants(attribute::IPV6_ADDRESS)) {
        given.push((attribute::IPV6_ADDRESS, [&six.octets()[..], &[128]].concat()));
    }
    for resolver in &settings.resolvers {
        match resolver {
            IpAddr::V4(four) if wants(attribute::IPV4_DNS) => given.push((attribute::IPV4_DNS, four.octets().to_vec())),
            IpAddr::V6(six) if wants(attribute::IPV6_DNS) => given.push((attribute::IPV6_DNS, six.octets().to_vec())),
            _ => {}
        }
    }
    if wants(attribute::DNS_DOMAIN) {
        given.extend(settings.domains.iter().map(|domain| (attribute::DNS_DOMAIN, domain.clone().into_bytes())));
    }
    given
}
