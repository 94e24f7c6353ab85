//! Who is connected, who was, and what agents saw while nobody asked.

use std::collections::BTreeMap;
use std::sync::Arc;

use jiff::Timestamp;
use serde::Serialize;
use yestrel_core::estate::{Credential, Device, Gateway, Session};
use yestrel_core::exchange::agent::{Ask, Close, EndSessions, Live, NewsAfter, NewsPage, Sessions as WhoIsIn, Status};
use yestrel_core::exchange::{News, NewsEvent, Question};
use yestrel_core::keys::PublicKey;
use yestrel_core::{Problem, Result};
use yestrel_places::Manage;
use yestrel_store::records::Address;
use yestrel_store::{Book, Query};

use crate::context::Context;
use crate::credential::end;
use crate::find;

/// The way to manage the host of a gateway.
pub(crate) fn manage(context: &mut Context, gateway: &str) -> Result<Arc<dyn Manage>> {
    let (_, host) = context.read(|book| find::gateway_and_host(book, gateway))?;
    context.manage(&host)
}

/// Brings what a gateway's agent has seen into the estate, page by page; each page is kept before the next is asked for.
///
/// # Errors
/// The agent cannot be reached, or the estate not written.
pub fn collect(context: &mut Context, gateway: &str) -> Result<usize> {
    let manage = manage(context, gateway)?;
    let mut collected = 0;
    loop {
        let after = context.read(|book| Ok(book.need::<Gateway>(gateway)?.news_seen))?;
        let NewsPage { items, more } = manage.ask_agent(&NewsAfter { after })?;
        collected += items.len();
        context.write(|book| {
            let mut seen = after;
            for item in &items {
                lost(book, gateway, seen, item)?;
                record(book, gateway, item)?;
                seen = seen.max(item.number);
            }
            let mut record: Gateway = book.need(gateway)?;
            record.news_seen = seen;
            record.renewed = Some(book.now);
            book.put(&record)?;
            forget_old(book, gateway)
        })?;
        if !more {
            return Ok(collected);
        }
    }
}

/// Ends the sessions of an agent that is about to be retired, and brings all that it has seen after the news `after` into the
/// estate.
///
/// # Errors
/// The agent cannot be reached, or the estate not written.
pub(crate) fn collect_to_the_end(
    context: &mut Context,
    gateway: &str,
    manage: &dyn Manage,
    mut after: u64,
) -> Result<()> {
    manage.ask_agent(&Close)?;
    loop {
        let NewsPage { items, more } = manage.ask_agent(&NewsAfter { after })?;
        context.write(|book| {
            items.iter().try_for_each(|item| {
                lost(book, gateway, after, item)?;
                after = item.number;
                record(book, gateway, item)
            })
        })?;
        if !more {
            return Ok(());
        }
    }
}

/// Of what happened at a gateway longer ago than is kept, so much is forgotten each time.
const FORGOTTEN: usize = 500;

/// What happened at a gateway longer ago than the estate keeps it is forgotten, some at a time.
fn forget_old(book: &Book<'_>, gateway: &str) -> Result<()> {
    let days = i64::from(find::this_estate(book)?.keep_sessions);
    let until = (book.now - jiff::SignedDuration::from_hours(24 * days)).to_string();
    let of_it = [("gateway", gateway.into())];
    let query = Query { filters: &of_it, at_most: Some(("ended", &until)), limit: Some(FORGOTTEN), ..Query::default() };
    for name in book.names::<Session>(&query)? {
        book.remove::<Session>(&name)?;
    }
    Ok(())
}

/// A line in the place of what an agent had to drop before it was collected: the numbers show how much.
fn lost(book: &Book<'_>, gateway: &str, seen: u64, next: &News) -> Result<()> {
    let count = next.number.saturating_sub(seen + 1);
    if count == 0 {
        return Ok(());
    }
    book.put(&Session {
        name: format!("{gateway} lost {} {}", next.at.as_millisecond(), next.number),
        gateway: gateway.into(),
        number: next.number,
        device: "-".into(),
        from_address: "-".into(),
        inner: std::net::Ipv4Addr::UNSPECIFIED,
        opened: next.at,
        ended: Some(next.at),
        reason: Some(match count {
            1 => "a line of news before this is lost: there was no room for it".into(),
            _ => format!("{count} lines of news before this are lost: there was no room for them"),
        }),
        received: 0,
        sent: 0,
        last_heard: None,
        policy: None,
        method: None,
        asked: None,
        realm: None,
    })
}

