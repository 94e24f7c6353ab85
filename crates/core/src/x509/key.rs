//! Private keys of authorities, gateways and devices, and what they sign.

use ring::rand::SecureRandom;
use ring::signature::{self as sig, EcdsaKeyPair, KeyPair as _, RsaKeyPair};
use serde::{Deserialize, Serialize};
use x509_cert::der::asn1::{Any, BitString, Null};
use x509_cert::der::oid::ObjectIdentifier;
use x509_cert::der::{Decode as _, Encode as _};
use x509_cert::spki::{AlgorithmIdentifierOwned, SubjectPublicKeyInfoOwned};

use super::unencodable;
use crate::keys::Secret;
use crate::{Problem, Result};

const EC: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.2.840.10045.2.1");
const P256: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.2.840.10045.3.1.7");
const P384: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.3.132.0.34");
const RSA: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.2.840.113549.1.1.1");
const ED25519: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.3.101.112");
const ECDSA_SHA256: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.2.840.10045.4.3.2");
const ECDSA_SHA384: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.2.840.10045.4.3.3");
const RSA_SHA256: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.2.840.113549.1.1.11");
const RSA_SHA384: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.2.840.113549.1.1.12");
const RSA_SHA512: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.2.840.113549.1.1.13");

/// What keys are made of.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
pub enum Algorithm {
    /// ECDSA on the curve P-256 (FIPS 186-5), with SHA-256.
    #[default]
    #[serde(rename = "p-256")]
    P256,
    /// ECDSA on the curve P-384, with SHA-384.
    #[serde(rename = "p-384")]
    P384,
    /// RSA with 3072 bits, PKCS#1 v1.5 with SHA-256 (RFC 8017).
    #[serde(rename = "rsa-3072")]
    Rsa3072,
    /// RSA with 4096 bits.
    #[serde(rename = "rsa-4096")]
    Rsa4096,
}

impl std::fmt::Display for Algorithm {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str(match self {
            Self::P256 => "p-256",
            Self::P384 => "p-384",
            Self::Rsa3072 => "rsa-3072",
            Self::Rsa4096 => "rsa-4096",
        })
    }
}

impl std::str::FromStr for Algorithm {
    type Err = Problem;

    fn from_str(text: &str) -> Result<Self> {
        let all = [Self::P256, Self::P384, Self::Rsa3072, Self::Rsa4096];
        all.into_iter().find(|algorithm| algorithm.to_string() == text).ok_or_else(|| {
            let weak = ["rsa-1024", "rsa-2048", "dsa", "p-192", "p-224"].contains(&text);
            Problem::words(format!("a key {text:?} is not made")).why(if weak {
                "it would be the weakest part of everything that it signs, for years: below 128 bits of strength \
                 (NIST SP 800-57)"
            } else {
                "p-256, p-384, rsa-3072 and rsa-4096 are what every standard client takes"
            })
        })
    }
}

enum Pair {
    Ecdsa(Box<EcdsaKeyPair>),
    Rsa(Box<RsaKeyPair>),
}

/// A private key, in memory.
pub struct PrivateKey {
    algorithm: Algorithm,
    pkcs8: Secret,
    pair: Pair,
    public: SubjectPublicKeyInfoOwned,
}

/// Randomness for the package that makes RSA keys, from the source that the caller gave.
pub(super) struct Bits<'a>(pub(super) &'a dyn SecureRandom);

impl rand_core::TryRng for Bits<'_> {
    type Error = std::convert::Infallible;

    fn try_next_u32(&mut self) -> std::result::Result<u32, Self::Error> {
        let mut bytes = [0; 4];
        self.try_fill_bytes(&mut bytes)?;
        Ok(u32::from_le_bytes(bytes))
    }

    fn try_next_u64(&mut self) -> std::result::Result<u64, Self::Error> {
        let mut bytes = [0; 8];
        self.try_fill_bytes(&mut bytes)?;
        Ok(u64::from_le_bytes(bytes))
    }

    fn try_fill_bytes(&mut self, bytes: &mut [u8]) -> std::result::Result<(), Self::Error> {
        // A system without randomness must not make keys at all.
        if self.0.fill(bytes).is_err() {
            panic!("the system gives no random bytes");
        }
        Ok(())
    }
}

