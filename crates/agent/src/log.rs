//! The agent's own log: on standard error, for the host's, and in a file of its folder, so that it can be read wherever it runs.

use std::fs::{File, OpenOptions};
use std::io::{self, Write};
use std::os::unix::fs::OpenOptionsExt as _;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use parking_lot::Mutex;

/// A log that has grown to this many bytes is begun anew; the one before is kept.
const LONGEST: u64 = 2_000_000;

/// Where log lines go. Cheap to clone: all clones write to one file.
#[derive(Clone)]
pub struct Log {
    path: PathBuf,
    file: Arc<Mutex<Option<File>>>,
}

impl Log {
    /// Writes to the file at `path`, where that can be done; standard error gets everything in any case.
    #[must_use]
    pub fn new(path: &Path) -> Self {
        Self { path: path.to_owned(), file: Arc::default() }
    }

    fn write_to_file(&self, line: &[u8]) -> io::Result<()> {
        let mut file = self.file.lock();
        if file.as_ref().is_some_and(|file| file.metadata().is_ok_and(|about| about.len() > LONGEST)) {
            *file = None;
            std::fs::rename(&self.path, self.path.with_extension("before"))?;
        }
        if file.is_none() {
            *file = Some(OpenOptions::new().append(true).create(true).mode(0o600).open(&self.path)?);
        }
        file.as_mut().map_or(Ok(()), |file| file.write_all(line))
    }
}

impl Write for Log {
    fn write(&mut self, line: &[u8]) -> io::Result<usize> {
        // A full disk must not stop the tunnel.
        let _ = self.write_to_file(line);
        io::stderr().write_all(line)?;
        Ok(line.len())
    }

    fn flush(&mut self) -> io::Result<()> {
        io::stderr().flush()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_long_log_is_begun_anew_and_the_one_before_is_kept() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("log");
        let mut log = Log::new(&path);
        log.write_to_file(&vec![b'x'; LONGEST as usize + 1]).unwrap();
        let _ = log.write(b"after\n").unwrap();
        assert_eq!(std::fs::read(&path).unwrap(), b"after\n");
        assert_eq!(std::fs::metadata(folder.path().join("log.before")).unwrap().len(), LONGEST + 1);
    }
}
