//! Moving a gateway to another host: name dialled, keys, credentials and inner addresses stay.

use serde::Serialize;
use yestrel_core::estate::{CertificateState, Gateway, Host};
use yestrel_core::exchange::agent::Status;
use yestrel_core::keys::KeyPair;
use yestrel_core::x509::list::Reason;
use yestrel_core::{Problem, Result};
use yestrel_store::Book;
use yestrel_store::seal::random32;

use crate::authority::lists;
use crate::context::Context;
use crate::credential::{account, shared_secret};
use crate::keyring::{Keys, labels};
use crate::{find, leftover, listener, rollout, session};

/// What moving a gateway would do.
#[derive(Debug, Serialize)]
pub struct Move {
    pub gateway: Gateway,
    pub from: String,
    pub to: String,
    /// Devices that come in there.
    pub devices: usize,
    /// What the name that is dialled must lead to afterwards; `None` when it is not known.
    pub new_address: Option<String>,
    /// Whether an address is dialled, which stays behind.
    pub dials_address: bool,
}

/// Looks at a move without doing anything.
///
/// # Errors
/// No such gateway or host, the same host, or one that has a gateway.
pub fn preview(context: &mut Context, gateway: &str, to: &str) -> Result<Move> {
    context.read(|book| {
        let gateway: Gateway = book.need(gateway)?;
        let host: Host = book.need(to)?;
        if gateway.host == host.name {
            return Err(Problem::refused(format!("the gateway {} is on the host {} already", gateway.name, host.name)));
        }
        if let Some(other) = book.find::<Gateway>(&[("host", host.name.as_str().into())])?.first() {
            return Err(Problem::refused(format!("the host {} has the gateway {} already", host.name, other.name))
                .why("one host carries one gateway"));
        }
        let outward = host.facts.as_ref().and_then(|facts| facts.outward(None));
        let new_address = outward.and_then(|interface| interface.addresses.first()).map(|net| net.addr().to_string());
        let devices = find::with_a_way_at(book, &gateway.name)?.len();
        let dials_address = gateway.dialled.parse::<std::net::IpAddr>().is_ok();
        Ok(Move { from: gateway.host.clone(), to: host.name, gateway, devices, new_address, dials_address })
    })
}

/// What a move has come to.
pub struct Moved {
    /// What was removed on the old host.
    pub gone: Vec<String>,
    /// Why that could not be done.
    pub left: Option<Problem>,
    /// The old host has the old keys and could not be reached: the gateway has new ones, which devices learn by way notices.
    pub new_keys: bool,
}

/// New keys for a gateway, new call secrets for its listeners with no overlap, and a new certificate where the estate makes it.
fn renew_secrets(book: &Book<'_>, keys: &Keys, gateway: &mut Gateway) -> Result<()> {
    let pair = KeyPair::from_random(random32()?);
    gateway.private_key = keys.sealing.seal(&pair.private, &labels::gateway(&gateway.name))?;
    gateway.public_key = pair.public;
    gateway.peer_call = super::peer_call(book, &keys.sealing, &pair.public)?;
    for mut one in find::listeners_of(book, &gateway.name)? {
        listener::renew_at_once(book, &keys.sealing, gateway, &mut one)?;
    }
    shared_secret::seal_anew(book, &keys.sealing, gateway)?;
    // Accounts are sealed to the key that the estate has of it.
    book.put(gateway)?;
    account::seal_all_for_agent(book, &keys.sealing, &gateway.name)?;
    account::seal_all_factors_for_agent(book, &keys.sealing, &gateway.name)?;
    if gateway.certificate.take_if(|one| one.authority.is_some()).is_some() {
        gateway.certificate_key = None;
    }
    Ok(())
}

/// The certificate whose key is on a machine that nobody can reach is taken back.
fn revoke_certificate(book: &Book<'_>, keys: &Keys, old: &Gateway) -> Result<()> {
    let Some(one) = old.certificate.as_ref().filter(|one| one.authority.is_some()) else { return Ok(()) };
    if let Some(name) = lists::mark(book, &one.serial, CertificateState::Revoked, Reason::KeyCompromise, book.now)? {
        lists::sign_all(book, keys, &[name], book.now)?;
    }
    Ok(())
}

