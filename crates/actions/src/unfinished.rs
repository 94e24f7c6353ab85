//! Commands on many that were broken off: going on with one, taking it back.

use yestrel_core::Result;
use yestrel_core::estate::{CertificateState, Credential, Does, Job};
use yestrel_core::x509::list::Reason;
use yestrel_store::Query;
use yestrel_store::records::Address;

use crate::authority::lists;
use crate::context::Context;
use crate::credential;
use crate::job::{self, BATCH};
use crate::people::importing;

/// Goes on with a job that was broken off; gives how many it has made now.
///
/// # Errors
/// There is none of that number, it cannot be gone on with, or it was stopped again.
pub fn resume(context: &mut Context, number: u64, step: &mut dyn FnMut(usize, usize) -> bool) -> Result<(Job, usize)> {
    let job = context.read(|book| job::named(book, number))?;
    let made = match job.does() {
        Does::Import => importing::resume(context, &job, step)?,
        Does::Issue => credential::resume(context, &job, step)?.done.len(),
        Does::Renew => credential::resume_renewal(context, &job, step)?,
    };
    Ok((job, made))
}

/// Takes back whatever one has made, batch by batch; `step` hears how many of how many are gone, and says whether to go on. Gives how many of
/// the users that an import made stay, because they have got credentials meanwhile.
///
/// # Errors
/// There is no such job, or it was stopped: the same again goes on.
pub fn take_back(
    context: &mut Context,
    number: u64,
    step: &mut dyn FnMut(usize, usize) -> bool,
) -> Result<(Job, usize)> {
    let job = context.read(|book| job::named(book, number))?;
    if job.does() == Does::Renew {
        // What was revoked stays so, and what stands in its place too: there is nothing that could be taken back.
        end(context, &job)?;
        return Ok((job, 0));
    }
    if job.does() == Does::Import {
        let stay = importing::take_back(context, &job, step)?;
        end(context, &job)?;
        return Ok((job, stay));
    }
    let names = context.read(|book| {
        let of_it = [("job", job.name.as_str().into())];
        book.names::<Credential>(&Query { filters: &of_it, ..Query::default() })
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
            // What happens to records is kept beside a row that says why.
            book.note("estate jobs", &job.name, &format!("taking back: {} of {}", done + batch.len(), names.len()))
        })?;
        done += batch.len();
        if !step(done, names.len()) && done < names.len() {
            return Err(job::stopped_taking_back(&job, done, names.len()));
        }
        job::between();
    }
    end(context, &job)?;
    Ok((job, 0))
}

fn end(context: &mut Context, job: &Job) -> Result<()> {
    context.write(|book| {
        book.remove::<Job>(&job.name)?;
        book.note("estate jobs", &job.name, &format!("taken back: {}", job.what))
    })
}
