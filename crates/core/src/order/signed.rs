//! Texts that the estate signs: their canonical form, their signatures, and what they need that reads them.

use std::collections::BTreeSet;

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD as BASE64;
use ed25519_dalek::{Signature, Signer as _, SigningKey, VerifyingKey};
use serde::{Deserialize, Serialize};

use crate::keys::{PublicKey, Secret};
use crate::policy::{Asks, Terms};
use crate::{Problem, Result};

/// What this code knows of that an order may need. Whether a kind of tunnel is there, the agent says that runs it.
const KNOWN: [&str; 7] =
    ["proof key", "proof certificate", "proof account", "proof shared-secret", "holds", "policies", "registries"];

/// Whether this code knows of something that a list of policies may need.
fn known_of_policies(need: &str) -> bool {
    let asks = |word: &str| Asks::ALL.iter().any(|asks| asks.word() == word);
    let term = |word: &str| Terms::NAMES.contains(&word);
    need.strip_prefix("policy ").is_some_and(asks) || need.strip_prefix("term ").is_some_and(term)
}

/// Canonical JSON of anything that serialises.
pub(crate) fn canonical<T: Serialize>(value: &T) -> String {
    // `serde_json::Value` keeps objects in a sorted map.
    serde_json::to_value(value).map(|value| value.to_string()).unwrap_or_default()
}

pub(super) fn unreadable(_: serde_json::Error) -> Problem {
    Problem::refused("the order cannot be read")
        .why("its text is cut short or altered")
        .try_("yestrel rollout   to send it again")
}

/// Checks that a text is of this format, and needs nothing that this version does not know: before the rest is read, because what is not known
/// may stand there in a form that cannot be read.
pub(super) fn check_needs(text: &str, wanted: &str) -> Result<()> {
    #[derive(Deserialize)]
    struct Head {
        format: String,
        #[serde(default)]
        needs: BTreeSet<String>,
    }
    let Head { format, needs } = serde_json::from_str(text).map_err(unreadable)?;
    if format != wanted {
        return Err(Problem::refused(format!("the order has the format {format:?}"))
            .why(format!("this version carries out {wanted:?}"))
            .try_("bring the agent to the version of the command that made the order"));
    }
    let known =
        |need: &String| KNOWN.contains(&need.as_str()) || need.starts_with("tunnel ") || known_of_policies(need);
    match needs.iter().find(|need| !known(need)) {
        Some(unknown) => Err(Problem::refused(format!("the order needs {unknown:?}"))
            .why("this version does not know it, and passing it over could let in whom the order keeps out")
            .try_("bring the agent to the version of the command that made the order")),
        None => Ok(()),
    }
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

pub(super) fn signature(key: &Secret, text: &str) -> Result<String> {
    Ok(BASE64.encode(SigningKey::from_bytes(&*key.private_key()?).sign(text.as_bytes()).to_bytes()))
}
