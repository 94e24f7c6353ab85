//! Bringing in what was made elsewhere: an authority, or a gateway's certificate, with its key and the chain above it.

use jiff::Timestamp;
use ring::rand::SecureRandom;

use super::bundle::{self, Closed};
use super::certificate::{Certificate, check_chain};
use super::key::PrivateKey;
use super::{LONGEST, blocks};
use crate::keys::Secret;
use crate::{Problem, Result};

/// Key and certificates out of files.
pub struct Brought {
    pub key: Option<PrivateKey>,
    /// Leaf first.
    pub chain: Vec<Certificate>,
}

/// Asks for the passphrase of what is encrypted.
pub type AskPassphrase<'a> = &'a mut dyn FnMut() -> Result<zeroize::Zeroizing<String>>;

/// How often a passphrase may be wrong.
const TRIES: usize = 3;

fn wrong_thrice() -> Problem {
    Problem::refused("the passphrase was wrong three times").why("the key does not open with it; nothing was changed")
}

/// Reads key and certificates: PEM blocks (RFC 7468; the key as PKCS#8, encrypted or not) or PKCS#12 (RFC 7292). The passphrase
/// is asked for up to three times.
///
/// # Errors
/// Neither form, damaged, a passphrase that is wrong three times, a PKCS#12 with no key, a key that is too weak.
pub fn read(bytes: &[u8], ask: AskPassphrase<'_>, random: &dyn SecureRandom) -> Result<Brought> {
    if bytes.len() > LONGEST {
        return Err(Problem::words("this file holds no certificate").why("it is longer than 1 MiB"));
    }
    match std::str::from_utf8(bytes) {
        Ok(text) if text.contains("-----BEGIN ") => from_pem(text, ask, random),
        _ => match Certificate::from_der(bytes) {
            Ok(certificate) => Ok(Brought { key: None, chain: vec![certificate] }),
            Err(_) => from_pkcs12(bytes, ask, random),
        },
    }
}

fn from_pem(text: &str, ask: AskPassphrase<'_>, random: &dyn SecureRandom) -> Result<Brought> {
    let mut brought = Brought { key: None, chain: Vec::new() };
    for (label, der) in blocks(text)? {
        match label.as_str() {
            "CERTIFICATE" => brought.chain.push(Certificate::from_der(&der)?),
            "PRIVATE KEY" => brought.key = Some(PrivateKey::from_pkcs8(Secret::new(der), random)?),
            "ENCRYPTED PRIVATE KEY" => brought.key = Some(decrypted(&der, &mut *ask, random)?),
            "EC PRIVATE KEY" | "RSA PRIVATE KEY" => {
                return Err(Problem::words("the private key is in an older form")
                    .why(format!("{label:?}; what is taken is PKCS#8 (RFC 5958), encrypted or not"))
                    .try_("openssl pkcs8 -topk8 -in OLD -out NEW"));
            }
            _ => {}
        }
    }
    if brought.key.is_none() && brought.chain.is_empty() {
        return Err(Problem::words("there is neither a certificate nor a key in it"));
    }
    brought.chain = in_order(brought.chain);
    Ok(brought)
}

fn decrypted(der: &[u8], ask: AskPassphrase<'_>, random: &dyn SecureRandom) -> Result<PrivateKey> {
    let info = pkcs8::EncryptedPrivateKeyInfoRef::try_from(der)
        .map_err(|_| Problem::words("the encrypted private key is damaged").why("it is not PKCS#8 (RFC 5958)"))?;
    for _ in 0..TRIES {
        let passphrase = ask()?;
        if let Ok(plain) = info.decrypt(passphrase.as_bytes()) {
            return PrivateKey::from_pkcs8(Secret::new(plain.as_bytes().to_vec()), random);
        }
    }
    Err(wrong_thrice())
}

fn from_pkcs12(der: &[u8], ask: AskPassphrase<'_>, random: &dyn SecureRandom) -> Result<Brought> {
    // The outer structure first, so that nobody is asked for the passphrase of something else.
    if !bundle::is_one(der) {
        return Err(Problem::words("this file holds no certificate")
            .why("it is neither PEM, nor a certificate in DER, nor PKCS#12 (RFC 7292)"));
    }
    // Without a passphrase first: nobody is asked for one that there is not.
    for attempt in 0..=TRIES {
        let passphrase = if attempt == 0 { zeroize::Zeroizing::default() } else { ask()? };
        let held = match bundle::open(der, &passphrase) {
            Ok(held) => held,
            Err(Closed::Password) => continue,
            Err(Closed::Unreadable(problem)) => return Err(problem),
        };
        let key = held.key.ok_or_else(|| {
            Problem::refused("there is no private key in this PKCS#12 file")
                .why("it holds certificates only")
                .try_("export it again with its key, or bring the key in PEM")
        })?;
        return Ok(Brought { key: Some(PrivateKey::from_pkcs8(key, random)?), chain: in_order(held.certificates) });
    }
    Err(wrong_thrice())
}

/// Certificates with each before the one that signed it, beginning with the one that signed none of the others.
fn in_order(mut all: Vec<Certificate>) -> Vec<Certificate> {
    let signs_another = |one: &Certificate, all: &[Certificate]| {
        all.iter().any(|other| other != one && other.check_signed_by(one).is_ok())
    };
    let Some(leaf) = all.iter().position(|one| !signs_another(one, &all)) else { return all };
    let mut chain = vec![all.swap_remove(leaf)];
    while let Some(next) = all.iter().position(|one| chain.last().is_some_and(|last| last.check_signed_by(one).is_ok()))
    {
        chain.push(all.swap_remove(next));
    }
    chain
}

impl Brought {
    /// Checks an authority: key and certificate belong together, it may sign certificates and lists, the chain holds to its
    /// root.
    ///
    /// # Errors
    /// The first thing that does not hold.
    pub fn check_authority(self, now: Timestamp) -> Result<(PrivateKey, Vec<Certificate>)> {
        let (key, chain) = self.matched()?;
        let own = &chain[0];
        if !own.is_authority() {
            return Err(Problem::refused(format!("{} is no authority", own.common_name())).why(
                "its certificate does not allow it to sign certificates (RFC 5280 sections 4.2.1.3 and 4.2.1.9)",
            ));
        }
        if !own.signs_lists() {
            return Err(Problem::refused(format!("{} could not take anything back", own.common_name()))
                .why("its certificate does not allow it to sign revocation lists"));
        }
        check_chain(&chain, now, false)?;
        Ok((key, chain))
    }

    /// Checks that there is a key, a certificate, and that they belong together.
    ///
    /// # Errors
    /// One is missing, or they are of two different pairs.
    pub fn matched(self) -> Result<(PrivateKey, Vec<Certificate>)> {
        let missing = |what: &str| {
            Problem::words(format!("there is no {what} in it"))
                .try_("--key-file FILE beside --from FILE, for an authority")
                .try_("--certificate-key FILE beside --certificate FILE, for a gateway")
        };
        let key = self.key.ok_or_else(|| missing("private key"))?;
        let own = self.chain.first().ok_or_else(|| missing("certificate"))?;
        if own.key() != key.public() {
            return Err(Problem::refused("key and certificate do not belong together")
                .why(format!("the certificate of {} is for another key", own.common_name())));
        }
        Ok((key, self.chain))
    }
}
