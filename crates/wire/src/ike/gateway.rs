//! The responder: associations by their SPIs, what arrives for them, and time.
//!
//! Fed with `(now, bytes)`; answers with datagrams, events, and the next deadline. What a device begins is in `greet`, who it is in
//! `sign_in`, new keys in `renew`; here is what they share.

use std::collections::{HashMap, VecDeque};
use std::net::{IpAddr, SocketAddr};
use std::sync::Arc;

use siphasher::sip128::SipHasher24;

use super::message::{Chain, Head, emit_deleted, exchange, kind, notify, payloads};
use super::state::{Door, Event, Keeper, Opening, Out, Pending, Phase, Question, Reason, Refusal, Sa, Session, Todo};
use crate::budget::{Budget, Quiet, Verdict};
use crate::esp::pair::Pair;
use crate::timer::Deadlines;
use crate::{Moment, Random};

/// Associations that nobody has shown anything in, at most: with 48 KiB of parts and as much beside them, 50 MB if an enemy fills them all.
pub const GREETED: usize = 512;
/// How long one waits for the rest.
pub const PATIENCE: u64 = 30_000;
/// Silence after which a device is asked whether it is there.
pub const IDLE: u64 = 60_000;
/// The first wait for an answer; each further one is twice as long.
pub(super) const FIRST_WAIT: u64 = 1_000;
/// Requests that are sent, of the same.
pub(super) const TRIES: u32 = 6;
/// How long an association that is over still answers.
const LINGER: u64 = 10_000;
/// Pairs of one session at once.
pub(super) const MOST_PAIRS: usize = 4;
/// What waits to be asked.
const MOST_TODO: usize = 16;

/// Timers.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub(super) enum Timer {
    /// Nobody has come in by then, or what is over is forgotten.
    Forget(u64),
    /// A request is sent again.
    Again(u64),
    /// The device is asked for a sign of life, if there was none.
    Idle(u64),
    /// New keys of an association.
    RenewSelf(u64),
    /// New keys of a pair: session and SPI.
    RenewPair(u64, u32),
    /// An opening of this end is sent again.
    Call(u64),
}

/// How a listener runs.
#[derive(Debug, Clone)]
pub struct Config {
    /// Milliseconds after which keys are made anew from here, if the device has not done so: of pairs, and of associations.
    pub renew_pair: u64,
    pub renew_self: u64,
    /// Whether others may call on this end.
    pub listens: bool,
}

impl Default for Config {
    fn default() -> Self {
        // Later than clients do it by themselves.
        Self { renew_pair: 10 * 3_600_000, renew_self: 20 * 3_600_000, listens: true }
    }
}

/// Whether whoever receives gives a message to the machine: an opening that shows no cookie is let go while its network, or everybody, has
/// used up every budget. One that shows a cookie begins with it (RFC 7296 section 2.6).
#[must_use]
pub fn lets_by(quiet: &Quiet, now: Moment, from: SocketAddr, message: &[u8]) -> bool {
    let opens = message.get(18) == Some(&exchange::INIT) && message.get(16) != Some(&kind::NOTIFY);
    !opens || !quiet.holds(now, from)
}

/// The responder of one listener.
pub struct Gateway {
    pub(super) config: Config,
    pub(super) sas: HashMap<u64, Sa>,
    pub(super) sessions: HashMap<u64, Session>,
    pub(super) by_credential: HashMap<[u8; 32], u64>,
    /// Sessions by the SPIs of their pairs.
    pub(super) by_pair: HashMap<u32, u64>,
    /// Openings that were answered: whose, and the association.
    pub(super) greeted: HashMap<(u64, SocketAddr), u64>,
    /// The same, the oldest first; some have gone since.
    pub(super) waiting: VecDeque<u64>,
    /// Openings of this end that are not answered yet.
    pub(super) openings: HashMap<u64, Opening>,
    pub(super) timers: Deadlines<Timer>,
    pub(super) budget: Budget,
    quiet: Arc<Quiet>,
    pub(super) cookies: [SipHasher24; 2],
    pub(super) cookies_since: Moment,
    pub(super) events: Vec<Event>,
    pub(super) out: Vec<Out>,
    pub(super) random: Box<dyn Random>,
    /// Gives numbers of sessions.
    pub(super) number: Box<dyn FnMut() -> u64 + Send>,
}

