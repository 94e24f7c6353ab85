//! One pair of associations in use between two ends: from one into the other. The threads that move packets share pairs; the state
//! machine makes and forgets them.

use std::net::SocketAddr;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};

use aes::cipher::{BlockCipherEncrypt as _, KeyInit as _};
use parking_lot::Mutex;

use super::cipher::{Encryption, Key, Protection};
use super::ecn;
use crate::counters::Counters;
use crate::replay::Window;
use crate::{Moment, Outward};

/// SPI and sequence number.
pub const HEAD: usize = 8;
/// Bytes at most that ESP adds to an inner packet, without UDP and IP: head, vector, padding, its length, the next header, tag.
pub const OVERHEAD: usize = HEAD + 16 + 15 + 2 + 32;
/// After so many packets in one direction a renewal is asked for.
pub const WORN: u64 = 1 << 30;
/// The last sequence number of 32 bits (RFC 4303 section 3.3.3).
const LAST: u64 = u32::MAX as u64;

/// Next headers (RFC 4303 section 2.6).
const IPV4: u8 = 4;
const IPV6: u8 = 41;

/// Where the other end of a session is, for all its pairs at once.
pub struct Path {
    at: Mutex<SocketAddr>,
}

impl Path {
    /// A path to an address.
    #[must_use]
    pub fn new(at: SocketAddr) -> Arc<Self> {
        Arc::new(Self { at: Mutex::new(at) })
    }

    /// Where it leads.
    #[must_use]
    pub fn get(&self) -> SocketAddr {
        *self.at.lock()
    }

    /// It leads elsewhere.
    pub fn set(&self, at: SocketAddr) {
        *self.at.lock() = at;
    }
}

/// Why a packet does not go through.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Dropped {
    /// Seen before, or too old to tell.
    Replayed,
    /// Altered, or not of this pair.
    Altered,
    /// What is inside is no packet.
    Inside,
    /// The keys must not be used further.
    Spent,
}

/// One pair of associations.
pub struct Pair {
    /// The SPI under which this end receives.
    pub own: u32,
    /// The SPI under which the other end receives.
    pub other: u32,
    /// The number of the session.
    pub session: u64,
    pub counters: Arc<Counters>,
    pub path: Arc<Path>,
    protection: Protection,
    extended: bool,
    out_key: Key,
    in_key: Key,
    /// The sequence number of the next packet.
    next: AtomicU64,
    window: Mutex<Window>,
    /// Makes vectors of CBC from sequence numbers, so that nobody can foresee them.
    vectors: Option<aes::Aes128>,
    heard: AtomicBool,
    worn: AtomicBool,
}

/// What a pair is made of.
pub struct Made<'a> {
    pub own: u32,
    pub other: u32,
    pub session: u64,
    pub counters: Arc<Counters>,
    pub path: Arc<Path>,
    pub protection: Protection,
    /// Sequence numbers have 64 bits.
    pub extended: bool,
    /// Encryption and integrity towards the other end, and from it.
    pub out_keys: (&'a [u8], &'a [u8]),
    pub in_keys: (&'a [u8], &'a [u8]),
    /// Of no use to anybody else.
    pub vector_key: [u8; 16],
}

impl Pair {
    /// A pair; `None` where the keys do not have the lengths that the protection needs.
    #[must_use]
    pub fn new(made: Made<'_>) -> Option<Arc<Self>> {
        let protection = made.protection;
        let cbc = matches!(protection.encryption, Encryption::AesCbc(_));
        Some(Arc::new(Self {
            own: made.own,
            other: made.other,
            session: made.session,
            counters: made.counters,
            path: made.path,
            protection,
            extended: made.extended,
            out_key: Key::new(protection, made.out_keys.0, made.out_keys.1)?,
            in_key: Key::new(protection, made.in_keys.0, made.in_keys.1)?,
            next: AtomicU64::new(1),
            window: Mutex::default(),
            vectors: cbc.then(|| aes::Aes128::new(&made.vector_key.into())),
            heard: AtomicBool::new(false),
            worn: AtomicBool::new(false),
        }))
    }

