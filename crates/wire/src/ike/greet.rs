//! The first exchange (RFC 7296 section 1.2): cookies before any work, a choice of algorithms, keys.

use std::collections::VecDeque;
use std::hash::Hasher as _;
use std::net::{IpAddr, SocketAddr};

use siphasher::sip128::{Hasher128 as _, SipHasher24};

use super::exchange::Exchange;
use super::gateway::{GREETED, Gateway, PATIENCE, Timer, drawn};
use super::message::{
    Chain, HEAD, Head, Notification, PROTOCOL_IKE, body, emit_key_exchange, emit_proposals, exchange, key_exchange,
    kind, notify, payloads, proposals,
};
use super::sealed::{Parts, Sealed};
use super::state::{Door, Event, Greeting, Keeper, Phase, Reason, Refusal, Sa};
use super::suite::{Keys, Sought, choose};
use crate::Moment;
use crate::budget::Verdict;
use crate::esp::cipher::same;
use crate::esp::pair::Path;

/// A secret of cookies is good for so long, and as long again.
const COOKIE_LIFE: u64 = 30_000;
/// Hashes that signatures may be over, as they are announced (RFC 7427 section 4, RFC 8420): SHA2-256, -384, -512, and none.
const HASHES: [u16; 4] = [2, 3, 4, 5];

/// What an opening says.
struct Opening<'a> {
    proposals: &'a [u8],
    group: u16,
    key: &'a [u8],
    nonce: &'a [u8],
    cookie: Option<&'a [u8]>,
    hashes: Vec<u16>,
    in_parts: bool,
}

fn read<'a>(head: &Head, datagram: &'a [u8]) -> Option<Opening<'a>> {
    let inner = payloads(head.first, &datagram[HEAD..]).ok()?;
    let one = |which: u8| body(&inner, which);
    let (group, key) = key_exchange(one(kind::KE)?).ok()?;
    let nonce = one(kind::NONCE).filter(|nonce| (16..=256).contains(&nonce.len()))?;
    let mut opening =
        Opening { proposals: one(kind::SA)?, group, key, nonce, cookie: None, hashes: Vec::new(), in_parts: false };
    for payload in inner.iter().filter(|payload| payload.kind == kind::NOTIFY) {
        let said = Notification::read(payload.body).ok()?;
        match said.what {
            notify::COOKIE if said.data.len() <= 64 => opening.cookie = Some(said.data),
            notify::FRAGMENTATION_SUPPORTED => opening.in_parts = true,
            notify::SIGNATURE_HASH_ALGORITHMS => {
                opening.hashes =
                    said.data.chunks_exact(2).take(16).map(|two| u16::from_be_bytes([two[0], two[1]])).collect();
            }
            _ => {}
        }
    }
    Some(opening)
}

