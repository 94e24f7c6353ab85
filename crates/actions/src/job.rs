//! Commands on many that are done in batches: others come in between, and what they have made counts once they are finished, by one last small
//! change. One that was broken off is gone on with, or taken back.

use std::collections::HashSet;

use yestrel_core::estate::{Credential, Job};
use yestrel_core::{Problem, Result, moment};
use yestrel_store::{Book, Query};

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
        .why(format!("begun at {}, {}", moment(job.begun), job.progress()))
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

/// Taking one back was stopped.
pub(crate) fn stopped_taking_back(job: &Job, done: usize, whole: usize) -> Problem {
    Problem::partly(format!("{done} of {whole} are taken back"))
        .why("it was stopped")
        .try_(format!("yestrel estate jobs --take-back {}   goes on", job.name))
}

/// Time for whoever waits to write.
pub(crate) fn between() {
    std::thread::park_timeout(std::time::Duration::from_millis(5));
}
