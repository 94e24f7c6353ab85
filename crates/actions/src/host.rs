//! Hosts: what a command does with the machines at a site.

use std::sync::Arc;

use jiff::Timestamp;
use yestrel_core::estate::{Access, Gateway, Host, HostKind, Leftover, Site, SshTarget, Via};
use yestrel_core::exchange::host::Facts as FactsOf;
use yestrel_core::findings::{Facts, Finding};
use yestrel_core::firewall::Service;
use yestrel_core::{Problem, Result, name};
pub use yestrel_places::fingerprint;
use yestrel_places::{Person, Whose};
use yestrel_store::Book;
use zeroize::Zeroizing;

use crate::context::Context;
use crate::find::{self, still_needed};
use crate::leftover;

/// What a command says about a host; `None` leaves what is there. An empty text takes away what is there.
#[derive(Debug, Default)]
pub struct Wish {
    pub site: Option<String>,
    pub kind: Option<HostKind>,
    pub via: Option<Via>,
    pub key_file: Option<String>,
    pub jump: Option<String>,
    pub agent_binary: Option<String>,
    /// The fingerprint that the host's key must have; then nobody is asked.
    pub host_key: Option<String>,
    /// The same of the host on the way.
    pub jump_key: Option<String>,
    /// How many users it carries at once; `Some(None)`: nobody says any more.
    pub users_at_once: Option<Option<u32>>,
}

/// A person who has said already which key is right.
struct Expecting {
    host: Option<String>,
    jump: Option<String>,
    person: Arc<dyn Person>,
}

impl Person for Expecting {
    fn secret(&self, what: &str) -> Result<Zeroizing<String>> {
        self.person.secret(what)
    }

    fn compares(&self, host: &str, whose: Whose, algorithm: &str, fingerprint: &str) -> Result<bool> {
        let named = match whose {
            Whose::Host => &self.host,
            Whose::Jump => &self.jump,
        };
        let Some(named) = named else { return self.person.compares(host, whose, algorithm, fingerprint) };
        if fingerprint == named {
            return Ok(true);
        }
        Err(Problem::refused(format!("the key of {host} is not the one that was named"))
            .why(format!("it is {algorithm} {fingerprint}, and {named} was named"))
            .try_("compare again; if they differ, somebody may stand in between"))
    }

    fn progress(&self, what: &str, done: u64, whole: u64) {
        self.person.progress(what, done, whole);
    }
}

/// Brings what a command says into a host's record; whether how it is got into is another now.
fn apply(host: &mut Host, wish: &Wish) -> Result<bool> {
    let some = |text: &String| (!text.is_empty()).then(|| text.clone());
    if let Some(kind) = wish.kind {
        host.kind = kind;
    }
    if let Some(site) = &wish.site {
        host.site.clone_from(site);
    }
    if let Some(users) = wish.users_at_once {
        host.users_at_once = users;
    }
    let before = (host.via.clone(), host.access.clone());
    if let Some(via) = &wish.via {
        host.via = via.clone();
    }
    let access = &mut host.access;
    if let Some(key_file) = &wish.key_file {
        access.key_file = some(key_file).map(|path| absolute(&path)).transpose()?;
    }
    if let Some(binary) = &wish.agent_binary {
        access.agent_binary = some(binary).map(|path| absolute(&path)).transpose()?;
    }
    if let Some(jump) = &wish.jump {
        access.jump = some(jump).map(|jump| jump.parse::<SshTarget>()).transpose()?;
        access.jump_key = None;
    }
    for fingerprint in [&wish.host_key, &wish.jump_key].into_iter().flatten() {
        if !fingerprint.starts_with("SHA256:") {
            return Err(Problem::words(format!("{fingerprint:?} is no fingerprint of a key"))
                .why("a fingerprint is SHA256: and 43 letters and digits")
                .try_("on the host: ssh-keygen -l -f /etc/ssh/ssh_host_ed25519_key.pub"));
        }
    }
    if wish.host_key.is_some() {
        access.host_key = None;
    }
    if wish.jump_key.is_some() {
        if access.jump.is_none() {
            return Err(Problem::words(format!("there is no host on the way to {}", host.name))
                .why("only such a one has a jump key")
                .try_("--jump ssh://USER@ADDRESS:PORT"));
        }
        access.jump_key = None;
    }
    if host.via.ssh().is_none() && host.access != Access::default() {
        return Err(Problem::words("keys, jump hosts and binaries are for hosts that are managed over SSH")
            .why(format!("the host {} is managed via {}", host.name, host.via)));
    }
    let keys = wish.host_key.is_some() || wish.jump_key.is_some();
    Ok(before != (host.via.clone(), host.access.clone()) || keys)
}

