//! Numbering, signing, verifying.

use std::collections::BTreeSet;

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD as BASE64;
use ed25519_dalek::{Signature, Signer as _, SigningKey, VerifyingKey};
use jiff::Timestamp;
use serde::{Deserialize, Serialize};

use super::Content;
use crate::keys::{PublicKey, Secret, sha256_hex};
use crate::{Problem, Result};

/// The format that this code writes and reads.
pub const FORMAT: &str = "yestrel order 2";

/// What this code knows of that an order may need. Whether a kind of tunnel is there, the agent says that runs it.
const KNOWN: [&str; 5] = ["proof key", "proof certificate", "proof account", "proof shared-secret", "holds"];

/// An order.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Order {
    pub format: String,
    /// The estate's id.
    pub estate: String,
    /// Counts up per gateway.
    pub number: u64,
    /// SHA-256 of the text of the order before; empty for the first.
    pub previous: String,
    pub issued: Timestamp,
    /// The estate's new key: whoever carries this order out obeys that one from then on.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub successor: Option<PublicKey>,
    /// What whoever carries it out must know, each by its name.
    pub needs: BTreeSet<String>,
    pub content: Content,
}

/// An order on its way: its text, and the signature over the text.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Envelope {
    pub order: String,
    /// Ed25519 (RFC 8032), base64.
    pub signature: String,
    /// By the estate's new key over the same text, where the order names one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub successor_signature: Option<String>,
}

/// Canonical JSON of anything that serialises.
pub(crate) fn canonical<T: Serialize>(value: &T) -> String {
    // `serde_json::Value` keeps objects in a sorted map.
    serde_json::to_value(value).map(|value| value.to_string()).unwrap_or_default()
}

/// Numbers, dates and signs an order.
///
/// # Errors
/// The signing key is damaged.
pub fn sign(
    estate: &str,
    number: u64,
    previous: &str,
    issued: Timestamp,
    content: Content,
    key: &Secret,
) -> Result<Envelope> {
    let order = Order {
        format: FORMAT.into(),
        estate: estate.into(),
        number,
        previous: previous.into(),
        issued,
        successor: None,
        needs: content.needs(),
        content,
    };
    let order = canonical(&order);
    Ok(Envelope { signature: signature(key, &order)?, order, successor_signature: None })
}

/// Signs a text that is no order (Ed25519, RFC 8032), base64. The text must say what it is.
///
/// # Errors
/// The signing key is damaged.
pub fn sign_text(text: &str, key: &Secret) -> Result<String> {
    signature(key, text)
}

/// Checks what [`sign_text`] made.
///
/// # Errors
/// The text or the signature was altered, or somebody else signed.
pub fn check_text(text: &str, signature: &str, signer: &PublicKey) -> Result<()> {
    let stranger = || Problem::refused("it is not signed by the estate");
    let key = VerifyingKey::from_bytes(&signer.0).map_err(|_| stranger())?;
    let bytes = BASE64.decode(signature).map_err(|_| stranger())?;
    let signature = Signature::from_slice(&bytes).map_err(|_| stranger())?;
    key.verify_strict(text.as_bytes(), &signature).map_err(|_| stranger())
}

fn signature(key: &Secret, text: &str) -> Result<String> {
    Ok(BASE64.encode(SigningKey::from_bytes(&*key.private_key()?).sign(text.as_bytes()).to_bytes()))
}

/// As [`sign`], for a gateway that still obeys `key`: signed with it and with `successor`, which it obeys from then on.
///
/// # Errors
/// One of the signing keys is damaged.
pub fn sign_over(envelope: &Envelope, key: &Secret, successor: &Secret) -> Result<Envelope> {
    let mut order = envelope.read()?;
    order.successor = Some(signer(successor)?);
    let order = canonical(&order);
    Ok(Envelope { signature: signature(key, &order)?, successor_signature: Some(signature(successor, &order)?), order })
}

/// The public half of a signing key.
///
/// # Errors
/// Not 32 bytes.
pub fn signer(key: &Secret) -> Result<PublicKey> {
    Ok(PublicKey(SigningKey::from_bytes(&*key.private_key()?).verifying_key().to_bytes()))
}

impl Envelope {
    /// SHA-256 of the order's text.
    #[must_use]
    pub fn hash(&self) -> String {
        sha256_hex(self.order.as_bytes())
    }

    /// Reads the order without asking who signed it: for showing what the estate itself stored.
    ///
    /// # Errors
    /// The text is not an order of a format that this version reads.
    pub fn read(&self) -> Result<Order> {
        #[derive(Deserialize)]
        struct Head {
            format: String,
            #[serde(default)]
            needs: BTreeSet<String>,
        }
        let unreadable = |_| {
            Problem::refused("the order cannot be read")
                .why("its text is cut short or altered")
                .try_("yestrel rollout   to send it again")
        };
        let Head { format, needs } = serde_json::from_str(&self.order).map_err(unreadable)?;
        if format != FORMAT {
            return Err(Problem::refused(format!("the order has the format {format:?}"))
                .why(format!("this version carries out {FORMAT:?}"))
                .try_("bring the agent to the version of the command that made the order"));
        }
        // Before the rest: what is not known may stand there in a form that cannot be read.
        let known = |need: &String| KNOWN.contains(&need.as_str()) || need.starts_with("tunnel ");
        if let Some(unknown) = needs.iter().find(|need| !known(need)) {
            return Err(Problem::refused(format!("the order needs {unknown:?}"))
                .why("this version does not know it, and passing it over could let in whom the order keeps out")
                .try_("bring the agent to the version of the command that made the order"));
        }
        serde_json::from_str(&self.order).map_err(unreadable)
    }

    /// Reads the order if `signer` signed it.
    ///
    /// # Errors
    /// The signature is not the signer's, or as [`Envelope::read`].
    pub fn verify(&self, signer: &PublicKey) -> Result<Order> {
        let by_successor = self.successor_signature.as_deref().unwrap_or_default();
        let own = self.check(signer, &self.signature);
        let order = match own {
            Ok(()) => self.read()?,
            // Whoever obeys the new key already goes by its signature alone.
            Err(problem) => match self.read() {
                Ok(order) if order.successor == Some(*signer) => order,
                _ => return Err(problem),
            },
        };
        if let Some(successor) = &order.successor {
            self.check(successor, by_successor)?;
        }
        Ok(order)
    }

    fn check(&self, signer: &PublicKey, signature: &str) -> Result<()> {
        check_text(&self.order, signature, signer).map_err(|_| {
            Problem::refused("the order is not signed by this gateway's estate")
                .why("it was altered on its way, or belongs to another estate")
        })
    }
}
