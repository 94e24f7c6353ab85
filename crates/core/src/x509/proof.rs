//! Proofs that a key is had, as IKE carries them: digital signatures (RFC 7427, with Ed25519 by RFC 8420), ECDSA by curve (RFC 4754), RSA
//! (RFC 7296 section 3.8).
//!
//! | method | by | over |
//! |---|---|---|
//! | 14 | an algorithm that is named: RSA-PSS, RSA PKCS#1, ECDSA, Ed25519 | SHA2-256, -384, -512, as the other end announces them |
//! | 9, 10 | ECDSA on P-256 with SHA-256, on P-384 with SHA-384 | |
//! | 1 | RSA PKCS#1 | SHA2-256, -384, -512; SHA-1 only by functions of its own |

use ring::rand::SecureRandom;
use ring::signature as sig;
use x509_cert::der::oid::ObjectIdentifier;
use x509_cert::der::{Decode as _, Encode as _};
use x509_cert::spki::{AlgorithmIdentifierOwned, SubjectPublicKeyInfoOwned};

use super::key::{PrivateKey, Strength, strength};
use crate::{Problem, Result};

const RSA: u8 = 1;
const ECDSA_256: u8 = 9;
const ECDSA_384: u8 = 10;
const DIGITAL: u8 = 14;

/// Hashes as RFC 7427 section 7 and RFC 8420 number them.
const SHA256: u16 = 2;
const SHA384: u16 = 3;

const PSS: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.2.840.113549.1.1.10");
/// RSA-PSS with a hash, MGF1 with the same, and a salt as long as it (RFC 7427 appendix A.4, RFC 8017 appendix A.2.3), by that hash's last
/// arc and length.
fn pss(hash: u8, length: u8) -> Vec<u8> {
    let hash = [0x30, 0x0d, 0x06, 0x09, 0x60, 0x86, 0x48, 0x01, 0x65, 0x03, 0x04, 0x02, hash, 0x05, 0x00];
    let mask = [&[0x30, 0x1a, 0x06, 0x09, 0x2a, 0x86, 0x48, 0x86, 0xf7, 0x0d, 0x01, 0x01, 0x08][..], &hash].concat();
    let salt = [0x02, 0x01, length];
    let parts = [&[0xa0, hash.len() as u8][..], &hash, &[0xa1, mask.len() as u8], &mask, &[0xa2, 3], &salt].concat();
    let all =
        [&[0x06, 0x09, 0x2a, 0x86, 0x48, 0x86, 0xf7, 0x0d, 0x01, 0x01, 0x0a, 0x30, parts.len() as u8][..], &parts]
            .concat();
    [&[0x30, all.len() as u8][..], &all].concat()
}

/// A signature by ECDSA as two numbers of `size` bytes each (RFC 4754 section 7).
fn fixed(der: &[u8], size: usize) -> Option<Vec<u8>> {
    let numbers = Vec::<x509_cert::der::asn1::Uint>::from_der(der).ok()?;
    let [r, s] = &numbers[..] else { return None };
    let mut out = vec![0; 2 * size];
    for (number, at) in [(r, size), (s, 2 * size)] {
        let bytes = number.as_bytes();
        out[at.checked_sub(bytes.len())?..at].copy_from_slice(bytes);
    }
    Some(out)
}

fn digital(algorithm: &[u8], signature: &[u8]) -> Vec<u8> {
    [&[DIGITAL, 0, 0, 0, algorithm.len() as u8][..], algorithm, signature].concat()
}

impl PrivateKey {
    /// The body of an AUTH payload over `octets`, for somebody who takes digital signatures over these hashes, or none at all. `None`: the
    /// system gives no random bytes.
    pub fn prove(&self, octets: &[u8], hashes: &[u16], random: &dyn SecureRandom) -> Option<Vec<u8>> {
        let rsa = |pss: bool| self.sign_rsa(octets, pss, random);
        match strength(self.public()).ok()? {
            Strength::Rsa(_) if hashes.contains(&SHA256) => Some(digital(&pss(1, 32), &rsa(true)?)),
            Strength::Rsa(_) => Some([&[RSA, 0, 0, 0][..], &rsa(false)?].concat()),
            curve @ (Strength::P256 | Strength::P384) => {
                let small = curve == Strength::P256;
                let signature = self.sign(octets, random).ok()?;
                if hashes.contains(if small { &SHA256 } else { &SHA384 }) {
                    let algorithm = self.signature_algorithm().to_der().ok()?;
                    return Some(digital(&algorithm, signature.raw_bytes()));
                }
                let (method, size) = if small { (ECDSA_256, 32) } else { (ECDSA_384, 48) };
                Some([&[method, 0, 0, 0][..], &fixed(signature.raw_bytes(), size)?].concat())
            }
            Strength::Ed25519 => None,
        }
    }
}

