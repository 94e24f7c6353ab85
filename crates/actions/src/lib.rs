//! What a command does: one function a use case, one file a noun. Each opens the estate, asks core, keeps the result in one
//! transaction and carries it to the places. No words for people beyond those of a problem, no arguments parsing.

pub mod authority;
pub mod certify;
pub mod credential;
pub mod estate;
pub mod forms;
pub mod gateway;
pub mod handover;
pub mod host;
pub mod import;
pub mod keys;
pub mod listener;
pub mod lists;
pub mod people;
pub mod registry;
mod reseal;
pub mod rollout;
pub mod saved;
pub mod session;
pub mod shared;
pub mod site;

use std::collections::HashMap;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use jiff::Timestamp;
use yestrel_core::nouns::Host;
use yestrel_core::{Problem, Result};
pub use yestrel_places::Person;
use yestrel_places::Place;
use yestrel_store::{Book, SealingKey, SqliteStore};
use zeroize::Zeroizing;

/// How a passphrase is asked for, when one is needed.
pub type AskPassphrase = Box<dyn Fn() -> Result<Zeroizing<String>>>;

/// An estate that a command works on.
pub struct Context {
    path: PathBuf,
    store: SqliteStore,
    who: String,
    /// The moment of the command.
    pub now: Timestamp,
    passphrase: AskPassphrase,
    person: Arc<dyn Person>,
    /// By host: a connection that was made serves the whole command.
    places: HashMap<String, Arc<dyn Place>>,
    /// Keys of authorities that were brought for this command only.
    borrowed: Arc<Vec<yestrel_core::x509::PrivateKey>>,
}

/// The system user and host, "astrid@bridge".
#[must_use]
pub fn who() -> String {
    let uid = nix::unistd::geteuid();
    // Without the C library's name services, which a static program does not have: the user file itself.
    let users = std::fs::read_to_string("/etc/passwd").unwrap_or_default();
    let user = users.lines().find_map(|line| {
        let mut fields = line.split(':');
        let (name, number) = (fields.next()?, fields.nth(1)?);
        (number == uid.to_string()).then(|| name.to_owned())
    });
    let host = nix::unistd::gethostname().map(|host| host.to_string_lossy().into_owned()).unwrap_or_default();
    format!("{}@{host}", user.unwrap_or_else(|| format!("uid-{uid}")))
}

impl Context {
    /// Opens the estate at `path`.
    ///
    /// # Errors
    /// It is missing, no estate, readable by others, or of a newer version.
    pub fn open(path: &Path, passphrase: AskPassphrase, person: Arc<dyn Person>) -> Result<Self> {
        let store = SqliteStore::open(path)?;
        let places = HashMap::new();
        let (now, borrowed) = (Timestamp::now(), Arc::default());
        Ok(Self { path: path.to_owned(), store, who: who(), now, passphrase, person, places, borrowed })
    }

    /// Whoever sits before the command.
    #[must_use]
    pub fn person(&self) -> &Arc<dyn Person> {
        &self.person
    }

    /// The place where a host is managed.
    ///
    /// # Errors
    /// Its `via` names none.
    pub fn place(&mut self, host: &Host) -> Result<Arc<dyn Place>> {
        if let Some(place) = self.places.get(&host.name) {
            return Ok(place.clone());
        }
        let place = yestrel_places::open(host, &self.person)?;
        self.places.insert(host.name.clone(), place.clone());
        Ok(place)
    }

    pub(crate) fn keep_place(&mut self, host: &str, place: Arc<dyn Place>) {
        self.places.insert(host.to_owned(), place);
    }

    /// The sealing key; asks for the passphrase where the key is wrapped.
    ///
    /// # Errors
    /// The key's file is missing, damaged or readable by others; the passphrase is wrong.
    pub fn key(&self) -> Result<SealingKey> {
        let path = yestrel_store::seal::path_of(&self.path);
        let next = keys::next_to(&path);
        // A renewal that was broken off after its last transaction: the new key is the one that opens.
        if next.exists()
            && let Ok(key) = SealingKey::load(&next, &*self.passphrase)
            && let Ok(estate) = self.store.read(self.now, estate::this)
            && key.open(&estate.private_key, estate::SIGNING).is_ok()
        {
            let _ = std::fs::rename(&next, &path);
            return Ok(key);
        }
        SealingKey::load(&path, &*self.passphrase)
    }

    /// Where the estate is.
    #[must_use]
    pub fn path(&self) -> &Path {
        &self.path
    }

    /// Copies the estate's database as it stands at one moment, to a file that must not be there yet.
    ///
    /// # Errors
    /// It cannot be written.
    pub fn copy_to(&mut self, path: &Path) -> Result<()> {
        self.store.copy_to(path)
    }

    /// One change of the estate, whole or not at all.
    ///
    /// # Errors
    /// What `change` returns.
    pub fn write<R>(&mut self, change: impl FnOnce(&Book<'_>) -> Result<R>) -> Result<R> {
        let who = self.who.clone();
        self.store.write(self.now, &who, change)
    }

    /// A consistent look.
    ///
    /// # Errors
    /// What `look` returns.
    pub fn read<R>(&mut self, look: impl FnOnce(&Book<'_>) -> Result<R>) -> Result<R> {
        self.store.read(self.now, look)
    }
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
