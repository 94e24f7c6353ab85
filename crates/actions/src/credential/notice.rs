//! Way notices: what is new for a device since its handover, made for it alone, without a new credential.

use std::collections::BTreeSet;

use serde::Serialize;
use yestrel_core::admission::ProofKind;
use yestrel_core::estate::{Credential, CredentialKind, Estate, Listener, NoticeMade, Told, User};
use yestrel_core::exchange::agent::ForDevice;
use yestrel_core::handover::{HandoverWay, Notice};
use yestrel_core::keys::PublicKey;
use yestrel_core::notice::{FORMAT, seal};
use yestrel_core::{Problem, Result};
use yestrel_store::Book;
use yestrel_store::queries::Knows;

use super::handover::{taking, ways};
use super::wish::named;
use crate::context::Context;
use crate::find;
use crate::keyring::{self, Keys, labels};

/// A way notice, to be given to its device.
#[derive(Debug, Serialize)]
pub struct Made {
    pub device: String,
    /// Where its user gets mail.
    pub mail: Option<String>,
    pub notice: NoticeMade,
}

/// Every way in that a device has now, as a notice names them.
fn now(book: &Book<'_>, keys: &Keys, credential: &Credential) -> Result<(Vec<HandoverWay>, Vec<Told>)> {
    let mut listeners = Vec::new();
    for way in credential.ways() {
        listeners.push(book.need::<Listener>(&way.listener)?);
    }
    for (kind, proof) in
        [(CredentialKind::Password, ProofKind::Account), (CredentialKind::Certificate, ProofKind::Certificate)]
    {
        // Only what it was handed over with: a notice brings no credential.
        if let Some(other) = find::current(book, &credential.device, kind)?.filter(|other| other.handed_over.is_some())
        {
            listeners.extend(taking(book, &other, proof)?);
        }
    }
    ways(book, keys, &listeners)
}

/// Whether the estate still has the key by which a credential's device knows its notices. One that was lost, or is too old, it has not: that
/// device needs another handover, and keeps nobody else from anything.
fn signs_for(estate: &Estate, credential: &Credential) -> bool {
    let has = |key: &PublicKey| {
        *key == estate.public_key || estate.previous_keys.iter().any(|previous| previous.public_key == *key)
    };
    credential.told.first().is_some_and(|told| has(&told.estate_key))
}

/// Makes the notice that a credential's device needs, where what it knows is not so any more. Whether there is one that it has not taken.
pub(crate) fn ensure(book: &Book<'_>, keys: &Keys, credential: &mut Credential) -> Result<bool> {
    let known = credential.told.first().map(|told| told.estate_key);
    let (Some(known), CredentialKind::KeyPair, None) = (known, credential.kind(), credential.revoked) else {
        return Ok(false);
    };
    let (ways, told) = now(book, keys, credential)?;
    let newest = credential.notice.as_ref().filter(|notice| notice.taken.is_none());
    if newest.is_some_and(|notice| notice.told == told) {
        return Ok(true);
    }
    // Also back to what it knew: another notice may be on its way.
    if ways.is_empty() || (told == credential.told && newest.is_none()) {
        return Ok(false);
    }
    let estate = find::this_estate(book)?;
    if !signs_for(&estate, credential) {
        return Ok(false);
    }
    let signer = match known == estate.public_key {
        true => keys.sealing.open(&estate.private_key, labels::SIGNING)?,
        false => keyring::previous(&keys.sealing, &estate, &known)?,
    };
    let number = credential.notice.as_ref().map_or(0, |notice| notice.number).max(credential.notice_seen) + 1;
    let notice = Notice {
        format: FORMAT.into(),
        estate: estate.name,
        holder: credential.device.clone(),
        identity: credential.identity,
        number,
        made: book.now,
        estate_key: estate.public_key,
        ways,
    };
    let sealed = seal(&notice, &signer)?;
    credential.notice = Some(NoticeMade { number, made: book.now, sealed, told, at: BTreeSet::new(), taken: None });
    book.put(credential)?;
    book.note("credential notice", &credential.name, &format!("notice {number}"))?;
    Ok(true)
}

/// The notice that a device needs, made when there is none yet.
///
/// # Errors
/// No such credential, nothing was handed over, or nothing is new for it.
pub fn make(context: &mut Context, text: &str) -> Result<Made> {
    let keys = context.keys()?;
    context.write(|book| {
        let mut credential = named(book, text, Some(CredentialKind::KeyPair))?;
        if credential.handed_over.is_none() {
            return Err(Problem::refused(format!("{} was not handed over yet", credential.name))
                .why("its handover will say everything that is so now")
                .try_(format!("yestrel credential handover {}", credential.device)));
        }
        if credential.revoked.is_some() {
            return Err(Problem::refused(format!("{} is revoked", credential.name))
                .try_(format!("yestrel credential issue {}", credential.device)));
        }
        if !signs_for(&find::this_estate(book)?, &credential) {
            return Err(Problem::refused(format!("{} would not believe a notice", credential.device))
                .why("it knows the estate by a signing key that was lost, or is too old to be kept")
                .try_(format!("yestrel credential renew {}   and its new handover", credential.device)));
        }
        if !ensure(book, &keys, &mut credential)? {
            return Err(Problem::refused(format!("nothing is new for {}", credential.device))
                .why("its handover, or the notice that it has taken, says everything that is so now"));
        }
        made(book, credential)
    })
}

