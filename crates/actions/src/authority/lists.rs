//! Revocation lists and what answers from them: signed, numbered, published at gateways.

use std::collections::BTreeMap;

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD as BASE64;
use jiff::Timestamp;
use yestrel_core::Result;
use yestrel_core::estate::{Authority, CertificateState, Delegate, Gateway, IssuedCertificate};
use yestrel_core::exchange::agent::Publication;
use yestrel_core::x509::certificate::{self, Points, Purpose, Wanted};
use yestrel_core::x509::list::{self, Entry, Reason};
use yestrel_core::x509::{Algorithm, PrivateKey};
use yestrel_store::Book;

use crate::find;
use crate::keyring::{Keys, Signing, days_on, encoded, labels, random, random16};

/// Days that a list of an issuing authority holds, and its responder with it.
const DAYS: i64 = 14;
/// The port of plain HTTP, where addresses in certificates name none.
pub(super) const HTTP: u16 = 80;
/// Days that the list of one that signs other authorities holds: its key may be far away.
const LONG_DAYS: i64 = 365;

/// Days that an authority's list holds. One that was brought in and signs devices by itself is no different from an issuing one.
fn days(book: &Book<'_>, authority: &Authority) -> Result<i64> {
    let below = book.find::<Authority>(&[("parent", authority.name.as_str().into())])?;
    Ok(if below.is_empty() { DAYS } else { LONG_DAYS })
}

/// Where the state of an authority's certificates is published, as the gateways stand now.
pub(crate) fn points(book: &Book<'_>, authority: &Authority) -> Result<Points> {
    let mut points = Points::default();
    for gateway in &authority.published_at {
        let Some(gateway) = book.get::<Gateway>(gateway)? else { continue };
        let Some(port) = gateway.publish_port else { continue };
        let host = match gateway.dialled.parse::<std::net::Ipv6Addr>() {
            Ok(address) => format!("[{address}]"),
            Err(_) => gateway.dialled.clone(),
        };
        let base = if port == 80 { format!("http://{host}") } else { format!("http://{host}:{port}") };
        points.lists.push(format!("{base}/lists/{}.crl", authority.name));
        points.status.push(format!("{base}/status/{}", authority.name));
        points.issuer.push(format!("{base}/authorities/{}.cer", authority.name));
    }
    Ok(points)
}

/// Notes what became of a certificate; the list that says so is signed after.
pub(crate) fn mark(
    book: &Book<'_>,
    serial: &str,
    state: CertificateState,
    reason: Reason,
    now: Timestamp,
) -> Result<Option<String>> {
    let Some(mut issued) = book.get::<IssuedCertificate>(serial)? else { return Ok(None) };
    // What is revoked stays so; what is held can be either later.
    if issued.state == CertificateState::Revoked {
        return Ok(None);
    }
    issued.state = state;
    (issued.revoked, issued.reason) =
        if state == CertificateState::Good { (None, None) } else { (Some(now), Some(reason)) };
    book.put(&issued)?;
    Ok(Some(issued.authority))
}

/// Signs the next list of an authority, and a new short-lived responder with it.
pub(crate) fn sign(book: &Book<'_>, keys: &Keys, signing: Signing, now: Timestamp) -> Result<Authority> {
    let mut authority = signing.authority.clone();
    let mut entries = Vec::new();
    for state in [CertificateState::Held, CertificateState::Revoked] {
        for issued in book.find::<IssuedCertificate>(&[
            ("authority", authority.name.as_str().into()),
            ("state", state.word().into()),
        ])? {
            // What has ended by itself stands on one list after its end, and then no more (RFC 5280 section 3.3).
            if authority.list_from.is_none_or(|before| issued.expires >= before) {
                entries.push(Entry {
                    serial: issued.name,
                    at: issued.revoked.unwrap_or(now),
                    reason: issued.reason.unwrap_or(Reason::Unspecified),
                });
            }
        }
    }
    let until = days_on(now, days(book, &authority)?).min(authority.expires);
    let list = list::sign(&signing.issuer(), authority.list_number + 1, now, until, entries, &random())?;
    let key = PrivateKey::generate(Algorithm::P256, &random())?;
    let organisation = find::this_estate(book)?.name;
    let wanted = Wanted {
        serial: random16()?,
        organisation: &organisation,
        common_name: Some(&format!("{organisation} {} responder", authority.name)),
        names: &[],
        key: key.public(),
        from: now,
        until: days_on(now, DAYS).min(until),
        purpose: Purpose::Responder,
        points: &Points::default(),
    };
    let delegated = certificate::issue(&wanted, &signing.issuer(), &random())?;
    authority.responder = Some(Delegate {
        certificate: encoded(&delegated),
        private_key: keys.sealing.seal(key.pkcs8(), &labels::responder(&authority.name))?,
        until: wanted.until,
    });
    authority.list = Some(BASE64.encode(list.der()));
    authority.list_number = list.number;
    authority.list_from = Some(now);
    authority.list_until = Some(until);
    book.put(&authority)?;
    Ok(authority)
}

