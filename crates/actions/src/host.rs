//! Hosts.

use yestrel_core::facts::{Facts, Finding};
use yestrel_core::nouns::{Gateway, Host, HostKind, Site};
use yestrel_core::{Result, name};

use crate::{Context, still_needed};

/// Adds a host, once it answers and says what it is.
///
/// # Errors
/// A bad or taken name, no such site, or the host cannot be reached.
pub fn add(context: &mut Context, host: &str, site: &str, kind: HostKind, via: &str) -> Result<(Host, Vec<Finding>)> {
    name::check("host", host)?;
    context.read(|book| {
        book.need::<Site>(site)?;
        Ok(())
    })?;
    let facts = yestrel_places::open(host, via)?.facts()?;
    let now = context.now;
    let findings = facts.findings(now);
    let host = Host {
        name: host.into(),
        site: site.into(),
        kind,
        via: via.into(),
        facts: Some(facts),
        probed: Some(now),
        created: now,
    };
    context.write(|book| {
        book.add(&host)?;
        book.note("host add", &host.name, &format!("at {}, via {}", host.site, host.via))
    })?;
    Ok((host, findings))
}

/// All hosts.
///
/// # Errors
/// The estate cannot be read.
pub fn list(context: &mut Context) -> Result<Vec<Host>> {
    context.read(|book| book.all())
}

/// One host.
///
/// # Errors
/// There is none of that name.
pub fn show(context: &mut Context, host: &str) -> Result<Host> {
    context.read(|book| book.need(host))
}

/// Looks at a host again and keeps what was found.
///
/// # Errors
/// No such host, or it cannot be reached.
pub fn probe(context: &mut Context, host: &str) -> Result<(Facts, Vec<Finding>)> {
    let mut host: Host = context.read(|book| book.need(host))?;
    let facts = yestrel_places::open(&host.name, &host.via)?.facts()?;
    let findings = facts.findings(jiff::Timestamp::now());
    host.facts = Some(facts.clone());
    host.probed = Some(context.now);
    context.write(|book| {
        // Only what was learned is written: somebody may have changed the rest meanwhile.
        let mut now: Host = book.need(&host.name)?;
        now.facts = host.facts;
        now.probed = host.probed;
        book.put(&now)
    })?;
    Ok((facts, findings))
}

/// Removes a host.
///
/// # Errors
/// A gateway is still on it.
pub fn remove(context: &mut Context, host: &str) -> Result<()> {
    context.write(|book| {
        let host: Host = book.need(host)?;
        let gateways: Vec<_> = book
            .find::<Gateway>(&[("host", host.name.as_str().into())])?
            .into_iter()
            .map(|gateway| gateway.name)
            .collect();
        still_needed(&format!("the host {}", host.name), &gateways, "the gateway", "yestrel gateway retire")?;
        book.remove::<Host>(&host.name)?;
        book.note("host remove", &host.name, "")
    })
}
