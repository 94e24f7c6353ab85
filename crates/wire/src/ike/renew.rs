//! New keys of an association and of its pairs (RFC 7296 sections 1.3, 2.8, 2.18), from either side, also when both begin at once.

use std::net::SocketAddr;

use super::exchange::{Exchange, Group};
use super::gateway::{Gateway, IDLE, MOST_PAIRS, Timer};
use super::message::{
    Chain, Head, Notification, PROTOCOL_ESP, PROTOCOL_IKE, Payload, Proposal, body, emit_key_exchange, emit_proposals,
    emit_selectors, key_exchange, kind, notify, proposals, selectors,
};
use super::sign_in::{narrowed, spi_of};
use super::state::{Crossing, Door, Event, Held, Pending, Phase, Question, Sa, Todo};
use super::suite::{ChildKeys, Chosen, Keys, Sought, choose};
use crate::Moment;
use crate::esp::pair::Pair;

/// How long a replaced association waits for the other end to delete it.
const REPLACED: u64 = 120_000;
/// How long two renewals that cross may take to settle.
const CROSSING: u64 = 10_000;
/// After a renewal that could not be done now.
const LATER: u64 = 5_000;

/// What a request for new keys says.
struct Asked<'a> {
    offered: Vec<Proposal>,
    nonce: &'a [u8],
    key: Option<(u16, &'a [u8])>,
    /// The SPI of the pair that is renewed: the one under which whoever asks receives.
    renews: Option<u32>,
}

fn read<'a>(inner: &[Payload<'a>]) -> Option<Asked<'a>> {
    let notes = inner.iter().filter(|payload| payload.kind == kind::NOTIFY);
    let renews = notes
        .filter_map(|payload| Notification::read(payload.body).ok())
        .find(|note| note.what == notify::REKEY_SA && note.protocol == PROTOCOL_ESP && note.spi.len() == 4);
    Some(Asked {
        offered: proposals(body(inner, kind::SA)?).ok()?,
        nonce: body(inner, kind::NONCE).filter(|nonce| (16..=256).contains(&nonce.len()))?,
        key: body(inner, kind::KE).map(key_exchange).transpose().ok()?,
        renews: renews.map(|note| spi_of(note.spi)),
    })
}

/// What was chosen, the other end's nonce, and what both have.
type Agreed<'a> = (Chosen, &'a [u8], zeroize::Zeroizing<Vec<u8>>);

/// An error, alone.
fn error(what: u16, data: &[u8]) -> Chain {
    let mut chain = Chain::default();
    chain.notify(what, data);
    chain
}

