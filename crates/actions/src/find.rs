//! What several nouns look up in the estate.

use std::collections::BTreeSet;

use yestrel_core::estate::{
    Credential, CredentialKind, Estate, Gateway, Group, Host, Listener, Site, StoredOrder, User,
};
use yestrel_core::{Problem, Result};
use yestrel_store::Book;
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
    let all = book.find::<Address>(&[("listener", listener.into()), ("held_until", serde_json::Value::Null)])?;
    Ok(all.len())
}

/// The newest order that was made for a gateway.
pub(crate) fn newest_order(book: &Book<'_>, gateway: &str) -> Result<Option<StoredOrder>> {
    Ok(book.find::<StoredOrder>(&[("gateway", gateway.into())])?.into_iter().max_by_key(|order| order.number))
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
    let mut live: Vec<Credential> = book.find(&[("revoked", serde_json::Value::Null)])?;
    live.retain(|credential| credential.ways().iter().any(|way| way.listener.starts_with(&prefix)));
    Ok(live)
}

/// The credential of a device that is neither revoked nor replaced.
pub(crate) fn current(book: &Book<'_>, device: &str, kind: CredentialKind) -> Result<Option<Credential>> {
    let mut live = live_of_device(book, device)?.into_iter();
    Ok(live.rfind(|credential| credential.kind() == kind && credential.superseded().is_none()))
}

/// The users of a group.
pub(crate) fn members(book: &Book<'_>, group: &str) -> Result<Vec<User>> {
    book.need::<Group>(group)?;
    Ok(book.all::<User>()?.into_iter().filter(|user| user.groups.iter().any(|one| one == group)).collect())
}

/// Handovers that tell their devices something that is no longer so.
#[derive(Debug, Default)]
pub struct Stale {
    pub count: usize,
    /// Devices whose handover became so by one change.
    pub by_this: Vec<String>,
}

/// Devices whose handover tells something of this gateway that is no longer so.
pub(crate) fn stale_at(book: &Book<'_>, gateway: &str) -> Result<BTreeSet<String>> {
    let (listeners, gateways, sites) = (book.all::<Listener>()?, book.all::<Gateway>()?, book.all::<Site>()?);
    let prefix = format!("{gateway}/");
    let credentials = book.find::<Credential>(&[("revoked", serde_json::Value::Null)])?;
    Ok(credentials
        .into_iter()
        .filter(|credential| credential.told.iter().any(|told| told.listener.starts_with(&prefix)))
        .filter(|credential| !credential.stale(&listeners, &gateways, &sites).is_empty())
        .map(|credential| credential.device)
        .collect())
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
