//! The algorithms, and the protection of one datagram.
//!
//! ```text
//!  0        8       12                                    n-16       n
//!  +--------+--------+--------------------------------------+---------+
//!  | conn.  | number | frames, encrypted                    | tag     |
//!  | id     | masked |                                      |         |
//!  +--------+--------+--------------------------------------+---------+
//! ```
//!
//! The packet number travels as its low 32 bits, masked as RFC 9001 section 5.4 masks QUIC's, so that
//! nothing in a datagram counts visibly. Authenticated beside the frames: the connection id and
//! the whole 64-bit number.

use std::fmt;
use std::str::FromStr;

use ring::aead::{self, LessSafeKey, Nonce, UnboundKey, quic};

use super::ConnectionId;
use crate::replay::Window;

/// Bytes before the frames.
pub const HEAD: usize = 12;
/// Bytes after the frames.
pub const TAG: usize = 16;
/// Where the masked packet number stands.
const NUMBER: std::ops::Range<usize> = 8..12;
/// RFC 9001 section 6.6 and appendix B: AES-GCM keys protect at most 2^23 datagrams.
pub const MOST_DATAGRAMS: u64 = 1 << 23;

/// One of the two sets of algorithms; both use X25519 and SHA-256.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Suite {
    /// AES-256-GCM: fastest where the processor has instructions for AES.
    Aes256Gcm,
    /// ChaCha20-Poly1305: fastest everywhere else.
    ChaCha20Poly1305,
}

impl Suite {
    /// The name of the Noise protocol (Noise specification, section 8).
    #[must_use]
    pub fn noise(self) -> &'static str {
        match self {
            Self::Aes256Gcm => "Noise_IK_25519_AESGCM_SHA256",
            Self::ChaCha20Poly1305 => "Noise_IK_25519_ChaChaPoly_SHA256",
        }
    }

    fn aead(self) -> &'static aead::Algorithm {
        match self {
            Self::Aes256Gcm => &aead::AES_256_GCM,
            Self::ChaCha20Poly1305 => &aead::CHACHA20_POLY1305,
        }
    }

    fn mask(self) -> &'static quic::Algorithm {
        match self {
            Self::Aes256Gcm => &quic::AES_256,
            Self::ChaCha20Poly1305 => &quic::CHACHA20,
        }
    }
}

impl fmt::Display for Suite {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Self::Aes256Gcm => "aes-256-gcm",
            Self::ChaCha20Poly1305 => "chacha20-poly1305",
        })
    }
}

impl FromStr for Suite {
    type Err = UnknownSuite;

    fn from_str(text: &str) -> Result<Self, UnknownSuite> {
        match text {
            "aes-256-gcm" => Ok(Self::Aes256Gcm),
            "chacha20-poly1305" => Ok(Self::ChaCha20Poly1305),
            _ => Err(UnknownSuite(text.into())),
        }
    }
}

/// A cipher that the tunnel does not have.
#[derive(Debug, thiserror::Error)]
#[error("the quill tunnel has no cipher {0:?}; it has aes-256-gcm and chacha20-poly1305")]
pub struct UnknownSuite(String);

/// Why a datagram was dropped. None of these is ever answered.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum Dropped {
    #[error("shorter than an empty datagram")]
    Short,
    #[error("not made with the keys of this connection")]
    Forged,
    #[error("seen before, or too old to tell")]
    Replayed,
    #[error("the keys have protected all that they may")]
    Spent,
}

struct Keys {
    aead: LessSafeKey,
    mask: quic::HeaderProtectionKey,
}

impl Keys {
    /// RFC 5869 with SHA-256: one direction's Noise key gives the key of the frames and that of the mask.
    fn derive(suite: Suite, secret: &[u8; 32]) -> Self {
        let expand = |label: &[u8]| super::call::expand::<32>(&secret[..], &[label]);
        let frames = UnboundKey::new(suite.aead(), &expand(b"frames")[..]).expect("both ciphers take 32 bytes");
        let mask =
            quic::HeaderProtectionKey::new(suite.mask(), &expand(b"number")[..]).expect("both masks take 32 bytes");
        Self { aead: LessSafeKey::new(frames), mask }
    }

