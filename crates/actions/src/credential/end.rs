//! Taking credentials back, and telling everybody who must know.

use std::collections::BTreeSet;

use jiff::Timestamp;
use serde::Serialize;
use yestrel_core::estate::{
    Authority, CertificateState, Credential, CredentialKind, Device, IssuedCertificate, Revocation,
};
use yestrel_core::x509::list::Reason;
use yestrel_core::{Problem, Result, moment};
use yestrel_store::Book;
use yestrel_store::records::Address;

use super::wish::named;
use crate::authority::lists;
use crate::changed::Changed;
use crate::context::Context;
use crate::find;
use crate::keyring::{Keys, days_on};

/// Takes one credential back in the estate. The lists of authorities are signed after.
pub(crate) fn revoke_within(
    book: &Book<'_>,
    mut credential: Credential,
    reason: &str,
    now: Timestamp,
) -> Result<Credential> {
    book.put(&Revocation {
        name: credential.identity.to_string(),
        device: credential.device.clone(),
        reason: reason.into(),
        at: now,
        gateways: credential.gateways().into_iter().collect(),
    })?;
    let until = days_on(now, i64::from(find::this_estate(book)?.hold_addresses));
    for address in book.find::<Address>(&[("credential", credential.name.as_str().into())])? {
        book.put(&Address { held_until: Some(until), ..address })?;
    }
    if let Some(certificate) = credential.certificate() {
        lists::mark(book, &certificate.serial, CertificateState::Revoked, Reason::of_words(reason), now)?;
    }
    if let Some(account) = credential.account_mut() {
        // Nothing of it is of use any more, and all of it could harm.
        (account.ms_chap, account.generated, account.second_factor) = (None, None, None);
        account.for_agents.clear();
        account.password = String::new();
    }
    credential.forget_key_factor();
    credential.revoked = Some(now);
    credential.reason = Some(reason.into());
    credential.set_private_key(None);
    book.put(&credential)?;
    Ok(credential)
}

/// The authorities that signed these credentials' certificates.
pub(super) fn authorities_of(book: &Book<'_>, credentials: &[Credential]) -> Result<Vec<String>> {
    let mut found = BTreeSet::new();
    for certificate in credentials.iter().filter_map(Credential::certificate) {
        if let Some(issued) = book.get::<IssuedCertificate>(&certificate.serial)? {
            found.insert(issued.authority);
        }
    }
    Ok(found.into_iter().collect())
}

/// Where an end must be known: what became of some credentials.
#[derive(Debug, Default, Serialize)]
pub struct Ended {
    pub credentials: Vec<Credential>,
    /// Authorities whose list could not be signed, with the end of the one that is out.
    pub unsigned: Vec<(String, Option<Timestamp>)>,
}

/// Signs the lists of the authorities that these credentials concern, and names everybody who must learn it.
pub(crate) fn announce(book: &Book<'_>, keys: &Keys, credentials: Vec<Credential>) -> Result<Changed<Ended>> {
    let authorities = authorities_of(book, &credentials)?;
    let missing = lists::sign_all(book, keys, &authorities, book.now)?;
    let mut gateways: BTreeSet<_> = credentials.iter().flat_map(Credential::gateways).collect();
    let mut unsigned = Vec::new();
    for name in authorities {
        let authority: Authority = book.need(&name)?;
        gateways.extend(authority.published_at.iter().cloned());
        if missing.contains(&name) {
            unsigned.push((name, authority.list_until));
        }
    }
    let devices: BTreeSet<_> = credentials.iter().map(|credential| credential.device.clone()).collect();
    Ok(Changed::of(Ended { credentials, unsigned }, gateways, devices))
}

pub(crate) fn checked_reason(reason: &str) -> Result<&str> {
    let reason = reason.trim();
    if reason.is_empty() || reason.chars().count() > 200 || reason.chars().any(char::is_control) {
        return Err(Problem::words("a revocation needs a reason")
            .why("one line, at most 200 characters; the device is shown it, and the history keeps it")
            .try_("--reason lost"));
    }
    Ok(reason)
}

/// Whether words can be the reason of a revocation.
///
/// # Errors
/// They cannot, with why.
pub fn check_reason(reason: &str) -> Result<()> {
    checked_reason(reason).map(drop)
}

/// What is taken back: a credential by its whole name, what a device has (of one kind, or all), or what a group's users have.
#[derive(Debug, Clone)]
pub enum Whose {
    Device(String, Option<CredentialKind>),
    Group(String, Option<CredentialKind>),
}

/// Live credentials that a revocation would end.
///
/// # Errors
/// There is none of that name, or what is named is revoked already.
pub fn would_revoke(context: &mut Context, whose: &Whose) -> Result<Vec<Credential>> {
    context.read(|book| chosen(book, whose))
}

fn chosen(book: &Book<'_>, whose: &Whose) -> Result<Vec<Credential>> {
    match whose {
        Whose::Device(text, kind) => {
            if text.matches('/').count() < 2 {
                let device: Device = book.need(text)?;
                let mut live = find::live_of_device(book, &device.name)?;
                live.retain(|one| kind.is_none_or(|kind| one.kind() == kind));
                if !live.is_empty() {
                    return Ok(live);
                }
            }
            let credential = named(book, text, *kind)?;
            match credential.revoked {
                None => Ok(vec![credential]),
                Some(at) => Err(Problem::refused(format!("{} is revoked already", credential.name)).why(format!(
                    "on {}: {}",
                    moment(at),
                    credential.reason.unwrap_or_default()
                ))),
            }
        }
        Whose::Group(group, kind) => {
            let mut all = Vec::new();
            for user in find::members(book, group)? {
                all.extend(find::live_of_user(book, &user.name)?);
            }
            all.retain(|one| kind.is_none_or(|kind| one.kind() == kind));
            if all.is_empty() {
                return Err(Problem::refused(format!("nobody in {group} has a credential that could be taken back")));
            }
            Ok(all)
        }
    }
}

/// Takes credentials back, for good.
///
/// # Errors
/// As [`would_revoke`], or no reason that can be shown.
pub fn revoke(
    context: &mut Context,
    whose: &Whose,
    reason: &str,
    step: &mut dyn FnMut(usize, usize),
) -> Result<Changed<Ended>> {
    let reason = checked_reason(reason)?;
    let (keys, now) = (context.keys()?, context.now);
    context.write(|book| {
        let all = chosen(book, whose)?;
        let count = all.len();
        let mut ended = Vec::new();
        for (at, credential) in all.into_iter().enumerate() {
            let credential = revoke_within(book, credential, reason, now)?;
            book.note("credential revoke", &credential.name, reason)?;
            ended.push(credential);
            step(at + 1, count);
        }
        announce(book, &keys, ended)
    })
}
