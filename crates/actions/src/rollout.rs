//! Bringing gateways to their newest order.

use std::collections::BTreeMap;
use std::sync::Arc;

use jiff::Timestamp;
use serde::Serialize;
use yestrel_core::control::{Answer, Ask, Installed, Manage, Publication, Receipt};
use yestrel_core::keys::Secret;
use yestrel_core::nouns::{Credential, Gateway, Host, Listener, Revocation, Site, StoredOrder, User};
use yestrel_core::order::{self, Change, Content, Envelope};
use yestrel_core::{Problem, Result, moment};
use yestrel_places::Place;
use yestrel_store::Book;

use crate::{Context, certify, estate, gateway, keys, lists};

/// What a gateway is to be now, as the estate stands.
fn content(book: &Book<'_>, gateway: &Gateway) -> Result<Content> {
    let site: Site = book.need(&gateway.site)?;
    let prefix = format!("{}/", gateway.name);
    let credentials: Vec<Credential> = book
        .find::<Credential>(&[("revoked", serde_json::Value::Null)])?
        .into_iter()
        .filter(|credential| {
            credential.ways.iter().any(|way| way.listener.starts_with(&prefix))
                || credential.gateways.contains(&gateway.name)
        })
        .collect();
    let published: Vec<_> = lists::published_at(book, &gateway.name)?
        .into_iter()
        .map(|authority| (authority.name, authority.certificate))
        .collect();
    Ok(order::content(&order::View {
        gateway,
        published: &published,
        site: &site,
        listeners: &book.find::<Listener>(&[("gateway", gateway.name.as_str().into())])?,
        credentials: &credentials,
        users: &book.all::<User>()?,
        revocations: &book.all::<Revocation>()?,
    }))
}

/// The newest order that was made for a gateway.
pub(crate) fn newest(book: &Book<'_>, gateway: &str) -> Result<Option<StoredOrder>> {
    Ok(book.find::<StoredOrder>(&[("gateway", gateway.into())])?.into_iter().max_by_key(|order| order.number))
}

/// Whether a gateway has not confirmed what the estate wants of it now.
pub(crate) fn is_behind(book: &Book<'_>, gateway: &Gateway) -> Result<bool> {
    Ok(match newest(book, &gateway.name)? {
        None => true,
        Some(order) => {
            order.received.is_none()
                || order.envelope.read()?.content != content(book, gateway)?
                || gateway.trusts.is_some()
                || certify::wanted(book, gateway)?.is_some()
                || lists::wanted_numbers(book, &gateway.name)? != gateway.lists_known
        }
    })
}

/// What a rollout would do at one gateway.
#[derive(Debug, Serialize)]
pub struct Plan {
    pub gateway: String,
    /// The order that its agent has confirmed; 0 for none.
    pub from: u64,
    pub to: u64,
    pub changes: Vec<Change>,
    pub nothing_to_do: bool,
}

fn wanted(book: &Book<'_>, names: &[String]) -> Result<Vec<Gateway>> {
    if names.is_empty() {
        return book.all();
    }
    let mut gateways = Vec::new();
    for name in names {
        gateways.push(book.need::<Gateway>(name)?);
    }
    Ok(gateways)
}