impl rand_core::TryCryptoRng for Bits<'_> {}

impl PrivateKey {
    /// Makes a key.
    ///
    /// # Errors
    /// The system gives no random bytes.
    pub fn generate(algorithm: Algorithm, random: &dyn SecureRandom) -> Result<Self> {
        let failed = || Problem::failed("a key cannot be made").why("the system gives no random bytes");
        let ecdsa = |curve| {
            EcdsaKeyPair::generate_pkcs8(curve, random)
                .map(|document| Secret::new(document.as_ref().to_vec()))
                .map_err(|_| failed())
        };
        let pkcs8 = match algorithm {
            Algorithm::P256 => ecdsa(&sig::ECDSA_P256_SHA256_ASN1_SIGNING)?,
            Algorithm::P384 => ecdsa(&sig::ECDSA_P384_SHA384_ASN1_SIGNING)?,
            Algorithm::Rsa3072 | Algorithm::Rsa4096 => {
                use rsa::pkcs8::EncodePrivateKey as _;
                let bits = if algorithm == Algorithm::Rsa3072 { 3072 } else { 4096 };
                let key = rsa::RsaPrivateKey::new(&mut Bits(random), bits).map_err(|_| failed())?;
                Secret::new(key.to_pkcs8_der().map_err(|_| failed())?.as_bytes().to_vec())
            }
        };
        Self::from_pkcs8(pkcs8, random)
    }

    /// Reads a private key (RFC 5958).
    ///
    /// # Errors
    /// Not such a key, or one that is too weak or of a kind that clients do not take everywhere.
    pub fn from_pkcs8(pkcs8: Secret, random: &dyn SecureRandom) -> Result<Self> {
        let no_key = |why: String| Problem::words("this is no private key that can be used").why(why);
        let info = pkcs8::PrivateKeyInfoRef::try_from(pkcs8.reveal())
            .map_err(|_| no_key("PKCS#8 (RFC 5958) is expected; it is something else, damaged or cut short".into()))?;
        let oid = info.algorithm.oid.to_string();
        let curve = info.algorithm.parameters_oid().map(|oid| oid.to_string()).unwrap_or_default();
        let (algorithm, pair, public) = if oid == EC.to_string() {
            let (algorithm, how, named) = if curve == P256.to_string() {
                (Algorithm::P256, &sig::ECDSA_P256_SHA256_ASN1_SIGNING, P256)
            } else if curve == P384.to_string() {
                (Algorithm::P384, &sig::ECDSA_P384_SHA384_ASN1_SIGNING, P384)
            } else {
                return Err(no_key("its curve is neither P-256 nor P-384".into()));
            };
            let pair = EcdsaKeyPair::from_pkcs8(how, pkcs8.reveal(), random)
                .map_err(|error| no_key(format!("its two halves do not fit, or one is missing: {error}")))?;
            let public = public_key(EC, Any::from(named), pair.public_key().as_ref())?;
            (algorithm, Pair::Ecdsa(Box::new(pair)), public)
        } else if oid == RSA.to_string() {
            let pair = RsaKeyPair::from_pkcs8(pkcs8.reveal())
                .map_err(|error| no_key(format!("as an RSA key it does not hold: {error}")))?;
            let algorithm = match pair.public().modulus_len() * 8 {
                3072 => Algorithm::Rsa3072,
                4096 => Algorithm::Rsa4096,
                bits => {
                    return Err(Problem::refused(format!("an RSA key with {bits} bits is not taken"))
                        .why("3072 and 4096 bits are; less is too weak for what signs for years, more is not read everywhere"));
                }
            };
            let public = public_key(RSA, Any::from(Null), pair.public().as_ref())?;
            (algorithm, Pair::Rsa(Box::new(pair)), public)
        } else {
            return Err(no_key(format!("its algorithm {oid} is neither ECDSA nor RSA")));
        };
        Ok(Self { algorithm, pkcs8, pair, public })
    }

