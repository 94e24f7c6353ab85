//! Issuing to everybody of a group: at once where they are few, in batches where they are many.

use std::collections::BTreeSet;
use std::sync::mpsc::sync_channel;

use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use yestrel_core::estate::{CredentialKind, Device, Does, Job};
use yestrel_core::keys::KeyPair;
use yestrel_core::x509::Algorithm;
use yestrel_core::{Problem, Result, pool};
use yestrel_store::Book;
use yestrel_store::queries::Has;
use yestrel_store::seal::random32;

use super::issue::{Common, check_wish, issue_within};
use super::wish::Wish;
use crate::context::Context;
use crate::find;
use crate::job::{self, BATCH};
use crate::keyring::Keys;

/// What issuing for a whole group would do, and did.
#[derive(Debug, Default, Serialize)]
pub struct Many {
    /// Credentials, or devices when nothing was done yet.
    pub done: Vec<String>,
    /// Users without a device, and devices that have such a credential already.
    pub without_device: Vec<String>,
    pub have_one: Vec<String>,
}

/// What a job keeps of its command.
#[derive(Debug, Serialize, Deserialize)]
struct Kept {
    group: String,
    kind: CredentialKind,
    at: Vec<String>,
    algorithm: Algorithm,
    authority: Option<String>,
    second_factor: bool,
    once: bool,
    valid_from: Option<Timestamp>,
    expires: Option<Timestamp>,
}

impl Kept {
    fn of(group: &str, wish: &Wish) -> Self {
        Self {
            group: group.to_owned(),
            kind: wish.kind,
            at: wish.at.clone(),
            algorithm: wish.algorithm,
            authority: wish.authority.clone(),
            second_factor: wish.second_factor,
            once: wish.once,
            valid_from: wish.valid_from,
            expires: wish.expires,
        }
    }

    fn read(job: &Job) -> Result<Self> {
        serde_json::from_str(&job.wish)
            .map_err(|error| Problem::failed(format!("job {} cannot be gone on with", job.name)).why(error.to_string()))
    }

    fn wish(&self) -> Wish {
        Wish {
            kind: self.kind,
            at: self.at.clone(),
            algorithm: self.algorithm,
            authority: self.authority.clone(),
            second_factor: self.second_factor,
            once: self.once,
            valid_from: self.valid_from,
            expires: self.expires,
            ..Wish::default()
        }
    }

    /// The same but for dates: these are counted from when it was typed.
    fn is_like(&self, other: &Self) -> bool {
        let what = |one: &Self| {
            (
                one.group.clone(),
                one.kind,
                one.at.clone(),
                one.algorithm,
                one.authority.clone(),
                one.second_factor,
                one.once,
            )
        };
        what(self) == what(other)
    }

    fn words(&self) -> String {
        let kind = if self.kind == CredentialKind::default() {
            String::new()
        } else {
            format!(" --kind {}", self.kind.word())
        };
        let at: String = self.at.iter().map(|at| format!(" --at {at}")).collect();
        format!("credential issue --group {}{kind}{at}", self.group)
    }
}

/// Devices of a group that would get a credential. Those of a job for the same that is not finished count as without one: it is gone on with.
///
/// # Errors
/// There is no such group.
pub fn would_issue(context: &mut Context, group: &str, kind: CredentialKind) -> Result<Many> {
    context.read(|book| candidates(book, group, kind))
}

fn candidates(book: &Book<'_>, group: &str, kind: CredentialKind) -> Result<Many> {
    let mut many = Many::default();
    let open = job::Open::read(book)?;
    for user in find::members(book, group)? {
        let devices: Vec<Device> = book.find(&[("user", user.name.as_str().into())])?;
        if devices.is_empty() {
            many.without_device.push(user.name);
        }
        for device in devices {
            let had = find::had(book, &device.name)?;
            match Has::current(&had, kind).filter(|one| open.counts(one.job.as_ref())) {
                Some(_) => many.have_one.push(device.name),
                None => many.done.push(device.name),
            }
        }
    }
    Ok(many)
}

