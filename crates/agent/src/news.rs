//! What an agent saw, on disk until it was collected: numbered lines in files of a megabyte, read by page, bounded.

use std::collections::BTreeMap;
use std::fs::{self, DirBuilder, File};
use std::io::{self, BufRead as _, BufReader};
use std::os::unix::fs::DirBuilderExt as _;
use std::path::{Path, PathBuf};

use yestrel_core::exchange::News;
use yestrel_core::exchange::agent::NewsPage;

use crate::disk::Lines;

/// A file that has grown to this many bytes is followed by the next.
const FILE: u64 = 1024 * 1024;
/// All files together: beyond it the oldest goes, whether it was collected or not. Whoever collects sees the gap in the numbers.
const MOST: u64 = 64 * FILE;
/// What was collected stays up to this many bytes, for an estate that is loaded from an older backup.
const COLLECTED: u64 = 8 * FILE;
/// News are answered in pages of about this many bytes.
pub const PAGE: usize = 256 * 1024;

/// The news of one agent.
pub(crate) struct Journal {
    folder: PathBuf,
    /// How long each file is, by the number of its first line; the last of them grows.
    files: BTreeMap<u64, u64>,
    growing: Option<Lines>,
    newest: u64,
    /// Up to here they were collected, as far as is known.
    collected: u64,
}

fn read(path: &Path) -> io::Result<impl Iterator<Item = News>> {
    let lines = BufReader::new(File::open(path)?).split(b'\n').map_while(io::Result::ok);
    Ok(lines.filter_map(|line| serde_json::from_slice(&line).ok()))
}

impl Journal {
    /// Opens the folder. It need not be there: it is made when the first line is kept.
    ///
    /// # Errors
    /// What is there cannot be read.
    pub fn open(folder: &Path) -> io::Result<Self> {
        let mut files = BTreeMap::new();
        match fs::read_dir(folder) {
            Ok(entries) => {
                for entry in entries {
                    let entry = entry?;
                    let name = entry.file_name();
                    let first = name.to_str().and_then(|name| name.strip_suffix(".jsonl")?.parse().ok());
                    if let Some(first) = first {
                        files.insert(first, entry.metadata()?.len());
                    }
                }
            }
            Err(error) if error.kind() == io::ErrorKind::NotFound => {}
            Err(error) => return Err(error),
        }
        let mut journal = Self { folder: folder.to_owned(), files, growing: None, newest: 0, collected: 0 };
        if let Some((first, _)) = journal.files.last_key_value() {
            // Never below what was there, even where its lines cannot be read.
            let newest = read(&journal.path(*first))?.map(|item| item.number).max();
            journal.newest = newest.unwrap_or(0).max(first.saturating_sub(1));
        }
        Ok(journal)
    }

    fn path(&self, first: u64) -> PathBuf {
        self.folder.join(format!("{first:020}.jsonl"))
    }

    /// The number of the newest that is kept.
    pub fn newest(&self) -> u64 {
        self.newest
    }

    /// Keeps news, which are in their sequence and after all others.
    ///
    /// # Errors
    /// The disk is full or read-only; then none of them is kept.
    pub fn add(&mut self, items: &[News]) -> io::Result<()> {
        let (Some(first), Some(last)) = (items.first(), items.last()) else { return Ok(()) };
        if self.growing.as_ref().is_some_and(|file| file.length() >= FILE) {
            self.growing = None;
        }
        let growing = match &mut self.growing {
            Some(growing) => growing,
            none => {
                let begun = self.files.last_key_value().filter(|(_, length)| **length < FILE).map(|(first, _)| *first);
                let number = begun.unwrap_or(first.number);
                DirBuilder::new().recursive(true).mode(0o700).create(&self.folder)?;
                let lines = Lines::open(&self.folder.join(format!("{number:020}.jsonl")))?;
                self.files.insert(number, lines.length());
                none.insert(lines)
            }
        };
        let mut bytes = Vec::new();
        for item in items {
            serde_json::to_writer(&mut bytes, item)?;
            bytes.push(b'\n');
        }
        growing.add(&bytes)?;
        let length = growing.length();
        if let Some(mut entry) = self.files.last_entry() {
            *entry.get_mut() = length;
        }
        self.newest = last.number;
        self.make_room(MOST);
        Ok(())
    }

    /// Drops the oldest files beyond a bound, and what was collected beyond its own.
    pub fn make_room(&mut self, most: u64) {
        let mut total: u64 = self.files.values().sum();
        while self.files.len() > 1 {
            let mut firsts = self.files.iter();
            let (Some((first, length)), Some((next, _))) = (firsts.next(), firsts.next()) else { return };
            let (first, length, collected) = (*first, *length, next.saturating_sub(1) <= self.collected);
            if total <= most && !(collected && total > COLLECTED) {
                return;
            }
            if fs::remove_file(self.path(first)).is_err() {
                return;
            }
            if !collected {
                tracing::warn!(
                    from = first,
                    "news that nobody had collected are dropped: there is room for {MOST} bytes"
                );
            }
            self.files.remove(&first);
            total -= length;
        }
    }

