//! What opens and signs: the sealing key, the keys of authorities, the signing key and those before it.
//!
//! | file | holds |
//! |---|---|
//! | `labels` | under which label each secret is sealed |

pub(crate) mod labels;

use std::sync::Arc;

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD as BASE64;
use jiff::Timestamp;
use ring::rand::SystemRandom;
use yestrel_core::estate::{Authority, Estate};
use yestrel_core::keys::{PublicKey, Secret};
use yestrel_core::x509::bring::{AskPassphrase, read};
use yestrel_core::x509::certificate::Issuer;
use yestrel_core::x509::{Certificate, PrivateKey};
use yestrel_core::{Problem, Result};
use yestrel_store::seal::random as fill;
use yestrel_store::{Book, SealingKey};

use crate::context::Context;

/// The system's source of randomness.
pub(crate) fn random() -> SystemRandom {
    SystemRandom::new()
}

/// 16 random bytes.
pub(crate) fn random16() -> Result<[u8; 16]> {
    let mut bytes = [0; 16];
    fill(&mut bytes)?;
    Ok(bytes)
}

/// A moment so many days on.
pub(crate) fn days_on(now: Timestamp, days: i64) -> Timestamp {
    now + jiff::SignedDuration::from_hours(24 * days)
}

/// DER in base64, as rows hold it.
pub(crate) fn encoded(certificate: &Certificate) -> String {
    BASE64.encode(certificate.der())
}

/// The certificate in a row.
pub(crate) fn decoded(text: &str) -> Result<Certificate> {
    let damaged = || Problem::failed("a certificate in the estate is damaged").try_("yestrel estate load   a backup");
    Certificate::from_der(&BASE64.decode(text).map_err(|_| damaged())?).map_err(|_| damaged())
}

/// What opens and signs: the sealing key, and keys of authorities that were brought for this command only.
pub(crate) struct Keys {
    pub sealing: SealingKey,
    pub borrowed: Arc<Vec<PrivateKey>>,
}

/// An authority that can sign now.
pub(crate) struct Signing {
    pub authority: Authority,
    pub certificate: Certificate,
    pub key: PrivateKey,
    /// Those above it, up to the root.
    pub above: Vec<Certificate>,
}

impl Signing {
    pub fn issuer(&self) -> Issuer<'_> {
        Issuer { certificate: &self.certificate, key: &self.key, above: &self.above }
    }
}

/// The certificates above an authority, the nearest first, the root last.
///
/// # Errors
/// One of them is gone or damaged.
pub(crate) fn above(book: &Book<'_>, authority: &Authority) -> Result<Vec<Certificate>> {
    let mut all: Vec<_> = authority.above.iter().map(|one| decoded(one)).collect::<Result<_>>()?;
    let mut parent = authority.parent.clone();
    while let Some(name) = parent {
        let next: Authority = book.need(&name)?;
        all.push(decoded(&next.certificate)?);
        for one in &next.above {
            all.push(decoded(one)?);
        }
        parent = next.parent;
        if all.len() > 10 {
            return Err(Problem::failed("the chain of authorities has no end"));
        }
    }
    Ok(all)
}

impl Keys {
    /// The key of an authority: from the estate, or from a file that was brought for this command.
    ///
    /// # Errors
    /// It is neither here nor brought.
    pub fn signing(&self, book: &Book<'_>, authority: Authority) -> Result<Signing> {
        let certificate = decoded(&authority.certificate)?;
        let above = above(book, &authority)?;
        if let Some(sealed) = &authority.private_key {
            let opened = self.sealing.open(sealed, &labels::authority(&authority.name))?;
            let key = PrivateKey::from_pkcs8(opened, &random())?;
            return Ok(Signing { authority, certificate, key, above });
        }
        let borrowed = self.borrowed.iter().find(|key| key.public() == certificate.key());
        match borrowed {
            Some(key) => {
                let key = PrivateKey::from_pkcs8(Secret::new(key.pkcs8().reveal().to_vec()), &random())?;
                Ok(Signing { authority, certificate, key, above })
            }
            None => {
                Err(Problem::refused(format!("the key of {} is not in the estate, and it must sign", authority.name))
                    .why("it was exported and sent away")
                    .try_("the same command with --with-key FILE, the file that it left in"))
            }
        }
    }
}

impl Context {
    pub(crate) fn keys(&self) -> Result<Keys> {
        Ok(Keys { sealing: self.key()?, borrowed: self.borrowed.clone() })
    }

    /// Brings the key of an authority that was sent away, for this command only.
    ///
    /// # Errors
    /// No key in the file, a passphrase that is wrong three times, or the key of no authority of the estate.
    pub fn borrow_key(&mut self, file: &[u8], ask: AskPassphrase<'_>) -> Result<()> {
        let brought = read(file, ask, &random())?;
        let key = brought.key.ok_or_else(|| Problem::words("there is no private key in this file"))?;
        let own: Vec<Authority> = self.read(|book| book.all())?;
        let own_key = own.iter().any(|one| decoded(&one.certificate).is_ok_and(|one| one.key() == key.public()));
        if !own_key {
            return Err(Problem::refused("this is the key of no authority of the estate")
                .why("it belongs to another certificate")
                .try_("yestrel authority list   shows whose keys are away"));
        }
        self.borrowed = Arc::new(vec![key]);
        Ok(())
    }
}

/// A signing key from before, for a gateway that still obeys it.
pub(crate) fn previous(sealing: &SealingKey, estate: &Estate, key: &PublicKey) -> Result<Secret> {
    let kept = estate.previous_keys.iter().find(|one| one.public_key == *key).ok_or_else(|| {
        Problem::failed("a gateway obeys a key that the estate no longer has")
            .try_("yestrel rollout --take-over GATEWAY   after making sure that it is yours")
    })?;
    sealing.open(&kept.private_key, &labels::previous_signing(key))
}
