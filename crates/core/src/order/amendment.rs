//! Amendments: what an order changes of the one before it, where nothing changes but who is let in. Such a change travels, and is kept,
//! by itself, whatever the whole order weighs; the two together are the same as a whole order.

use std::collections::{BTreeMap, BTreeSet};

use jiff::Timestamp;
use serde::{Deserialize, Serialize};

use super::content::{Admit, Content, Revoked};
use super::signed::{canonical, check_needs, check_text, sign_text};
use crate::keys::{PublicKey, Secret, sha256_hex};
use crate::{Problem, Result};

/// The format that this code writes and reads.
pub const AMENDMENT: &str = "yestrel order amendment 1";

/// How many amendments may stand on one whole order, for whoever reads them.
pub const MOST: usize = 1_000;

/// An order that is the one before it but for some devices.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Amendment {
    pub format: String,
    /// The estate's id.
    pub estate: String,
    pub gateway: String,
    /// One more than that of the order before.
    pub number: u64,
    /// SHA-256 of the text of the order before, whole or itself an amendment.
    pub previous: String,
    pub issued: Timestamp,
    /// What whoever carries it out must know, each by its name.
    pub needs: BTreeSet<String>,
    /// Devices of which every entry is taken out.
    pub devices: BTreeSet<String>,
    /// The entries that they have from now on. One for a listener that the gateway has not is passed over.
    pub admit: Vec<Admit>,
    /// Revocations that are added, by identity; whatever names one of these is taken out.
    pub revoked: BTreeMap<String, Revoked>,
}

/// An amendment on its way: its text, and the estate's signature over it (Ed25519, RFC 8032), base64.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct SignedAmendment {
    pub amendment: String,
    pub signature: String,
}

/// What is amended.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Amends {
    /// Devices of which every entry is taken out.
    pub devices: BTreeSet<String>,
    /// The entries that they have from now on.
    pub admit: Vec<Admit>,
    /// Revocations that are added, by identity.
    pub revoked: BTreeMap<String, Revoked>,
}

impl Amendment {
    /// An amendment to the order `previous` of a gateway, by its hash.
    #[must_use]
    pub fn new(estate: &str, gateway: &str, number: u64, previous: &str, issued: Timestamp, amends: Amends) -> Self {
        let Amends { devices, admit, revoked } = amends;
        let needs = admit.iter().map(|admit| format!("proof {}", admit.proof.kind().word())).collect();
        Self {
            format: AMENDMENT.into(),
            estate: estate.into(),
            gateway: gateway.into(),
            number,
            previous: previous.into(),
            issued,
            needs,
            devices,
            admit,
            revoked,
        }
    }

    /// Signs it.
    ///
    /// # Errors
    /// The signing key is damaged.
    pub fn sign(&self, key: &Secret) -> Result<SignedAmendment> {
        let amendment = canonical(self);
        Ok(SignedAmendment { signature: sign_text(&amendment, key)?, amendment })
    }
}

impl SignedAmendment {
    /// SHA-256 of its text.
    #[must_use]
    pub fn hash(&self) -> String {
        sha256_hex(self.amendment.as_bytes())
    }

    /// Reads it without asking who signed it.
    ///
    /// # Errors
    /// It is none of a format that this version reads, or needs something that this version does not know.
    pub fn read(&self) -> Result<Amendment> {
        check_needs(&self.amendment, AMENDMENT)?;
        let amendment: Amendment = serde_json::from_str(&self.amendment).map_err(|_| {
            Problem::refused("the amendment of an order cannot be read").why("its text is cut short or altered")
        })?;
        match amendment.admit.iter().find(|admit| !amendment.devices.contains(&admit.device)) {
            Some(stray) => {
                Err(Problem::refused(format!("an amendment admits {}, which it does not name", stray.device)))
            }
            None => Ok(amendment),
        }
    }

    /// Reads it if `signer` signed it.
    ///
    /// # Errors
    /// The signature is not the signer's, or as [`SignedAmendment::read`].
    pub fn verify(&self, signer: &PublicKey) -> Result<Amendment> {
        check_text(&self.amendment, &self.signature, signer).map_err(|_| {
            Problem::refused("the amendment is not signed by this gateway's estate")
                .why("it was altered on its way, or belongs to another estate")
        })?;
        self.read()
    }
}

