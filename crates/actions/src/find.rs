//! What several nouns look up in the estate.

use std::collections::BTreeSet;

use yestrel_core::estate::{
    Credential, CredentialKind, Estate, Gateway, Group, Host, Listener, Registry, Site, Told, User, told,
};
use yestrel_core::policy::Claimant;
use yestrel_core::{Problem, Result};
use yestrel_store::Book;
use yestrel_store::queries::{Has, admitted_at, in_group};
use yestrel_store::records::Address;

/// The one estate in a file.
pub(crate) fn this_estate(book: &Book<'_>) -> Result<Estate> {
    book.all::<Estate>()?
        .pop()
        .ok_or_else(|| Problem::failed("the file holds no estate").why("its creation was broken off"))
}

/// A gateway and the host that it is on.
pub(crate) fn gateway_and_host(book: &Book<'_>, gateway: &str) -> Result<(Gateway, Host)> {
    let gateway: Gateway = book.need(gateway)?;
    let host = book.need(&gateway.host)?;
    Ok((gateway, host))
}

/// The listeners of a gateway.
pub(crate) fn listeners_of(book: &Book<'_>, gateway: &str) -> Result<Vec<Listener>> {
    book.find(&[("gateway", gateway.into())])
}

/// How many addresses of a listener are given out to credentials that let somebody in.
pub(crate) fn given_at(book: &Book<'_>, listener: &str) -> Result<usize> {
    book.count::<Address>(&[("listener", listener.into()), ("held_until", serde_json::Value::Null)])
}

/// Every credential with which a device could come in.
pub(crate) fn live_of_device(book: &Book<'_>, device: &str) -> Result<Vec<Credential>> {
    book.find(&[("device", device.into()), ("revoked", serde_json::Value::Null)])
}

/// Every credential with which a user could come in.
pub(crate) fn live_of_user(book: &Book<'_>, user: &str) -> Result<Vec<Credential>> {
    book.find(&[("user", user.into()), ("revoked", serde_json::Value::Null)])
}

/// Live credentials with a way of their own at a gateway.
pub(crate) fn with_a_way_at(book: &Book<'_>, gateway: &str) -> Result<Vec<Credential>> {
    let prefix = format!("{gateway}/");
    let mut live: Vec<Credential> = book.ask(&admitted_at(gateway))?;
    live.retain(|credential| credential.ways().iter().any(|way| way.listener.starts_with(&prefix)));
    Ok(live)
}

/// The credential of a device that is neither revoked nor replaced.
pub(crate) fn current(book: &Book<'_>, device: &str, kind: CredentialKind) -> Result<Option<Credential>> {
    let mut live = live_of_device(book, device)?.into_iter();
    Ok(live.rfind(|credential| credential.kind() == kind && credential.superseded().is_none()))
}

/// All credentials that a device ever had.
pub(crate) fn had(book: &Book<'_>, device: &str) -> Result<Vec<Has>> {
    book.find(&[("device", device.into())])
}

/// The users of a group.
pub(crate) fn members(book: &Book<'_>, group: &str) -> Result<Vec<User>> {
    book.need::<Group>(group)?;
    book.ask(&in_group(group))
}

/// Handovers that tell their devices something that is no longer so.
#[derive(Debug, Default)]
pub struct Stale {
    pub count: usize,
    /// Devices whose handover became so by one change.
    pub by_this: Vec<String>,
}

/// What devices were told, judged. Most devices of a listener were told the same: each such text is judged once.
pub(crate) struct Judge {
    listeners: Vec<Listener>,
    gateways: Vec<Gateway>,
    sites: Vec<Site>,
}

impl Judge {
    pub(crate) fn new(book: &Book<'_>) -> Result<Self> {
        Ok(Self { listeners: book.all()?, gateways: book.all()?, sites: book.all()? })
    }

    /// What a text says.
    pub(crate) fn read(&self, text: &str) -> Result<Vec<Told>> {
        serde_json::from_str(text)
            .map_err(|error| Problem::failed("what a device was told cannot be read").why(error.to_string()))
    }

    /// Whether anything of it is no longer so.
    pub(crate) fn is_stale(&self, told: &[Told]) -> bool {
        !told::stale(told, &self.listeners, &self.gateways, &self.sites).is_empty()
    }
}

/// Devices whose handover tells something of this gateway that is no longer so.
pub(crate) fn stale_at(book: &Book<'_>, gateway: &str) -> Result<BTreeSet<String>> {
    let (judge, mut stale) = (Judge::new(book)?, BTreeSet::new());
    let prefix = format!("{gateway}/");
    for (text, _) in book.told_texts()? {
        let told = judge.read(&text)?;
        if told.iter().any(|told| told.listener.starts_with(&prefix)) && judge.is_stale(&told) {
            book.told(&text, |knows| {
                stale.insert(knows.device);
                Ok(())
            })?;
        }
    }
    Ok(stale)
}

/// How many credentials there are whose devices were told something that is no longer so.
pub(crate) fn count_stale(book: &Book<'_>) -> Result<usize> {
    let (judge, mut count) = (Judge::new(book)?, 0);
    for (text, devices) in book.told_texts()? {
        if judge.is_stale(&judge.read(&text)?) {
            count += devices;
        }
    }
    Ok(count)
}

/// What a change has made stale, of what was `before`.
pub(crate) fn became_stale(book: &Book<'_>, gateway: &str, before: &BTreeSet<String>) -> Result<Stale> {
    let after = stale_at(book, gateway)?;
    Ok(Stale { count: after.len(), by_this: after.difference(before).cloned().collect() })
}

/// Refuses to remove what something else needs.
pub(crate) fn still_needed(what: &str, users: &[String], by: &str, try_: &str) -> Result<()> {
    if users.is_empty() {
        return Ok(());
    }
    let mut names = users[..users.len().min(3)].join(", ");
    if users.len() > 3 {
        names.push_str(&format!(" and {} more", users.len() - 3));
    }
    Err(Problem::refused(format!("{what} is still needed")).why(format!("by {by} {names}")).try_(try_))
}

/// All registries as they take part in the order of checking, in that order.
pub(crate) fn registries(book: &Book<'_>) -> Result<Vec<Claimant>> {
    Ok(Registry::in_order(book.all()?).iter().map(Registry::claimant).collect())
}
