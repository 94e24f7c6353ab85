//! The process that a lab belongs to: when it is gone, however it went, so is the lab.

use std::fs;
use std::path::PathBuf;

use serde::{Deserialize, Serialize};

/// A process, and a folder of its own that goes with it.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct Owner {
    pid: u32,
    /// Process numbers are used again: when it began, in the kernel's ticks (proc(5), field 22 of stat).
    began: String,
    folder: Option<PathBuf>,
}

fn began(pid: u32) -> Option<String> {
    let stat = fs::read_to_string(format!("/proc/{pid}/stat")).ok()?;
    let mut fields = stat.rsplit_once(") ")?.1.split(' ');
    // A process that has ended and was not waited for is gone.
    (fields.next()? != "Z").then_some(())?;
    fields.nth(18).map(str::to_owned)
}

impl Owner {
    /// A process that runs now; `folder` is removed with the lab once it is gone.
    #[must_use]
    pub fn of(pid: u32, folder: Option<PathBuf>) -> Option<Self> {
        Some(Self { pid, began: began(pid)?, folder })
    }

    /// Whether it runs.
    #[must_use]
    pub fn is_there(&self) -> bool {
        began(self.pid).as_ref() == Some(&self.began)
    }

    /// Removes what goes with it.
    pub fn clear_away(&self) {
        if let Some(folder) = &self.folder {
            let _ = fs::remove_dir_all(folder);
        }
    }
}
