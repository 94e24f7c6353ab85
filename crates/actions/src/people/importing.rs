//! Importing what was read from a table: at once where they are few; where they are many, whoever is new in batches, and what changes of others
//! with the last.

use std::collections::BTreeSet;
use std::path::{Path, PathBuf};

use serde::{Deserialize, Serialize};
use yestrel_core::estate::{Credential, Device, Does, Group, Job, User};
use yestrel_core::keys::sha256_hex;
use yestrel_core::policy::Asks;
use yestrel_core::{Problem, Result};
use yestrel_store::queries::in_group;
use yestrel_store::{Book, Query};

use super::import::{Found, How, Line, check, look, refused};
use crate::context::Context;
use crate::job::{self, BATCH};
use crate::policy;

/// What a job keeps of its command.
#[derive(Debug, Serialize, Deserialize)]
struct Kept {
    file: PathBuf,
    /// Of its bytes: another file is another import.
    sha256: String,
    how: How,
    /// The last rows that its batches wrote into the history: beside these stands what they made.
    rows: Vec<u64>,
    /// Groups that it made.
    groups: BTreeSet<String>,
}

impl Kept {
    fn read(job: &Job) -> Result<Self> {
        serde_json::from_str(&job.wish)
            .map_err(|error| Problem::failed(format!("job {} cannot be gone on with", job.name)).why(error.to_string()))
    }

    fn written(&self) -> Result<String> {
        serde_json::to_string(self).map_err(|error| Problem::failed(error.to_string()))
    }
}

/// Whether an import is not finished: the same again goes on with it, also where nobody of its file is missing any more.
///
/// # Errors
/// The estate cannot be read.
pub fn is_open(context: &mut Context) -> Result<bool> {
    Ok(context.read(job::all)?.iter().any(|job| job.does() == Does::Import))
}

/// Imports what is good in a file; all of it or, when a line is bad and it was not said otherwise, nothing. `found` is what [`look`] found just
/// now. Where many are new it is a job; `step` hears how many of how many are there, and says whether to go on.
///
/// # Errors
/// A bad line, or as [`look`]; it was stopped, or another import is not finished.
pub fn import(
    context: &mut Context,
    file: &Path,
    bytes: &[u8],
    how: How,
    found: Found,
    step: &mut dyn FnMut(usize, usize) -> bool,
) -> Result<Found> {
    let sha256 = sha256_hex(bytes);
    let open = context.read(job::all)?.into_iter().find(|job| job.does() == Does::Import);
    if let Some(open) = open.filter(|_| !context.only_tries()) {
        let kept = Kept::read(&open)?;
        if kept.sha256 != sha256 || kept.how != how {
            return Err(job::unfinished(&open));
        }
        return go_on(context, &open, bytes, found, step);
    }
    let new = found.good.iter().filter(|line| line.before.is_none()).count();
    if new <= BATCH || context.only_tries() {
        return context.write(|book| {
            let found = check(book, bytes, how)?;
            whole_or_nothing(&found, how)?;
            make_groups(book, &found.groups)?;
            for (at, line) in found.good.iter().enumerate() {
                apply(book, line)?;
                step(at + 1, found.good.len());
            }
            Ok(found)
        });
    }
    whole_or_nothing(&found, how)?;
    let job = context.write(|book| {
        let groups: BTreeSet<String> = found.groups.clone();
        let file = std::path::absolute(file).unwrap_or_else(|_| file.to_owned());
        let job = Job {
            name: job::next(book)?,
            what: format!("user import {}", file.display()),
            wish: Kept { file, sha256, how, rows: Vec::new(), groups: groups.clone() }.written()?,
            who: crate::context::who(),
            begun: book.now,
            done: 0,
            whole: new as u64,
        };
        book.add(&job)?;
        book.note("user import", "", &format!("job {}: {new} users", job.name))?;
        make_groups(book, &groups)?;
        Ok(job)
    })?;
    go_on(context, &job, bytes, found, step)
}

