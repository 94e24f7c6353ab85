//! Files that are there whole or not at all.

use std::fs::{self, File, OpenOptions};
use std::io::Write as _;
use std::os::unix::fs::OpenOptionsExt as _;
use std::path::{Path, PathBuf};

use yestrel_core::{Problem, Result};

/// That a file cannot be kept, with why.
pub fn cannot(path: &Path) -> impl Fn(std::io::Error) -> Problem + '_ {
    move |error| Problem::failed(format!("{} cannot be kept", path.display())).why(error.to_string())
}

/// Writes a file so that after a crash there is either the old one or the new one, with mode 0600.
///
/// # Errors
/// The disk is full or read-only.
pub fn write_whole(path: &Path, bytes: &[u8]) -> Result<()> {
    let mut name = path.as_os_str().to_owned();
    name.push(".new");
    let new = PathBuf::from(name);
    let write = || {
        let mut file = OpenOptions::new().write(true).create(true).truncate(true).mode(0o600).open(&new)?;
        file.write_all(bytes)?;
        file.sync_all()?;
        fs::rename(&new, path)?;
        if let Some(folder) = path.parent() {
            File::open(folder)?.sync_all()?;
        }
        Ok(())
    };
    write().map_err(cannot(path))
}
