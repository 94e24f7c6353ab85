//! Listeners: opened, changed, closed; the addresses that hang on them.
//!
//! | file | its job |
//! |---|---|
//! | `ports` | what must be open where, and whether it is |

pub mod ports;

use std::collections::BTreeSet;
use std::net::IpAddr;

use ipnet::{IpNet, Ipv4Net, Ipv6Net};
use jiff::{SignedDuration, Timestamp};
use serde::Serialize;
use yestrel_core::admission::ProofKind;
use yestrel_core::estate::{Authority, Credential, Gateway, Host, Listener, Method, Reach, Registry, Served};
use yestrel_core::firewall::{Protocol, Service};
use yestrel_core::keys::Secret;
use yestrel_core::shown::counted;
use yestrel_core::tunnel::quill::{CALL_LENGTH, CallSecret};
use yestrel_core::tunnel::{Need, Tunnel, quill};
use yestrel_core::{Problem, Result, moment, name, pool};
use yestrel_store::records::Address;
use yestrel_store::seal::random;
use yestrel_store::{Book, SealingKey};

use crate::context::Context;
use crate::credential::account;
use crate::find::{self, Stale};
use crate::keyring::labels;
use crate::{host, site};

/// What a command says about a listener; `None` leaves what is there, or takes the default.
#[derive(Debug, Default)]
pub struct Wish {
    pub name: Option<String>,
    /// The kind of its tunnel.
    pub kind: Option<Kind>,
    pub port: Option<u16>,
    pub outside_port: Option<u16>,
    /// On the host, where clients dial ports that are no choice and something in front forwards those.
    pub inside_ports: Option<Vec<u16>>,
    pub pool: Option<String>,
    /// An IPv6 range, or "none".
    pub pool6: Option<String>,
    pub reach: Option<Reach>,
    pub resolvers: Option<Vec<IpAddr>>,
    pub domains: Option<Vec<String>>,
    pub keep_alive: Option<u16>,
    pub packet_size: Option<u16>,
    /// What only its kind has: name and value.
    pub settings: Vec<(String, String)>,
}

/// The kind of tunnel that is wished for.
#[derive(Debug, Clone)]
pub enum Kind {
    /// By the word that commands take, with what suits the host.
    Named(String),
    /// This one, with its settings.
    This(Tunnel),
}

