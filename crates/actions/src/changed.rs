//! What a change made, and which gateways must learn it.

use std::collections::BTreeSet;

use serde::Serialize;
use yestrel_core::order::Part;

/// What a change made, and the gateways that must learn it.
#[derive(Debug, Serialize)]
pub struct Changed<T> {
    pub what: T,
    pub gateways: BTreeSet<String>,
    /// Of what waits for them, what this change is about.
    pub only: Part,
}

impl<T> Changed<T> {
    /// Something about these devices that these gateways must learn.
    pub fn of(what: T, gateways: impl IntoIterator<Item = String>, devices: impl IntoIterator<Item = String>) -> Self {
        let only = Part { devices: devices.into_iter().collect(), ..Part::default() };
        Self { what, gateways: gateways.into_iter().collect(), only }
    }

    /// Something about what is published that these gateways must learn.
    pub fn published(what: T, gateways: impl IntoIterator<Item = String>) -> Self {
        let only = Part { publish: true, ..Part::default() };
        Self { what, gateways: gateways.into_iter().collect(), only }
    }
}