/// Brings one thing that an agent saw into the estate.
fn record(book: &Book<'_>, gateway: &str, item: &News) -> Result<()> {
    match &item.event {
        NewsEvent::Opened {
            session,
            device,
            identity,
            listener,
            from,
            inner,
            leased,
            notice,
            policy,
            method,
            asked,
            realm,
        } => {
            book.put(&Session {
                name: format!("{gateway} {session}"),
                gateway: gateway.into(),
                number: *session,
                device: device.clone(),
                from_address: from.clone(),
                inner: *inner,
                opened: item.at,
                ended: None,
                reason: None,
                received: 0,
                sent: 0,
                last_heard: None,
                policy: policy.clone(),
                method: method.clone(),
                asked: *asked,
                realm: realm.clone(),
            })?;
            if let Some(mut credential) = book.find::<Credential>(&[("identity", identity.to_string().into())])?.pop() {
                credential.first_used = credential.first_used.or(Some(item.at));
                credential.last_used = credential.last_used.max(Some(item.at));
                credential.has_taken(*notice, item.at);
                book.put(&credential)?;
                if *leased {
                    lease(book, listener, *inner, &credential.name)?;
                }
            }
        }
        NewsEvent::Passed { gateway: other, order } => {
            // Another gateway brought it there: nobody has to try any more.
            if let Some(stored) = book.order_kept(other, *order)? {
                book.order_received(other, *order, stored.received.unwrap_or(item.at))?;
                let mut record: Gateway = book.need(&other.clone())?;
                record.order_number = record.order_number.max(*order);
                book.put(&record)?;
                book.note("gateway passed", other, &format!("order {order}, by {gateway}"))?;
            }
        }
        NewsEvent::Noticed { identity, notice } => {
            if let Some(mut credential) = book.find::<Credential>(&[("identity", identity.to_string().into())])?.pop()
                && credential.has_taken(*notice, item.at)
            {
                book.put(&credential)?;
            }
        }
        NewsEvent::Moved { session, to } => {
            if let Some(mut record) = book.get::<Session>(&format!("{gateway} {session}"))? {
                record.from_address.clone_from(to);
                book.put(&record)?;
            }
        }
        NewsEvent::Ended { session, identity, reason, words, received, sent, last_heard, .. } => {
            spend(book, identity, item.at)?;
            if let Some(mut record) = book.get::<Session>(&format!("{gateway} {session}"))? {
                record.ended = Some(item.at);
                record.reason = Some(if words.is_empty() { reason.to_string() } else { format!("{reason}: {words}") });
                record.received = *received;
                record.sent = *sent;
                record.last_heard = Some(*last_heard);
                book.put(&record)?;
            }
        }
        NewsEvent::Refused { device, from, reason, times, words, method } => {
            book.put(&Session {
                // The agent of a gateway that was moved counts from one again; the moment tells them apart.
                name: format!("{gateway} refused {} {}", item.at.as_millisecond(), item.number),
                gateway: gateway.into(),
                number: item.number,
                device: device.clone().unwrap_or_else(|| "-".into()),
                from_address: from.clone(),
                inner: std::net::Ipv4Addr::UNSPECIFIED,
                opened: item.at,
                ended: Some(item.at),
                reason: Some({
                    let often = if *times == 1 { String::new() } else { format!(" {times} times") };
                    let words = if words.is_empty() { String::new() } else { format!(": {words}") };
                    format!("{REFUSED}{often}: {reason}{words}")
                }),
                received: 0,
                sent: 0,
                last_heard: None,
                policy: None,
                method: method.clone(),
                asked: None,
                realm: None,
            })?;
        }
        NewsEvent::Righted { what, times } => {
            let often = if *times == 1 { String::new() } else { format!(" {times} times") };
            book.note("gateway righted", gateway, &format!("something else on its host changed {what}{often}"))?;
        }
        NewsEvent::Started { .. } | NewsEvent::Carried { .. } | NewsEvent::Undone { .. } | NewsEvent::Other => {}
    }
    Ok(())
}