pub(super) fn drawn(random: &mut dyn Random) -> SipHasher24 {
    let mut key = [0; 16];
    random.fill(&mut key);
    SipHasher24::new_with_key(&key)
}

impl Gateway {
    /// A responder in which nobody is.
    pub fn new(config: Config, number: Box<dyn FnMut() -> u64 + Send>, mut random: Box<dyn Random>) -> Self {
        Self {
            config,
            sas: HashMap::new(),
            sessions: HashMap::new(),
            by_credential: HashMap::new(),
            by_pair: HashMap::new(),
            greeted: HashMap::new(),
            waiting: VecDeque::new(),
            openings: HashMap::new(),
            timers: Deadlines::default(),
            budget: Budget::new(&mut *random),
            quiet: Arc::new(Quiet::new(&mut *random)),
            cookies: [drawn(&mut *random), drawn(&mut *random)],
            cookies_since: Moment(0),
            events: Vec::new(),
            out: Vec::new(),
            random,
            number,
        }
    }

    /// What whoever receives asks, by [`lets_by`], before a message is given to [`Gateway::receive`].
    #[must_use]
    pub fn quiet(&self) -> Arc<Quiet> {
        self.quiet.clone()
    }

    /// Every budget of openings without a cookie is used up.
    pub(super) fn be_quiet(&self, now: Moment, from: SocketAddr, everywhere: bool) {
        self.quiet.begin(now, from, everywhere);
    }

    /// What has happened since this was last asked.
    pub fn take_events(&mut self) -> Vec<Event> {
        std::mem::take(&mut self.events)
    }

    /// What is to go out.
    pub fn take_output(&mut self) -> Vec<Out> {
        std::mem::take(&mut self.out)
    }

    /// When it wants to be asked again.
    #[must_use]
    pub fn deadline(&self) -> Option<Moment> {
        self.timers.next()
    }

    /// How many associations nobody has shown anything in.
    #[must_use]
    pub fn half_open(&self) -> usize {
        self.greeted.len()
    }

    pub(super) fn random_spi(&mut self) -> u64 {
        loop {
            let mut bytes = [0; 8];
            self.random.fill(&mut bytes);
            let spi = u64::from_be_bytes(bytes);
            if spi != 0 && !self.sas.contains_key(&spi) {
                return spi;
            }
        }
    }

    /// SPIs of ESP are above those that are reserved (RFC 4303 section 2.1).
    pub(super) fn random_pair_spi(&mut self) -> u32 {
        loop {
            let mut bytes = [0; 4];
            self.random.fill(&mut bytes);
            let spi = u32::from_be_bytes(bytes);
            if spi > 255 && !self.by_pair.contains_key(&spi) {
                return spi;
            }
        }
    }

    pub(super) fn nonce(&mut self) -> Vec<u8> {
        let mut nonce = vec![0; 32];
        self.random.fill(&mut nonce);
        nonce
    }

    /// By which an address and a port are compared at both ends (RFC 7296 section 2.23).
    pub(super) fn address_hash(spis: (u64, u64), at: SocketAddr) -> [u8; 20] {
        let mut context = ring::digest::Context::new(&ring::digest::SHA1_FOR_LEGACY_USE_ONLY);
        context.update(&spis.0.to_be_bytes());
        context.update(&spis.1.to_be_bytes());
        match at.ip().to_canonical() {
            IpAddr::V4(four) => context.update(&four.octets()),
            IpAddr::V6(six) => context.update(&six.octets()),
        }
        context.update(&at.port().to_be_bytes());
        let mut out = [0; 20];
        out.copy_from_slice(context.finish().as_ref());
        out
    }

