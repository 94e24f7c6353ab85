//! Certificates of gateways: made and renewed by themselves from what devices dial, or brought in.

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD as BASE64;
use jiff::{SignedDuration, Timestamp};
use yestrel_core::estate::{Authority, CertificateKind, CertificateState, Gateway, GatewayCertificate};
use yestrel_core::keys::Secret;
use yestrel_core::x509::bring::Brought;
use yestrel_core::x509::certificate::{self, GATEWAY_DAYS, Purpose, Wanted, check_chain};
use yestrel_core::x509::list::Reason;
use yestrel_core::x509::names::SubjectName;
use yestrel_core::x509::{Algorithm, Certificate, PrivateKey, request};
use yestrel_core::{Problem, Result, moment};
use yestrel_store::Book;

use crate::authority::{lists, signing};
use crate::context::Context;
use crate::find;
use crate::keyring::{Keys, above, days_on, decoded, encoded, labels, random, random16};

/// A gateway's certificate is renewed when it ends within these days.
const RENEW_DAYS: i64 = 60;

/// The authority that would sign for a gateway: the one before, else the oldest that issues.
fn signer(book: &Book<'_>, gateway: &Gateway) -> Result<Option<Authority>> {
    let mut all: Vec<Authority> = book.all()?;
    let parents: Vec<_> = all.iter().filter_map(|one| one.parent.clone()).collect();
    all.retain(|one| {
        one.retired.is_none() && one.private_key.is_some() && one.expires > book.now && !parents.contains(&one.name)
    });
    all.sort_by_key(|one| one.created);
    let before = gateway.certificate.as_ref().and_then(|one| one.authority.as_ref());
    let same = all.iter().position(|one| Some(&one.name) == before);
    Ok(if all.is_empty() { None } else { Some(all.swap_remove(same.unwrap_or(0))) })
}

/// The names that an authority may certify a gateway for, and those that it may not.
fn names(book: &Book<'_>, gateway: &Gateway, authority: &Authority) -> Result<(Vec<SubjectName>, Vec<SubjectName>)> {
    let own = decoded(&authority.certificate)?;
    let above = above(book, authority)?;
    let (mut fine, mut beyond) = (Vec::new(), Vec::new());
    for name in gateway.names() {
        match certificate::forbids(&own, &above, &name)? {
            None => fine.push(name),
            Some(_) => beyond.push(name),
        }
    }
    Ok((fine, beyond))
}

/// Whether a gateway needs another certificate: who would sign it, and why.
pub(crate) fn due(book: &Book<'_>, gateway: &Gateway) -> Result<Option<(Authority, String)>> {
    let Some(authority) = signer(book, gateway)? else { return Ok(None) };
    let names: Vec<_> = names(book, gateway, &authority)?.0.iter().map(ToString::to_string).collect();
    if names.is_empty() {
        return Ok(None);
    }
    Ok(match &gateway.certificate {
        None => Some("the first certificate".to_owned()),
        Some(one) if one.authority.is_none() => None,
        Some(one) if one.names != names => Some(format!("in place of the one for {}", one.names.join(", "))),
        Some(one) if one.expires < days_on(book.now, RENEW_DAYS).min(authority.expires) => {
            Some(format!("in place of the one that ends on {}", moment(one.expires)))
        }
        Some(one) if one.authority.as_ref() != Some(&authority.name) => {
            Some(format!("in place of the one that {} signed", one.authority.as_deref().unwrap_or("-")))
        }
        Some(_) => None,
    }
    .map(|why| (authority, why)))
}

