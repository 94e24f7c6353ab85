//! What a change made, and which gateways must learn it.

use std::collections::BTreeSet;

use serde::Serialize;

/// What a change made, and the gateways that must learn it.
#[derive(Debug, Serialize)]
pub struct Changed<T> {
    pub what: T,
    pub gateways: BTreeSet<String>,
}

impl<T> Changed<T> {
    /// Something that these gateways must learn.
    pub fn at(what: T, gateways: impl IntoIterator<Item = String>) -> Self {
        Self { what, gateways: gateways.into_iter().collect() }
    }
}
