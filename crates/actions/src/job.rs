//! Commands on many that are done in batches: others come in between, and what they have made counts once they are finished, by one last small
//! change. One that was broken off is gone on with, or taken back.

use std::collections::HashSet;

use yestrel_core::estate::{CertificateState, Credential, Job};
use yestrel_core::x509::list::Reason;
use yestrel_core::{Problem, Result, moment};
use yestrel_store::records::Address;
use yestrel_store::{Book, Query};

use crate::authority::lists;
use crate::context::Context;

/// How many records one change makes. So many are made within a fraction of a second.
pub(crate) const BATCH: usize = 500;

/// Commands that are not finished, the oldest first.
///
/// # Errors
/// The estate cannot be read.
pub fn list(context: &mut Context) -> Result<Vec<Job>> {
    context.read(all)
}

pub(crate) fn all(book: &Book<'_>) -> Result<Vec<Job>> {
    let mut all: Vec<Job> = book.all()?;
    all.sort_by(|a, b| (a.begun, &a.name).cmp(&(b.begun, &b.name)));
    Ok(all)
}

/// Those that are not finished: what they have made does not count.
pub(crate) struct Open(HashSet<String>);

impl Open {
    pub(crate) fn read(book: &Book<'_>) -> Result<Self> {
        Ok(Self(book.names::<Job>(&Query::default())?.into_iter().collect()))
    }

    /// Whether what this job made counts, or what none made.
    pub(crate) fn counts(&self, job: Option<&String>) -> bool {
        job.is_none_or(|job| !self.0.contains(job))
    }
}

/// That one is not finished, and what becomes of it.
pub(crate) fn unfinished(job: &Job) -> Problem {
    Problem::refused(format!("{} of {} is not finished", job.what, job.who))
        .why(format!(
            "begun at {}, {} of {} made; none of them counts until all are",
            moment(job.begun),
            job.done,
            job.whole
        ))
        .try_(format!("yestrel estate jobs --resume {}", job.name))
        .try_(format!("yestrel estate jobs --take-back {}", job.name))
}

/// Whether what made a credential is finished, so that it counts.
pub(crate) fn counts(book: &Book<'_>, credential: &Credential) -> Result<bool> {
    Ok(Open::read(book)?.counts(credential.job.as_ref()))
}

/// As [`counts`], for commands that need it.
///
/// # Errors
/// It is not finished.
pub(crate) fn finished(book: &Book<'_>, credential: &Credential) -> Result<()> {
    match credential.job.as_deref().map(|job| book.get::<Job>(job)).transpose()?.flatten() {
        Some(job) => Err(unfinished(&job)),
        None => Ok(()),
    }
}

/// What jobs know groups, gateways and listeners by is not changed under them.
///
/// # Errors
/// One is not finished.
pub(crate) fn none_open(book: &Book<'_>) -> Result<()> {
    all(book)?.first().map_or(Ok(()), |job| Err(unfinished(job)))
}

/// A command that is not finished, by its number.
pub(crate) fn named(book: &Book<'_>, number: u64) -> Result<Job> {
    book.get::<Job>(&number.to_string())?.ok_or_else(|| {
        Problem::words(format!("no job {number} is open"))
            .why("it is finished, or was taken back")
            .try_("yestrel estate jobs")
    })
}

/// The number of the next one.
pub(crate) fn next(book: &Book<'_>) -> Result<String> {
    let newest = book.history_head()?.map_or(0, |(number, _)| number);
    Ok((newest + 1).to_string())
}

/// Takes back whatever one has made, batch by batch; `step` hears how many of how many are gone, and says whether to go on.
///
/// # Errors
/// There is no such job, or it was stopped: the same again goes on.
pub fn take_back(context: &mut Context, number: u64, step: &mut dyn FnMut(usize, usize) -> bool) -> Result<Job> {
    let (job, names) = context.read(|book| {
        let job = named(book, number)?;
        let of_it = [("job", job.name.as_str().into())];
        Ok((job, book.names::<Credential>(&Query { filters: &of_it, ..Query::default() })?))
    })?;
    let mut done = 0;
    for batch in names.chunks(BATCH) {
        context.write(|book| {
            let at = book.now;
            for name in batch {
                // What was revoked meanwhile stays so.
                let Some(credential) = book.get::<Credential>(name)?.filter(|one| one.revoked.is_none()) else {
                    continue;
                };
                if let Some(certificate) = credential.certificate() {
                    let reason = Reason::of_words("cessation-of-operation");
                    lists::mark(book, &certificate.serial, CertificateState::Revoked, reason, at)?;
                }
                for address in book.find::<Address>(&[("credential", name.as_str().into())])? {
                    book.remove::<Address>(&address.name)?;
                }
                book.remove::<Credential>(name)?;
            }
            let left = (names.len() - done - batch.len()) as u64;
            if let Some(job) = book.get::<Job>(&job.name)? {
                book.put(&Job { done: left, ..job })?;
            }
            Ok(())
        })?;
        done += batch.len();
        if !step(done, names.len()) && done < names.len() {
            return Err(Problem::partly(format!("{done} of {} are taken back", names.len()))
                .why("it was stopped")
                .try_(format!("yestrel estate jobs --take-back {number}   goes on")));
        }
        between();
    }
    context.write(|book| {
        book.remove::<Job>(&job.name)?;
        book.note("estate jobs", &job.name, &format!("taken back: {}", job.what))
    })?;
    Ok(job)
}

/// Time for whoever waits to write.
pub(crate) fn between() {
    std::thread::park_timeout(std::time::Duration::from_millis(5));
}
