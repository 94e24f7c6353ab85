//! What a command says about a credential to be made, and which one it names.

use std::collections::BTreeSet;
use std::net::Ipv4Addr;

use jiff::Timestamp;
use yestrel_core::estate::{Credential, CredentialKind, Device};
use yestrel_core::keys::PublicKey;
use yestrel_core::x509::Algorithm;
use yestrel_core::{Problem, Result};
use yestrel_store::Book;
use zeroize::Zeroizing;

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
    /// The inner address that it is to have, always; `None`: one that is free, or is leased.
    pub address: Option<Ipv4Addr>,
    /// Good for one session.
    pub once: bool,
    pub valid_from: Option<Timestamp>,
    pub expires: Option<Timestamp>,
    /// A renewal has no end, whatever the one before had.
    pub endless: bool,
}

/// The credential that a command names: by device, and by kind where a device has several, or whole (`mara/laptop/1`).
pub(crate) fn named(book: &Book<'_>, text: &str, kind: Option<CredentialKind>) -> Result<Credential> {
    if text.matches('/').count() >= 2 {
        return book.need(text);
    }
    let device: Device = book.need(text)?;
    let mut all: Vec<Credential> = book.find(&[("device", device.name.as_str().into())])?;
    all.retain(|credential| kind.is_none_or(|kind| credential.kind() == kind));
    let open = Credential::is_current;
    let kinds: BTreeSet<_> = all.iter().filter(|one| open(one)).map(|one| one.kind().word()).collect();
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
