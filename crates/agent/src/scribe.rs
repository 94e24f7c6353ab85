//! What threads that packets or sign-ins wait for leave to be kept: a thread of its own writes it, many at once, and again later where
//! the disk is full.

use std::collections::{HashMap, HashSet, VecDeque};
use std::net::{Ipv4Addr, SocketAddr};
use std::path::Path;
use std::time::{Duration, Instant};

use jiff::Timestamp;
use parking_lot::{Condvar, Mutex};
use yestrel_core::admission::Reason;
use yestrel_core::exchange::agent::{Live, NewsPage};
use yestrel_core::exchange::{News, NewsEvent};
use yestrel_core::keys::PublicKey;
use yestrel_core::{Problem, Result};
use yestrel_net::files::cannot;

use crate::disk::Table;
use crate::news::Journal;

/// Refusals of one credential for one reason are a line at once and then at most one in this time.
const QUIET: Duration = Duration::from_secs(60);
/// Credentials and reasons that are counted apart; beyond them by reason alone.
const TALLIES: usize = 10_000;
/// News that wait for a disk that takes none; beyond them the oldest go, and the gap shows in the numbers.
const BACKLOG: usize = 20_000;
/// How long it waits before it tries a disk again that took nothing.
const AGAIN: Duration = Duration::from_secs(1);

/// Who was refused, and why; strangers are one.
type Whom = (Option<PublicKey>, Reason);

/// Refusals since the last line on them.
#[derive(Clone)]
pub struct Refusals {
    pub device: Option<String>,
    /// The latest.
    pub from: SocketAddr,
    /// Since the last line about them.
    pub times: u64,
    /// Of the latest.
    pub words: String,
    pub method: Option<String>,
}

/// A change of what is kept in tables.
enum Change {
    /// The holder of a listener's address.
    Lease { listener: String, address: Ipv4Addr, device: Option<String> },
    /// A credential that was good for one session has had it.
    Spent(PublicKey),
    /// A credential of this device has signed in, or the estate has heard of that.
    Seen(PublicKey, Option<String>),
    /// A session that is up, or is over.
    Live(u64, Option<Box<Live>>),
}

#[derive(Default)]
struct Waiting {
    /// The number of the newest, kept or not.
    newest: u64,
    news: VecDeque<News>,
    changes: Vec<Change>,
    tallies: HashMap<Whom, Refusals>,
    /// When tallies become lines, in their sequence.
    due: VecDeque<(Instant, Whom)>,
    /// Everything up to this ticket was there to be taken, and everything up to that one has been tried.
    given: u64,
    tried: u64,
    /// Why what was tried last is not kept.
    trouble: Option<String>,
    stop: bool,
}

impl Waiting {
    fn news(&mut self, event: NewsEvent) {
        self.newest += 1;
        self.news.push_back(News { number: self.newest, at: Timestamp::now(), event });
        if self.news.len() > BACKLOG {
            self.news.pop_front();
        }
        self.given += 1;
    }

    fn refusal(&mut self, reason: Reason, refusals: Refusals) {
        let Refusals { device, from, times, words, method } = refusals;
        tracing::warn!(?device, %from, reason = reason.word(), times, words, "refused");
        self.news(NewsEvent::Refused { device, from: from.to_string(), reason, times, words, method });
    }

    /// Tallies whose time has come become lines.
    fn tell(&mut self, now: Instant) {
        while self.due.front().is_some_and(|(at, _)| *at <= now) {
            let Some((_, whom)) = self.due.pop_front() else { return };
            match self.tallies.remove(&whom) {
                Some(tally) if tally.times > 0 => {
                    self.refusal(whom.1, tally.clone());
                    self.tallies.insert(whom, Refusals { times: 0, ..tally });
                    self.due.push_back((now + QUIET, whom));
                }
                _ => {}
            }
        }
    }
}

/// The tables that the thread keeps.
pub(crate) struct Tables {
    leases: Table<String>,
    spent: Table<bool>,
    /// Credentials that have signed in, of which the estate has not heard.
    seen: Table<String>,
    live: Table<Live>,
}

impl Tables {
    /// Opens them in an agent's folder.
    ///
    /// # Errors
    /// One cannot be read.
    pub fn open(folder: &Path) -> Result<Self> {
        Ok(Self {
            leases: open(folder, "leases.jsonl")?,
            spent: open(folder, "spent.jsonl")?,
            seen: open(folder, "seen.jsonl")?,
            live: open(folder, "live.jsonl")?,
        })
    }

    /// Which inner addresses were leased: listener, device, address.
    pub fn leases(&self) -> impl Iterator<Item = (&str, &str, Ipv4Addr)> {
        let split = |(key, device)| {
            let (listener, address) = str::rsplit_once(key, ' ')?;
            Some((listener, String::as_str(device), address.parse().ok()?))
        };
        self.leases.entries().iter().filter_map(move |(key, device)| split((key.as_str(), device)))
    }

