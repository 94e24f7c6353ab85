//! Gateways: made, changed, looked at, restarted, retired.
//!
//! | file | its job |
//! |---|---|
//! | `certificate` | what a gateway proves itself with |
//! | `relocate` | moving a gateway to another host |

pub mod certificate;
pub mod relocate;

use jiff::{SignedDuration, Timestamp};
use serde::Serialize;
use yestrel_core::estate::{Credential, Gateway, Host, Listener, Site};
use yestrel_core::exchange::agent::{AgentStatus, Status};
use yestrel_core::exchange::host::{Log, LogPiece, Restart};
use yestrel_core::keys::{KeyPair, PublicKey};
use yestrel_core::policy::Asks;
use yestrel_core::schedule::Schedule;
use yestrel_core::sealed::{self, Sealed};
use yestrel_core::{Problem, Result, name, order, pool};
use yestrel_store::queries::admitted_at;
use yestrel_store::seal::random32;
use yestrel_store::{Book, SealingKey};

use crate::authority::lists;
use crate::context::Context;
use crate::find::{self, Stale};
use crate::keyring::labels;
use crate::leftover;
use crate::listener;
use crate::policy;
use crate::rollout::plan;
use crate::session;

/// What a command says about a gateway; `None` leaves what is there.
#[derive(Debug, Default)]
pub struct Wish {
    pub dialled: Option<String>,
    pub outward: Option<String>,
    pub masquerade: Option<bool>,
    pub site: Option<String>,
    /// Hours in which its agent may be upgraded without a person; empty: never.
    pub updates: Option<String>,
    /// Where it answers its metrics; `Some(None)`: nowhere.
    pub metrics: Option<Option<std::net::SocketAddrV4>>,
    /// Further names and addresses that devices dial.
    pub also: Option<Vec<String>>,
}

/// Metrics say much about a network: they are answered at inner addresses only.
fn check_metrics(book: &Book<'_>, gateway: &Gateway, at: std::net::SocketAddrV4) -> Result<()> {
    let site: Site = book.need(&gateway.site)?;
    let listeners = find::listeners_of(book, &gateway.name)?;
    let own = listeners.iter().any(|listener| pool::gateway_address(&listener.pool) == *at.ip());
    let inside = site.networks.iter().any(|network| network.contains(&std::net::IpAddr::V4(*at.ip())));
    if own || inside {
        return Ok(());
    }
    // Devices reach the site; the gateway's address in a pool only when everything goes through the tunnel.
    let host: Host = book.need(&gateway.host)?;
    let interfaces = host.facts.iter().flat_map(|facts| &facts.interfaces).flat_map(|interface| &interface.addresses);
    let at_site =
        interfaces.map(|net| net.addr()).find(|address| site.networks.iter().any(|net| net.contains(address)));
    let in_pool = listeners.first().map(|listener| std::net::IpAddr::V4(pool::gateway_address(&listener.pool)));
    let first = at_site.or(in_pool);
    let problem = Problem::refused(format!("{} is no inner address of the gateway {}", at.ip(), gateway.name))
        .why("metrics are answered inside only: at the gateway's own address in a pool, or in a network of its site");
    Err(match first {
        Some(address) => {
            problem.try_(format!("yestrel gateway change {} --metrics {address}:{}", gateway.name, at.port()))
        }
        None => problem.try_(format!("yestrel listener open {}   gives it a pool", gateway.name)),
    })
}

fn check(wish: &Wish, host: &Host) -> Result<()> {
    if let (Some(outward), Some(facts)) = (&wish.outward, &host.facts)
        && facts.outward(Some(outward)).is_none()
    {
        let there: Vec<_> = facts.interfaces.iter().map(|interface| interface.name.clone()).collect();
        return Err(Problem::words(format!("the host {} has no interface {outward}", host.name))
            .why(format!("its last probe found {}", there.join(", ")))
            .try_(format!("yestrel host probe {}", host.name)));
    }
    Ok(())
}

