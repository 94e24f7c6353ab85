//! Shared secrets of listeners and of links between sites: made, shown once, rotated with an overlap.

use jiff::{SignedDuration, Timestamp};
use serde::Serialize;
use yestrel_core::admission::shared_secret_purpose;
use yestrel_core::estate::shared_secret::{self as shared, SharedSecretState};
use yestrel_core::estate::{Gateway, Listener, SharedSecret, Site};
use yestrel_core::findings::Finding;
use yestrel_core::keys::Secret;
use yestrel_core::{Problem, Result, account, moment, sealed};
use yestrel_store::{Book, SealingKey};
use zeroize::Zeroizing;

use super::end::checked_reason;
use crate::context::Context;
use crate::find;
use crate::keyring::{labels, random16};

/// The holder that a command names: a listener, or two sites joined by `+`, in whatever sequence.
fn holder(book: &Book<'_>, text: &str) -> Result<String> {
    if let Some((one, other)) = text.split_once('+') {
        let mut sites = [book.need::<Site>(one)?.name, book.need::<Site>(other)?.name];
        if sites[0] == sites[1] {
            return Err(Problem::words("a link needs two different sites"));
        }
        sites.sort();
        return Ok(sites.join("+"));
    }
    if text.matches('/').count() == 1 {
        return Ok(book.need::<Listener>(text)?.name);
    }
    Err(Problem::words(format!("{text:?} holds no shared secret"))
        .why("a listener does, GATEWAY/LISTENER, and a link between two sites, SITE+SITE"))
}

fn of(book: &Book<'_>, holder: &str) -> Result<Vec<SharedSecret>> {
    let mut all: Vec<SharedSecret> = book.find(&[("holder", holder.into())])?;
    all.sort_by_key(|one| one.number);
    Ok(all)
}

fn newest(book: &Book<'_>, holder: &str) -> Result<SharedSecret> {
    let now = book.now;
    of(book, holder)?.into_iter().rfind(|one| one.holds(now) && one.until.is_none()).ok_or_else(|| {
        Problem::words(format!("{holder} has no shared secret"))
            .try_(format!("yestrel credential issue {holder} --kind shared-secret"))
    })
}

fn make(book: &Book<'_>, sealing: &SealingKey, holder: &str) -> Result<SharedSecret> {
    let number = of(book, holder)?.last().map_or(1, |last| last.number + 1);
    let name = format!("{holder} {number}");
    // Two of them in a row: 160 bits, still to be typed where nothing can be pasted.
    let (one, other) = (account::readable(random16()?), account::readable(random16()?));
    let text = Zeroizing::new([one.reveal(), b"-", other.reveal()].concat());
    let plain = Secret::new(text.to_vec());
    let for_agent = match book.get::<Listener>(holder)? {
        Some(listener) => {
            let gateway: Gateway = book.need(&listener.gateway)?;
            Some(sealed::seal(&gateway.public_key, &shared_secret_purpose(holder, number), &plain)?)
        }
        None => None,
    };
    let secret = SharedSecret {
        secret: sealing.seal(&plain, &labels::shared_secret(&name))?,
        for_agent,
        name,
        holder: holder.into(),
        number,
        issued: book.now,
        handed_over: None,
        until: None,
        revoked: None,
        reason: None,
    };
    book.add(&secret)?;
    Ok(secret)
}

/// Seals the shared secrets of a gateway's listeners to its key, which is another now.
pub(crate) fn seal_anew(book: &Book<'_>, sealing: &SealingKey, gateway: &Gateway) -> Result<()> {
    for listener in find::listeners_of(book, &gateway.name)? {
        for mut one in book.find::<SharedSecret>(&[("holder", listener.name.as_str().into())])? {
            let plain = sealing.open(&one.secret, &labels::shared_secret(&one.name))?;
            one.for_agent =
                Some(sealed::seal(&gateway.public_key, &shared_secret_purpose(&one.holder, one.number), &plain)?);
            book.put(&one)?;
        }
    }
    Ok(())
}

