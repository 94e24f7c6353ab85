//! Bringing gateways to their newest order.
//!
//! | file | its job |
//! |---|---|
//! | `content` | what a gateway is to be, whole or as far as some people go |
//! | `plan` | what a rollout would do |

mod content;
pub mod plan;

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;
use std::time::{Duration, Instant};

use jiff::Timestamp;
use serde::Serialize;
use yestrel_core::estate::{Estate, Gateway, Host};
use yestrel_core::exchange::NewsEvent;
use yestrel_core::exchange::agent::{
    Adopt, Amend, Carry, Certify, Confirm, ForDevice, Forward, NewsAfter, Publication, Publish, Receipt, Sessions,
    Status, Tell,
};
use yestrel_core::exchange::host::{Facts, Installed, Updates};
use yestrel_core::firewall::{Protocol, Service};
use yestrel_core::keys::Secret;
use yestrel_core::order::{self, Amendment, Envelope, Part, SignedAmendment};
use yestrel_core::{Kind, Problem, Result, moment};
use yestrel_places::Manage;
use yestrel_store::{Book, SealingKey};

use crate::authority::lists;
use crate::context::Context;
use crate::credential::notice;
use crate::find;
use crate::gateway::certificate;
use crate::keyring::{self, Keys, labels};
use crate::listener::ports;
use crate::{leftover, session};

use plan::{Next, Planned, Settles};
pub use plan::{Plan, preview, upgrades};

/// How it went at one gateway.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
pub enum OutcomeState {
    #[serde(rename = "done")]
    Done,
    #[serde(rename = "nothing to do")]
    NothingToDo,
    #[serde(rename = "failed")]
    Failed,
}

impl OutcomeState {
    /// The words for tables.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::Done => "done",
            Self::NothingToDo => "nothing to do",
            Self::Failed => "failed",
        }
    }
}

/// What became of one gateway.
#[derive(Debug, Serialize)]
pub struct Outcome {
    pub gateway: String,
    pub order: u64,
    pub state: OutcomeState,
    pub installed: Option<Installed>,
    /// Whether a change of firewall or addresses was held, and confirmed over a new connection.
    pub confirmed: bool,
    /// When the agent's program will be upgraded, where that waits for its hours.
    pub upgrade_at: Option<Timestamp>,
    /// Sessions that ended with it.
    pub ended: u64,
    /// Why it is in force and not kept: a restart of the agent would bring the order before back.
    pub unkept: Option<String>,
    pub problem: Option<Problem>,
    /// Why it is in force, and the newest revocation lists are not published there.
    pub unpublished: Option<Problem>,
    /// Gateways that bring it there when they meet.
    pub carried_by: Vec<String>,
    /// What the order opens and somebody else's firewall on the host shuts.
    pub shut: Vec<Shut>,
}

/// A port that devices dial and that somebody else's firewall on the host shuts.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Shut {
    /// `23817/udp`.
    pub port: String,
    /// By what.
    pub by: String,
    /// What opens it, for a shell on the host.
    pub commands: String,
}

/// How a rollout is done.
#[derive(Debug, Clone)]
pub struct How {
    /// Of what waits, this part alone; `None`: everything.
    pub only: Option<Part>,
    /// Carry the newest order even where it is confirmed.
    pub again: bool,
    /// Seconds that a change of firewall or addresses is held for its confirmation; 0 holds nothing.
    pub hold: u16,
    /// Remove an agent of another estate first.
    pub take_over: bool,
    /// Upgrade agents now, whatever their schedule says.
    pub upgrade_now: bool,
}

impl Default for How {
    fn default() -> Self {
        Self { only: None, again: false, hold: HOLD, take_over: false, upgrade_now: false }
    }
}

/// How long a change that could cut its author off waits for its confirmation, in seconds.
pub const HOLD: u16 = 60;

/// How long devices that are in are given to say that they know where they come in next, and how often that is looked for.
const TELLING: Duration = Duration::from_secs(2);
const LOOKING: Duration = Duration::from_millis(50);

/// How long after a confirmation that did not arrive the next is tried, and for how long at all. A hold is three times that.
const RETRY: Duration = Duration::from_secs(2);
const CONFIRMING: Duration = Duration::from_secs(20);