/// Makes a gateway on a host, with a key pair of its own.
///
/// # Errors
/// A bad or taken name, no such host, a host that has a gateway, or a name that nobody can dial.
pub fn create(context: &mut Context, gateway: &str, host: &str, wish: &Wish) -> Result<Gateway> {
    name::check("gateway", gateway)?;
    let key = context.key()?;
    let pair = KeyPair::from_random(random32()?);
    let private_key = key.seal(&pair.private, &labels::gateway(gateway))?;
    let created = context.now;
    context.write(|book| {
        let host: Host = book.need(host)?;
        check(wish, &host)?;
        if let Some(other) = book.find::<Gateway>(&[("host", host.name.as_str().into())])?.first() {
            return Err(Problem::refused(format!("the host {} has the gateway {} already", host.name, other.name))
                .why("one host carries one gateway; it can have many listeners")
                .try_(format!("yestrel listener open {}", other.name)));
        }
        let dialled = wish.dialled.as_deref().ok_or_else(|| {
            Problem::words("a gateway needs the name or address that devices dial")
                .why("handovers, certificates and forwards hang on it")
                .try_(format!("yestrel gateway create {gateway} --host {} --dialled gangway.skerry.example", host.name))
        })?;
        let dialled = name::dialled(dialled)?;
        let site = wish.site.clone().unwrap_or_else(|| host.site.clone());
        let serves: Site = book.need(&site)?;
        let hours = wish.updates.as_deref().filter(|hours| !hours.is_empty());
        let updates = hours.map(|hours| Schedule::parse(hours, &serves.time_zone)).transpose()?;
        let gateway = Gateway {
            name: gateway.into(),
            host: host.name.clone(),
            site,
            dialled,
            outward: wish.outward.clone(),
            masquerade: wish.masquerade.unwrap_or(true),
            public_key: pair.public,
            private_key,
            adopted: false,
            amends: false,
            order_number: 0,
            news_seen: 0,
            updates,
            metrics: None,
            also: Vec::new(),
            certificate: None,
            certificate_key: None,
            request_key: None,
            publish_port: None,
            lists_there: std::collections::BTreeMap::new(),
            trusts: None,
            peer_call: peer_call(book, &key, &pair.public)?,
            renewed: None,
            created,
        };
        book.add(&gateway)?;
        book.note("gateway create", &gateway.name, &format!("on {}, dialled as {}", gateway.host, gateway.dialled))?;
        Ok(gateway)
    })
}

/// The secret by which the estate's gateways call on each other, for the agent with this key.
pub(crate) fn peer_call(book: &Book<'_>, key: &SealingKey, to: &PublicKey) -> Result<Sealed> {
    let secret = key.open(&find::this_estate(book)?.peer_secret, labels::PEERS)?;
    sealed::seal(to, order::PEER_CALL, &secret)
}

/// Changes a gateway. Gives how many handovers that makes stale.
///
/// # Errors
/// As [`create`].
pub fn change(context: &mut Context, gateway: &str, wish: &Wish) -> Result<(Gateway, Stale)> {
    context.write(|book| {
        let stale = find::stale_at(book, gateway)?;
        let mut gateway: Gateway = book.need(gateway)?;
        let host: Host = book.need(&gateway.host)?;
        check(wish, &host)?;
        let mut said = Vec::new();
        if let Some(dialled) = &wish.dialled {
            let dialled = name::dialled(dialled)?;
            said.push(format!("dialled {} -> {dialled}", gateway.dialled));
            gateway.dialled = dialled;
        }
        if let Some(outward) = &wish.outward {
            said.push(format!("outward {outward}"));
            gateway.outward = Some(outward.clone());
        }
        if let Some(masquerade) = wish.masquerade {
            said.push(format!("masquerade {masquerade}"));
            gateway.masquerade = masquerade;
        }
        if let Some(site) = &wish.site {
            book.need::<Site>(site)?;
            said.push(format!("site {site}"));
            gateway.site.clone_from(site);
        }
        if let Some(hours) = &wish.updates {
            let site: Site = book.need(&gateway.site)?;
            gateway.updates = if hours.is_empty() { None } else { Some(Schedule::parse(hours, &site.time_zone)?) };
            said.push(format!("updates {}", if hours.is_empty() { "never" } else { hours }));
        }
        if let Some(at) = wish.metrics {
            if let Some(at) = at {
                check_metrics(book, &gateway, at)?;
            }
            gateway.metrics = at;
            said.push(at.map_or_else(|| "metrics nowhere".to_owned(), |at| format!("metrics at {at}")));
        }
        if let Some(also) = &wish.also {
            let also = also.iter().filter(|name| !name.is_empty());
            let mut also = also.map(|name| name::dialled(name)).collect::<Result<Vec<_>>>()?;
            also.dedup();
            said.push(format!("also dialled {}", if also.is_empty() { "nothing".into() } else { also.join(", ") }));
            gateway.also = also;
        }
        if said.is_empty() {
            return Err(Problem::words("nothing was said that should change")
                .try_("--dialled, --outward, --masquerade, --routed, --site, --updates or --metrics"));
        }
        book.put(&gateway)?;
        book.note("gateway change", &gateway.name, &said.join(", "))?;
        let stale = find::became_stale(book, &gateway.name, &stale)?;
        Ok((gateway, stale))
    })
}

/// A gateway as the estate has it, and where its agent stands.
#[derive(Debug, Serialize)]
pub struct GatewayStanding {
    pub gateway: Gateway,
    pub listeners: Vec<Listener>,
    /// The newest order that was made for it; 0 for none.
    pub newest_order: u64,
    /// Whether the estate has changed since the newest order was confirmed.
    pub behind: bool,
    /// Until when the order there holds, as far as the estate knows, and whether that is soon; nothing where orders hold for ever.
    pub holds_until: Option<(Timestamp, bool)>,
    /// What is to be said of its certificate: names that none is made for, one that was brought in and does not fit.
    pub certificate_remark: Option<String>,
    /// What the agent itself says, when it was asked and answered.
    pub status: Option<AgentStatus>,
    /// Why it did not answer.
    pub silent: Option<String>,
}