/// What stands before a hash by SHA-1 in a signature by PKCS#1 v1.5 (RFC 8017 section 9.2).
const SHA1_PREFIX: [u8; 15] =
    [0x30, 0x21, 0x30, 0x09, 0x06, 0x05, 0x2b, 0x0e, 0x03, 0x02, 0x1a, 0x05, 0x00, 0x04, 0x14];

impl PrivateKey {
    /// The body of an AUTH payload by method 1 over SHA-1, for somebody who knows nothing better. `None`: it is no RSA key.
    pub fn prove_by_sha1(&self, octets: &[u8], random: &dyn SecureRandom) -> Option<Vec<u8>> {
        use rsa::pkcs8::DecodePrivateKey as _;
        if !matches!(strength(self.public()).ok()?, Strength::Rsa(_)) {
            return None;
        }
        let key = rsa::RsaPrivateKey::from_pkcs8_der(self.pkcs8().reveal()).ok()?;
        let hash = ring::digest::digest(&ring::digest::SHA1_FOR_LEGACY_USE_ONLY, octets);
        let hashed = [&SHA1_PREFIX[..], hash.as_ref()].concat();
        let how = rsa::Pkcs1v15Sign::new_unprefixed();
        let signature = key.sign_with_rng(&mut super::key::Bits(random), how, &hashed).ok()?;
        Some([&[RSA, 0, 0, 0][..], &signature].concat())
    }
}

/// Whether the body of an AUTH payload is by method 1 over SHA-1 and by this RSA key.
#[must_use]
pub fn is_by_sha1(key: &SubjectPublicKeyInfoOwned, body: &[u8], octets: &[u8]) -> bool {
    let [RSA, _, _, _, signature @ ..] = body else { return false };
    let how = &sig::RSA_PKCS1_2048_8192_SHA1_FOR_LEGACY_USE_ONLY;
    matches!(strength(key), Ok(Strength::Rsa(_)))
        && sig::UnparsedPublicKey::new(how, key.subject_public_key.raw_bytes()).verify(octets, signature).is_ok()
}

/// Whether the body of an AUTH payload shows that whoever sent it has the private half of `key`.
///
/// # Errors
/// It does not; or it is by a method or over a hash that is not taken.
pub fn check(key: &SubjectPublicKeyInfoOwned, body: &[u8], octets: &[u8]) -> Result<()> {
    let no = |why: &str| Problem::refused("the proof does not hold").why(why);
    let [method, _, _, _, rest @ ..] = body else { return Err(no("it is too short")) };
    let holds = |how: &'static dyn sig::VerificationAlgorithm, signature: &[u8]| {
        let key = sig::UnparsedPublicKey::new(how, key.subject_public_key.raw_bytes());
        key.verify(octets, signature).map_err(|_| no("it is another key's, or over something else"))
    };
    let first = |all: &[&'static dyn sig::VerificationAlgorithm], signature: &[u8]| {
        all.iter().map(|how| holds(*how, signature)).find(Result::is_ok).unwrap_or_else(|| {
            Err(no("it is another key's, or over something else, or over SHA-1, which is not taken"))
        })
    };
    match (*method, strength(key)?) {
        (DIGITAL, strength) => {
            let (length, rest) = rest.split_first().ok_or_else(|| no("it is too short"))?;
            let (algorithm, signature) =
                rest.split_at_checked(usize::from(*length)).ok_or_else(|| no("it is too short"))?;
            let named =
                AlgorithmIdentifierOwned::from_der(algorithm).map_err(|_| no("its algorithm cannot be read"))?;
            if named.oid == PSS {
                let all: [(Vec<u8>, &'static dyn sig::VerificationAlgorithm); 3] = [
                    (pss(1, 32), &sig::RSA_PSS_2048_8192_SHA256),
                    (pss(2, 48), &sig::RSA_PSS_2048_8192_SHA384),
                    (pss(3, 64), &sig::RSA_PSS_2048_8192_SHA512),
                ];
                let how = all.into_iter().find(|(name, _)| name == algorithm).map(|(_, how)| how);
                return match (how, strength) {
                    (Some(how), Strength::Rsa(_)) => holds(how, signature),
                    _ => Err(no("its RSA-PSS has parameters that nobody needs")),
                };
            }
            let signature = x509_cert::der::asn1::BitString::from_bytes(signature).map_err(|_| no("it is too long"))?;
            super::key::verify(key, &named, octets, &signature)
        }
        (ECDSA_256, Strength::P256) => holds(&sig::ECDSA_P256_SHA256_FIXED, rest),
        (ECDSA_384, Strength::P384) => holds(&sig::ECDSA_P384_SHA384_FIXED, rest),
        (RSA, Strength::Rsa(_)) => first(
            &[&sig::RSA_PKCS1_2048_8192_SHA256, &sig::RSA_PKCS1_2048_8192_SHA384, &sig::RSA_PKCS1_2048_8192_SHA512],
            rest,
        ),
        (method, _) => Err(no(&format!("its method ({method}) is not one for its key, or is not taken"))),
    }
}