struct Work {
    gateway: Gateway,
    host: Host,
    /// Or why there is no way there.
    manage: Result<Arc<dyn Manage>>,
    what: What,
    number: u64,
    /// It was tried before, and something else was in force there.
    again: bool,
    /// The key of the certificate that the order names.
    certificate_key: Option<Secret>,
    publications: Vec<Publication>,
    numbers: BTreeMap<String, u64>,
    /// Way notices for its devices; `None`: those that it has stay.
    notices: Option<Vec<ForDevice>>,
    /// What must be open there.
    services: Vec<Service>,
    /// Whether it ends sessions by closing where they came in.
    closes: bool,
}

/// What is carried.
enum What {
    Whole(Box<Envelope>),
    /// To the order of this hash; the whole, where another is in force.
    Amendment(String, SignedAmendment),
}

impl What {
    fn hash(&self) -> String {
        match self {
            Self::Whole(envelope) => envelope.hash(),
            Self::Amendment(_, amendment) => amendment.hash(),
        }
    }
}

/// The order that a gateway is to have, signed and kept.
fn order_for(
    book: &Book<'_>,
    keys: &Keys,
    estate: &Estate,
    gateway: &Gateway,
    plan: &Plan,
    next: Next,
) -> Result<What> {
    let (key, now, name) = (&keys.sealing, book.now, &gateway.name);
    let newest = book.newest_kept(name)?;
    let whole = |number: u64| -> Result<Envelope> {
        book.envelope(name, number)?.ok_or_else(|| Problem::failed(format!("order {number} of {name} is gone")))
    };
    let previous = newest.as_ref().map(|order| order.hash.clone()).unwrap_or_default();
    match (next, newest) {
        (Next::Newest, Some(newest)) => {
            let before = book.order_kept(name, newest.number - 1)?.filter(|_| newest.base != newest.number);
            match before {
                Some(before) => Ok(What::Amendment(before.hash, book.amendment(name, newest.number)?)),
                None => Ok(What::Whole(whole(newest.number)?.into())),
            }
        }
        (Next::Amended(amends), Some(newest)) => {
            let signing = key.open(&estate.private_key, labels::SIGNING)?;
            let amendment = Amendment::new(&estate.id, name, plan.to, &previous, now, amends).sign(&signing)?;
            book.keep_amendment(&newest, &amendment)?;
            book.note("rollout", name, &format!("order {}", plan.to))?;
            Ok(What::Amendment(previous, amendment))
        }
        (Next::Newest | Next::Amended(_), None) => Err(Problem::failed(format!("{name} has no order yet"))),
        (Next::Whole(content), _) => {
            let (settings, entries) = (content.settings(), content.admit.len());
            let signing = key.open(&estate.private_key, labels::SIGNING)?;
            let mut envelope = order::sign(&estate.id, plan.to, &previous, now, *content, &signing)?;
            if let Some(trusted) = gateway.trusts.filter(|_| gateway.adopted) {
                let before = keyring::previous(key, estate, &trusted)?;
                envelope = order::sign_over(&envelope, &before, &signing)?;
            }
            envelope.check_length(name, entries)?;
            book.keep_order(name, plan.to, now, &envelope, Some(&settings))?;
            book.forget_old_orders(name, gateway.order_number)?;
            book.note("rollout", name, &format!("order {}", plan.to))?;
            Ok(What::Whole(envelope.into()))
        }
    }
}

/// Brings gateways to their newest order: only those that are behind, unless `again`. A gateway that cannot be reached does
/// not hold up the others.
///
/// # Errors
/// There is no such gateway, or the estate cannot be written. What fails at a gateway stands in its outcome.
pub fn rollout(context: &mut Context, names: &[String], how: &How) -> Result<Vec<Outcome>> {
    let plans = plan::remembered(context, names, how.only.as_ref())?;
    planned(context, names, how, &plans)
}