fn made(book: &Book<'_>, credential: Credential) -> Result<Made> {
    let notice = credential.notice.ok_or_else(|| Problem::failed("the notice is gone"))?;
    Ok(Made { device: credential.device, mail: book.need::<User>(&credential.user)?.mail, notice })
}

/// Credentials with a way notice that they need and that their devices have not taken.
///
/// # Errors
/// The estate cannot be read.
pub fn make_all(context: &mut Context) -> Result<Vec<Made>> {
    let keys = context.keys()?;
    context.write(|book| {
        let mut all = Vec::new();
        for name in may_need(book, None)? {
            let mut credential: Credential = book.need(&name)?;
            if ensure(book, &keys, &mut credential)? {
                all.push(made(book, credential)?);
            }
        }
        Ok(all)
    })
}

/// Credentials whose devices may need a notice: what they were told is no longer so, they know the estate by a key that it has renewed, or
/// they have not taken the notice that was made for them. Of a gateway: only those with a way of their own there.
fn may_need(book: &Book<'_>, gateway: Option<&str>) -> Result<Vec<String>> {
    let (signer, judge) = (find::this_estate(book)?.public_key, find::Judge::new(book)?);
    let way = gateway.map(|gateway| format!("\"listener\":\"{gateway}/"));
    let mut found = BTreeSet::new();
    let mut take = |knows: Knows| {
        let here = way.as_ref().is_none_or(|way| knows.ways.is_some_and(|ways| ways.contains(way)));
        found.extend(Some(knows.name).filter(|_| here));
        Ok(())
    };
    for (text, _) in book.told_texts()? {
        let told = judge.read(&text)?;
        let other_key = told.first().is_some_and(|told| told.estate_key != signer);
        if other_key || judge.is_stale(&told) {
            book.told(&text, &mut take)?;
        }
    }
    book.noticed(|knows| if knows.waits() { take(knows) } else { Ok(()) })?;
    Ok(found.into_iter().collect())
}

/// The notices that one gateway's agent brings to devices: of those with a way in there that have not taken theirs. They are made where they
/// are needed. Whether some of them are not there yet.
pub(crate) fn for_gateway(book: &Book<'_>, keys: &Keys, gateway: &str) -> Result<(Vec<ForDevice>, bool)> {
    let (mut all, mut new) = (Vec::new(), false);
    for name in may_need(book, Some(gateway))? {
        let mut credential: Credential = book.need(&name)?;
        if comes_in_at(&credential, gateway)
            && ensure(book, keys, &mut credential)?
            && let Some(notice) = credential.notice
        {
            new |= !notice.at.contains(gateway);
            all.push(ForDevice { identity: credential.identity, number: notice.number, sealed: notice.sealed });
        }
    }
    Ok((all, new))
}

fn comes_in_at(credential: &Credential, gateway: &str) -> bool {
    let at = |listener: &str| listener.split_once('/').is_some_and(|(name, _)| name == gateway);
    credential.ways().iter().any(|way| at(&way.listener))
}

/// A gateway's agent has these notices.
pub(crate) fn brought(book: &Book<'_>, gateway: &str, notices: &[ForDevice]) -> Result<()> {
    for one in notices {
        let found = book.find::<Credential>(&[("identity", one.identity.to_string().into())])?.pop();
        if let Some(mut credential) = found
            && let Some(notice) = credential.notice.as_mut().filter(|notice| notice.number == one.number)
            && notice.at.insert(gateway.to_owned())
        {
            book.put(&credential)?;
        }
    }
    Ok(())
}

/// How many devices a rollout would bring news of their ways in by this gateway.
pub(crate) fn due(book: &Book<'_>, gateway: &str) -> Result<usize> {
    let (listeners, gateways, sites) = (book.all()?, book.all()?, book.all()?);
    let estate = find::this_estate(book)?;
    let is_due = |credential: &Credential| match credential.notice.as_ref().filter(|notice| notice.taken.is_none()) {
        Some(notice) => !notice.at.contains(gateway),
        None => !credential.stale(&listeners, &gateways, &sites).is_empty(),
    };
    let mut due = 0;
    for name in may_need(book, Some(gateway))? {
        let credential: Credential = book.need(&name)?;
        due += usize::from(comes_in_at(&credential, gateway) && signs_for(&estate, &credential) && is_due(&credential));
    }
    Ok(due)
}
