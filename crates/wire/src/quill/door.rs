//! What a gateway does with an opening before any curve operation: the tag, and the token.
//!
//! [`Door::knock`] keeps no state and is asked by the thread that carries data.

use std::hash::Hasher as _;
use std::net::{IpAddr, SocketAddr};
use std::sync::Arc;
use std::sync::atomic::{AtomicU32, Ordering};

use parking_lot::RwLock;
use siphasher::sip128::{Hasher128 as _, SipHasher24};

use super::call::{Call, TAG, Token};
use super::handshake::{self, Front};
use crate::Moment;
use crate::Random;
use crate::budget::Quiet;

/// A token is good for at least this long, and at most twice as long.
pub const TOKEN_LIFE: u64 = 30_000;
/// A call secret that opens the door.
#[derive(Clone)]
pub struct Valid {
    /// Its number in the estate.
    pub number: u32,
    pub call: Call,
    /// Until when; `None` for the newest.
    pub until: Option<Moment>,
}

/// An opening whose tag is right.
pub struct Knock {
    pub from: SocketAddr,
    pub datagram: Vec<u8>,
    pub call: Call,
    /// Under a call secret that a newer one has replaced.
    pub stale: bool,
}

impl Knock {
    /// What stands in front of it.
    #[must_use]
    pub fn front(&self) -> Option<Front> {
        handshake::front(&self.call, &self.datagram)
    }
}

struct Tokens {
    /// Each with the moment from which on it was given out; good for twice [`TOKEN_LIFE`].
    now: (SipHasher24, Moment),
    before: (SipHasher24, Moment),
}

/// The door of one listener.
pub struct Door {
    calls: RwLock<Arc<Vec<Valid>>>,
    tokens: RwLock<Tokens>,
    quiet: Quiet,
    /// Openings with a right tag since they were last asked for.
    tagged: AtomicU32,
}

fn token_key(random: &mut dyn Random) -> SipHasher24 {
    let mut secret = zeroize::Zeroizing::new([0; 16]);
    random.fill(&mut secret[..]);
    SipHasher24::new_with_key(&secret)
}

/// An address as tokens know it: an IPv4 address is the same in both of its forms.
fn token(key: &SipHasher24, at: SocketAddr) -> Token {
    let mut hasher = *key;
    let address = match at.ip().to_canonical() {
        IpAddr::V4(four) => four.to_ipv6_mapped(),
        IpAddr::V6(six) => six,
    };
    hasher.write(&address.octets());
    hasher.write(&at.port().to_be_bytes());
    hasher.finish128().as_bytes()
}

impl Door {
    /// A door that opens to nobody yet.
    pub fn new(random: &mut dyn Random) -> Self {
        let tokens = Tokens { now: (token_key(random), Moment(0)), before: (token_key(random), Moment(0)) };
        Self {
            calls: RwLock::default(),
            tokens: RwLock::new(tokens),
            quiet: Quiet::new(random),
            tagged: AtomicU32::new(0),
        }
    }

    /// From now on these call secrets open it; the newest first.
    pub fn set_calls(&self, calls: Vec<Valid>) {
        *self.calls.write() = Arc::new(calls);
    }

    /// Whether a datagram is an opening by somebody who knows a call secret that holds. Cheap: it is asked for whatever arrives.
    #[must_use]
    pub fn knock(&self, now: Moment, from: SocketAddr, datagram: &[u8]) -> Option<Knock> {
        let calls = self.calls.read().clone();
        let valid = calls.iter().filter(|valid| valid.until.is_none_or(|until| until > now));
        let valid = valid.into_iter().find(|valid| handshake::is_tagged(&valid.call, datagram))?;
        let (call, stale) = (valid.call.clone(), valid.until.is_some());
        self.tagged.fetch_add(1, Ordering::Relaxed);
        if self.quiet.holds(now, from) {
            let front = handshake::front(&call, datagram)?;
            if !self.proves(now, from, &front) {
                return None;
            }
        }
        Some(Knock { from, datagram: datagram.to_vec(), call, stale })
    }

    /// How many openings with a right tag came since this was last asked.
    pub fn tagged(&self) -> u32 {
        self.tagged.swap(0, Ordering::Relaxed)
    }

    /// Every budget for openings without a token is used up, of the network of this address or of all: until some of it is back, nobody is
    /// woken for them.
    pub fn be_quiet(&self, now: Moment, from: SocketAddr, everywhere: bool) {
        self.quiet.begin(now, from, everywhere);
    }

    /// Whether an opening shows a token that this gateway gave to the address that it comes from.
    #[must_use]
    pub fn proves(&self, now: Moment, from: SocketAddr, front: &Front) -> bool {
        let tokens = self.tokens.read();
        let fresh = [&tokens.now, &tokens.before].into_iter().filter(|(_, since)| now.since(*since) < 2 * TOKEN_LIFE);
        fresh.into_iter().any(|(key, _)| super::call::same(&token(key, from), &front.token))
    }

    /// The datagram that asks the sender of an opening to come again with a token: never longer than the opening.
    pub fn again(&self, now: Moment, knock: &Knock, tag: &[u8; TAG], random: &mut dyn Random) -> Vec<u8> {
        let mut tokens = self.tokens.write();
        if now.since(tokens.now.1) >= TOKEN_LIFE {
            let fresh = (token_key(random), now);
            tokens.before = std::mem::replace(&mut tokens.now, fresh);
        }
        let token = token(&tokens.now.0, knock.from);
        drop(tokens);
        knock.call.again(tag, &token, knock.datagram.len(), random)
    }
}