/// As [`rollout`], of what was planned already.
pub(crate) fn planned(context: &mut Context, names: &[String], how: &How, plans: &[Plan]) -> Result<Vec<Outcome>> {
    let keys = context.keys()?;
    let key = &keys.sealing;
    let now = context.now;
    let quiet = plans.iter().filter(|plan| plan.nothing_to_do && !how.again);
    let quiet: Vec<_> = quiet.map(|plan| plan.gateway.clone()).collect();
    let differ: BTreeMap<_, _> = plan::differences(context, &quiet)?.into_iter().collect();
    let (estate, plans, stored) = context.write(|book| {
        let estate = find::this_estate(book)?;
        let mut plans = Vec::new();
        let mut work = Vec::new();
        lists::sign_due(book, &keys, now)?;
        for mut gateway in plan::chosen(book, names)? {
            if how.only.is_none() {
                certificate::ensure(book, &keys, &mut gateway)?;
            }
            let notices = match how.only {
                Some(_) => None,
                None => Some(notice::for_gateway(book, &keys, &gateway.name)?),
            };
            let tell = notices.as_ref().is_some_and(|(_, new)| *new);
            let Planned { plan, next, numbers, settles } = plan::plan_one(book, &gateway, how.only.as_ref())?;
            match settles {
                Settles::Everybody => book.settled(&gateway.name, None)?,
                Settles::These(devices) => book.settled(&gateway.name, Some(&devices))?,
                Settles::Nobody => {}
            }
            if !plan.nothing_to_do || how.again || tell || differ.contains_key(&gateway.name) {
                let what = order_for(book, &keys, &estate, &gateway, &plan, next)?;
                let host: Host = book.need(&gateway.host)?;
                let certificate_key = certificate::key_of(&keys, &gateway)?;
                let mut publications = lists::publications(book, &keys, &gateway.name)?;
                publications.retain(|publication| numbers.contains_key(&publication.authority));
                let notices = notices.map(|(notices, _)| notices);
                let mut services: Vec<_> = find::listeners_of(book, &gateway.name)?
                    .iter()
                    .flat_map(|listener| listener.serves.iter().map(|served| served.inside).collect::<Vec<_>>())
                    .collect();
                services.extend(gateway.publish_port.map(|port| Service::Port(Protocol::Tcp, port)));
                let closes = !plan.closes.is_empty();
                let of_work = (certificate_key, publications, numbers, notices, services, closes);
                work.push((gateway, host, what, plan.to, of_work));
            }
            plans.push(plan);
        }
        Ok((estate, plans, work))
    })?;
    let mut work = Vec::new();
    for (gateway, host, what, number, of_work) in stored {
        let (certificate_key, publications, numbers, notices, services, closes) = of_work;
        let manage = context.manage(&host);
        let again = false;
        work.push(Work {
            gateway,
            host,
            manage,
            what,
            number,
            again,
            certificate_key,
            publications,
            numbers,
            notices,
            services,
            closes,
        });
    }
    let carry_all = |work: &[&Work]| -> Vec<Result<Came>> {
        std::thread::scope(|scope| {
            let estate = &estate;
            let threads: Vec<_> = work.iter().map(|work| scope.spawn(move || carry(work, estate, key, how))).collect();
            threads
                .into_iter()
                .map(|thread| thread.join().unwrap_or_else(|_| Err(Problem::failed("carrying an order broke off"))))
                .collect()
        })
    };
    let mut carried = carry_all(&work.iter().collect::<Vec<_>>());
    // Where another order is in force than is amended or followed, the newest is brought whole: it may be another command's by now.
    let whole: Vec<_> = (0..work.len()).filter(|at| matches!(carried[*at], Ok(Came::NeedsWhole(_)))).collect();
    for at in &whole {
        let one = &mut work[*at];
        one.again = true;
        context.read(|book| {
            one.number = book.newest_number(&one.gateway.name)?;
            if let Some(envelope) = book.envelope(&one.gateway.name, one.number)? {
                one.what = What::Whole(envelope.into());
            }
            Ok(())
        })?;
    }
    for (at, again) in whole.iter().zip(carry_all(&whole.iter().map(|at| &work[*at]).collect::<Vec<_>>())) {
        let before = std::mem::replace(&mut carried[*at], again);
        if let (Ok(Came::NeedsWhole(before)), Ok(Came::There(there))) = (before, &mut carried[*at]) {
            there.installed = there.installed.or(before);
        }
    }
    let mut outcomes: Vec<Outcome> = plans
        .into_iter()
        .map(|plan| Outcome {
            gateway: plan.gateway,
            order: plan.to,
            state: OutcomeState::NothingToDo,
            installed: None,
            confirmed: false,
            upgrade_at: None,
            ended: 0,
            unkept: None,
            problem: None,
            carried_by: Vec::new(),
            unpublished: None,
            shut: Vec::new(),
        })
        .collect();
    for (work, carried) in work.iter().zip(carried) {
        let Some(outcome) = outcomes.iter_mut().find(|outcome| outcome.gateway == work.gateway.name) else { continue };
        match carried {
            Ok(Came::NeedsWhole(_)) => {
                outcome.state = OutcomeState::Failed;
                outcome.problem = Some(unexpected(work));
            }
            Ok(Came::There(there)) => {
                let Carried { installed, receipt, confirmed, waits, unpublished, amends, shut } = *there;
                outcome.shut = shut;
                outcome.state = OutcomeState::Done;
                outcome.order = work.number;
                outcome.installed = installed;
                outcome.confirmed = confirmed;
                outcome.ended = receipt.ended;
                outcome.unkept = receipt.unkept;
                outcome.upgrade_at =
                    work.gateway.updates.as_ref().filter(|_| waits).and_then(|schedule| schedule.next(now));
                let kept = context.write(|book| {
                    let mut gateway: Gateway = book.need(&work.gateway.name)?;
                    gateway.adopted = true;
                    gateway.amends = amends;
                    gateway.renewed = Some(book.now);
                    gateway.order_number = gateway.order_number.max(work.number);
                    // Whoever took an order that holds by the newest key obeys that key.
                    if matches!(&work.what, What::Whole(envelope) if gateway.trusts.is_some() && envelope.verify(&estate.public_key).is_ok()) {
                        gateway.trusts = None;
                    }
                    if unpublished.is_none() {
                        gateway.lists_there.clone_from(&work.numbers);
                    }
                    book.put(&gateway)?;
                    if work.host.leftover.is_some() {
                        let mut host: Host = book.need(&work.host.name)?;
                        host.leftover = None;
                        book.put(&host)?;
                    }
                    notice::brought(book, &work.gateway.name, work.notices.as_deref().unwrap_or_default())?;
                    book.order_received(&work.gateway.name, work.number, receipt.at)
                });
                outcome.unpublished = unpublished;
                // It is in force there; what the estate could not note is asked for by the next rollout.
                outcome.problem = kept.err().map(|problem| {
                    Problem::failed("the order is in force, and the estate could not note it").why(problem.line())
                });
            }
            Err(problem) => {
                outcome.state = OutcomeState::Failed;
                outcome.problem = Some(problem);
            }
        }
    }
    let failed: Vec<_> = outcomes.iter().filter(|one| one.problem.is_some()).map(|one| one.gateway.clone()).collect();
    let carriers = forward(context, &failed)?;
    for outcome in outcomes.iter_mut().filter(|outcome| outcome.state == OutcomeState::Failed) {
        outcome.carried_by.clone_from(&carriers);
    }
    Ok(outcomes)
}

