//! Credentials: issued, renewed, revoked.

use std::collections::BTreeSet;

use jiff::Timestamp;
use serde::Serialize;
use yestrel_core::keys::{KeyPair, PublicKey};
use yestrel_core::nouns::{Credential, CredentialState, Device, Gateway, Listener, Revocation, User, UserState, Way};
use yestrel_core::pool;
use yestrel_core::{Problem, Result, moment};
use yestrel_store::Book;
use yestrel_store::records::Address;
use yestrel_store::seal::random32;

use crate::Context;

/// Under which place a credential's key is sealed.
pub(crate) fn place(credential: &str) -> String {
    format!("credential {credential}")
}

/// What a command says about a credential to be issued.
#[derive(Debug, Default)]
pub struct Wish {
    /// Listeners or gateways, in order of preference; empty: all there are, if that is one gateway.
    pub at: Vec<String>,
    /// Made on the device; its private half never comes here.
    pub public_key: Option<PublicKey>,
    pub valid_from: Option<Timestamp>,
    pub expires: Option<Timestamp>,
}

/// The credential of a device that is not revoked.
pub(crate) fn live(book: &Book<'_>, device: &str) -> Result<Option<Credential>> {
    Ok(book.find::<Credential>(&[("device", device.into()), ("revoked", serde_json::Value::Null)])?.pop())
}

/// The credential that a command names: by device, or whole (`mara/laptop/1`).
pub(crate) fn named(book: &Book<'_>, text: &str) -> Result<Credential> {
    if text.matches('/').count() >= 2 {
        return book.need(text);
    }
    let device: Device = book.need(text)?;
    let mut all: Vec<Credential> = book.find(&[("device", device.name.as_str().into())])?;
    all.sort_by_key(|credential| (credential.revoked.is_none(), credential.issued, credential.name.clone()));
    all.pop().ok_or_else(|| {
        Problem::words(format!("{} has no credential", device.name))
            .try_(format!("yestrel credential issue {}", device.name))
    })
}

fn listeners(book: &Book<'_>, at: &[String]) -> Result<Vec<Listener>> {
    let all: Vec<Listener> = book.all()?;
    if at.is_empty() {
        let gateways: BTreeSet<_> = all.iter().map(|listener| listener.gateway.as_str()).collect();
        return match gateways.len() {
            0 => Err(Problem::refused("there is no listener to come in at").try_("yestrel listener open GATEWAY")),
            1 => Ok(all),
            _ => Err(Problem::words("there are several gateways; where is the device to come in?")
                .why(gateways.into_iter().collect::<Vec<_>>().join(", "))
                .try_("--at GATEWAY, several times for several ways in order of preference")),
        };
    }
    let mut chosen: Vec<Listener> = Vec::new();
    for place in at {
        let found: Vec<_> = if place.contains('/') {
            vec![book.need::<Listener>(place)?]
        } else {
            book.need::<Gateway>(place)?;
            all.iter().filter(|listener| listener.gateway == *place).cloned().collect()
        };
        if found.is_empty() {
            return Err(Problem::refused(format!("the gateway {place} has no listener"))
                .try_(format!("yestrel listener open {place}")));
        }
        for listener in found {
            if !chosen.iter().any(|other| other.name == listener.name) {
                chosen.push(listener);
            }
        }
    }
    Ok(chosen)
}

fn give_address(book: &Book<'_>, listener: &Listener, credential: &str) -> Result<Way> {
    let used: BTreeSet<_> = book
        .find::<Address>(&[("listener", listener.name.as_str().into())])?
        .into_iter()
        .map(|address| address.inner)
        .collect();
    let inner = pool::next_free(&listener.name, &listener.pool, &used)?;
    book.put(&Address::new(&listener.name, inner, credential))?;
    Ok(Way { listener: listener.name.clone(), inner })
}