/// Goes on with one that was broken off; its file must be as it was.
///
/// # Errors
/// The file is another one, or gone; it was stopped again.
pub(crate) fn resume(context: &mut Context, job: &Job, step: &mut dyn FnMut(usize, usize) -> bool) -> Result<usize> {
    let kept = Kept::read(job)?;
    let name = kept.file.display();
    let back = |problem: Problem| problem.try_(format!("yestrel estate jobs --take-back {}", job.name));
    let bytes = std::fs::read(&kept.file)
        .map_err(|error| back(Problem::failed(format!("{name} cannot be read any more")).why(error.to_string())))?;
    if sha256_hex(&bytes) != kept.sha256 {
        return Err(back(
            Problem::refused(format!("{name} is not the file any more that job {} began with", job.name))
                .why("somebody has changed it since")
                .try_("the file as it was"),
        ));
    }
    let found = look(context, &bytes, kept.how)?;
    go_on(context, job, &bytes, found, step)?;
    usize::try_from(job.whole).map_err(|error| Problem::failed(error.to_string()))
}

fn go_on(
    context: &mut Context,
    job: &Job,
    bytes: &[u8],
    found: Found,
    step: &mut dyn FnMut(usize, usize) -> bool,
) -> Result<Found> {
    let how = Kept::read(job)?.how;
    whole_or_nothing(&found, how)?;
    let new: Vec<&Line> = found.good.iter().filter(|line| line.before.is_none()).collect();
    let whole = usize::try_from(job.whole).unwrap_or(new.len());
    let (mut done, mut met) = (whole.saturating_sub(new.len()), 0);
    for batch in new.chunks(BATCH) {
        context.write(|book| {
            let now = still_open(book, job)?;
            let mut kept = Kept::read(&now)?;
            let groups: BTreeSet<String> = book.names::<Group>(&Query::default())?.into_iter().collect();
            let mut made = 0;
            for line in batch {
                if let Some(gone) = line.user.groups.iter().find(|group| !groups.contains(*group)) {
                    return Err(Problem::refused(format!("the group {gone} is not there any more"))
                        .why(format!("somebody has removed it meanwhile, and {} is to be in it", line.user.name))
                        .try_(format!("yestrel group add {gone}"))
                        .try_(format!("yestrel estate jobs --resume {}   after it", job.name))
                        .try_(format!("yestrel estate jobs --take-back {}", job.name)));
                }
                // Somebody has added them meanwhile: what the file says otherwise of them comes last.
                if book.get::<User>(&line.user.name)?.is_none() {
                    apply(book, line)?;
                    made += 1;
                } else {
                    met += 1;
                }
            }
            if made > 0 {
                kept.rows.extend(book.history_head()?.map(|(number, _)| number));
            }
            done += batch.len();
            book.put(&Job { done: done as u64, wish: kept.written()?, ..now })
        })?;
        if !step(done, whole) && done < whole {
            return Err(Problem::partly(format!("{done} of {whole} users are there"))
                .why("it was stopped")
                .try_(format!("yestrel estate jobs --resume {}   goes on where it was", job.name))
                .try_(format!("yestrel estate jobs --take-back {}", job.name)));
        }
        job::between();
    }
    // What is left are changes of others: looked at once more, and made only if they still are what was seen.
    let last = match met > 0 || found.good.iter().any(|line| line.verb() == "change") {
        true => look(context, bytes, how)?,
        false => Found::default(),
    };
    context.write(|book| {
        still_open(book, job)?;
        for line in last.good.iter().filter(|line| line.verb() != "keep") {
            let now = book.get::<User>(&line.user.name)?;
            if now != line.before {
                return Err(Problem::refused(format!("{} was changed by somebody else just now", line.user.name))
                    .try_(format!("yestrel estate jobs --resume {}", job.name)));
            }
            apply(book, line)?;
        }
        book.remove::<Job>(&job.name)?;
        book.note("user import", "", &format!("job {} is finished", job.name))
    })?;
    Ok(found)
}

