//! Renewing, by hand and before the end.

use std::collections::BTreeSet;

use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use yestrel_core::estate::{Authority, Credential, CredentialKind, Device, Does, Gateway, Job, Listener, Material};
use yestrel_core::{Problem, Result};
use yestrel_store::Book;

use super::end::{authorities_of, revoke_within};
use super::issue::{Common, check_wish, make};
use super::wish::{Wish, named};
use crate::changed::Changed;
use crate::context::Context;
use crate::find;
use crate::job::{self, BATCH};
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
    /// How many of that kind it did not come to, because it was stopped.
    pub left: usize,
}

/// What a job keeps of its command.
#[derive(Debug, Serialize, Deserialize)]
struct Kept {
    kind: CredentialKind,
    by: Timestamp,
}

impl Kept {
    fn read(job: &Job) -> Result<Self> {
        serde_json::from_str(&job.wish)
            .map_err(|error| Problem::failed(format!("job {} cannot be gone on with", job.name)).why(error.to_string()))
    }
}

/// The renewal of this kind that is not finished.
fn open(book: &Book<'_>, kind: CredentialKind) -> Result<Option<(Job, Kept)>> {
    for job in job::all(book)?.into_iter().filter(|job| job.does() == Does::Renew) {
        let kept = Kept::read(&job)?;
        if kept.kind == kind {
            return Ok(Some((job, kept)));
        }
    }
    Ok(None)
}

/// What is due; where a renewal is not finished, what it has left: what it made may well end by the same moment.
fn due(book: &Book<'_>, by: Timestamp, kind: CredentialKind) -> Result<Due> {
    let mut due = Due::default();
    let open = open(book, kind)?;
    let (by, begun) = open.map_or((by, None), |(job, kept)| (kept.by, Some(job.begun)));
    for credential in book.ending(by)? {
        if begun.is_some_and(|begun| credential.issued >= begun) {
            continue;
        }
        if credential.kind() != kind {
            due.others.push(credential.name);
        } else if credential.made_on_device() {
            due.by_device.push(credential.name);
        } else {
            due.renewed.push(credential.name);
        }
    }
    Ok(due)
}

/// What of a kind ends by a moment; of a renewal that is not finished, what it has left.
///
/// # Errors
/// The estate cannot be read.
pub fn would_renew(context: &mut Context, by: Timestamp, kind: CredentialKind) -> Result<Due> {
    context.read(|book| due(book, by, kind))
}

/// Renews everything of a kind that ends by a moment, as [`renew`] would each; where they are many, in batches that let others in, and each
/// renewal is whole by itself. `step` hears how many of how many there are, and says whether to go on. One that is not finished is gone on with.
///
/// # Errors
/// One cannot be renewed, or the key of an authority is away: what its batch had renewed is as before.
pub fn renew_due(
    context: &mut Context,
    by: Timestamp,
    kind: CredentialKind,
    step: &mut dyn FnMut(usize, usize) -> bool,
) -> Result<Changed<Due>> {
    let mut due = would_renew(context, by, kind)?;
    let names = std::mem::take(&mut due.renewed);
    let open = context.read(|book| open(book, kind))?.map(|(job, _)| job);
    if names.is_empty() {
        finish(context, open)?;
        return Ok(Changed::of(due, BTreeSet::new(), BTreeSet::new()));
    }
    let keys = context.keys()?;
    let job = match open {
        Some(job) => Some(job),
        None if names.len() > BATCH => Some(context.write(|book| {
            let job = Job {
                name: job::next(book)?,
                what: format!("credential renew --due {by} --kind {}", kind.word()),
                wish: serde_json::to_string(&Kept { kind, by }).map_err(|error| Problem::failed(error.to_string()))?,
                who: crate::context::who(),
                begun: book.now,
                done: 0,
                whole: names.len() as u64,
            };
            book.add(&job)?;
            book.note("credential renew", "", &format!("job {}: {} of kind {}", job.name, names.len(), kind.word()))?;
            Ok(job)
        })?),
        None => None,
    };
    let (mut gateways, mut devices, mut seen) = (BTreeSet::new(), BTreeSet::new(), 0);
    for batch in names.chunks(BATCH) {
        let done = context.write(|book| {
            let mut done = Vec::new();
            for name in batch {
                // Somebody has renewed it or taken it back meanwhile.
                let still = book.get::<Credential>(name)?.filter(Credential::is_current);
                if let Some(credential) = still {
                    done.push(renew_within(book, &keys, credential, &Wish::default())?);
                }
            }
            if let Some(job) = job.as_ref().map(|job| book.get::<Job>(&job.name)).transpose()?.flatten() {
                let left = (names.len() - seen - batch.len()) as u64;
                book.put(&Job { done: job.whole.saturating_sub(left), ..job })?;
            }
            Ok(done)
        })?;
        for renewed in done {
            gateways.extend(renewed.gateways);
            devices.extend(renewed.only.devices);
            due.renewed.push(renewed.what.credential.name);
        }
        seen += batch.len();
        if !step(seen, names.len()) {
            break;
        }
        job::between();
    }
    due.left = names.len() - seen;
    finish(context, job.filter(|_| due.left == 0))?;
    Ok(Changed::of(due, gateways, devices))
}

fn finish(context: &mut Context, job: Option<Job>) -> Result<()> {
    let Some(job) = job else { return Ok(()) };
    context.write(|book| match book.remove::<Job>(&job.name)? {
        true => book.note("credential renew", "", &format!("job {} is finished", job.name)),
        false => Ok(()),
    })
}

/// Goes on with one that was broken off; gives how many it has renewed now.
///
/// # Errors
/// As [`renew_due`], or it was stopped again.
pub(crate) fn resume(context: &mut Context, job: &Job, step: &mut dyn FnMut(usize, usize) -> bool) -> Result<usize> {
    let Kept { kind, by } = Kept::read(job)?;
    let due = renew_due(context, by, kind, step)?.what;
    match due.left {
        0 => Ok(due.renewed.len()),
        left => Err(Problem::partly(format!("{} are renewed, {left} are not", due.renewed.len()))
            .why("it was stopped")
            .try_(format!("yestrel estate jobs --resume {}", job.name))),
    }
}
