//! Sites: what a command does with a place and its networks.

use std::collections::BTreeSet;

use ipnet::IpNet;
use yestrel_core::estate::{Gateway, Host, Listener, Site};
use yestrel_core::policy::Asks;
use yestrel_core::pool::{Taken, common_at_home, overlap, range};
use yestrel_core::tunnel::{Tunnel, quill};
use yestrel_core::{Problem, Result, name};
use yestrel_store::Book;

use crate::context::Context;
use crate::find::{self, Stale, listeners_of, still_needed};
use crate::policy;

/// What a command says about a site; `None` leaves what is there.
#[derive(Debug, Default)]
pub struct Wish {
    pub networks: Option<Vec<String>>,
    pub time_zone: Option<String>,
    pub front: Option<String>,
}

/// All ranges in use: sites' networks and listeners' pools, but those of the listener `but`.
pub(crate) fn taken(book: &Book<'_>, but: &str) -> Result<Vec<Taken>> {
    let sites = book.all::<Site>()?.into_iter().flat_map(|site| {
        let what = format!("the network {{}} of the site {}", site.name);
        site.networks.into_iter().map(move |range| Taken { range, what: what.clone() })
    });
    let others = book.all::<Listener>()?.into_iter().filter(|listener| listener.name != but);
    let pools = others.flat_map(|listener| {
        let what = format!("the pool {{}} of the listener {}", listener.name);
        let ranges = std::iter::once(listener.pool.into()).chain(listener.pool6.map(IpNet::from));
        ranges.map(move |range| Taken { range, what: what.clone() })
    });
    Ok(sites.chain(pools).collect())
}

/// Whether a listener's settings have room where its tunnel tells them.
///
/// # Errors
/// Its reach has too many ranges, or there are too many resolvers.
pub(crate) fn can_be_told(book: &Book<'_>, listener: &Listener) -> Result<()> {
    let gateway: Gateway = book.need(&listener.gateway)?;
    let site: Site = book.need(&gateway.site)?;
    match &listener.tunnel {
        Tunnel::Quill(_) => quill::fits(&listener.reach.ranges(&site.networks), &listener.resolvers),
        Tunnel::Ikev2(_) | Tunnel::Other(_) => Ok(()),
    }
}

fn networks(book: &Book<'_>, own: &str, texts: &[String]) -> Result<Vec<IpNet>> {
    let mut networks: Vec<_> = texts.iter().map(|text| range(text)).collect::<Result<_>>()?;
    networks.sort();
    for (at, network) in networks.iter().enumerate() {
        if let Some(other) = networks[at + 1..].iter().find(|other| overlap(network, other)) {
            return Err(Problem::words(format!("the networks {network} and {other} overlap")));
        }
        let others = taken(book, "")?.into_iter().filter(|other| !other.what.ends_with(&format!("site {own}")));
        if let Some(other) = others.into_iter().find(|other| overlap(&other.range, network)) {
            return Err(Problem::refused(format!(
                "the network {network} overlaps {}",
                other.what.replace("{}", &other.range.to_string())
            ))
            .why("devices that reach both could not tell them apart"));
        }
    }
    Ok(networks)
}

fn zone(text: &str) -> Result<String> {
    jiff::tz::TimeZone::get(text).map_err(|_| {
        Problem::words(format!("{text:?} is no time zone")).why("time zones have names such as Europe/Oslo")
    })?;
    Ok(text.to_owned())
}

/// Notes on a site that are no errors: networks that many homes use as well.
#[must_use]
pub fn notes(site: &Site) -> Vec<String> {
    let common = site.networks.iter().filter(|network| common_at_home(network).is_some());
    common.map(|network| format!("{network} is also what many homes use; from those it cannot be reached")).collect()
}

/// Adds a site.
///
/// # Errors
/// A bad or taken name, a bad or overlapping network, an unknown time zone.
pub fn add(context: &mut Context, site: &str, wish: &Wish) -> Result<Site> {
    name::check("site", site)?;
    let created = context.now;
    context.write(|book| {
        let site = Site {
            name: site.into(),
            networks: networks(book, site, wish.networks.as_deref().unwrap_or_default())?,
            time_zone: zone(wish.time_zone.as_deref().unwrap_or("UTC"))?,
            front: wish.front.clone(),
            created,
        };
        book.add(&site)?;
        book.note("site add", &site.name, &describe(&site))?;
        Ok(site)
    })
}

fn describe(site: &Site) -> String {
    let networks: Vec<_> = site.networks.iter().map(ToString::to_string).collect();
    format!("networks {}, time zone {}", networks.join(","), site.time_zone)
}

/// Changes a site.
///
/// # Errors
/// As [`add`].
pub fn change(context: &mut Context, site: &str, wish: &Wish) -> Result<(Site, Stale)> {
    context.write(|book| {
        let mut site: Site = book.need(site)?;
        let gateways = book.find::<Gateway>(&[("site", site.name.as_str().into())])?;
        let mut before = BTreeSet::new();
        for gateway in &gateways {
            before.extend(find::stale_at(book, &gateway.name)?);
        }
        if let Some(texts) = &wish.networks {
            site.networks = networks(book, &site.name, texts)?;
        }
        if let Some(text) = &wish.time_zone {
            site.time_zone = zone(text)?;
        }
        if let Some(front) = &wish.front {
            site.front = Some(front.clone());
        }
        book.put(&site)?;
        let mut stale = Stale::default();
        for gateway in gateways {
            let here = find::became_stale(book, &gateway.name, &before)?;
            stale.count += here.count;
            stale.by_this.extend(here.by_this);
            for one in listeners_of(book, &gateway.name)? {
                can_be_told(book, &one)?;
            }
        }
        book.note("site change", &site.name, &describe(&site))?;
        Ok((site, stale))
    })
}

/// All sites.
///
/// # Errors
/// The estate cannot be read.
pub fn list(context: &mut Context) -> Result<Vec<Site>> {
    context.read(|book| book.all())
}

/// One site.
///
/// # Errors
/// There is none of that name.
pub fn show(context: &mut Context, site: &str) -> Result<Site> {
    context.read(|book| book.need(site))
}

/// Removes a site.
///
/// # Errors
/// Something is still there.
pub fn remove(context: &mut Context, site: &str) -> Result<()> {
    context.write(|book| {
        let site: Site = book.need(site)?;
        let filter = [("site", site.name.as_str().into())];
        let hosts: Vec<_> = book.find::<Host>(&filter)?.into_iter().map(|host| host.name).collect();
        policy::still_named(book, Asks::Site, &site.name)?;
        still_needed(&format!("the site {}", site.name), &hosts, "the hosts", "yestrel host remove")?;
        let gateways: Vec<_> = book.find::<Gateway>(&filter)?.into_iter().map(|gateway| gateway.name).collect();
        still_needed(&format!("the site {}", site.name), &gateways, "the gateways", "yestrel gateway retire")?;
        book.remove::<Site>(&site.name)?;
        book.note("site remove", &site.name, "")
    })
}