    /// What it is made of.
    #[must_use]
    pub fn algorithm(&self) -> Algorithm {
        self.algorithm
    }

    /// The key as PKCS#8 (RFC 5958), DER.
    #[must_use]
    pub fn pkcs8(&self) -> &Secret {
        &self.pkcs8
    }

    /// Its public half.
    #[must_use]
    pub fn public(&self) -> &SubjectPublicKeyInfoOwned {
        &self.public
    }

    /// How its signatures are named in certificates (RFC 5758, RFC 8017).
    #[must_use]
    pub fn signature_algorithm(&self) -> AlgorithmIdentifierOwned {
        match self.algorithm {
            Algorithm::P256 => AlgorithmIdentifierOwned { oid: ECDSA_SHA256, parameters: None },
            Algorithm::P384 => AlgorithmIdentifierOwned { oid: ECDSA_SHA384, parameters: None },
            Algorithm::Rsa3072 | Algorithm::Rsa4096 => {
                AlgorithmIdentifierOwned { oid: RSA_SHA256, parameters: Some(Any::from(Null)) }
            }
        }
    }

    /// Signs bytes.
    ///
    /// # Errors
    /// The system gives no random bytes.
    pub fn sign(&self, message: &[u8], random: &dyn SecureRandom) -> Result<BitString> {
        let failed = |_| Problem::failed("nothing can be signed").why("the system gives no random bytes");
        let signature = match &self.pair {
            Pair::Ecdsa(pair) => pair.sign(random, message).map_err(failed)?.as_ref().to_vec(),
            Pair::Rsa(pair) => {
                let mut signature = vec![0; pair.public().modulus_len()];
                pair.sign(&sig::RSA_PKCS1_SHA256, random, message, &mut signature).map_err(failed)?;
                signature
            }
        };
        BitString::from_bytes(&signature).map_err(unencodable)
    }
}

impl PrivateKey {
    /// Signs bytes with RSA and SHA-256, by PSS or PKCS#1 v1.5 (RFC 8017); `None` for other keys, or without random bytes.
    pub(super) fn sign_rsa(&self, message: &[u8], pss: bool, random: &dyn SecureRandom) -> Option<Vec<u8>> {
        let Pair::Rsa(pair) = &self.pair else { return None };
        let how: &'static dyn sig::RsaEncoding = if pss { &sig::RSA_PSS_SHA256 } else { &sig::RSA_PKCS1_SHA256 };
        let mut signature = vec![0; pair.public().modulus_len()];
        pair.sign(how, random, message, &mut signature).ok()?;
        Some(signature)
    }
}

fn public_key(oid: ObjectIdentifier, parameters: Any, key: &[u8]) -> Result<SubjectPublicKeyInfoOwned> {
    Ok(SubjectPublicKeyInfoOwned {
        algorithm: AlgorithmIdentifierOwned { oid, parameters: Some(parameters) },
        subject_public_key: BitString::from_bytes(key).map_err(unencodable)?,
    })
}

/// What a public key is made of.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Strength {
    P256,
    P384,
    Ed25519,
    /// With so many bits.
    Rsa(usize),
}

impl std::fmt::Display for Strength {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            Self::P256 => f.write_str("p-256"),
            Self::P384 => f.write_str("p-384"),
            Self::Ed25519 => f.write_str("ed25519"),
            Self::Rsa(bits) => write!(f, "rsa-{bits}"),
        }
    }
}

