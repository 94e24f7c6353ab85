//! An end that calls (RFC 7296 sections 1.2, 2.16, 2.19): its opening, what it shows, whom it believes, what it is given. Once it is in,
//! everything else is as at the other end.

use std::collections::VecDeque;
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr, SocketAddr};
use std::sync::Arc;

use ipnet::IpNet;

use super::eap::{Form, Told};
use super::exchange::{Exchange, Group};
use super::gateway::{FIRST_WAIT, Gateway, PATIENCE, TRIES, Timer};
use super::message::{
    Chain, HEAD, Head, Identity, Notification, PROTOCOL_ESP, PROTOCOL_IKE, Payload, Proposal, Selector, ask_attributes,
    attribute, body, emit_key_exchange, emit_proposals, emit_selectors, exchange, given_attributes, key_exchange, kind,
    notify, payloads, proposals, selectors,
};
use super::sealed::{Parts, Sealed};
use super::sign_in::{SHARED_KEY, X509, certificates_in, device_octets, gateway_octets, narrowed, proof, spi_of};
use super::state::{
    Call, Calling, Door, Event, Granted, Greeting, Held, Keeper, Opening, Phase, Question, Reason, Refusal, Sa,
    Session, Settings, Shown,
};
use super::suite::{ChildKeys, Keys, Sought, Suite, choose};
use crate::Moment;
use crate::counters::Counters;
use crate::esp::cipher::same;
use crate::esp::pair::Path;

/// How often an opening is made anew because the other end asked for something else in it.
const TURNS: u8 = 4;
/// Hashes that signatures may be over (RFC 7427 section 4, RFC 8420): SHA2-256, -384, -512, and none.
const HASHES: [u16; 4] = [2, 3, 4, 5];

/// Decides nothing: for an end that only calls.
pub struct Nobody;

impl Nobody {
    fn refuses<T>() -> Result<T, Refusal> {
        Err(Refusal { credential: None, reason: Reason::Unknown, words: "nobody comes in here".into() })
    }
}

impl Keeper for Nobody {
    fn certificates(&self) -> Vec<Vec<u8>> {
        Vec::new()
    }

    fn identity(&self, _: Option<&Identity>) -> Result<Identity, Refusal> {
        Self::refuses()
    }

    fn prove(&self, _: &[u8], _: &[u16]) -> Option<Vec<u8>> {
        None
    }

    fn authorities(&self) -> Vec<u8> {
        Vec::new()
    }

    fn takes_accounts(&self) -> bool {
        false
    }

    fn certificate(&self, _: &Shown<'_>, _: SocketAddr) -> Result<Granted, Refusal> {
        Self::refuses()
    }

    fn account(&self, _: &str, _: SocketAddr) -> Result<Form, Refusal> {
        Self::refuses()
    }

    fn signed_in(&self, _: &str, _: bool, _: SocketAddr) -> Result<Granted, Refusal> {
        Self::refuses()
    }
}

/// What came of an answer.
enum Next {
    Ask(Chain),
    Up(Box<Given>),
}

/// What a call was given.
struct Given {
    suite: Suite,
    /// The SPI under which the other end receives.
    other: u32,
    settings: Settings,
    own: Vec<Selector>,
    reach: Vec<Selector>,
}

type Why = (Reason, String);

fn why<T>(reason: Reason, words: impl Into<String>) -> Result<T, Why> {
    Err((reason, words.into()))
}

/// What an error is for whoever calls.
fn refusal(what: u16) -> Why {
    let (reason, words) = match what {
        notify::NO_PROPOSAL_CHOSEN => (Reason::Algorithms, "the two ends have no algorithms in common"),
        notify::AUTHENTICATION_FAILED => (Reason::Proof, "the other end does not let it in"),
        notify::INTERNAL_ADDRESS_FAILURE => (Reason::PoolFull, "the other end has no address left"),
        notify::TS_UNACCEPTABLE => (Reason::Other, "the other end carries nothing of what is wanted"),
        _ => return (Reason::Other, format!("the other end refuses with notification {what}")),
    };
    (reason, words.into())
}

