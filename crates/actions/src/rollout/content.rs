//! What a gateway is to be, as the estate stands: whole, or as far as it is about some people.

use std::collections::{BTreeMap, BTreeSet, HashMap, HashSet};

use yestrel_core::Result;
use yestrel_core::estate::{Authority, Gateway, OrderKept, Permit, Revocation, SharedSecret, Site, User, UserState};
use yestrel_core::order::{self, Admit, Content, Part, Peer, PeerDial};
use yestrel_core::policy::Rule;
use yestrel_core::tunnel::Tunnel;
use yestrel_store::queries::{admitted_at, kept_out_at};
use yestrel_store::{Book, Query};

use crate::authority::lists;
use crate::find;
use crate::{job, leftover, policy};

/// What a gateway is to be now, as the estate stands.
pub(super) fn content(book: &Book<'_>, gateway: &Gateway) -> Result<Content> {
    content_beside(book, gateway, &[])
}

/// As [`content`], with what these policies ask of people as well.
pub(super) fn content_beside(book: &Book<'_>, gateway: &Gateway, also: &[Rule]) -> Result<Content> {
    let mut permits: Vec<Permit> = book.ask(&admitted_at(&gateway.name))?;
    let open = job::Open::read(book)?;
    permits.retain(|permit| open.counts(permit.job.as_ref()));
    let revocations = book.ask(&kept_out_at(&gateway.name))?;
    let suspended = book.names::<User>(&Query { filters: &[("state", "suspended".into())], ..Query::default() })?;
    let asked = policy::Asked::read(book)?.and_of(also);
    let (groups, platforms) = (asked.all_groups(book)?, asked.all_platforms(book)?);
    let used = asked.all_used(book)?;
    let people = People {
        permits: &permits,
        revocations: &revocations,
        suspended: &suspended.into_iter().collect(),
        groups,
        platforms,
        used,
    };
    content_for(book, gateway, &asked, &people)
}

/// What an order says of people, of some or of all.
struct People<'a> {
    permits: &'a [Permit],
    revocations: &'a [Revocation],
    suspended: &'a HashSet<String>,
    groups: HashMap<String, Vec<String>>,
    platforms: HashMap<String, String>,
    used: HashSet<String>,
}

