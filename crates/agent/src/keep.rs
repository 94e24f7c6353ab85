//! What an agent keeps on disk: who it is, its orders, every revocation it ever learned. What a full disk does not take is in force all
//! the same, is said to be not kept, and is kept as soon as there is room.

use std::collections::BTreeMap;
use std::fs;
use std::os::unix::fs::{DirBuilderExt as _, PermissionsExt as _};
use std::path::{Path, PathBuf};
use std::sync::Arc;

use parking_lot::RwLock;
use serde::de::DeserializeOwned;
use serde::{Deserialize, Serialize};
use yestrel_core::exchange::agent::{ForDevice, Publication};
use yestrel_core::findings::Plane;
use yestrel_core::keys::{PublicKey, Secret};
use yestrel_core::order::{Envelope, Revoked, SignedAmendment, SignedRenewal};
use yestrel_core::{Problem, Result};
use yestrel_host::folder::{BEFORE, Before, IDENTITY, Identity, read_in};
use yestrel_net::files::{cannot, write_whole};
use zeroize::Zeroizing;

use crate::disk::{Lines, Table};

const ORDER: &str = "order.json";
/// What was amended since, a line each. Lines that do not continue the order are of one before it.
const AMENDMENTS: &str = "amendments.jsonl";
const HELD: &str = "held.json";
const REVOKED: &str = "revoked.jsonl";
const CERTIFICATE_KEY: &str = "certificate-keys.json";
const PUBLISHED: &str = "published.json";
const PLANE: &str = "plane.json";
/// Way notices for devices.
const NOTICES: &str = "notices.json";
/// Orders that are held for other gateways.
const FORWARDED: &str = "forwarded.json";
/// The newest renewal of orders.
const RENEWAL: &str = "renewal.json";

/// The folder of one agent.
pub struct Keep {
    folder: PathBuf,
    revoked: Arc<RwLock<BTreeMap<String, Revoked>>>,
    learned: Table<Revoked>,
    /// The order that waits for its confirmation, as the file has it.
    held: Option<Held>,
    /// What was amended of the order in force.
    amendments: Vec<SignedAmendment>,
    /// Files as they ought to be and are not yet.
    unkept: BTreeMap<&'static str, Option<Zeroizing<Vec<u8>>>>,
    /// Why they are not.
    trouble: Option<String>,
}

impl Keep {
    /// Opens an agent's folder, making it (mode 0700) if need be. It may stand on a full disk.
    ///
    /// # Errors
    /// The folder cannot be made or read, is open to others, or holds something damaged.
    pub fn open(folder: &Path) -> Result<Self> {
        fs::DirBuilder::new().recursive(true).mode(0o700).create(folder).map_err(cannot(folder))?;
        let mode = fs::metadata(folder).map_err(cannot(folder))?.permissions().mode() & 0o777;
        if mode & 0o077 != 0 {
            return Err(Problem::refused(format!("the agent's folder {} is open to others", folder.display()))
                .why(format!("its mode is {mode:04o}; it holds the gateway's private key and must be 0700"))
                .try_(format!("chmod 700 {}", folder.display())));
        }
        let path = folder.join(REVOKED);
        let learned = Table::open(&path).map_err(cannot(&path))?;
        let revoked = Arc::new(RwLock::new(learned.entries().clone()));
        let held = read_in(folder, HELD)?;
        let amendments = match read_in::<Envelope>(folder, ORDER)? {
            Some(order) => continuing(&order, &folder.join(AMENDMENTS))?,
            None => Vec::new(),
        };
        let (folder, unkept) = (folder.to_owned(), BTreeMap::new());
        Ok(Self { folder, revoked, learned, held, amendments, unkept, trouble: None })
    }

    fn read<T: DeserializeOwned>(&self, name: &str) -> Result<Option<T>> {
        match self.unkept.get(name) {
            Some(Some(bytes)) => serde_json::from_slice(bytes)
                .map(Some)
                .map_err(|error| Problem::failed(format!("{name} in memory is damaged")).why(error.to_string())),
            Some(None) => Ok(None),
            None => read_in(&self.folder, name),
        }
    }

    /// Keeps what is only good if it is kept.
    fn write<T: Serialize>(&mut self, name: &'static str, value: &T) -> Result<()> {
        let bytes = Zeroizing::new(serde_json::to_vec(value).unwrap_or_default());
        write_whole(&self.folder.join(name), &bytes)?;
        self.unkept.remove(name);
        Ok(())
    }

