//! Changing the agent's program: the new one is on trial until it has reported, and the one before comes back by itself.

use std::fs;
use std::io::Read as _;
use std::path::{Path, PathBuf};
use std::time::{Duration, Instant};

use yestrel_core::exchange::agent::{AgentStatus, Status};
use yestrel_core::schedule::Schedule;
use yestrel_core::{Problem, Result};

use yestrel_net::control;

use crate::folder;
use crate::service::{self, BEFORE, NEXT, PROGRAM, PROGRAMS, SCHEDULE, Service, TRIAL, cannot_write};

/// A new program must have reported within this time, or the one before comes back.
pub const PATIENCE: Duration = Duration::from_secs(30);

/// SHA-256 of a file, in hexadecimal.
///
/// # Errors
/// It cannot be read.
pub fn hash(path: &Path) -> std::io::Result<String> {
    let mut file = fs::File::open(path)?;
    let mut context = ring::digest::Context::new(&ring::digest::SHA256);
    let mut piece = vec![0; 1 << 16];
    loop {
        let length = file.read(&mut piece)?;
        if length == 0 {
            break;
        }
        context.update(&piece[..length]);
    }
    Ok(context.finish().as_ref().iter().map(|byte| format!("{byte:02x}")).collect())
}

/// What the installed agent says of itself, if it answers.
#[must_use]
pub fn status(patience: Duration) -> Option<AgentStatus> {
    let socket = folder::socket(Path::new(service::FOLDER));
    control::ask(&socket, &Status, patience).ok().map(|status| *status)
}

/// Waits until an agent answers that runs the program with this hash (any, if empty) and has at least this order in force.
#[must_use]
pub fn reported(program: &str, order: u64, patience: Duration) -> bool {
    let end = Instant::now() + patience;
    loop {
        let good = |status: &AgentStatus| (program.is_empty() || status.program == program) && status.order >= order;
        if status(Duration::from_secs(2)).as_ref().is_some_and(good) {
            return true;
        }
        if Instant::now() > end {
            return false;
        }
        std::thread::park_timeout(Duration::from_millis(50));
    }
}

/// Copies a program to where it will run from, under another name first.
///
/// # Errors
/// The disk is full or read-only.
pub fn lay(from: &Path, name: &str) -> Result<PathBuf> {
    let to = Path::new(PROGRAMS).join(name);
    let copy = || {
        fs::create_dir_all(PROGRAMS)?;
        let _ = fs::remove_file(&to);
        fs::copy(from, &to)?;
        let file = fs::File::open(&to)?;
        file.set_permissions(std::os::unix::fs::PermissionsExt::from_mode(0o755))?;
        file.sync_all()
    };
    copy().map_err(|error| {
        let _ = fs::remove_file(&to);
        cannot_write(&to, &error)
    })?;
    Ok(to)
}

/// Puts the program at `next` in the place of the one that runs, and starts it. Does not come back before it is known
/// which of the two runs; that also holds when this process ends in between.
///
/// # Errors
/// The new program did not report, and the one before runs again.
pub fn switch(next: &Path) -> Result<()> {
    let expected = hash(next).map_err(|error| cannot_write(next, &error))?;
    let order = status(Duration::from_secs(3)).map_or(0, |status| status.order);
    let cannot = |error: std::io::Error| cannot_write(Path::new(PROGRAM), &error);
    let _ = fs::remove_file(BEFORE);
    fs::hard_link(PROGRAM, BEFORE).map_err(cannot)?;
    service::put(Path::new(TRIAL), b"0\n", 0o644)?;
    fs::rename(next, PROGRAM).map_err(cannot)?;
    // Whoever asked for this may be gone at any moment: somebody stays who brings the program before back.
    let guard = ["agent", "guard", "--program", &expected, "--order", &order.to_string()];
    service::spawn(Path::new(PROGRAM), &guard).map_err(|problem| {
        let _ = fs::rename(BEFORE, PROGRAM);
        let _ = fs::remove_file(TRIAL);
        Problem::failed("the new program does not run on the host").why(problem.why.unwrap_or_default())
    })?;
    let restarted = Service::of_this_host().restart();
    let end = Instant::now() + PATIENCE + Duration::from_secs(15);
    while Path::new(TRIAL).exists() && Instant::now() < end {
        std::thread::park_timeout(Duration::from_millis(50));
    }
    if hash(Path::new(PROGRAM)).is_ok_and(|there| there == expected) {
        return Ok(());
    }
    // The one before is on its way up.
    let _ = reported("", order, Duration::from_secs(10));
    let why = restarted.err().and_then(|problem| problem.why).unwrap_or_else(|| {
        format!("it was started, and did not report within {} s with order {order} in force", PATIENCE.as_secs())
    });
    Err(Problem::failed("the new agent did not prove itself; the one before runs again")
        .why(why)
        .try_("yestrel gateway log NAME   says what it wrote"))
}

/// Stays until the program on trial has reported, or brings the one before back. Runs apart from whoever asked for the upgrade.
pub fn guard(program: &str, order: u64) {
    let _ = nix::unistd::setsid();
    let good = reported(program, order, PATIENCE);
    if good {
        let _ = fs::remove_file(TRIAL);
        let _ = fs::remove_file(BEFORE);
        return;
    }
    // The guard of the service may have gone back already.
    if Path::new(BEFORE).exists() && fs::rename(BEFORE, PROGRAM).is_ok() {
        let _ = Service::of_this_host().restart();
    }
    let _ = reported("", order, Duration::from_secs(10));
    let _ = fs::remove_file(TRIAL);
}

/// Upgrades to the program that waits, if there is one and its hours have come. Whether it did.
///
/// # Errors
/// As [`switch`].
pub fn when_due(now: jiff::Timestamp, check: impl Fn(&Path) -> Result<Option<PathBuf>>) -> Result<bool> {
    let schedule: Option<Schedule> = fs::read(SCHEDULE).ok().and_then(|bytes| serde_json::from_slice(&bytes).ok());
    if !schedule.is_some_and(|schedule| schedule.open_at(now)) {
        return Ok(false);
    }
    let next = match check(Path::new(service::INCOMING))? {
        Some(program) => Some(lay(&program, "next.new")?),
        None => Path::new(NEXT).exists().then(|| PathBuf::from(NEXT)),
    };
    let Some(next) = next else { return Ok(false) };
    if hash(&next).ok() == hash(Path::new(PROGRAM)).ok() {
        let _ = fs::remove_file(&next);
        return Ok(false);
    }
    switch(&next).map(|()| true)
}
