//! By which tunnels somebody can come in where.

use std::collections::BTreeMap;

use yestrel_core::Result;
use yestrel_core::estate::Gateway;
use yestrel_core::tunnel::Tunnel;
use yestrel_store::{Book, Query};

use super::then::Carried;
use crate::find;

/// The kinds of tunnel at each gateway.
#[derive(Default)]
pub(super) struct Doors(BTreeMap<String, Vec<Tunnel>>);

impl Doors {
    /// As they are.
    pub fn read(book: &Book<'_>) -> Result<Self> {
        let mut all: BTreeMap<String, Vec<Tunnel>> = BTreeMap::new();
        for gateway in book.names::<Gateway>(&Query::default())? {
            let listeners = find::listeners_of(book, &gateway)?;
            all.insert(gateway, listeners.into_iter().map(|listener| listener.tunnel).collect());
        }
        Ok(Self(all))
    }

    /// Each gateway with its tunnels.
    pub fn all(&self) -> impl Iterator<Item = (&String, &Vec<Tunnel>)> {
        self.0.iter()
    }

    /// The ways by which a credential could come in: its gateways, and the tunnels there that take it.
    pub fn ways<'a>(&'a self, credential: &'a Carried) -> impl Iterator<Item = (&'a String, &'a Tunnel)> {
        let gateways = credential.gateways.iter().filter_map(|gateway| self.0.get_key_value(gateway));
        let each = gateways.flat_map(|(gateway, tunnels)| tunnels.iter().map(move |tunnel| (gateway, tunnel)));
        each.filter(|(_, tunnel)| tunnel.proofs().contains(&credential.proof()))
    }
}