/// All gateways, without asking their agents.
///
/// # Errors
/// The estate cannot be read.
pub fn list(context: &mut Context) -> Result<Vec<GatewayStanding>> {
    context.read(|book| {
        book.all::<Gateway>()?
            .into_iter()
            .map(|gateway| {
                let listeners = find::listeners_of(book, &gateway.name)?;
                let behind = plan::is_behind(book, &gateway)?;
                let newest_order = book.newest_number(&gateway.name)?;
                let estate = find::this_estate(book)?;
                let holds_until = estate.orders_hold.zip(gateway.renewed).map(|(holds, from)| {
                    let until = from + SignedDuration::from_secs(holds.into());
                    (until, order::ends_soon(until, holds, book.now))
                });
                let certificate_remark = certificate::remark(book, &gateway)?;
                Ok(GatewayStanding {
                    gateway,
                    listeners,
                    newest_order,
                    behind,
                    holds_until,
                    certificate_remark,
                    status: None,
                    silent: None,
                })
            })
            .collect()
    })
}

/// One gateway, with what its agent says.
///
/// # Errors
/// There is none of that name.
pub fn show(context: &mut Context, gateway: &str) -> Result<GatewayStanding> {
    let (gateway, host) = context.read(|book| find::gateway_and_host(book, gateway))?;
    let mut standing = list(context)?
        .into_iter()
        .find(|standing| standing.gateway.name == gateway.name)
        .ok_or_else(|| Problem::failed(format!("the gateway {} is gone", gateway.name)))?;
    match context.manage(&host).and_then(|manage| manage.ask_agent(&Status)) {
        Ok(status) => standing.status = Some(*status),
        Err(problem) => standing.silent = Some(problem.line()),
    }
    Ok(standing)
}

/// One gateway as the estate has it; nobody is asked.
///
/// # Errors
/// There is none of that name.
pub fn show_remembered(context: &mut Context, gateway: &str) -> Result<Gateway> {
    context.read(|book| book.need(gateway))
}

/// What retiring a gateway ends: devices that have a way in there.
///
/// # Errors
/// There is no such gateway.
pub fn retire_preview(context: &mut Context, gateway: &str) -> Result<Vec<String>> {
    context.read(|book| {
        let gateway: Gateway = book.need(gateway)?;
        Ok(find::with_a_way_at(book, &gateway.name)?.into_iter().map(|credential| credential.device).collect())
    })
}

/// Takes a gateway off its host with every trace, then out of the estate; gives what was removed there. With `abandoned`, a host that cannot be reached does
/// not stop that.
///
/// # Errors
/// No such gateway, or the host cannot be reached.
pub fn retire(context: &mut Context, gateway: &str, abandoned: bool) -> Result<(Vec<String>, Option<Problem>)> {
    let (gateway, host) = context.read(|book| {
        policy::still_named(book, Asks::Gateway, gateway)?;
        find::gateway_and_host(book, gateway)
    })?;
    let estate = context.read(find::this_estate)?.id;
    // What it has seen until now is worth keeping.
    let removed = context.manage(&host).and_then(|manage| {
        let _ = session::collect_to_the_end(context, &gateway.name, &*manage, gateway.news_seen);
        manage.remove(&estate, false)
    });
    let gone = removed.clone().unwrap_or_default();
    let left = match removed {
        Err(problem) if !abandoned => {
            return Err(problem
                .try_(format!("yestrel gateway retire {} --abandoned   leaves what is on the host", gateway.name)));
        }
        other => other.err(),
    };
    context.write(|book| {
        for listener in find::listeners_of(book, &gateway.name)? {
            listener::forget(book, &listener)?;
        }
        for mut credential in book.ask::<Credential>(&admitted_at(&gateway.name))? {
            if credential.leave(&gateway.name) {
                book.put(&credential)?;
            }
        }
        book.forget_orders(&gateway.name)?;
        lists::forget_gateway(book, &gateway.name)?;
        if left.is_some() {
            leftover::leave(book, &host.name, &gateway)?;
        }
        book.remove::<Gateway>(&gateway.name)?;
        let detail = if left.is_some() {
            "abandoned: its host could not be reached"
        } else {
            "every trace removed from its host"
        };
        book.note("gateway retire", &gateway.name, detail)
    })?;
    Ok((gone, left))
}

/// Stops the gateway's agent and starts it again. Sessions come back by themselves.
///
/// # Errors
/// No such gateway, its host cannot be reached, or the agent does not come up again.
pub fn restart(context: &mut Context, gateway: &str) -> Result<()> {
    session::manage(context, gateway)?.ask(&Restart)?;
    context.write(|book| book.note("gateway restart", gateway, ""))
}

/// A piece of the agent's log: from `offset` on, or its newest lines, and where the next piece begins.
///
/// # Errors
/// No such gateway, or its host cannot be reached.
pub fn log(context: &mut Context, gateway: &str, offset: Option<u64>) -> Result<LogPiece> {
    session::manage(context, gateway)?.ask(&Log { offset })
}