/// What is to be said of a gateway's certificate: of one that the estate did not make and therefore does not renew, and of names that none is
/// made for.
pub(crate) fn remark(book: &Book<'_>, gateway: &Gateway) -> Result<Option<String>> {
    let own = gateway.certificate.as_ref().is_none_or(|one| one.authority.is_some());
    let signer = if own { signer(book, gateway)? } else { None };
    if let Some(authority) = signer {
        let beyond: Vec<_> = names(book, gateway, &authority)?.1.iter().map(ToString::to_string).collect();
        let limits = authority.domain.as_ref().map_or_else(|| "not these".into(), |domain| format!("{domain} alone"));
        return Ok((!beyond.is_empty()).then(|| {
            format!("no certificate is made for {}: {} signs for {limits}", beyond.join(", "), authority.name)
        }));
    }
    let Some(one) = gateway.certificate.as_ref().filter(|one| one.authority.is_none()) else { return Ok(None) };
    let names: Vec<_> = gateway.names().iter().map(ToString::to_string).collect();
    let missing: Vec<_> = names.iter().filter(|name| !one.names.contains(name)).cloned().collect();
    Ok(if !missing.is_empty() {
        Some(format!("the certificate that was brought in is not for {}", missing.join(", ")))
    } else if one.expires < days_on(book.now, RENEW_DAYS) {
        Some(format!("the certificate that was brought in ends on {}", moment(one.expires)))
    } else {
        None
    })
}

/// Makes a gateway's certificate where it needs another.
pub(crate) fn ensure(book: &Book<'_>, keys: &Keys, gateway: &mut Gateway) -> Result<()> {
    let Some((authority, why)) = due(book, gateway)? else { return Ok(()) };
    let now = book.now;
    let names = names(book, gateway, &authority)?.0;
    let points = lists::points(book, &authority)?;
    let by = keys.signing(book, authority)?;
    let key = PrivateKey::generate(Algorithm::P256, &random())?;
    let until = days_on(now, GATEWAY_DAYS) - SignedDuration::from_hours(1);
    let organisation = find::this_estate(book)?.name;
    let wanted = Wanted {
        serial: random16()?,
        organisation: &organisation,
        common_name: None,
        names: &names,
        key: key.public(),
        from: now,
        until: until.min(by.certificate.not_after()),
        purpose: Purpose::Gateway,
        points: &points,
    };
    let made = certificate::issue(&wanted, &by.issuer(), &random())?;
    signing::record(book, &by.authority.name, CertificateKind::Gateway, &gateway.name, &made, now)?;
    let (above, _) = signing::chain(book, &by.authority)?;
    // For other names than before, the old one must not be taken for this gateway any more.
    let texts: Vec<_> = names.iter().map(ToString::to_string).collect();
    if let Some(old) = gateway.certificate.as_ref().filter(|old| old.names != texts)
        && let Some(name) = lists::mark(book, &old.serial, CertificateState::Revoked, Reason::Superseded, now)?
    {
        lists::sign_all(book, keys, &[name], now)?;
    }
    gateway.certificate = Some(GatewayCertificate {
        serial: made.serial(),
        authority: Some(by.authority.name.clone()),
        chain: std::iter::once(&made).chain(&above).map(encoded).collect(),
        root: None,
        names: texts,
        expires: made.not_after(),
    });
    gateway.certificate_key = Some(keys.sealing.seal(key.pkcs8(), &labels::certificate(&gateway.name))?);
    book.put(gateway)?;
    book.note("gateway certify", &gateway.name, &format!("{}: {why}", made.serial()))
}

/// The private key of a gateway's certificate.
pub(crate) fn key_of(keys: &Keys, gateway: &Gateway) -> Result<Option<Secret>> {
    gateway
        .certificate_key
        .as_ref()
        .map(|sealed| keys.sealing.open(sealed, &labels::certificate(&gateway.name)))
        .transpose()
}

/// Makes a key for a gateway, and a request (PKCS#10, PEM) that somebody else can sign.
///
/// # Errors
/// There is no such gateway.
pub fn request(context: &mut Context, gateway: &str, algorithm: Algorithm) -> Result<String> {
    let keys = context.keys()?;
    let key = PrivateKey::generate(algorithm, &random())?;
    context.write(|book| {
        let mut gateway: Gateway = book.need(gateway)?;
        let organisation = find::this_estate(book)?.name;
        let text = request::make(&organisation, &gateway.names(), &key, &random())?;
        gateway.request_key = Some(keys.sealing.seal(key.pkcs8(), &labels::request(&gateway.name))?);
        book.put(&gateway)?;
        book.note("gateway change", &gateway.name, "a request for a certificate was made")?;
        Ok(text)
    })
}

