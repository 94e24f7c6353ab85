//! Where the state of certificates is published, and certificates of authorities that say so.

use yestrel_core::estate::{Authority, CertificateKind, Gateway, Host};
use yestrel_core::firewall::Protocol;
use yestrel_core::x509::certificate::{self, Purpose, Wanted};
use yestrel_core::{Problem, Result};
use yestrel_store::Book;

use super::lists::{self, HTTP, published_at, sign_all};
use super::signing::record;
use crate::changed::Changed;
use crate::context::Context;
use crate::find;
use crate::keyring::{Keys, decoded, encoded, random, random16};

/// Signs an authority's certificate anew where it does not say where the list above it is published: the same name and key, so that whatever
/// it signed holds under either. Whether it was; an error where the key above is away.
fn readdress(book: &Book<'_>, keys: &Keys, authority: &mut Authority) -> Result<bool> {
    let Some(parent) = &authority.parent else { return Ok(false) };
    let parent: Authority = book.need(parent)?;
    let points = lists::points(book, &parent)?;
    let own = decoded(&authority.certificate)?;
    if points.lists.is_empty() || points.lists == own.lists() {
        return Ok(false);
    }
    let by = keys.signing(book, parent)?;
    let estate = find::this_estate(book)?.name;
    let common_name = own.common_name();
    let wanted = Wanted {
        serial: random16()?,
        organisation: &estate,
        common_name: Some(&common_name),
        names: &[],
        key: own.key(),
        from: book.now,
        until: own.not_after(),
        purpose: Purpose::Authority { path_length: own.path_length().unwrap_or(0), domain: own.domain() },
        points: &points,
    };
    let certificate = certificate::issue(&wanted, &by.issuer(), &random())?;
    record(book, &by.authority.name, CertificateKind::Authority, &authority.name, &certificate, book.now)?;
    authority.certificate = encoded(&certificate);
    authority.serial = certificate.serial();
    book.put(authority)?;
    book.note("authority publish", &authority.name, &format!("signed anew with addresses: {}", certificate.serial()))?;
    Ok(true)
}

/// The authorities of these names; all that are not retired, where none is named.
fn chosen(book: &Book<'_>, names: &[String]) -> Result<Vec<Authority>> {
    let authorities: Vec<Authority> = if names.is_empty() {
        book.all::<Authority>()?.into_iter().filter(|one| one.retired.is_none()).collect()
    } else {
        names.iter().map(|name| book.need(name)).collect::<Result<_>>()?
    };
    if authorities.is_empty() {
        return Err(Problem::refused("there is no authority yet").try_("yestrel authority create"));
    }
    Ok(authorities)
}

/// The ports that these gateways would open to publish, where they have not yet.
///
/// # Errors
/// No such authority or gateway.
pub fn would_open(
    context: &mut Context,
    names: &[String],
    at: &[String],
    port: Option<u16>,
) -> Result<Vec<(String, u16)>> {
    context.read(|book| {
        let mut opens = Vec::new();
        chosen(book, names)?;
        for name in at {
            let gateway: Gateway = book.need(name)?;
            let port = port.or(gateway.publish_port).unwrap_or(HTTP);
            if gateway.publish_port != Some(port) {
                opens.push((gateway.name, port));
            }
        }
        Ok(opens)
    })
}

/// What publishing has come to.
pub struct Published {
    pub authorities: Vec<Authority>,
    /// Those that could not sign a list: their key is away.
    pub missing: Vec<String>,
    /// Those whose certificate named no address of the one above: signed anew, or why that could not be.
    pub readdressed: Vec<(String, Option<Problem>)>,
}

/// Names gateways that publish the state of certificates, or takes some from doing so, and signs new lists. Without either only
/// new lists are signed. An authority that was made before gets a certificate that names the addresses of the one above it.
///
/// # Errors
/// No such authority or gateway; a port that is taken.
pub fn publish(
    context: &mut Context,
    names: &[String],
    at: &[String],
    not_at: &[String],
    port: Option<u16>,
) -> Result<Changed<Published>> {
    let (keys, now) = (context.keys()?, context.now);
    context.write(|book| {
        let mut authorities = chosen(book, names)?;
        for name in at {
            let mut gateway: Gateway = book.need(name)?;
            let port = port.or(gateway.publish_port).unwrap_or(HTTP);
            check_port(book, &gateway, port)?;
            gateway.publish_port = Some(port);
            book.put(&gateway)?;
        }
        let mut gateways: Vec<String> = at.iter().chain(not_at).cloned().collect();
        for name in not_at {
            book.need::<Gateway>(name)?;
        }
        for authority in &mut authorities {
            authority.published_at.retain(|gateway| !not_at.contains(gateway));
            for gateway in at {
                if !authority.published_at.contains(gateway) {
                    authority.published_at.push(gateway.clone());
                }
            }
            book.put(authority)?;
            gateways.extend(authority.published_at.iter().cloned());
        }
        for name in not_at {
            if published_at(book, name)?.is_empty() {
                let mut gateway: Gateway = book.need(name)?;
                gateway.publish_port = None;
                gateway.lists_there.clear();
                book.put(&gateway)?;
            }
        }
        let mut readdressed = Vec::new();
        for authority in authorities.iter_mut().filter(|_| !at.is_empty()) {
            match readdress(book, &keys, authority) {
                Ok(false) => {}
                Ok(true) => readdressed.push((authority.name.clone(), None)),
                Err(problem) => readdressed.push((authority.name.clone(), Some(problem))),
            }
        }
        let names: Vec<_> = authorities.iter().map(|one| one.name.clone()).collect();
        let missing = sign_all(book, &keys, &names, now)?;
        let said = [("at", at), ("not at", not_at)]
            .iter()
            .filter(|(_, names)| !names.is_empty())
            .map(|(word, names)| format!("{word} {}", names.join(",")))
            .collect::<Vec<_>>()
            .join(", ");
        book.note("authority publish", &names.join(","), &said)?;
        let authorities = names.iter().map(|name| book.need(name)).collect::<Result<_>>()?;
        Ok(Changed::published(Published { authorities, missing, readdressed }, gateways))
    })
}

fn check_port(book: &Book<'_>, gateway: &Gateway, port: u16) -> Result<()> {
    let host: Host = book.need(&gateway.host)?;
    let own = gateway.publish_port == Some(port);
    let busy = host
        .facts
        .iter()
        .flat_map(|facts| &facts.busy_ports)
        .find(|busy| busy.protocol == Protocol::Tcp && busy.port == port && !busy.address.is_loopback());
    match busy {
        Some(busy) if !own => Err(Problem::refused(format!("port {port}/tcp of {} is taken", host.name))
            .why(busy.holder.as_ref().map_or_else(|| "something listens on it".into(), |who| format!("by {who}")))
            .try_("another one: --port 8047")),
        _ => Ok(()),
    }
}
