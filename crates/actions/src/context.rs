//! An estate that a command works on: opened once, with its key, its places and the person before it.

use std::cell::RefCell;
use std::collections::HashMap;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::AtomicBool;

use jiff::Timestamp;
use yestrel_core::audit::SignedHead;
use yestrel_core::estate::Host;
use yestrel_core::order::SignedRenewal;
use yestrel_core::x509::PrivateKey;
use yestrel_core::{Problem, Result};
use yestrel_places::{Manage, Person};
use yestrel_store::{Book, SealingKey, SqliteStore, Store};
use zeroize::Zeroizing;

use crate::find;
use crate::keyring::labels;
use crate::renewal::{self, Renewing};

/// How a passphrase is asked for, when one is needed.
pub type AskPassphrase = Box<dyn Fn() -> Result<Zeroizing<String>>>;

/// An estate that a command works on.
pub struct Context {
    path: PathBuf,
    store: Box<dyn Store>,
    who: String,
    /// The moment of the command.
    pub now: Timestamp,
    passphrase: AskPassphrase,
    person: Arc<dyn Person>,
    /// By host: a connection that was made serves the whole command.
    places: HashMap<String, Arc<dyn Manage>>,
    /// Keys of authorities that were brought for this command only.
    pub(crate) borrowed: Arc<Vec<PrivateKey>>,
    /// The sealing key, once the command has needed it: from then on what is recorded is signed.
    opened: RefCell<Option<SealingKey>>,
    /// What is changed is only tried.
    rehearsing: bool,
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
        let store = Box::new(SqliteStore::open(path)?);
        let places = HashMap::new();
        // To the millisecond: what stands in every record is no longer than it says anything.
        let now = Timestamp::now();
        let now = Timestamp::from_millisecond(now.as_millisecond()).unwrap_or(now);
        let borrowed = Arc::default();
        let opened = RefCell::default();
        Ok(Self {
            path: path.to_owned(),
            store,
            who: who(),
            now,
            passphrase,
            person,
            places,
            borrowed,
            opened,
            rehearsing: false,
        })
    }

    /// Whoever sits before the command.
    #[must_use]
    pub fn person(&self) -> &Arc<dyn Person> {
        &self.person
    }

    /// The way to manage a host.
    ///
    /// # Errors
    /// Its place does not offer that.
    pub fn manage(&mut self, host: &Host) -> Result<Arc<dyn Manage>> {
        if let Some(manage) = self.places.get(&host.name) {
            return Ok(manage.clone());
        }
        let way = yestrel_places::open(host, &self.person)?.to_manage()?;
        let manage: Arc<dyn Manage> = match self.renewal() {
            Some(renewal) => Arc::new(Renewing { way, renewal, done: AtomicBool::new(false) }),
            None => way,
        };
        self.places.insert(host.name.clone(), manage.clone());
        Ok(manage)
    }

    /// What renews orders that hold for a time, where this estate has such. Nobody is asked for a passphrase only for that.
    fn renewal(&mut self) -> Option<SignedRenewal> {
        let key = match &*self.opened.borrow() {
            Some(key) => key.again(),
            None => {
                let nobody = || Err(Problem::refused("nobody is asked"));
                SealingKey::load(&yestrel_store::seal::path_of(&self.path), &nobody).ok()?
            }
        };
        self.store.read(self.now, |book| renewal::sign(book, &key)).ok().flatten()
    }

    pub(crate) fn remember(&mut self, host: &str, manage: Arc<dyn Manage>) {
        self.places.insert(host.to_owned(), manage);
    }

    /// The sealing key; asks for the passphrase where the key is wrapped.
    ///
    /// # Errors
    /// The key's file is missing, damaged or readable by others; the passphrase is wrong.
    pub fn key(&self) -> Result<SealingKey> {
        let key = self.load_key()?;
        *self.opened.borrow_mut() = Some(key.again());
        Ok(key)
    }

    fn load_key(&self) -> Result<SealingKey> {
        let path = yestrel_store::seal::path_of(&self.path);
        let next = next_to(&path);
        // A renewal that was broken off after its last transaction: the new key is the one that opens.
        if next.exists()
            && let Ok(key) = SealingKey::load(&next, &*self.passphrase)
            && let Ok(estate) = self.store.read(self.now, find::this_estate)
            && key.open(&estate.private_key, labels::SIGNING).is_ok()
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

    /// One change of the estate, whole or not at all. Where the command has the estate's keys, the history is signed with it.
    ///
    /// # Errors
    /// What `change` returns.
    pub fn write<R>(&mut self, change: impl FnOnce(&Book<'_>) -> Result<R>) -> Result<R> {
        let (who, opened) = (self.who.clone(), &self.opened);
        if self.rehearsing {
            return self.store.rehearse(self.now, &who, change);
        }
        self.store.write(self.now, &who, |book| {
            let changed = change(book)?;
            if let Some(key) = &*opened.borrow() {
                sign_history(book, key)?;
            }
            Ok(changed)
        })
    }

    /// What an action would come to: everything that it would do to the estate is done, and then nothing of it. For actions that are
    /// one change of the estate and reach no host.
    ///
    /// # Errors
    /// As the action.
    pub fn rehearse<R>(&mut self, action: impl FnOnce(&mut Self) -> Result<R>) -> Result<R> {
        self.rehearsing = true;
        let came = action(self);
        self.rehearsing = false;
        came
    }

    /// Whether what is changed is only tried.
    pub(crate) fn only_tries(&self) -> bool {
        self.rehearsing
    }

    /// A consistent look.
    ///
    /// # Errors
    /// What `look` returns.
    pub fn read<R>(&mut self, look: impl FnOnce(&Book<'_>) -> Result<R>) -> Result<R> {
        self.store.read(self.now, look)
    }
}

/// Signs the history up to its newest row. While the sealing key is renewed, what is sealed under the other is signed with the next change.
fn sign_history(book: &Book<'_>, key: &SealingKey) -> Result<()> {
    let Ok(estate) = find::this_estate(book) else { return Ok(()) };
    let Some((number, hash)) = book.history_head()? else { return Ok(()) };
    if book.signed_head()?.is_some_and(|signed| signed.number == number && signed.key == estate.public_key) {
        return Ok(());
    }
    match key.open(&estate.private_key, labels::SIGNING) {
        Ok(signing) => book.set_signed_head(&SignedHead::sign(&estate.id, number, &hash, &signing)?),
        Err(_) => Ok(()),
    }
}

/// Where a sealing key stands until everything is sealed under it.
pub(crate) fn next_to(path: &Path) -> std::path::PathBuf {
    let mut name = path.file_name().unwrap_or_default().to_owned();
    name.push(".new");
    path.with_file_name(name)
}
