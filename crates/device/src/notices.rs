//! Way notices on the device: kept beside the handover that they belong to, sealed as they came, so that a handover under a passphrase needs no
//! new one.

use std::fs::{self, OpenOptions};
use std::io::{Read as _, Write as _};
use std::os::unix::fs::{MetadataExt as _, OpenOptionsExt as _};
use std::path::{Path, PathBuf};

use yestrel_core::handover::Handover;
use yestrel_core::notice::{LONGEST, block, find, find_all, open};
use yestrel_core::sealed::Sealed;
use yestrel_core::{Problem, Result};

/// Where the newest notice for a handover is kept.
///
/// # Errors
/// The handover's path cannot be made absolute.
pub fn beside(handover: &Path) -> Result<PathBuf> {
    let mut name = std::path::absolute(handover)
        .map_err(|error| Problem::failed(format!("{} is no path", handover.display())).why(error.to_string()))?
        .into_os_string();
    name.push(".notice");
    Ok(name.into())
}

/// The text of a notice: a link as it stands, else what is in the file.
///
/// # Errors
/// The file cannot be read, or is none.
pub fn read(what: &str) -> Result<Sealed> {
    if what.starts_with("yestrel:") {
        return find(what);
    }
    find(&text(Path::new(what))?)
}

fn text(path: &Path) -> Result<String> {
    let mut text = String::new();
    let file = fs::File::open(path).and_then(|file| file.take(4 * LONGEST as u64).read_to_string(&mut text));
    file.map_err(|error| {
        Problem::failed(format!("the notice {} cannot be read", path.display())).why(error.to_string())
    })?;
    Ok(text)
}

/// The notices for one handover that must be kept: the newest, and before it those that name another key of the estate, by which the next
/// ones are known.
#[derive(Debug, Clone)]
pub struct Kept {
    path: PathBuf,
    /// Each with whether it names another key.
    all: Vec<(Sealed, bool)>,
}

impl Kept {
    /// Brings what was kept beside a handover into it. Gives what is another by that, and what of it could not be used.
    pub fn load(path: PathBuf, handover: &mut Handover) -> (Self, Vec<String>, Option<Problem>) {
        let mut kept = Self { path, all: Vec::new() };
        if fs::symlink_metadata(&kept.path).is_err_and(|error| error.kind() == std::io::ErrorKind::NotFound) {
            return (kept, Vec::new(), None);
        }
        let mut words = Vec::new();
        let found = match text(&kept.path).and_then(|text| find_all(&text)) {
            Ok(found) => found,
            Err(problem) => return (kept, words, Some(problem)),
        };
        let mut wrong = None;
        for sealed in found {
            match kept.take(&sealed, handover) {
                Ok((_, changed)) => words = changed,
                // A handover that was made after it has all of it.
                Err(problem) if problem.error.contains("is known already") => {}
                Err(problem) => wrong = Some(problem),
            }
        }
        (kept, words, wrong)
    }

    /// Takes a notice into a handover; [`Kept::write`] keeps it. Gives its number, and what is another by it.
    ///
    /// # Errors
    /// It is not for this handover, not newer, or nothing could come of it; then nothing is changed.
    pub fn take(&mut self, sealed: &Sealed, handover: &mut Handover) -> Result<(u32, Vec<String>)> {
        let notice = open(sealed, handover)?;
        let (number, another) = (notice.number, notice.estate_key != handover.estate_key);
        let words = handover.take(notice)?;
        self.all.pop_if(|(_, needed)| !*needed);
        self.all.push((sealed.clone(), another));
        Ok((number, words))
    }

    /// Writes it to the disk, for whoever the handover belongs to.
    ///
    /// # Errors
    /// It cannot be written.
    pub fn write(&self, holder: &str) -> Result<()> {
        let path = &self.path;
        let mut new = path.as_os_str().to_owned();
        new.push(".new");
        let new = PathBuf::from(new);
        let text: String = self.all.iter().map(|(sealed, _)| block(holder, sealed)).collect();
        let write = || {
            let _ = fs::remove_file(&new);
            let follow_nothing = nix::libc::O_NOFOLLOW;
            let mut file =
                OpenOptions::new().write(true).create_new(true).custom_flags(follow_nothing).mode(0o600).open(&new)?;
            // As root the tunnel runs for whoever has the handover.
            if let Ok(owner) = fs::metadata(path.with_extension("")) {
                let _ = std::os::unix::fs::fchown(&file, Some(owner.uid()), Some(owner.gid()));
            }
            file.write_all(text.as_bytes())?;
            file.sync_all()?;
            fs::rename(&new, path)?;
            path.parent().map_or(Ok(()), |folder| fs::File::open(folder)?.sync_all())
        };
        write().map_err(|error: std::io::Error| {
            let _ = fs::remove_file(&new);
            Problem::failed(format!("the notice cannot be kept at {}", path.display())).why(error.to_string())
        })
    }
}