    /// That this end is behind translation, whether it is or not: so that clients send ESP in UDP. And what is seen of the other end.
    pub(super) fn say_addresses(&mut self, chain: &mut Chain, spis: (u64, u64), from: SocketAddr) {
        let mut nowhere = [0; 20];
        self.random.fill(&mut nowhere);
        chain.notify(notify::NAT_DETECTION_SOURCE_IP, &nowhere);
        chain.notify(notify::NAT_DETECTION_DESTINATION_IP, &Self::address_hash(spis, from));
    }

    /// Takes a datagram that is IKE, without the marker.
    pub fn receive(&mut self, now: Moment, door: Door, from: SocketAddr, datagram: &[u8], keeper: &dyn Keeper) {
        let Ok(head) = Head::read(datagram) else { return };
        if head.exchange == exchange::INIT {
            if head.from_initiator && !head.response && head.number == 0 && head.responder_spi == 0 {
                if !self.config.listens {
                    return;
                }
                self.greet(now, door, from, &head, datagram, keeper);
            } else if !head.from_initiator && head.response && head.number == 0 {
                self.greeted_back(now, from, &head, datagram);
            }
            return;
        }
        let own = if head.from_initiator { head.responder_spi } else { head.initiator_spi };
        // Taken out while it is worked on, so that everything else stays at hand.
        let Some(mut sa) = self.sas.remove(&own) else { return self.unknown(now, door, from, &head) };
        let keep = self.message(now, door, from, &head, datagram, &mut sa, keeper);
        if keep {
            self.ask_next(now, &mut sa);
            self.sas.insert(own, sa);
        } else {
            self.forget_timers(own);
            self.events.push(Event::Forgotten(own));
        }
    }

    /// A request of an association that this end does not have: it may have begun anew, and the device is told so (section 2.21.4). It
    /// proves nothing by that, and devices take it as a hint to ask for a sign of life.
    fn unknown(&mut self, now: Moment, door: Door, from: SocketAddr, head: &Head) {
        if head.response || !head.from_initiator || self.budget.ask(now) != Verdict::Again {
            return;
        }
        let mut chain = Chain::default();
        chain.notify(notify::INVALID_IKE_SPI, &[]);
        let (first, body) = chain.parts();
        let answer = Head { first, from_initiator: false, response: true, ..*head };
        let message = [&answer.emit(super::message::HEAD + body.len())[..], body].concat();
        self.send(door, from, vec![message]);
    }

    fn forget_timers(&mut self, own: u64) {
        for timer in [Timer::Forget(own), Timer::Again(own), Timer::Idle(own), Timer::RenewSelf(own)] {
            self.timers.clear(timer);
        }
    }

