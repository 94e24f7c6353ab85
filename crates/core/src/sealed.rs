//! Secrets for one gateway's agent alone, so that anybody may carry the order in which they stand (HPKE, RFC 9180: X25519,
//! HKDF-SHA256, ChaCha20-Poly1305, base mode).
//!
//! Equal secrets for the same agent and purpose give equal bytes, so that equal estates give equal orders: the ephemeral key is
//! derived from the secret itself. That is safe only for secrets that cannot be guessed; what is sealed here holds 128 random
//! bits or more (keys, or password hashes with their salt).

use std::convert::Infallible;

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD as BASE64;
use hpke::aead::ChaCha20Poly1305;
use hpke::kdf::HkdfSha256;
use hpke::kem::X25519HkdfSha256;
use hpke::{Deserializable as _, Kem, OpModeR, OpModeS, Serializable as _};
use ring::hmac;
use serde::{Deserialize, Serialize};

use crate::keys::{PublicKey, Secret};
use crate::{Problem, Result};

/// A secret that one agent can open: the encapsulated key (32 bytes) and the ciphertext, base64.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(transparent)]
pub struct Sealed(String);

/// The bytes from which the ephemeral key is derived: HMAC-SHA256 in counter mode, keyed with the secret.
struct Derived {
    key: hmac::Key,
    context: Vec<u8>,
    block: u32,
    left: Vec<u8>,
}

impl rand_core::TryRng for Derived {
    type Error = Infallible;

    fn try_next_u32(&mut self) -> std::result::Result<u32, Infallible> {
        let mut bytes = [0; 4];
        self.try_fill_bytes(&mut bytes)?;
        Ok(u32::from_le_bytes(bytes))
    }

    fn try_next_u64(&mut self) -> std::result::Result<u64, Infallible> {
        let mut bytes = [0; 8];
        self.try_fill_bytes(&mut bytes)?;
        Ok(u64::from_le_bytes(bytes))
    }

    fn try_fill_bytes(&mut self, bytes: &mut [u8]) -> std::result::Result<(), Infallible> {
        for byte in bytes {
            if self.left.is_empty() {
                self.block += 1;
                let mut context = hmac::Context::with_key(&self.key);
                context.update(&self.context);
                context.update(&self.block.to_be_bytes());
                self.left = context.sign().as_ref().to_vec();
            }
            *byte = self.left.pop().unwrap_or_default();
        }
        Ok(())
    }
}

impl rand_core::TryCryptoRng for Derived {}

/// What a secret is for, as both ends say it: it opens for nothing else.
fn info(purpose: &str) -> Vec<u8> {
    format!("yestrel sealed 1 {purpose}").into_bytes()
}

/// Seals a secret to the agent with this public key, for one purpose.
///
/// # Errors
/// The key is none that anything can be sealed to.
pub fn seal(to: &PublicKey, purpose: &str, secret: &Secret) -> Result<Sealed> {
    let failed =
        |_| Problem::failed("a secret cannot be sealed to its gateway").why("the gateway's public key is damaged");
    let public = <X25519HkdfSha256 as Kem>::PublicKey::from_bytes(&to.0).map_err(failed)?;
    let info = info(purpose);
    let context = [&to.0[..], &info].concat();
    let key = hmac::Key::new(hmac::HMAC_SHA256, secret.reveal());
    let mut derived = Derived { key, context, block: 0, left: Vec::new() };
    let (encapsulated, ciphertext) = hpke::single_shot_seal_with_rng::<ChaCha20Poly1305, HkdfSha256, X25519HkdfSha256>(
        &OpModeS::Base,
        &public,
        &info,
        secret.reveal(),
        &[],
        &mut derived,
    )
    .map_err(failed)?;
    Ok(Sealed(BASE64.encode([&encapsulated.to_bytes()[..], &ciphertext].concat())))
}

impl Sealed {
    /// The encapsulated key and the ciphertext.
    #[must_use]
    pub fn to_bytes(&self) -> Vec<u8> {
        BASE64.decode(&self.0).unwrap_or_default()
    }

    /// What [`Sealed::to_bytes`] gave; whether it is whole, shows when it is opened.
    #[must_use]
    pub fn from_bytes(bytes: &[u8]) -> Self {
        Self(BASE64.encode(bytes))
    }

    /// Opens it with the agent's private key, for the purpose that it was sealed for.
    ///
    /// # Errors
    /// It is another agent's, for another purpose, or altered.
    pub fn open(&self, private: &Secret, purpose: &str) -> Result<Secret> {
        let failed = || {
            Problem::failed("a sealed secret does not open").why("it is another gateway's, or was altered on its way")
        };
        let bytes = BASE64.decode(&self.0).map_err(|_| failed())?;
        let (encapsulated, ciphertext) = bytes.split_at_checked(32).ok_or_else(failed)?;
        let private = private.private_key()?;
        let private = <X25519HkdfSha256 as Kem>::PrivateKey::from_bytes(&private[..]).map_err(|_| failed())?;
        let encapsulated = <X25519HkdfSha256 as Kem>::EncappedKey::from_bytes(encapsulated).map_err(|_| failed())?;
        hpke::single_shot_open::<ChaCha20Poly1305, HkdfSha256, X25519HkdfSha256>(
            &OpModeR::Base,
            &private,
            &encapsulated,
            &info(purpose),
            ciphertext,
            &[],
        )
        .map(Secret::new)
        .map_err(|_| failed())
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::keys::KeyPair;

    fn secret(byte: u8) -> Secret {
        Secret::new(vec![byte; 32])
    }

    #[test]
    fn only_the_agent_that_it_is_for_opens_it_and_only_for_its_purpose() {
        let (own, other) = (KeyPair::from_random([1; 32]), KeyPair::from_random([2; 32]));
        let sealed = seal(&own.public, "account mara.laptop", &secret(7)).unwrap();
        assert_eq!(sealed.open(&own.private, "account mara.laptop").unwrap(), secret(7));
        assert!(sealed.open(&other.private, "account mara.laptop").is_err());
        assert!(sealed.open(&own.private, "account tomas.tablet").is_err());
        let text = serde_json::to_string(&sealed).unwrap();
        for at in [3, 40, 60, text.len() - 6] {
            let mut altered = text.clone().into_bytes();
            altered[at] = if altered[at] == b'A' { b'B' } else { b'A' };
            let altered: Sealed = serde_json::from_slice(&altered).unwrap();
            assert!(altered.open(&own.private, "account mara.laptop").is_err(), "{at}");
        }
        assert!(Sealed("AAAA".into()).open(&own.private, "x").is_err());
    }

    #[test]
    fn equal_secrets_give_equal_bytes_and_different_ones_nothing_in_common() {
        let (own, other) = (KeyPair::from_random([1; 32]), KeyPair::from_random([2; 32]));
        let one = seal(&own.public, "x", &secret(7)).unwrap();
        assert_eq!(one, seal(&own.public, "x", &secret(7)).unwrap());
        for another in [
            seal(&own.public, "y", &secret(7)).unwrap(),
            seal(&other.public, "x", &secret(7)).unwrap(),
            seal(&own.public, "x", &secret(8)).unwrap(),
        ] {
            assert_ne!(one.0[..40], another.0[..40]);
        }
    }
}
