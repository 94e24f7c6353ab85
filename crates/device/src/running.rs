//! The tunnels that are up on this machine: where they say what they are, and how they are asked.

use std::fs;
use std::os::unix::fs::DirBuilderExt as _;
use std::path::{Path, PathBuf};
use std::time::Duration;

use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use yestrel_core::exchange::Question;
use yestrel_core::exchange::device::{Ask, Status, Stop, TunnelState, TunnelStatus};
use yestrel_core::{Problem, Result};

use crate::system::{self, Applied};
use yestrel_net::control;

const PATIENCE: Duration = Duration::from_secs(12);
/// How many tunnels there can be at once.
const SLOTS: u32 = 16;

/// The folder of running tunnels: `YESTREL_RUN`, else /run/yestrel for root, else the user's own run folder.
///
/// # Errors
/// It cannot be made with mode 0700.
pub fn folder() -> Result<PathBuf> {
    let folder = match std::env::var_os("YESTREL_RUN") {
        Some(folder) => PathBuf::from(folder),
        None if nix::unistd::geteuid().is_root() => PathBuf::from("/run/yestrel"),
        None => match std::env::var_os("XDG_RUNTIME_DIR") {
            Some(folder) => PathBuf::from(folder).join("yestrel"),
            None => std::env::temp_dir().join(format!("yestrel-{}", nix::unistd::geteuid())),
        },
    };
    fs::DirBuilder::new().recursive(true).mode(0o700).create(&folder).map_err(|error| {
        Problem::failed(format!("{} cannot be made", folder.display()))
            .why(error.to_string())
            .try_("YESTREL_RUN=FOLDER names another")
    })?;
    use std::os::unix::fs::MetadataExt as _;
    let foreign =
        |metadata: fs::Metadata| metadata.uid() != nix::unistd::geteuid().as_raw() || metadata.mode() & 0o022 != 0;
    if fs::metadata(&folder).is_ok_and(foreign) {
        return Err(Problem::refused(format!(
            "{} belongs to another user, or can be written by others",
            folder.display()
        ))
        .why("what runs there could not be trusted")
        .try_("YESTREL_RUN=FOLDER names another"));
    }
    Ok(folder)
}

/// Where the tunnel `name` answers.
#[must_use]
pub fn socket(folder: &Path, name: &str) -> PathBuf {
    folder.join(format!("{name}.sock"))
}

/// Where what the tunnel `name` has changed is written down.
#[must_use]
pub fn applied_file(folder: &Path, name: &str) -> PathBuf {
    folder.join(format!("{name}.applied"))
}

/// Asks a tunnel.
///
/// # Errors
/// No such tunnel, or it refuses.
pub fn ask<Q: Question<Set = Ask>>(name: &str, question: &Q) -> Result<Q::Answer> {
    let socket = socket(&folder()?, name);
    match control::exchange(&socket, &question.clone().into(), PATIENCE) {
        Ok(answered) => answered.read::<Q>(),
        Err(_) => Err(Problem::words(format!("there is no tunnel {name} on this machine"))
            .why("none of that name answers here")
            .try_("yestrel tunnel list")),
    }
}

fn names(folder: &Path, ending: &str) -> Vec<String> {
    let mut names: Vec<_> = fs::read_dir(folder)
        .into_iter()
        .flatten()
        .flatten()
        .filter_map(|entry| entry.file_name().to_string_lossy().strip_suffix(ending).map(str::to_owned))
        .collect();
    names.sort();
    names
}

/// The slot that no tunnel here uses.
///
/// # Errors
/// All sixteen are used.
pub fn free_slot(folder: &Path) -> Result<u32> {
    let used: Vec<_> =
        names(folder, ".applied").iter().filter_map(|name| applied(folder, name)).map(|a| a.slot).collect();
    (0..SLOTS).find(|slot| !used.contains(slot)).ok_or_else(|| {
        Problem::refused("sixteen tunnels are up on this machine").try_("yestrel tunnel stop   one of them")
    })
}

/// What the tunnel `name` has changed on this machine.
#[must_use]
pub fn applied(folder: &Path, name: &str) -> Option<Applied> {
    serde_json::from_slice(&fs::read(applied_file(folder, name)).ok()?).ok()
}