    /// Takes a message of an association; whether that stays.
    #[expect(clippy::too_many_arguments, reason = "what arrives, where, and for what")]
    fn message(
        &mut self,
        now: Moment,
        door: Door,
        from: SocketAddr,
        head: &Head,
        datagram: &[u8],
        sa: &mut Sa,
        keeper: &dyn Keeper,
    ) -> bool {
        if (head.initiator_spi, head.responder_spi) != sa.spis() || head.from_initiator == sa.made_here {
            return true;
        }
        let Ok(outer) = payloads(head.first, &datagram[super::message::HEAD..]) else { return true };
        let [sealed] = outer[..] else { return true };
        if !matches!(sealed.kind, kind::SK | kind::SKF) || (sealed.kind == kind::SKF && !sa.in_parts) {
            return true;
        }
        let Some(part) = sa.sealed.open(datagram, &sealed) else { return true };
        // From here on it is the other end's.
        if let Some(session) = sa.session().and_then(|session| self.sessions.get(&session)) {
            session.counters.heard.store(now.0, std::sync::atomic::Ordering::Relaxed);
        }
        let expected =
            if head.response { sa.pending.as_ref().map(|pending| pending.number) } else { Some(sa.expected) };
        if !head.response && head.number.wrapping_add(1) == sa.expected && sa.expected > 0 {
            // Its answer was lost. Of a message in parts the first alone asks again (RFC 7383 section 2.6.1).
            if part.number == 1 {
                let answered = sa.answered.clone();
                self.send(door, from, answered);
            }
            return true;
        }
        if expected != Some(head.number) {
            return true;
        }
        let whole = if sealed.kind == kind::SK {
            Some((part.inside, part.plain))
        } else {
            // Requests and answers of one number are told apart.
            sa.parts.take(head.number << 1 | u32::from(head.response), part)
        };
        let Some((first, plain)) = whole else { return true };
        self.moved_by_message(door, from, head, sa);
        if head.response {
            let Some(pending) = sa.pending.take() else { return true };
            self.timers.clear(Timer::Again(sa.own));
            let inner = payloads(first, &plain).unwrap_or_default();
            return self.answered(now, sa, pending.question, &inner);
        }
        sa.expected = sa.expected.wrapping_add(1);
        let inner = match payloads(first, &plain) {
            Ok(inner) => inner,
            Err(unread) => {
                let mut chain = Chain::default();
                match unread {
                    super::message::Unread::Critical(kind) => {
                        chain.notify(notify::UNSUPPORTED_CRITICAL_PAYLOAD, &[kind])
                    }
                    _ => chain.notify(notify::INVALID_SYNTAX, &[]),
                }
                self.respond(door, from, head, sa, &chain);
                return self.stays(now, sa);
            }
        };
        match (head.exchange, &sa.phase) {
            (exchange::AUTH, Phase::Greeted(_) | Phase::Talking { .. } | Phase::Keyed { .. }) => {
                self.sign_in(now, door, from, head, sa, &inner, keeper)
            }
            (exchange::INFO, _) => self.inform(now, door, from, head, sa, &inner),
            (exchange::CREATE, Phase::Up(_) | Phase::Over) => self.create(now, door, from, head, sa, &inner),
            _ => {
                let mut chain = Chain::default();
                chain.notify(notify::INVALID_SYNTAX, &[]);
                self.respond(door, from, head, sa, &chain);
                self.stays(now, sa)
            }
        }
    }

    /// Nothing that a stranger sends keeps an association that is not up.
    fn stays(&mut self, _now: Moment, sa: &Sa) -> bool {
        !matches!(sa.phase, Phase::Greeted(_) | Phase::Talking { .. } | Phase::Keyed { .. }) || {
            self.ungreet(sa.own);
            false
        }
    }

    pub(super) fn ungreet(&mut self, own: u64) {
        self.greeted.retain(|_, greeted| *greeted != own);
    }

    pub(super) fn send(&mut self, door: Door, to: SocketAddr, messages: Vec<Vec<u8>>) {
        self.out.extend(messages.into_iter().map(|bytes| Out { door, to, bytes }));
    }

    /// Answers a request.
    pub(super) fn respond(&mut self, door: Door, from: SocketAddr, head: &Head, sa: &mut Sa, chain: &Chain) {
        let head = Head { from_initiator: sa.made_here, response: true, ..*head };
        let (first, plain) = chain.parts();
        sa.answered = sa.sealed.seal(&head, first, plain, sa.in_parts, &mut *self.random);
        let messages = sa.answered.clone();
        self.send(door, from, messages);
    }

    /// Wants something to be asked, once.
    pub(super) fn want(sa: &mut Sa, todo: Todo) {
        if !sa.todo.contains(&todo) && sa.todo.len() < MOST_TODO {
            if todo == Todo::Goodbye { sa.todo.push_front(todo) } else { sa.todo.push_back(todo) }
        }
    }

