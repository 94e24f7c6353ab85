//! Credentials: what lets one device in, of whatever kind.
//!
//! | file | its job |
//! |---|---|
//! | `wish` | what a command says about a credential to be made, and which one it names |
//! | `issue` | issuing to one device |
//! | `group` | issuing to everybody of a group, at once or as a job |
//! | `address` | inner addresses that are given by wish |
//! | `renew` | renewing, by hand and before the end |
//! | `end` | taking back, and telling everybody who must know |
//! | `account` | signing in with an account, lock-outs |
//! | `handover` | handing over for Yestrel's own program, and opening that on the device |
//! | `notice` | what is new for a device since its handover |
//! | `forms` | handing over in the forms that systems take |
//! | `shared_secret` | secrets of listeners and of links |

pub(crate) mod account;
mod address;
pub(crate) mod end;
pub mod forms;
mod group;
pub mod handover;
mod issue;
pub mod notice;
mod renew;
pub mod shared_secret;
mod wish;

use std::collections::BTreeSet;

use jiff::Timestamp;
use serde::Serialize;
use yestrel_core::estate::{
    Credential, CredentialKind, CredentialState, Device, Gateway, Listener, Site, Told, User, UserState,
};
use yestrel_core::{Problem, Result};
use yestrel_store::Query;

use crate::context::Context;
use crate::{find, job};
use wish::named;

pub use account::{lift, sign_in};
pub use end::{Ended, Whose, check_reason, revoke, would_revoke};
pub(crate) use group::resume;
pub use group::{Many, issue_group, would_issue};
pub use issue::issue;
pub(crate) use renew::resume as resume_renewal;
pub use renew::{Due, Renewed, renew, renew_due, would_renew};
pub use wish::Wish;

/// A credential with how it stands.
#[derive(Debug, Serialize)]
pub struct CredentialStanding {
    pub credential: Credential,
    pub state: CredentialState,
    /// What its handover says that is no longer so.
    pub stale: Vec<String>,
    pub suspended: bool,
    /// The command on many that made it is not finished, so that it counts nowhere.
    pub unfinished: bool,
}

/// Which credentials are listed.
#[derive(Debug, Default)]
pub struct Filter {
    pub state: Option<CredentialState>,
    pub kind: Option<CredentialKind>,
    pub user: Option<String>,
    /// Only those that end by then.
    pub expiring: Option<Timestamp>,
}

fn is_suspended(user: &User) -> bool {
    user.state == UserState::Suspended
}

/// Credentials of one device, such as the filter says.
///
/// # Errors
/// No such device.
pub fn list(context: &mut Context, device: Option<&str>, filter: &Filter) -> Result<Vec<CredentialStanding>> {
    let mut all = Vec::new();
    each(context, device, filter, |standing| {
        all.push(standing);
        Ok(true)
    })?;
    Ok(all)
}