#[cfg(test)]
mod tests {
    use ring::rand::SystemRandom;

    use super::super::key::Algorithm;
    use super::*;

    fn hex(bytes: &[u8]) -> String {
        bytes.iter().map(|byte| format!("{byte:02x}")).collect()
    }

    /// RFC 7427 appendix A.4.3: RSA-PSS with SHA-256; A.1 and A.3 come from the certificates' own code.
    #[test]
    fn the_published_names_of_algorithms() {
        let published = "304106092a864886f70d01010a3034a00f300d06096086480165030402010500a11c301a06092a864886f70d010108300d06096086480\
                         165030402010500a203020120";
        assert_eq!(hex(&pss(1, 32)), published);
        let key = PrivateKey::generate(Algorithm::P256, &SystemRandom::new()).unwrap();
        assert_eq!(hex(&key.signature_algorithm().to_der().unwrap()), "300a06082a8648ce3d040302");
        let key = PrivateKey::generate(Algorithm::P384, &SystemRandom::new()).unwrap();
        assert_eq!(hex(&key.signature_algorithm().to_der().unwrap()), "300a06082a8648ce3d040303");
    }

    #[test]
    fn a_proof_over_sha1_is_told_apart_and_taken_nowhere_else() {
        let random = SystemRandom::new();
        let key = PrivateKey::generate(Algorithm::Rsa3072, &random).unwrap();
        let body = key.prove_by_sha1(b"octets", &random).unwrap();
        assert!(is_by_sha1(key.public(), &body, b"octets") && !is_by_sha1(key.public(), &body, b"others"));
        assert!(check(key.public(), &body, b"octets").is_err());
        let better = key.prove(b"octets", &[], &random).unwrap();
        assert!(!is_by_sha1(key.public(), &better, b"octets"));
        let curve = PrivateKey::generate(Algorithm::P256, &random).unwrap();
        assert!(curve.prove_by_sha1(b"octets", &random).is_none());
        assert!(!is_by_sha1(curve.public(), &body, b"octets") && !is_by_sha1(key.public(), &body[..4], b"octets"));
    }

    #[test]
    fn a_proof_is_by_what_the_other_end_takes_and_holds_for_its_octets_and_key_alone() {
        let random = SystemRandom::new();
        let other = PrivateKey::generate(Algorithm::P256, &random).unwrap();
        for (algorithm, hashes, method) in [
            (Algorithm::P256, &[2, 3][..], DIGITAL),
            (Algorithm::P256, &[], ECDSA_256),
            (Algorithm::P256, &[3], ECDSA_256),
            (Algorithm::P384, &[3], DIGITAL),
            (Algorithm::P384, &[2], ECDSA_384),
            (Algorithm::Rsa3072, &[2], DIGITAL),
            (Algorithm::Rsa3072, &[], RSA),
        ] {
            let key = PrivateKey::generate(algorithm, &random).unwrap();
            let body = key.prove(b"octets", hashes, &random).unwrap();
            assert_eq!(body[0], method, "{algorithm} {hashes:?}");
            check(key.public(), &body, b"octets").unwrap();
            assert!(check(key.public(), &body, b"others").is_err());
            assert!(check(other.public(), &body, b"octets").is_err());
            let mut altered = body.clone();
            *altered.last_mut().unwrap() ^= 1;
            assert!(check(key.public(), &altered, b"octets").is_err());
            for cut in [0, 3, 4, 5, 12] {
                assert!(check(key.public(), &body[..cut], b"octets").is_err());
            }
            assert!(check(key.public(), &[&[2, 0, 0, 0], &body[4..]].concat(), b"octets").is_err(), "a shared key");
        }
    }
}
