//! Encrypted messages (RFC 7296 section 3.14, RFC 5282), whole and in parts (RFC 7383).

use std::collections::BTreeMap;

use super::message::{HEAD, Head, PAYLOAD_HEAD, Payload, kind};
use super::suite::{Keys, Suite};
use crate::Random;
use crate::esp::cipher::{Encryption, Key, Protection};

/// Bytes at most of a message that is one datagram, where parts are agreed on: it passes every path of IPv6.
pub const PART: usize = 1_200;
/// Bytes at most that parts are put together to: a chain of certificates and everything beside it.
pub const MOST: usize = 48 * 1024;
/// Parts at most.
const MOST_PARTS: u16 = 256;

/// What protects the messages of one association.
pub struct Sealed {
    protection: Protection,
    out: Key,
    inward: Key,
    /// The next vector with AEAD.
    next: u64,
}

/// A part of a message, opened.
pub struct Part {
    pub number: u16,
    pub total: u16,
    /// The kind of the first payload; of the first part alone.
    pub inside: u8,
    pub plain: Vec<u8>,
}

impl Sealed {
    /// The protection of an association that this end made, or the other. `None` where the keys do not fit.
    #[must_use]
    pub fn new(suite: &Suite, keys: &Keys, made_here: bool) -> Option<Self> {
        let initiator = Key::new(suite.protection, &keys.initiator_encryption, &keys.initiator_integrity)?;
        let responder = Key::new(suite.protection, &keys.responder_encryption, &keys.responder_integrity)?;
        let (out, inward) = if made_here { (initiator, responder) } else { (responder, initiator) };
        Some(Self { protection: suite.protection, out, inward, next: 0 })
    }

    /// The datagrams of a message: one, or parts where these are agreed on and it is long.
    pub fn seal(&mut self, head: &Head, first: u8, plain: &[u8], parts: bool, random: &mut dyn Random) -> Vec<Vec<u8>> {
        let room = PART - HEAD - PAYLOAD_HEAD - 4 - self.protection.iv() - 16 - self.protection.tag();
        if !parts || plain.len() <= room {
            return vec![self.one(head, first, &[], plain, random)];
        }
        let pieces: Vec<_> = plain.chunks(room).collect();
        let total = pieces.len() as u16;
        let numbered = (1..).zip(pieces);
        let one = |(number, piece): (u16, &[u8])| {
            let front = [number.to_be_bytes(), total.to_be_bytes()].concat();
            self.one(head, if number == 1 { first } else { 0 }, &front, piece, random)
        };
        numbered.map(one).collect()
    }

    fn one(&mut self, head: &Head, first: u8, front: &[u8], plain: &[u8], random: &mut dyn Random) -> Vec<u8> {
        let block = self.protection.block();
        let padding = (block - (plain.len() + 1) % block) % block;
        let start = HEAD + PAYLOAD_HEAD + front.len();
        let length = start + self.protection.iv() + plain.len() + padding + 1 + self.protection.tag();
        let own = if front.is_empty() { kind::SK } else { kind::SKF };
        let mut out = Vec::with_capacity(length);
        out.extend_from_slice(&Head { first: own, ..*head }.emit(length));
        out.extend_from_slice(&[first, 0]);
        out.extend_from_slice(&((length - HEAD) as u16).to_be_bytes());
        out.extend_from_slice(front);
        if matches!(self.protection.encryption, Encryption::AesCbc(_)) {
            let mut iv = [0; 16];
            random.fill(&mut iv);
            out.extend_from_slice(&iv);
        } else {
            out.extend_from_slice(&self.next.to_be_bytes());
            self.next += 1;
        }
        out.extend_from_slice(plain);
        out.resize(out.len() + padding, 0);
        out.push(padding as u8);
        out.resize(length, 0);
        let aad = out[..start].to_vec();
        // Its own lengths are right.
        let sealed = self.out.seal(&mut out, start, &aad, &[]);
        debug_assert!(sealed.is_some());
        out
    }

    /// What stands in the encrypted payload of a message: its first kind and its plain bytes, or a part. `None`: altered, or laid out wrong.
    #[must_use]
    pub fn open(&self, datagram: &[u8], payload: &Payload<'_>) -> Option<Part> {
        let front = if payload.kind == kind::SKF { 4 } else { 0 };
        let start = datagram.len() - payload.body.len() + front;
        if payload.body.len() < front + self.protection.iv() + self.protection.tag() {
            return None;
        }
        let mut bytes = datagram.to_vec();
        let plain = self.inward.open(&mut bytes, start, &datagram[..start], &[]).ok()?;
        let padding = usize::from(*plain.last()?);
        let plain = plain.get(..plain.len().checked_sub(padding + 1)?)?.to_vec();
        let be = |at: usize| u16::from_be_bytes([payload.body[at], payload.body[at + 1]]);
        let (number, total) = if front == 0 { (1, 1) } else { (be(0), be(2)) };
        Some(Part { number, total, inside: payload.inside, plain })
    }
}