/// The tunnels here. What a crashed one left behind is taken back on the way; a strict one stays as `blocked`.
///
/// # Errors
/// The folder cannot be used.
pub fn list() -> Result<Vec<TunnelStatus>> {
    list_in(&folder()?)
}

/// As [`list`], in this folder.
///
/// # Errors
/// The folder cannot be used.
pub fn list_in(folder: &Path) -> Result<Vec<TunnelStatus>> {
    let slots: Vec<_> =
        names(folder, ".applied").iter().filter_map(|name| applied(folder, name)).map(|one| one.slot).collect();
    (0..SLOTS).filter(|slot| !slots.contains(slot)).for_each(system::put_back);
    let mut tunnels = Vec::new();
    for name in names(folder, ".sock") {
        match control::ask(&socket(folder, &name), &Status, PATIENCE) {
            Ok(status) => tunnels.push(*status),
            Err(_) => {
                let _ = fs::remove_file(socket(folder, &name));
            }
        }
    }
    for name in names(folder, ".applied") {
        if tunnels.iter().any(|tunnel| tunnel.name == name) {
            continue;
        }
        let Some(applied) = applied(folder, &name) else { continue };
        applied.after_crash();
        if applied.strict {
            tunnels.push(TunnelStatus {
                gateway: "-".into(),
                way: "-".into(),
                strict: true,
                ..TunnelStatus::new(&name, TunnelState::Blocked, "-")
            });
        }
    }
    Ok(tunnels)
}

/// Stops a tunnel and waits until everything is as it was before.
///
/// # Errors
/// No such tunnel, or it does not stop.
pub fn stop(name: &str) -> Result<()> {
    let folder = folder()?;
    if ask(name, &Stop).is_err() {
        let left = applied(&folder, name).ok_or_else(|| {
            Problem::words(format!("there is no tunnel {name} on this machine")).try_("yestrel tunnel list")
        })?;
        left.undo();
        return Ok(());
    }
    for _ in 0..100 {
        if !socket(&folder, name).exists() {
            return Ok(());
        }
        std::thread::park_timeout(Duration::from_millis(50));
    }
    Err(Problem::failed(format!("the tunnel {name} does not stop")))
}

/// How a tunnel ended that nobody here stopped.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct Ended {
    pub name: String,
    pub at: Timestamp,
    pub problem: Problem,
}

fn ended_file(folder: &Path, name: &str) -> PathBuf {
    folder.join(format!("{name}.ended"))
}

/// Notes how a tunnel ended, for whoever looks later; `None` forgets it.
pub fn note_end(folder: &Path, name: &str, problem: Option<&Problem>) {
    let file = ended_file(folder, name);
    match problem {
        Some(problem) => {
            let ended = Ended { name: name.into(), at: Timestamp::now(), problem: problem.clone() };
            let _ = yestrel_net::files::write_whole(&file, &serde_json::to_vec(&ended).unwrap_or_default());
        }
        None => drop(fs::remove_file(file)),
    }
}

/// The tunnels that ended by themselves and were not brought up again since.
///
/// # Errors
/// The folder cannot be used.
pub fn ended() -> Result<Vec<Ended>> {
    let folder = folder()?;
    let read = |name: String| serde_json::from_slice(&fs::read(ended_file(&folder, &name)).ok()?).ok();
    Ok(names(&folder, ".ended").into_iter().filter_map(read).collect())
}

/// Removes every file about a tunnel that is over, and the folder if nothing else is in it.
pub fn leave_no_trace(name: &str) {
    let Ok(folder) = folder() else { return };
    for ending in ["ended", "sock", "log", "applied"] {
        let _ = fs::remove_file(folder.join(format!("{name}.{ending}")));
    }
    // Not empty: of other tunnels.
    let _ = fs::remove_dir(folder);
}

/// Waits beside a tunnel until its process is gone, and takes back what a crash left. Standard input ends with that process.
pub fn watch_over(name: &str) {
    let _ = std::io::copy(&mut std::io::stdin(), &mut std::io::sink());
    if let Ok(folder) = folder()
        && let Some(applied) = applied(&folder, name)
    {
        applied.after_crash();
    }
}
