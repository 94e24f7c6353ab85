//! The host's end of a managing connection: carries out what is asked over standard input and output, as root.

use std::fs;
use std::io::{self, BufRead as _, Read as _, Seek as _, Write as _};
use std::path::{Path, PathBuf};
use std::time::Duration;

use yestrel_core::exchange::host::{Ask, HELLO, Installed, LogPiece};
use yestrel_core::exchange::{Answered, LONGEST, agent};
use yestrel_core::findings::Facts;
use yestrel_core::schedule::Schedule;
use yestrel_core::{Problem, Result};

use yestrel_core::VERSION;
use yestrel_net::control;
use yestrel_net::plane;

use crate::folder::{self, Identity, LOG};
use crate::service::{FOLDER, NEXT, PROGRAM, SCHEDULE, Service};
use crate::{probe, service, upgrade};

/// The most of a log that travels at once, in bytes.
const LOG_PIECE: u64 = 64 * 1024;

/// Answers until standard input ends. `managed_on`: the port of the connection, if it is one.
///
/// # Errors
/// Standard output is gone.
pub fn run(managed_on: Option<u16>) -> Result<()> {
    let gone = |error: io::Error| Problem::failed("nobody listens any more").why(error.to_string());
    let mut output = io::stdout().lock();
    writeln!(output, "\n{HELLO}").and_then(|()| output.flush()).map_err(gone)?;
    let mut input = io::stdin().lock();
    loop {
        let mut line = Vec::new();
        match input.by_ref().take(LONGEST).read_until(b'\n', &mut line) {
            Ok(count) if count > 0 && line.ends_with(b"\n") => {}
            _ => return Ok(()),
        }
        let answered = match serde_json::from_slice(&line) {
            Ok(question) => answer(question, managed_on),
            Err(_) => Answered::refused(Problem::failed("the question is not understood").why("it is damaged")),
        };
        let mut reply = zeroize::Zeroizing::new(serde_json::to_vec(&answered).unwrap_or_default());
        reply.push(b'\n');
        output.write_all(&reply).and_then(|()| output.flush()).map_err(gone)?;
    }
}

fn answer(question: Ask, managed_on: Option<u16>) -> Answered {
    match question {
        Ask::Facts(q) => Answered::to(&q, facts(managed_on).map(Box::new)),
        Ask::Install(q) => {
            Answered::to(&q, one_at_a_time().and_then(|_one| install(&q.estate, q.keep_version, q.replace)))
        }
        Ask::Agent(q) => Answered::to(&q, ask(&q.question)),
        Ask::Restart(q) => Answered::to(&q, one_at_a_time().and_then(|_one| restart())),
        Ask::Log(q) => Answered::to(&q, log(Path::new(FOLDER), q.offset)),
        Ask::Remove(q) => Answered::to(&q, one_at_a_time().and_then(|_one| remove(&q.estate, q.force))),
        Ask::Updates(q) => Answered::to(&q, schedule_updates(q.schedule.as_ref())),
    }
}

fn restart() -> Result<()> {
    installed_or_say()?;
    Service::of_this_host().restart()?;
    if upgrade::reported("", 0, Duration::from_secs(10)) {
        return Ok(());
    }
    Err(Problem::failed("the agent was started again and does not answer")
        .try_("yestrel gateway log NAME   says what it wrote"))
}

/// The facts of the host, with what only matters to one that is managed.
fn facts(managed_on: Option<u16>) -> Result<Facts> {
    let mut facts = probe::facts(false)?;
    facts.init = service::init();
    facts.disk_free = [service::PROGRAMS, FOLDER].into_iter().filter_map(|path| free(Path::new(path))).min();
    facts.managed_on = managed_on;
    Ok(facts)
}

/// Bytes free for root where a path is or would be.
fn free(path: &Path) -> Option<u64> {
    let there = path.ancestors().find(|path| path.exists())?;
    let about = nix::sys::statvfs::statvfs(there).ok()?;
    Some(about.blocks_free() as u64 * about.fragment_size() as u64)
}

fn ask(question: &agent::Ask) -> Result<Answered> {
    control::exchange(&folder::socket(Path::new(FOLDER)), question, Duration::from_secs(20)).map_err(|problem| {
        Problem::failed("no agent answers on the host")
            .why(problem.reason())
            .try_("yestrel rollout --again   installs and starts it")
    })
}

fn identity() -> Result<Option<Identity>> {
    folder::read_identity(Path::new(FOLDER))
}

fn installed_or_say() -> Result<()> {
    if Path::new(PROGRAM).exists() {
        return Ok(());
    }
    Err(Problem::refused("there is no agent on the host").try_("yestrel rollout   installs it"))
}