fn plan_one(book: &Book<'_>, gateway: &Gateway) -> Result<(Plan, Content)> {
    let new = content(book, gateway)?;
    let newest = newest(book, &gateway.name)?;
    let confirmed = book.get::<StoredOrder>(&format!("{} {}", gateway.name, gateway.order_number))?;
    let old = confirmed.map(|order| order.envelope.read()).transpose()?.map(|order| order.content);
    let certificate = certify::wanted(book, gateway)?;
    // An order that tells of the estate's new key is needed even where nothing else has changed.
    let new_key = gateway.trusts.is_some();
    let signer = estate::this(book)?.public_key;
    let to = match &newest {
        None => 1,
        Some(order) if certificate.is_some() => order.number + 1,
        Some(order) if new_key && order.envelope.verify(&signer).is_err() => order.number + 1,
        Some(order) if order.envelope.read()?.content == new => order.number,
        Some(order) => order.number + 1,
    };
    let numbers = lists::wanted_numbers(book, &gateway.name)?;
    let nothing_to_do = old.as_ref() == Some(&new) && to == gateway.order_number && numbers == gateway.lists_known;
    let mut changes = order::difference(old.as_ref(), &new);
    if let Some((_, why)) = certificate {
        let names: Vec<_> = gateway.names().iter().map(ToString::to_string).collect();
        changes.push(Change { verb: "certify", words: format!("{}  ({why})", names.join(", ")) });
    }
    if let Some(words) = certify::remark(book, gateway)? {
        changes.push(Change { verb: "note", words });
    }
    if new_key {
        changes.push(Change { verb: "gateway", words: "the estate's new signing key".into() });
    }
    for (name, number) in numbers.iter().filter(|(name, number)| gateway.lists_known.get(*name) != Some(*number)) {
        let before = gateway.lists_known.get(name).map_or_else(|| "none".to_owned(), ToString::to_string);
        changes.push(Change { verb: "list", words: format!("of {name} {before} -> {number}") });
    }
    Ok((Plan { gateway: gateway.name.clone(), from: gateway.order_number, to, changes, nothing_to_do }, new))
}

/// What a rollout would do; changes nothing.
///
/// # Errors
/// There is no such gateway.
pub fn preview(context: &mut Context, names: &[String]) -> Result<Vec<Plan>> {
    context.read(|book| wanted(book, names)?.iter().map(|gateway| Ok(plan_one(book, gateway)?.0)).collect())
}

/// What became of one gateway.
#[derive(Debug, Serialize)]
pub struct Outcome {
    pub gateway: String,
    pub order: u64,
    /// `done`, `nothing to do`, or `failed`.
    pub state: String,
    pub installed: Option<Installed>,
    /// Whether a change of firewall or addresses was held, and confirmed over a new connection.
    pub confirmed: bool,
    /// When the agent's program will be upgraded, where that waits for its hours.
    pub upgrade_at: Option<Timestamp>,
    /// Sessions that ended with it.
    pub ended: u64,
    pub problem: Option<Problem>,
}

/// How a rollout is done.
#[derive(Debug, Clone, Copy)]
pub struct How {
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
        Self { again: false, hold: HOLD, take_over: false, upgrade_now: false }
    }
}

/// How long a change that could cut its author off waits for its confirmation, in seconds.
pub const HOLD: u16 = 60;

struct Work {
    gateway: Gateway,
    host: Host,
    place: Arc<dyn Place>,
    envelope: Envelope,
    number: u64,
    /// The key of the certificate that the order names.
    certificate_key: Option<Secret>,
    publications: Vec<Publication>,
    numbers: BTreeMap<String, u64>,
}

