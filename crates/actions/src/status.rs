//! The whole estate at one glance: what gateways say now, beside what the estate wants.

use std::collections::BTreeMap;

use jiff::{SignedDuration, Timestamp};
use yestrel_core::estate::{Authority, Credential, Device, Gateway, Listener, Site, User};
use yestrel_core::glance::{AtGateway, Ending, Glance, Heard, Inside, LeftBehind, SOON};
use yestrel_core::{Problem, Result, lapse, order};
use yestrel_store::Book;

use crate::context::Context;
use crate::hear::{self, Said, What};
use crate::inside::adopted;
use crate::listener::ports::{self, PortState};
use crate::rollout::plan::{self, Plan};
use crate::{find, job, leftover, policy};

/// What an agent said, beside what the estate knows of its gateway.
fn heard(book: &Book<'_>, gateway: &Gateway, listeners: &[Listener], said: Said) -> Result<Heard> {
    let Some(Ok(status)) = said.status else { return Err(Problem::failed("nothing was heard")) };
    let hash = book.newest_kept(&gateway.name)?.map(|order| order.hash).unwrap_or_default();
    let estate = find::this_estate(book)?.id;
    let inside = said.sessions.map(|sessions| {
        let inside = sessions.into_iter().map(|live| Inside {
            device: live.device,
            listener: live.listener,
            since: live.opened,
        });
        inside.collect()
    });
    let shut = said.facts.map(|facts| {
        let mut shut = Vec::new();
        for listener in listeners {
            for served in &listener.serves {
                let (state, why) = ports::judge(&gateway.name, served.inside, &status, &facts);
                if state != PortState::Open {
                    let why = match state {
                        PortState::NotOpen => "nobody listens there".to_owned(),
                        _ => why.unwrap_or_default(),
                    };
                    shut.push((format!("{} of {}", served.inside, listener.name), why));
                }
            }
        }
        shut
    });
    Ok(Heard {
        order: status.order,
        version: status.version.clone(),
        another: status.is_another(&gateway.name, &gateway.public_key, &estate).is_some(),
        differs: status.differs(&gateway.name, &gateway.public_key, &estate, &hash),
        inside,
        shut,
        clock_ahead: status.clock.map(|clock| clock.duration_since(book.now).as_secs()),
        uncounted: status.uncounted.clone(),
    })
}

fn at_gateway(book: &Book<'_>, gateway: Gateway, plan: &Plan, said: Option<Said>) -> Result<AtGateway> {
    let listeners = find::listeners_of(book, &gateway.name)?;
    let estate = find::this_estate(book)?;
    let lets_nobody_in_from = estate.orders_hold.zip(gateway.renewed).and_then(|(holds, from)| {
        let until = from + SignedDuration::from_secs(holds.into());
        order::ends_soon(until, holds, book.now).then_some(until)
    });
    let last_heard = gateway.renewed;
    let heard = match said {
        None => None,
        Some(said) => Some(match said.silence() {
            Some(why) => Err(why),
            None => Ok(heard(book, &gateway, &listeners, said)?),
        }),
    };
    let revoked = |words: &str| words.split("  ").next().unwrap_or_default().to_owned();
    let (uncarried, others): (Vec<_>, Vec<_>) = plan.changes.iter().partition(|change| change.verb == "revoke");
    Ok(AtGateway {
        confirmed: gateway.order_number,
        wanted: plan.to,
        ports: listeners.iter().map(|listener| listener.serves.len()).sum(),
        waits: if plan.nothing_to_do { 0 } else { others.len() },
        uncarried: uncarried.iter().map(|change| revoked(&change.words)).collect(),
        heard,
        last_heard,
        lets_nobody_in_from,
        site: gateway.site,
        host: gateway.host,
        gateway: gateway.name,
    })
}