impl Gateway {
    /// CREATE_CHILD_SA from the other end.
    pub(super) fn create(
        &mut self,
        now: Moment,
        door: Door,
        from: SocketAddr,
        head: &Head,
        sa: &mut Sa,
        inner: &[Payload<'_>],
    ) -> bool {
        let made = match read(inner) {
            None => Err(error(notify::INVALID_SYNTAX, &[])),
            Some(asked) if asked.offered.first().is_some_and(|one| one.protocol == PROTOCOL_IKE) => {
                self.renew_self(now, sa, &asked)
            }
            Some(asked) => self.renew_pair(now, sa, &asked, inner),
        };
        let (Ok(chain) | Err(chain)) = made;
        self.respond(door, from, head, sa, &chain);
        true
    }

    /// Agrees on a shared secret with what came, if anything did.
    fn agree(
        &mut self,
        key: Option<(u16, &[u8])>,
        wanted: Option<u16>,
    ) -> Result<(Vec<u8>, zeroize::Zeroizing<Vec<u8>>), Chain> {
        let (Some((number, key)), Some(wanted)) = (key, wanted) else { return Ok(Default::default()) };
        if number != wanted {
            return Err(error(notify::INVALID_KE_PAYLOAD, &wanted.to_be_bytes()));
        }
        let exchange = Group::of(number).and_then(|group| Exchange::new(group, &mut *self.random));
        let agreed = exchange.and_then(|own| Some((emit_key_exchange(number, own.public()), own.agree(key)?)));
        agreed.ok_or_else(|| error(notify::INVALID_SYNTAX, &[]))
    }

    fn renew_pair(
        &mut self,
        now: Moment,
        sa: &mut Sa,
        asked: &Asked<'_>,
        inner: &[Payload<'_>],
    ) -> Result<Chain, Chain> {
        let number = sa.session().ok_or_else(|| error(notify::TEMPORARY_FAILURE, &[]))?;
        // While the association itself is renewed or ended, nothing is made in it (section 2.25.2).
        let pending = sa.pending.as_ref().map(|pending| &pending.question);
        if matches!(pending, Some(Question::RenewSelf { .. } | Question::Goodbye)) {
            return Err(error(notify::TEMPORARY_FAILURE, &[]));
        }
        let session = self.sessions.get(&number).ok_or_else(|| error(notify::TEMPORARY_FAILURE, &[]))?;
        let before = match asked.renews {
            Some(spi) => {
                let held = session.pairs.iter().find(|held| held.pair.other == spi);
                let held = held.ok_or_else(|| error(notify::CHILD_SA_NOT_FOUND, &[]))?;
                let own = held.pair.own;
                let leaving = matches!(pending, Some(Question::DeletePairs(spis)) if spis.contains(&own));
                if leaving || sa.todo.iter().any(|todo| matches!(todo, Todo::DeletePairs(spis) if spis.contains(&own)))
                {
                    return Err(error(notify::TEMPORARY_FAILURE, &[]));
                }
                Some(own)
            }
            None => None,
        };
        if session.pairs.len() >= MOST_PAIRS {
            return Err(error(notify::NO_ADDITIONAL_SAS, &[]));
        }
        let group = asked.key.map(|(group, _)| group);
        let chosen = choose(&asked.offered, &Sought::esp(group)).map_err(|_| error(notify::NO_PROPOSAL_CHOSEN, &[]))?;
        let (theirs, ours) = session.ends();
        let (path, counters) = (session.path.clone(), session.counters.clone());
        let ranges = |which: u8| body(inner, which).and_then(|body| selectors(body).ok());
        let (Some(own), Some(to)) = (ranges(kind::TSI), ranges(kind::TSR)) else {
            return Err(error(notify::INVALID_SYNTAX, &[]));
        };
        let (own, to) = (narrowed(&own, &theirs), narrowed(&to, &ours));
        if own.is_empty() || to.is_empty() {
            return Err(error(notify::TS_UNACCEPTABLE, &[]));
        }
        let (public, shared) = self.agree(asked.key, chosen.suite.group.map(|group| group.number()))?;
        let nonce = self.nonce();
        let keys = ChildKeys::new(&chosen.suite.protection, sa.suite.prf, &sa.keys.d, &shared, (asked.nonce, &nonce));
        let spi = self.random_pair_spi();
        let pair = self.pair(&chosen.suite, &keys, (spi, spi_of(&chosen.spi)), false, number, counters, &path);
        let pair = pair.ok_or_else(|| error(notify::NO_PROPOSAL_CHOSEN, &[]))?;
        if let (Some(before), Some(Question::RenewPair { before: same, .. })) =
            (before, sa.pending.as_ref().map(|one| &one.question))
            && *same == before
        {
            sa.crossing = Some(Crossing { of: u64::from(before), lowest: asked.nonce.min(&nonce).to_vec() });
        }
        let mut chain = Chain::default();
        chain.add(kind::SA, &emit_proposals(&[chosen.proposal(PROTOCOL_ESP, &spi.to_be_bytes())]));
        chain.add(kind::NONCE, &nonce);
        if !public.is_empty() {
            chain.add(kind::KE, &public);
        }
        chain.add(kind::TSI, &emit_selectors(&own));
        chain.add(kind::TSR, &emit_selectors(&to));
        self.hold(now, number, Held { pair, suite: chosen.suite, from: own, to, replaced: false }, before);
        Ok(chain)
    }

    /// A new pair of a session, in place of another or not. This end goes on under the old one until it hears the new.
    fn hold(&mut self, now: Moment, number: u64, held: Held, before: Option<u32>) {
        let Some(session) = self.sessions.get_mut(&number) else { return };
        let pair: std::sync::Arc<Pair> = held.pair.clone();
        session.pairs.iter_mut().filter(|one| Some(one.pair.own) == before).for_each(|one| one.replaced = true);
        session.pairs.push(held);
        self.by_pair.insert(pair.own, number);
        if let Some(before) = before {
            self.timers.clear(Timer::RenewPair(number, before));
        }
        self.timers.set(Timer::RenewPair(number, pair.own), now.after(self.config.renew_pair));
        self.events.push(Event::PairAdded(pair));
    }

    fn renew_self(&mut self, now: Moment, sa: &mut Sa, asked: &Asked<'_>) -> Result<Chain, Chain> {
        let number = sa.session().ok_or_else(|| error(notify::TEMPORARY_FAILURE, &[]))?;
        let pending = sa.pending.as_ref().map(|pending| &pending.question);
        if matches!(pending, Some(Question::RenewPair { .. } | Question::DeletePairs(_) | Question::Goodbye)) {
            return Err(error(notify::TEMPORARY_FAILURE, &[]));
        }
        let crosses = matches!(pending, Some(Question::RenewSelf { .. }));
        let sought = Sought::ike(asked.key.map(|(group, _)| group), 8);
        let chosen = choose(&asked.offered, &sought).map_err(|_| error(notify::NO_PROPOSAL_CHOSEN, &[]))?;
        let wanted = chosen.suite.group.map(|group| group.number());
        if asked.key.is_none() {
            let wanted = wanted.unwrap_or_default().to_be_bytes();
            return Err(error(notify::INVALID_KE_PAYLOAD, &wanted));
        }
        let (public, shared) = self.agree(asked.key, wanted)?;
        let theirs = u64::from_be_bytes(chosen.spi[..].try_into().unwrap_or_default());
        let (own, nonce) = (self.random_spi(), self.nonce());
        let before = (sa.suite.prf, &sa.keys.d[..]);
        let keys = Keys::renewed(&chosen.suite, before, &shared, (asked.nonce, &nonce), (theirs, own));
        let heir = sa.heir((own, theirs), false, chosen.suite, keys);
        let mut new = heir.ok_or_else(|| error(notify::NO_PROPOSAL_CHOSEN, &[]))?;
        new.phase = Phase::Up(number);
        if crosses {
            new.calm_until = now.after(CROSSING);
            sa.crossing = Some(Crossing { of: own, lowest: asked.nonce.min(&nonce).to_vec() });
        }
        self.take_over(now, sa, new, number);
        let mut chain = Chain::default();
        chain.add(kind::SA, &emit_proposals(&[chosen.proposal(PROTOCOL_IKE, &own.to_be_bytes())]));
        chain.add(kind::NONCE, &nonce);
        chain.add(kind::KE, &public);
        Ok(chain)
    }

    /// A session goes on under another association; the one before only answers.
    fn take_over(&mut self, now: Moment, old: &mut Sa, new: Sa, number: u64) {
        let own = new.own;
        if let Some(session) = self.sessions.get_mut(&number) {
            session.sa = own;
        }
        self.timers.set(Timer::Idle(own), now.after(IDLE));
        self.timers.set(Timer::RenewSelf(own), now.after(self.config.renew_self));
        self.sas.insert(own, new);
        self.events.push(Event::Known(own));
        old.phase = Phase::Over;
        for timer in [Timer::Idle(old.own), Timer::RenewSelf(old.own)] {
            self.timers.clear(timer);
        }
        self.timers.set(Timer::Forget(old.own), now.after(REPLACED));
    }

    /// Asks for new keys of a pair.
    pub(super) fn ask_for_pair(&mut self, sa: &Sa, before: u32, chain: &mut Chain) -> Option<Question> {
        let session = self.sessions.get(&sa.session()?)?;
        let held = session.pairs.iter().find(|held| held.pair.own == before && !held.replaced)?.clone();
        let exchange = match held.suite.group {
            Some(group) => Some(Exchange::new(group, &mut *self.random)?),
            None => None,
        };
        let (own, nonce) = (self.random_pair_spi(), self.nonce());
        let transforms = held.suite.transforms(PROTOCOL_ESP);
        let proposal = Proposal { number: 1, protocol: PROTOCOL_ESP, spi: own.to_be_bytes().to_vec(), transforms };
        chain.notify_of(PROTOCOL_ESP, &before.to_be_bytes(), notify::REKEY_SA, &[]);
        chain.add(kind::SA, &emit_proposals(&[proposal]));
        chain.add(kind::NONCE, &nonce);
        if let Some(exchange) = &exchange {
            chain.add(kind::KE, &emit_key_exchange(exchange.group().number(), exchange.public()));
        }
        // Whoever begins the exchange is its initiator: here this side.
        chain.add(kind::TSI, &emit_selectors(&held.to));
        chain.add(kind::TSR, &emit_selectors(&held.from));
        Some(Question::RenewPair { before, own, nonce, exchange })
    }

    /// Asks for new keys of an association.
    pub(super) fn ask_for_self(&mut self, sa: &Sa, chain: &mut Chain) -> Option<Question> {
        sa.session()?;
        let exchange = Exchange::new(sa.suite.group?, &mut *self.random)?;
        let (own, nonce) = (self.random_spi(), self.nonce());
        let transforms = sa.suite.transforms(PROTOCOL_IKE);
        let proposal = Proposal { number: 1, protocol: PROTOCOL_IKE, spi: own.to_be_bytes().to_vec(), transforms };
        chain.add(kind::SA, &emit_proposals(&[proposal]));
        chain.add(kind::NONCE, &nonce);
        chain.add(kind::KE, &emit_key_exchange(exchange.group().number(), exchange.public()));
        Some(Question::RenewSelf { own, nonce, exchange })
    }

    /// What a renewal was answered with; `None` where it was refused.
    fn agreed<'a>(inner: &[Payload<'a>], sought: &Sought, exchange: Option<&Exchange>) -> Option<Agreed<'a>> {
        let offered = proposals(body(inner, kind::SA)?).ok()?;
        let chosen = choose(&offered, sought).ok()?;
        let nonce = body(inner, kind::NONCE).filter(|nonce| (16..=256).contains(&nonce.len()))?;
        let shared = match exchange {
            None => Default::default(),
            Some(exchange) => {
                let (group, key) = key_exchange(body(inner, kind::KE)?).ok()?;
                (group == exchange.group().number()).then(|| exchange.agree(key)).flatten()?
            }
        };
        Some((chosen, nonce, shared))
    }

    #[expect(clippy::too_many_arguments, reason = "what was asked, and what came of it")]
    pub(super) fn pair_renewed(
        &mut self,
        now: Moment,
        sa: &mut Sa,
        before: u32,
        own: u32,
        nonce: &[u8],
        exchange: Option<&Exchange>,
        inner: &[Payload<'_>],
    ) {
        let crossing = sa.crossing.take().filter(|crossing| crossing.of == u64::from(before));
        let Some(number) = sa.session() else { return };
        let Some(session) = self.sessions.get(&number) else { return };
        let held = session.pairs.iter().find(|held| held.pair.own == before).cloned();
        let (path, counters) = (session.path.clone(), session.counters.clone());
        let group = exchange.map(|exchange| exchange.group().number());
        let Some((chosen, theirs, shared)) = Self::agreed(inner, &Sought::esp(group), exchange) else {
            if crossing.is_none() && held.is_some() {
                self.timers.set(Timer::RenewPair(number, before), now.after(LATER));
            }
            return;
        };
        // It must be what was asked for; and the one before may be gone since, by a renewal of the other end that crossed this one. The
        // other end has the new pair in either case, and is told that it goes.
        let fits = |held: &Held| {
            chosen.suite.protection == held.suite.protection && chosen.suite.extended == held.suite.extended
        };
        let Some(held) = held.filter(fits) else { return Self::want(sa, Todo::DeletePairs(vec![own])) };
        let keys = ChildKeys::new(&chosen.suite.protection, sa.suite.prf, &sa.keys.d, &shared, (nonce, theirs));
        let pair = self.pair(&chosen.suite, &keys, (own, spi_of(&chosen.spi)), true, number, counters, &path);
        let Some(pair) = pair else { return };
        let new = Held { pair: pair.clone(), suite: chosen.suite, replaced: false, ..held };
        // Of two that crossed, the one with the lowest of the four nonces goes, by whoever began it (section 2.8.1).
        let loses = crossing.as_ref().is_some_and(|crossing| nonce.min(theirs) < &crossing.lowest[..]);
        if loses {
            self.by_pair.insert(own, number);
            if let Some(session) = self.sessions.get_mut(&number) {
                let at = session.pairs.len().saturating_sub(1);
                session.pairs.insert(at, Held { replaced: true, ..new });
            }
            self.events.push(Event::PairAdded(pair));
            Self::want(sa, Todo::DeletePairs(vec![own]));
            return;
        }
        self.hold(now, number, new, Some(before));
        if let Some(session) = self.sessions.get_mut(&number) {
            // The other end has answered: it takes what goes out under the new keys.
            session.serving = own;
            self.events.push(Event::Serves { session: number, pair });
        }
        Self::want(sa, Todo::DeletePairs(vec![before]));
    }

    pub(super) fn self_renewed(
        &mut self,
        now: Moment,
        sa: &mut Sa,
        own: u64,
        nonce: &[u8],
        exchange: &Exchange,
        inner: &[Payload<'_>],
    ) {
        let crossing = sa.crossing.take();
        let group = Some(exchange.group().number());
        // A crossing renewal of the other end has taken the session over already.
        let heir = crossing.as_ref().map_or(sa.own, |crossing| crossing.of);
        let number = match &crossing {
            None => sa.session(),
            Some(crossing) => self.sas.get(&crossing.of).and_then(Sa::session),
        };
        let Some(number) = number.filter(|number| self.sessions.get(number).is_some_and(|session| session.sa == heir))
        else {
            return;
        };
        let Some((chosen, theirs, shared)) = Self::agreed(inner, &Sought::ike(group, 8), Some(exchange)) else {
            if crossing.is_none() {
                self.timers.set(Timer::RenewSelf(sa.own), now.after(LATER));
            }
            return;
        };
        let other = u64::from_be_bytes(chosen.spi[..].try_into().unwrap_or_default());
        let before = (sa.suite.prf, &sa.keys.d[..]);
        let keys = Keys::renewed(&chosen.suite, before, &shared, (nonce, theirs), (own, other));
        let loses = crossing.as_ref().is_some_and(|crossing| nonce.min(theirs) < &crossing.lowest[..]);
        let Some(mut new) = sa.heir((own, other), true, chosen.suite, keys) else { return };
        if loses {
            // Section 2.8.2: it goes at once, by whoever began it; the other end deletes the one before.
            let waiting = std::mem::take(&mut new.todo);
            if let Some(theirs) = self.sas.get_mut(&heir) {
                theirs.todo.extend(waiting);
            }
            Self::want(&mut new, Todo::Goodbye);
            self.timers.set(Timer::Forget(own), now.after(REPLACED));
            self.ask_next(now, &mut new);
            self.sas.insert(own, new);
            return;
        }
        if let Some(theirs) = crossing.and_then(|crossing| self.sas.get_mut(&crossing.of)) {
            // Theirs is deleted by them; what this end asked in it is asked anew.
            if let Some(Pending { question: Question::DeletePairs(spis), .. }) = theirs.pending.take() {
                new.todo.push_back(Todo::DeletePairs(spis));
            }
            self.timers.clear(Timer::Again(theirs.own));
            new.todo.append(&mut theirs.todo);
            theirs.phase = Phase::Over;
            let gone = theirs.own;
            for timer in [Timer::Idle(gone), Timer::RenewSelf(gone)] {
                self.timers.clear(timer);
            }
            self.timers.set(Timer::Forget(gone), now.after(REPLACED));
        }
        new.phase = Phase::Up(number);
        self.take_over(now, sa, new, number);
        Self::want(sa, Todo::Goodbye);
        let session = self.sessions.get(&number);
        debug_assert!(session.is_some_and(|session| session.sa == own));
    }
}
