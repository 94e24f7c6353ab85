//! Key pairs, and secrets that cannot be printed.

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD as BASE64;
use serde::{Deserialize, Serialize};
use sha2::{Digest, Sha256};
use zeroize::Zeroizing;

use crate::{Problem, Result};

/// Bytes that are never printed and are wiped when forgotten. Only what hands a secret over calls
/// [`Secret::reveal`].
#[derive(Clone, PartialEq, Eq)]
pub struct Secret(Zeroizing<Vec<u8>>);

impl std::fmt::Debug for Secret {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("(secret)")
    }
}

impl Secret {
    /// Takes the bytes over.
    #[must_use]
    pub fn new(bytes: Vec<u8>) -> Self {
        Self(Zeroizing::new(bytes))
    }

    /// The bytes themselves.
    #[must_use]
    pub fn reveal(&self) -> &[u8] {
        &self.0
    }

    /// As base64 (RFC 4648 section 4), itself wiped when forgotten.
    #[must_use]
    pub fn reveal_base64(&self) -> Zeroizing<String> {
        Zeroizing::new(BASE64.encode(&self.0[..]))
    }

    /// The 32 bytes of a private key.
    ///
    /// # Errors
    /// Not 32 bytes.
    pub fn private_key(&self) -> Result<Zeroizing<[u8; 32]>> {
        <[u8; 32]>::try_from(&self.0[..])
            .map(Zeroizing::new)
            .map_err(|_| Problem::failed("a private key does not have 32 bytes").why("it was altered or cut short"))
    }
}

/// A secret travels only inside messages between commands and agents, and in handovers.
impl Serialize for Secret {
    fn serialize<S: serde::Serializer>(&self, serializer: S) -> std::result::Result<S::Ok, S::Error> {
        serializer.serialize_str(&self.reveal_base64())
    }
}

impl<'de> Deserialize<'de> for Secret {
    fn deserialize<D: serde::Deserializer<'de>>(deserializer: D) -> std::result::Result<Self, D::Error> {
        let text = Zeroizing::new(String::deserialize(deserializer)?);
        BASE64.decode(text.as_bytes()).map(Self::new).map_err(|_| serde::de::Error::custom("not base64"))
    }
}

/// A public X25519 or Ed25519 key, 32 bytes; written as base64.
#[derive(Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct PublicKey(pub [u8; 32]);

impl std::fmt::Display for PublicKey {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str(&BASE64.encode(self.0))
    }
}

impl std::fmt::Debug for PublicKey {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        std::fmt::Display::fmt(self, f)
    }
}

impl PublicKey {
    /// Whether this X25519 key agrees on secrets that depend on the other's private key. With the few points of low order each
    /// result is zero (RFC 7748 section 6.1), so that such a key would let in whoever names it. Costs one curve operation.
    #[must_use]
    pub fn agrees(&self) -> bool {
        let any = x25519_dalek::StaticSecret::from([0x5a; 32]);
        any.diffie_hellman(&x25519_dalek::PublicKey::from(self.0)).was_contributory()
    }
}

impl std::str::FromStr for PublicKey {
    type Err = Problem;

    fn from_str(text: &str) -> Result<Self> {
        BASE64
            .decode(text.trim())
            .ok()
            .and_then(|bytes| <[u8; 32]>::try_from(bytes).ok())
            .filter(|bytes| *bytes != [0; 32])
            .map(Self)
            .ok_or_else(|| {
                Problem::words("that is not a public key")
                    .why("a public key is 32 bytes in base64: 44 characters ending in =")
            })
    }
}

impl Serialize for PublicKey {
    fn serialize<S: serde::Serializer>(&self, serializer: S) -> std::result::Result<S::Ok, S::Error> {
        serializer.collect_str(self)
    }
}

impl<'de> Deserialize<'de> for PublicKey {
    fn deserialize<D: serde::Deserializer<'de>>(deserializer: D) -> std::result::Result<Self, D::Error> {
        String::deserialize(deserializer)?.parse().map_err(|problem: Problem| serde::de::Error::custom(problem.error))
    }
}

impl PublicKey {
    /// SHA-256 of the key in groups of four, to compare by eye or voice.
    #[must_use]
    pub fn fingerprint(&self) -> String {
        let digest = Sha256::digest(self.0);
        let hex: Vec<char> =
            digest[..16].iter().flat_map(|byte| format!("{byte:02x}").chars().collect::<Vec<_>>()).collect();
        hex.chunks(4).map(|group| group.iter().collect::<String>()).collect::<Vec<_>>().join(" ")
    }
}

/// An X25519 key pair (RFC 7748) for the quill tunnel.
#[derive(Debug, Clone)]
pub struct KeyPair {
    /// 32 bytes.
    pub private: Secret,
    /// Goes into orders or handovers.
    pub public: PublicKey,
}

impl KeyPair {
    /// From 32 random bytes.
    #[must_use]
    pub fn from_random(random: [u8; 32]) -> Self {
        let secret = x25519_dalek::StaticSecret::from(random);
        let public = PublicKey(*x25519_dalek::PublicKey::from(&secret).as_bytes());
        Self { private: Secret::new(secret.to_bytes().to_vec()), public }
    }

    /// The public half of a private key.
    ///
    /// # Errors
    /// Not 32 bytes.
    pub fn public_of(private: &Secret) -> Result<PublicKey> {
        Ok(Self::from_random(*private.private_key()?).public)
    }
}

/// SHA-256 of what comes piece by piece.
#[derive(Default)]
pub struct Hash256(Sha256);

impl Hash256 {
    /// The next piece.
    pub fn update(&mut self, bytes: &[u8]) {
        self.0.update(bytes);
    }

    /// In lower-case hexadecimal.
    #[must_use]
    pub fn finish(self) -> String {
        self.0.finalize().iter().map(|byte| format!("{byte:02x}")).collect()
    }
}

/// SHA-256 as lower-case hexadecimal.
#[must_use]
pub fn sha256_hex(bytes: &[u8]) -> String {
    Sha256::digest(bytes).iter().map(|byte| format!("{byte:02x}")).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    /// RFC 7748 section 6.1, Alice.
    #[test]
    fn the_key_pair_of_the_standard() {
        let private = [
            0x77, 0x07, 0x6d, 0x0a, 0x73, 0x18, 0xa5, 0x7d, 0x3c, 0x16, 0xc1, 0x72, 0x51, 0xb2, 0x66, 0x45, 0xdf, 0x4c,
            0x2f, 0x87, 0xeb, 0xc0, 0x99, 0x2a, 0xb1, 0x77, 0xfb, 0xa5, 0x1d, 0xb9, 0x2c, 0x2a,
        ];
        let pair = KeyPair::from_random(private);
        assert_eq!(pair.public.to_string(), "hSDwCYkwp1R0i33ctD73Wg2/Og0mOBr066SpjqqbTmo=");
    }

    #[test]
    fn secrets_do_not_print() {
        let pair = KeyPair::from_random([1; 32]);
        let shown = format!("{pair:?}");
        assert!(shown.contains("(secret)"));
        assert!(!shown.contains(&*pair.private.reveal_base64()));
    }

    #[test]
    fn what_is_not_a_key_is_refused() {
        for text in ["", "abc", "AAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAA=", "not base64 at all"] {
            assert!(text.parse::<PublicKey>().is_err(), "{text}");
        }
    }
}
