//! What an agent keeps on disk: who it is, its last order, every revocation it ever learned, and its news.

use std::collections::{BTreeMap, HashSet};
use std::fs::{self, File, OpenOptions};
use std::io::{BufRead as _, BufReader, Write as _};
use std::os::unix::fs::{DirBuilderExt as _, OpenOptionsExt as _};
use std::path::{Path, PathBuf};
use std::sync::Arc;

use parking_lot::RwLock;
use serde::de::DeserializeOwned;
use serde::{Deserialize, Serialize};
use yestrel_core::admission::lease::Leases;
use yestrel_core::exchange::agent::{Live, Publication};
use yestrel_core::exchange::{News, NewsEvent};
use yestrel_core::keys::{PublicKey, Secret};
use yestrel_core::order::{Envelope, Revoked};
use yestrel_core::{Problem, Result};
use yestrel_host::folder::{BEFORE, Before, IDENTITY, Identity, read_in};
use yestrel_net::files::{cannot, write_whole};

const HELD: &str = "held.json";
const CERTIFICATE_KEY: &str = "certificate-keys.json";
const PUBLISHED: &str = "published.json";
const LEASES: &str = "leases.json";
const SPENT: &str = "spent.json";

/// News are answered in pages of this many.
pub const PAGE: usize = 500;

/// The folder of one agent.
pub struct Keep {
    folder: PathBuf,
    news: File,
    newest: u64,
    revoked: Arc<RwLock<BTreeMap<String, Revoked>>>,
}

impl Keep {
    /// Opens an agent's folder, making it (mode 0700) if need be.
    ///
    /// # Errors
    /// The folder cannot be written, or holds something damaged.
    pub fn open(folder: &Path) -> Result<Self> {
        fs::DirBuilder::new().recursive(true).mode(0o700).create(folder).map_err(cannot(folder))?;
        use std::os::unix::fs::PermissionsExt as _;
        let mode = fs::metadata(folder).map_err(cannot(folder))?.permissions().mode() & 0o777;
        if mode & 0o077 != 0 {
            return Err(Problem::refused(format!("the agent's folder {} is open to others", folder.display()))
                .why(format!("its mode is {mode:04o}; it holds the gateway's private key and must be 0700"))
                .try_(format!("chmod 700 {}", folder.display())));
        }
        let path = folder.join("news.jsonl");
        let news = OpenOptions::new().append(true).create(true).mode(0o600).open(&path).map_err(cannot(&path))?;
        let mut keep = Self { folder: folder.to_owned(), news, newest: 0, revoked: Arc::default() };
        *keep.revoked.write() = keep.read("revoked.json")?.unwrap_or_default();
        let items = keep.all_news()?;
        keep.newest = items.last().map_or(0, |item| item.number);
        // A line that a crash cut short would make the next one unreadable.
        let text = fs::read(&path).map_err(cannot(&path))?;
        if !text.is_empty() && !text.ends_with(b"\n") {
            keep.news.write_all(b"\n").map_err(cannot(&path))?;
        }
        Ok(keep)
    }

    fn read<T: DeserializeOwned>(&self, name: &str) -> Result<Option<T>> {
        read_in(&self.folder, name)
    }