    /// Bytes of a datagram with an inner packet of so many.
    #[must_use]
    pub fn length(&self, packet: usize) -> usize {
        HEAD + self.protection.iv() + packet + self.padding(packet) + 2 + self.protection.tag()
    }

    /// At least to four, so that the next header ends a word (RFC 4303 section 2.4).
    fn padding(&self, packet: usize) -> usize {
        let block = self.protection.block().max(4);
        (block - (packet + 2) % block) % block
    }

    /// Whether the other end has sent something in it: it has the keys.
    #[must_use]
    pub fn is_heard(&self) -> bool {
        self.heard.load(Ordering::Relaxed)
    }

    /// Whether a renewal is to be asked for; once.
    pub fn take_worn(&self) -> bool {
        self.worn.load(Ordering::Relaxed) && self.worn.swap(false, Ordering::Relaxed)
    }

    /// The SPI of a datagram that may be ESP.
    #[must_use]
    pub fn spi(datagram: &[u8]) -> Option<u32> {
        Some(u32::from_be_bytes(datagram.get(..4)?.try_into().ok()?)).filter(|_| datagram.len() > HEAD)
    }

    /// What is authenticated with AEAD (RFC 4106 section 5), and what follows the message under HMAC (RFC 4303 section 2.2.1).
    fn covered(&self, spi: u32, number: u64) -> ([u8; 12], usize, [u8; 4]) {
        let (high, low) = (((number >> 32) as u32).to_be_bytes(), (number as u32).to_be_bytes());
        let mut aad = [0; 12];
        aad[..4].copy_from_slice(&spi.to_be_bytes());
        if self.extended {
            aad[4..8].copy_from_slice(&high);
            aad[8..].copy_from_slice(&low);
            (aad, 12, high)
        } else {
            aad[4..8].copy_from_slice(&low);
            (aad, 8, high)
        }
    }

    /// Appends an inner packet to `out`, protected.
    ///
    /// # Errors
    /// [`Dropped::Spent`], [`Dropped::Inside`] for what is no IP packet; then nothing is appended.
    pub fn seal_packet(&self, now: Moment, packet: &[u8], out: &mut Vec<u8>) -> Result<(), Dropped> {
        let following = match packet.first().ok_or(Dropped::Inside)? >> 4 {
            4 => IPV4,
            6 => IPV6,
            _ => return Err(Dropped::Inside),
        };
        let number = self.next.fetch_add(1, Ordering::Relaxed);
        if !self.extended && number > LAST {
            // It stays there, however often somebody tries.
            self.next.store(LAST + 1, Ordering::Relaxed);
            return Err(Dropped::Spent);
        }
        if number == WORN || number == 2 * WORN || number == 3 * WORN {
            self.worn.store(true, Ordering::Relaxed);
        }
        let start = out.len();
        out.extend_from_slice(&self.other.to_be_bytes());
        out.extend_from_slice(&(number as u32).to_be_bytes());
        match &self.vectors {
            None => out.extend_from_slice(&number.to_be_bytes()),
            Some(cipher) => {
                let mut block = aes::Block::default();
                block[..8].copy_from_slice(&number.to_be_bytes());
                cipher.encrypt_block(&mut block);
                out.extend_from_slice(&block);
            }
        }
        out.extend_from_slice(packet);
        let padding = self.padding(packet.len());
        (1..=padding as u8).for_each(|byte| out.push(byte));
        out.extend_from_slice(&[padding as u8, following]);
        out.resize(out.len() + self.protection.tag(), 0);
        let (aad, length, high) = self.covered(self.other, number);
        let after = if self.extended { &high[..] } else { &[] };
        if self.out_key.seal(&mut out[start..], HEAD, &aad[..length], after).is_none() {
            out.truncate(start);
            return Err(Dropped::Inside);
        }
        self.counters.sent.fetch_add(packet.len() as u64, Ordering::Relaxed);
        self.counters.spoke.store(now.0, Ordering::Relaxed);
        Ok(())
    }

