//! Agents that were left behind on hosts which could not be reached: known until they were seen gone, and removed as soon as their host answers.

use std::sync::Arc;
use std::sync::mpsc::{Receiver, channel};
use std::time::Duration;

use jiff::Timestamp;
use serde::Serialize;
use yestrel_core::estate::{Gateway, Host, Leftover};
use yestrel_core::exchange::agent::Status;
use yestrel_core::{Problem, Result, moment};
use yestrel_places::Person;
use yestrel_store::Book;

use crate::context::Context;
use crate::hear::Nobody;
use crate::{find, session};

/// How long hosts that do not answer are waited for, once everything else is done.
const PATIENCE: Duration = Duration::from_secs(5);

/// A host with an agent that was left behind, and what has come of trying to remove it.
#[derive(Debug, Serialize)]
pub struct Old {
    pub host: String,
    pub gateway: String,
    pub since: Timestamp,
    /// Why it is still there; `None`: it is gone.
    pub problem: Option<Problem>,
}

impl Old {
    /// In a line.
    #[must_use]
    pub fn line(&self) -> String {
        let Self { host, gateway, since, problem } = self;
        match problem {
            None => format!("the old agent of {gateway} on {host} is removed"),
            Some(problem) => format!(
                "the old agent of {gateway} on {host}, left there on {}, may still let devices in that are revoked: {}",
                moment(*since),
                problem.line()
            ),
        }
    }
}

/// Notes that an agent stays behind on a gateway's host.
pub(crate) fn leave(book: &Book<'_>, host: &str, gateway: &Gateway) -> Result<()> {
    let mut host: Host = book.need(host)?;
    host.leftover = Some(Leftover {
        gateway: gateway.name.clone(),
        public_key: gateway.public_key,
        news_seen: gateway.news_seen,
        since: book.now,
        leaving: false,
    });
    book.put(&host)
}

/// Hosts with an agent that was left behind.
///
/// # Errors
/// The estate cannot be read.
pub fn hosts(context: &mut Context) -> Result<Vec<(Host, Leftover)>> {
    context.read(of)
}

pub(crate) fn of(book: &Book<'_>) -> Result<Vec<(Host, Leftover)>> {
    let all = book.all::<Host>()?.into_iter();
    Ok(all.filter_map(|host| host.leftover.clone().map(|leftover| (host, leftover))).collect())
}

/// Those that carry no gateway: where one is to be again, its rollout removes what was left there.
pub(crate) fn bare(book: &Book<'_>) -> Result<Vec<(Host, Leftover)>> {
    let mut bare = Vec::new();
    for (host, leftover) in of(book)? {
        if book.find::<Gateway>(&[("host", host.name.as_str().into())])?.is_empty() {
            bare.push((host, leftover));
        }
    }
    Ok(bare)
}

/// Old hosts that are being asked, while something else is done.
pub struct Asked {
    old: Vec<(Host, Leftover)>,
    answers: Receiver<(usize, Result<()>)>,
}

/// Begins to ask every host with an agent that was left behind.
///
/// # Errors
/// The estate cannot be read.
pub fn ask(context: &mut Context) -> Result<Asked> {
    let old = context.read(bare)?;
    let (tell, answers) = channel();
    for (at, (host, _)) in old.iter().enumerate() {
        let nobody: Arc<dyn Person> = Arc::new(Nobody);
        let way = yestrel_places::open(host, &nobody).and_then(|place| place.to_manage());
        let tell = tell.clone();
        let ask = move || {
            let answer = way.and_then(|way| match way.ask_agent(&Status) {
                // A host that answers and has no agent any more is clean enough to be looked at.
                Err(_) => way.ask(&yestrel_core::exchange::host::Facts).map(drop),
                Ok(_) => Ok(()),
            });
            let _ = tell.send((at, answer));
        };
        // Where there is no thread for it, the host counts as silent.
        let _ = std::thread::Builder::new().name("old-host".into()).spawn(ask);
    }
    Ok(Asked { old, answers })
}

/// Removes what was left behind on those hosts that have answered, and says of each what has come of it.
///
/// # Errors
/// The estate cannot be written.
pub fn clean(context: &mut Context, asked: Asked) -> Result<Vec<Old>> {
    let Asked { old, answers } = asked;
    let mut outcomes: Vec<Option<Result<()>>> = old.iter().map(|_| None).collect();
    let end = std::time::Instant::now() + PATIENCE;
    while outcomes.iter().any(Option::is_none) {
        let left = end.saturating_duration_since(std::time::Instant::now());
        let Ok((at, answer)) = answers.recv_timeout(left) else { break };
        outcomes[at] = Some(answer);
    }
    let mut all = Vec::new();
    for ((host, leftover), answer) in old.into_iter().zip(outcomes) {
        let silent = || Err(Problem::failed(format!("the host {} does not answer", host.name)));
        let problem = answer.unwrap_or_else(silent).and_then(|()| remove(context, &host, &leftover)).err();
        all.push(Old { host: host.name, gateway: leftover.gateway, since: leftover.since, problem });
    }
    Ok(all)
}

/// Removes what was left behind on a host that answers, with what it has seen brought home.
pub(crate) fn remove(context: &mut Context, host: &Host, leftover: &Leftover) -> Result<()> {
    let (estate, is_there) = context.read(|book| {
        let still = book.get::<Host>(&host.name)?.and_then(|host| host.leftover);
        let carries = !book.find::<Gateway>(&[("host", host.name.as_str().into())])?.is_empty();
        let same = still.is_some_and(|still| still.public_key == leftover.public_key);
        Ok((find::this_estate(book)?.id, same && !carries))
    })?;
    // Somebody else has cleaned it meanwhile, or it is a gateway's host again: what is there now is not what was left.
    if !is_there {
        return Ok(());
    }
    let manage = context.manage(host)?;
    let is_it = manage.ask_agent(&Status).is_ok_and(|status| status.gateway.as_ref() == Some(&leftover.gateway));
    if is_it {
        let _ = session::collect_to_the_end(context, &leftover.gateway, &*manage, leftover.news_seen);
    }
    manage.remove(&estate, false)?;
    let left = if leftover.leaving { manage.leave() } else { Ok(()) };
    context.write(|book| {
        let mut record: Host = book.need(&host.name)?;
        record.leftover = None;
        if leftover.leaving && left.is_ok() {
            book.remove::<Host>(&host.name)?;
        } else {
            book.put(&record)?;
        }
        book.note("host clean", &host.name, &format!("the old agent of {} is removed", leftover.gateway))
    })
}