/// Makes a shared secret for a listener or a link that has none.
///
/// # Errors
/// No such listener or sites, or there is one already.
pub fn issue(context: &mut Context, text: &str) -> Result<SharedSecret> {
    let sealing = context.key()?;
    context.write(|book| {
        let holder = holder(book, text)?;
        if let Ok(there) = newest(book, &holder) {
            return Err(Problem::refused(format!("{holder} has a shared secret already"))
                .why(format!("number {}, made on {}", there.number, moment(there.issued)))
                .try_(format!("yestrel credential renew {holder} --kind shared-secret   lets both hold for a while")));
        }
        let secret = make(book, &sealing, &holder)?;
        book.note("credential issue", &secret.name, "shared secret")?;
        Ok(secret)
    })
}

/// Makes the next secret of a holder; the one before holds on for `overlap`.
///
/// # Errors
/// There is none to renew.
pub fn renew(context: &mut Context, text: &str, overlap: SignedDuration) -> Result<(SharedSecret, Timestamp)> {
    let sealing = context.key()?;
    context.write(|book| {
        let holder = holder(book, text)?;
        let mut old = newest(book, &holder)?;
        let until = book.now + overlap;
        old.until = Some(until);
        book.put(&old)?;
        let secret = make(book, &sealing, &holder)?;
        book.note("credential renew", &secret.name, &format!("number {} holds until {}", old.number, moment(until)))?;
        Ok((secret, until))
    })
}

/// Shows the newest secret of a holder, once.
///
/// # Errors
/// There is none, or it was shown already.
pub fn hand_over(
    context: &mut Context,
    text: &str,
    deliver: impl FnOnce(&SharedSecret, &str) -> Result<()>,
) -> Result<()> {
    let sealing = context.key()?;
    context.write(|book| {
        let holder = holder(book, text)?;
        let mut secret = newest(book, &holder)?;
        if let Some(at) = secret.handed_over {
            return Err(Problem::refused(format!("{} was shown already", secret.name))
                .why(format!("on {}; a shared secret is shown once", moment(at)))
                .try_(format!("yestrel credential renew {holder} --kind shared-secret")));
        }
        let opened = sealing.open(&secret.secret, &labels::shared_secret(&secret.name))?;
        let shown = Zeroizing::new(String::from_utf8_lossy(opened.reveal()).into_owned());
        secret.handed_over = Some(book.now);
        book.put(&secret)?;
        book.note("credential handover", &secret.name, "shared secret")?;
        deliver(&secret, &shown)
    })
}

/// Takes every secret of a holder back.
///
/// # Errors
/// There is none, or no reason that can be kept.
pub fn revoke(context: &mut Context, text: &str, reason: &str) -> Result<Vec<SharedSecret>> {
    let reason = checked_reason(reason)?;
    context.write(|book| {
        let holder = holder(book, text)?;
        newest(book, &holder)?;
        let mut ended = Vec::new();
        for mut secret in of(book, &holder)?.into_iter().filter(|one| one.holds(book.now)) {
            (secret.revoked, secret.reason) = (Some(book.now), Some(reason.into()));
            book.put(&secret)?;
            book.note("credential revoke", &secret.name, reason)?;
            ended.push(secret);
        }
        Ok(ended)
    })
}

/// A shared secret with how it stands.
#[derive(Debug, Serialize)]
pub struct SharedStanding {
    pub secret: SharedSecret,
    pub state: SharedSecretState,
    pub age_days: i64,
    /// How many devices or ends hold it.
    pub count: usize,
    pub findings: Vec<Finding>,
}

/// All shared secrets.
///
/// # Errors
/// The estate cannot be read.
pub fn list(context: &mut Context) -> Result<Vec<SharedStanding>> {
    context.read(|book| {
        let now = book.now;
        let mut all_standing = Vec::new();
        for secret in book.all::<SharedSecret>()? {
            let count = if secret.holder.contains('+') { 2 } else { find::given_at(book, &secret.holder)? };
            let all = of(book, &secret.holder)?;
            let is_newest = all.last().is_some_and(|last| last.name == secret.name);
            let findings = if is_newest { shared::findings(&all, count, now) } else { Vec::new() };
            all_standing.push(SharedStanding {
                state: secret.state(now),
                age_days: secret.age_days(now),
                count,
                findings,
                secret,
            });
        }
        Ok(all_standing)
    })
}