    /// Opens a datagram in place; gives the inner packet, and whether it is the newest of all.
    ///
    /// # Errors
    /// [`Dropped`].
    pub fn open<'d>(&self, now: Moment, datagram: &'d mut [u8]) -> Result<(&'d mut [u8], bool), Dropped> {
        let low =
            datagram.get(4..8).and_then(|low| low.try_into().ok()).map(u32::from_be_bytes).ok_or(Dropped::Altered)?;
        let number = {
            let window = self.window.lock();
            let number = if self.extended { window.whole(low) } else { u64::from(low) };
            if number == 0 || !window.is_new(number) {
                return Err(Dropped::Replayed);
            }
            number
        };
        let (aad, length, high) = self.covered(self.own, number);
        let after = if self.extended { &high[..] } else { &[] };
        let plain = self.in_key.open(datagram, HEAD, &aad[..length], after).map_err(|_| Dropped::Altered)?;
        let newest = {
            // Looked at again: the same datagram may have come twice at once.
            let mut window = self.window.lock();
            if !window.is_new(number) {
                return Err(Dropped::Replayed);
            }
            let newest = number >= window.next();
            window.mark(number);
            newest
        };
        if number >= WORN && number.is_multiple_of(WORN) {
            self.worn.store(true, Ordering::Relaxed);
        }
        if !self.heard.load(Ordering::Relaxed) {
            self.heard.store(true, Ordering::Relaxed);
        }
        self.counters.heard.store(now.0, Ordering::Relaxed);
        let length = inside(plain).ok_or(Dropped::Inside)?;
        Ok((&mut plain[..length], newest))
    }

    /// Bytes of an inner packet that goes on.
    pub fn count_received(&self, bytes: usize) {
        self.counters.received.fetch_add(bytes as u64, Ordering::Relaxed);
    }

    /// As if so many packets had gone out.
    #[cfg(test)]
    pub(crate) fn skip_to(&self, number: u64) {
        self.next.store(number, Ordering::Relaxed);
    }
}

impl Outward for Pair {
    fn to(&self) -> SocketAddr {
        self.path.get()
    }

    fn length(&self, packet: usize) -> usize {
        self.length(packet)
    }

    fn mark(&self, packet: &[u8]) -> u8 {
        ecn::of(packet)
    }

    fn lay(&self, now: Moment, packet: &[u8], out: &mut Vec<u8>) -> bool {
        self.seal_packet(now, packet, out).is_ok()
    }
}

/// How long the packet is that begins what was encrypted: without padding, also without what was added to hide its length (RFC 4303 section
/// 2.7).
fn inside(plain: &[u8]) -> Option<usize> {
    let [rest @ .., padding, following] = plain else { return None };
    let payload = rest.get(..rest.len().checked_sub(usize::from(*padding))?)?;
    let length = match (following, payload.first()? >> 4) {
        (&IPV4, 4) if payload.len() >= 20 => usize::from(u16::from_be_bytes([payload[2], payload[3]])),
        (&IPV6, 6) if payload.len() >= 40 => 40 + usize::from(u16::from_be_bytes([payload[4], payload[5]])),
        _ => return None,
    };
    (20..=payload.len()).contains(&length).then_some(length)
}

#[cfg(test)]
mod tests {
    use super::super::cipher::Integrity;
    use super::*;

    /// Both ends of a pair.
    fn both(protection: Protection, extended: bool) -> (Arc<Pair>, Arc<Pair>) {
        let bytes: Vec<u8> = (0..200).collect();
        let (key, integrity) = (protection.key_length(), protection.integrity_key_length());
        let (one, other) = ((&bytes[..key], &bytes[..integrity]), (&bytes[9..9 + key], &bytes[9..9 + integrity]));
        let make = |own, peer, out_keys, in_keys| {
            Pair::new(Made {
                own,
                other: peer,
                session: 1,
                counters: Arc::default(),
                path: Path::new("198.51.100.7:4500".parse().unwrap()),
                protection,
                extended,
                out_keys,
                in_keys,
                vector_key: [3; 16],
            })
            .unwrap()
        };
        (make(0x1111, 0x2222, one, other), make(0x2222, 0x1111, other, one))
    }