fn install(estate: &str, keep_version: bool, replace: bool) -> Result<Installed> {
    not_of_another(estate)?;
    let own = PathBuf::from("/proc/self/exe");
    let hash_of = |path: &Path| upgrade::hash(path).ok();
    let service = Service::of_this_host();
    let there = hash_of(Path::new(PROGRAM));
    if there.is_none() {
        return install_new(&own, service);
    }
    let mut what = Installed::Nothing;
    if there != hash_of(&own) && (replace || is_older(Path::new(PROGRAM))) {
        if keep_version {
            if hash_of(Path::new(NEXT)) != hash_of(&own) {
                let next = upgrade::lay(&own, "next.new")?;
                fs::rename(&next, NEXT).map_err(|error| service::cannot_write(&next, &error))?;
            }
            what = Installed::Waits;
        } else {
            let next = upgrade::lay(&own, "yestrel.new")?;
            let changed = service.set_up()?;
            let running = service.runs();
            if running {
                upgrade::switch(&next)?;
            } else {
                fs::rename(&next, PROGRAM).map_err(|error| service::cannot_write(&next, &error))?;
            }
            let _ = fs::remove_file(NEXT);
            what = Installed::Upgraded;
            tracing::debug!(changed, running, "upgraded");
        }
    }
    if !keep_version && service.set_up()? && what == Installed::Nothing {
        what = Installed::Mended;
    }
    if !service.runs() {
        service.start()?;
        wait_for_answer()?;
        if what == Installed::Nothing {
            what = Installed::Mended;
        }
    }
    Ok(what)
}

/// Whether a program on the host is of an older version than this one, or does not run at all.
fn is_older(program: &Path) -> bool {
    let said = service::run(&program.to_string_lossy(), &["--version"]);
    let said =
        said.ok().filter(|said| said.status.success()).map(|said| String::from_utf8_lossy(&said.stdout).into_owned());
    said.and_then(|said| numbers(said.trim().rsplit(' ').next()?)).is_none_or(|there| Some(there) < numbers(VERSION))
}

/// The numbers of a version.
fn numbers(version: &str) -> Option<Vec<u32>> {
    version.split('.').map(|part| part.parse().ok()).collect()
}

/// A first installation that does not succeed leaves nothing behind.
fn install_new(own: &Path, service: Service) -> Result<Installed> {
    let install = || {
        let next = upgrade::lay(own, "yestrel.new")?;
        fs::rename(&next, PROGRAM).map_err(|error| service::cannot_write(&next, &error))?;
        service.set_up()?;
        service.start()?;
        wait_for_answer()
    };
    install().map(|()| Installed::New).map_err(|problem: Problem| {
        let log = log(Path::new(FOLDER), None).map(|piece| piece.text).unwrap_or_default();
        let _ = service.stop();
        let _ = service.remove();
        match log.lines().last() {
            Some(last) => problem.try_(format!("its last words were: {last}")),
            None => problem,
        }
    })
}

fn wait_for_answer() -> Result<()> {
    if upgrade::reported("", 0, Duration::from_secs(15)) {
        return Ok(());
    }
    Err(Problem::failed("the agent does not answer").why("it was started, and nobody answers at its control socket"))
}

/// A piece of the agent's log, from `offset` on, and where the next begins. A log that was begun anew since is read from
/// its beginning.
///
/// # Errors
/// The log cannot be read.
pub fn log(agent_folder: &Path, offset: Option<u64>) -> Result<LogPiece> {
    let path = agent_folder.join(LOG);
    let cannot = |error: io::Error| Problem::failed("the agent's log cannot be read").why(error.to_string());
    let mut file = match folder::open_no_link(&path) {
        Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(LogPiece { text: String::new(), next: 0 }),
        other => other.map_err(cannot)?,
    };
    let length = file.metadata().map_err(cannot)?.len();
    let from = match offset {
        Some(offset) if offset <= length => offset,
        Some(_) => 0,
        None => length.saturating_sub(LOG_PIECE),
    };
    file.seek(io::SeekFrom::Start(from)).map_err(cannot)?;
    let mut bytes = Vec::new();
    file.take(LOG_PIECE).read_to_end(&mut bytes).map_err(cannot)?;
    // Whole lines only; where the beginning was cut, from the first whole one on.
    let end = bytes.iter().rposition(|byte| *byte == b'\n').map_or(0, |at| at + 1);
    let begin = if offset.is_none() && from > 0 {
        bytes.iter().position(|byte| *byte == b'\n').map_or(end, |at| at + 1)
    } else {
        0
    };
    Ok(LogPiece { text: String::from_utf8_lossy(&bytes[begin..end]).into_owned(), next: from + end as u64 })
}