/// What a content comes to with amendments, in their sequence: each device has what the last that names it says.
pub(crate) fn amend(content: &mut Content, amendments: Vec<Amendment>) {
    let mut theirs: BTreeMap<String, Vec<Admit>> = BTreeMap::new();
    for Amendment { devices, admit, revoked, .. } in amendments {
        for device in devices {
            theirs.insert(device, Vec::new());
        }
        for admit in admit {
            theirs.entry(admit.device.clone()).or_default().push(admit);
        }
        content.revoked.extend(revoked);
    }
    content.admit.retain(|admit| !theirs.contains_key(&admit.device));
    let listeners: BTreeSet<_> = content.listeners.iter().map(|listener| listener.name.clone()).collect();
    let is_there = |admit: &Admit| admit.at.as_ref().is_none_or(|at| listeners.contains(at));
    content.admit.extend(theirs.into_values().flatten().filter(is_there));
    if !content.revoked.is_empty() {
        let revoked = &content.revoked;
        content.admit.retain(|admit| !revoked.contains_key(&admit.proof.identity().to_string()));
    }
    content.admit.sort_by(Admit::in_order);
}

/// What the text of an order says of some people.
#[derive(Debug, Default, PartialEq, Eq)]
pub struct Excerpt {
    /// The entries of the devices that were asked for.
    pub admit: Vec<Admit>,
    /// Of the identities that were asked for those that it names as revoked, as it says it.
    pub revoked: BTreeMap<String, Revoked>,
}

/// How the name of a device begins in the text of an order. Keys stand in their order there: in an entry only an address and the name of a
/// listener before it, in a revocation nothing but what it is the value of.
const DEVICE: &str = "\"device\":\"";

/// The entries of some devices in the text of an order, and which identities it names as revoked, in one walk and without reading the rest. The
/// text must be one that [`super::sign`] wrote. `None`: it is not written so, and must be read whole.
#[must_use]
pub fn excerpt(order: &str, devices: &BTreeSet<String>, identities: &BTreeSet<String>) -> Option<Excerpt> {
    // In a text these would stand otherwise; no estate has such names.
    if devices.iter().any(|device| device.contains(['\\', '"']) || device.contains(char::is_control)) {
        return None;
    }
    let mut found = Excerpt::default();
    for (at, _) in order.match_indices(DEVICE) {
        if let Some(key) = order[..at].strip_suffix("\":{") {
            let identity = &key[key.rfind('"')? + 1..];
            if identities.contains(identity) {
                let text = &order[at - 1..];
                let revoked = serde_json::Deserializer::from_str(text).into_iter::<Revoked>().next()?.ok()?;
                found.revoked.insert(identity.to_owned(), revoked);
            }
            continue;
        }
        let name = &order[at + DEVICE.len()..];
        let name = &name[..name.find('"')?];
        // No estate has such names; whoever has is not looked for so.
        if name.ends_with('\\') {
            return None;
        }
        if devices.contains(name) {
            let begin = order[..at].rfind('{')?;
            let entry = serde_json::Deserializer::from_str(&order[begin..]).into_iter::<Admit>().next()?.ok()?;
            if entry.device != name {
                return None;
            }
            found.admit.push(entry);
        }
    }
    found.admit.sort_by(Admit::in_order);
    Some(found)
}

/// What of a content changes from one order to the next, as an amendment would say it: devices, their entries, and revocations. `None`: something
/// else changes as well.
#[must_use]
pub fn amendable(old: &Content, new: &Content) -> Option<Amends> {
    if old.settings() != new.settings() || old.revoked.keys().any(|identity| !new.revoked.contains_key(identity)) {
        return None;
    }
    let revoked: BTreeMap<_, _> = new
        .revoked
        .iter()
        .filter(|(identity, one)| old.revoked.get(*identity) != Some(*one))
        .map(|(identity, one)| (identity.clone(), one.clone()))
        .collect();
    // Both stand in the same order, so that they are gone through side by side.
    let mut devices = BTreeSet::new();
    let (mut before, mut after) = (old.admit.iter().peekable(), new.admit.iter().peekable());
    loop {
        let which = match (before.peek(), after.peek()) {
            (None, None) => break,
            (Some(_), None) => std::cmp::Ordering::Less,
            (None, Some(_)) => std::cmp::Ordering::Greater,
            (Some(was), Some(is)) => was.place().cmp(&is.place()),
        };
        let (was, is) = match which {
            std::cmp::Ordering::Less => (before.next(), None),
            std::cmp::Ordering::Greater => (None, after.next()),
            std::cmp::Ordering::Equal => (before.next(), after.next()),
        };
        if was != is {
            devices.extend(was.into_iter().chain(is).map(|admit| admit.device.clone()));
        }
    }
    let admit = new.admit.iter().filter(|admit| devices.contains(&admit.device)).cloned().collect();
    Some(Amends { devices, admit, revoked })
}