/// Bytes of the tag by which an opening is told from others.
pub const OPENING_TAG: usize = TAG;

#[cfg(test)]
mod tests {
    use crate::budget::QUIET;

    use super::*;

    struct Steps(u8);
    impl Random for Steps {
        fn fill(&mut self, bytes: &mut [u8]) {
            for byte in bytes {
                *byte = self.0;
                self.0 = self.0.wrapping_mul(5).wrapping_add(3);
            }
        }
    }

    fn at(text: &str) -> SocketAddr {
        text.parse().unwrap()
    }

    fn opening(call: &Call, token: Option<Token>) -> (handshake::Sent, Vec<u8>) {
        let towards = handshake::Towards {
            suite: super::super::Suite::Aes256Gcm,
            call,
            gateway_public: &[9; 32],
            device_private: &[3; 32],
        };
        let opening = super::super::message::Opening {
            versions: vec![1],
            id: super::super::ConnectionId([1; 8]),
            software: String::new(),
            continues: None,
            notice: 0,
        };
        handshake::open(&towards, token, opening, &mut Steps(9))
    }

    #[test]
    fn a_token_is_good_at_one_address_and_for_a_while() {
        let door = Door::new(&mut Steps(7));
        let call = Call::new(&[4; 32]);
        door.set_calls(vec![Valid { number: 1, call: call.clone(), until: None }]);
        let made = |token| opening(&call, token);
        let (here, there) = (at("198.51.100.7:4000"), at("198.51.100.7:4001"));
        let (sent, datagram) = made(None);
        let knock = door.knock(Moment(100), here, &datagram).unwrap();
        let front = knock.front().unwrap();
        assert!(!door.proves(Moment(100), here, &front));
        let again = door.again(Moment(100), &knock, &front.tag, &mut Steps(11));
        assert!(again.len() <= datagram.len());
        let token = sent.asked(&again).unwrap();
        let (other, with) = made(Some(token));
        assert!(other.asked(&again).is_none(), "it answers another opening");
        let with = door.knock(Moment(200), here, &with).unwrap().front().unwrap();
        assert!(door.proves(Moment(200), here, &with));
        assert!(!door.proves(Moment(200), there, &with), "the port counts as well");
        let mapped = at("[::ffff:198.51.100.7]:4000");
        assert!(door.proves(Moment(200), mapped, &with), "the same address as a socket for both has it");
        door.again(Moment(TOKEN_LIFE + 50), &knock, &front.tag, &mut Steps(12));
        assert!(door.proves(Moment(TOKEN_LIFE + 60), here, &with));
        // It has had its time, whether others have been given out since or not.
        assert!(!door.proves(Moment(2 * TOKEN_LIFE), here, &with));
        door.again(Moment(2 * TOKEN_LIFE + 60), &knock, &front.tag, &mut Steps(13));
        assert!(!door.proves(Moment(2 * TOKEN_LIFE + 70), here, &with));
        let mut altered = again.clone();
        altered[TAG + 3] ^= 1;
        assert!(sent.asked(&altered).is_none());
    }

    #[test]
    fn a_quiet_door_opens_to_a_token_alone_and_to_everybody_after_a_while() {
        let door = Door::new(&mut Steps(7));
        let call = Call::new(&[4; 32]);
        door.set_calls(vec![Valid { number: 1, call: call.clone(), until: None }]);
        let here = at("198.51.100.7:4000");
        let (sent, without) = opening(&call, None);
        let knock = door.knock(Moment(100), here, &without).unwrap();
        let again = door.again(Moment(100), &knock, &knock.front().unwrap().tag, &mut Steps(11));
        let (_, with) = opening(&call, sent.asked(&again));
        door.be_quiet(Moment(200), here, false);
        assert!(door.knock(Moment(200 + QUIET - 1), here, &without).is_none());
        assert!(door.knock(Moment(200 + QUIET - 1), here, &with).is_some());
        assert!(door.knock(Moment(200 + QUIET - 1), at("198.51.100.7:4001"), &with).is_none());
        assert!(door.knock(Moment(200 + QUIET), here, &without).is_some());
        door.be_quiet(Moment(300), at("203.0.113.9:4000"), false);
        assert!(door.knock(Moment(300), here, &without).is_some(), "it is another network's");
        door.be_quiet(Moment(300), at("203.0.113.9:4000"), true);
        assert!(door.knock(Moment(300), here, &without).is_none());
    }

    #[test]
    fn a_call_secret_that_was_replaced_opens_until_its_end_and_is_known_as_such() {
        let door = Door::new(&mut Steps(7));
        let (old, new) = (Call::new(&[4; 32]), Call::new(&[5; 32]));
        door.set_calls(vec![
            Valid { number: 2, call: new.clone(), until: None },
            Valid { number: 1, call: old.clone(), until: Some(Moment(1_000)) },
        ]);
        let opening = |call: &Call| {
            let mut datagram = vec![7; 1000];
            let tag = call.opening_tag(&datagram[TAG..104]);
            datagram[..TAG].copy_from_slice(&tag);
            datagram
        };
        let knock =
            |call: &Call, now| door.knock(now, at("198.51.100.7:4000"), &opening(call)).map(|knock| knock.stale);
        assert_eq!(knock(&new, Moment(999)), Some(false));
        assert_eq!(knock(&old, Moment(999)), Some(true));
        assert_eq!(knock(&old, Moment(1_000)), None);
        assert_eq!(knock(&Call::new(&[6; 32]), Moment(1)), None);
    }
}