/// Brings gateways to their newest order: only those that are behind, unless `again`. A gateway that cannot be reached does
/// not hold up the others.
///
/// # Errors
/// There is no such gateway, or the estate cannot be written. What fails at a gateway stands in its outcome.
pub fn rollout(context: &mut Context, names: &[String], how: How) -> Result<Vec<Outcome>> {
    let keys = context.keys()?;
    let key = &keys.sealing;
    let now = context.now;
    let (estate, plans, stored) = context.write(|book| {
        let estate = estate::this(book)?;
        let mut plans = Vec::new();
        let mut work = Vec::new();
        lists::sign_due(book, &keys, now)?;
        for mut gateway in wanted(book, names)? {
            certify::ensure(book, &keys, &mut gateway)?;
            let (plan, content) = plan_one(book, &gateway)?;
            if !plan.nothing_to_do || how.again {
                let name = format!("{} {}", gateway.name, plan.to);
                let stored = match book.get::<StoredOrder>(&name)? {
                    Some(stored) => stored,
                    None => {
                        let previous = newest(book, &gateway.name)?.map(|order| order.hash).unwrap_or_default();
                        let signing = key.open(&estate.private_key, estate::SIGNING)?;
                        let mut envelope = order::sign(&estate.id, plan.to, &previous, now, content, &signing)?;
                        if let Some(trusted) = gateway.trusts.filter(|_| gateway.adopted) {
                            let before = keys::previous(key, &estate, &trusted)?;
                            envelope = order::sign_over(&envelope, &before, &signing)?;
                        }
                        let hash = envelope.hash();
                        let stored = StoredOrder {
                            name,
                            gateway: gateway.name.clone(),
                            number: plan.to,
                            envelope,
                            hash,
                            made: now,
                            received: None,
                        };
                        book.put(&stored)?;
                        book.note("rollout", &gateway.name, &format!("order {}", plan.to))?;
                        stored
                    }
                };
                let host: Host = book.need(&gateway.host)?;
                let certificate_key = certify::key_of(&keys, &gateway)?;
                let publications = lists::publications(book, &keys, &gateway.name)?;
                let numbers = lists::wanted_numbers(book, &gateway.name)?;
                work.push((gateway, host, stored.envelope, plan.to, certificate_key, publications, numbers));
            }
            plans.push(plan);
        }
        Ok((estate, plans, work))
    })?;
    let mut work = Vec::new();
    for (gateway, host, envelope, number, certificate_key, publications, numbers) in stored {
        let place = context.place(&host)?;
        work.push(Work { gateway, host, place, envelope, number, certificate_key, publications, numbers });
    }
    let carried: Vec<_> = std::thread::scope(|scope| {
        let estate = &estate;
        let threads: Vec<_> = work.iter().map(|work| scope.spawn(move || carry(work, estate, key, how))).collect();
        threads
            .into_iter()
            .map(|thread| thread.join().unwrap_or_else(|_| Err(Problem::failed("carrying an order broke off"))))
            .collect()
    });
    let mut outcomes: Vec<Outcome> = plans
        .into_iter()
        .map(|plan| Outcome {
            gateway: plan.gateway,
            order: plan.to,
            state: "nothing to do".into(),
            installed: None,
            confirmed: false,
            upgrade_at: None,
            ended: 0,
            problem: None,
        })
        .collect();
    for (work, carried) in work.iter().zip(carried) {
        let Some(outcome) = outcomes.iter_mut().find(|outcome| outcome.gateway == work.gateway.name) else { continue };
        match carried {
            Ok(Carried { installed, receipt, confirmed, waits, published }) => {
                outcome.state = "done".into();
                outcome.installed = installed;
                outcome.confirmed = confirmed;
                outcome.ended = receipt.ended;
                outcome.upgrade_at =
                    work.gateway.updates.as_ref().filter(|_| waits).and_then(|schedule| schedule.next(now));
                context.write(|book| {
                    let mut gateway: Gateway = book.need(&work.gateway.name)?;
                    gateway.adopted = true;
                    gateway.order_number = gateway.order_number.max(work.number);
                    // Whoever took an order that holds by the newest key obeys that key.
                    if work.envelope.verify(&estate.public_key).is_ok() {
                        gateway.trusts = None;
                    }
                    if published {
                        gateway.lists_known.clone_from(&work.numbers);
                    }
                    book.put(&gateway)?;
                    let mut stored: StoredOrder = book.need(&format!("{} {}", work.gateway.name, work.number))?;
                    stored.received = Some(receipt.at);
                    book.put(&stored)
                })?;
            }
            Err(problem) => {
                outcome.state = "failed".into();
                outcome.problem = Some(problem);
            }
        }
    }
    Ok(outcomes)
}

struct Carried {
    /// `None` where nothing had to be done.
    installed: Option<Installed>,
    receipt: Receipt,
    confirmed: bool,
    /// Whether another program waits on the host for its hours.
    waits: bool,
    /// Whether the lists arrived.
    published: bool,
}