    fn mask(&self, sample: &[u8]) -> Result<[u8; 4], Dropped> {
        let mask = self.mask.new_mask(&sample[..16]).map_err(|_| Dropped::Short)?;
        Ok([mask[0], mask[1], mask[2], mask[3]])
    }
}

fn nonce(number: u64) -> Nonce {
    let mut bytes = [0; 12];
    bytes[4..].copy_from_slice(&number.to_be_bytes());
    Nonce::assume_unique_for_key(bytes)
}

fn beside(id: ConnectionId, number: u64) -> aead::Aad<[u8; 16]> {
    let mut bytes = [0; 16];
    bytes[..8].copy_from_slice(&id.0);
    bytes[8..].copy_from_slice(&number.to_be_bytes());
    aead::Aad::from(bytes)
}

/// The sending half of a connection's keys. Each number is used once, because only
/// [`SealKey::seal`] advances it.
pub struct SealKey {
    keys: Keys,
    to: ConnectionId,
    next: u64,
}

impl SealKey {
    pub(crate) fn new(suite: Suite, secret: &[u8; 32], to: ConnectionId) -> Self {
        Self { keys: Keys::derive(suite, secret), to, next: 0 }
    }

    /// How many datagrams these keys have protected.
    #[must_use]
    pub fn used(&self) -> u64 {
        self.next
    }

    /// As if so many had been protected already.
    #[cfg(test)]
    pub(crate) fn skip_to(&mut self, number: u64) {
        self.next = number;
    }

    /// Protects one datagram in place: `datagram` is [`HEAD`] bytes of anything, the frames, and
    /// [`TAG`] bytes of anything.
    ///
    /// # Errors
    /// [`Dropped::Short`] below 28 bytes; [`Dropped::Spent`] after [`MOST_DATAGRAMS`].
    pub fn seal(&mut self, datagram: &mut [u8]) -> Result<(), Dropped> {
        if datagram.len() < HEAD + TAG {
            return Err(Dropped::Short);
        }
        if self.next >= MOST_DATAGRAMS {
            return Err(Dropped::Spent);
        }
        let number = self.next;
        self.next += 1;
        let (head, rest) = datagram.split_at_mut(HEAD);
        let (frames, tag) = rest.split_at_mut(rest.len() - TAG);
        let made = self
            .keys
            .aead
            .seal_in_place_separate_tag(nonce(number), beside(self.to, number), frames)
            .map_err(|_| Dropped::Spent)?;
        tag.copy_from_slice(made.as_ref());
        head[..8].copy_from_slice(&self.to.0);
        let mask = self.keys.mask(rest)?;
        for (place, (byte, mask)) in head[NUMBER].iter_mut().zip((number as u32).to_be_bytes().into_iter().zip(mask)) {
            *place = byte ^ mask;
        }
        Ok(())
    }
}

/// The receiving half of a connection's keys, with its replay window.
pub struct OpenKey {
    keys: Keys,
    id: ConnectionId,
    seen: Window,
}

impl OpenKey {
    pub(crate) fn new(suite: Suite, secret: &[u8; 32], id: ConnectionId) -> Self {
        Self { keys: Keys::derive(suite, secret), id, seen: Window::default() }
    }

    /// How many datagrams the other end has protected with these keys, as far as was seen.
    #[must_use]
    pub fn used(&self) -> u64 {
        self.seen.next()
    }

    /// Opens one datagram in place and gives its frames.
    ///
    /// # Errors
    /// Says why the datagram is to be dropped; the keys' state is then as before.
    pub fn open<'a>(&mut self, datagram: &'a mut [u8]) -> Result<&'a mut [u8], Dropped> {
        if datagram.len() < HEAD + TAG {
            return Err(Dropped::Short);
        }
        let mask = self.keys.mask(&datagram[HEAD..])?;
        let mut low = [0; 4];
        for (byte, (masked, mask)) in low.iter_mut().zip(datagram[NUMBER].iter().zip(mask)) {
            *byte = masked ^ mask;
        }
        let number = self.seen.whole(u32::from_be_bytes(low));
        if !self.seen.is_new(number) {
            return Err(Dropped::Replayed);
        }
        let frames = self
            .keys
            .aead
            .open_in_place(nonce(number), beside(self.id, number), &mut datagram[HEAD..])
            .map_err(|_| Dropped::Forged)?;
        self.seen.mark(number);
        Ok(frames)
    }
}
