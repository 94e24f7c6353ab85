//! What a rollout would do: what each gateway is to be now, compared with the order that it has.

use std::collections::{BTreeMap, BTreeSet, HashSet};

use jiff::Timestamp;
use serde::Serialize;
use yestrel_core::Result;
use yestrel_core::admission::{Claim, Proof, Reason, Roll, Shown, Signed, decide};
use yestrel_core::estate::{Credential, Gateway, OrderKept, Revocation};
use yestrel_core::exchange::agent::{Sessions, Status};
use yestrel_core::order::{self, Admit, Amends, Change, Content, Part};
use yestrel_store::Book;

use super::content::{Few, content, content_beside, few, numbers, said};
use crate::authority::lists;
use crate::context::Context;
use crate::credential::notice;
use crate::find;
use crate::gateway::certificate;
use crate::inside::WhoIsIn;
use crate::session;

/// Whether a gateway has not confirmed what the estate wants of it now.
pub(crate) fn is_behind(book: &Book<'_>, gateway: &Gateway) -> Result<bool> {
    let Some(order) = book.newest_kept(&gateway.name)? else { return Ok(true) };
    if order.received.is_none()
        || gateway.trusts.is_some()
        || certificate::due(book, gateway)?.is_some()
        || lists::due_numbers(book, &gateway.name)? != gateway.lists_there
    {
        return Ok(true);
    }
    Ok(match few(book, gateway, &order, None)? {
        Some(few) => few.old != few.new,
        None => said(book, gateway, order.number)?.as_ref() != Some(&content(book, gateway)?),
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
    /// Devices that the gateway lets in and of which this estate knows nothing: they were admitted after the backup from which it was
    /// loaded.
    pub unknown: Vec<String>,
    /// Listeners that do not go on, as the agent knows them.
    #[serde(skip)]
    pub closes: Vec<String>,
}

/// Devices of these admissions of which the estate knows nothing.
pub(crate) fn unknown<'a>(book: &Book<'_>, admitted: impl Iterator<Item = &'a Admit>) -> Result<Vec<String>> {
    let mut unknown = BTreeSet::new();
    for admit in admitted {
        let identity = admit.proof.identity().to_string();
        let known = book.count::<Credential>(&[("identity", identity.as_str().into())])? > 0
            || book.get::<Revocation>(&identity)?.is_some();
        if !known && !matches!(admit.proof, Proof::SharedSecret { .. }) {
            unknown.insert(admit.device.clone());
        }
    }
    Ok(unknown.into_iter().collect())
}

pub(super) fn chosen(book: &Book<'_>, names: &[String]) -> Result<Vec<Gateway>> {
    if names.is_empty() {
        return book.all();
    }
    let mut gateways = Vec::new();
    for name in names {
        gateways.push(book.need::<Gateway>(name)?);
    }
    Ok(gateways)
}

/// What the next order of a gateway is.
pub(super) enum Next {
    /// The newest that there is.
    Newest,
    /// An amendment to it.
    Amended(Amends),
    Whole(Box<Content>),
}

/// A plan, and what it takes to carry it out.
pub(super) struct Planned {
    pub plan: Plan,
    pub next: Next,
    /// The number of each list that the gateway should publish.
    pub numbers: BTreeMap<String, u64>,
    pub settles: Settles,
}

/// Of whom an order says what is so, once it is made as planned.
pub(super) enum Settles {
    Everybody,
    These(BTreeSet<String>),
    Nobody,
}

/// What a rollout would do at one gateway; `only`: of what waits there, that part alone.
pub(super) fn plan_one(book: &Book<'_>, gateway: &Gateway, only: Option<&Part>) -> Result<Planned> {
    let newest = book.newest_kept(&gateway.name)?;
    let only = only.zip(newest.as_ref());
    let few = match &newest {
        Some(newest) => few(book, gateway, newest, only.map(|(only, _)| only))?,
        None => None,
    };
    let is_few = few.is_some();
    let settles = match (&few, only) {
        (_, None) => Settles::Everybody,
        (Some(few), _) if few.people_alone => Settles::These(few.devices.clone()),
        _ => Settles::Nobody,
    };
    // What the newest order says, what the next is to say, and what the agent has confirmed.
    let (base, new, confirmed) = match few {
        Some(Few { old, new, .. }) => (Some(old), new, None),
        None => {
            let base = newest.as_ref().map(|newest| said(book, gateway, newest.number)).transpose()?.flatten();
            let also = base.as_ref().filter(|_| only.is_some()).and_then(|base| base.policies.as_ref());
            let new = content_beside(book, gateway, also.map_or(&[], |policies| &policies.list))?;
            let new = match (only, &base) {
                (Some((only, _)), Some(base)) => order::limited(base, &new, only),
                _ => new,
            };
            let is_newest = newest.as_ref().is_some_and(|newest| newest.number == gateway.order_number);
            let confirmed =
                if is_newest || gateway.order_number == 0 { None } else { said(book, gateway, gateway.order_number)? };
            (base, new, confirmed)
        }
    };
    let due = if only.is_none() { certificate::due(book, gateway)? } else { None };
    // An order that tells of the estate's new key is needed even where nothing else has changed.
    let new_key = gateway.trusts.is_some();
    let signer = find::this_estate(book)?.public_key;
    let signed_anew = |newest: &OrderKept| -> Result<bool> {
        Ok(new_key && book.envelope(&gateway.name, newest.number)?.is_none_or(|one| one.verify(&signer).is_err()))
    };
    let same = base.as_ref() == Some(&new);
    let stays = match &newest {
        Some(newest) => same && due.is_none() && !signed_anew(newest)?,
        None => false,
    };
    let to = newest.as_ref().map_or(0, |newest| newest.number) + u64::from(!stays);
    let numbers = numbers(book, gateway, &new)?;
    let old =
        if newest.as_ref().is_some_and(|newest| newest.number == gateway.order_number) { &base } else { &confirmed };
    let nothing_to_do = old.as_ref() == Some(&new) && to == gateway.order_number && numbers == gateway.lists_there;
    let mut changes = order::difference(old.as_ref(), &new);
    if let Some((_, why)) = due {
        let names: Vec<_> = gateway.names().iter().map(ToString::to_string).collect();
        changes.push(Change { verb: "certify", words: format!("{}  ({why})", names.join(", ")) });
    }
    if let Some(words) = certificate::remark(book, gateway)?.filter(|_| only.is_none()) {
        changes.push(Change { verb: "note", words });
    }
    let told = if only.is_none() { notice::due(book, &gateway.name)? } else { 0 };
    if told > 0 {
        let noun = if told == 1 { "device" } else { "devices" };
        changes.push(Change { verb: "tell", words: format!("{told} {noun} what is new, by way notice") });
    }
    let nothing_to_do = nothing_to_do && told == 0;
    if new_key {
        changes.push(Change { verb: "gateway", words: "the estate's new signing key".into() });
    }
    for (name, number) in numbers.iter().filter(|(name, number)| gateway.lists_there.get(*name) != Some(*number)) {
        let before = gateway.lists_there.get(name).map_or_else(|| "none".to_owned(), ToString::to_string);
        changes.push(Change { verb: "list", words: format!("of {name} {before} -> {number}") });
    }
    let unknown = if only.is_none() {
        let stay: HashSet<_> = new.admit.iter().map(|admit| admit.proof.identity()).collect();
        let gone = old.iter().flat_map(|old| &old.admit).filter(|admit| !stay.contains(&admit.proof.identity()));
        unknown(book, gone)?
    } else {
        Vec::new()
    };
    let closes = old.as_ref().map(|old| order::closed(old, &new).into_iter().map(str::to_owned).collect());
    let plan = Plan {
        gateway: gateway.name.clone(),
        from: gateway.order_number,
        to,
        changes,
        nothing_to_do,
        unknown,
        closes: closes.unwrap_or_default(),
    };
    let may_amend = gateway.amends && !new_key && newest.as_ref().is_some_and(OrderKept::may_be_amended);
    let amends = match &base {
        Some(base) if !stays && (may_amend || is_few) => order::amendable(base, &new),
        _ => None,
    };
    let next = match (stays, amends) {
        (true, _) => Next::Newest,
        (false, Some(amends)) if may_amend => Next::Amended(amends),
        // Of these few alone no whole order can be made.
        (false, _) if is_few => {
            let limited = match (said(book, gateway, to - 1)?, only) {
                (Some(base), Some((only, _))) => {
                    let also = base.policies.as_ref().map_or(&[][..], |policies| &policies.list);
                    Some(order::limited(&base, &content_beside(book, gateway, also)?, only))
                }
                _ => None,
            };
            Next::Whole(limited.map_or_else(|| content(book, gateway), Ok)?.into())
        }
        (false, _) => Next::Whole(new.into()),
    };
    Ok(Planned { plan, next, numbers, settles })
}

/// What a rollout would do, as far as the estate knows; changes nothing and asks nobody.
///
/// # Errors
/// There is no such gateway.
pub fn remembered(context: &mut Context, names: &[String], only: Option<&Part>) -> Result<Vec<Plan>> {
    context.read(|book| chosen(book, names)?.iter().map(|gateway| Ok(plan_one(book, gateway, only)?.plan)).collect())
}

/// What a rollout would do; changes nothing. Gateways of which the estate thinks that nothing is to be done are asked, and those at which it
/// would end sessions.
///
/// # Errors
/// There is no such gateway.
pub fn preview(context: &mut Context, names: &[String]) -> Result<Vec<Plan>> {
    let mut plans = remembered(context, names, None)?;
    let quiet: Vec<_> = plans.iter().filter(|plan| plan.nothing_to_do).map(|plan| plan.gateway.clone()).collect();
    for (gateway, words) in differences(context, &quiet)? {
        for plan in plans.iter_mut().filter(|plan| plan.gateway == gateway) {
            plan.nothing_to_do = false;
            plan.changes.push(Change { verb: "host", words: words.clone() });
        }
    }
    for plan in plans.iter_mut().filter(|plan| !plan.closes.is_empty()) {
        // By the connection that carries the order after it, where it is to be carried.
        let asked = session::ask_all(context, std::slice::from_ref(&plan.gateway), &Sessions);
        let said = asked.into_iter().map(|(gateway, answer)| (gateway, answer.ok()));
        let who = WhoIsIn::of(said, |live| plan.closes.contains(&live.listener));
        plan.changes.extend(who.ending().map(|words| Change { verb: "end", words }));
    }
    for plan in plans.iter_mut().filter(|plan| plan.from > 0 && plan.changes.iter().any(is_of_policies)) {
        plan.changes.extend(thrown_out(context, &plan.gateway)?);
    }
    Ok(plans)
}

/// Whether it changes by what policies somebody is admitted.
fn is_of_policies(change: &Change) -> bool {
    change.verb == "policy" || (change.verb == "change" && change.words.ends_with("which policies ask about"))
}

/// Whom a gateway would throw out that has its newest order, of those who are in now: decided as it decides.
fn thrown_out(context: &mut Context, gateway: &str) -> Result<Vec<Change>> {
    let roll = context.read(|book| {
        let gateway: Gateway = book.need(gateway)?;
        // Of whom nothing changes nothing is asked: those are not in what is about some alone.
        let some = match book.newest_kept(&gateway.name)? {
            Some(newest) => few(book, &gateway, &newest, None)?.filter(|few| few.people_alone),
            None => None,
        };
        Ok(Roll::new(some.map_or_else(|| content(book, &gateway), |some| Ok(some.new))?))
    })?;
    let now = Timestamp::now();
    let mut changes = Vec::new();
    for (_, answer) in session::ask_all(context, &[gateway.to_owned()], &Sessions) {
        let Ok(sessions) = answer else {
            let words = "whoever policies admit no more: the gateway does not say who is in".into();
            changes.push(Change { verb: "end", words });
            continue;
        };
        for live in sessions {
            let from = live.from.parse::<std::net::SocketAddr>().ok().map(|from| from.ip());
            let (shown, since) = (Shown::Session(live.identity), Some(live.opened));
            let signed = Signed { realm: live.realm.as_deref(), first: live.first, second_factor: false };
            let claim = Claim { listener: &live.listener, shown, from, since, signed };
            let none = BTreeMap::new();
            let mut decided = decide(&claim, &roll, &none, now);
            if live.answered && decided.as_ref().is_ok_and(|admission| admission.terms.second_factor) {
                let answered = Claim { signed: Signed { second_factor: true, ..signed }, ..claim };
                decided = decide(&answered, &roll, &none, now);
            }
            if let Err(refusal) = decided
                && refusal.reason == Reason::Policy
            {
                changes.push(Change { verb: "end", words: format!("{}  ({})", live.device, refusal.words) });
            }
        }
    }
    Ok(changes)
}

/// What putting this program in the place of each gateway's agent would be: its version now, and the one that it would have.
///
/// # Errors
/// There is no such gateway.
pub fn upgrades(context: &mut Context, names: &[String]) -> Result<Vec<(String, String)>> {
    let names: Vec<_> = context.read(|book| Ok(chosen(book, names)?.into_iter().map(|one| one.name).collect()))?;
    let answers = session::ask_all(context, &names, &Status);
    Ok(answers
        .into_iter()
        .map(|(name, answer)| {
            let now = match answer {
                Ok(status) => format!("version {}", status.version),
                Err(problem) => problem.line(),
            };
            (
                name,
                format!(
                    "{now} -> version {}, which is started anew: sessions come again by themselves",
                    yestrel_core::VERSION
                ),
            )
        })
        .collect())
}

/// Gateways whose host is not as their newest order says, with how it differs: they are asked, all at once.
///
/// # Errors
/// There is no such gateway.
pub(super) fn differences(context: &mut Context, names: &[String]) -> Result<Vec<(String, String)>> {
    let mut differ = Vec::new();
    for (name, answer) in session::ask_all(context, names, &Status) {
        let words = match answer {
            Ok(status) => context.read(|book| {
                let hash = book.newest_kept(&name)?.map(|order| order.hash).unwrap_or_default();
                let key = book.need::<Gateway>(&name)?.public_key;
                Ok(status.differs(&name, &key, &find::this_estate(book)?.id, &hash))
            })?,
            Err(problem) => Some(problem.line()),
        };
        differ.extend(words.map(|words| (name, words)));
    }
    Ok(differ)
}