    /// Which credentials were good for one session and have had it.
    pub fn spent(&self) -> HashSet<PublicKey> {
        self.spent.entries().keys().filter_map(|key| key.parse().ok()).collect()
    }

    /// Which credentials have signed in, of those of which the estate had not heard, with their devices.
    pub fn seen(&self) -> Vec<(PublicKey, String)> {
        let all = self.seen.entries().iter();
        all.filter_map(|(key, device)| Some((key.parse().ok()?, device.clone()))).collect()
    }

    /// Sessions that were up when the agent ended without a goodbye. They are over now.
    pub fn take_live(&mut self) -> Vec<Live> {
        let numbers: Vec<_> = self.live.entries().keys().cloned().collect();
        let live = self.live.entries().values().cloned().collect();
        numbers.into_iter().for_each(|number| self.live.set(number, None));
        live
    }

    fn change(&mut self, change: Change) {
        match change {
            Change::Lease { listener, address, device } => self.leases.set(format!("{listener} {address}"), device),
            Change::Spent(identity) => self.spent.set(identity.to_string(), Some(true)),
            Change::Seen(identity, device) => self.seen.set(identity.to_string(), device),
            Change::Live(number, live) => self.live.set(format!("{number:020}"), live.map(|live| *live)),
        }
    }

    fn keep(&mut self) -> std::io::Result<()> {
        let kept = [self.spent.keep(), self.seen.keep(), self.leases.keep(), self.live.keep()];
        kept.into_iter().collect()
    }

    fn are_kept(&self) -> bool {
        self.spent.is_kept() && self.seen.is_kept() && self.leases.is_kept() && self.live.is_kept()
    }

    fn forget(&mut self) -> std::io::Result<()> {
        self.spent.forget()?;
        self.seen.forget()?;
        self.leases.forget()?;
        self.live.forget()
    }
}

fn open<V: serde::Serialize + serde::de::DeserializeOwned>(folder: &Path, name: &str) -> Result<Table<V>> {
    let path = folder.join(name);
    Table::open(&path).map_err(cannot(&path))
}

/// Takes what is to be kept, without waiting for a disk.
pub(crate) struct Scribe {
    waiting: Mutex<Waiting>,
    /// Something is there to be kept.
    come: Condvar,
    /// Something was tried.
    tried: Condvar,
    /// Taken by whoever writes or reads on disk, never together with `waiting`.
    disk: Mutex<Disk>,
}

struct Disk {
    journal: Journal,
    tables: Tables,
    /// News that a full disk did not take.
    backlog: Vec<News>,
    /// Nothing is kept any more.
    forgotten: bool,
}

impl Scribe {
    /// What an agent's folder holds goes on.
    ///
    /// # Errors
    /// It cannot be read.
    pub fn new(folder: &Path, tables: Tables) -> Result<Self> {
        let path = folder.join("news");
        let journal = Journal::open(&path).map_err(cannot(&path))?;
        let waiting = Waiting { newest: journal.newest(), ..Waiting::default() };
        Ok(Self {
            waiting: Mutex::new(waiting),
            come: Condvar::new(),
            tried: Condvar::new(),
            disk: Mutex::new(Disk { journal, tables, backlog: Vec::new(), forgotten: false }),
        })
    }

    /// Something was seen.
    pub fn note(&self, event: NewsEvent) {
        self.waiting.lock().news(event);
        self.come.notify_one();
    }

    /// Somebody was not let in. The first time is a line of its own, what follows within a minute one together.
    pub fn refused(&self, identity: Option<PublicKey>, latest: Refusals, reason: Reason) {
        let mut waiting = self.waiting.lock();
        let strangers = (None, reason);
        let whom = (identity.filter(|_| latest.device.is_some()), reason);
        let known = waiting.tallies.contains_key(&whom);
        let whom = if known || waiting.tallies.len() < TALLIES { whom } else { strangers };
        if let Some(tally) = waiting.tallies.get_mut(&whom) {
            *tally = Refusals { times: tally.times + 1, device: tally.device.take(), ..latest };
            return;
        }
        let known = |some: Option<String>| some.filter(|_| whom != strangers);
        let latest = Refusals { device: known(latest.device), method: known(latest.method), ..latest };
        waiting.refusal(reason, Refusals { times: 1, ..latest.clone() });
        waiting.tallies.insert(whom, latest);
        waiting.due.push_back((Instant::now() + QUIET, whom));
        drop(waiting);
        self.come.notify_one();
    }

    fn change(&self, change: Change) {
        let mut waiting = self.waiting.lock();
        waiting.changes.push(change);
        waiting.given += 1;
        drop(waiting);
        self.come.notify_one();
    }

    /// A listener's address has another holder, or none.
    pub fn leased(&self, listener: &str, address: Ipv4Addr, device: Option<&str>) {
        self.change(Change::Lease { listener: listener.into(), address, device: device.map(str::to_owned) });
    }