/// What the reason of a sign-in begins with that was refused.
const REFUSED: &str = "refused";

/// Whether the reason on a record is why a sign-in was refused.
pub(crate) fn is_refusal(reason: &str) -> bool {
    reason.starts_with(REFUSED)
}

/// Whether a record is of a sign-in that was refused.
#[must_use]
pub fn was_refused(past: &Session) -> bool {
    past.reason.as_deref().is_some_and(is_refusal)
}

/// Sessions, and the gateways that did not answer, with why.
#[derive(Debug, Serialize)]
pub struct Sessions<T> {
    pub sessions: Vec<(String, T)>,
    pub silent: Vec<(String, Problem)>,
}

fn gateways(context: &mut Context, gateway: Option<&str>) -> Result<Vec<String>> {
    context.read(|book| match gateway {
        Some(gateway) => Ok(vec![book.need::<Gateway>(gateway)?.name]),
        None => Ok(book
            .all::<Gateway>()?
            .into_iter()
            .filter(|gateway| gateway.adopted)
            .map(|gateway| gateway.name)
            .collect()),
    })
}

/// Asks agents the same, all at once; each answer with its gateway.
pub(crate) fn ask_all<Q>(context: &mut Context, gateways: &[String], question: &Q) -> Vec<(String, Result<Q::Answer>)>
where
    Q: Question<Set = Ask> + Sync,
    Q::Answer: Send,
{
    let ways: Vec<_> = gateways.iter().map(|gateway| (manage(context, gateway), gateway.clone())).collect();
    std::thread::scope(|scope| {
        let threads: Vec<_> = ways
            .into_iter()
            .map(|(way, gateway)| (gateway, scope.spawn(move || way.and_then(|way| way.ask_agent(question)))))
            .collect();
        let broken = || Err(Problem::failed("asking broke off"));
        threads.into_iter().map(|(gateway, thread)| (gateway, thread.join().unwrap_or_else(|_| broken()))).collect()
    })
}

/// Who is connected now, as the gateways say.
///
/// # Errors
/// No such gateway.
pub fn live(context: &mut Context, gateway: Option<&str>) -> Result<Sessions<Live>> {
    let mut found = Sessions { sessions: Vec::new(), silent: Vec::new() };
    let asked = gateways(context, gateway)?;
    let (estate, keys) = context.read(|book| {
        let keys: BTreeMap<_, _> = book.all::<Gateway>()?.into_iter().map(|one| (one.name, one.public_key)).collect();
        Ok((find::this_estate(book)?.id, keys))
    })?;
    // What another agent says of who is in would be an answer to another question.
    let mut others: BTreeMap<String, Problem> = ask_all(context, &asked, &Status)
        .into_iter()
        .filter_map(|(gateway, status)| {
            let words = status.ok()?.is_another(&gateway, keys.get(&gateway)?, &estate)?;
            Some((gateway.clone(), Problem::failed(words).try_(format!("yestrel rollout {gateway}"))))
        })
        .collect();
    for (gateway, answer) in ask_all(context, &asked, &WhoIsIn) {
        let answer = others.remove(&gateway).map_or(answer, Err);
        match answer {
            Ok(sessions) => {
                found.sessions.extend(sessions.into_iter().map(|session| (gateway.clone(), session)));
                // Collected on the way, so that nothing waits for somebody to ask for the past.
                let _ = collect(context, &gateway);
            }
            Err(problem) => found.silent.push((gateway, problem)),
        }
    }
    Ok(found)
}

