//! Everywhere that somebody could sign in.

use std::collections::{BTreeSet, HashMap};

use yestrel_core::Result;
use yestrel_core::estate::{Gateway, Site};
use yestrel_core::policy::Place;
use yestrel_store::Book;

use crate::find;

/// Everywhere that somebody could sign in.
pub(crate) fn places(book: &Book<'_>) -> Result<Vec<Place>> {
    let zones: HashMap<String, String> =
        book.all::<Site>()?.into_iter().map(|site| (site.name, site.time_zone)).collect();
    let mut places = Vec::new();
    for gateway in book.all::<Gateway>()? {
        let tunnels: BTreeSet<String> =
            find::listeners_of(book, &gateway.name)?.iter().map(|one| one.tunnel.word().to_owned()).collect();
        let zone = zones.get(&gateway.site).cloned().unwrap_or_else(|| "UTC".into());
        let tunnels = tunnels.into_iter().collect();
        places.push(Place { gateway: gateway.name, site: gateway.site, zone, tunnels });
    }
    Ok(places)
}