    /// A credential that was good for one session has had it.
    pub fn spent(&self, identity: PublicKey) {
        self.change(Change::Spent(identity));
    }

    /// A credential of this device has signed in, which the estate takes for new; `None`: it does not any more.
    pub fn seen(&self, identity: PublicKey, device: Option<String>) {
        self.change(Change::Seen(identity, device));
    }

    /// How far a session has come, so that a crash does not lose it; `None`: it is over.
    pub fn live(&self, number: u64, live: Option<Live>) {
        self.change(Change::Live(number, live.map(Box::new)));
    }

    /// The number of the newest, kept or not.
    pub fn newest(&self) -> u64 {
        self.waiting.lock().newest
    }

    /// Why something that was seen is not kept yet.
    pub fn trouble(&self) -> Option<String> {
        self.waiting.lock().trouble.clone()
    }

    /// Waits until everything up to now was kept or cannot be, at most `patience`.
    pub fn settle(&self, patience: Duration) {
        let mut waiting = self.waiting.lock();
        let (ticket, until) = (waiting.given, Instant::now() + patience);
        while waiting.tried < ticket && !self.tried.wait_until(&mut waiting, until).timed_out() {}
    }

    /// News after the one with this number, at most a page.
    ///
    /// # Errors
    /// They cannot be read.
    pub fn news_after(&self, number: u64) -> Result<NewsPage> {
        self.settle(Duration::from_secs(2));
        self.disk
            .lock()
            .journal
            .after(number)
            .map_err(|error| Problem::failed("the agent's news cannot be read").why(error.to_string()))
    }

    /// Forgets everything.
    ///
    /// # Errors
    /// A file cannot be removed.
    pub fn forget(&self) -> Result<()> {
        let mut disk = self.disk.lock();
        *self.waiting.lock() = Waiting { stop: true, ..Waiting::default() };
        disk.backlog.clear();
        // What the thread has taken and not yet written is forgotten too.
        disk.forgotten = true;
        let forgotten = disk.journal.forget().and_then(|()| disk.tables.forget());
        forgotten.map_err(|error| Problem::failed("what the agent saw cannot be removed").why(error.to_string()))
    }

    /// Writes what is left and ends the thread, at most within `patience`.
    pub fn stop(&self, patience: Duration) {
        {
            let mut waiting = self.waiting.lock();
            waiting.due.iter_mut().for_each(|(at, _)| *at = Instant::now());
            waiting.tell(Instant::now());
        }
        self.come.notify_one();
        self.settle(patience);
        self.waiting.lock().stop = true;
        self.come.notify_one();
    }

    /// One thread: keeps what comes. `kept` is told which credentials it has tried to mark as spent.
    pub fn run(&self, kept: &dyn Fn(&PublicKey)) {
        let mut failed = false;
        loop {
            let (news, changes, ticket) = {
                let mut waiting = self.waiting.lock();
                let started = Instant::now();
                loop {
                    waiting.tell(Instant::now());
                    let nothing = waiting.news.is_empty() && waiting.changes.is_empty();
                    if waiting.stop && nothing {
                        return;
                    }
                    if !nothing || (failed && started.elapsed() >= AGAIN) {
                        break;
                    }
                    let due = waiting.due.front().map(|(at, _)| *at);
                    let again = failed.then(|| started + AGAIN);
                    match due.into_iter().chain(again).min() {
                        Some(at) => drop(self.come.wait_until(&mut waiting, at)),
                        None => self.come.wait(&mut waiting),
                    }
                }
                (std::mem::take(&mut waiting.news), std::mem::take(&mut waiting.changes), waiting.given)
            };
            let spent: Vec<_> = changes
                .iter()
                .filter_map(|change| if let Change::Spent(identity) = change { Some(*identity) } else { None })
                .collect();
            let written = self.write(news, changes);
            spent.iter().for_each(kept);
            match (&written, failed) {
                (Err(error), false) => {
                    tracing::error!("what the agent sees cannot be kept: {error}; it is tried again")
                }
                (Ok(()), true) => tracing::info!("what the agent sees is kept again"),
                _ => {}
            }
            failed = written.is_err();
            let mut waiting = self.waiting.lock();
            waiting.trouble = written.err().map(|error| error.to_string());
            waiting.tried = ticket;
            drop(waiting);
            self.tried.notify_all();
        }
    }

    fn write(&self, news: VecDeque<News>, changes: Vec<Change>) -> std::io::Result<()> {
        let mut disk = self.disk.lock();
        let Disk { journal, tables, backlog, forgotten } = &mut *disk;
        if *forgotten {
            return Ok(());
        }
        backlog.extend(news);
        let excess = backlog.len().saturating_sub(BACKLOG);
        backlog.drain(..excess);
        changes.into_iter().for_each(|change| tables.change(change));
        // What keeps somebody out comes before what is only told.
        let tables = if tables.are_kept() { Ok(()) } else { tables.keep() };
        journal.add(backlog)?;
        backlog.clear();
        tables
    }
}