/// A path that means the same from everywhere.
fn absolute(path: &str) -> Result<String> {
    let whole = std::path::absolute(path)
        .map_err(|error| Problem::words(format!("{path:?} is no path")).why(error.to_string()))?;
    Ok(whole.display().to_string())
}

/// What the gateway on a host takes from outside, where there is one.
fn services_of(book: &Book<'_>, host: &str) -> Result<Vec<Service>> {
    let mut services = Vec::new();
    for gateway in book.find::<Gateway>(&[("host", host.into())])? {
        let listeners = find::listeners_of(book, &gateway.name)?;
        services.extend(listeners.iter().flat_map(|listener| listener.serves.iter().map(|served| served.inside)));
    }
    Ok(services)
}

/// Connects to a host as its record says now, and looks at it; the record then holds the keys that were accepted.
fn look(context: &mut Context, host: &mut Host, wish: &Wish) -> Result<Vec<Finding>> {
    let person: Arc<dyn Person> = Arc::new(Expecting {
        host: wish.host_key.clone(),
        jump: wish.jump_key.clone(),
        person: context.person().clone(),
    });
    let manage = yestrel_places::open(host, &person)?.to_manage()?;
    let facts = *manage.ask(&FactsOf)?;
    if host.via.ssh().is_some() {
        host.access = manage.access();
    }
    context.remember(&host.name, manage);
    let now = Timestamp::now();
    let services = context.read(|book| services_of(book, &host.name))?;
    let findings = facts.findings(&services, now);
    host.facts = Some(facts);
    host.probed = Some(now);
    Ok(findings)
}

/// Adds a host, once it answers and says what it is.
///
/// # Errors
/// A bad or taken name, no such site, or the host cannot be reached, or its key is not accepted.
pub fn add(context: &mut Context, name: &str, wish: &Wish) -> Result<(Host, Vec<Finding>)> {
    name::check("host", name)?;
    let site = wish.site.clone().unwrap_or_default();
    context.read(|book| {
        if book.get::<Host>(name)?.is_some() {
            return Err(Problem::refused(format!("there is already a host {name}"))
                .try_(format!("yestrel host change {name}"))
                .try_(format!("yestrel host show {name}")));
        }
        book.need::<Site>(&site).map(drop)
    })?;
    let via = wish.via.clone().ok_or_else(|| {
        Problem::words("how the host is managed is missing").try_("--via ssh://user@address:port, or --via lab")
    })?;
    let mut host = Host {
        name: name.into(),
        site,
        kind: wish.kind.unwrap_or(HostKind::Computer),
        via,
        access: Access::default(),
        facts: None,
        probed: None,
        leftover: None,
        users_at_once: None,
        created: context.now,
    };
    apply(&mut host, wish)?;
    let findings = look(context, &mut host, wish)?;
    context.write(|book| {
        book.add(&host)?;
        book.note("host add", &host.name, &format!("at {}, via {}{}", host.site, host.via, key_words(&host)))
    })?;
    Ok((host, findings))
}

fn key_words(host: &Host) -> String {
    let key = host.access.host_key.as_deref().and_then(yestrel_places::fingerprint);
    let key = key.map(|fingerprint| format!(", key {fingerprint}")).unwrap_or_default();
    let users = host.users_at_once.map(|users| format!(", {users} users at once")).unwrap_or_default();
    format!("{key}{users}")
}

