//! Listeners, their ports, and who needs which port open.

use std::collections::BTreeSet;
use std::net::IpAddr;

use ipnet::Ipv4Net;
use serde::Serialize;
use yestrel_core::control::{Answer, Ask};
use yestrel_core::nouns::{Credential, Gateway, Host, Listener, Reach};
use yestrel_core::pool;
use yestrel_core::{Problem, Result, name};
use yestrel_store::Book;
use yestrel_store::records::Address;
use yestrel_store::seal::random;

use crate::{Context, site};

/// What a command says about a listener; `None` leaves what is there, or takes the default.
#[derive(Debug, Default)]
pub struct Wish {
    pub name: Option<String>,
    pub tunnel: Option<String>,
    pub port: Option<u16>,
    pub outside_port: Option<u16>,
    pub pool: Option<String>,
    pub reach: Option<Reach>,
    pub resolvers: Option<Vec<IpAddr>>,
    pub keep_alive: Option<u16>,
    pub packet_size: Option<u16>,
    pub cipher: Option<String>,
}

fn check(wish: &Wish) -> Result<()> {
    if let Some(tunnel) = wish.tunnel.as_deref().filter(|tunnel| *tunnel != "talon") {
        let weak = ["pptp", "l2tp"].contains(&tunnel);
        let problem = Problem::words(format!("there is no tunnel {tunnel:?}"));
        return Err(if weak {
            problem.why("it protects nothing that an attacker of today would not read; it is not offered")
        } else {
            problem.why("this version has the tunnel talon")
        });
    }
    if wish.port == Some(0) || wish.outside_port == Some(0) {
        return Err(Problem::words("port 0 cannot be dialled")
            .why("ports are 1 to 65535")
            .try_("leave --port out: a free one is chosen and told"));
    }
    if let Some(seconds) = wish.keep_alive.filter(|seconds| *seconds > 3600) {
        return Err(Problem::words(format!("a keep-alive of {seconds} s is too long"))
            .why("1 s to 1 h, or 0 s for none; RFC 3948 suggests 20 s"));
    }
    if let Some(bytes) = wish.packet_size.filter(|bytes| !(1280..=9000).contains(bytes)) {
        return Err(Problem::words(format!("a packet size of {bytes} bytes cannot be used"))
            .why("1280 (what every IPv6 path carries) to 9000; 1400 fits almost every path"));
    }
    if let Some(cipher) = wish.cipher.as_deref().filter(|cipher| !["aes-256-gcm", "chacha20-poly1305"].contains(cipher))
    {
        return Err(Problem::words(format!("the talon tunnel has no cipher {cipher:?}"))
            .why("it has aes-256-gcm and chacha20-poly1305"));
    }
    Ok(())
}

/// Whether `port` is free on the host, as far as its last probe and the estate know.
fn port_free(book: &Book<'_>, gateway: &Gateway, host: &Host, port: u16, but: &str) -> Result<()> {
    let listeners: Vec<Listener> = book.find(&[("gateway", gateway.name.as_str().into())])?;
    if let Some(other) = listeners.iter().find(|other| other.port == port && other.name != but) {
        return Err(Problem::refused(format!("port {port}/udp of {} is taken", host.name))
            .why(format!("by the listener {}", other.name)));
    }
    let holder = host.facts.as_ref().and_then(|facts| facts.holder(port));
    // What the agent itself holds, it gives up in the same rollout.
    let own = crate::rollout::newest(book, &gateway.name)?.map(|order| order.envelope.read()).transpose()?;
    let own = own.is_some_and(|order| order.content.listeners.iter().any(|listener| listener.port == port));
    match holder {
        Some(_) if own => Ok(()),
        Some(busy) => Err(Problem::refused(format!("port {port}/udp of {} is taken", host.name))
            .why(format!("by {}", busy.holder.clone().unwrap_or_else(|| "a program that cannot be seen".into())))
            .try_("leave --port out: a free one is chosen and told")),
        None => Ok(()),
    }
}

/// A free port above those that systems give out to programs for a while.
fn choose_port(book: &Book<'_>, gateway: &Gateway, host: &Host) -> Result<u16> {
    for _ in 0..200 {
        let mut bytes = [0; 2];
        random(&mut bytes)?;
        let port = 20_000 + u16::from_be_bytes(bytes) % 12_000;
        if port_free(book, gateway, host, port, "").is_ok() {
            return Ok(port);
        }
    }
    Err(Problem::failed("no free port was found").try_("--port PORT"))
}

