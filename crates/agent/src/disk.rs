//! Files that grow: lines are added and synced together, what could not be written whole is cut off again, and a table of them
//! costs by what changes.

use std::collections::{BTreeMap, BTreeSet};
use std::fs::{self, File, OpenOptions};
use std::io::{self, BufRead as _, BufReader, Write as _};
use std::os::unix::fs::OpenOptionsExt as _;
use std::path::{Path, PathBuf};

use serde::de::DeserializeOwned;
use serde::{Deserialize, Serialize};
use yestrel_net::files::write_whole;

/// A file of lines that only grows. After a failed write it is as long as before it.
pub(crate) struct Lines {
    file: File,
    length: u64,
}

impl Lines {
    /// Opens or makes the file (mode 0600). A line at its end that a crash cut short is cut off.
    ///
    /// # Errors
    /// It cannot be opened.
    pub fn open(path: &Path) -> io::Result<Self> {
        let file =
            OpenOptions::new().append(true).create(true).mode(0o600).custom_flags(nix::libc::O_NOFOLLOW).open(path)?;
        let mut lines = Self { length: file.metadata()?.len(), file };
        let whole = whole_lines(path, lines.length)?;
        if whole < lines.length {
            lines.file.set_len(whole)?;
            lines.length = whole;
        }
        Ok(lines)
    }

    /// Bytes.
    pub fn length(&self) -> u64 {
        self.length
    }

    /// Adds whole lines and waits until the disk has them.
    ///
    /// # Errors
    /// The disk is full or read-only; then nothing of them is there.
    pub fn add(&mut self, bytes: &[u8]) -> io::Result<()> {
        let written = self.file.write_all(bytes).and_then(|()| self.file.sync_data());
        match written {
            Ok(()) => self.length += bytes.len() as u64,
            Err(_) => self.file.set_len(self.length)?,
        }
        written
    }
}

/// How many bytes of a file are whole lines: looked for from its end.
fn whole_lines(path: &Path, length: u64) -> io::Result<u64> {
    use std::os::unix::fs::FileExt as _;
    let file = File::open(path)?;
    let mut end = length;
    let mut piece = [0; 4096];
    while end > 0 {
        let start = end.saturating_sub(piece.len() as u64);
        let piece = &mut piece[..usize::try_from(end - start).unwrap_or(0)];
        file.read_exact_at(piece, start)?;
        if let Some(at) = piece.iter().rposition(|byte| *byte == b'\n') {
            return Ok(start + at as u64 + 1);
        }
        end = start;
    }
    Ok(0)
}

/// One line of a table: what a key stands for from here on, or that it is gone.
#[derive(Serialize, Deserialize)]
struct Entry<V> {
    key: String,
    #[serde(default = "Option::default", skip_serializing_if = "Option::is_none")]
    value: Option<V>,
}

/// What keys stand for, kept as a file of changes that is written anew when most of it is past.
pub(crate) struct Table<V> {
    path: PathBuf,
    entries: BTreeMap<String, V>,
    /// Changed since it was last kept.
    changed: BTreeSet<String>,
    lines: Option<Lines>,
    /// How many lines the file has.
    count: usize,
}

/// A table's file has this many lines more than twice what it holds before it is written anew.
const PAST: usize = 1_000;

impl<V: Serialize + DeserializeOwned> Table<V> {
    /// Reads a table; what cannot be read of it was cut short by a crash.
    ///
    /// # Errors
    /// The file cannot be read.
    pub fn open(path: &Path) -> io::Result<Self> {
        let mut table =
            Self { path: path.to_owned(), entries: BTreeMap::new(), changed: BTreeSet::new(), lines: None, count: 0 };
        let file = match File::open(path) {
            Ok(file) => file,
            Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(table),
            Err(error) => return Err(error),
        };
        for line in BufReader::new(file).split(b'\n') {
            table.count += 1;
            if let Ok(Entry { key, value }) = serde_json::from_slice(&line?) {
                match value {
                    Some(value) => table.entries.insert(key, value),
                    None => table.entries.remove(&key),
                };
            }
        }
        Ok(table)
    }

