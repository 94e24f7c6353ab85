//! The gateway's own certificate: it is of use only with its key, which travels apart from the order.

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD as BASE64;
use ring::rand::SystemRandom;
use yestrel_core::keys::Secret;
use yestrel_core::order::Content;
use yestrel_core::x509::{Certificate, PrivateKey};
use yestrel_core::{Problem, Result};

use crate::run::Agent;

impl Agent {
    /// The certificate that an order names is of use only with its key.
    pub(crate) fn check_certificate(&self, content: &Content) -> Result<()> {
        let keys = self.shared.keep.lock().certificate_keys()?;
        match certificate_of(content)? {
            Some(certificate) if !keys.iter().any(|key| is_key_of(key, &certificate)) => {
                Err(Problem::refused("the order names a certificate whose key this agent does not have")
                    .why(format!("it is the one of {}", certificate.common_name()))
                    .try_("yestrel rollout   hands the key over first"))
            }
            _ => Ok(()),
        }
    }

    /// Keeps the key of a certificate that the next order names, beside that of the order that may be gone back to.
    pub(crate) fn certify(&self, private_key: &Secret) -> Result<()> {
        let _one = self.change.lock();
        let mut keep = self.shared.keep.lock();
        if keep.identity()?.is_none() {
            return Err(Problem::refused("this agent belongs to no estate yet"));
        }
        PrivateKey::from_pkcs8(private_key.clone(), &SystemRandom::new())?;
        let in_force = match keep.order()? {
            Some(envelope) => certificate_of(&envelope.read()?.content)?,
            None => None,
        };
        let mut keys = keep.certificate_keys()?;
        keys.retain(|key| key != private_key && in_force.as_ref().is_some_and(|one| is_key_of(key, one)));
        keys.push(private_key.clone());
        keep.set_certificate_keys(&keys);
        Ok(())
    }
}

/// The certificate that an order names for the gateway itself.
fn certificate_of(content: &Content) -> Result<Option<Certificate>> {
    let Some(leaf) = content.certificate.first() else { return Ok(None) };
    let der = BASE64.decode(leaf).map_err(|_| Problem::words("the gateway's certificate is damaged"))?;
    Certificate::from_der(&der).map(Some)
}

fn is_key_of(key: &Secret, certificate: &Certificate) -> bool {
    PrivateKey::from_pkcs8(key.clone(), &SystemRandom::new()).is_ok_and(|key| key.public() == certificate.key())
}