/// What has ended, or ends soon.
fn endings(book: &Book<'_>) -> Result<Vec<Ending>> {
    let soon = book.now + SOON;
    let mut endings = Vec::new();
    // What ended long ago is nobody's concern any more; lists say so where they are asked.
    for credential in book.ending(soon)? {
        if let Some(at) = credential.expires {
            let what = format!("credential {}", credential.name);
            endings.push(Ending { at, what, try_: "yestrel credential list --expiring 30d".into() });
        }
    }
    for gateway in book.all::<Gateway>()? {
        if let Some(at) = gateway.certificate.as_ref().map(|one| one.expires).filter(|at| *at <= soon) {
            let what = format!("certificate of the gateway {}", gateway.name);
            endings.push(Ending { at, what, try_: format!("yestrel rollout {}", gateway.name) });
        }
    }
    for authority in book.all::<Authority>()?.into_iter().filter(|one| one.retired.is_none()) {
        if authority.expires <= soon {
            let what = format!("authority {}", authority.name);
            endings.push(Ending { at: authority.expires, what, try_: "yestrel authority create --help".into() });
        }
        // Lists are signed anew by rollouts as long as the key is here.
        if let Some(at) =
            authority.list_until.filter(|at| *at <= if authority.private_key.is_none() { soon } else { book.now })
        {
            let what = format!("revocation list of {}", authority.name);
            endings.push(Ending { at, what, try_: format!("yestrel authority publish {}", authority.name) });
        }
    }
    endings.sort();
    Ok(endings)
}

/// Looks: asks every gateway that has an order, all at once and for a second and a half at most, and nobody at the terminal.
///
/// # Errors
/// The estate cannot be read.
pub fn look(context: &mut Context) -> Result<Glance> {
    context.now = Timestamp::now();
    let names = adopted(context, &[])?;
    let mut said = hear::gateways(context, &names, What::Everything)?;
    let plans = plan::remembered(context, &[], None)?;
    let size = std::fs::metadata(context.path()).map(|file| file.len()).unwrap_or_default();
    context.now = Timestamp::now();
    context.read(|book| {
        let estate = find::this_estate(book)?;
        let mut gateways = Vec::new();
        for gateway in book.all::<Gateway>()? {
            let Some(plan) = plans.iter().find(|plan| plan.gateway == gateway.name) else { continue };
            let said = said.remove(&gateway.name);
            gateways.push(at_gateway(book, gateway, plan, said)?);
        }
        gateways.sort_by(|a, b| (&a.site, &a.gateway).cmp(&(&b.site, &b.gateway)));
        let sites: Vec<Site> = book.all()?;
        let bare = sites.iter().filter(|site| gateways.iter().all(|at| at.site != site.name));
        let sites_without_gateway = bare.map(|site| site.name.clone()).collect();
        let left_behind = leftover::of(book)?
            .into_iter()
            .map(|(host, old)| LeftBehind { host: host.name, gateway: old.gateway, since: old.since })
            .collect();
        Ok(Glance {
            estate: estate.name,
            at: book.now,
            gateways,
            sites_without_gateway,
            left_behind,
            endings: endings(book)?,
            stale: find::count_stale(book)?,
            jobs: job::all(book)?,
            admits: policy::some_admit(book)?,
            saved: estate.saved,
            users: book.count::<User>(&[])?,
            devices: book.count::<Device>(&[])?,
            credentials: book.count::<Credential>(&[("revoked", serde_json::Value::Null)])?,
            size,
        })
    })
}

/// How a gateway is not what the estate believes it to be.
#[derive(Debug)]
pub struct Strange {
    pub words: String,
    /// It does not answer: what is said of it besides is remembered.
    pub silent: bool,
}

/// Gateways that are not what the estate believes them to be: that do not answer now, or whose agent is another, each with what is to be said of
/// it. Only those that have an order are asked, and of these the named ones where any are.
///
/// # Errors
/// The estate cannot be read.
pub fn strange(context: &mut Context, named: &[String]) -> Result<BTreeMap<String, Strange>> {
    let names = adopted(context, named)?;
    let said = hear::gateways(context, &names, What::Status)?;
    let now = Timestamp::now();
    context.read(|book| {
        let estate = find::this_estate(book)?.id;
        let mut strange = BTreeMap::new();
        for (name, said) in said {
            let words = match (said.silence(), said.status) {
                (Some(why), _) => {
                    let last = book.need::<Gateway>(&name)?.renewed;
                    let last = last.map_or_else(
                        || "never heard".to_owned(),
                        |at| format!("last heard {}", lapse::from_now(at, now)),
                    );
                    Some(Strange { words: format!("{why}; {last}"), silent: true })
                }
                (None, Some(Ok(status))) => {
                    let hash = book.newest_kept(&name)?.map(|order| order.hash).unwrap_or_default();
                    let key = book.need::<Gateway>(&name)?.public_key;
                    status.differs(&name, &key, &estate, &hash).map(|words| Strange { words, silent: false })
                }
                (None, _) => None,
            };
            strange.extend(words.map(|words| (name, words)));
        }
        Ok(strange)
    })
}