/// Sessions that ended since a moment, and sign-ins that were refused, newest last.
///
/// # Errors
/// No such gateway.
pub fn past(context: &mut Context, gateway: Option<&str>, since: Option<Timestamp>) -> Result<Sessions<Session>> {
    let mut silent = Vec::new();
    let asked = gateways(context, gateway)?;
    for gateway in &asked {
        if let Err(problem) = collect(context, gateway) {
            silent.push((gateway.clone(), problem));
        }
    }
    let sessions = context.read(|book| {
        let since = since.map_or_else(String::new, |since| since.to_string());
        let of_it: Vec<_> = gateway.map(|gateway| ("gateway", gateway.into())).into_iter().collect();
        let query = Query { filters: &of_it, at_least: Some(("ended", &since)), ..Query::default() };
        let mut all: Vec<Session> = book.ask(&query)?;
        all.sort_by_key(|session| session.ended);
        Ok(all.into_iter().map(|session| (session.gateway.clone(), session)).collect())
    })?;
    Ok(Sessions { sessions, silent })
}

/// Sessions and refusals that began since a moment, and those that ended since.
pub(crate) fn since(book: &Book<'_>, gateway: Option<&str>, since: Option<Timestamp>) -> Result<Vec<Session>> {
    let since = since.map_or_else(String::new, |since| since.to_string());
    let of_it: Vec<_> = gateway.map(|gateway| ("gateway", gateway.into())).into_iter().collect();
    let by = |column| Query { filters: &of_it, at_least: Some((column, since.as_str())), ..Query::default() };
    let mut all: Vec<Session> = book.ask(&by("opened"))?;
    let known: std::collections::HashSet<String> = all.iter().map(|session| session.name.clone()).collect();
    all.extend(book.ask::<Session>(&by("ended"))?.into_iter().filter(|session| !known.contains(&session.name)));
    Ok(all)
}

/// Sessions that were ended, and gateways that did not answer.
#[derive(Debug)]
pub struct EndedSessions {
    pub ended: u64,
    pub silent: Vec<(String, Problem)>,
}

/// Ends a device's sessions at all gateways, or at one; one that does not answer holds up none of the others.
///
/// # Errors
/// No such device or gateway.
pub fn end(context: &mut Context, device: &str, gateway: Option<&str>, words: &str) -> Result<EndedSessions> {
    context.read(|book| book.need::<Device>(device).map(drop))?;
    let asked = gateways(context, gateway)?;
    let question = EndSessions { device: device.into(), words: words.into() };
    let mut done = EndedSessions { ended: 0, silent: Vec::new() };
    for (gateway, answer) in ask_all(context, &asked, &question) {
        match answer {
            Ok(ended) => done.ended += ended,
            Err(problem) => done.silent.push((gateway, problem)),
        }
    }
    context.write(|book| book.note("session end", device, words))?;
    Ok(done)
}

/// A credential that is good for one session has had it: its gateway keeps it out, and here it counts as revoked.
fn spend(book: &Book<'_>, identity: &PublicKey, at: jiff::Timestamp) -> Result<()> {
    let credential = book.find::<Credential>(&[("identity", identity.to_string().into())])?.pop();
    if let Some(credential) = credential.filter(|credential| credential.once && credential.revoked.is_none()) {
        let credential = end::revoke_within(book, credential, "it was good for one session", at)?;
        book.note("credential revoke", &credential.name, "it was good for one session")?;
    }
    Ok(())
}

/// An agent has leased an address: it is given to nobody else while that device has it.
fn lease(book: &Book<'_>, listener: &str, inner: std::net::Ipv4Addr, credential: &str) -> Result<()> {
    for before in book.find::<Address>(&[("credential", credential.into()), ("listener", listener.into())])? {
        if before.leased {
            book.remove::<Address>(&before.name)?;
        }
    }
    let address = Address { leased: true, ..Address::new(listener, inner, credential) };
    // What was given with a credential since stands before a lease; the agent gives another at the next sign-in.
    match book.get::<Address>(&address.name)? {
        Some(there) if !there.leased => Ok(()),
        _ => book.put(&address),
    }
}
