//! Renewing, by hand and before the end.

use std::collections::BTreeSet;

use jiff::Timestamp;
use yestrel_core::estate::{Authority, Credential, CredentialKind, Device, Gateway, Listener, Material};
use yestrel_core::{Problem, Result};
use yestrel_store::Book;

use super::end::{authorities_of, revoke_within};
use super::issue::{Common, check_wish, make};
use super::wish::{Wish, named};
use crate::changed::Changed;
use crate::context::Context;
use crate::find;
use crate::job;
use crate::keyring::Keys;

/// What a renewal made.
#[derive(Debug)]
pub struct Renewed {
    pub credential: Credential,
    pub before: Credential,
}

/// Renews one credential. A key pair: same ways and addresses, the old key revoked at once. A certificate: the old one holds
/// until its end, so that the device is never without. An account: a new password, the old one revoked.
///
/// # Errors
/// There is none to renew, or it is revoked.
pub fn renew(context: &mut Context, text: &str, kind: Option<CredentialKind>, wish: &Wish) -> Result<Changed<Renewed>> {
    let keys = context.keys()?;
    context.write(|book| {
        let old = named(book, text, kind)?;
        renew_within(book, &keys, old, wish)
    })
}

fn renew_within(book: &Book<'_>, keys: &Keys, mut old: Credential, wish: &Wish) -> Result<Changed<Renewed>> {
    let now = book.now;
    if old.revoked.is_some() {
        return Err(Problem::refused(format!("{} is revoked", old.name))
            .why("what was taken back is not renewed")
            .try_(format!("yestrel credential issue {}", old.device)));
    }
    job::finished(book, &old)?;
    let device: Device = book.need(&old.device)?;
    // As long as before, from now on; a certificate as its groups say.
    let as_before = old.expires.filter(|_| old.kind() != CredentialKind::Certificate);
    let as_before = as_before.filter(|_| !wish.endless);
    let expires = wish.expires.or_else(|| as_before.map(|end| now + end.duration_since(old.issued)));
    let at = still_there(book, &old)?;
    let signed_by = authorities_of(book, std::slice::from_ref(&old))?.pop();
    let still = match &signed_by {
        Some(name) => book.get::<Authority>(name)?.is_some_and(|one| one.retired.is_none()),
        None => false,
    };
    let wish = Wish {
        kind: old.kind(),
        at,
        public_key: wish.public_key,
        request: wish.request.clone(),
        algorithm: wish.algorithm,
        authority: wish.authority.clone().or(signed_by.filter(|_| still)),
        password: wish.password.clone(),
        second_factor: old.account().is_some_and(|account| account.second_factor.is_some())
            || old.key_factor().is_some()
            || wish.second_factor,
        address: wish.address.or_else(|| old.fixed().map(|way| way.inner)),
        once: old.once,
        valid_from: wish.valid_from,
        expires,
        endless: wish.endless,
    };
    check_wish(&wish, now)?;
    let gateways = old.gateways();
    let before = if let Material::Certificate(certificate) = &mut old.material {
        certificate.superseded = Some(now);
        // A key that was never handed over is of no use any more.
        certificate.private_key = None;
        book.put(&old)?;
        old
    } else {
        // Its addresses are held first: the new one gets the same.
        revoke_within(book, old, "renewed", now)?
    };
    let mut common = Common::gather(book, keys, &wish)?;
    let had = find::had(book, &device.name)?;
    let credential = make(book, keys, &device, &had, &wish, &mut common)?;
    book.note("credential renew", &credential.name, &format!("in place of {}", before.name))?;
    let device = credential.device.clone();
    Ok(Changed::of(Renewed { credential, before }, gateways, [device]))
}

/// Where a credential lets in, of what there still is. A renewal never lets in anywhere else.
fn still_there(book: &Book<'_>, old: &Credential) -> Result<Vec<String>> {
    let mut at = Vec::new();
    let before: Vec<_> = match old.kind() {
        CredentialKind::KeyPair => {
            let ways = old.ways();
            for way in ways {
                at.extend(book.get::<Listener>(&way.listener)?.map(|listener| listener.name));
            }
            ways.iter().map(|way| way.listener.clone()).collect()
        }
        _ => {
            for name in old.anywhere_at() {
                at.extend(book.get::<Gateway>(name)?.map(|gateway| gateway.name));
            }
            old.anywhere_at().to_vec()
        }
    };
    // A key pair without any way has lost its listeners; elsewhere none named means that there is none.
    if at.is_empty() && (old.kind() == CredentialKind::KeyPair || !before.is_empty()) {
        let gone = if before.is_empty() { "its listeners".to_owned() } else { before.join(", ") };
        return Err(Problem::refused(format!("{} lets in nowhere any more", old.name))
            .why(format!("{gone} are gone, and a renewal lets in nowhere else than before"))
            .try_(format!("yestrel credential issue {}   for where it is to come in now", old.device)));
    }
    Ok(at)
}

/// What is due for renewal.
#[derive(Debug, Default)]
pub struct Due {
    /// Of the kind that was asked for: renewed, or to be.
    pub renewed: Vec<String>,
    /// Of that kind, and made on the device: it must make a new one.
    pub by_device: Vec<String>,
    /// Of other kinds.
    pub others: Vec<String>,
}

fn due(book: &Book<'_>, by: Timestamp, kind: CredentialKind) -> Result<(Due, Vec<Credential>)> {
    let mut due = Due::default();
    let mut renew = Vec::new();
    for credential in
        book.find::<Credential>(&[("revoked", serde_json::Value::Null), ("superseded", serde_json::Value::Null)])?
    {
        if !credential.expires.is_some_and(|end| end > book.now && end <= by) {
            continue;
        }
        if credential.kind() != kind {
            due.others.push(credential.name);
        } else if credential.made_on_device() {
            due.by_device.push(credential.name);
        } else {
            due.renewed.push(credential.name.clone());
            renew.push(credential);
        }
    }
    Ok((due, renew))
}

/// What of a kind ends by a moment.
///
/// # Errors
/// The estate cannot be read.
pub fn would_renew(context: &mut Context, by: Timestamp, kind: CredentialKind) -> Result<Due> {
    context.read(|book| Ok(due(book, by, kind)?.0))
}

/// Renews everything of a kind that ends by a moment, as [`renew`] would each.
///
/// # Errors
/// The key of an authority is away; then nothing has changed.
pub fn renew_due(
    context: &mut Context,
    by: Timestamp,
    kind: CredentialKind,
    step: &mut dyn FnMut(usize, usize),
) -> Result<Changed<Due>> {
    let keys = context.keys()?;
    context.write(|book| {
        let (mut due, renew) = due(book, by, kind)?;
        let count = renew.len();
        let (mut gateways, mut devices) = (BTreeSet::new(), BTreeSet::new());
        due.renewed.clear();
        for (at, credential) in renew.into_iter().enumerate() {
            let renewed = renew_within(book, &keys, credential, &Wish::default())?;
            gateways.extend(renewed.gateways);
            devices.extend(renewed.only.devices);
            due.renewed.push(renewed.what.credential.name);
            step(at + 1, count);
        }
        Ok(Changed::of(due, gateways, devices))
    })
}
