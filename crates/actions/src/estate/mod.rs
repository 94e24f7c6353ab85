//! The estate itself.
//!
//! | file | its job |
//! |---|---|
//! | `keys` | the keys of the estate, renewed and recovered |
//! | `reseal` | every secret under another sealing key |
//! | `undo` | taking back what no gateway has seen |
//! | `saved` | saving, loading, catching up with the gateways |

pub mod keys;
mod reseal;
pub mod saved;
pub mod undo;

use std::collections::BTreeMap;
use std::path::Path;

use jiff::Timestamp;
use serde::Serialize;
use yestrel_core::audit::{HistoryRow, Walk};
use yestrel_core::estate::{
    Authority, Credential, CredentialState, Device, Estate, Gateway, Group, HOLD_ADDRESSES, Host, KEEP_SESSIONS,
    Listener, Site, User,
};
use yestrel_core::keys::Secret;
use yestrel_core::{Problem, Result, name, order};
use yestrel_store::queries::Stands;
use yestrel_store::seal::{path_of, random, random32};
use yestrel_store::{Query, SealingKey, SqliteStore};
use zeroize::Zeroizing;

use crate::context::{Context, who};
use crate::find;
use crate::keyring::{days_on, labels};

/// Makes an estate: its file, its sealing key beside it, and the key that signs orders. Gives also the recovery key, which is kept
/// nowhere.
///
/// # Errors
/// A bad name, or something is there already.
pub fn create(path: &Path, estate: &str, passphrase: Option<&str>) -> Result<(Estate, Zeroizing<String>)> {
    name::check("estate", estate)?;
    if passphrase.is_some_and(|passphrase| passphrase.chars().count() < 12) {
        return Err(Problem::words("the passphrase is too short").why("it must have 12 characters at least"));
    }
    let key_path = path_of(path);
    if path.exists() && SqliteStore::open(path).is_ok() {
        return Err(Problem::refused(format!("there is already an estate at {}", path.display()))
            .why("an estate is never written over another")
            .try_("yestrel estate show")
            .try_(format!("another place: yestrel estate create {estate} --estate PATH")));
    }
    if key_path.exists() {
        return Err(Problem::refused(format!("there is already a sealing key at {}", key_path.display()))
            .why("it may belong to an estate that was moved away")
            .try_("another place: --estate PATH"));
    }
    let mut store = SqliteStore::create(path)?;
    let made = (|| {
        let sealing = SealingKey::create(&key_path, passphrase)?;
        let signing = Secret::new(random32()?.to_vec());
        let mut id = [0; 16];
        random(&mut id)?;
        let now = Timestamp::now();
        let mut estate = Estate {
            name: estate.into(),
            id: id.iter().map(|byte| format!("{byte:02x}")).collect(),
            public_key: order::signer(&signing)?,
            private_key: sealing.seal(&signing, labels::SIGNING)?,
            recovery_key: None,
            recovery_sealed: None,
            previous_keys: Vec::new(),
            peer_secret: sealing.seal(&Secret::new(random32()?.to_vec()), labels::PEERS)?,
            hold_addresses: HOLD_ADDRESSES,
            orders_hold: None,
            keep_sessions: KEEP_SESSIONS,
            saved: None,
            created: now,
        };
        let recovery = keys::recovery(&sealing, &mut estate)?;
        store.write(now, &who(), |book| {
            book.add(&estate)?;
            book.note("estate create", &estate.name, &format!("signing key {}", estate.public_key.fingerprint()))
        })?;
        Ok((estate, recovery))
    })();
    if made.is_err() {
        // Half an estate is none.
        let _ = std::fs::remove_file(&key_path);
        let _ = std::fs::remove_file(path);
    }
    made
}