/// Gives the orders that did not get where they belong to the gateways that answer: agents bring them there when they meet. Also the newest of
/// a gateway whose old agent was left behind: it learns of revocations by that. Gives who has them.
fn forward(context: &mut Context, failed: &[String]) -> Result<Vec<String>> {
    let (envelopes, targets) = context.read(|book| {
        let left: Vec<_> = leftover::of(book)?.into_iter().map(|(_, old)| old.gateway).collect();
        let (mut envelopes, mut targets) = (Vec::new(), Vec::new());
        for gateway in book.all::<Gateway>()? {
            let newest = book.newest_kept(&gateway.name)?;
            let owed = newest.as_ref().is_some_and(|order| order.received.is_none()) && gateway.order_number > 0;
            // What could cut its author off is confirmed by its author, and by nobody else; agents take only the revocations of it.
            if owed || left.contains(&gateway.name) {
                envelopes.extend(book.envelope(&gateway.name, newest.map_or(0, |order| order.number))?);
            }
            if gateway.adopted && !owed && !failed.contains(&gateway.name) {
                targets.push(gateway.name);
            }
        }
        Ok((envelopes, targets))
    })?;
    if envelopes.is_empty() {
        return Ok(Vec::new());
    }
    let answers = session::ask_all(context, &targets, &Forward { envelopes });
    Ok(answers.into_iter().filter(|(_, answer)| answer.is_ok()).map(|(gateway, _)| gateway).collect())
}