/// Parts of one message on their way to be whole (RFC 7383 section 2.6). Each was opened before: nobody else puts anything in.
#[derive(Default)]
pub struct Parts {
    of: u32,
    total: u16,
    inside: u8,
    there: BTreeMap<u16, Vec<u8>>,
    bytes: usize,
}

impl Parts {
    /// Takes a part of message `of`; gives the whole message once it is.
    pub fn take(&mut self, of: u32, part: Part) -> Option<(u8, Vec<u8>)> {
        let Part { number, total, inside, plain } = part;
        if number == 0 || number > total || total > MOST_PARTS || (number == 1) != (inside != 0) {
            return None;
        }
        if self.there.is_empty() || self.of != of || total > self.total {
            // Another message, or the same in smaller parts.
            *self = Self { of, total, ..Self::default() };
        }
        if total != self.total || self.there.contains_key(&number) {
            return None;
        }
        if self.bytes + plain.len() > MOST {
            *self = Self::default();
            return None;
        }
        self.bytes += plain.len();
        if number == 1 {
            self.inside = inside;
        }
        self.there.insert(number, plain);
        if self.there.len() < usize::from(self.total) {
            return None;
        }
        let done = std::mem::take(self);
        Some((done.inside, done.there.into_values().flatten().collect()))
    }

    /// Whether some are there and others are missing.
    #[must_use]
    pub fn is_begun(&self) -> bool {
        !self.there.is_empty()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn part(number: u16, total: u16, plain: &[u8]) -> Part {
        Part { number, total, inside: if number == 1 { 35 } else { 0 }, plain: plain.to_vec() }
    }

    #[test]
    fn parts_that_contradict_each_other_never_make_a_message() {
        let mut parts = Parts::default();
        assert!(parts.take(1, part(2, 2, b"b")).is_none() && parts.is_begun());
        assert!(parts.take(1, part(2, 2, b"x")).is_none(), "the same again");
        assert_eq!(parts.take(1, part(1, 2, b"a")), Some((35, b"ab".to_vec())));
        assert!(!parts.is_begun());
        assert!(parts.take(1, part(0, 2, b"a")).is_none() && parts.take(1, part(3, 2, b"a")).is_none());
        assert!(parts.take(1, part(1, 500, b"a")).is_none() && !parts.is_begun(), "a million of them");
        // The same message in smaller parts takes the place of what was there (section 2.6).
        assert!(parts.take(1, part(1, 2, b"a")).is_none());
        assert!(parts.take(1, part(1, 3, b"a")).is_none());
        assert!(parts.take(1, part(2, 2, b"b")).is_none(), "of before");
        assert!(parts.take(1, part(2, 3, b"b")).is_none());
        assert_eq!(parts.take(1, part(3, 3, b"c")), Some((35, b"abc".to_vec())));
        assert!(parts.take(1, part(1, 2, b"a")).is_none());
        assert!(parts.take(2, part(2, 2, b"b")).is_none(), "of another message");
        let large = vec![0; MOST / 2 + 1];
        assert!(parts.take(3, part(1, 3, &large)).is_none() && parts.take(3, part(2, 3, &large)).is_none());
        assert!(!parts.is_begun(), "longer than anything that is needed");
    }

    proptest! {
        #[test]
        fn in_whatever_order_they_come_the_message_is_the_same(bytes in proptest::collection::vec(any::<u8>(), 1..400), size in 1_usize..60, seed in any::<u64>()) {
            let pieces: Vec<_> = bytes.chunks(size).collect();
            prop_assume!(pieces.len() < 200);
            let mut order: Vec<usize> = (0..pieces.len()).collect();
            order.sort_by_key(|at| (*at as u64 + 1).wrapping_mul(seed | 1).rotate_left(17));
            let mut parts = Parts::default();
            let mut whole = None;
            for at in order {
                prop_assert!(whole.is_none());
                whole = parts.take(7, part(at as u16 + 1, pieces.len() as u16, pieces[at]));
            }
            prop_assert_eq!(whole, Some((35, bytes)));
        }
    }
}
