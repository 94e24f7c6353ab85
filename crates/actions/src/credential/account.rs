//! Signing in with an account, and lock-outs.

use yestrel_core::account;
use yestrel_core::estate::{CredentialKind, User, UserState};
use yestrel_core::{Problem, Result, moment};

use super::wish::named;
use crate::context::Context;
use crate::find;
use crate::keyring::labels;

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

/// Tries a sign-in with an account of the estate: counted like any other.
///
/// # Errors
/// There is no such account, or it is not let in, with the reason.
pub fn sign_in(context: &mut Context, account_name: &str, password: &str, code: Option<&str>) -> Result<String> {
    let keys = context.keys()?;
    let (name, refused) = context.write(|book| {
        let device = account_name.replacen('.', "/", 1);
        let mut credential = find::current(book, &device, CredentialKind::Password)?.ok_or_else(|| {
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
        let name = credential.name.clone();
        let Some(account) = credential.account_mut() else { return Err(Problem::failed("an account is damaged")) };
        let right = account::matches(password, &account.password);
        let second = account.second_factor.clone();
        let secret =
            second.map(|second| keys.sealing.open(&second.secret, &labels::second_factor(&name))).transpose()?;
        let verdict = account.sign_in(right, secret.as_ref().map(|secret| (secret, code)), now);
        let refused = account::refusal(account_name, &verdict);
        if refused.is_none() {
            credential.first_used.get_or_insert(now);
            credential.last_used = Some(now);
        }
        book.put(&credential)?;
        Ok((name, refused))
    })?;
    refused.map_or(Ok(name), Err)
}