    /// Asks what is next, if nothing is pending.
    pub(super) fn ask_next(&mut self, now: Moment, sa: &mut Sa) {
        while sa.pending.is_none() {
            let Some(todo) = sa.todo.pop_front() else { return };
            if let (Todo::RenewPair(spi), Some(session)) = (&todo, sa.session())
                && now < sa.calm_until
            {
                self.timers.set(Timer::RenewPair(session, *spi), sa.calm_until);
                continue;
            }
            let mut chain = Chain::default();
            let question = match todo {
                Todo::Alive => Some((exchange::INFO, Question::Alive)),
                Todo::Return => {
                    let mut drawn = [0; 16];
                    self.random.fill(&mut drawn);
                    chain.notify(notify::COOKIE2, &drawn);
                    Some((exchange::INFO, Question::Return(drawn)))
                }
                Todo::Goodbye => {
                    chain.add(kind::DELETE, &emit_deleted(&[]));
                    Some((exchange::INFO, Question::Goodbye))
                }
                Todo::DeletePairs(spis) => {
                    chain.add(kind::DELETE, &emit_deleted(&spis));
                    Some((exchange::INFO, Question::DeletePairs(spis)))
                }
                Todo::RenewPair(spi) => {
                    self.ask_for_pair(sa, spi, &mut chain).map(|question| (exchange::CREATE, question))
                }
                Todo::RenewSelf => self.ask_for_self(sa, &mut chain).map(|question| (exchange::CREATE, question)),
            };
            let Some((exchange, question)) = question else { continue };
            self.ask(now, sa, exchange, question, &chain);
        }
    }

    /// Asks the other end.
    pub(super) fn ask(&mut self, now: Moment, sa: &mut Sa, exchange: u8, question: Question, chain: &Chain) {
        let (initiator_spi, responder_spi) = sa.spis();
        let number = sa.next;
        sa.next = sa.next.wrapping_add(1);
        let from_initiator = sa.made_here;
        let head = Head { initiator_spi, responder_spi, first: 0, exchange, from_initiator, response: false, number };
        let (first, plain) = chain.parts();
        let messages = sa.sealed.seal(&head, first, plain, sa.in_parts, &mut *self.random);
        self.send(Door::Second, sa.path.get(), messages.clone());
        sa.pending = Some(Pending { number, messages, tries: 1, question });
        self.timers.set(Timer::Again(sa.own), now.after(FIRST_WAIT));
    }

    /// An association only answers from now on, and is forgotten soon.
    pub(super) fn over(&mut self, now: Moment, sa: &mut Sa) {
        sa.phase = Phase::Over;
        sa.todo.retain(|todo| *todo == Todo::Goodbye);
        self.timers.set(Timer::Forget(sa.own), now.after(LINGER));
        for timer in [Timer::Idle(sa.own), Timer::RenewSelf(sa.own)] {
            self.timers.clear(timer);
        }
    }

    /// Takes pairs out of a session; gives the SPIs under which this end received.
    pub(super) fn drop_pairs(&mut self, _now: Moment, number: u64, which: impl Fn(&Pair) -> bool) -> Vec<u32> {
        let Some(session) = self.sessions.get_mut(&number) else { return Vec::new() };
        let gone: Vec<u32> = session.pairs.iter().filter(|held| which(&held.pair)).map(|held| held.pair.own).collect();
        session.pairs.retain(|held| !gone.contains(&held.pair.own));
        if gone.contains(&session.serving)
            && let Some(newest) = session.pairs.last()
        {
            session.serving = newest.pair.own;
            self.events.push(Event::Serves { session: number, pair: newest.pair.clone() });
        }
        for spi in &gone {
            self.by_pair.remove(spi);
            self.timers.clear(Timer::RenewPair(number, *spi));
            self.events.push(Event::PairRemoved(*spi));
        }
        gone
    }

    /// The other end has sent something under a pair: this end does so from now on as well, if it is the newest.
    pub fn heard_in(&mut self, _now: Moment, spi: u32) {
        let Some(number) = self.by_pair.get(&spi).copied() else { return };
        let Some(session) = self.sessions.get_mut(&number) else { return };
        if session.serving != spi
            && let Some(newest) = session.pairs.last().filter(|held| held.pair.own == spi)
        {
            session.serving = spi;
            self.events.push(Event::Serves { session: number, pair: newest.pair.clone() });
        }
    }

