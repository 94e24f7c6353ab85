//! A part of what a gateway is to be, while the rest waits.

use std::collections::BTreeSet;

use serde::Serialize;

use super::renaming::renamed;
use super::{Admit, Content};

/// A part of what a gateway is to be.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize)]
pub struct Part {
    /// What is true of these devices.
    pub devices: BTreeSet<String>,
    /// What is published about certificates, and where.
    pub publish: bool,
    /// What the gateway proves itself with.
    pub certificate: bool,
}

/// A gateway as an order before has it (`base`), and of what it is to be now (`new`) every revocation and this part, at listeners that
/// are there. Other names come along: only by them is known where the devices of this part come in.
#[must_use]
pub fn limited(base: &Content, new: &Content, part: &Part) -> Content {
    let base = &*renamed(base, new).0;
    let mut content = base.clone();
    let revoked = |admit: &Admit| new.revoked.contains_key(&admit.proof.identity().to_string());
    content.admit.retain(|admit| !part.devices.contains(&admit.device) && !revoked(admit));
    let is_there = |at: &String| base.listeners.iter().any(|listener| listener.name == *at);
    let theirs = new.admit.iter().filter(|admit| part.devices.contains(&admit.device));
    content.admit.extend(theirs.filter(|admit| admit.at.as_ref().is_none_or(is_there)).cloned());
    content.admit.sort_by(Admit::in_order);
    content.revoked.clone_from(&new.revoked);
    if part.publish {
        content.publish.clone_from(&new.publish);
    }
    if part.certificate {
        content.certificate.clone_from(&new.certificate);
    }
    content
}