/// The estate at a glance.
#[derive(Debug, Serialize)]
pub struct Overview {
    pub estate: Estate,
    /// Noun, how many, and what is to be said of them.
    pub counts: Vec<(&'static str, usize, String)>,
}

/// What a command says about the whole estate; `None` leaves what is there.
#[derive(Debug, Default)]
pub struct Wish {
    pub hold_addresses: Option<u16>,
    pub orders_hold: Option<Option<u32>>,
    pub keep_sessions: Option<u16>,
}

/// Changes what holds for the whole estate.
///
/// # Errors
/// Nothing was said that should change.
pub fn change(context: &mut Context, wish: &Wish) -> Result<Estate> {
    context.write(|book| {
        let mut estate = find::this_estate(book)?;
        let mut said = Vec::new();
        if let Some(days) = wish.hold_addresses {
            estate.hold_addresses = days;
            said.push(format!("addresses of revoked credentials held for {days} days"));
            // Those that are held already go by it as well.
            for mut address in book.held_addresses()? {
                let revoked = book.get::<Credential>(&address.credential)?.and_then(|credential| credential.revoked);
                address.held_until = Some(days_on(revoked.unwrap_or(book.now), i64::from(days)));
                book.put(&address)?;
            }
        }
        if let Some(hold) = wish.orders_hold {
            estate.orders_hold = hold;
            said.push(hold.map_or_else(|| "orders hold for ever".into(), |seconds| format!("orders hold {seconds} s")));
        }
        if let Some(days) = wish.keep_sessions {
            estate.keep_sessions = days;
            said.push(format!("what happened stays on record for {days} days"));
        }
        if said.is_empty() {
            return Err(Problem::words("nothing was said that should change")
                .try_("--hold-addresses, --orders-hold or --keep-sessions"));
        }
        book.put(&estate)?;
        book.note("estate change", &estate.name, &said.join(", "))?;
        Ok(estate)
    })
}

/// What is in the estate.
///
/// # Errors
/// The estate cannot be read.
pub fn show(context: &mut Context) -> Result<Overview> {
    let now = context.now;
    context.read(|book| {
        let estate = find::this_estate(book)?;
        let gateways: Vec<Gateway> = book.all()?;
        let waiting = gateways.iter().filter(|gateway| gateway.order_number == 0).count();
        let mut states = BTreeMap::new();
        book.each(&Query::default(), |stands: Stands| {
            *states.entry(stands.state(now).word()).or_default() += 1;
            Ok(true)
        })?;
        let count = |state: CredentialState| states.get(state.word()).copied().unwrap_or(0_usize);
        let (ready, out, revoked, expired) = (
            count(CredentialState::Ready),
            count(CredentialState::HandedOver),
            count(CredentialState::Revoked),
            count(CredentialState::Expired),
        );
        let said = |number: usize, words: &str| if number > 0 { format!("{number} {words}") } else { String::new() };
        let counts = vec![
            ("sites", book.count::<Site>(&[])?, String::new()),
            ("hosts", book.count::<Host>(&[])?, String::new()),
            ("gateways", gateways.len(), said(waiting, "without an order yet")),
            ("listeners", book.count::<Listener>(&[])?, String::new()),
            ("groups", book.count::<Group>(&[])?, String::new()),
            ("users", book.count::<User>(&[])?, String::new()),
            ("devices", book.count::<Device>(&[])?, String::new()),
            ("authorities", book.count::<Authority>(&[])?, String::new()),
            (
                "credentials",
                states.values().sum(),
                format!("{ready} ready, {out} handed over, {expired} expired, {revoked} revoked"),
            ),
        ];
        Ok(Overview { estate, counts })
    })
}

/// The newest rows of the history, oldest first.
///
/// # Errors
/// The estate cannot be read.
pub fn history(context: &mut Context, limit: usize) -> Result<Vec<HistoryRow>> {
    context.read(|book| book.history(limit))
}

/// What a history proves.
#[derive(Debug)]
pub struct Verified {
    pub rows: u64,
    /// Up to here the estate's key has signed.
    pub signed: Option<u64>,
    /// The first row that is not as it was written, and how.
    pub broken: Option<(u64, String)>,
}

/// Whether the history is as it was written, and as the estate's key has signed it.
///
/// # Errors
/// The estate cannot be read.
pub fn verify_history(context: &mut Context) -> Result<Verified> {
    context.read(|book| {
        let estate = find::this_estate(book)?;
        let known: Vec<_> = std::iter::once(estate.public_key)
            .chain(estate.previous_keys.iter().map(|previous| previous.public_key))
            .collect();
        let signed = book.signed_head()?;
        let mut walk = Walk::new(signed.as_ref());
        book.each_history(|row| {
            walk.row(&row);
            Ok(true)
        })?;
        let differs = || signed.as_ref().and_then(|signed| walk.differs(signed, &estate.id, &known));
        let broken = walk.end(book.history_head()?.as_ref()).or_else(differs);
        Ok(Verified { rows: walk.count(), signed: signed.map(|signed| signed.number), broken })
    })
}