    /// A pair has carried so much that it is to be replaced.
    pub fn worn(&mut self, now: Moment, spi: u32) {
        if let Some(session) = self.by_pair.get(&spi).copied() {
            self.with_sa_of(now, session, |sa| Self::want(sa, Todo::RenewPair(spi)));
        }
    }

    pub(super) fn with_sa_of(&mut self, now: Moment, session: u64, act: impl FnOnce(&mut Sa)) {
        let Some(own) = self.sessions.get(&session).map(|session| session.sa) else { return };
        let Some(mut sa) = self.sas.remove(&own) else { return };
        act(&mut sa);
        self.ask_next(now, &mut sa);
        self.sas.insert(own, sa);
    }

    /// Takes a session away, with an event.
    pub(super) fn end_session(&mut self, number: u64, reason: Reason, words: &str) -> Option<Session> {
        let session = self.sessions.remove(&number)?;
        for held in &session.pairs {
            self.by_pair.remove(&held.pair.own);
            self.timers.clear(Timer::RenewPair(number, held.pair.own));
            self.events.push(Event::PairRemoved(held.pair.own));
        }
        if self.by_credential.get(&session.granted.credential) == Some(&number) {
            self.by_credential.remove(&session.granted.credential);
        }
        let credential = session.granted.credential;
        self.events.push(Event::Ended { session: number, credential, reason, words: words.into() });
        Some(session)
    }

    /// Ends a session and tells the device (section 1.4.1); whether there was one.
    pub fn end(&mut self, now: Moment, number: u64, reason: Reason, words: &str) -> bool {
        let Some(session) = self.end_session(number, reason, words) else { return false };
        if let Some(mut sa) = self.sas.remove(&session.sa) {
            // What is pending cannot be of use any more: the goodbye takes the window.
            sa.pending = None;
            sa.todo.clear();
            Self::want(&mut sa, Todo::Goodbye);
            self.over(now, &mut sa);
            self.ask_next(now, &mut sa);
            self.sas.insert(sa.own, sa);
        }
        true
    }

    /// The session of a credential.
    #[must_use]
    pub fn session_of(&self, credential: &[u8; 32]) -> Option<u64> {
        self.by_credential.get(credential).copied()
    }