/// What is to be said about a listener that is no error.
#[must_use]
pub fn notes(listener: &Listener) -> Vec<String> {
    let mut notes = Vec::new();
    if let Some(common) = pool::common_at_home(&listener.pool.into()) {
        notes.push(format!(
            "many homes use {common}: devices there cannot tell the pool {} from their own network",
            listener.pool
        ));
    }
    if listener.reach == Reach::Everything && listener.resolvers.is_empty() {
        notes.push("everything goes through the tunnel, but no resolvers are given: names may not resolve".into());
    }
    notes
}

/// Opens a listener.
///
/// # Errors
/// No such gateway; a port or pool that cannot be used.
pub fn open(context: &mut Context, gateway: &str, wish: &Wish) -> Result<Listener> {
    check(wish)?;
    let created = context.now;
    // What is busy changes by itself: the host is asked again, if it answers.
    let _ = {
        let host: Host = context.read(|book| {
            let gateway: Gateway = book.need(gateway)?;
            book.need(&gateway.host)
        })?;
        crate::host::probe(context, &host.name)
    };
    context.write(|book| {
        let gateway: Gateway = book.need(gateway)?;
        let host: Host = book.need(&gateway.host)?;
        let short = wish.name.clone().unwrap_or_else(|| "talon".into());
        name::check("listener", &short)?;
        let full = format!("{}/{short}", gateway.name);
        if book.get::<Listener>(&full)?.is_some() {
            return Err(Problem::refused(format!("there is already a listener {full}"))
                .try_(format!("yestrel listener change {full}"))
                .try_(format!("another name: yestrel listener open {} --name second", gateway.name)));
        }
        let taken = site::taken(book, "")?;
        let pool = match &wish.pool {
            Some(text) => pool::range(text)?,
            None => pool::offer(&taken)
                .ok_or_else(|| Problem::refused("no free range is left for a pool").try_("--pool RANGE"))?,
        };
        let pool = pool::check(&pool, &taken)?;
        let port = match wish.port {
            Some(port) => {
                port_free(book, &gateway, &host, port, "")?;
                port
            }
            None => choose_port(book, &gateway, &host)?,
        };
        let fast_aes = host.facts.as_ref().is_some_and(|facts| facts.fast_aes);
        let listener = Listener {
            name: full,
            gateway: gateway.name.clone(),
            tunnel: "talon".into(),
            port,
            outside_port: wish.outside_port.unwrap_or(port),
            pool,
            reach: wish.reach.clone().unwrap_or(Reach::Site),
            resolvers: wish.resolvers.clone().unwrap_or_default(),
            keep_alive: wish.keep_alive.unwrap_or(20),
            packet_size: wish.packet_size.unwrap_or(1400),
            cipher: wish
                .cipher
                .clone()
                .unwrap_or_else(|| if fast_aes { "aes-256-gcm" } else { "chacha20-poly1305" }.into()),
            created,
        };
        book.add(&listener)?;
        book.note("listener open", &listener.name, &describe(&listener))?;
        Ok(listener)
    })
}

fn describe(listener: &Listener) -> String {
    format!("{}/udp, pool {}, reach {}", listener.port, listener.pool, listener.reach)
}

/// Changes a listener; with a new pool, every credential gets a new address. Gives how many handovers that makes stale.
///
/// # Errors
/// As [`open`]; also a pool that cannot hold everybody.
pub fn change(context: &mut Context, listener: &str, wish: &Wish) -> Result<(Listener, usize)> {
    check(wish)?;
    context.write(|book| {
        let mut listener: Listener = book.need(listener)?;
        let gateway: Gateway = book.need(&listener.gateway)?;
        let host: Host = book.need(&gateway.host)?;
        let before = serde_json::to_value(&listener).ok();
        if let Some(port) = wish.port {
            port_free(book, &gateway, &host, port, &listener.name)?;
            if listener.outside_port == listener.port {
                listener.outside_port = port;
            }
            listener.port = port;
        }
        listener.outside_port = wish.outside_port.unwrap_or(listener.outside_port);
        if let Some(reach) = &wish.reach {
            listener.reach = reach.clone();
        }
        if let Some(resolvers) = &wish.resolvers {
            listener.resolvers.clone_from(resolvers);
        }
        listener.keep_alive = wish.keep_alive.unwrap_or(listener.keep_alive);
        listener.packet_size = wish.packet_size.unwrap_or(listener.packet_size);
        if let Some(cipher) = wish.cipher.as_ref().filter(|cipher| **cipher != listener.cipher) {
            return Err(Problem::refused(format!("the cipher of {} cannot change to {cipher}", listener.name))
                .why("devices learn it from their handover; all of them would be locked out")
                .try_(format!(
                    "yestrel listener open {} --name second --cipher {cipher}   and move devices over",
                    listener.gateway
                )));
        }
        if let Some(text) = &wish.pool {
            let pool = pool::check(&pool::range(text)?, &site::taken(book, &listener.name)?)?;
            if pool != listener.pool {
                listener.pool = pool;
                renumber(book, &listener)?;
            }
        }
        if serde_json::to_value(&listener).ok() == before {
            return Err(Problem::words("nothing was said that should change").try_("yestrel help listener change"));
        }
        book.put(&listener)?;
        book.note("listener change", &listener.name, &describe(&listener))?;
        let stale = crate::gateway::stale_count(book, &gateway.name)?;
        Ok((listener, stale))
    })
}