/// Signs anew the lists of these authorities, as far as their keys are here. Gives those that could not sign.
pub(crate) fn sign_all(book: &Book<'_>, keys: &Keys, names: &[String], now: Timestamp) -> Result<Vec<String>> {
    let mut missing = Vec::new();
    let mut names = names.to_vec();
    names.sort();
    names.dedup();
    for name in names {
        let Some(authority) = book.get::<Authority>(&name)? else { continue };
        if authority.retired.is_some() {
            continue;
        }
        match keys.signing(book, authority) {
            Ok(signing) => {
                sign(book, keys, signing, now)?;
            }
            Err(_) => missing.push(name),
        }
    }
    Ok(missing)
}

/// Signs anew the lists of which half the time is over, where the keys are here.
pub(crate) fn sign_due(book: &Book<'_>, keys: &Keys, now: Timestamp) -> Result<()> {
    let mut due = Vec::new();
    for one in book.all::<Authority>()? {
        let half = days_on(now, days(book, &one)? / 2).min(one.expires);
        if one.list_until.is_none_or(|until| until < half) {
            due.push(one.name);
        }
    }
    sign_all(book, keys, &due, now).map(drop)
}

/// Takes a gateway that is no more out of where lists are published.
pub(crate) fn forget_gateway(book: &Book<'_>, gateway: &str) -> Result<()> {
    for mut authority in published_at(book, gateway)? {
        authority.published_at.retain(|at| at != gateway);
        book.put(&authority)?;
    }
    Ok(())
}

/// Authorities that a gateway publishes about.
pub(crate) fn published_at(book: &Book<'_>, gateway: &str) -> Result<Vec<Authority>> {
    Ok(book
        .all::<Authority>()?
        .into_iter()
        .filter(|one| one.retired.is_none() && one.published_at.iter().any(|at| at == gateway))
        .collect())
}

/// What a gateway's agent is given to publish.
pub(crate) fn publications(book: &Book<'_>, keys: &Keys, gateway: &str) -> Result<Vec<Publication>> {
    let mut all = Vec::new();
    for authority in published_at(book, gateway)? {
        let (Some(list), Some(responder)) = (&authority.list, &authority.responder) else { continue };
        let issued = book.find::<IssuedCertificate>(&[("authority", authority.name.as_str().into())])?;
        let serials: Vec<u8> = issued
            .iter()
            // What was taken back is not good, also when it stands on no list any more.
            .filter(|one| one.name.len() == 32 && one.state == CertificateState::Good)
            .flat_map(|one| (0..32).step_by(2).filter_map(|at| u8::from_str_radix(&one.name[at..at + 2], 16).ok()))
            .collect();
        all.push(Publication {
            list: list.clone(),
            responder: responder.certificate.clone(),
            responder_key: keys.sealing.open(&responder.private_key, &labels::responder(&authority.name))?,
            issued: BASE64.encode(serials),
            authority: authority.name,
        });
    }
    Ok(all)
}

/// The number of each authority's newest list that a gateway should publish.
pub(crate) fn due_numbers(book: &Book<'_>, gateway: &str) -> Result<BTreeMap<String, u64>> {
    Ok(published_at(book, gateway)?.into_iter().map(|one| (one.name, one.list_number)).collect())
}
