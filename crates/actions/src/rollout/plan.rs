//! What a rollout would do: what each gateway is to be now, compared with the order that it has.

use std::collections::{BTreeMap, BTreeSet};

use serde::Serialize;
use yestrel_core::Result;
use yestrel_core::admission::Proof;
use yestrel_core::estate::{Authority, Credential, Gateway, Revocation, SharedSecret, Site, StoredOrder, User};
use yestrel_core::exchange::agent::Status;
use yestrel_core::order::{self, Admit, Change, Content, Part, Peer, PeerDial};
use yestrel_core::tunnel::Tunnel;
use yestrel_store::Book;

use crate::authority::lists;
use crate::context::Context;
use crate::credential::notice;
use crate::find;
use crate::gateway::certificate;
use crate::{leftover, session};

/// What a gateway is to be now, as the estate stands.
fn content(book: &Book<'_>, gateway: &Gateway) -> Result<Content> {
    let site: Site = book.need(&gateway.site)?;
    let mut credentials: Vec<Credential> = book.find(&[("revoked", serde_json::Value::Null)])?;
    credentials.retain(|credential| credential.gateways().contains(&gateway.name));
    let published: Vec<_> = lists::published_at(book, &gateway.name)?
        .into_iter()
        .map(|authority| (authority.name, authority.certificate))
        .collect();
    let authorities: Vec<_> =
        book.all::<Authority>()?.into_iter().map(|authority| (authority.name, authority.certificate)).collect();
    let peers = peers(book, gateway)?;
    order::content(&order::Extract {
        peers: &peers,
        gateway,
        published: &published,
        authorities: &authorities,
        holds: find::this_estate(book)?.orders_hold,
        site: &site,
        listeners: &find::listeners_of(book, &gateway.name)?,
        credentials: &credentials,
        shared_secrets: &book.all::<SharedSecret>()?,
        users: &book.all::<User>()?,
        revocations: &book.all::<Revocation>()?,
        now: book.now,
    })
}

/// The estate's other gateways, and agents that were left behind, as this one is told of them.
fn peers(book: &Book<'_>, gateway: &Gateway) -> Result<Vec<Peer>> {
    let mut peers = Vec::new();
    for other in book.all::<Gateway>()?.into_iter().filter(|other| other.name != gateway.name) {
        let mut listeners = find::listeners_of(book, &other.name)?;
        listeners.sort_by(|a, b| a.name.cmp(&b.name));
        let dial = listeners.iter().find_map(|listener| match &listener.tunnel {
            Tunnel::Quill(quill) => {
                Some(PeerDial { address: other.dialled.clone(), port: listener.outside_port(), cipher: quill.cipher })
            }
            Tunnel::Ikev2(_) | Tunnel::Other(_) => None,
        });
        peers.push(Peer { gateway: other.name, public_key: other.public_key, dial });
    }
    for (_, old) in leftover::bare(book)? {
        peers.push(Peer { gateway: old.gateway, public_key: old.public_key, dial: None });
    }
    peers.retain(|peer| peer.public_key != gateway.public_key);
    peers.sort_by(|a, b| (&a.gateway, a.public_key).cmp(&(&b.gateway, b.public_key)));
    Ok(peers)
}

/// Whether a gateway has not confirmed what the estate wants of it now.
pub(crate) fn is_behind(book: &Book<'_>, gateway: &Gateway) -> Result<bool> {
    Ok(match find::newest_order(book, &gateway.name)? {
        None => true,
        Some(order) => {
            order.received.is_none()
                || order.envelope.read()?.content != content(book, gateway)?
                || gateway.trusts.is_some()
                || certificate::due(book, gateway)?.is_some()
                || lists::due_numbers(book, &gateway.name)? != gateway.lists_there
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
    /// Devices that the gateway lets in and of which this estate knows nothing: they were admitted after the backup from which it was
    /// loaded.
    pub unknown: Vec<String>,
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

/// What a rollout would do at one gateway; `only`: of what waits there, that part alone.
pub(super) fn plan_one(book: &Book<'_>, gateway: &Gateway, only: Option<&Part>) -> Result<(Plan, Content)> {
    let mut new = content(book, gateway)?;
    let newest = find::newest_order(book, &gateway.name)?;
    let only = only.zip(newest.as_ref());
    if let Some((only, newest)) = only {
        new = order::limited(&newest.envelope.read()?.content, &new, only);
    }
    let confirmed = book.get::<StoredOrder>(&format!("{} {}", gateway.name, gateway.order_number))?;
    let old = confirmed.map(|order| order.envelope.read()).transpose()?.map(|order| order.content);
    let due = if only.is_none() { certificate::due(book, gateway)? } else { None };
    // An order that tells of the estate's new key is needed even where nothing else has changed.
    let new_key = gateway.trusts.is_some();
    let signer = find::this_estate(book)?.public_key;
    let to = match &newest {
        None => 1,
        Some(order) if due.is_some() => order.number + 1,
        Some(order) if new_key && order.envelope.verify(&signer).is_err() => order.number + 1,
        Some(order) if order.envelope.read()?.content == new => order.number,
        Some(order) => order.number + 1,
    };
    let numbers = numbers(book, gateway, &new)?;
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
    let stay: BTreeSet<_> = new.admit.iter().map(|admit| admit.proof.identity().to_string()).collect();
    let gone =
        old.iter().flat_map(|old| &old.admit).filter(|admit| !stay.contains(&admit.proof.identity().to_string()));
    let unknown = if only.is_none() { unknown(book, gone)? } else { Vec::new() };
    let plan = Plan { gateway: gateway.name.clone(), from: gateway.order_number, to, changes, nothing_to_do, unknown };
    Ok((plan, new))
}

/// The number of each list that a gateway with this content should publish.
pub(super) fn numbers(book: &Book<'_>, gateway: &Gateway, content: &Content) -> Result<BTreeMap<String, u64>> {
    let mut numbers = lists::due_numbers(book, &gateway.name)?;
    let named = |name: &String| content.publish.as_ref().is_some_and(|publish| publish.authorities.contains_key(name));
    numbers.retain(|name, _| named(name));
    Ok(numbers)
}

/// What a rollout would do, as far as the estate knows; changes nothing and asks nobody.
///
/// # Errors
/// There is no such gateway.
pub fn remembered(context: &mut Context, names: &[String], only: Option<&Part>) -> Result<Vec<Plan>> {
    context.read(|book| chosen(book, names)?.iter().map(|gateway| Ok(plan_one(book, gateway, only)?.0)).collect())
}

/// What a rollout would do; changes nothing. Gateways of which the estate thinks that nothing is to be done are asked.
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
    Ok(plans)
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
                let hash = find::newest_order(book, &name)?.map(|order| order.hash).unwrap_or_default();
                Ok(status.differs(&name, &find::this_estate(book)?.id, &hash))
            })?,
            Err(problem) => Some(problem.line()),
        };
        differ.extend(words.map(|words| (name, words)));
    }
    Ok(differ)
}