/// Gives every credential of a listener an address in its new pool.
fn renumber(book: &Book<'_>, listener: &Listener) -> Result<()> {
    let held: Vec<Address> = book.find(&[("listener", listener.name.as_str().into())])?;
    if held.len() as u64 > u64::from(pool::room(&listener.pool)) {
        return Err(Problem::refused(format!("the pool {} is too small", listener.pool)).why(format!(
            "{} devices have an address at {}, and it holds {}",
            held.len(),
            listener.name,
            pool::room(&listener.pool)
        )));
    }
    for address in &held {
        book.remove::<Address>(&address.name)?;
    }
    let mut used = BTreeSet::new();
    for address in held {
        let inner = pool::next_free(&listener.name, &listener.pool, &used)?;
        used.insert(inner);
        book.put(&Address::new(&listener.name, inner, &address.credential))?;
        let mut credential: Credential = book.need(&address.credential)?;
        for way in credential.ways.iter_mut().filter(|way| way.listener == listener.name) {
            way.inner = inner;
        }
        book.put(&credential)?;
    }
    Ok(())
}

/// A listener with how full its pool is.
#[derive(Debug, Serialize)]
pub struct View {
    pub listener: Listener,
    pub given_out: usize,
    pub room: u32,
}

/// All listeners, or those of one gateway.
///
/// # Errors
/// No such gateway.
pub fn list(context: &mut Context, gateway: Option<&str>) -> Result<Vec<View>> {
    context.read(|book| {
        let listeners: Vec<Listener> = match gateway {
            Some(gateway) => {
                book.need::<Gateway>(gateway)?;
                book.find(&[("gateway", gateway.into())])?
            }
            None => book.all()?,
        };
        let view = |listener: Listener| {
            let given_out = book.find::<Address>(&[("listener", listener.name.as_str().into())])?.len();
            let room = pool::room(&listener.pool);
            Ok(View { listener, given_out, room })
        };
        listeners.into_iter().map(view).collect()
    })
}

/// One listener.
///
/// # Errors
/// There is none of that name.
pub fn show(context: &mut Context, listener: &str) -> Result<View> {
    let gateway = context.read(|book| book.need::<Listener>(listener))?.gateway;
    let found = list(context, Some(&gateway))?.into_iter().find(|view| view.listener.name == listener);
    found.ok_or_else(|| Problem::failed(format!("the listener {listener} is gone")))
}

/// Takes a listener and everything that hangs on it out of the estate.
pub(crate) fn forget(book: &Book<'_>, listener: &Listener) -> Result<()> {
    for address in book.find::<Address>(&[("listener", listener.name.as_str().into())])? {
        book.remove::<Address>(&address.name)?;
        let mut credential: Credential = book.need(&address.credential)?;
        credential.ways.retain(|way| way.listener != listener.name);
        book.put(&credential)?;
    }
    book.remove::<Listener>(&listener.name)?;
    Ok(())
}

/// Closes a listener. Gives how many credentials lose their way in there.
///
/// # Errors
/// There is none of that name.
pub fn close(context: &mut Context, listener: &str) -> Result<usize> {
    context.write(|book| {
        let listener: Listener = book.need(listener)?;
        let held = book.find::<Address>(&[("listener", listener.name.as_str().into())])?.len();
        forget(book, &listener)?;
        book.note("listener close", &listener.name, &format!("{held} credentials had a way in there"))?;
        Ok(held)
    })
}