/// Shows credentials one by one, for as long as `visit` says yes: all, or those of one device, such as the filter says.
///
/// # Errors
/// No such device.
pub fn each(
    context: &mut Context,
    device: Option<&str>,
    filter: &Filter,
    mut visit: impl FnMut(CredentialStanding) -> Result<bool>,
) -> Result<()> {
    let now = context.now;
    context.read(|book| {
        let (listeners, gateways, sites) = (book.all::<Listener>()?, book.all::<Gateway>()?, book.all::<Site>()?);
        let open = job::Open::read(book)?;
        let mut filters = Vec::new();
        // Of one device it is one user; of all, whoever is suspended is found by that.
        let suspended: BTreeSet<String> = match device {
            Some(device) => {
                book.need::<Device>(device)?;
                filters.push(("device", device.into()));
                let name = device.split('/').next().unwrap_or_default();
                book.get::<User>(name)?.into_iter().filter(is_suspended).map(|user| user.name).collect()
            }
            None => {
                let suspended = [("state", "suspended".into())];
                let query = Query { filters: &suspended, ..Query::default() };
                book.names::<User>(&query)?.into_iter().collect()
            }
        };
        filters.extend(filter.kind.map(|kind| ("kind", kind.word().into())));
        filters.extend(filter.user.as_ref().map(|user| ("user", user.as_str().into())));
        let until = filter.expiring.map(|by| by.to_string());
        if until.is_some() {
            filters.push(("revoked", serde_json::Value::Null));
        }
        let at_most = until.as_deref().map(|until| ("expires", until));
        // Devices of one listener were mostly told the same: what of it is stale is found once.
        let mut known: (Vec<Told>, Vec<String>) = Default::default();
        book.each(&Query { filters: &filters, at_most, ..Query::default() }, |credential: Credential| {
            let ends_by =
                |by: Timestamp| credential.is_current() && credential.expires.is_some_and(|end| end > now && end <= by);
            let state = credential.state(now);
            if filter.state.is_some_and(|wanted| wanted != state) || !filter.expiring.is_none_or(ends_by) {
                return Ok(true);
            }
            let mut stale = Vec::new();
            if credential.revoked.is_none() {
                if known.0 != credential.told {
                    known = (credential.told.clone(), credential.stale(&listeners, &gateways, &sites));
                }
                stale.clone_from(&known.1);
            }
            let suspended = suspended.contains(&credential.user);
            let unfinished = !open.counts(credential.job.as_ref());
            visit(CredentialStanding { state, stale, suspended, unfinished, credential })
        })
    })
}

/// What a group's users have of one kind.
#[derive(Debug, Default)]
pub struct OfGroup {
    /// Each with its user.
    pub credentials: Vec<(User, Credential)>,
    /// Devices without one.
    pub without: Vec<String>,
}

/// What each device of a group's users has of a kind: what holds, and is not replaced.
///
/// # Errors
/// There is no such group.
pub fn of_group(context: &mut Context, group: &str, kind: CredentialKind) -> Result<OfGroup> {
    let now = context.now;
    context.read(|book| {
        let mut found = OfGroup::default();
        for user in find::members(book, group)? {
            for device in book.find::<Device>(&[("user", user.name.as_str().into())])? {
                match find::current(book, &device.name, kind)? {
                    Some(credential)
                        if credential.expires.is_none_or(|end| end > now) && job::counts(book, &credential)? =>
                    {
                        found.credentials.push((user.clone(), credential));
                    }
                    _ => found.without.push(device.name),
                }
            }
        }
        Ok(found)
    })
}

/// Gateways at which a credential is taken, and whose agent has not confirmed an order that names it.
///
/// # Errors
/// The estate cannot be read.
pub fn unknown_at(context: &mut Context, credential: &Credential) -> Result<Vec<String>> {
    let identity = credential.identity.to_string();
    context.read(|book| {
        let mut unknown = Vec::new();
        for name in credential.gateways() {
            if address::takers(book, std::slice::from_ref(&name), credential.kind())?.is_empty() {
                continue;
            }
            let gateway: Gateway = book.need(&name)?;
            // The text itself is looked through: reading all of an order only for this would cost by what is in it.
            if !book.order_names(&name, gateway.order_number, &identity)? {
                unknown.push(name);
            }
        }
        Ok(unknown)
    })
}

/// What a device holds of a kind: what is neither revoked nor replaced.
///
/// # Errors
/// The estate cannot be read.
pub fn held(context: &mut Context, device: &str, kind: CredentialKind) -> Result<Option<Credential>> {
    context.read(|book| find::current(book, device, kind))
}

/// One credential, by device or whole name.
///
/// # Errors
/// There is none.
pub fn show(context: &mut Context, text: &str, kind: Option<CredentialKind>) -> Result<CredentialStanding> {
    let credential = context.read(|book| named(book, text, kind))?;
    let found = list(context, Some(&credential.device), &Filter::default())?
        .into_iter()
        .find(|found| found.credential.name == credential.name);
    found.ok_or_else(|| Problem::failed(format!("the credential {text} is gone")))
}
