//! The agent's own log: on standard error, for the host's, and in a file of its folder, so that it can be read wherever it runs. A thread
//! of its own writes it, so that nobody who logs waits for a disk or a reader.

use std::fs::{File, OpenOptions};
use std::io::{self, Write};
use std::os::unix::fs::OpenOptionsExt as _;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::{Duration, Instant};

use parking_lot::{Condvar, Mutex};
use yestrel_core::Problem;

/// A log that has grown to this many bytes is begun anew; the one before is kept.
const LONGEST: u64 = 2_000_000;
/// Bytes that wait to be written; what comes beyond them is counted and lost.
const WAITING: usize = 256 * 1024;

/// Where log lines go. Cheap to clone: all clones write to one file.
#[derive(Clone)]
pub struct Log(Arc<Lines>);

#[derive(Default)]
struct Lines {
    waiting: Mutex<Waiting>,
    come: Condvar,
    written: Condvar,
}

#[derive(Default)]
struct Waiting {
    bytes: Vec<u8>,
    lost: u64,
    /// What was taken is not written yet.
    busy: bool,
}

impl Log {
    /// Writes to the file at `path`, where that can be done; standard error gets everything in any case.
    #[must_use]
    pub fn new(path: &Path) -> Self {
        let log = Self(Arc::default());
        let (lines, mut files) = (log.0.clone(), Files { path: path.to_owned(), file: None });
        // Without a thread nothing is logged, and the agent runs.
        let _ = std::thread::Builder::new().name("log".into()).spawn(move || {
            // Signals are for whoever waits for them.
            let _ = nix::sys::signal::SigSet::all().thread_block();
            loop {
                let bytes = lines.take();
                let _ = files.write(&bytes);
                let _ = io::stderr().write_all(&bytes);
                lines.waiting.lock().busy = false;
                lines.written.notify_all();
            }
        });
        log
    }

    /// Waits until everything is written, at most `patience`.
    pub fn settle(&self, patience: Duration) {
        let until = Instant::now() + patience;
        let mut waiting = self.0.waiting.lock();
        while (waiting.busy || !waiting.bytes.is_empty()) && !self.0.written.wait_until(&mut waiting, until).timed_out()
        {
        }
    }
}

/// Says in the log why the agent cannot run.
pub fn cannot_run(problem: &Problem) {
    tracing::error!("the agent cannot run: {}", problem.line());
}

impl Lines {
    fn take(&self) -> Vec<u8> {
        let mut waiting = self.waiting.lock();
        while waiting.bytes.is_empty() {
            self.come.wait(&mut waiting);
        }
        let mut bytes = std::mem::take(&mut waiting.bytes);
        let lost = std::mem::take(&mut waiting.lost);
        if lost > 0 {
            bytes
                .extend_from_slice(format!("{lost} lines are lost here: more came than could be written\n").as_bytes());
        }
        waiting.busy = true;
        bytes
    }

    fn add(&self, line: &[u8]) {
        let mut waiting = self.waiting.lock();
        if waiting.bytes.len() + line.len() > WAITING {
            waiting.lost += 1;
            return;
        }
        waiting.bytes.extend_from_slice(line);
        drop(waiting);
        self.come.notify_one();
    }
}

/// The log's file, and the one before.
struct Files {
    path: PathBuf,
    file: Option<File>,
}

impl Files {
    fn write(&mut self, lines: &[u8]) -> io::Result<()> {
        if self.file.as_ref().is_some_and(|file| file.metadata().is_ok_and(|about| about.len() > LONGEST)) {
            self.file = None;
            std::fs::rename(&self.path, self.path.with_extension("before"))?;
        }
        let file = match &mut self.file {
            Some(file) => file,
            none => {
                let mut options = OpenOptions::new();
                options.append(true).create(true).mode(0o600).custom_flags(nix::libc::O_NOFOLLOW);
                none.insert(options.open(&self.path)?)
            }
        };
        file.write_all(lines)
    }
}

impl Write for Log {
    fn write(&mut self, line: &[u8]) -> io::Result<usize> {
        self.0.add(line);
        Ok(line.len())
    }

    fn flush(&mut self) -> io::Result<()> {
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_long_log_is_begun_anew_and_the_one_before_is_kept() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("log");
        let mut files = Files { path: path.clone(), file: None };
        files.write(&vec![b'x'; LONGEST as usize + 1]).unwrap();
        files.write(b"after\n").unwrap();
        assert_eq!(std::fs::read(&path).unwrap(), b"after\n");
        assert_eq!(std::fs::metadata(folder.path().join("log.before")).unwrap().len(), LONGEST + 1);
    }

    #[test]
    fn a_flood_of_lines_is_bounded_and_says_what_is_missing() {
        let lines = Lines::default();
        let line = [b'x'; 100];
        (0..WAITING / 100 + 7).for_each(|_| lines.add(&line));
        let taken = lines.take();
        assert!(taken.len() < WAITING + 200);
        assert!(
            String::from_utf8(taken).unwrap().ends_with("7 lines are lost here: more came than could be written\n")
        );
        lines.add(b"after\n");
        assert_eq!(lines.take(), b"after\n");
    }

    #[test]
    fn what_was_logged_is_in_the_file_when_the_agent_ends() {
        let folder = tempfile::tempdir().unwrap();
        let mut log = Log::new(&folder.path().join("log"));
        log.write_all(b"agent stops\n").unwrap();
        log.settle(Duration::from_secs(10));
        assert_eq!(std::fs::read(folder.path().join("log")).unwrap(), b"agent stops\n");
    }
}
