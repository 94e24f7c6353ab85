//! Signing in with an account, and lock-outs.

use yestrel_core::account::{self, Account};
use yestrel_core::admission::{ms_chap_purpose, second_factor_purpose};
use yestrel_core::estate::{Credential, CredentialKind, Gateway, User, UserState};
use yestrel_core::{Problem, Result, moment, sealed};
use yestrel_store::{Book, Query, SealingKey};

use super::wish::named;
use crate::context::Context;
use crate::find;
use crate::keyring::labels;
use crate::registry;

/// Seals an account's form for MS-CHAPv2 to the agents of those gateways that take it, each for itself, and to no others.
///
/// # Errors
/// The form cannot be opened; a gateway's key is damaged.
pub(super) fn seal_for_agents(
    book: &Book<'_>,
    sealing: &SealingKey,
    credential: &str,
    account: &mut Account,
    gateways: &[String],
) -> Result<()> {
    account.for_agents.clear();
    // A second factor cannot be asked for in MS-CHAPv2: who needs both does not come in by the password alone.
    let Some(kept) = account.ms_chap.as_ref().filter(|_| account.second_factor.is_none()) else { return Ok(()) };
    for name in gateways {
        if find::listeners_of(book, name)?.iter().any(|listener| listener.tunnel.takes_ms_chap()) {
            let gateway: Gateway = book.need(name)?;
            let form = sealing.open(kept, &labels::ms_chap(credential))?;
            let sealed = sealed::seal(&gateway.public_key, &ms_chap_purpose(&account.name), &form)?;
            account.for_agents.insert(gateway.name.clone(), sealed);
        }
    }
    Ok(())
}

/// Seals the second factor of a key pair to the agents of its gateways, each for itself, where it has one.
///
/// # Errors
/// It cannot be opened; a gateway's key is damaged.
pub(super) fn seal_factor_for_agents(book: &Book<'_>, sealing: &SealingKey, credential: &mut Credential) -> Result<()> {
    let (name, identity, gateways) = (credential.name.clone(), credential.identity, credential.gateways());
    let Some(factor) = credential.key_factor_mut() else { return Ok(()) };
    let secret = sealing.open(&factor.secret, &labels::second_factor(&name))?;
    factor.for_agents.clear();
    for gateway in gateways {
        let gateway: Gateway = book.need(&gateway)?;
        let sealed = sealed::seal(&gateway.public_key, &second_factor_purpose(&identity), &secret)?;
        factor.for_agents.insert(gateway.public_key.to_string(), sealed);
    }
    Ok(())
}

/// The same for every second factor of a key pair that comes in at a gateway, which has another key.
///
/// # Errors
/// As [`seal_factor_for_agents`].
pub(crate) fn seal_all_factors_for_agent(book: &Book<'_>, sealing: &SealingKey, gateway: &str) -> Result<()> {
    let live = [("revoked", serde_json::Value::Null)];
    let query = Query { filters: &live, having: Some("second_factor"), ..Query::default() };
    for mut credential in book.ask::<Credential>(&query)? {
        if credential.gateways().iter().any(|one| one == gateway) {
            seal_factor_for_agents(book, sealing, &mut credential)?;
            book.put(&credential)?;
        }
    }
    Ok(())
}

/// The same for every account of a gateway: a listener has begun or ceased to take it, or the gateway has another key. Gives how many
/// accounts do not come in there: without such a form, or with a second factor.
///
/// # Errors
/// As [`seal_for_agents`].
pub(crate) fn seal_all_for_agent(book: &Book<'_>, sealing: &SealingKey, gateway: &str) -> Result<usize> {
    let live = [("kind", CredentialKind::Password.word().into()), ("revoked", serde_json::Value::Null)];
    let mut without = 0;
    for mut credential in book.find::<Credential>(&live)? {
        let (name, gateways) = (credential.name.clone(), Vec::from_iter(credential.gateways()));
        if !gateways.iter().any(|one| one == gateway) {
            continue;
        }
        let Some(account) = credential.account_mut() else { continue };
        let before = account.for_agents.clone();
        seal_for_agents(book, sealing, &name, account, &gateways)?;
        without += usize::from(!account.for_agents.contains_key(gateway));
        if account.for_agents != before {
            book.put(&credential)?;
        }
    }
    Ok(without)
}