impl Gateway {
    pub(super) fn greet(
        &mut self,
        now: Moment,
        door: Door,
        from: SocketAddr,
        head: &Head,
        datagram: &[u8],
        keeper: &dyn Keeper,
    ) {
        if let Some(own) = self.greeted.get(&(head.initiator_spi, from)) {
            // The same again: its answer was lost. Another under the same SPI is nobody's that this end could answer.
            if let Some(Sa { phase: Phase::Greeted(greeting), .. }) = self.sas.get(own)
                && greeting.request == datagram
            {
                let response = greeting.response.clone();
                self.send(door, from, vec![response]);
            }
            return;
        }
        let Some(opening) = read(head, datagram) else { return };
        if now.since(self.cookies_since) >= COOKIE_LIFE {
            self.cookies = [drawn(&mut *self.random), self.cookies[0]];
            self.cookies_since = now;
        }
        let shown = opening.cookie.is_some_and(|cookie| {
            self.cookies.iter().any(|key| same(&Self::cookie(key, opening.nonce, from, head.initiator_spi), cookie))
        });
        match self.budget.spend(now, from, shown) {
            Verdict::Read => {}
            Verdict::Nothing => return,
            Verdict::Flooded { everywhere } => return self.be_quiet(now, from, everywhere),
            Verdict::Again => {
                let cookie = Self::cookie(&self.cookies[0], opening.nonce, from, head.initiator_spi);
                return self.answer_plain(door, from, head, 0, |chain| chain.notify(notify::COOKIE, &cookie));
            }
        }
        let Ok(proposals) = proposals(opening.proposals) else { return };
        let chosen = match choose(&proposals, &Sought::ike(Some(opening.group), 0)) {
            Ok(chosen) => chosen,
            Err(words) => {
                let refusal = Refusal { credential: None, reason: Reason::Algorithms, words };
                self.events.push(Event::Refused { from, refusal });
                return self.answer_plain(door, from, head, 0, |chain| chain.notify(notify::NO_PROPOSAL_CHOSEN, &[]));
            }
        };
        let Some(group) = chosen.suite.group else { return };
        if group.number() != opening.group {
            let wanted = group.number().to_be_bytes();
            return self.answer_plain(door, from, head, 0, |chain| chain.notify(notify::INVALID_KE_PAYLOAD, &wanted));
        }
        let agreed = Exchange::new(group, &mut *self.random)
            .and_then(|exchange| Some((exchange.public().to_vec(), exchange.agree(opening.key)?)));
        let Some((public, shared)) = agreed else { return };
        let own = self.random_spi();
        let nonce = self.nonce();
        let spis = (head.initiator_spi, own);
        let keys = Keys::first(&chosen.suite, &shared, (opening.nonce, &nonce), spis);
        let Some(sealed) = Sealed::new(&chosen.suite, &keys, false) else { return };
        let mut chain = Chain::default();
        chain.add(kind::SA, &emit_proposals(&[chosen.proposal(PROTOCOL_IKE, &[])]));
        chain.add(kind::KE, &emit_key_exchange(group.number(), &public));
        chain.add(kind::NONCE, &nonce);
        self.say_addresses(&mut chain, spis, from);
        let authorities = keeper.authorities();
        if !authorities.is_empty() {
            chain.add(kind::CERTREQ, &[&[4], &authorities[..]].concat());
        }
        if opening.in_parts {
            chain.notify(notify::FRAGMENTATION_SUPPORTED, &[]);
        }
        if !opening.hashes.is_empty() {
            let hashes: Vec<u8> = HASHES.iter().flat_map(|hash| hash.to_be_bytes()).collect();
            chain.notify(notify::SIGNATURE_HASH_ALGORITHMS, &hashes);
        }
        let (first, body) = chain.parts();
        let answer = Head { responder_spi: own, first, from_initiator: false, response: true, ..*head };
        let response = [&answer.emit(HEAD + body.len())[..], body].concat();
        let greeting = Greeting {
            request: datagram.to_vec(),
            response: response.clone(),
            nonces: (opening.nonce.to_vec(), nonce),
            hashes: opening.hashes,
            software: "ikev2".into(),
        };
        self.make_room();
        let sa = Sa {
            own,
            other: head.initiator_spi,
            made_here: false,
            suite: chosen.suite,
            keys,
            sealed,
            phase: Phase::Greeted(Box::new(greeting)),
            in_parts: opening.in_parts,
            parts: Parts::default(),
            expected: 1,
            answered: Vec::new(),
            next: 0,
            pending: None,
            todo: VecDeque::new(),
            path: Path::new(from),
            crossing: None,
            calm_until: Moment(0),
        };
        self.sas.insert(own, sa);
        self.greeted.insert((head.initiator_spi, from), own);
        self.waiting.push_back(own);
        self.timers.set(Timer::Forget(own), now.after(PATIENCE));
        self.send(door, from, vec![response]);
    }

    /// The cookie for an opening (section 2.6): by a secret that changes, from the nonce, the address and the SPI.
    fn cookie(key: &SipHasher24, nonce: &[u8], from: SocketAddr, spi: u64) -> [u8; 16] {
        let mut hasher = *key;
        hasher.write(nonce);
        match from.ip().to_canonical() {
            IpAddr::V4(four) => hasher.write(&four.octets()),
            IpAddr::V6(six) => hasher.write(&six.octets()),
        }
        hasher.write(&spi.to_be_bytes());
        hasher.finish128().as_bytes()
    }

    /// Where too many wait that have shown nothing, the one that has waited longest goes.
    fn make_room(&mut self) {
        if self.waiting.len() >= 4 * GREETED {
            let live: std::collections::HashSet<u64> = self.greeted.values().copied().collect();
            self.waiting.retain(|own| live.contains(own));
        }
        while self.greeted.len() >= GREETED {
            let Some(oldest) = self.waiting.pop_front() else { return };
            self.ungreet(oldest);
            if self.sas.get(&oldest).is_some_and(|sa| !matches!(sa.phase, Phase::Up(_) | Phase::Over)) {
                self.sas.remove(&oldest);
                self.timers.clear(Timer::Forget(oldest));
            }
        }
    }

    /// An answer of which nothing is kept.
    fn answer_plain(&mut self, door: Door, from: SocketAddr, head: &Head, spi: u64, say: impl FnOnce(&mut Chain)) {
        let mut chain = Chain::default();
        say(&mut chain);
        let (first, body) = chain.parts();
        let answer = Head { responder_spi: spi, first, from_initiator: false, response: true, ..*head };
        let message = [&answer.emit(HEAD + body.len())[..], body].concat();
        debug_assert_eq!(answer.exchange, exchange::INIT);
        self.send(door, from, vec![message]);
    }
}