fn still_open(book: &Book<'_>, job: &Job) -> Result<Job> {
    book.get::<Job>(&job.name)?.ok_or_else(|| {
        Problem::refused("somebody else has finished this job, or taken it back").try_("yestrel estate jobs")
    })
}

fn whole_or_nothing(found: &Found, how: How) -> Result<()> {
    if found.bad.is_empty() || how.skip_bad { Ok(()) } else { Err(refused(found)) }
}

fn make_groups(book: &Book<'_>, groups: &BTreeSet<String>) -> Result<()> {
    groups.iter().try_for_each(|group| {
        book.add(&Group { name: group.clone(), about: None, lifetime: None, created: book.now })?;
        book.note("group add", group, "named by an import")
    })
}

/// What one line says; whether it stands so was looked at in this transaction.
fn apply(book: &Book<'_>, line: &Line) -> Result<()> {
    match line.verb() {
        "add" => {
            book.put_new(&line.user)?;
            book.note("user add", &line.user.name, &line.user.groups.join(","))?;
        }
        "change" => {
            book.put(&line.user)?;
            book.note("user change", &line.user.name, &line.changes().join(", "))?;
        }
        _ => {}
    }
    let Some(device) = line.device.as_ref().filter(|_| line.device_is_new) else { return Ok(()) };
    // Who is new has no device yet.
    let there = line.before.is_some() && book.get::<Device>(&device.name)?.is_some();
    if there {
        book.put(device)?
    } else {
        book.put_new(device)?
    };
    let verb = if there { "device change" } else { "device add" };
    book.note(verb, &device.name, device.platform.as_deref().unwrap_or_default())
}

/// Takes back one batch after the other what a job has made: who has got a credential meanwhile stays. Gives how many stay.
///
/// # Errors
/// It was stopped: the same again goes on.
pub(crate) fn take_back(context: &mut Context, job: &Job, step: &mut dyn FnMut(usize, usize) -> bool) -> Result<usize> {
    let kept = Kept::read(job)?;
    let (whole, mut left, mut stay) = (kept.rows.len(), kept.rows.clone(), 0);
    while let Some(row) = left.pop() {
        context.write(|book| {
            let now = still_open(book, job)?;
            for change in book.changes_at(row)?.into_iter().rev().filter(|change| change.before.is_none()) {
                let (name, of) = (change.name.as_str(), |column: &'static str| [(column, change.name.as_str().into())]);
                match change.table.as_str() {
                    "devices" if book.count::<Credential>(&of("device"))? == 0 => {
                        book.remove::<Device>(name)?;
                    }
                    "users" if book.count::<Device>(&of("user"))? + book.count::<Credential>(&of("user"))? == 0 => {
                        book.remove::<User>(name)?;
                    }
                    "users" => stay += 1,
                    _ => {}
                }
            }
            let kept = Kept { rows: left.clone(), ..Kept::read(&now)? };
            let done = now.done.saturating_sub(BATCH as u64);
            book.put(&Job { done, wish: kept.written()?, ..now })?;
            book.note("estate jobs", &job.name, &format!("taking back: {} of {whole} batches", whole - left.len()))
        })?;
        if !step(whole - left.len(), whole) && !left.is_empty() {
            return Err(job::stopped_taking_back(job, whole - left.len(), whole));
        }
        job::between();
    }
    context.write(|book| {
        for group in &kept.groups {
            let needed = !book.names::<User>(&in_group(group))?.is_empty()
                || policy::still_named(book, Asks::Group, group).is_err();
            if !needed && book.remove::<Group>(group)? {
                book.note("group remove", group, "named by an import that was taken back")?;
            }
        }
        Ok(())
    })?;
    Ok(stay)
}