/// A gateway whose listeners no longer take it loses the forms of all accounts.
///
/// # Errors
/// The estate cannot be read.
pub(crate) fn forget_for_agent(book: &Book<'_>, gateway: &str) -> Result<()> {
    if find::listeners_of(book, gateway)?.iter().any(|listener| listener.tunnel.takes_ms_chap()) {
        return Ok(());
    }
    for mut credential in book.find::<Credential>(&[("kind", CredentialKind::Password.word().into())])? {
        if credential.account_mut().is_some_and(|account| account.for_agents.remove(gateway).is_some()) {
            book.put(&credential)?;
        }
    }
    Ok(())
}

/// Ends the lock-out of an account before its time; whether there was one.
///
/// # Errors
/// The device has no account.
pub fn lift(context: &mut Context, text: &str) -> Result<bool> {
    context.write(|book| {
        let mut credential = named(book, text, Some(CredentialKind::Password))?;
        let now = book.now;
        let locked = credential.account_mut().is_some_and(|account| account.lift(now));
        book.put(&credential)?;
        if locked {
            book.note("credential lift", &credential.name, "")?;
        }
        Ok(locked)
    })
}

/// What a device's account is called: by the name that its user had elsewhere, where they had one.
pub(super) fn name_of(user: &User, device: &str) -> String {
    let own = device.split_once('/').map_or(device, |(_, own)| own);
    format!("{}.{own}", user.alias.as_ref().unwrap_or(&user.name))
}

/// Refuses a name by which somebody signs in already: a device that is called something else by now keeps the name of its account.
pub(super) fn check_name(book: &Book<'_>, name: &str) -> Result<()> {
    match book.account(name)? {
        None => Ok(()),
        Some(other) => Err(Problem::refused(format!("there is already an account {name}"))
            .why(format!("{} signs in by it, from when it or its user was called so", other.device))
            .try_(format!("yestrel credential renew {}   gives it one by its present name", other.name))),
    }
}

/// Tries a sign-in with an account of the estate: counted like any other.
///
/// # Errors
/// There is no such account, or it is not let in, with the reason.
pub fn sign_in(context: &mut Context, account_name: &str, password: &str, code: Option<&str>) -> Result<String> {
    let keys = context.keys()?;
    let (name, refused) = context.write(|book| {
        let account_name = &*registry::account_of(book, account_name)?;
        let mut credential = book.account(account_name)?.ok_or_else(|| {
            Problem::refused(format!("there is no account {account_name:?}"))
                .try_("yestrel credential list --kind password")
        })?;
        let now = book.now;
        let user: User = book.need(&credential.user)?;
        if user.state == UserState::Suspended {
            return Err(Problem::refused(format!("{} is suspended", user.name))
                .try_(format!("yestrel user restore {}", user.name)));
        }
        if let Some(end) = credential.expires.filter(|end| *end <= now) {
            return Err(Problem::refused(format!("{account_name} ended on {}", moment(end))));
        }
        let (name, device) = (credential.name.clone(), credential.device.clone());
        let Some(account) = credential.account_mut() else { return Err(Problem::failed("an account is damaged")) };
        let right = account::matches(password, &account.password);
        let second = account.second_factor.clone();
        let secret =
            second.map(|second| keys.sealing.open(&second.secret, &labels::second_factor(&name))).transpose()?;
        let verdict = account.sign_in(right, secret.as_ref().map(|secret| (secret, code)), now);
        let refused = account::refusal(account_name, &device, &verdict);
        if refused.is_none() {
            credential.first_used.get_or_insert(now);
            credential.last_used = Some(now);
        }
        book.put(&credential)?;
        Ok((name, refused))
    })?;
    refused.map_or(Ok(name), Err)
}