fn check(wish: &Wish) -> Result<()> {
    if let Some(Kind::Named(word)) = &wish.kind {
        Tunnel::named(word, true)?;
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
    Ok(())
}

/// The tunnel that is wished for, on a host with fast AES or without.
fn tunnel(wish: &Wish, fast_aes: bool) -> Result<Tunnel> {
    let mut tunnel = match &wish.kind {
        Some(Kind::This(tunnel)) => tunnel.clone(),
        Some(Kind::Named(word)) => Tunnel::named(word, fast_aes)?,
        None => Tunnel::named(quill::WORD, fast_aes)?,
    };
    wish.settings.iter().try_for_each(|(name, value)| tunnel.set(name, value))?;
    Ok(tunnel)
}

/// Whether a port or protocol is free on the host, as far as its last probe and the estate know.
fn is_free(book: &Book<'_>, gateway: &Gateway, host: &Host, need: &Need, service: Service, but: &str) -> Result<()> {
    let listeners = find::listeners_of(book, &gateway.name)?;
    let serves = |other: &&Listener| other.serves.iter().any(|served| served.inside == service);
    let taken = || Problem::refused(format!("port {service} of {} is taken", host.name));
    if let Some(other) = listeners.iter().find(|other| other.name != but && serves(other)) {
        let problem = taken().why(format!("by the listener {}", other.name));
        return Err(match need {
            Need::AnyPort(_) => problem,
            Need::Exactly(_) => {
                problem.try_(format!("yestrel listener show {}   it serves all devices of its kind", other.name))
            }
        });
    }
    let Service::Port(protocol, port) = service else { return Ok(()) };
    let holder = host.facts.as_ref().and_then(|facts| facts.holder(protocol, port));
    // What the agent itself holds, it gives up in the same rollout.
    // That is by the order in force there, which need not be the newest: one that failed leaves it as it was.
    let mut own = false;
    for number in [gateway.order_number, book.newest_number(&gateway.name)?] {
        if let Some(envelope) = book.envelope(&gateway.name, number)? {
            own |= envelope.read()?.content.listeners.iter().any(|one| one.serves.contains(&service));
        }
    }
    match holder {
        Some(busy) if !own => {
            let holder = busy.holder.clone().unwrap_or_else(|| "a program that cannot be seen".into());
            let problem = taken().why(format!("by {holder}"));
            Err(match need {
                Need::AnyPort(_) => problem.try_("leave --port out: a free one is chosen and told"),
                Need::Exactly(_) => problem
                    .why(format!("by {holder}, and built-in clients dial no other port"))
                    .try_(format!("stop {holder} on {}, or use another host for this listener", host.name)),
            })
        }
        _ => Ok(()),
    }
}

/// A free port above those that systems give out to programs for a while.
fn choose_port(book: &Book<'_>, gateway: &Gateway, host: &Host, protocol: Protocol) -> Result<u16> {
    for _ in 0..200 {
        let mut bytes = [0; 2];
        random(&mut bytes)?;
        let port = 20_000 + u16::from_be_bytes(bytes) % 12_000;
        if is_free(book, gateway, host, &Need::AnyPort(protocol), Service::Port(protocol, port), "").is_ok() {
            return Ok(port);
        }
    }
    Err(Problem::failed("no free port was found").try_("--port PORT"))
}

fn has_twice(ports: &[u16]) -> bool {
    ports.iter().enumerate().any(|(at, port)| ports[..at].contains(port))
}

/// A port that clients dial and that is no choice is one listener's: whatever stands in front has it once.
fn dialled_once(book: &Book<'_>, gateway: &Gateway, service: Service) -> Result<()> {
    let listeners = find::listeners_of(book, &gateway.name)?;
    let dialled = |other: &&Listener| other.serves.iter().any(|served| served.outside == service);
    match listeners.iter().find(dialled) {
        Some(other) => Err(Problem::refused(format!("{} has a listener at {service} already", gateway.name))
            .why(format!("{} serves all devices of its kind", other.name))
            .try_(format!("yestrel listener show {}", other.name))),
        None => Ok(()),
    }
}

/// Every port and protocol that a tunnel needs on a host: what it must have, and the port that was wished for, or a free one.
fn serves(book: &Book<'_>, gateway: &Gateway, host: &Host, tunnel: &Tunnel, wish: &Wish) -> Result<Vec<Served>> {
    let mut serves = Vec::new();
    // The first port of one's choice is the one that is dialled first, and that a wish is about.
    let (mut port, mut outside) = (wish.port, wish.outside_port);
    let fixed = tunnel.needs().iter().filter(|need| matches!(need, Need::Exactly(Service::Port(..)))).count();
    let mut inside_ports = wish.inside_ports.iter().flatten().copied();
    if wish.inside_ports.as_ref().is_some_and(|ports| ports.len() != fixed || has_twice(ports)) {
        return Err(Problem::words(format!("the {} tunnel does not take these inside ports", tunnel.word()))
            .why(match fixed {
                0 => "its port is one's choice".to_owned(),
                _ => format!("clients dial {fixed} ports, and each is forwarded to one of its own"),
            })
            .try_(if fixed == 0 {
                "--port, and --outside-port where it is forwarded"
            } else {
                "--inside-ports 10500,14500"
            }));
    }
    for need in tunnel.needs() {
        let inside = match need {
            Need::Exactly(service @ Service::Port(protocol, _)) => {
                dialled_once(book, gateway, *service)?;
                inside_ports.next().map_or(*service, |port| Service::Port(*protocol, port))
            }
            Need::Exactly(service) => *service,
            Need::AnyPort(protocol) => match port.take() {
                Some(port) => Service::Port(*protocol, port),
                None => loop {
                    let free = Service::Port(*protocol, choose_port(book, gateway, host, *protocol)?);
                    if !serves.iter().any(|served: &Served| served.inside == free) {
                        break free;
                    }
                },
            },
        };
        is_free(book, gateway, host, need, inside, "")?;
        let outside = match (inside, need) {
            (Service::Port(protocol, port), Need::AnyPort(_)) => {
                Service::Port(protocol, outside.take().unwrap_or(port))
            }
            (_, Need::Exactly(service)) => *service,
            _ => inside,
        };
        serves.push(Served { inside, outside });
    }
    if let Some(stray) = port.or(outside) {
        return Err(Problem::words(format!("the {} tunnel has no port of one's choice", tunnel.word()))
            .why(format!("its clients dial what they always dial; {stray} would be dialled by nobody")));
    }
    Ok(serves)
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
    if let Tunnel::Ikev2(own) = &listener.tunnel
        && let Some(until) = own.sha1_until.filter(|until| *until > Timestamp::now())
    {
        notes.push(format!("until {} signatures over SHA-1 are taken, which can be forged with effort", moment(until)));
    }
    if listener.reach == Reach::Everything && listener.resolvers.is_empty() {
        notes.push("everything goes through the tunnel, but no resolvers are given: names may not resolve".into());
    }
    if listener.reach != Reach::Everything && !listener.resolvers.is_empty() && listener.domains.is_empty() {
        notes.push("devices ask the resolvers for nothing: --domains says for names in which domains".into());
    }
    notes
}

/// A listener that was opened, with what is to be said about it.
#[derive(Debug)]
pub struct Opened {
    pub listener: Listener,
    pub notes: Vec<String>,
}

/// Asks the host of a gateway what it is now, if it answers: which ports are busy changes by itself.
///
/// # Errors
/// There is no such gateway.
pub fn ask_host(context: &mut Context, gateway: &str) -> Result<()> {
    let gateway: Gateway = context.read(|book| book.need(gateway))?;
    let _ = host::probe(context, &gateway.host);
    Ok(())
}

/// Opens a listener.
///
/// # Errors
/// No such gateway; a port or pool that cannot be used.
pub fn open(context: &mut Context, gateway: &str, wish: &Wish) -> Result<Opened> {
    check(wish)?;
    let created = context.now;
    let sealing = context.key()?;
    ask_host(context, gateway)?;
    context.write(|book| {
        let gateway: Gateway = book.need(gateway)?;
        let host: Host = book.need(&gateway.host)?;
        let fast_aes = host.facts.as_ref().is_some_and(|facts| facts.fast_aes);
        let mut tunnel = tunnel(wish, fast_aes)?;
        let short = wish.name.clone().unwrap_or_else(|| tunnel.word().into());
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
        let pool6 = pool6(wish, &pool, &taken)?;
        let serves = serves(book, &gateway, &host, &tunnel, wish)?;
        if let Tunnel::Quill(quill) = &mut tunnel {
            quill.calls = vec![call_secret(&sealing, &full, 1, &gateway)?];
        }
        if tunnel.takes_ms_chap() {
            keeps_forms(book)?;
        }
        let listener = Listener {
            name: full,
            gateway: gateway.name.clone(),
            tunnel,
            serves,
            pool,
            pool6,
            reach: wish.reach.clone().unwrap_or(Reach::Site),
            domains: domains(wish, &gateway)?,
            resolvers: wish.resolvers.clone().unwrap_or_default(),
            keep_alive: wish.keep_alive.unwrap_or(20),
            packet_size: wish.packet_size.unwrap_or(1400),
            created,
        };
        site::can_be_told(book, &listener)?;
        book.add(&listener)?;
        let mut notes = notes(&listener);
        if listener.tunnel.takes_ms_chap() {
            let without = account::seal_all_for_agent(book, &sealing, &gateway.name)?;
            if without > 0 {
                notes.push(format!(
                    "{without} of its accounts do not come in here: they need a new password, or have a second factor, which built-in \
                     clients cannot be asked for"
                ));
            }
        }
        if listener.tunnel.proofs().contains(&ProofKind::Certificate) && book.all::<Authority>()?.is_empty() {
            notes.push("nobody can come in here yet: yestrel authority create   makes what certificates need".into());
        }
        book.note("listener open", &listener.name, &describe(&listener))?;
        Ok(Opened { listener, notes })
    })
}

/// Whether the registry keeps the form of passwords that MS-CHAPv2 needs.
fn keeps_forms(book: &Book<'_>) -> Result<()> {
    let asks = |registry: &Registry| registry.methods.contains(&Method::MsChapV2);
    let registries: Vec<Registry> = book.all()?;
    if registries.iter().any(asks) {
        return Ok(());
    }
    let name = registries.first().map_or("estate", |registry| &registry.name);
    Err(Problem::refused("accounts cannot come in here: the registry does not keep what ms-chap-v2 needs of their passwords")
        .why("what systems have built in proves a password by ms-chap-v2 alone, and that needs a form of it which equals the password")
        .try_(format!("yestrel registry change {name} --method ms-chap-v2   and new passwords for those who are to come in"))
        .try_("without --accounts: devices come in by certificate"))
}

/// The IPv6 pool that is wished for; without a wish, one that is drawn.
fn pool6(wish: &Wish, pool: &Ipv4Net, taken: &[pool::Taken]) -> Result<Option<Ipv6Net>> {
    match wish.pool6.as_deref() {
        Some("none") => Ok(None),
        Some(text) => pool::check6(&pool::range(text)?, pool, taken).map(Some),
        None => {
            let mut bytes = [0; 5];
            random(&mut bytes)?;
            Ok(Some(pool::unique_local(bytes)))
        }
    }
}

/// The domains that are wished for; without a wish, that of the gateway's own name where there are resolvers.
fn domains(wish: &Wish, gateway: &Gateway) -> Result<Vec<String>> {
    match &wish.domains {
        Some(domains) => domains.iter().map(|text| name::domain(text)).collect(),
        None if wish.resolvers.as_ref().is_some_and(|resolvers| !resolvers.is_empty()) => {
            Ok(name::domain_around(&gateway.dialled).into_iter().collect())
        }
        None => Ok(Vec::new()),
    }
}

/// A new call secret for a listener.
fn call_secret(sealing: &SealingKey, listener: &str, number: u32, gateway: &Gateway) -> Result<CallSecret> {
    let mut bytes = zeroize::Zeroizing::new([0; CALL_LENGTH]);
    random(&mut bytes[..])?;
    let secret = Secret::new(bytes.to_vec());
    let kept = sealing.seal(&secret, &labels::call(listener, number))?;
    CallSecret::new(listener, number, &secret, kept, &gateway.public_key)
}

/// Makes a new call secret for a listener; the one before opens for `overlap` longer. Gives how many handovers that makes stale.
///
/// # Errors
/// No such listener, or its tunnel has no call secrets.
pub fn renew(context: &mut Context, listener: &str, overlap: SignedDuration) -> Result<(Listener, Timestamp, Stale)> {
    let sealing = context.key()?;
    let until = context.now + overlap;
    context.write(|book| {
        let mut listener: Listener = book.need(listener)?;
        let stale = find::stale_at(book, &listener.gateway)?;
        let gateway: Gateway = book.need(&listener.gateway)?;
        let word = listener.tunnel.word().to_owned();
        let Tunnel::Quill(quill) = &mut listener.tunnel else {
            return Err(Problem::words(format!("the {word} tunnel has no call secret")));
        };
        let number = quill.calls.first().map_or(1, |newest| newest.number + 1);
        quill.renew(call_secret(&sealing, &listener.name, number, &gateway)?, until, book.now)?;
        book.put(&listener)?;
        book.note(
            "listener renew",
            &listener.name,
            &format!("call secret {number}; the one before until {}", moment(until)),
        )?;
        let stale = find::became_stale(book, &gateway.name, &stale)?;
        Ok((listener, until, stale))
    })
}

/// A new call secret in place of all that open, at once: for a gateway with new keys.
pub(crate) fn renew_at_once(
    book: &Book<'_>,
    sealing: &SealingKey,
    gateway: &Gateway,
    listener: &mut Listener,
) -> Result<()> {
    if let Tunnel::Quill(quill) = &mut listener.tunnel {
        let number = quill.calls.first().map_or(1, |newest| newest.number + 1);
        quill.calls = vec![call_secret(sealing, &listener.name, number, gateway)?];
        book.put(listener)?;
        book.note("listener renew", &listener.name, &format!("call secret {number}; the one before opens no more"))?;
    }
    Ok(())
}

fn describe(listener: &Listener) -> String {
    format!("{}, pool {}, reach {}", listener.services(), listener.pool, listener.reach)
}

/// Changes a listener; with a new pool, every credential gets a new address. Gives how many handovers that makes stale.
///
/// # Errors
/// As [`open`]; also a pool that cannot hold everybody.
pub fn change(context: &mut Context, listener: &str, wish: &Wish) -> Result<(Listener, Stale)> {
    check(wish)?;
    context.write(|book| {
        let mut listener: Listener = book.need(listener)?;
        let stale = find::stale_at(book, &listener.gateway)?;
        let gateway: Gateway = book.need(&listener.gateway)?;
        let host: Host = book.need(&gateway.host)?;
        let before = serde_json::to_value(&listener).ok();
        change_ports(book, &gateway, &host, &mut listener, wish)?;
        if let Some(reach) = &wish.reach {
            listener.reach = reach.clone();
        }
        if let Some(resolvers) = &wish.resolvers {
            listener.resolvers.clone_from(resolvers);
        }
        if let Some(domains) = &wish.domains {
            listener.domains = domains.iter().map(|text| name::domain(text)).collect::<Result<_>>()?;
        }
        listener.keep_alive = wish.keep_alive.unwrap_or(listener.keep_alive);
        listener.packet_size = wish.packet_size.unwrap_or(listener.packet_size);
        for (name, value) in &wish.settings {
            let mut changed = listener.tunnel.clone();
            changed.set(name, value)?;
            if changed != listener.tunnel && listener.tunnel.handed_over().contains(&name.as_str()) {
                return Err(Problem::refused(format!("the {name} of {} cannot change to {value}", listener.name))
                    .why("devices learn it from their handover; all of them would be locked out")
                    .try_(format!(
                        "yestrel listener open {} --name second --{name} {value}   and move devices over",
                        listener.gateway
                    )));
            }
            listener.tunnel = changed;
        }
        let taken = site::taken(book, &listener.name)?;
        if let Some(text) = &wish.pool {
            let pool = pool::check(&pool::range(text)?, &taken)?;
            if pool != listener.pool {
                listener.pool = pool;
                renumber(book, &listener)?;
            }
        }
        if wish.pool6.is_some() {
            listener.pool6 = pool6(wish, &listener.pool, &taken)?;
        } else if let Some(six) = &listener.pool6 {
            pool::check6(&IpNet::V6(*six), &listener.pool, &taken)?;
        }
        if serde_json::to_value(&listener).ok() == before {
            return Err(Problem::words("nothing was said that should change").try_("yestrel help listener change"));
        }
        site::can_be_told(book, &listener)?;
        book.put(&listener)?;
        book.note("listener change", &listener.name, &describe(&listener))?;
        let stale = find::became_stale(book, &gateway.name, &stale)?;
        Ok((listener, stale))
    })
}

/// Brings what a command says about ports into a listener: the first port of one's choice, and as what it is dialled.
fn change_ports(book: &Book<'_>, gateway: &Gateway, host: &Host, listener: &mut Listener, wish: &Wish) -> Result<()> {
    if wish.port.is_none() && wish.outside_port.is_none() {
        return Ok(());
    }
    let chosen = listener.tunnel.needs().iter().position(|need| matches!(need, Need::AnyPort(_)));
    let Some(served) = chosen.and_then(|at| listener.serves.get(at)).cloned() else {
        return Err(Problem::words(format!("the {} tunnel has no port of one's choice", listener.tunnel.word())));
    };
    let with_port = |service: Service, port: Option<u16>| match (service, port) {
        (Service::Port(protocol, _), Some(port)) => Service::Port(protocol, port),
        _ => service,
    };
    let inside = with_port(served.inside, wish.port);
    is_free(book, gateway, host, &Need::AnyPort(Protocol::Udp), inside, &listener.name)?;
    let followed = if served.outside == served.inside { inside } else { served.outside };
    let outside = with_port(followed, wish.outside_port);
    if let Some(served) = chosen.and_then(|at| listener.serves.get_mut(at)) {
        *served = Served { inside, outside };
    }
    Ok(())
}

/// Gives every credential of a listener an address in its new pool.
fn renumber(book: &Book<'_>, listener: &Listener) -> Result<()> {
    let mut held: Vec<Address> = book.find(&[("listener", listener.name.as_str().into())])?;
    // What is held after a revocation is of the old pool.
    for gone in held.extract_if(.., |address| address.held_until.is_some()) {
        book.remove::<Address>(&gone.name)?;
    }
    if held.len() as u64 > u64::from(pool::room(&listener.pool)) {
        return Err(Problem::refused(format!("the pool {} is too small", listener.pool)).why(format!(
            "at {} {} an address, and it holds {}",
            listener.name,
            match held.len() {
                1 => "1 device has".to_owned(),
                many => format!("{many} devices have"),
            },
            pool::room(&listener.pool)
        )));
    }
    for address in &held {
        book.remove::<Address>(&address.name)?;
    }
    // Leases are the agent's: it gives new ones at the next sign-in. Who can keep an address keeps it.
    held.retain(|address| !address.leased);
    let stays = |address: &Address| pool::usable(&listener.pool, address.inner);
    let mut used: BTreeSet<_> = held.iter().filter(|one| stays(one)).map(|one| one.inner).collect();
    for address in held {
        let inner =
            if stays(&address) { address.inner } else { pool::next_free(&listener.name, &listener.pool, &used)? };
        used.insert(inner);
        book.put(&Address::new(&listener.name, inner, &address.credential))?;
        let mut credential: Credential = book.need(&address.credential)?;
        credential.given_mut().filter(|way| way.listener == listener.name).for_each(|way| way.inner = inner);
        book.put(&credential)?;
    }
    Ok(())
}

/// A listener with how full its pool is.
#[derive(Debug, Serialize)]
pub struct ListenerStanding {
    pub listener: Listener,
    pub given_out: usize,
    /// Addresses of revoked credentials, which nobody else gets yet.
    pub held: usize,
    pub room: u32,
}

/// All listeners, or those of one gateway.
///
/// # Errors
/// No such gateway.
pub fn list(context: &mut Context, gateway: Option<&str>) -> Result<Vec<ListenerStanding>> {
    context.read(|book| {
        let listeners: Vec<Listener> = match gateway {
            Some(gateway) => {
                book.need::<Gateway>(gateway)?;
                book.find(&[("gateway", gateway.into())])?
            }
            None => book.all()?,
        };
        let standing = |listener: Listener| {
            let all = book.find::<Address>(&[("listener", listener.name.as_str().into())])?;
            let given_out = all.iter().filter(|address| address.held_until.is_none()).count();
            let held = all.iter().filter(|one| one.held_until.is_some() && !one.is_free(book.now)).count();
            let room = pool::room(&listener.pool);
            Ok(ListenerStanding { listener, given_out, held, room })
        };
        listeners.into_iter().map(standing).collect()
    })
}

/// One listener.
///
/// # Errors
/// There is none of that name.
pub fn show(context: &mut Context, listener: &str) -> Result<ListenerStanding> {
    let gateway = context.read(|book| book.need::<Listener>(listener))?.gateway;
    let found = list(context, Some(&gateway))?.into_iter().find(|found| found.listener.name == listener);
    found.ok_or_else(|| Problem::failed(format!("the listener {listener} is gone")))
}

/// Takes a listener and everything that hangs on it out of the estate.
pub(crate) fn forget(book: &Book<'_>, listener: &Listener) -> Result<()> {
    for address in book.find::<Address>(&[("listener", listener.name.as_str().into())])? {
        book.remove::<Address>(&address.name)?;
        if let Some(mut credential) = book.get::<Credential>(&address.credential)? {
            credential.leave(&listener.name);
            book.put(&credential)?;
        }
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
        let held = find::given_at(book, &listener.name)?;
        forget(book, &listener)?;
        account::forget_for_agent(book, &listener.gateway)?;
        book.note("listener close", &listener.name, &format!("{} had a way in there", counted(held, "credential")))?;
        Ok(held)
    })
}

/// The pool's own address and network, for showing.
#[must_use]
pub fn own_address(pool: &Ipv4Net) -> std::net::Ipv4Addr {
    pool::gateway_address(pool)
}