/// The first error that a message says.
fn error_in(inner: &[Payload<'_>]) -> Option<u16> {
    let notes = inner.iter().filter(|payload| payload.kind == kind::NOTIFY);
    notes
        .filter_map(|payload| Notification::read(payload.body).ok())
        .map(|note| note.what)
        .find(|what| *what < notify::FIRST_STATUS)
}

fn offer(suites: &[Suite], protocol: u8, spi: &[u8]) -> Vec<u8> {
    let one = |(number, suite): (u8, &Suite)| Proposal {
        number,
        protocol,
        spi: spi.to_vec(),
        transforms: suite.transforms(protocol),
    };
    emit_proposals(&(1..).zip(suites).map(one).collect::<Vec<_>>())
}

impl Gateway {
    /// Calls; gives the number of the call, which is named when it comes to nothing. `None` where nothing is offered.
    pub fn call(&mut self, now: Moment, call: Call) -> Option<u64> {
        let own = self.random_spi();
        let exchange = Exchange::new(call.suites.first()?.group?, &mut *self.random)?;
        let nonce = self.nonce();
        self.open(now, own, Opening { call, exchange, nonce, message: Vec::new(), turns: 0, tries: 0 }, None);
        Some(own)
    }

    fn open(&mut self, now: Moment, own: u64, mut opening: Opening, cookie: Option<&[u8]>) {
        let mut chain = Chain::default();
        if let Some(cookie) = cookie {
            chain.notify(notify::COOKIE, cookie);
        }
        chain.add(kind::SA, &offer(&opening.call.suites, PROTOCOL_IKE, &[]));
        chain.add(kind::KE, &emit_key_exchange(opening.exchange.group().number(), opening.exchange.public()));
        chain.add(kind::NONCE, &opening.nonce);
        self.say_addresses(&mut chain, (own, 0), opening.call.first);
        if opening.call.in_parts {
            chain.notify(notify::FRAGMENTATION_SUPPORTED, &[]);
        }
        let hashes: Vec<u8> = HASHES.iter().flat_map(|hash| hash.to_be_bytes()).collect();
        chain.notify(notify::SIGNATURE_HASH_ALGORITHMS, &hashes);
        let (first, body) = chain.parts();
        let head = Head {
            initiator_spi: own,
            responder_spi: 0,
            first,
            exchange: exchange::INIT,
            from_initiator: true,
            response: false,
            number: 0,
        };
        opening.message = [&head.emit(HEAD + body.len())[..], body].concat();
        opening.turns += 1;
        opening.tries = 1;
        self.send(Door::First, opening.call.first, vec![opening.message.clone()]);
        self.openings.insert(own, opening);
        self.timers.set(Timer::Call(own), now.after(FIRST_WAIT));
    }

    /// An opening was not answered yet.
    pub(super) fn open_again(&mut self, now: Moment, own: u64) {
        let Some(opening) = self.openings.get_mut(&own) else { return };
        if opening.tries >= TRIES {
            self.openings.remove(&own);
            return self.call_failed(own, Reason::Silent, "the other end does not answer");
        }
        let wait = FIRST_WAIT << opening.tries;
        opening.tries += 1;
        let (to, message) = (opening.call.first, opening.message.clone());
        self.send(Door::First, to, vec![message]);
        self.timers.set(Timer::Call(own), now.after(wait));
    }

    pub(super) fn call_failed(&mut self, call: u64, reason: Reason, words: &str) {
        self.timers.clear(Timer::Call(call));
        self.events.push(Event::Failed { call, reason, words: words.into() });
    }

    /// An answer to an opening of this end. It is not protected: one that cannot be of the other end is passed over, and the right one may
    /// still come.
    pub(super) fn greeted_back(&mut self, now: Moment, from: SocketAddr, head: &Head, datagram: &[u8]) {
        let own = head.initiator_spi;
        if self.openings.get(&own).is_none_or(|opening| opening.call.first != from) {
            return;
        }
        let Ok(inner) = payloads(head.first, &datagram[HEAD..]) else { return };
        let Some(mut opening) = self.openings.remove(&own) else { return };
        let notes = inner.iter().filter(|payload| payload.kind == kind::NOTIFY);
        let notes: Vec<_> = notes.filter_map(|payload| Notification::read(payload.body).ok()).collect();
        let said = |what: u16| notes.iter().find(|note| note.what == what).map(|note| note.data);
        if opening.turns < TURNS {
            if let Some(cookie) = said(notify::COOKIE).filter(|cookie| !cookie.is_empty() && cookie.len() <= 64) {
                return self.open(now, own, opening, Some(cookie));
            }
            let wanted = said(notify::INVALID_KE_PAYLOAD).and_then(|data| data.try_into().ok());
            if let Some(wanted) = wanted.map(u16::from_be_bytes) {
                let offered = opening.call.suites.iter().filter_map(|suite| suite.group);
                let group = offered.into_iter().find(|group| group.number() == wanted);
                if let Some(exchange) = group.and_then(|group| Exchange::new(group, &mut *self.random)) {
                    opening.exchange = exchange;
                    return self.open(now, own, opening, None);
                }
            }
        }
        if let Some(what) = error_in(&inner) {
            let (reason, words) = refusal(what);
            return self.call_failed(own, reason, &words);
        }
        let Some(mut sa) = Self::greeted_by(own, &opening, head, datagram, &inner) else {
            // Nothing that could be used: the opening stands.
            self.openings.insert(own, opening);
            return;
        };
        self.timers.clear(Timer::Call(own));
        let greeting = Greeting {
            request: opening.message,
            response: datagram.to_vec(),
            nonces: (opening.nonce, body(&inner, kind::NONCE).unwrap_or_default().to_vec()),
            hashes: said(notify::SIGNATURE_HASH_ALGORITHMS)
                .map(|data| data.chunks_exact(2).map(|two| u16::from_be_bytes([two[0], two[1]])).collect())
                .unwrap_or_default(),
            software: String::new(),
        };
        sa.in_parts = opening.call.in_parts && said(notify::FRAGMENTATION_SUPPORTED).is_some();
        let spi = self.random_pair_spi();
        let talk = opening.call.who.account();
        let calling = Calling { call: opening.call, greeting: Box::new(greeting), spi, other: None, talk, key: None };
        let Some(chain) = calling.shows(&sa) else {
            return self.call_failed(own, Reason::Algorithms, "it has no key that the other end takes");
        };
        sa.phase = Phase::Calling(Box::new(calling));
        self.ask(now, &mut sa, exchange::AUTH, Question::SignIn, &chain);
        self.sas.insert(own, sa);
        self.timers.set(Timer::Forget(own), now.after(2 * PATIENCE));
    }

    /// The association that an answer makes; `None` where it is none that this end could have asked for.
    fn greeted_by(own: u64, opening: &Opening, head: &Head, datagram: &[u8], inner: &[Payload<'_>]) -> Option<Sa> {
        debug_assert!(datagram.len() >= HEAD);
        let offered = proposals(body(inner, kind::SA)?).ok()?;
        let (group, key) = key_exchange(body(inner, kind::KE)?).ok()?;
        let chosen = choose(&offered, &Sought::ike(Some(group), 0)).ok()?;
        let nonce = body(inner, kind::NONCE).filter(|nonce| (16..=256).contains(&nonce.len()))?;
        if offered.len() != 1 || !opening.call.suites.contains(&chosen.suite) || head.responder_spi == 0 {
            return None;
        }
        let shared = opening.exchange.agree(key).filter(|_| Group::of(group) == Some(opening.exchange.group()))?;
        let keys = Keys::first(&chosen.suite, &shared, (&opening.nonce, nonce), (own, head.responder_spi));
        Some(Sa {
            own,
            other: head.responder_spi,
            made_here: true,
            suite: chosen.suite,
            sealed: Sealed::new(&chosen.suite, &keys, true)?,
            keys,
            phase: Phase::Over,
            in_parts: false,
            parts: Parts::default(),
            expected: 0,
            answered: Vec::new(),
            next: 1,
            pending: None,
            todo: VecDeque::new(),
            path: Path::new(opening.call.second),
            crossing: None,
            calm_until: Moment(0),
        })
    }

    /// The other end has answered what this end showed.
    pub(super) fn let_in(&mut self, now: Moment, sa: &mut Sa, inner: &[Payload<'_>]) {
        let Phase::Calling(mut calling) = std::mem::replace(&mut sa.phase, Phase::Over) else { return };
        match calling.answered(sa, inner, &mut *self.random) {
            Ok(Next::Ask(chain)) => {
                sa.phase = Phase::Calling(calling);
                self.ask(now, sa, exchange::AUTH, Question::SignIn, &chain);
            }
            Ok(Next::Up(given)) => self.is_in(now, sa, &calling, *given),
            Err((reason, words)) => {
                self.call_failed(sa.own, reason, &words);
                self.over(now, sa);
            }
        }
    }

    fn is_in(&mut self, now: Moment, sa: &mut Sa, calling: &Calling, given: Given) {
        let Given { suite, other, settings, own, reach } = given;
        let number = (self.number)();
        let counters: Arc<Counters> = Arc::default();
        counters.heard.store(now.0, std::sync::atomic::Ordering::Relaxed);
        let nonces = (&calling.greeting.nonces.0[..], &calling.greeting.nonces.1[..]);
        let keys = ChildKeys::new(&suite.protection, sa.suite.prf, &sa.keys.d, &[], nonces);
        let path = sa.path.clone();
        let spis = (calling.spi, other);
        let Some(pair) = self.pair(&suite, &keys, spis, true, number, counters.clone(), &path) else {
            return self.call_failed(sa.own, Reason::Algorithms, "the keys do not fit");
        };
        let session = Session {
            granted: Granted { credential: [0; 32], settings },
            sa: sa.own,
            // What the other end speaks for comes first, what this one does second.
            pairs: vec![Held { pair: pair.clone(), suite, from: reach, to: own, replaced: false }],
            path,
            counters,
            mobike: calling.call.mobike,
            serving: calling.spi,
            called: true,
        };
        self.begin(now, sa, number, session, pair, "ikev2");
    }

    /// Asks now for new keys of a session's newest pair.
    pub fn renew_pair_of(&mut self, now: Moment, session: u64) {
        let newest = self.sessions.get(&session).and_then(|session| session.pairs.last()).map(|held| held.pair.own);
        if let Some(newest) = newest {
            self.worn(now, newest);
        }
    }

    /// Asks now for new keys of a session's association.
    pub fn renew_association_of(&mut self, now: Moment, session: u64) {
        if let Some(own) = self.sessions.get(&session).map(|session| session.sa) {
            self.renew_association(now, own);
        }
    }
}

impl Calling {
    /// The first message under keys; `None` where it has nothing to show that the other end takes.
    fn shows(&self, sa: &Sa) -> Option<Chain> {
        let who = &self.call.who;
        let identity = who.identity();
        let mut chain = Chain::default();
        chain.add(kind::IDI, &identity.emit());
        if self.talk.is_none() {
            for one in who.certificates() {
                chain.add(kind::CERT, &[&[X509], &one[..]].concat());
            }
        }
        chain.notify(notify::INITIAL_CONTACT, &[]);
        if let Some(dialled) = who.dialled() {
            chain.add(kind::IDR, &dialled.emit());
        }
        if self.talk.is_none() {
            chain.add(kind::AUTH, &who.prove(&device_octets(sa, &self.greeting, &identity), &self.greeting.hashes)?);
        }
        chain.add(kind::CP, &ask_attributes(&self.call.attributes));
        chain.add(kind::SA, &offer(&self.call.pair_suites, PROTOCOL_ESP, &self.spi.to_be_bytes()));
        chain.add(kind::TSI, &emit_selectors(&everything()));
        chain.add(kind::TSR, &emit_selectors(&self.call.reach));
        if self.call.mobike {
            chain.notify(notify::MOBIKE_SUPPORTED, &[]);
        }
        Some(chain)
    }

    fn answered(&mut self, sa: &Sa, inner: &[Payload<'_>], random: &mut dyn crate::Random) -> Result<Next, Why> {
        if self.other.is_none() {
            if let (None, Some(what)) = (body(inner, kind::IDR), error_in(inner)) {
                return Err(refusal(what));
            }
            let said = body(inner, kind::IDR).and_then(|body| Identity::read(body).ok());
            let Some(other) = said else { return why(Reason::Proof, "the other end does not say who it is") };
            let octets = gateway_octets(sa, &self.greeting, &other);
            let shown = Shown {
                identity: &other,
                certificates: &certificates_in(inner),
                proof: body(inner, kind::AUTH).unwrap_or_default(),
                octets: &octets,
            };
            self.call.who.believes(&shown).or_else(|words| why(Reason::Untrusted, words))?;
            self.other = Some(other);
        }
        if let Some(key) = &self.key {
            let own = self.other.clone().unwrap_or_default();
            let shown = body(inner, kind::AUTH).unwrap_or_default();
            let octets = gateway_octets(sa, &self.greeting, &own);
            if shown.len() < 4 || shown[0] != SHARED_KEY || !same(&shown[4..], &proof(sa, &key[..], &octets)) {
                return Err(
                    error_in(inner).map_or((Reason::Proof, "the other end does not have the key".into()), refusal)
                );
            }
            return self.given(inner);
        }
        let Some(talk) = &mut self.talk else { return self.given(inner) };
        if let Some(what) = error_in(inner) {
            return Err(refusal(what));
        }
        let mut chain = Chain::default();
        match talk.take(body(inner, kind::EAP).unwrap_or_default(), random) {
            Told::Say(said) => chain.add(kind::EAP, &said),
            Told::Out(words) => return why(Reason::Password, words),
            Told::In(key) => {
                let octets = device_octets(sa, &self.greeting, &self.call.who.identity());
                chain.add(kind::AUTH, &[&[SHARED_KEY, 0, 0, 0][..], &proof(sa, &key[..], &octets)].concat());
                self.key = Some(key);
            }
        }
        Ok(Next::Ask(chain))
    }

    /// What it was given: the last answer.
    fn given(&self, inner: &[Payload<'_>]) -> Result<Next, Why> {
        if let Some(what) = error_in(inner) {
            return Err(refusal(what));
        }
        let read = || {
            let offered = proposals(body(inner, kind::SA)?).ok()?;
            let chosen = choose(&offered, &Sought::esp(None)).ok()?;
            let ranges = |which: u8| body(inner, which).and_then(|body| selectors(body).ok());
            Some((chosen, ranges(kind::TSI)?, ranges(kind::TSR)?))
        };
        let unread = || (Reason::Other, "what the other end gives cannot be read".to_owned());
        let (chosen, own, reach) = read().ok_or_else(unread)?;
        let plain = |suite: &Suite| (suite.protection, suite.extended);
        if !self.call.pair_suites.iter().any(|suite| plain(suite) == plain(&chosen.suite)) {
            return why(Reason::Algorithms, "the other end chose what was not offered");
        }
        let attributes = body(inner, kind::CP).and_then(|body| given_attributes(body).ok()).unwrap_or_default();
        let settings = settings(&attributes, &reach).ok_or_else(unread)?;
        let own = narrowed(&own, &settings.inners().into_iter().map(Selector::of).collect::<Vec<_>>());
        let reach = narrowed(&reach, &self.call.reach);
        Ok(Next::Up(Box::new(Given { suite: chosen.suite, other: spi_of(&chosen.spi), settings, own, reach })))
    }
}

/// Everything of both kinds of address.
#[must_use]
pub fn everything() -> Vec<Selector> {
    let all = [IpNet::from(IpAddr::from(Ipv4Addr::UNSPECIFIED)), IpNet::from(IpAddr::from(Ipv6Addr::UNSPECIFIED))];
    all.iter().filter_map(|one| IpNet::new(one.addr(), 0).ok()).map(Selector::of).collect()
}

/// A configuration reply as settings; `None` without an inner address.
fn settings(attributes: &[(u16, &[u8])], reach: &[Selector]) -> Option<Settings> {
    let (mut inner, mut inner6, mut resolvers, mut domains) = (None, None, Vec::new(), Vec::new());
    for (kind, value) in attributes {
        let four = || <[u8; 4]>::try_from(*value).ok().map(Ipv4Addr::from);
        let six = |length: usize| {
            let bytes: Option<[u8; 16]> = value.get(..16).and_then(|bytes| bytes.try_into().ok());
            bytes.filter(|_| value.len() == length).map(Ipv6Addr::from)
        };
        match *kind {
            attribute::IPV4_ADDRESS => inner = inner.or_else(four),
            attribute::IPV6_ADDRESS => inner6 = inner6.or_else(|| six(17)),
            attribute::IPV4_DNS => resolvers.extend(four().map(IpAddr::from)),
            attribute::IPV6_DNS => resolvers.extend(six(16).map(IpAddr::from)),
            attribute::DNS_DOMAIN => domains.extend(std::str::from_utf8(value).map(str::to_owned)),
            _ => {}
        }
    }
    let mut ranges = Vec::new();
    for one in reach {
        match (one.first, one.last) {
            (IpAddr::V4(first), IpAddr::V4(last)) => {
                ranges.extend(ipnet::Ipv4Subnets::new(first, last, 0).map(IpNet::from));
            }
            (IpAddr::V6(first), IpAddr::V6(last)) => {
                ranges.extend(ipnet::Ipv6Subnets::new(first, last, 0).map(IpNet::from));
            }
            _ => {}
        }
    }
    Some(Settings { inner: inner?, inner6, resolvers, domains, reach: ranges, lifetime: None })
}