    fn packet(length: usize) -> Vec<u8> {
        let mut packet = vec![0x5a; length];
        packet[0] = 0x45;
        packet[2..4].copy_from_slice(&(length as u16).to_be_bytes());
        packet
    }

    const GCM: Protection = Protection { encryption: Encryption::AesGcm(256), integrity: None };

    #[test]
    fn packets_of_every_length_go_through_once_under_every_protection() {
        let cbc = Protection { encryption: Encryption::AesCbc(256), integrity: Some(Integrity::Sha256) };
        let chacha = Protection { encryption: Encryption::ChaCha20Poly1305, integrity: None };
        for (protection, extended) in [(GCM, false), (GCM, true), (cbc, false), (cbc, true), (chacha, true)] {
            let (one, other) = both(protection, extended);
            for length in (20..90).chain([1400, 9000]) {
                let packet = packet(length);
                let mut datagram = Vec::new();
                one.seal_packet(Moment(5), &packet, &mut datagram).unwrap();
                assert_eq!(datagram.len(), one.length(packet.len()), "{protection:?}");
                assert!(datagram.len() <= packet.len() + OVERHEAD);
                assert_eq!(Pair::spi(&datagram), Some(0x2222));
                let mut again = datagram.clone();
                let (inner, newest) = other.open(Moment(7), &mut datagram).unwrap();
                assert_eq!((&*inner, newest), (&packet[..], true));
                assert_eq!(other.open(Moment(7), &mut again), Err(Dropped::Replayed));
            }
            let mut altered = Vec::new();
            one.seal_packet(Moment(5), &packet(60), &mut altered).unwrap();
            altered[40] ^= 1;
            assert_eq!(other.open(Moment(7), &mut altered), Err(Dropped::Altered));
        }
    }

    #[test]
    fn sequence_numbers_do_not_come_around_and_extended_ones_go_on() {
        let (one, other) = both(GCM, false);
        one.skip_to(LAST);
        let mut datagram = Vec::new();
        one.seal_packet(Moment(1), &packet(40), &mut datagram).unwrap();
        assert!(other.open(Moment(1), &mut datagram).is_ok());
        for _ in 0..3 {
            assert_eq!(one.seal_packet(Moment(1), &packet(40), &mut Vec::new()), Err(Dropped::Spent));
        }
        let (one, other) = both(GCM, true);
        for number in [LAST - 1, LAST, LAST + 1, LAST + 2, LAST + 400] {
            one.skip_to(number);
            let mut datagram = Vec::new();
            one.seal_packet(Moment(1), &packet(40), &mut datagram).unwrap();
            assert!(other.open(Moment(1), &mut datagram).is_ok(), "{number:x}");
        }
        one.skip_to(WORN);
        assert!(!one.take_worn());
        one.seal_packet(Moment(1), &packet(40), &mut Vec::new()).unwrap();
        assert!(one.take_worn() && !one.take_worn());
    }

    #[test]
    fn what_hides_the_length_is_taken_off_and_what_is_no_packet_stays_out() {
        let mut longer = packet(50);
        longer.extend_from_slice(&[0; 33]);
        assert_eq!(inside(&[&longer[..], &[1, 2, 2, 4]].concat()), Some(50));
        assert_eq!(inside(&[&packet(50)[..], &[0, 59]].concat()), None, "a dummy (RFC 4303 section 2.6)");
        assert_eq!(inside(&[&packet(50)[..], &[0, 41]].concat()), None, "it says another version");
        assert_eq!(inside(&[&packet(50)[..], &[60, 4]].concat()), None, "padding beyond it");
        let mut lies = packet(50);
        lies[3] = 51;
        assert_eq!(inside(&[&lies[..], &[0, 4]].concat()), None);
        assert_eq!((inside(&[]), inside(&[0]), inside(&[0, 4])), (None, None, None));
    }

    proptest::proptest! {
        #[test]
        fn whatever_comes_is_dropped(mut bytes in proptest::collection::vec(proptest::prelude::any::<u8>(), 0..200)) {
            let (_, other) = both(GCM, true);
            proptest::prop_assert!(other.open(Moment(1), &mut bytes).is_err());
        }
    }
}