    /// Keeps what is in force whether it is kept or not.
    fn put<T: Serialize>(&mut self, name: &'static str, value: Option<&T>) {
        self.put_bytes(name, value.map(|value| Zeroizing::new(serde_json::to_vec(value).unwrap_or_default())));
    }

    fn put_bytes(&mut self, name: &'static str, bytes: Option<Zeroizing<Vec<u8>>>) {
        if let Err(problem) = set(&self.folder.join(name), bytes.as_ref()) {
            tracing::error!("it is in force and not kept: {}", problem.line());
            self.trouble = Some(problem.line());
            self.unkept.insert(name, bytes);
        } else {
            self.unkept.remove(name);
        }
    }

    /// Why something that is in force is not kept: a crash or a reboot would lose it.
    #[must_use]
    pub fn unkept(&self) -> Option<String> {
        self.trouble.clone().filter(|_| !self.unkept.is_empty() || !self.learned.is_kept())
    }

    /// Tries again what is not kept yet; costs nothing where everything is.
    pub fn try_again(&mut self) {
        if self.unkept.is_empty() && self.learned.is_kept() {
            return;
        }
        let (folder, trouble) = (&self.folder, &mut self.trouble);
        self.unkept.retain(|name, bytes| match set(&folder.join(name), bytes.as_ref()) {
            Ok(()) => false,
            Err(problem) => {
                *trouble = Some(problem.line());
                true
            }
        });
        if let Err(error) = self.learned.keep() {
            self.trouble = Some(cannot(&self.folder.join(REVOKED))(error).line());
        }
        if self.unkept().is_none() {
            tracing::info!("everything that is in force is kept now");
        }
    }

    /// Who the agent is, once adopted.
    ///
    /// # Errors
    /// The file is damaged.
    pub fn identity(&self) -> Result<Option<Identity>> {
        self.read(IDENTITY)
    }

    /// Becomes somebody.
    ///
    /// # Errors
    /// As [`write_whole`].
    pub fn set_identity(&mut self, identity: &Identity) -> Result<()> {
        self.write(IDENTITY, identity)
    }

    /// Obeys the estate's new key from now on.
    pub fn follow(&mut self, identity: &Identity) {
        self.put(IDENTITY, Some(identity));
    }

    /// The order in force.
    ///
    /// # Errors
    /// The file is damaged.
    pub fn order(&self) -> Result<Option<Envelope>> {
        let whole: Option<Envelope> = self.read(ORDER)?;
        Ok(whole.map(|whole| Envelope { amendments: self.amendments.clone(), ..whole }))
    }

    /// Keeps the order in force.
    pub fn set_order(&mut self, envelope: &Envelope) {
        // The whole first: amendments of the order before do not continue it, and are passed over after a crash between the two.
        self.put(ORDER, Some(&Envelope { amendments: Vec::new(), ..envelope.clone() }));
        self.amendments.clone_from(&envelope.amendments);
        let lines = Zeroizing::new(self.amendments.iter().flat_map(line).collect::<Vec<_>>());
        self.put_bytes(AMENDMENTS, Some(lines).filter(|lines| !lines.is_empty()));
    }

    /// Keeps what was amended of the order in force: costs by that alone.
    pub fn amend(&mut self, amendment: &SignedAmendment) {
        self.amendments.push(amendment.clone());
        let path = self.folder.join(AMENDMENTS);
        let added = match self.unkept.contains_key(AMENDMENTS) {
            // Together with those that are not kept yet.
            true => Err(std::io::ErrorKind::StorageFull.into()),
            false => Lines::open(&path).and_then(|mut lines| lines.add(&line(amendment))),
        };
        if added.is_err() {
            let lines = Zeroizing::new(self.amendments.iter().flat_map(line).collect::<Vec<_>>());
            self.put_bytes(AMENDMENTS, Some(lines));
        }
    }

    /// The order that waits for its confirmation, and until when.
    #[must_use]
    pub fn held(&self) -> Option<&Held> {
        self.held.as_ref()
    }

    /// Keeps an order that waits for its confirmation, or that none does. One that is not kept is undone by a crash as well.
    pub fn set_held(&mut self, held: Option<Held>) {
        if held.is_some() || self.held.is_some() {
            self.put(HELD, held.as_ref());
        }
        self.held = held;
    }