/// Whoever was cut off goes on to the end of what it was doing; the next one waits for that.
fn one_at_a_time() -> Result<nix::fcntl::Flock<fs::File>> {
    let cannot = |why: String| Problem::failed("the host is busy with what was asked of it before").why(why);
    let mut file = fs::File::create(service::LOCK).map_err(|error| cannot(error.to_string()))?;
    let end = std::time::Instant::now() + Duration::from_secs(50);
    loop {
        match nix::fcntl::Flock::lock(file, nix::fcntl::FlockArg::LockExclusiveNonblock) {
            Ok(lock) => return Ok(lock),
            Err((_, error)) if std::time::Instant::now() > end => return Err(cannot(error.to_string())),
            Err((back, _)) => {
                file = back;
                std::thread::park_timeout(Duration::from_millis(50));
            }
        }
    }
}

/// An agent of another estate is that estate's.
fn not_of_another(estate: &str) -> Result<()> {
    match identity()?.filter(|other| other.estate != estate && !estate.is_empty()) {
        None => Ok(()),
        Some(other) => Err(Problem::refused("an agent of another estate is on the host")
            .why(format!("it is the gateway {} of the estate with the id {}", other.gateway, other.estate))
            .try_(format!("yestrel gateway retire {}   from that estate", other.gateway))
            .try_("yestrel rollout --take-over   when that estate is gone: removes its agent first")),
    }
}

fn remove(estate: &str, force: bool) -> Result<Vec<String>> {
    if !force {
        not_of_another(estate)?;
    }
    let service = Service::of_this_host();
    let mut gone = Vec::new();
    // An agent that is asked and refuses says why; one that does not answer is removed all the same.
    if let Ok(answered) = ask(&agent::Retire.into()) {
        match answered.read::<agent::Retire>() {
            Err(problem) if !force => return Err(problem),
            _ => gone.push("its firewall table, addresses and sessions".to_owned()),
        }
    }
    service.stop()?;
    // An agent that could not be asked may have left its table and the forwarding that it switched on.
    let before = folder::read_before(Path::new(FOLDER))?;
    match plane::remove_table() {
        Ok(true) => gone.push("its firewall table".into()),
        Ok(false) => {}
        // Where nothing was ever changed there may be no firewall's tool at all.
        Err(problem) if before.is_some() => return Err(problem),
        Err(_) => {}
    }
    if let Some(before) = before.filter(|before| !before.forwarding || !before.forwarding6) {
        plane::take_back(Some(before.forwarded()))?;
        gone.push("forwarding, which it had switched on".into());
    }
    gone.extend(service.remove()?);
    let left: Vec<_> = [service::PROGRAMS, FOLDER, "/var/lib/private/yestrel", "/etc/systemd/system/yestrel.service"]
        .into_iter()
        .filter(|path| fs::symlink_metadata(path).is_ok())
        .map(ToOwned::to_owned)
        .chain(service::processes().iter().map(|pid| format!("process {pid}")))
        .collect();
    if left.is_empty() {
        return Ok(gone);
    }
    Err(Problem::failed("something of the agent is left on the host").why(left.join(", ")))
}

fn schedule_updates(schedule: Option<&Schedule>) -> Result<()> {
    installed_or_say()?;
    match schedule {
        Some(schedule) => {
            let text = serde_json::to_vec(schedule).unwrap_or_default();
            service::put(Path::new(SCHEDULE), &text, 0o644)?;
        }
        None => {
            for path in [SCHEDULE, NEXT] {
                match fs::remove_file(path) {
                    Err(error) if error.kind() != io::ErrorKind::NotFound => {
                        return Err(service::cannot_write(Path::new(path), &error));
                    }
                    _ => {}
                }
            }
        }
    }
    Service::of_this_host().look_for_updates(schedule.is_some())
}

/// The version and hash of this very program, for a person who compares.
#[must_use]
pub fn own_program() -> (String, String) {
    (VERSION.into(), upgrade::hash(Path::new("/proc/self/exe")).unwrap_or_default())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_log_is_read_in_pieces_and_from_the_start_when_it_was_begun_anew() {
        let folder = tempfile::tempdir().unwrap();
        let write = |text: &str| fs::write(folder.path().join(LOG), text).unwrap();
        let read = |offset| {
            let piece = log(folder.path(), offset).unwrap();
            (piece.text, piece.next)
        };
        assert_eq!(read(None), (String::new(), 0));
        write("one\ntwo\nhalf");
        let (text, next) = read(None);
        assert_eq!((text.as_str(), next), ("one\ntwo\n", 8));
        write("one\ntwo\nhalf a line\n");
        assert_eq!(read(Some(next)).0, "half a line\n");
        write("new\n");
        assert_eq!(read(Some(next)), ("new\n".to_owned(), 4));
        write(&format!("{}\nlast\n", "x".repeat(LOG_PIECE as usize)));
        assert_eq!(read(None).0, "last\n");
    }
}