/// Issues a credential to a device that has none.
///
/// # Errors
/// No such device or listener, a live credential already, a full pool, dates that cannot be.
pub fn issue(context: &mut Context, device: &str, wish: &Wish) -> Result<Credential> {
    let now = context.now;
    if wish.expires.is_some_and(|end| end <= wish.valid_from.unwrap_or(now)) {
        return Err(Problem::words("the credential would end before it begins")
            .why(format!("this machine's clock says {}", moment(now)))
            .try_("a later --until"));
    }
    let key = context.key()?;
    let pair = if wish.public_key.is_none() { Some(KeyPair::from_random(random32()?)) } else { None };
    context.write(|book| {
        let device: Device = book.need(device)?;
        if let Some(there) = live(book, &device.name)? {
            return Err(Problem::refused(format!("{} has a credential already", device.name))
                .why(format!("{} was issued on {}", there.name, moment(there.issued)))
                .try_(format!("yestrel credential renew {}   makes a new one and revokes that", device.name))
                .try_(format!("yestrel credential revoke {} --reason ...", device.name)));
        }
        let credential = make(book, &key, &device, pair, wish, now)?;
        book.note("credential issue", &credential.name, &ways(&credential))?;
        Ok(credential)
    })
}

fn make(
    book: &Book<'_>,
    key: &yestrel_store::SealingKey,
    device: &Device,
    pair: Option<KeyPair>,
    wish: &Wish,
    now: Timestamp,
) -> Result<Credential> {
    let number = book.find::<Credential>(&[("device", device.name.as_str().into())])?.len() + 1;
    let name = format!("{}/{number}", device.name);
    let public_key = match (&pair, wish.public_key) {
        (Some(pair), _) => pair.public,
        (None, Some(public)) => public,
        (None, None) => return Err(Problem::failed("a credential needs a key")),
    };
    let text = public_key.to_string();
    if book.get::<Revocation>(&text)?.is_some() || !book.find::<Credential>(&[("public_key", text.into())])?.is_empty()
    {
        return Err(Problem::refused("this public key is known already")
            .why("a key belongs to one credential of one device, and a revoked one stays out for good")
            .try_("a new key pair, made on the device"));
    }
    let private_key = pair.map(|pair| key.seal(&pair.private, &place(&name))).transpose()?;
    let mut credential = Credential {
        name,
        device: device.name.clone(),
        user: device.user.clone(),
        public_key,
        made_on_device: private_key.is_none(),
        private_key,
        ways: Vec::new(),
        issued: now,
        valid_from: wish.valid_from,
        expires: wish.expires,
        handed_over: None,
        told: Vec::new(),
        revoked: None,
        reason: None,
        first_used: None,
        last_used: None,
    };
    book.put(&credential)?;
    for listener in listeners(book, &wish.at)? {
        let way = give_address(book, &listener, &credential.name)?;
        credential.ways.push(way);
    }
    book.put(&credential)?;
    Ok(credential)
}

