//! Credentials: what lets one device in, of whatever kind.

mod account;
mod end;
mod issue;
mod renew;

use std::collections::BTreeSet;

use jiff::Timestamp;
use serde::Serialize;
use yestrel_core::keys::PublicKey;
use yestrel_core::nouns::{
    Credential, CredentialKind, CredentialState, Device, Gateway, Group, Listener, User, UserState,
};
use yestrel_core::x509::Algorithm;
use yestrel_core::{Problem, Result};
use yestrel_store::Book;
use zeroize::Zeroizing;

use crate::Context;

pub use account::{lift, sign_in};
pub use end::{Ended, Whose, revoke, would_revoke};
pub(crate) use end::{announce, checked_reason, gateways_of, revoke_within};
pub use issue::{Many, issue, issue_group, would_issue};
pub use renew::{Due, Renewed, renew, renew_due, would_renew};

/// The method that needs a form of the password beside the one at rest.
pub const MS_CHAP: &str = "ms-chap-v2";

/// Under which place a credential's key is sealed.
pub(crate) fn place(credential: &str) -> String {
    format!("credential {credential}")
}

/// Under which place an account's second factor is sealed.
pub(crate) fn factor_place(credential: &str) -> String {
    format!("second factor of {credential}")
}

/// Under which place the form for MS-CHAPv2 is sealed.
pub(crate) fn ms_chap_place(credential: &str) -> String {
    format!("{MS_CHAP} form of {credential}")
}

/// What a command says about a credential to be issued.
#[derive(Debug, Default)]
pub struct Wish {
    pub kind: CredentialKind,
    /// Listeners or gateways, in order of preference; empty: all there are, if that is one gateway.
    pub at: Vec<String>,
    /// Made on the device; its private half never comes here.
    pub public_key: Option<PublicKey>,
    /// PKCS#10, made on the device.
    pub request: Option<Vec<u8>>,
    /// What a certificate's key is made of, where it is made here.
    pub algorithm: Algorithm,
    /// The authority that signs a certificate.
    pub authority: Option<String>,
    /// For an account; `None`: one is made.
    pub password: Option<Zeroizing<String>>,
    pub second_factor: bool,
    /// Good for one session.
    pub once: bool,
    pub valid_from: Option<Timestamp>,
    pub expires: Option<Timestamp>,
}

/// The credential of a device that is neither revoked nor replaced.
pub(crate) fn live(book: &Book<'_>, device: &str, kind: CredentialKind) -> Result<Option<Credential>> {
    Ok(all_live(book, device)?
        .into_iter()
        .rfind(|credential| credential.kind == kind && credential.superseded.is_none()))
}

/// Every credential with which a device could come in.
pub(crate) fn all_live(book: &Book<'_>, device: &str) -> Result<Vec<Credential>> {
    book.find::<Credential>(&[("device", device.into()), ("revoked", serde_json::Value::Null)])
}

/// The credential that a command names: by device, and by kind where a device has several, or whole (`mara/laptop/1`).
pub(crate) fn named(book: &Book<'_>, text: &str, kind: Option<CredentialKind>) -> Result<Credential> {
    if text.matches('/').count() >= 2 {
        return book.need(text);
    }
    let device: Device = book.need(text)?;
    let mut all: Vec<Credential> = book.find(&[("device", device.name.as_str().into())])?;
    all.retain(|credential| kind.is_none_or(|kind| credential.kind == kind));
    let open = |credential: &Credential| credential.revoked.is_none() && credential.superseded.is_none();
    let kinds: BTreeSet<_> = all.iter().filter(|one| open(one)).map(|one| one.kind.word()).collect();
    if kinds.len() > 1 {
        return Err(Problem::words(format!("{} has several credentials; which is meant?", device.name))
            .why(kinds.into_iter().collect::<Vec<_>>().join(", "))
            .try_("--kind KIND, or its whole name: USER/DEVICE/NUMBER"));
    }
    all.sort_by_key(|credential| (open(credential), credential.issued, credential.name.clone()));
    all.pop().ok_or_else(|| {
        Problem::words(match kind {
            Some(kind) => format!("{} has no {}", device.name, kind.words()),
            None => format!("{} has no credential", device.name),
        })
        .try_(format!("yestrel credential issue {}", device.name))
    })
}

fn members(book: &Book<'_>, group: &str) -> Result<Vec<User>> {
    book.need::<Group>(group)?;
    Ok(book.all::<User>()?.into_iter().filter(|user| user.groups.iter().any(|one| one == group)).collect())
}

/// A credential with how it stands.
#[derive(Debug, Serialize)]
pub struct View {
    pub credential: Credential,
    pub state: String,
    /// What its handover says that is no longer so.
    pub stale: Vec<String>,
    pub suspended: bool,
}

/// Which credentials are listed.
#[derive(Debug, Default)]
pub struct Filter {
    pub state: Option<CredentialState>,
    pub kind: Option<CredentialKind>,
    /// Only those that end by then.
    pub expiring: Option<Timestamp>,
}

/// All credentials; of one device, and such as the filter says, where given.
///
/// # Errors
/// No such device.
pub fn list(context: &mut Context, device: Option<&str>, filter: &Filter) -> Result<Vec<View>> {
    let now = context.now;
    context.read(|book| {
        let credentials: Vec<Credential> = match device {
            Some(device) => {
                book.need::<Device>(device)?;
                book.find(&[("device", device.into())])?
            }
            None => book.all()?,
        };
        let (listeners, gateways, sites) = (book.all::<Listener>()?, book.all::<Gateway>()?, book.all()?);
        let suspended: BTreeSet<_> = book
            .all::<User>()?
            .into_iter()
            .filter(|user| user.state == UserState::Suspended)
            .map(|user| user.name)
            .collect();
        let views = credentials.into_iter().filter(|credential| {
            filter.state.is_none_or(|state| credential.state(now) == state)
                && filter.kind.is_none_or(|kind| credential.kind == kind)
                && filter.expiring.is_none_or(|by| {
                    let open = credential.revoked.is_none() && credential.superseded.is_none();
                    open && credential.expires.is_some_and(|end| end > now && end <= by)
                })
        });
        Ok(views
            .map(|credential| View {
                state: credential.state(now).word().into(),
                stale: if credential.revoked.is_some() {
                    Vec::new()
                } else {
                    credential.stale(&listeners, &gateways, &sites)
                },
                suspended: suspended.contains(&credential.user),
                credential,
            })
            .collect())
    })
}

/// One credential, by device or whole name.
///
/// # Errors
/// There is none.
pub fn show(context: &mut Context, text: &str, kind: Option<CredentialKind>) -> Result<View> {
    let credential = context.read(|book| named(book, text, kind))?;
    let found = list(context, Some(&credential.device), &Filter::default())?
        .into_iter()
        .find(|view| view.credential.name == credential.name);
    found.ok_or_else(|| Problem::failed(format!("the credential {text} is gone")))
}