    fn write<T: Serialize>(&self, name: &str, value: &T) -> Result<()> {
        let bytes = zeroize::Zeroizing::new(serde_json::to_vec(value).unwrap_or_default());
        write_whole(&self.folder.join(name), &bytes)
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
    pub fn set_identity(&self, identity: &Identity) -> Result<()> {
        self.write(IDENTITY, identity)
    }

    /// The order in force.
    ///
    /// # Errors
    /// The file is damaged.
    pub fn order(&self) -> Result<Option<Envelope>> {
        self.read("order.json")
    }

    /// Keeps the order in force.
    ///
    /// # Errors
    /// As [`write_whole`].
    pub fn set_order(&self, envelope: &Envelope) -> Result<()> {
        self.write("order.json", envelope)
    }

    /// The order that waits for its confirmation, and until when.
    ///
    /// # Errors
    /// The file is damaged.
    pub fn held(&self) -> Result<Option<Held>> {
        self.read(HELD)
    }

    /// Keeps an order that waits for its confirmation, or that none does.
    ///
    /// # Errors
    /// As [`write_whole`].
    pub fn set_held(&self, held: Option<&Held>) -> Result<()> {
        match held {
            Some(held) => self.write(HELD, held),
            None => match fs::remove_file(self.folder.join(HELD)) {
                Err(error) if error.kind() != std::io::ErrorKind::NotFound => Err(cannot(&self.folder)(error)),
                _ => Ok(()),
            },
        }
    }

    /// Every revocation ever learned: to be asked without waiting for anything that is being kept.
    #[must_use]
    pub fn revoked(&self) -> Arc<RwLock<BTreeMap<String, Revoked>>> {
        self.revoked.clone()
    }

    /// Learns revocations. What is known stays, whatever comes.
    ///
    /// # Errors
    /// As [`write_whole`].
    pub fn learn(&mut self, more: &BTreeMap<String, Revoked>) -> Result<()> {
        let all = {
            let mut all = self.revoked.write();
            let before = all.len();
            for (key, revoked) in more {
                all.entry(key.clone()).or_insert_with(|| revoked.clone());
            }
            if all.len() == before {
                return Ok(());
            }
            all.clone()
        };
        self.write("revoked.json", &all)
    }

    /// Notes something that was seen.
    ///
    /// # Errors
    /// The disk is full or read-only.
    pub fn note(&mut self, event: NewsEvent) -> Result<()> {
        let item = News { number: self.newest + 1, at: jiff::Timestamp::now(), event };
        let mut line = serde_json::to_vec(&item).unwrap_or_default();
        line.push(b'\n');
        let path = self.folder.join("news.jsonl");
        self.news.write_all(&line).and_then(|()| self.news.sync_data()).map_err(cannot(&path))?;
        self.newest += 1;
        Ok(())
    }

    /// The number of the newest news.
    #[must_use]
    pub fn newest(&self) -> u64 {
        self.newest
    }

    fn all_news(&self) -> Result<Vec<News>> {
        let path = self.folder.join("news.jsonl");
        let file = File::open(&path).map_err(cannot(&path))?;
        Ok(BufReader::new(file)
            .split(b'\n')
            .map_while(std::io::Result::ok)
            .filter_map(|line| serde_json::from_slice(&line).ok())
            .collect())
    }

    /// News after the one with this number, at most a page, and whether there are more.
    ///
    /// # Errors
    /// The file cannot be read.
    pub fn news_after(&self, number: u64) -> Result<(Vec<News>, bool)> {
        let mut items: Vec<_> = self.all_news()?.into_iter().filter(|item| item.number > number).collect();
        let more = items.len() > PAGE;
        items.truncate(PAGE);
        Ok((items, more))
    }

    /// Keeps who is connected, so that a crash does not lose how far they had come.
    ///
    /// # Errors
    /// As [`write_whole`].
    pub fn set_live(&self, live: &[Live]) -> Result<()> {
        self.write("live.json", &live)
    }

    /// Who was connected when [`Keep::set_live`] was last called.
    ///
    /// # Errors
    /// The file is damaged.
    pub fn live(&self) -> Result<Vec<Live>> {
        Ok(self.read("live.json")?.unwrap_or_default())
    }

    /// Which inner addresses were leased, by listener.
    ///
    /// # Errors
    /// The file is damaged.
    pub fn leases(&self) -> Result<BTreeMap<String, Leases>> {
        Ok(self.read(LEASES)?.unwrap_or_default())
    }

    /// Keeps which inner addresses were leased.
    ///
    /// # Errors
    /// As [`write_whole`].
    pub fn set_leases(&self, leases: &BTreeMap<String, Leases>) -> Result<()> {
        self.write(LEASES, leases)
    }

    /// Which credentials were good for one session and have had it.
    ///
    /// # Errors
    /// The file is damaged.
    pub fn spent(&self) -> Result<HashSet<PublicKey>> {
        Ok(self.read(SPENT)?.unwrap_or_default())
    }

    /// Keeps which credentials were good for one session and have had it.
    ///
    /// # Errors
    /// As [`write_whole`].
    pub fn set_spent(&self, spent: &HashSet<PublicKey>) -> Result<()> {
        self.write(SPENT, spent)
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
    /// As [`write_whole`].
    pub fn set_before(&self, before: &Before) -> Result<()> {
        if self.before()?.is_some() { Ok(()) } else { self.write(BEFORE, before) }
    }

    /// Private keys (PKCS#8) of certificates that orders name: that of the order in force, and that of the next.
    ///
    /// # Errors
    /// The file is damaged.
    pub fn certificate_keys(&self) -> Result<Vec<Secret>> {
        Ok(self.read(CERTIFICATE_KEY)?.unwrap_or_default())
    }

    /// Keeps the private keys of certificates.
    ///
    /// # Errors
    /// As [`write_whole`].
    pub fn set_certificate_keys(&self, keys: &[Secret]) -> Result<()> {
        self.write(CERTIFICATE_KEY, &keys)
    }

    /// What is published.
    ///
    /// # Errors
    /// The file is damaged.
    pub fn published(&self) -> Result<Vec<Publication>> {
        Ok(self.read(PUBLISHED)?.unwrap_or_default())
    }

    /// Keeps what is published.
    ///
    /// # Errors
    /// As [`write_whole`].
    pub fn set_published(&self, publications: &[Publication]) -> Result<()> {
        self.write(PUBLISHED, &publications)
    }

    /// Forgets everything.
    ///
    /// # Errors
    /// A file cannot be removed.
    pub fn forget(&self) -> Result<()> {
        for name in [
            IDENTITY,
            "order.json",
            HELD,
            "revoked.json",
            "news.jsonl",
            "live.json",
            BEFORE,
            CERTIFICATE_KEY,
            PUBLISHED,
            LEASES,
            SPENT,
        ] {
            let path = self.folder.join(name);
            match fs::remove_file(&path) {
                Err(error) if error.kind() != std::io::ErrorKind::NotFound => return Err(cannot(&path)(error)),
                _ => {}
            }
        }
        Ok(())
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
        keep.learn(&revoked("lost")).unwrap();
        keep.learn(&revoked("found again")).unwrap();
        keep.learn(&BTreeMap::new()).unwrap();
        assert_eq!(*Keep::open(&folder).unwrap().revoked().read(), revoked("lost"));
    }

    #[test]
    fn news_survive_and_keep_their_numbers_even_after_a_cut_line() {
        let temporary = tempfile::tempdir().unwrap();
        let folder = temporary.path().join("agent");
        let started = || NewsEvent::Started { version: "1".into() };
        {
            let mut keep = Keep::open(&folder).unwrap();
            for _ in 0..PAGE + 3 {
                keep.note(started()).unwrap();
            }
        }
        let path = folder.join("news.jsonl");
        let mut file = OpenOptions::new().append(true).open(&path).unwrap();
        file.write_all(b"{\"number\":9999,\"at\":\"20").unwrap();
        let mut keep = Keep::open(&folder).unwrap();
        keep.note(started()).unwrap();
        let (page, more) = keep.news_after(2).unwrap();
        assert_eq!((page.len(), more, page[0].number), (PAGE, true, 3));
        let (rest, more) = keep.news_after(page.last().unwrap().number).unwrap();
        assert_eq!((rest.len(), more, rest[1].number), (2, false, PAGE as u64 + 4));
    }
}
