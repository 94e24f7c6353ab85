//! Numbering, signing, verifying.

use std::collections::BTreeSet;

use ed25519_dalek::SigningKey;
use jiff::Timestamp;
use serde::{Deserialize, Serialize};

use super::Content;
use super::amendment::{Amendment, MOST, SignedAmendment, amend};
use super::signed::{canonical, check_needs, check_text, signature, unreadable};
use crate::keys::{PublicKey, Secret, sha256_hex};
use crate::{Problem, Result};

/// The format that this code writes and reads.
pub const FORMAT: &str = "yestrel order 2";

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
    /// What was amended since, in its sequence: with these it is the order of the last one's number.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub amendments: Vec<SignedAmendment>,
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
    Ok(Envelope { signature: signature(key, &order)?, order, successor_signature: None, amendments: Vec::new() })
}

/// As [`sign`], for a gateway that still obeys `key`: signed with it and with `successor`, which it obeys from then on.
///
/// # Errors
/// One of the signing keys is damaged.
pub fn sign_over(envelope: &Envelope, key: &Secret, successor: &Secret) -> Result<Envelope> {
    let mut order = envelope.whole()?;
    order.successor = Some(signer(successor)?);
    let order = canonical(&order);
    Ok(Envelope {
        signature: signature(key, &order)?,
        successor_signature: Some(signature(successor, &order)?),
        order,
        amendments: Vec::new(),
    })
}

/// The public half of a signing key.
///
/// # Errors
/// Not 32 bytes.
pub fn signer(key: &Secret) -> Result<PublicKey> {
    Ok(PublicKey(SigningKey::from_bytes(&*key.private_key()?).verifying_key().to_bytes()))
}

/// How long an order may be as a message, so that it and what is amended of it stay below what agents take.
const LONGEST_ORDER: usize = 48 * 1024 * 1024;

impl Envelope {
    /// Checks, before it is kept, that agents will take it.
    ///
    /// # Errors
    /// It is too long.
    pub fn check_length(&self, gateway: &str, devices: usize) -> Result<()> {
        // In a message it is a text within a text: quotes and backslashes stand there as two.
        let escaped = self.order.bytes().filter(|byte| matches!(byte, b'"' | b'\\')).count();
        let length = self.order.len() + escaped;
        if length <= LONGEST_ORDER {
            return Ok(());
        }
        Err(Problem::refused(format!("the order of {gateway} would be longer than agents take"))
            .why(format!("{devices} entries make {length} bytes; {LONGEST_ORDER} are taken"))
            .try_("yestrel gateway create --help   a second gateway takes some of the devices"))
    }

    /// SHA-256 of the order's text, or of its last amendment's.
    #[must_use]
    pub fn hash(&self) -> String {
        self.amendments.last().map_or_else(|| sha256_hex(self.order.as_bytes()), SignedAmendment::hash)
    }

    /// Reads the order without asking who signed it: for showing what the estate itself stored.
    ///
    /// # Errors
    /// The text is not an order of a format that this version reads.
    pub fn read(&self) -> Result<Order> {
        let order = self.whole()?;
        let amendments = self.amendments.iter().map(SignedAmendment::read).collect::<Result<Vec<_>>>()?;
        self.amended(order, amendments)
    }

    /// The order as it was before anything was amended.
    fn whole(&self) -> Result<Order> {
        check_needs(&self.order, FORMAT)?;
        serde_json::from_str(&self.order).map_err(unreadable)
    }

    /// The order with what was amended since.
    fn amended(&self, mut order: Order, amendments: Vec<Amendment>) -> Result<Order> {
        if amendments.is_empty() {
            return Ok(order);
        }
        if amendments.len() > MOST {
            return Err(Problem::refused(format!("the order has more than {MOST} amendments")));
        }
        let mut hash = sha256_hex(self.order.as_bytes());
        for (signed, amendment) in self.amendments.iter().zip(&amendments) {
            let follows = amendment.previous == hash
                && amendment.number == order.number + 1
                && amendment.estate == order.estate
                && amendment.gateway == order.content.gateway;
            if !follows {
                return Err(Problem::refused(format!(
                    "amendment {} does not continue order {}",
                    amendment.number, order.number
                ))
                .why("something between them is missing, or is of another gateway"));
            }
            order.number = amendment.number;
            order.issued = amendment.issued;
            order.previous.clone_from(&amendment.previous);
            order.needs.extend(amendment.needs.iter().cloned());
            hash = signed.hash();
        }
        amend(&mut order.content, amendments);
        Ok(order)
    }

    /// Reads the order if `signer` signed it.
    ///
    /// # Errors
    /// The signature is not the signer's, or as [`Envelope::read`].
    pub fn verify(&self, signer: &PublicKey) -> Result<Order> {
        let by_successor = self.successor_signature.as_deref().unwrap_or_default();
        let own = self.check(signer, &self.signature);
        let order = match own {
            Ok(()) => self.whole()?,
            // Whoever obeys the new key already goes by its signature alone.
            Err(problem) => match self.whole() {
                Ok(order) if order.successor == Some(*signer) => order,
                _ => return Err(problem),
            },
        };
        if let Some(successor) = &order.successor {
            self.check(successor, by_successor)?;
        }
        // What follows an order that names a new key is signed with that.
        let signer = order.successor.unwrap_or(*signer);
        let amendments = self.amendments.iter().map(|one| one.verify(&signer)).collect::<Result<Vec<_>>>()?;
        self.amended(order, amendments)
    }

    fn check(&self, signer: &PublicKey, signature: &str) -> Result<()> {
        check_text(&self.order, signature, signer).map_err(|_| {
            Problem::refused("the order is not signed by this gateway's estate")
                .why("it was altered on its way, or belongs to another estate")
        })
    }
}
