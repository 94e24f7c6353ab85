//! The call secret of a listener: who does not know it makes nothing that the gateway answers, and tells nothing that the two ends
//! send from random bytes.
//!
//! From the secret come two keys: one for the tag in front of an opening, one for the cover over whatever would betray a
//! curve point. The cover's keystream is made from bytes of the message that no other message has. The tag is SipHash-2-4: it is looked
//! at for whatever arrives, in the thread that carries data, and costs a tenth of a hash of SHA-256.

use std::hash::Hasher as _;

use ring::{hkdf, hmac};
use siphasher::sip::SipHasher24;

use crate::Random;

/// The name that goes into every key and every handshake.
pub(super) const NAME: &[u8] = b"yestrel quill 1";
/// Bytes of the tag in front of an opening.
pub const TAG: usize = 8;
/// Bytes of an address token.
pub const TOKEN: usize = 16;

/// An address token: opaque to devices, random bytes where there is none.
pub type Token = [u8; TOKEN];

struct Length(usize);
impl hkdf::KeyType for Length {
    fn len(&self) -> usize {
        self.0
    }
}

/// HKDF-SHA256 (RFC 5869) with the salt of this protocol, for `LEN` bytes.
pub(super) fn expand<const LEN: usize>(secret: &[u8], info: &[&[u8]]) -> zeroize::Zeroizing<[u8; LEN]> {
    let mut out = zeroize::Zeroizing::new([0; LEN]);
    hkdf::Salt::new(hkdf::HKDF_SHA256, NAME)
        .extract(secret)
        .expand(info, Length(LEN))
        .and_then(|okm| okm.fill(&mut out[..]))
        .expect("up to 8,160 bytes are within what HKDF-SHA256 gives");
    out
}

/// The two keys of a call secret.
#[derive(Clone)]
pub struct Call {
    tag: SipHasher24,
    cover: hmac::Key,
}

/// What a cover lies over: no two of them have the same keystream for the same bytes.
#[derive(Debug, Clone, Copy)]
pub(super) enum Under {
    Opening,
    Token,
    Answer,
    Again,
}

impl Under {
    fn label(self) -> &'static [u8] {
        match self {
            Self::Opening => b"opening",
            Self::Token => b"token",
            Self::Answer => b"answer",
            Self::Again => b"again",
        }
    }
}

fn mac(key: &hmac::Key, parts: &[&[u8]]) -> [u8; 32] {
    let mut context = hmac::Context::with_key(key);
    parts.iter().for_each(|part| context.update(part));
    context.sign().as_ref().try_into().expect("HMAC-SHA256 gives 32 bytes")
}

/// Compares without telling by its time where the first difference is.
pub(super) fn same(a: &[u8], b: &[u8]) -> bool {
    a.len() == b.len() && a.iter().zip(b).fold(0, |differs, (a, b)| differs | (a ^ b)) == 0
}

impl Call {
    /// From the secret in the handover.
    #[must_use]
    pub fn new(secret: &[u8; 32]) -> Self {
        let tag = expand::<16>(secret, &[b"tag"]);
        let cover = hmac::Key::new(hmac::HMAC_SHA256, &expand::<32>(secret, &[b"cover"])[..]);
        Self { tag: SipHasher24::new_with_key(&tag), cover }
    }

    fn tag(&self, parts: &[&[u8]]) -> [u8; TAG] {
        let mut tag = self.tag;
        parts.iter().for_each(|part| tag.write(part));
        tag.finish().to_le_bytes()
    }

    /// The tag of an opening over what stands between the tag and the payload.
    pub(super) fn opening_tag(&self, head: &[u8]) -> [u8; TAG] {
        self.tag(&[b"opening", head])
    }

    /// Lays the cover over `bytes` (at most 32), or takes it off. `sample` is what no other message has.
    pub(super) fn cover(&self, under: Under, sample: &[u8], bytes: &mut [u8]) {
        let stream = mac(&self.cover, &[under.label(), sample]);
        for (byte, stream) in bytes.iter_mut().zip(stream) {
            *byte ^= stream;
        }
    }

    /// The datagram that asks the sender of an opening to come again with a token. Never longer than `most`; the rest is random.
    pub(super) fn again(
        &self,
        opening_tag: &[u8; TAG],
        token: &Token,
        most: usize,
        random: &mut dyn Random,
    ) -> Vec<u8> {
        let shortest = TAG + TOKEN;
        let mut datagram = vec![0; shortest + super::below(random, most.saturating_sub(shortest) + 1)];
        random.fill(&mut datagram[shortest..]);
        datagram[TAG..shortest].copy_from_slice(token);
        self.cover(Under::Again, opening_tag, &mut datagram[TAG..shortest]);
        let tag = self.tag(&[b"again", opening_tag, &datagram[TAG..]]);
        datagram[..TAG].copy_from_slice(&tag);
        datagram
    }

    /// The token in a datagram that asks to come again, if it answers the opening with this tag.
    pub(super) fn asked(&self, opening_tag: &[u8; TAG], datagram: &[u8]) -> Option<Token> {
        let (tag, rest) = datagram.split_first_chunk::<TAG>()?;
        let mut token: Token = *rest.first_chunk()?;
        if !same(&self.tag(&[b"again", opening_tag, rest]), tag) {
            return None;
        }
        self.cover(Under::Again, opening_tag, &mut token);
        Some(token)
    }
}
