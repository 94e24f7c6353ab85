//! What a change made, and which gateways must learn it.

use std::collections::BTreeSet;

use serde::Serialize;

/// What a change made, and the gateways that must learn it.
#[derive(Debug, Serialize)]
pub struct Changed<T> {
    pub what: T,
    pub gateways: BTreeSet<String>,
    /// Of what waits for them, what this change is about.
    pub only: Only,
}

/// A part of what waits in an estate for its gateways.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize)]
pub struct Only {
    /// What is true of these devices.
    pub devices: BTreeSet<String>,
    /// What is published about certificates, and where.
    pub publish: bool,
    /// What the gateway proves itself with.
    pub certificate: bool,
}

impl<T> Changed<T> {
    /// Something about these devices that these gateways must learn.
    pub fn of(what: T, gateways: impl IntoIterator<Item = String>, devices: impl IntoIterator<Item = String>) -> Self {
        let only = Only { devices: devices.into_iter().collect(), publish: false, certificate: false };
        Self { what, gateways: gateways.into_iter().collect(), only }
    }

    /// Something about what is published that these gateways must learn.
    pub fn published(what: T, gateways: impl IntoIterator<Item = String>) -> Self {
        let only = Only { devices: BTreeSet::new(), publish: true, certificate: false };
        Self { what, gateways: gateways.into_iter().collect(), only }
    }
}