    /// Every revocation ever learned: to be asked without waiting for anything that is being kept.
    #[must_use]
    pub fn revoked(&self) -> Arc<RwLock<BTreeMap<String, Revoked>>> {
        self.revoked.clone()
    }

    /// Learns revocations. What is known stays, whatever comes. Gives those that were new.
    pub fn learn(&mut self, more: &BTreeMap<String, Revoked>) -> Vec<PublicKey> {
        let mut new = Vec::new();
        {
            let mut all = self.revoked.write();
            for (key, revoked) in more {
                if let std::collections::btree_map::Entry::Vacant(vacant) = all.entry(key.clone()) {
                    vacant.insert(revoked.clone());
                    self.learned.set(key.clone(), Some(revoked.clone()));
                    new.extend(key.parse::<PublicKey>());
                }
            }
        }
        if let Err(error) = self.learned.keep() {
            let problem = cannot(&self.folder.join(REVOKED))(error);
            tracing::error!("revocations are in force and not kept: {}", problem.line());
            self.trouble = Some(problem.line());
        }
        new
    }

    /// What the system was like before the agent changed it.
    ///
    /// # Errors
    /// The file is damaged.
    pub fn before(&self) -> Result<Option<Before>> {
        self.read(BEFORE)
    }

    /// Keeps what the system was like; the first time counts.
    ///
    /// # Errors
    /// The file is damaged.
    pub fn set_before(&mut self, before: &Before) -> Result<()> {
        if self.before()?.is_none() {
            self.put(BEFORE, Some(before));
        }
        Ok(())
    }

    /// How inner traffic met the site when an order was last in force.
    ///
    /// # Errors
    /// The file is damaged.
    pub fn plane(&self) -> Result<Option<Plane>> {
        self.read(PLANE)
    }

    /// Keeps how inner traffic meets the site.
    pub fn set_plane(&mut self, plane: Plane) {
        if !self.plane().is_ok_and(|kept| kept == Some(plane)) {
            self.put(PLANE, Some(&plane));
        }
    }

    /// Private keys (PKCS#8) of certificates that orders name: that of the order in force, and that of the next.
    ///
    /// # Errors
    /// The file is damaged.
    pub fn certificate_keys(&self) -> Result<Vec<Secret>> {
        Ok(self.read(CERTIFICATE_KEY)?.unwrap_or_default())
    }

    /// Keeps the private keys of certificates.
    pub fn set_certificate_keys(&mut self, keys: &[Secret]) {
        self.put(CERTIFICATE_KEY, Some(&keys));
    }

    /// What is published.
    ///
    /// # Errors
    /// The file is damaged.
    pub fn published(&self) -> Result<Vec<Publication>> {
        Ok(self.read(PUBLISHED)?.unwrap_or_default())
    }

    /// Keeps what is published.
    pub fn set_published(&mut self, publications: &[Publication]) {
        self.put(PUBLISHED, Some(&publications));
    }

    /// Way notices for devices.
    ///
    /// # Errors
    /// The file is damaged.
    pub fn notices(&self) -> Result<Vec<ForDevice>> {
        Ok(self.read(NOTICES)?.unwrap_or_default())
    }

    /// Orders that are held for other gateways.
    ///
    /// # Errors
    /// The file is damaged.
    pub fn forwarded(&self) -> Result<Vec<Envelope>> {
        Ok(self.read(FORWARDED)?.unwrap_or_default())
    }

    /// Keeps orders for other gateways, in place of those before.
    pub fn set_forwarded(&mut self, envelopes: &[Envelope]) {
        self.put(FORWARDED, Some(&envelopes));
    }

    /// The newest renewal.
    ///
    /// # Errors
    /// The file is damaged.
    pub fn renewal(&self) -> Result<Option<SignedRenewal>> {
        self.read(RENEWAL)
    }

    /// Keeps the newest renewal.
    pub fn set_renewal(&mut self, renewal: &SignedRenewal) {
        self.put(RENEWAL, Some(renewal));
    }

    /// Keeps way notices, in place of those before.
    pub fn set_notices(&mut self, notices: &[ForDevice]) {
        self.put(NOTICES, Some(&notices));
    }