    /// News after the one with this number, at most a page. Costs by the page, not by what is kept. Whoever asks has all up to
    /// that number.
    ///
    /// # Errors
    /// A file cannot be read.
    pub fn after(&mut self, number: u64) -> io::Result<NewsPage> {
        self.collected = number.min(self.newest);
        self.make_room(MOST);
        let from = self.files.range(..=number.saturating_add(1)).next_back().map_or(0, |(first, _)| *first);
        let (mut items, mut bytes) = (Vec::new(), 0);
        for first in self.files.range(from..).map(|(first, _)| *first) {
            for item in read(&self.path(first))?.filter(|item| item.number > number && item.number <= self.newest) {
                bytes += serde_json::to_vec(&item).map_or(0, |line| line.len());
                if bytes > PAGE && !items.is_empty() {
                    return Ok(NewsPage { items, more: true });
                }
                items.push(item);
            }
        }
        Ok(NewsPage { items, more: false })
    }

    /// Forgets everything.
    ///
    /// # Errors
    /// A file cannot be removed.
    pub fn forget(&mut self) -> io::Result<()> {
        self.growing = None;
        for first in std::mem::take(&mut self.files).into_keys() {
            fs::remove_file(self.path(first))?;
        }
        (self.newest, self.collected) = (0, 0);
        match fs::remove_dir(&self.folder) {
            Err(error) if error.kind() != io::ErrorKind::NotFound => Err(error),
            _ => Ok(()),
        }
    }
}

#[cfg(test)]
mod tests {
    use std::io::Write as _;

    use super::*;
    use yestrel_core::exchange::NewsEvent;

    fn items(numbers: std::ops::RangeInclusive<u64>, long: usize) -> Vec<News> {
        let one = |number| {
            let event = NewsEvent::Started { version: "v".repeat(long) };
            News { number, at: jiff::Timestamp::now(), event }
        };
        numbers.map(one).collect()
    }

    #[test]
    fn news_come_back_by_page_whatever_their_length_and_after_a_cut_line() {
        let temporary = tempfile::tempdir().unwrap();
        let folder = temporary.path().join("news");
        {
            let mut journal = Journal::open(&folder).unwrap();
            assert!(!folder.exists());
            for from in (1..=3000).step_by(10) {
                journal.add(&items(from..=from + 9, 1000)).unwrap();
            }
            // A line longer than a page is a page.
            journal.add(&items(3001..=3002, PAGE)).unwrap();
        }
        let last = fs::read_dir(&folder).unwrap().map(|entry| entry.unwrap().path()).max().unwrap();
        fs::OpenOptions::new().append(true).open(last).unwrap().write_all(b"{\"number\":9999,\"at\":\"20").unwrap();
        let mut journal = Journal::open(&folder).unwrap();
        assert_eq!(journal.newest(), 3002);
        journal.add(&items(3003..=3003, 1)).unwrap();
        let (mut seen, mut pages) = (17, 0);
        loop {
            let page = journal.after(seen).unwrap();
            let numbers: Vec<_> = page.items.iter().map(|item| item.number).collect();
            assert_eq!(numbers, (seen + 1..=seen + numbers.len() as u64).collect::<Vec<_>>());
            assert!(numbers.len() < 270, "a page of {}", numbers.len());
            seen = *numbers.last().unwrap();
            pages += 1;
            if !page.more {
                break;
            }
        }
        assert_eq!(seen, 3003);
        assert!(pages > 12, "{pages}");
    }

    #[test]
    fn the_oldest_go_beyond_the_bound_and_those_that_were_collected_before() {
        let temporary = tempfile::tempdir().unwrap();
        let mut journal = Journal::open(&temporary.path().join("news")).unwrap();
        for from in (1..=12_000).step_by(1000) {
            journal.add(&items(from..=from + 999, 1100)).unwrap();
        }
        assert_eq!(journal.files.len(), 12);
        assert_eq!(journal.after(0).unwrap().items[0].number, 1, "nothing goes that has room and was not collected");
        journal.after(11_500).unwrap();
        let kept: u64 = journal.files.values().sum();
        assert!(kept <= COLLECTED && kept > COLLECTED - 2 * FILE, "{kept} bytes of what was collected");
        let first = *journal.files.first_key_value().unwrap().0;
        assert_eq!(journal.after(0).unwrap().items[0].number, first);
        journal.make_room(2 * FILE);
        assert_eq!(journal.files.len(), 1);
        assert!(journal.after(0).unwrap().items[0].number > first, "the gap shows in the numbers");
    }
}
