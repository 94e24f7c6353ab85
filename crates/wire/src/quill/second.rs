//! The second secret: ML-KEM-768 (FIPS 203), so that what is recorded today stays secret from a quantum computer of later.
//!
//! The device's key (1,184 bytes) travels in two frames under the first keys, the gateway's ciphertext (1,088 bytes) in one. From both secrets and
//! everything that was said come the keys under which inner packets travel.

use std::convert::Infallible;

use ml_kem::kem::{Decapsulate as _, Encapsulate as _, KeyExport as _};
use ml_kem::ml_kem_768::{DecapsulationKey, EncapsulationKey};
use ring::digest;
use zeroize::Zeroizing;

use super::ConnectionId;
use super::call::expand;
use super::keys::{First, Split};
use crate::Random;

/// Bytes of the device's key.
pub const KEY: usize = 1184;
/// Bytes of each of the two parts in which it travels.
pub const PART: usize = KEY / 2;
/// Bytes of the gateway's ciphertext.
pub const CIPHERTEXT: usize = 1088;

/// The device's half.
pub struct Offer {
    private: DecapsulationKey,
    public: [u8; KEY],
}

struct Drawn<'a>(&'a mut dyn Random);

impl rand_core::TryRng for Drawn<'_> {
    type Error = Infallible;

    fn try_next_u32(&mut self) -> Result<u32, Infallible> {
        let mut bytes = [0; 4];
        self.0.fill(&mut bytes);
        Ok(u32::from_le_bytes(bytes))
    }

    fn try_next_u64(&mut self) -> Result<u64, Infallible> {
        let mut bytes = [0; 8];
        self.0.fill(&mut bytes);
        Ok(u64::from_le_bytes(bytes))
    }

    fn try_fill_bytes(&mut self, bytes: &mut [u8]) -> Result<(), Infallible> {
        self.0.fill(bytes);
        Ok(())
    }
}

impl rand_core::TryCryptoRng for Drawn<'_> {}

impl Offer {
    /// A key pair for one handshake, from 64 random bytes (FIPS 203's d and z).
    pub fn new(random: &mut dyn Random) -> Self {
        let mut seed = Zeroizing::new([0; 64]);
        random.fill(&mut seed[..]);
        let private = DecapsulationKey::from_seed((*seed).into());
        let public = private.encapsulation_key().to_bytes().into();
        Self { private, public }
    }

    /// The key's two parts.
    #[must_use]
    pub fn parts(&self) -> [&[u8]; 2] {
        [&self.public[..PART], &self.public[PART..]]
    }

    /// The keys for inner packets, from the device's view. `None` if the ciphertext has another length.
    #[must_use]
    pub fn keys(&self, first: &First, ids: Ids, ciphertext: &[u8]) -> Option<Split> {
        let secret = self.private.decapsulate_slice(ciphertext).ok()?;
        let (up, down) = mix(first, ids, &self.public, ciphertext, &secret);
        Some(Split { send: up, receive: down })
    }
}

/// The ids under which the two ends receive under the final keys.
#[derive(Debug, Clone, Copy)]
pub struct Ids {
    pub device: ConnectionId,
    pub gateway: ConnectionId,
}

/// The gateway's half: a ciphertext for the device's key, and the keys for inner packets from the gateway's view. `None` if the
/// key is none (FIPS 203 section 7.2).
pub fn accept(first: &First, ids: Ids, key: &[u8; KEY], random: &mut dyn Random) -> Option<(Vec<u8>, Split)> {
    let public = EncapsulationKey::new(&(*key).into()).ok()?;
    let (ciphertext, secret) = public.encapsulate_with_rng(&mut Drawn(random));
    let (up, down) = mix(first, ids, key, &ciphertext, &secret);
    Some((ciphertext.to_vec(), Split { send: down, receive: up }))
}

type Key = Zeroizing<[u8; 32]>;

fn mix(first: &First, ids: Ids, key: &[u8], ciphertext: &[u8], secret: &[u8]) -> (Key, Key) {
    let mut said = digest::Context::new(&digest::SHA256);
    for part in [&first.hash[..], &ids.device.0, &ids.gateway.0, key, ciphertext] {
        said.update(part);
    }
    let said = said.finish();
    let secrets = Zeroizing::new([&first.up[..], &first.down[..], secret].concat());
    let expand = |label: &[u8]| expand::<32>(&secrets, &[label, said.as_ref()]);
    (expand(b"to gateway"), expand(b"to device"))
}

#[cfg(test)]
mod tests {
    use super::*;

    struct Counting(u8);
    impl Random for Counting {
        fn fill(&mut self, bytes: &mut [u8]) {
            for byte in bytes {
                *byte = self.0;
                self.0 = self.0.wrapping_add(7);
            }
        }
    }

    fn first(byte: u8) -> First {
        First { up: Zeroizing::new([byte; 32]), down: Zeroizing::new([byte + 1; 32]), hash: [byte + 2; 32] }
    }

    /// Everything that was said goes into the keys: who changes any of it on the way shares none with either end.
    #[test]
    fn both_ends_have_the_same_keys_only_if_they_heard_the_same() {
        let ids = Ids { device: ConnectionId([1; 8]), gateway: ConnectionId([2; 8]) };
        let offer = Offer::new(&mut Counting(1));
        let key: [u8; KEY] = offer.parts().concat().try_into().unwrap();
        let (ciphertext, gateway) = accept(&first(3), ids, &key, &mut Counting(9)).unwrap();
        let device = offer.keys(&first(3), ids, &ciphertext).unwrap();
        assert_eq!((&device.send, &device.receive), (&gateway.receive, &gateway.send));
        let mut altered = ciphertext.clone();
        altered[700] ^= 1;
        let other_ids = Ids { device: ConnectionId([3; 8]), ..ids };
        for other in [
            offer.keys(&first(3), ids, &altered).unwrap(),
            offer.keys(&first(4), ids, &ciphertext).unwrap(),
            offer.keys(&First { hash: [0; 32], ..first(3) }, ids, &ciphertext).unwrap(),
            offer.keys(&first(3), other_ids, &ciphertext).unwrap(),
            Offer::new(&mut Counting(2)).keys(&first(3), ids, &ciphertext).unwrap(),
        ] {
            assert_ne!(other.send, device.send);
        }
        assert!(offer.keys(&first(3), ids, &ciphertext[1..]).is_none());
        assert!(accept(&first(3), ids, &[0xff; KEY], &mut Counting(9)).is_none(), "coefficients beyond the modulus");
    }
}