    /// Forgets everything.
    ///
    /// # Errors
    /// A file cannot be removed.
    pub fn forget(&mut self) -> Result<()> {
        self.unkept.clear();
        self.amendments.clear();
        self.learned.forget().map_err(cannot(&self.folder.join(REVOKED)))?;
        [IDENTITY, ORDER, AMENDMENTS, HELD, BEFORE, CERTIFICATE_KEY, PUBLISHED, PLANE, NOTICES, RENEWAL, FORWARDED]
            .into_iter()
            .try_for_each(|name| set(&self.folder.join(name), None))
    }
}

fn line(amendment: &SignedAmendment) -> Vec<u8> {
    let mut line = serde_json::to_vec(amendment).unwrap_or_default();
    line.push(b'\n');
    line
}

/// The amendments of a file that continue an order. A last line that a crash cut short is none; nor is one that is damaged, or whatever follows
/// it: the estate sees which order is in force, and brings the whole.
fn continuing(order: &Envelope, path: &Path) -> Result<Vec<SignedAmendment>> {
    let text = match fs::read(path).map(|bytes| String::from_utf8_lossy(&bytes).into_owned()) {
        Err(error) if error.kind() == std::io::ErrorKind::NotFound => return Ok(Vec::new()),
        read => read.map_err(cannot(path))?,
    };
    let (mut all, mut hash) = (Vec::new(), order.hash());
    for line in text.split_inclusive('\n').filter_map(|line| line.strip_suffix('\n')) {
        let signed: SignedAmendment = match serde_json::from_str(line) {
            Ok(signed) => signed,
            Err(error) => {
                tracing::error!("{} is damaged, and not read further: {error}", path.display());
                break;
            }
        };
        if signed.read().is_ok_and(|amendment| amendment.previous == hash) {
            hash = signed.hash();
            all.push(signed);
        }
    }
    Ok(all)
}

/// Writes a file whole, or removes it.
fn set(path: &Path, bytes: Option<&Zeroizing<Vec<u8>>>) -> Result<()> {
    match bytes {
        Some(bytes) => write_whole(path, bytes),
        None => match fs::remove_file(path) {
            Err(error) if error.kind() != std::io::ErrorKind::NotFound => Err(cannot(path)(error)),
            _ => Ok(()),
        },
    }
}

/// An order that is in force and is undone at a moment unless it is confirmed.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct Held {
    pub envelope: Envelope,
    pub until: jiff::Timestamp,
}

#[cfg(test)]
mod tests {
    use super::*;

    fn revoked(reason: &str) -> BTreeMap<String, Revoked> {
        BTreeMap::from([("key".to_owned(), Revoked { device: "tomas/tablet".into(), reason: reason.into() })])
    }

    #[test]
    fn revocations_only_grow() {
        let temporary = tempfile::tempdir().unwrap();
        let folder = temporary.path().join("agent");
        let mut keep = Keep::open(&folder).unwrap();
        keep.learn(&revoked("lost"));
        keep.learn(&revoked("found again"));
        keep.learn(&BTreeMap::new());
        assert_eq!(*Keep::open(&folder).unwrap().revoked().read(), revoked("lost"));
    }

    #[test]
    fn what_a_disk_does_not_take_is_true_all_the_same_and_kept_later() {
        let temporary = tempfile::tempdir().unwrap();
        let folder = temporary.path().join("agent");
        let mut keep = Keep::open(&folder).unwrap();
        let before = Before { forwarding: true, forwarding6: false };
        // A folder of the file's name takes its place.
        let (file, in_the_way) = (folder.join(BEFORE), folder.join(REVOKED));
        fs::create_dir_all(file.join("x")).unwrap();
        fs::create_dir_all(in_the_way.join("x")).unwrap();
        keep.put(BEFORE, Some(&before));
        keep.learn(&revoked("lost"));
        assert!(keep.unkept().is_some());
        assert!(keep.before().unwrap().unwrap().forwarding);
        assert_eq!(*keep.revoked().read(), revoked("lost"));
        keep.try_again();
        assert!(keep.unkept().is_some());
        fs::remove_dir_all(&file).unwrap();
        keep.try_again();
        assert!(keep.unkept().is_some_and(|why| why.contains(REVOKED)));
        fs::remove_dir_all(&in_the_way).unwrap();
        keep.try_again();
        assert_eq!(keep.unkept(), None);
        let again = Keep::open(&folder).unwrap();
        assert!(again.before().unwrap().unwrap().forwarding);
        assert_eq!(*again.revoked().read(), revoked("lost"));
    }
}