    /// What it holds.
    pub fn entries(&self) -> &BTreeMap<String, V> {
        &self.entries
    }

    /// Whether everything has been kept.
    pub fn is_kept(&self) -> bool {
        self.changed.is_empty()
    }

    /// Changes what a key stands for; kept by the next [`Table::keep`].
    pub fn set(&mut self, key: String, value: Option<V>) {
        match value {
            Some(value) => {
                self.entries.insert(key.clone(), value);
            }
            // What came and went since nobody needs to know.
            None if self.entries.remove(&key).is_none() && !self.changed.contains(&key) => return,
            None => {}
        }
        self.changed.insert(key);
    }

    /// Writes what has changed and waits until the disk has it.
    ///
    /// # Errors
    /// The disk is full or read-only; it can be tried again.
    pub fn keep(&mut self) -> io::Result<()> {
        if self.changed.is_empty() {
            return Ok(());
        }
        let line = |bytes: &mut Vec<u8>, key: &String, value: Option<&V>| {
            let _ = serde_json::to_writer(&mut *bytes, &Entry { key: key.clone(), value });
            bytes.push(b'\n');
        };
        let mut bytes = Vec::new();
        if self.count + self.changed.len() > 2 * self.entries.len() + PAST {
            self.entries.iter().for_each(|(key, value)| line(&mut bytes, key, Some(value)));
            self.lines = None;
            write_whole(&self.path, &bytes).map_err(|problem| io::Error::other(problem.line()))?;
            self.count = self.entries.len();
        } else {
            self.changed.iter().for_each(|key| line(&mut bytes, key, self.entries.get(key)));
            let lines = match &mut self.lines {
                Some(lines) => lines,
                closed => closed.insert(Lines::open(&self.path)?),
            };
            lines.add(&bytes)?;
            self.count += self.changed.len();
        }
        self.changed.clear();
        Ok(())
    }

    /// Forgets everything, and the file.
    ///
    /// # Errors
    /// The file cannot be removed.
    pub fn forget(&mut self) -> io::Result<()> {
        self.entries.clear();
        self.changed.clear();
        (self.lines, self.count) = (None, 0);
        match fs::remove_file(&self.path) {
            Err(error) if error.kind() != io::ErrorKind::NotFound => Err(error),
            _ => Ok(()),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_table_comes_back_as_it_was_even_after_a_cut_line_and_does_not_grow_without_end() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("leases");
        let mut table = Table::<u32>::open(&path).unwrap();
        for round in 0..50 {
            for key in 0..100 {
                table.set(format!("key-{key}"), (key != 7).then_some(round * 1000 + key));
            }
            table.keep().unwrap();
            assert!(table.is_kept());
        }
        let lines = fs::read_to_string(&path).unwrap().lines().count();
        assert!(lines <= 2 * 99 + PAST + 100, "{lines} lines for 99 entries");
        OpenOptions::new().append(true).open(&path).unwrap().write_all(b"{\"key\":\"key-8\",\"va").unwrap();
        let mut again = Table::<u32>::open(&path).unwrap();
        assert_eq!(again.entries(), table.entries());
        assert_eq!((again.entries().len(), again.entries()["key-8"]), (99, 49_008));
        again.set("key-8".into(), Some(1));
        again.keep().unwrap();
        assert_eq!(Table::<u32>::open(&path).unwrap().entries()["key-8"], 1);
        again.forget().unwrap();
        assert!(Table::<u32>::open(&path).unwrap().entries().is_empty());
    }

    #[test]
    fn what_came_and_went_leaves_no_line() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("live");
        let mut table = Table::<u32>::open(&path).unwrap();
        table.set("a".into(), None);
        table.keep().unwrap();
        assert!(!path.exists());
        table.set("a".into(), Some(1));
        table.keep().unwrap();
        table.set("a".into(), None);
        table.keep().unwrap();
        assert!(Table::<u32>::open(&path).unwrap().entries().is_empty());
    }
}