/// What a gateway is to be now, of people no more than these.
fn content_for(book: &Book<'_>, gateway: &Gateway, asked: &policy::Asked, people: &People<'_>) -> Result<Content> {
    let site: Site = book.need(&gateway.site)?;
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
        permits: people.permits,
        shared_secrets: &book.all::<SharedSecret>()?,
        suspended: people.suspended,
        revocations: people.revocations,
        policies: &asked.rules,
        registries: &find::registries(book)?,
        used: &people.used,
        groups: &people.groups,
        platforms: &people.platforms,
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

/// The number of each list that a gateway with this content should publish.
pub(super) fn numbers(book: &Book<'_>, gateway: &Gateway, content: &Content) -> Result<BTreeMap<String, u64>> {
    let mut numbers = lists::due_numbers(book, &gateway.name)?;
    let named = |name: &String| content.publish.as_ref().is_some_and(|publish| publish.authorities.contains_key(name));
    numbers.retain(|name, _| named(name));
    Ok(numbers)
}

/// What an order of a gateway says.
pub(super) fn said(book: &Book<'_>, gateway: &Gateway, number: u64) -> Result<Option<Content>> {
    let envelope = book.envelope(&gateway.name, number)?;
    Ok(envelope.map(|envelope| envelope.read()).transpose()?.map(|order| order.content))
}

/// What a gateway's newest order says of those of whom it may be something else by now, and what it is to say: both without what either says of
/// anybody else.
pub(super) struct Few {
    pub old: Content,
    pub new: Content,
    /// Whom it is about.
    pub devices: BTreeSet<String>,
    /// Nothing but people has changed.
    pub people_alone: bool,
}

/// Of more devices at once the whole is read.
const MANY: usize = 5_000;

/// As far as it is about these devices, or about all of whom something has changed; `None` where that is not enough to go by: then the whole
/// is compared.
pub(super) fn few(book: &Book<'_>, gateway: &Gateway, newest: &OrderKept, only: Option<&Part>) -> Result<Option<Few>> {
    if newest.number != gateway.order_number || newest.received.is_none() {
        return Ok(None);
    }
    let mut devices = match only {
        Some(Part { devices, publish: false, certificate: false }) if devices.len() <= MANY => devices.clone(),
        Some(_) => return Ok(None),
        None => match book.pending(&gateway.name, MANY)? {
            Some(pending) => pending,
            None => return Ok(None),
        },
    };
    let asked = devices.clone();
    let mut revocations = BTreeMap::new();
    if only.is_none() {
        // Of shared secrets there are few, and some end by themselves.
        for listener in find::listeners_of(book, &gateway.name)? {
            let held: Vec<SharedSecret> = book.find(&[("holder", listener.name.as_str().into())])?;
            devices.extend(held.into_iter().map(|one| one.name));
        }
    } else {
        // Whoever else was revoked since goes along: an order names every revocation that there is.
        let Some(others) = book.revoked_and_pending(&gateway.name)? else { return Ok(None) };
        for one in others {
            devices.insert(one.device.clone());
            revocations.insert(one.name.clone(), one);
        }
    }
    let (mut permits, mut suspended) = (Vec::new(), HashSet::new());
    let before = book.settings_of(newest)?;
    // What goes on by the list that is there is told what that asks.
    let also = before.iter().filter(|_| only.is_some()).filter_map(|before| before.policies.as_ref());
    let also: Vec<Rule> = also.flat_map(|policies| policies.list.clone()).collect();
    let asked_of = policy::Asked::read(book)?.and_of(&also);
    let (mut groups, mut platforms, mut used) = (HashMap::new(), HashMap::new(), HashSet::new());
    let open = job::Open::read(book)?;
    for device in &devices {
        let live = [("device", device.as_str().into()), ("revoked", serde_json::Value::Null)];
        let theirs = book.find::<Permit>(&live)?.into_iter();
        permits.extend(theirs.filter(|permit| open.counts(permit.job.as_ref())));
        let theirs: Vec<Revocation> = book.find(&[("device", device.as_str().into())])?;
        for one in theirs.into_iter().filter(|one| one.gateways.contains(&gateway.name)) {
            revocations.insert(one.name.clone(), one);
        }
        let user = device.split('/').next().unwrap_or_default();
        if let Some(user) = book.get::<User>(user)? {
            if user.state == UserState::Suspended {
                suspended.insert(user.name.clone());
            }
            asked_of.groups_of(user, &mut groups);
        }
        asked_of.platform_of(book, device, &mut platforms)?;
        asked_of.used_of(book, device, &mut used)?;
    }
    let revocations: Vec<_> = revocations.into_values().collect();
    let identities = revocations.iter().map(|one| one.name.clone()).collect();
    let people =
        People { permits: &permits, revocations: &revocations, suspended: &suspended, groups, platforms, used };
    let mut new = content_for(book, gateway, &asked_of, &people)?;
    let people_alone = before.is_some_and(|settings| settings == new.settings());
    if !people_alone {
        // What is published there for the first time is no matter of these few.
        let numbers = numbers(book, gateway, &new)?;
        if only.is_none() || numbers.keys().any(|name| !gateway.lists_there.contains_key(name)) {
            return Ok(None);
        }
    }
    let excerpt = match devices.is_empty() && revocations.is_empty() {
        true => Some(order::Excerpt::default()),
        false => book.excerpt(newest, &devices, &identities)?,
    };
    let Some(excerpt) = excerpt else { return Ok(None) };
    let mut old = Content { admit: excerpt.admit, ..new.settings() };
    old.admit.sort_by(Admit::in_order);
    let revoked = |admit: &Admit| new.revoked.contains_key(&admit.proof.identity().to_string());
    if only.is_some() {
        // Who is revoked and not asked about keeps whatever else the order says.
        let others = old.admit.iter().filter(|admit| !asked.contains(&admit.device) && !revoked(admit));
        let others: Vec<_> = others.cloned().collect();
        new.admit.retain(|admit| asked.contains(&admit.device));
        new.admit.extend(others);
        new.admit.sort_by(Admit::in_order);
    } else {
        new.admit.retain(|admit| devices.contains(&admit.device));
    }
    old.revoked = excerpt.revoked;
    Ok(Some(Few { old, new, devices: asked, people_alone }))
}