    /// All sessions, with their credentials.
    pub fn sessions(&self) -> impl Iterator<Item = (u64, [u8; 32])> + '_ {
        self.sessions.iter().map(|(number, session)| (*number, session.granted.credential))
    }

    /// The inner address of a session. Clients of this protocol cannot be told another.
    #[must_use]
    pub fn inner_of(&self, number: u64) -> Option<std::net::Ipv4Addr> {
        self.sessions.get(&number).map(|session| session.granted.settings.inner)
    }

    /// Says goodbye to everybody.
    pub fn shut_down(&mut self, now: Moment) {
        let all: Vec<u64> = self.sessions.keys().copied().collect();
        for number in all {
            self.end(now, number, Reason::Shutdown, "");
        }
    }

    /// Does what is due.
    pub fn tick(&mut self, now: Moment) {
        while let Some(timer) = self.timers.due(now) {
            match timer {
                Timer::Forget(own) => self.forget(own),
                Timer::Again(own) => self.again(now, own),
                Timer::Idle(own) => self.idle(now, own),
                Timer::Call(own) => self.open_again(now, own),
                Timer::RenewSelf(own) => self.due(now, own, Todo::RenewSelf),
                Timer::RenewPair(session, spi) => {
                    if let Some(own) = self.sessions.get(&session).map(|session| session.sa) {
                        self.due(now, own, Todo::RenewPair(spi));
                    }
                }
            }
        }
    }

    pub(super) fn renew_association(&mut self, now: Moment, own: u64) {
        self.due(now, own, Todo::RenewSelf);
    }

    fn due(&mut self, now: Moment, own: u64, todo: Todo) {
        let Some(mut sa) = self.sas.remove(&own) else { return };
        Self::want(&mut sa, todo);
        self.ask_next(now, &mut sa);
        self.sas.insert(own, sa);
    }

    fn forget(&mut self, own: u64) {
        let Some(sa) = self.sas.remove(&own) else { return };
        self.events.push(Event::Forgotten(own));
        self.forget_timers(own);
        self.ungreet(own);
        let words = match &sa.phase {
            Phase::Greeted(_) if sa.parts.is_begun() => {
                "it began to say who it is, and parts of that are missing: something on the way drops them"
            }
            Phase::Greeted(_) => {
                "it began and did not say who it is: what it sent was too large for the way, or it has no credential for this gateway"
            }
            Phase::Talking { .. } => {
                "it did not go on once this gateway had shown who it is: it may not trust the authority, or the name"
            }
            Phase::Keyed { .. } => "it did not prove the key of its sign-in",
            Phase::Calling(_) => return self.call_failed(own, Reason::Unfinished, "the other end does not go on"),
            Phase::Up(_) | Phase::Over => return,
        };
        let refusal = Refusal { credential: None, reason: Reason::Unfinished, words: words.into() };
        self.events.push(Event::Refused { from: sa.path.get(), refusal });
    }

    fn again(&mut self, now: Moment, own: u64) {
        let Some(sa) = self.sas.get_mut(&own) else { return };
        let Some(pending) = &mut sa.pending else { return };
        if pending.tries >= TRIES {
            // Nobody is there (section 2.4).
            let (session, calling) = (sa.session(), matches!(sa.phase, Phase::Calling(_)));
            sa.pending = None;
            sa.phase = Phase::Over;
            self.sas.remove(&own);
            self.forget_timers(own);
            self.events.push(Event::Forgotten(own));
            if let Some(session) = session
                && self.sessions.get(&session).is_some_and(|one| one.sa == own)
            {
                self.end_session(session, Reason::Silent, "");
            }
            if calling {
                self.call_failed(own, Reason::Silent, "the other end does not answer any more");
            }
            return;
        }
        let (wait, messages) = (FIRST_WAIT << pending.tries, pending.messages.clone());
        pending.tries += 1;
        let to = sa.path.get();
        self.timers.set(Timer::Again(own), now.after(wait));
        self.send(Door::Second, to, messages);
    }

    fn idle(&mut self, now: Moment, own: u64) {
        let Some(sa) = self.sas.get(&own) else { return };
        let Some(session) = sa.session().and_then(|session| self.sessions.get(&session)) else { return };
        let heard = session.counters.last_heard();
        let next = heard.after(IDLE);
        if next > now {
            self.timers.set(Timer::Idle(own), next);
            return;
        }
        self.timers.set(Timer::Idle(own), now.after(IDLE));
        self.due(now, own, Todo::Alive);
    }

    /// What came of something that this end asked; whether the association stays.
    fn answered(
        &mut self,
        now: Moment,
        sa: &mut Sa,
        question: Question,
        inner: &[super::message::Payload<'_>],
    ) -> bool {
        match question {
            Question::Alive => true,
            Question::Return(drawn) => self.returned(now, sa, &drawn, inner),
            Question::SignIn => {
                self.let_in(now, sa, inner);
                true
            }
            Question::DeletePairs(spis) => {
                if let Some(session) = sa.session() {
                    self.drop_pairs(now, session, |pair| spis.contains(&pair.own));
                }
                true
            }
            Question::Goodbye => {
                self.ungreet(sa.own);
                false
            }
            Question::RenewPair { before, own, nonce, exchange } => {
                self.pair_renewed(now, sa, before, own, &nonce, exchange.as_ref(), inner);
                true
            }
            Question::RenewSelf { own, nonce, exchange } => {
                self.self_renewed(now, sa, own, &nonce, &exchange, inner);
                true
            }
        }
    }

    /// A session's newest pair, for whoever looks.
    #[must_use]
    pub fn pairs_of(&self, session: u64) -> Vec<Arc<Pair>> {
        self.sessions
            .get(&session)
            .map(|one| one.pairs.iter().map(|held| held.pair.clone()).collect())
            .unwrap_or_default()
    }
}
