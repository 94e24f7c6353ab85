//! The primitives under the Noise handshake: the curve of `x25519-dalek`, all else of `ring`, as everywhere here.

use snow::params::{CipherChoice, DHChoice, HashChoice};
use snow::resolvers::{CryptoResolver, RingResolver};
use snow::types::{Cipher, Dh, Hash, Random};
use x25519_dalek::{PublicKey, StaticSecret};

pub(super) struct Primitives;

impl CryptoResolver for Primitives {
    fn resolve_rng(&self) -> Option<Box<dyn Random>> {
        RingResolver.resolve_rng()
    }

    fn resolve_dh(&self, choice: &DHChoice) -> Option<Box<dyn Dh>> {
        match choice {
            // Its keys are set before they are asked for.
            DHChoice::Curve25519 => {
                Some(Box::new(Curve { private: StaticSecret::from([0; 32]), public: PublicKey::from([0; 32]) }))
            }
            DHChoice::Curve448 => None,
        }
    }

    fn resolve_hash(&self, choice: &HashChoice) -> Option<Box<dyn Hash>> {
        RingResolver.resolve_hash(choice)
    }

    fn resolve_cipher(&self, choice: &CipherChoice) -> Option<Box<dyn Cipher>> {
        RingResolver.resolve_cipher(choice)
    }
}

/// A pair of keys (RFC 7748), wiped when forgotten.
struct Curve {
    private: StaticSecret,
    public: PublicKey,
}

impl From<[u8; 32]> for Curve {
    fn from(private: [u8; 32]) -> Self {
        let private = StaticSecret::from(private);
        Self { public: PublicKey::from(&private), private }
    }
}

impl Dh for Curve {
    fn name(&self) -> &'static str {
        "25519"
    }

    fn pub_len(&self) -> usize {
        32
    }

    fn priv_len(&self) -> usize {
        32
    }

    fn set(&mut self, private: &[u8]) {
        let mut bytes = zeroize::Zeroizing::new([0; 32]);
        bytes.copy_from_slice(&private[..32]);
        *self = Self::from(*bytes);
    }

    fn generate(&mut self, random: &mut dyn Random) -> Result<(), snow::Error> {
        let mut bytes = zeroize::Zeroizing::new([0; 32]);
        random.try_fill_bytes(&mut bytes[..])?;
        *self = Self::from(*bytes);
        Ok(())
    }

    fn pubkey(&self) -> &[u8] {
        self.public.as_bytes()
    }

    fn privkey(&self) -> &[u8] {
        self.private.as_bytes()
    }

    /// Points of which all results are zero are refused before this is asked.
    fn dh(&self, public: &[u8], out: &mut [u8]) -> Result<(), snow::Error> {
        let bytes = public.first_chunk::<32>().ok_or(snow::Error::Dh)?;
        out[..32].copy_from_slice(self.private.diffie_hellman(&PublicKey::from(*bytes)).as_bytes());
        Ok(())
    }
}