struct Carried {
    /// `None` where nothing had to be done.
    installed: Option<Installed>,
    receipt: Receipt,
    confirmed: bool,
    /// Whether another program waits on the host for its hours.
    waits: bool,
    /// Why the newest lists are not published there.
    unpublished: Option<Problem>,
    /// Whether its agent takes amendments.
    amends: bool,
    shut: Vec<Shut>,
}

/// What came of carrying.
enum Came {
    There(Box<Carried>),
    /// Another order is in force there than is amended; what was done for its agent until then.
    NeedsWhole(Option<Installed>),
}

fn carry(work: &Work, estate: &Estate, key: &SealingKey, how: &How) -> Result<Came> {
    let manage = work.manage.as_ref().map_err(Clone::clone)?;
    let manage = &**manage;
    if let Some(old) = &work.host.leftover {
        // Of an agent that was left behind nothing is to go on here.
        if manage.ask_agent(&Status).is_ok_and(|status| status.gateway.as_ref() == Some(&old.gateway)) {
            manage.remove(&estate.id, false)?;
        }
    }
    if how.take_over {
        take_over(manage, &estate.id)?;
    }
    let keep_version = work.gateway.updates.is_some() && !how.upgrade_now;
    let installed = manage.install(&estate.id, keep_version, how.upgrade_now)?;
    let status = manage.ask_agent(&Status)?;
    let same = status.is_another(&work.gateway.name, &work.gateway.public_key, &estate.id).is_none();
    let adopt = || -> Result<Adopt> {
        Ok(Adopt {
            estate: estate.id.clone(),
            estate_key: estate.public_key,
            gateway: work.gateway.name.clone(),
            private_key: key.open(&work.gateway.private_key, &labels::gateway(&work.gateway.name))?,
            recovery_key: estate.recovery_key,
        })
    };
    if !same {
        manage.ask_agent(&adopt()?)?;
    }
    if let Some(private_key) = work.certificate_key.clone() {
        manage.ask_agent(&Certify { private_key })?;
    }
    if work.host.via.ssh().is_some() {
        manage.ask(&Updates { schedule: work.gateway.updates.clone() })?;
    }
    if let Some(notices) = work.notices.as_ref().filter(|notices| same && work.closes && !notices.is_empty()) {
        tell_before(manage, notices, status.newest);
    }
    let overtaken = same && status.order > work.number && status.held.is_none() && !work.again;
    let receipt = match &work.what {
        What::Whole(_) if overtaken => return Ok(Came::NeedsWhole(done(installed))),
        What::Whole(envelope) => manage.ask_agent(&Carry { envelope: (**envelope).clone(), hold: how.hold })?,
        What::Amendment(to, amendment) => {
            let there = status.order_hash == *to || status.order_hash == amendment.hash();
            if !(same && status.amends && status.held.is_none() && there) {
                return Ok(Came::NeedsWhole(done(installed)));
            }
            manage.ask_agent(&Amend { amendment: amendment.clone() })?
        }
    };
    if receipt.hash != work.what.hash() {
        return Err(unexpected(work));
    }
    let waits = installed == Installed::Waits;
    let (receipt, confirmed) = match receipt.held {
        None => (receipt, false),
        Some(until) => {
            let confirmed = confirm(work, manage, &receipt, until)?;
            (Receipt { unkept: confirmed.unkept, ..receipt }, true)
        }
    };
    // Only an agent that obeys the newest key by now takes another recovery key.
    if same && status.recovery_key != estate.recovery_key {
        manage.ask_agent(&adopt()?)?;
    }
    // Nobody who comes in at this gateway depends on what it publishes: where it cannot, the order is in force all the same.
    let unpublished = match work.publications.is_empty() {
        true => None,
        false => manage.ask_agent(&Publish { publications: work.publications.clone() }).err(),
    };
    if let Some(notices) = &work.notices {
        manage.ask_agent(&Tell { notices: notices.clone() })?;
    }
    let (installed, amends) = (done(installed), status.amends);
    // What was opened just now, or never before: that the firewall of somebody else shuts it is known here first.
    let shut = if confirmed || installed.is_some() { shut(work, manage) } else { Vec::new() };
    Ok(Came::There(Carried { installed, receipt, confirmed, waits, unpublished, amends, shut }.into()))
}