/// Moves a gateway to another host: name dialled, credentials and inner addresses stay, and so do its keys where the old host can be reached. First the new host carries its
/// newest order, then the old one is freed. Gives what was removed there, or why that could not be done.
///
/// # Errors
/// As [`preview`], or the new host does not take the order: then all is as before. With `abandoned`, an old host that
/// cannot be reached does not stop it: what is there is remembered, and the gateway gets new keys.
pub fn relocate(context: &mut Context, gateway: &str, to: &str, abandoned: bool) -> Result<Moved> {
    let plan = preview(context, gateway, to)?;
    let old: Host = context.read(|book| book.need(&plan.from))?;
    // Before anything is changed: an old host that cannot be freed goes on as a second copy of this gateway.
    let reached = context.manage(&old).and_then(|manage| manage.ask_agent(&Status));
    let lost = match reached {
        Err(problem) if !abandoned => {
            return Err(problem.try_(format!(
                "yestrel gateway move {gateway} --to {to} --abandoned   gives the gateway new keys, and remembers what is on {}",
                old.name
            )));
        }
        reached => reached.is_err(),
    };
    // What a machine has that nobody can reach, is not what the gateway goes by any more.
    let keys = lost.then(|| context.keys()).transpose()?;
    let before = context.write(|book| {
        let mut record: Gateway = book.need(gateway)?;
        let before = (record.clone(), find::listeners_of(book, gateway)?);
        record.host.clone_from(&plan.to);
        record.adopted = false;
        record.news_seen = 0;
        if let Some(outward) = &record.outward {
            let host: Host = book.need(&plan.to)?;
            // The interface has another name there, unless it has the same.
            if host.facts.is_some_and(|facts| facts.outward(Some(outward)).is_none()) {
                record.outward = None;
            }
        }
        if let Some(keys) = &keys {
            leftover::leave(book, &old.name, &before.0)?;
            renew_secrets(book, keys, &mut record)?;
        }
        book.put(&record)?;
        Ok(before)
    })?;
    let how = rollout::How { again: true, ..Default::default() };
    let outcome = rollout::rollout(context, &[gateway.to_owned()], &how)?.pop();
    if let Some(problem) = outcome.and_then(|outcome| outcome.problem) {
        context.write(|book| {
            let (record, listeners) = &before;
            book.put(record)?;
            listeners.iter().try_for_each(|listener| book.put(listener))?;
            if lost {
                let mut host: Host = book.need(&old.name)?;
                host.leftover = None;
                book.put(&host)?;
                keys.iter().try_for_each(|keys| shared_secret::seal_anew(book, &keys.sealing, record))?;
            }
            Ok(())
        })?;
        return Err(problem.try_(format!("the gateway {gateway} is still on {}, as it was", plan.from)));
    }
    let estate = context.read(find::this_estate)?.id;
    let removed = context.manage(&old).and_then(|manage| {
        let _ = session::collect_to_the_end(context, gateway, &*manage, plan.gateway.news_seen);
        manage.remove(&estate, false)
    });
    let (gone, left) = match removed {
        Ok(gone) => (gone, None),
        Err(problem) => (Vec::new(), Some(problem)),
    };
    context.write(|book| {
        let detail = match (&left, lost) {
            (Some(_), true) => "; what is on the old host could not be removed, and the gateway has new keys",
            (Some(_), false) => "; what is on the old host could not be removed",
            (None, _) => "",
        };
        if let Some(keys) = &keys {
            revoke_certificate(book, keys, &before.0)?;
        }
        if left.is_some() && !lost {
            leftover::leave(book, &old.name, &before.0)?;
        } else if left.is_none() && lost {
            // It came back meanwhile.
            let mut host: Host = book.need(&old.name)?;
            host.leftover = None;
            book.put(&host)?;
        }
        book.note("gateway move", gateway, &format!("from {} to {}{detail}", plan.from, plan.to))
    })?;
    Ok(Moved { gone, left, new_keys: lost })
}