/// A port that must be open somewhere.
#[derive(Debug, Serialize)]
pub struct Port {
    /// `23817/udp`.
    pub port: String,
    /// On which machine.
    pub at: String,
    pub from: String,
    pub to: String,
    /// Who needs it.
    pub for_: String,
    /// `open`, `not open`, `blocked`, or why it cannot be said.
    pub state: String,
    pub why: Option<String>,
}

/// What must be open where, and whether it is: as the gateways' agents and hosts say now.
///
/// # Errors
/// The estate cannot be read, or there is no such gateway.
pub fn ports(context: &mut Context, gateway: Option<&str>) -> Result<Vec<Port>> {
    let views = list(context, gateway)?;
    let mut ports = Vec::new();
    for View { listener, .. } in views {
        let (gateway, host): (Gateway, Host) = context.read(|book| {
            let gateway: Gateway = book.need(&listener.gateway)?;
            let host = book.need(&gateway.host)?;
            Ok((gateway, host))
        })?;
        let place = context.place(&host)?;
        let status = place.ask(&Ask::Status);
        let facts = place.facts();
        let (state, why) = match (&status, &facts) {
            (Err(problem), _) | (_, Err(problem)) => {
                ("unknown".to_owned(), Some(problem.why.clone().unwrap_or_else(|| problem.error.clone())))
            }
            (Ok(Answer::Status(status)), Ok(facts)) => {
                let listens =
                    status.listeners.iter().any(|(name, port)| *name == listener.name && *port == listener.port);
                let blocking = facts.in_the_way.iter().find(|rule| rule.hook == "input");
                match (listens, blocking) {
                    (false, _) => ("not open".into(), Some(format!("yestrel rollout {}", gateway.name))),
                    (true, Some(rule)) => (
                        "blocked".into(),
                        Some(format!(
                            "{} in table {}: nft insert rule {} {} udp dport {} accept",
                            rule.rule, rule.table, rule.table, rule.chain, listener.port
                        )),
                    ),
                    (true, None) => ("open".into(), None),
                }
            }
            (Ok(_), Ok(_)) => ("unknown".into(), Some("the agent answers something else than was asked".into())),
        };
        ports.push(Port {
            port: format!("{}/udp", listener.port),
            at: host.name.clone(),
            from: "anywhere".into(),
            to: listener.name.clone(),
            for_: format!("the {} tunnel", listener.tunnel),
            state,
            why,
        });
        if listener.outside_port != listener.port {
            ports.push(Port {
                port: format!("{}/udp", listener.outside_port),
                at: format!("what stands before {}", host.name),
                from: "anywhere".into(),
                to: format!("{}/udp of {}", listener.port, host.name),
                for_: format!("the {} tunnel", listener.tunnel),
                state: "unknown".into(),
                why: Some("this version cannot look into the device in front".into()),
            });
        }
    }
    ports.extend(published(context, gateway)?);
    Ok(ports)
}

/// Ports at which the state of certificates is published.
fn published(context: &mut Context, gateway: Option<&str>) -> Result<Vec<Port>> {
    let gateways: Vec<(Gateway, Host)> = context.read(|book| {
        let mut found = Vec::new();
        for one in book.all::<Gateway>()? {
            if one.publish_port.is_some() && gateway.is_none_or(|name| name == one.name) {
                found.push((book.need(&one.host)?, one));
            }
        }
        Ok(found.into_iter().map(|(host, gateway)| (gateway, host)).collect())
    })?;
    let mut ports = Vec::new();
    for (gateway, host) in gateways {
        let port = gateway.publish_port.unwrap_or_default();
        let (state, why) = match context.place(&host)?.ask(&Ask::Status) {
            Ok(Answer::Status(status)) if !status.published.is_empty() => ("open".to_owned(), None),
            Ok(_) => ("not open".into(), Some(format!("yestrel rollout {}", gateway.name))),
            Err(problem) => ("unknown".into(), Some(problem.why.unwrap_or(problem.error))),
        };
        ports.push(Port {
            port: format!("{port}/tcp"),
            at: host.name,
            from: "anywhere".into(),
            to: gateway.name,
            for_: "the state of certificates".into(),
            state,
            why,
        });
    }
    Ok(ports)
}

/// The pool's own address and network, for showing.
#[must_use]
pub fn own_address(pool: &Ipv4Net) -> std::net::Ipv4Addr {
    pool::gateway_address(pool)
}