/// Changes a host. How it is reached is changed only once a new connection has been made that way.
///
/// # Errors
/// As [`add`]; then everything is as before.
pub fn change(context: &mut Context, name: &str, wish: &Wish) -> Result<(Host, Vec<Finding>)> {
    let mut host: Host = context.read(|book| {
        if let Some(site) = &wish.site {
            book.need::<Site>(site)?;
        }
        book.need(name)
    })?;
    let says_something = wish.site.is_some()
        || wish.kind.is_some()
        || wish.via.is_some()
        || wish.key_file.is_some()
        || wish.jump.is_some()
        || wish.agent_binary.is_some()
        || wish.host_key.is_some()
        || wish.jump_key.is_some()
        || wish.users_at_once.is_some();
    if !says_something {
        return Err(Problem::words("nothing was said that should change")
            .try_("--via, --key, --jump, --host-key, --jump-key, --agent-binary, --site, --kind or --users-at-once"));
    }
    let moved = apply(&mut host, wish)?;
    let findings = if moved { look(context, &mut host, wish)? } else { Vec::new() };
    context.write(|book| {
        let now: Host = book.need(&host.name)?;
        let facts = if moved { (host.facts.clone(), host.probed) } else { (now.facts, now.probed) };
        host.facts = facts.0;
        host.probed = facts.1;
        book.put(&host)?;
        book.note("host change", &host.name, &format!("at {}, via {}{}", host.site, host.via, key_words(&host)))
    })?;
    Ok((host, findings))
}

/// All hosts.
///
/// # Errors
/// The estate cannot be read.
pub fn list(context: &mut Context) -> Result<Vec<Host>> {
    context.read(|book| book.all())
}

/// One host.
///
/// # Errors
/// There is none of that name.
pub fn show(context: &mut Context, host: &str) -> Result<Host> {
    context.read(|book| book.need(host))
}

/// Looks at a host again and keeps what was found.
///
/// # Errors
/// No such host, or it cannot be reached.
pub fn probe(context: &mut Context, host: &str) -> Result<(Facts, Vec<Finding>)> {
    let mut host: Host = context.read(|book| book.need(host))?;
    let facts = *context.manage(&host)?.ask(&FactsOf)?;
    let services = context.read(|book| services_of(book, &host.name))?;
    let findings = facts.findings(&services, Timestamp::now());
    host.facts = Some(facts.clone());
    host.probed = Some(context.now);
    context.write(|book| {
        // Only what was learned is written: somebody may have changed the rest meanwhile.
        let mut now: Host = book.need(&host.name)?;
        now.facts = host.facts;
        now.probed = host.probed;
        book.put(&now)
    })?;
    Ok((facts, findings))
}

/// What became of a host that was to be removed.
pub enum Removed {
    /// It is gone from the estate; why what managing it has left there may still be there, where it may.
    Gone(Option<Problem>),
    /// An agent was left behind there, and cannot be removed yet: it stays known until it can, and leaves then.
    Later(Problem),
}

/// A host that nothing in the estate needs any more.
///
/// # Errors
/// A gateway is still on it.
pub fn removable(context: &mut Context, host: &str) -> Result<Host> {
    context.read(|book| {
        let host: Host = book.need(host)?;
        let gateways: Vec<_> = book
            .find::<Gateway>(&[("host", host.name.as_str().into())])?
            .into_iter()
            .map(|gateway| gateway.name)
            .collect();
        still_needed(&format!("the host {}", host.name), &gateways, "the gateway", "yestrel gateway retire")?;
        Ok(host)
    })
}

/// Removes a host, and from the machine what managing it has left there. One with an agent that was left behind is cleaned first, or stays known
/// until that can be done; `destroyed`: a person says that the machine is no more.
///
/// # Errors
/// A gateway is still on it.
pub fn remove(context: &mut Context, host: &str, destroyed: bool) -> Result<Removed> {
    let record = removable(context, host)?;
    if let Some(leftover) = record.leftover.clone().filter(|_| !destroyed) {
        let leaving = Leftover { leaving: true, ..leftover };
        return match leftover::remove(context, &record, &leaving) {
            Ok(()) => Ok(Removed::Gone(None)),
            Err(problem) => {
                context.write(|book| {
                    let mut host: Host = book.need(host)?;
                    host.leftover = Some(leaving);
                    book.put(&host)?;
                    book.note("host remove", &host.name, "as soon as it is clean")
                })?;
                Ok(Removed::Later(problem))
            }
        };
    }
    context.write(|book| {
        book.remove::<Host>(host)?;
        book.note("host remove", host, if destroyed { "the machine is no more" } else { "" })
    })?;
    if destroyed {
        return Ok(Removed::Gone(None));
    }
    Ok(Removed::Gone(context.manage(&record).and_then(|manage| manage.leave()).err()))
}