/// Takes a certificate that was issued elsewhere, with its key, or for the key of the gateway's own request.
///
/// # Errors
/// It is not for what devices dial, not for servers, does not hold now, or its key is missing or another.
pub fn bring(context: &mut Context, gateway: &str, mut brought: Brought) -> Result<Gateway> {
    let keys = context.keys()?;
    context.write(|book| {
        let mut gateway: Gateway = book.need(gateway)?;
        if brought.key.is_none()
            && let Some(sealed) = &gateway.request_key
        {
            let opened = keys.sealing.open(sealed, &labels::request(&gateway.name))?;
            brought.key = Some(PrivateKey::from_pkcs8(opened, &random())?);
        }
        let (key, mut chain) = brought.matched()?;
        check_gateway(&chain, &gateway, book.now)?;
        let root = if chain.len() > 1 { chain.pop_if(|last| last.is_root()) } else { None };
        let leaf = &chain[0];
        gateway.certificate = Some(GatewayCertificate {
            serial: leaf.serial(),
            authority: None,
            names: leaf.names()?.iter().map(ToString::to_string).collect(),
            expires: leaf.not_after(),
            chain: chain.iter().map(encoded).collect(),
            root: root.as_ref().map(encoded),
        });
        gateway.certificate_key = Some(keys.sealing.seal(key.pkcs8(), &labels::certificate(&gateway.name))?);
        gateway.request_key = None;
        book.put(&gateway)?;
        book.note("gateway change", &gateway.name, &format!("certificate brought in: {}", leaf.fingerprint()))?;
        Ok(gateway)
    })
}

fn check_gateway(chain: &[Certificate], gateway: &Gateway, now: Timestamp) -> Result<()> {
    let leaf = &chain[0];
    check_chain(chain, now, true)?;
    if !leaf.is_for_servers() {
        return Err(Problem::refused("this certificate is not for servers")
            .why("its purposes do not name server authentication; clients would refuse it"));
    }
    let covers = |name: &SubjectName, of: &SubjectName| match (name, of) {
        (SubjectName::Host(name), SubjectName::Host(of)) => {
            let wild = of.strip_prefix("*.").and_then(|rest| name.split_once('.').map(|(_, parent)| parent == rest));
            name.eq_ignore_ascii_case(of) || wild == Some(true)
        }
        _ => name == of,
    };
    let own = leaf.names()?;
    for name in gateway.names() {
        if !own.iter().any(|of| covers(&name, of)) {
            return Err(Problem::refused(format!("this certificate is not for {name}"))
                .why(format!(
                    "it is for {}; devices dial {name} and would warn of it or refuse",
                    if own.is_empty() {
                        "nobody by name".into()
                    } else {
                        own.iter().map(ToString::to_string).collect::<Vec<_>>().join(", ")
                    }
                ))
                .try_(format!(
                    "yestrel gateway change {} --request FILE   for a request with the right names",
                    gateway.name
                )));
        }
    }
    Ok(())
}

/// Goes back to certificates that the estate makes.
///
/// # Errors
/// There is no such gateway.
pub fn own(context: &mut Context, gateway: &str) -> Result<()> {
    context.write(|book| {
        let mut gateway: Gateway = book.need(gateway)?;
        (gateway.certificate, gateway.certificate_key, gateway.request_key) = (None, None, None);
        book.put(&gateway)?;
        book.note("gateway change", &gateway.name, "certificates by the estate's authority")
    })
}

/// A gateway's certificate for showing: PEM of the chain.
///
/// # Errors
/// There is none.
pub fn pem(context: &mut Context, gateway: &str) -> Result<(String, String)> {
    context.read(|book| {
        let gateway: Gateway = book.need(gateway)?;
        let one = gateway.certificate.ok_or_else(|| {
            Problem::refused(format!("{} has no certificate yet", gateway.name))
                .try_("yestrel authority create, then yestrel rollout")
        })?;
        let mut text = String::new();
        let mut fingerprint = String::new();
        for certificate in &one.chain {
            let der = BASE64.decode(certificate).map_err(|_| Problem::failed("a certificate is damaged"))?;
            let certificate = Certificate::from_der(&der)?;
            if fingerprint.is_empty() {
                fingerprint = certificate.fingerprint();
            }
            text.push_str(&certificate.pem());
        }
        Ok((text, fingerprint))
    })
}
