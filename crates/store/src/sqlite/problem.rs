//! What the database says, for a person.

use std::path::Path;
use std::time::Duration;

use rusqlite::ErrorCode;
use yestrel_core::Problem;

/// How long a command waits for another that is writing.
pub(super) const PATIENCE: Duration = Duration::from_secs(30);
/// How often it is looked whether the other has finished: one that writes in batches leaves little time between two.
const LOOK: Duration = Duration::from_millis(3);

/// Waits for another command that is writing, for the nth time; whether it is still worth it.
pub(super) fn waits(times: i32) -> bool {
    if LOOK * u32::try_from(times).unwrap_or(u32::MAX) >= PATIENCE {
        return false;
    }
    std::thread::park_timeout(LOOK);
    true
}

/// What the database says, for a person. A full disk hides behind several errors of the database; whether it is one, the disk
/// itself says.
pub(super) fn problem(path: &Path, error: &rusqlite::Error) -> Problem {
    let words = error.to_string();
    let extended = error.sqlite_error().map(|error| error.extended_code);
    match error.sqlite_error_code() {
        Some(ErrorCode::DatabaseBusy | ErrorCode::DatabaseLocked) => Problem::failed("the estate is in use")
            .why(format!("another command has been writing to it for more than {} s", PATIENCE.as_secs()))
            .try_("the same command again, once the other is done"),
        Some(ErrorCode::DiskFull | ErrorCode::SystemIoFailure | ErrorCode::CannotOpen) if disk_is_full(path) => {
            Problem::failed("the disk is full")
                .why(format!("{} has no room left; nothing was changed", folder_of(path).display()))
                .try_("make room, then the same command again")
        }
        Some(ErrorCode::DiskFull) => Problem::failed("the disk is full").why("nothing was changed"),
        Some(ErrorCode::ReadOnly | ErrorCode::CannotOpen) => {
            Problem::failed("the estate cannot be written").why(format!("{words}; nothing was changed"))
        }
        Some(ErrorCode::NotADatabase | ErrorCode::DatabaseCorrupt) => {
            Problem::failed("this file is no estate, or a damaged one").why(words)
        }
        Some(ErrorCode::ConstraintViolation) if extended == Some(rusqlite::ffi::SQLITE_CONSTRAINT_FOREIGNKEY) => {
            Problem::refused("something else in the estate still needs this").why("nothing was changed")
        }
        _ => Problem::failed("the estate's database does not do as asked").why(words),
    }
}

pub(super) fn folder_of(path: &Path) -> &Path {
    path.parent().filter(|folder| !folder.as_os_str().is_empty()).unwrap_or(Path::new("."))
}

fn disk_is_full(path: &Path) -> bool {
    nix::sys::statvfs::statvfs(folder_of(path)).is_ok_and(|about| about.blocks_available() < 8)
}