fn carry(
    work: &Work,
    estate: &yestrel_core::nouns::Estate,
    key: &yestrel_store::SealingKey,
    how: How,
) -> Result<Carried> {
    let place = &work.place;
    if how.take_over {
        take_over(&**place, &estate.id)?;
    }
    let keep_version = work.gateway.updates.is_some() && !how.upgrade_now;
    let installed = place.install(&estate.id, keep_version)?;
    let Answer::Status(status) = place.ask(&Ask::Status)? else { return Err(unexpected(work)) };
    let same = status.estate.as_ref() == Some(&estate.id) && status.gateway.as_ref() == Some(&work.gateway.name);
    let adopt = || -> Result<Ask> {
        Ok(Ask::Adopt {
            estate: estate.id.clone(),
            estate_key: estate.public_key,
            gateway: work.gateway.name.clone(),
            private_key: key.open(&work.gateway.private_key, &gateway::place(&work.gateway.name))?,
            recovery_key: estate.recovery_key,
        })
    };
    if !same {
        place.ask(&adopt()?)?;
    }
    // A program from before certificates waits for its hours: it cannot be given any yet.
    let knows = installed != Installed::Waits;
    if let Some(private_key) = work.certificate_key.clone().filter(|_| knows) {
        place.ask(&Ask::Certify { private_key })?;
    }
    if work.host.via.starts_with("ssh://") {
        place.manage(&Manage::Updates { schedule: work.gateway.updates.clone() })?;
    }
    let receipt = match place.ask(&Ask::Carry { envelope: work.envelope.clone(), hold: how.hold })? {
        Answer::Carried(receipt) if receipt.hash == work.envelope.hash() => receipt,
        _ => return Err(unexpected(work)),
    };
    let published = knows;
    let publish = || match work.publications.is_empty() || !knows {
        true => Ok(()),
        false => place.ask(&Ask::Publish { publications: work.publications.clone() }).map(drop),
    };
    let waits = !knows;
    // Only an agent that obeys the newest key by now takes another recovery key.
    let learn = || match same && knows && status.recovery_key != estate.recovery_key {
        true => place.ask(&adopt()?).map(drop),
        false => Ok(()),
    };
    let Some(until) = receipt.held else {
        learn()?;
        publish()?;
        return Ok(Carried { installed: done(installed), receipt, confirmed: false, waits, published });
    };
    // The old connection proves nothing: whether the way in is still open shows only a new one.
    place.afresh();
    match place.ask(&Ask::Confirm { hash: receipt.hash.clone() }) {
        Ok(Answer::Carried(_)) => {
            learn()?;
            publish()?;
            Ok(Carried { installed: done(installed), receipt, confirmed: true, waits, published })
        }
        Ok(_) => Err(unexpected(work)),
        Err(problem) => Err(Problem::failed(format!(
            "the order was carried out, and {} cannot be reached over a new connection",
            work.gateway.name
        ))
        .why(format!(
            "{}{}; unconfirmed, the agent goes back to the order before at {}",
            problem.error,
            problem.why.map(|why| format!(": {why}")).unwrap_or_default(),
            moment(until)
        ))
        .try_("yestrel rollout   again within that time, if it was the connection that failed")),
    }
}

fn changed(installed: Installed) -> bool {
    installed != Installed::Nothing
}

fn done(installed: Installed) -> Option<Installed> {
    changed(installed).then_some(installed)
}

/// Removes an agent that belongs to another estate; one of this estate, or none, is left as it is.
fn take_over(place: &dyn Place, estate: &str) -> Result<()> {
    match place.ask(&Ask::Status) {
        Ok(Answer::Status(status)) if status.estate.as_deref().is_none_or(|other| other == estate) => Ok(()),
        Ok(Answer::Status(_)) => place.remove(estate, true).map(drop),
        // None answers: perhaps there is none, perhaps it is broken. Removing is right for both.
        _ => place.remove(estate, true).map(drop),
    }
}

fn unexpected(work: &Work) -> Problem {
    Problem::failed(format!("the agent of {} answers something else than was asked", work.gateway.name))
        .why("it is of another version, or stopped in the middle")
        .try_("yestrel rollout   again")
}