fn ways(credential: &Credential) -> String {
    credential.ways.iter().map(|way| format!("{} {}", way.listener, way.inner)).collect::<Vec<_>>().join(", ")
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

/// All credentials; of one device, and in one state, where given.
///
/// # Errors
/// No such device.
pub fn list(context: &mut Context, device: Option<&str>, state: Option<CredentialState>) -> Result<Vec<View>> {
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
        let views =
            credentials.into_iter().filter(|credential| state.is_none_or(|state| credential.state(now) == state));
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
pub fn show(context: &mut Context, text: &str) -> Result<View> {
    let credential = context.read(|book| named(book, text))?;
    let found =
        list(context, Some(&credential.device), None)?.into_iter().find(|view| view.credential.name == credential.name);
    found.ok_or_else(|| Problem::failed(format!("the credential {text} is gone")))
}

fn revoke_within(book: &Book<'_>, mut credential: Credential, reason: &str, now: Timestamp) -> Result<Credential> {
    let gateways: BTreeSet<_> = credential
        .ways
        .iter()
        .filter_map(|way| way.listener.split_once('/'))
        .map(|(gateway, _)| gateway.to_owned())
        .collect();
    book.put(&Revocation {
        name: credential.public_key.to_string(),
        device: credential.device.clone(),
        reason: reason.into(),
        at: now,
        gateways: gateways.into_iter().collect(),
    })?;
    for address in book.find::<Address>(&[("credential", credential.name.as_str().into())])? {
        book.remove::<Address>(&address.name)?;
    }
    credential.revoked = Some(now);
    credential.reason = Some(reason.into());
    credential.private_key = None;
    book.put(&credential)?;
    Ok(credential)
}

/// The gateways at which a credential can come in.
fn gateways_of(credential: &Credential) -> Vec<String> {
    let mut gateways: Vec<_> = credential
        .ways
        .iter()
        .filter_map(|way| way.listener.split_once('/'))
        .map(|(gateway, _)| gateway.to_owned())
        .collect();
    gateways.dedup();
    gateways
}

/// Takes a credential back, for good. Gives it and the gateways that must learn it.
///
/// # Errors
/// There is none, or it is revoked already.
pub fn revoke(context: &mut Context, text: &str, reason: &str) -> Result<(Credential, Vec<String>)> {
    let reason = reason.trim();
    if reason.is_empty() || reason.chars().count() > 200 || reason.chars().any(char::is_control) {
        return Err(Problem::words("a revocation needs a reason")
            .why("one line, at most 200 characters; the device is shown it, and the history keeps it")
            .try_("--reason lost"));
    }
    let now = context.now;
    context.write(|book| {
        let credential = named(book, text)?;
        if let Some(at) = credential.revoked {
            return Err(Problem::refused(format!("{} is revoked already", credential.name)).why(format!(
                "on {}: {}",
                moment(at),
                credential.reason.unwrap_or_default()
            )));
        }
        let gateways = gateways_of(&credential);
        let credential = revoke_within(book, credential, reason, now)?;
        book.note("credential revoke", &credential.name, reason)?;
        Ok((credential, gateways))
    })
}

/// Makes a new key for a device: same ways and addresses, the old key revoked. Gives the new credential and the gateways.
///
/// # Errors
/// There is none to renew, or it is revoked.
pub fn renew(context: &mut Context, text: &str, wish: &Wish) -> Result<(Credential, Vec<String>)> {
    let now = context.now;
    let key = context.key()?;
    let pair = if wish.public_key.is_none() { Some(KeyPair::from_random(random32()?)) } else { None };
    context.write(|book| {
        let old = named(book, text)?;
        if old.revoked.is_some() {
            return Err(Problem::refused(format!("{} is revoked", old.name))
                .why("what was taken back is not renewed")
                .try_(format!("yestrel credential issue {}", old.device)));
        }
        let device: Device = book.need(&old.device)?;
        let expires = wish.expires.or_else(|| {
            // As long as before, from now on.
            old.expires.map(|end| now + end.duration_since(old.issued))
        });
        let at = old.ways.iter().map(|way| way.listener.clone()).collect();
        let mut gateways = gateways_of(&old);
        // Its addresses are free first, so that the new one gets the same.
        let old = revoke_within(book, old, "renewed", now)?;
        let wish = Wish { at, public_key: wish.public_key, valid_from: wish.valid_from, expires };
        let mut credential = make(book, &key, &device, pair, &wish, now)?;
        for (way, before) in credential.ways.iter_mut().zip(&old.ways) {
            if way.listener == before.listener && way.inner != before.inner {
                let free = book.get::<Address>(&Address::new(&way.listener, before.inner, "").name)?.is_none();
                if free {
                    book.remove::<Address>(&Address::new(&way.listener, way.inner, "").name)?;
                    book.put(&Address::new(&way.listener, before.inner, &credential.name))?;
                    way.inner = before.inner;
                }
            }
        }
        book.put(&credential)?;
        book.note("credential renew", &credential.name, &format!("in place of {}", old.name))?;
        gateways.sort();
        Ok((credential, gateways))
    })
}