/// Issues a credential to every device of a group's users that has none of that kind: all of them or, when one cannot be, none. Where they are
/// many it is a job; `step` hears how many of how many there are, and says whether to go on. `many` is what [`would_issue`] said just now.
///
/// # Errors
/// As [`super::issue`]; another job for these devices is not finished; it was stopped.
pub fn issue_group(
    context: &mut Context,
    group: &str,
    wish: &Wish,
    mut many: Many,
    step: &mut dyn FnMut(usize, usize) -> bool,
) -> Result<Many> {
    let now = context.now;
    check_wish(wish, now)?;
    if wish.public_key.is_some() || wish.request.is_some() || wish.password.is_some() || wish.address.is_some() {
        return Err(Problem::words("one key, password or address is not given to a whole group")
            .why("each device has its own")
            .try_("without it: they are made here"));
    }
    let keys = context.keys()?;
    let kept = Kept::of(group, wish);
    for other in context.read(job::all)?.into_iter().filter(|job| job.does() == Does::Issue) {
        let theirs = Kept::read(&other)?;
        // A preview tries what a new one would.
        if theirs.is_like(&kept) && context.only_tries() {
            continue;
        }
        if theirs.is_like(&kept) {
            return go_on(context, &keys, &other, many, step);
        }
        if theirs.group == group && theirs.kind == wish.kind {
            return Err(job::unfinished(&other));
        }
    }
    let tries = context.only_tries();
    if many.done.len() <= BATCH || tries {
        return context.write(|book| {
            // As it is now: somebody may have given one of them one meanwhile.
            if !tries {
                many = candidates(book, group, wish.kind)?;
            }
            let devices = std::mem::take(&mut many.done);
            if devices.is_empty() {
                return Ok(many);
            }
            let mut common = Common::gather(book, &keys, wish)?;
            room_for(book, &common, devices.len())?;
            // What would be refused is so of the first as of all others: a preview of many tries no more.
            let most = if tries { BATCH } else { devices.len() };
            for (at, device) in devices.iter().take(most).enumerate() {
                let device: Device = book.need(device)?;
                // Of a job that would be gone on with.
                let had = find::had(book, &device.name)?;
                if tries && Has::current(&had, wish.kind).is_some() {
                    continue;
                }
                many.done.push(issue_within(book, &keys, &device, &had, wish, &mut common)?.name);
                step(at + 1, devices.len());
            }
            Ok(many)
        });
    }
    let job = context.write(|book| {
        let common = Common::gather(book, &keys, wish)?;
        room_for(book, &common, many.done.len())?;
        let job = Job {
            name: job::next(book)?,
            what: kept.words(),
            wish: serde_json::to_string(&kept).map_err(|error| Problem::failed(error.to_string()))?,
            who: crate::context::who(),
            begun: now,
            done: 0,
            whole: many.done.len() as u64,
        };
        book.add(&job)?;
        book.note(
            "credential issue",
            group,
            &format!("job {}: {} of kind {}", job.name, many.done.len(), wish.kind.word()),
        )?;
        Ok(job)
    })?;
    go_on(context, &keys, &job, many, step)
}

/// Whether every listener has as many free addresses.
fn room_for(book: &Book<'_>, common: &Common, devices: usize) -> Result<()> {
    for listener in &common.listeners {
        let given = find::given_at(book, &listener.name)?;
        let room = u64::from(pool::room(&listener.pool));
        if (given + devices) as u64 > room {
            return Err(pool::full(&listener.name, &listener.pool));
        }
    }
    Ok(())
}

/// Goes on with a job that was broken off.
///
/// # Errors
/// It was stopped again.
pub(crate) fn resume(context: &mut Context, job: &Job, step: &mut dyn FnMut(usize, usize) -> bool) -> Result<Many> {
    let keys = context.keys()?;
    let kept = Kept::read(job)?;
    let many = context.read(|book| candidates(book, &kept.group, kept.kind))?;
    go_on(context, &keys, job, many, step)
}

fn go_on(
    context: &mut Context,
    keys: &Keys,
    job: &Job,
    mut many: Many,
    step: &mut dyn FnMut(usize, usize) -> bool,
) -> Result<Many> {
    let kept = Kept::read(job)?;
    let wish = kept.wish();
    let devices = std::mem::take(&mut many.done);
    let whole = devices.len();
    std::thread::scope(|scope| {
        // Keys are made while others are written down.
        let (give, take) = sync_channel(2 * BATCH);
        if kept.kind == CredentialKind::KeyPair {
            scope.spawn(move || {
                while let Ok(random) = random32() {
                    if give.send(KeyPair::from_random(random)).is_err() {
                        break;
                    }
                }
            });
        } else {
            drop(give);
        }
        let mut pairs = Some(take).filter(|_| kept.kind == CredentialKind::KeyPair);
        for batch in devices.chunks(BATCH) {
            let made = context.write(|book| {
                let Some(now) = book.get::<Job>(&job.name)? else {
                    return Err(Problem::refused("somebody else has finished this job, or taken it back")
                        .try_("yestrel estate jobs"));
                };
                let mut common = Common::gather(book, keys, &wish)?;
                (common.pairs, common.job) = (pairs.take(), Some(job.name.clone()));
                let mut made = Vec::new();
                for device in batch {
                    // It is gone, or somebody has given it one meanwhile.
                    let Some(device) = book.get::<Device>(device)? else { continue };
                    let had = find::had(book, &device.name)?;
                    match Has::current(&had, kept.kind) {
                        Some(there) if there.job.as_ref() == Some(&job.name) => made.push(there.name.clone()),
                        Some(_) => {}
                        None => made.push(issue_within(book, keys, &device, &had, &wish, &mut common)?.name),
                    }
                }
                book.put(&Job { done: (many.done.len() + made.len()) as u64, whole: whole as u64, ..now })?;
                pairs = common.pairs.take();
                Ok(made)
            })?;
            many.done.extend(made);
            if !step(many.done.len(), whole) && many.done.len() < whole {
                return Err(Problem::partly(format!(
                    "{} of {whole} are made, and none of them counts yet",
                    many.done.len()
                ))
                .why("it was stopped")
                .try_(format!("yestrel {}   goes on where it was", job.what))
                .try_(format!("yestrel estate jobs --take-back {}", job.name)));
            }
            job::between();
        }
        Ok(())
    })?;
    context.write(|book| {
        if !book.remove::<Job>(&job.name)? {
            return Ok(());
        }
        let common = Common::gather(book, keys, &wish)?;
        let mut gateways: BTreeSet<_> = common.listeners.into_iter().map(|listener| listener.gateway).collect();
        gateways.extend(common.gateways);
        gateways.iter().try_for_each(|gateway| book.unsettled(gateway))?;
        book.note("credential issue", &kept.group, &format!("job {} is finished", job.name))
    })?;
    Ok(many)
}