/// What the order opens and somebody else's firewall shuts; nothing, where the host cannot be looked at.
fn shut(work: &Work, manage: &dyn Manage) -> Vec<Shut> {
    let Ok(facts) = manage.ask(&Facts) else { return Vec::new() };
    let judged = work.services.iter().filter_map(|service| {
        let (rule, commands) = ports::in_the_way(&facts, *service)?;
        Some(Shut { port: service.to_string(), by: rule, commands })
    });
    judged.collect()
}

/// Tells devices that are in where they come in from now on, before that place is closed to them; those that do not say in time that they have
/// it hear it another way. Should the order not come into force, they find back to where they were.
fn tell_before(manage: &dyn Manage, notices: &[ForDevice], newest: u64) {
    let _ = manage.ask_agent(&Tell { notices: notices.to_vec() });
    let inside = manage.ask_agent(&Sessions).unwrap_or_default();
    let named: BTreeSet<_> = notices.iter().map(|notice| notice.identity).collect();
    let mut waiting: BTreeSet<_> =
        inside.into_iter().map(|live| live.identity).filter(|one| named.contains(one)).collect();
    let (end, mut after) = (Instant::now() + TELLING, newest);
    while !waiting.is_empty() && Instant::now() < end {
        let Ok(page) = manage.ask_agent(&NewsAfter { after }) else { return };
        for item in page.items {
            after = after.max(item.number);
            if let NewsEvent::Noticed { identity, .. } = item.event {
                waiting.remove(&identity);
            }
        }
        if !page.more {
            std::thread::park_timeout(LOOKING);
        }
    }
}

/// Confirms an order that is held. The old connection proves nothing: whether the way in is still open shows only a new one. It is tried
/// again for a while, as long as the order is held.
fn confirm(work: &Work, manage: &dyn Manage, receipt: &Receipt, until: Timestamp) -> Result<Receipt> {
    let end = until.min(Timestamp::now() + CONFIRMING);
    loop {
        manage.afresh();
        let problem = match manage.ask_agent(&Confirm { hash: receipt.hash.clone() }) {
            Ok(confirmed) => return Ok(confirmed),
            Err(problem) => problem,
        };
        let now = Timestamp::now();
        if problem.kind == Kind::Failed && now + RETRY < end {
            std::thread::park_timeout(RETRY);
            continue;
        }
        let what = match now < until {
            true => format!("unconfirmed, the agent goes back to the order before at {}", moment(until)),
            false => format!("unconfirmed, the agent has gone back to the order before at {}", moment(until)),
        };
        return Err(Problem::failed(format!(
            "the order was carried out, and {} cannot be reached over a new connection",
            work.gateway.name
        ))
        .why(format!("{}; {what}", problem.line()))
        .try_("yestrel rollout   again, if it was the connection that failed"));
    }
}

fn changed(installed: Installed) -> bool {
    installed != Installed::Nothing
}

fn done(installed: Installed) -> Option<Installed> {
    changed(installed).then_some(installed)
}

/// Removes an agent that belongs to another estate; one of this estate, or none, is left as it is.
fn take_over(manage: &dyn Manage, estate: &str) -> Result<()> {
    match manage.ask_agent(&Status) {
        Ok(status) if status.estate.as_deref().is_none_or(|other| other == estate) => Ok(()),
        // None answers: perhaps there is none, perhaps it is broken. Removing is right for both.
        _ => manage.remove(estate, true).map(drop),
    }
}

fn unexpected(work: &Work) -> Problem {
    Problem::failed(format!("the agent of {} answers something else than was asked", work.gateway.name))
        .why("it is of another version, or stopped in the middle")
        .try_("yestrel rollout   again")
}
