//! Bringing gateways to their newest order.

use serde::Serialize;
use yestrel_core::control::{Answer, Ask, Receipt};
use yestrel_core::nouns::{Credential, Gateway, Host, Listener, Revocation, Site, StoredOrder, User};
use yestrel_core::order::{self, Change, Content, Envelope};
use yestrel_core::{Problem, Result};
use yestrel_store::Book;

use crate::{Context, estate, gateway};

/// What a gateway is to be now, as the estate stands.
fn content(book: &Book<'_>, gateway: &Gateway) -> Result<Content> {
    let site: Site = book.need(&gateway.site)?;
    let prefix = format!("{}/", gateway.name);
    let credentials: Vec<Credential> = book
        .find::<Credential>(&[("revoked", serde_json::Value::Null)])?
        .into_iter()
        .filter(|credential| credential.ways.iter().any(|way| way.listener.starts_with(&prefix)))
        .collect();
    Ok(order::content(&order::View {
        gateway,
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
        Some(order) => order.received.is_none() || order.envelope.read()?.content != content(book, gateway)?,
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
    let to = match &newest {
        None => 1,
        Some(order) if order.envelope.read()?.content == new => order.number,
        Some(order) => order.number + 1,
    };
    let nothing_to_do = old.as_ref() == Some(&new) && to == gateway.order_number;
    let changes = order::difference(old.as_ref(), &new);
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
    pub installed: bool,
    /// Sessions that ended with it.
    pub ended: u64,
    pub problem: Option<Problem>,
}

struct Work {
    gateway: Gateway,
    host: Host,
    envelope: Envelope,
    number: u64,
}

/// Brings gateways to their newest order: only those that are behind, unless `again`. A gateway that cannot be reached does
/// not hold up the others.
///
/// # Errors
/// There is no such gateway, or the estate cannot be written. What fails at a gateway stands in its outcome.
pub fn rollout(context: &mut Context, names: &[String], again: bool) -> Result<Vec<Outcome>> {
    let key = context.key()?;
    let now = context.now;
    let (estate, plans, work) = context.write(|book| {
        let estate = estate::this(book)?;
        let mut plans = Vec::new();
        let mut work = Vec::new();
        for gateway in wanted(book, names)? {
            let (plan, content) = plan_one(book, &gateway)?;
            if !plan.nothing_to_do || again {
                let name = format!("{} {}", gateway.name, plan.to);
                let stored = match book.get::<StoredOrder>(&name)? {
                    Some(stored) => stored,
                    None => {
                        let previous = newest(book, &gateway.name)?.map(|order| order.hash).unwrap_or_default();
                        let signing = key.open(&estate.private_key, estate::SIGNING)?;
                        let envelope = order::sign(&estate.id, plan.to, &previous, now, content, &signing)?;
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
                let host = book.need(&gateway.host)?;
                work.push(Work { gateway, host, envelope: stored.envelope, number: plan.to });
            }
            plans.push(plan);
        }
        Ok((estate, plans, work))
    })?;
    let carried: Vec<_> = std::thread::scope(|scope| {
        let (key, estate) = (&key, &estate);
        let threads: Vec<_> = work.iter().map(|work| scope.spawn(move || carry(work, estate, key))).collect();
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
            installed: false,
            ended: 0,
            problem: None,
        })
        .collect();
    for (work, carried) in work.iter().zip(carried) {
        let Some(outcome) = outcomes.iter_mut().find(|outcome| outcome.gateway == work.gateway.name) else { continue };
        match carried {
            Ok((installed, receipt)) => {
                outcome.state = "done".into();
                outcome.installed = installed;
                outcome.ended = receipt.ended;
                context.write(|book| {
                    let mut gateway: Gateway = book.need(&work.gateway.name)?;
                    gateway.adopted = true;
                    gateway.order_number = gateway.order_number.max(work.number);
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

fn carry(
    work: &Work,
    estate: &yestrel_core::nouns::Estate,
    key: &yestrel_store::SealingKey,
) -> Result<(bool, Receipt)> {
    let place = yestrel_places::open(&work.host.name, &work.host.via)?;
    let installed = place.install()?;
    let Answer::Status(status) = place.ask(&Ask::Status)? else { return Err(unexpected(work)) };
    let same = status.estate.as_ref() == Some(&estate.id) && status.gateway.as_ref() == Some(&work.gateway.name);
    if !same {
        let private_key = key.open(&work.gateway.private_key, &gateway::place(&work.gateway.name))?;
        place.ask(&Ask::Adopt {
            estate: estate.id.clone(),
            estate_key: estate.public_key,
            gateway: work.gateway.name.clone(),
            private_key,
        })?;
    }
    match place.ask(&Ask::Carry { envelope: work.envelope.clone() })? {
        Answer::Carried(receipt) if receipt.hash == work.envelope.hash() => Ok((installed, receipt)),
        _ => Err(unexpected(work)),
    }
}

fn unexpected(work: &Work) -> Problem {
    Problem::failed(format!("the agent of {} answers something else than was asked", work.gateway.name))
        .why("it is of another version, or stopped in the middle")
        .try_("yestrel rollout   again")
}