/// What a public key is made of; refuses what has less than 112 bits of strength (NIST SP 800-57 part 1).
///
/// # Errors
/// Too weak, or of a kind that is not known.
pub fn strength(key: &SubjectPublicKeyInfoOwned) -> Result<Strength> {
    let curve = || key.algorithm.parameters.as_ref().and_then(|any| any.decode_as::<ObjectIdentifier>().ok());
    match key.algorithm.oid {
        EC if curve() == Some(P256) => Ok(Strength::P256),
        EC if curve() == Some(P384) => Ok(Strength::P384),
        ED25519 => Ok(Strength::Ed25519),
        RSA => {
            let bits = modulus_bits(key.subject_public_key.raw_bytes())
                .ok_or_else(|| Problem::words("this RSA key is damaged").why("its modulus cannot be read"))?;
            if bits < 2048 {
                return Err(Problem::refused(format!("an RSA key with {bits} bits is too weak"))
                    .why("keys below 112 bits of strength are not let in; RSA needs 2048 bits for that")
                    .try_("a new key on the device: P-256, or RSA with 3072 bits"));
            }
            Ok(Strength::Rsa(bits))
        }
        oid => Err(Problem::refused("this kind of key is not taken")
            .why(format!("{oid} is none of P-256, P-384, Ed25519 and RSA"))
            .try_("a new key on the device: P-256")),
    }
}

/// The length of the modulus in an `RSAPublicKey` (RFC 8017 appendix A.1.1).
fn modulus_bits(der: &[u8]) -> Option<usize> {
    let parts = Vec::<x509_cert::der::asn1::Uint>::from_der(der).ok()?;
    let modulus = parts.first()?.as_bytes();
    Some(modulus.len() * 8 - modulus.first()?.leading_zeros() as usize)
}

/// Whether `signature` over `message` is by `key`.
///
/// # Errors
/// It is not, or the algorithm is outdated or unknown.
pub fn verify(
    key: &SubjectPublicKeyInfoOwned,
    algorithm: &AlgorithmIdentifierOwned,
    message: &[u8],
    signature: &BitString,
) -> Result<()> {
    let curve = key.algorithm.parameters.as_ref().and_then(|any| any.decode_as::<ObjectIdentifier>().ok());
    let how: &'static dyn sig::VerificationAlgorithm = match (key.algorithm.oid, curve, algorithm.oid) {
        (EC, Some(P256), ECDSA_SHA256) => &sig::ECDSA_P256_SHA256_ASN1,
        (EC, Some(P256), ECDSA_SHA384) => &sig::ECDSA_P256_SHA384_ASN1,
        (EC, Some(P384), ECDSA_SHA256) => &sig::ECDSA_P384_SHA256_ASN1,
        (EC, Some(P384), ECDSA_SHA384) => &sig::ECDSA_P384_SHA384_ASN1,
        (RSA, _, RSA_SHA256) => &sig::RSA_PKCS1_2048_8192_SHA256,
        (RSA, _, RSA_SHA384) => &sig::RSA_PKCS1_2048_8192_SHA384,
        (RSA, _, RSA_SHA512) => &sig::RSA_PKCS1_2048_8192_SHA512,
        (ED25519, _, ED25519) => &sig::ED25519,
        (_, _, other) => {
            return Err(Problem::refused("this signature cannot be checked")
                .why(format!("its algorithm {other} is outdated or unknown, or does not belong to the key")));
        }
    };
    sig::UnparsedPublicKey::new(how, key.subject_public_key.raw_bytes()).verify(message, signature.raw_bytes()).map_err(
        |_| Problem::refused("a signature does not hold").why("it is another key's, or what it signs was altered"),
    )
}

/// SHA-256 of a public key with its algorithm (SubjectPublicKeyInfo): by this a gateway knows a certificate's holder.
///
/// # Errors
/// Never for a key that was read.
pub fn identity(key: &SubjectPublicKeyInfoOwned) -> Result<crate::keys::PublicKey> {
    use sha2::Digest as _;
    let der = key.to_der().map_err(unencodable)?;
    Ok(crate::keys::PublicKey(sha2::Sha256::digest(der).into()))
}
