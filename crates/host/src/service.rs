//! The agent as a service of its host: where its program lies, and what starts it after a reboot.

use std::fs;
use std::io;
use std::os::unix::fs::{OpenOptionsExt as _, PermissionsExt as _};
use std::path::{Path, PathBuf};
use std::process::{Command, Output, Stdio};
use std::time::{Duration, Instant};

use yestrel_core::findings::Init;
use yestrel_core::{Problem, Result};

/// The folder of the program and its scripts.
pub const PROGRAMS: &str = "/opt/yestrel";
/// The program that runs.
pub const PROGRAM: &str = "/opt/yestrel/yestrel";
/// The one before, until the new one has proved itself.
pub const BEFORE: &str = "/opt/yestrel/yestrel.before";
/// Is there while a new program is on trial; holds how often it was started.
pub const TRIAL: &str = "/opt/yestrel/trial";
/// A program that waits for its hour.
pub const NEXT: &str = "/opt/yestrel/next";
/// Where signed packages may be put for an upgrade without a person.
pub const INCOMING: &str = "/opt/yestrel/incoming";
/// When upgrades happen without a person.
pub const SCHEDULE: &str = "/opt/yestrel/schedule.json";
/// Where the agent keeps its things.
pub const FOLDER: &str = "/var/lib/yestrel";

/// Held by whoever installs, upgrades or removes.
pub const LOCK: &str = "/run/yestrel-manage.lock";

const GUARD: &str = include_str!("service/guard");
const SUPERVISE: &str = include_str!("service/supervise");
const UNIT: &str = include_str!("service/yestrel.service");
const UPDATE_UNIT: &str = include_str!("service/yestrel-update.service");
const UPDATE_TIMER: &str = include_str!("service/yestrel-update.timer");
const OPENRC: &str = include_str!("service/openrc");
const SCRIPT: &str = include_str!("service/init-script");
const RC_LOCAL_LINE: &str = "/opt/yestrel/supervise & # yestrel";
/// What the systemd unit grants.
const CAPABILITIES: &str = "CAP_NET_ADMIN CAP_NET_BIND_SERVICE";
const PATH: &str = "/usr/sbin:/sbin:/usr/bin:/bin:/usr/local/sbin:/usr/local/bin";
/// Where the supervisor notes which process it is.
const PID: &str = "/run/yestrel.pid";

/// A host's way to keep services running.
#[derive(Debug, Clone, Copy)]
pub struct Service {
    init: Init,
}

/// Runs a program of the system, without a terminal.
pub fn run(program: &str, arguments: &[&str]) -> io::Result<Output> {
    Command::new(program).args(arguments).env("PATH", PATH).env("LC_ALL", "C").stdin(Stdio::null()).output()
}

fn succeeds(program: &str, arguments: &[&str]) -> bool {
    run(program, arguments).is_ok_and(|output| output.status.success())
}

fn on_path(program: &str) -> bool {
    PATH.split(':').any(|folder| Path::new(folder).join(program).exists())
}

/// What starts services on this host.
#[must_use]
pub fn init() -> Init {
    if Path::new("/run/systemd/system").is_dir() {
        Init::Systemd
    } else if on_path("rc-service") && Path::new("/etc/runlevels").is_dir() {
        Init::OpenRc
    } else if Path::new("/etc/init.d").is_dir() && (on_path("update-rc.d") || Path::new("/etc/rc.d").is_dir()) {
        Init::Scripts
    } else if Path::new("/etc/rc.local").is_file() {
        Init::RcLocal
    } else {
        Init::None
    }
}

/// Writes a file with this mode if it does not hold exactly this text yet; whether it had to.
pub fn put(path: &Path, bytes: &[u8], mode: u32) -> Result<bool> {
    if fs::read(path).is_ok_and(|there| there == bytes) {
        return Ok(false);
    }
    let mut name = path.as_os_str().to_owned();
    name.push(".new");
    let new = PathBuf::from(name);
    let write = || {
        if let Some(folder) = path.parent() {
            fs::create_dir_all(folder)?;
        }
        let mut file = fs::OpenOptions::new().write(true).create(true).truncate(true).mode(mode).open(&new)?;
        io::Write::write_all(&mut file, bytes)?;
        file.set_permissions(fs::Permissions::from_mode(mode))?;
        file.sync_all()?;
        drop(file);
        fs::rename(&new, path)
    };
    write().map(|()| true).map_err(|error| {
        let _ = fs::remove_file(&new);
        cannot_write(path, &error)
    })
}

/// A file of the host that cannot be written, with what to do about it.
pub fn cannot_write(path: &Path, error: &io::Error) -> Problem {
    let problem = Problem::failed(format!("{} cannot be written on the host", path.display())).why(error.to_string());
    match error.raw_os_error() {
        Some(28) => problem.try_("make room on the host, then the same command again"),
        Some(30) => problem.try_("the host's system is read-only: make it writable, or use another host"),
        _ => problem,
    }
}

/// Where only root may open the TUN device, the service needs one more capability to do so.
fn open_tun((path, text, mode): (&'static str, String, u32)) -> (&'static str, String, u32) {
    let text = if yestrel_net::rights::tun_is_closed() {
        text.replace(CAPABILITIES, &format!("{CAPABILITIES} CAP_DAC_OVERRIDE"))
    } else {
        text
    };
    (path, text, mode)
}

impl Service {
    /// The one of this host.
    #[must_use]
    pub fn of_this_host() -> Self {
        Self { init: init() }
    }

    /// The files that it needs, with their modes.
    #[must_use]
    pub fn files(self) -> Vec<(&'static str, String, u32)> {
        self.texts().into_iter().map(|(path, text, mode)| (path, text.to_owned(), mode)).map(open_tun).collect()
    }

    fn texts(self) -> Vec<(&'static str, &'static str, u32)> {
        let mut files = vec![("/opt/yestrel/guard", GUARD, 0o755)];
        match self.init {
            Init::Systemd => files.extend([
                ("/etc/systemd/system/yestrel.service", UNIT, 0o644),
                ("/etc/systemd/system/yestrel-update.service", UPDATE_UNIT, 0o644),
                ("/etc/systemd/system/yestrel-update.timer", UPDATE_TIMER, 0o644),
            ]),
            Init::OpenRc => {
                files.extend([("/opt/yestrel/supervise", SUPERVISE, 0o755), ("/etc/init.d/yestrel", OPENRC, 0o755)]);
            }
            Init::Scripts => {
                files.extend([("/opt/yestrel/supervise", SUPERVISE, 0o755), ("/etc/init.d/yestrel", SCRIPT, 0o755)]);
            }
            Init::RcLocal | Init::Lab | Init::None => files.push(("/opt/yestrel/supervise", SUPERVISE, 0o755)),
        }
        files
    }

    /// Writes what the host needs to start the agent now and after a reboot; whether anything was missing.
    ///
    /// # Errors
    /// The disk is full or read-only, or the host's own tools refuse.
    pub fn set_up(self) -> Result<bool> {
        let mut changed = false;
        for (path, text, mode) in self.files() {
            changed |= put(Path::new(path), text.as_bytes(), mode)?;
        }
        match self.init {
            Init::Systemd => {
                if changed {
                    self.tool("systemctl", &["daemon-reload"])?;
                }
                if !succeeds("systemctl", &["is-enabled", "--quiet", "yestrel.service"]) {
                    self.tool("systemctl", &["enable", "--quiet", "yestrel.service"])?;
                    changed = true;
                }
            }
            Init::OpenRc => {
                if !Path::new("/etc/runlevels/default/yestrel").exists() {
                    self.tool("rc-update", &["add", "yestrel", "default"])?;
                    changed = true;
                }
            }
            Init::Scripts if on_path("update-rc.d") => {
                if changed {
                    self.tool("update-rc.d", &["yestrel", "defaults"])?;
                }
            }
            Init::Scripts => {
                let link = Path::new("/etc/rc.d/S99yestrel");
                if !link.exists() {
                    std::os::unix::fs::symlink("../init.d/yestrel", link).map_err(|e| cannot_write(link, &e))?;
                    changed = true;
                }
            }
            Init::RcLocal => {
                let path = Path::new("/etc/rc.local");
                let text = fs::read_to_string(path).unwrap_or_default();
                if !text.lines().any(|line| line == RC_LOCAL_LINE) {
                    // Before a final "exit 0", after which nothing would be carried out.
                    let mut lines: Vec<_> = text.lines().collect();
                    let at = lines.iter().rposition(|line| line.trim() == "exit 0").unwrap_or(lines.len());
                    lines.insert(at, RC_LOCAL_LINE);
                    put(path, (lines.join("\n") + "\n").as_bytes(), 0o755)?;
                    changed = true;
                }
            }
            Init::Lab | Init::None => {}
        }
        Ok(changed)
    }

    fn tool(self, program: &str, arguments: &[&str]) -> Result<()> {
        let said = match run(program, arguments) {
            Ok(output) if output.status.success() => return Ok(()),
            Ok(output) => String::from_utf8_lossy(&output.stderr).trim().to_owned(),
            Err(error) => error.to_string(),
        };
        Err(Problem::failed(format!("{program} {} does not succeed on the host", arguments.join(" "))).why(said))
    }

    /// Whether the service is meant to run and does.
    #[must_use]
    pub fn runs(self) -> bool {
        match self.init {
            Init::Systemd => succeeds("systemctl", &["is-active", "--quiet", "yestrel.service"]),
            _ => self.supervisor().is_some(),
        }
    }

    /// The supervisor's process, if it is alive and is what it says.
    fn supervisor(self) -> Option<nix::unistd::Pid> {
        let pid: i32 = fs::read_to_string(PID).ok()?.trim().parse().ok()?;
        let line = fs::read_to_string(format!("/proc/{pid}/cmdline")).ok()?;
        line.contains("/opt/yestrel/supervise").then(|| nix::unistd::Pid::from_raw(pid))
    }

    /// Starts it.
    ///
    /// # Errors
    /// The host's own tools refuse.
    pub fn start(self) -> Result<()> {
        match self.init {
            Init::Systemd => {
                let _ = run("systemctl", &["reset-failed", "yestrel.service"]);
                self.tool("systemctl", &["start", "yestrel.service"])
            }
            Init::OpenRc => self.tool("rc-service", &["yestrel", "start"]),
            _ if self.supervisor().is_some() => Ok(()),
            _ => spawn(Path::new(PROGRAM), &["agent", "detach", "/opt/yestrel/supervise"]),
        }
    }

    /// Stops it, and waits until it has stopped.
    ///
    /// # Errors
    /// The host's own tools refuse, or it does not stop.
    pub fn stop(self) -> Result<()> {
        match self.init {
            Init::Systemd if succeeds("systemctl", &["cat", "yestrel.service"]) => {
                self.tool("systemctl", &["stop", "yestrel.service"])?;
            }
            Init::OpenRc if Path::new("/etc/init.d/yestrel").exists() => {
                self.tool("rc-service", &["yestrel", "stop"])?
            }
            _ => {}
        }
        if let Some(pid) = self.supervisor() {
            let _ = nix::sys::signal::kill(pid, nix::sys::signal::Signal::SIGTERM);
        }
        let end = Instant::now() + Duration::from_secs(8);
        while self.supervisor().is_some() || !processes().is_empty() {
            if Instant::now() > end {
                for pid in processes() {
                    let _ = nix::sys::signal::kill(pid, nix::sys::signal::Signal::SIGKILL);
                }
                break;
            }
            std::thread::park_timeout(Duration::from_millis(20));
        }
        Ok(())
    }

    /// Stops it and starts it again.
    ///
    /// # Errors
    /// As [`Service::stop`] and [`Service::start`].
    pub fn restart(self) -> Result<()> {
        match self.init {
            Init::Systemd => {
                let _ = run("systemctl", &["reset-failed", "yestrel.service"]);
                self.tool("systemctl", &["restart", "yestrel.service"])
            }
            _ => {
                self.stop()?;
                self.start()
            }
        }
    }

    /// Switches the looking for upgrades on or off.
    ///
    /// # Errors
    /// The host's own tools refuse.
    pub fn look_for_updates(self, on: bool) -> Result<()> {
        // Where there are no timers, the supervisor asks every quarter of an hour, and the schedule decides.
        if self.init != Init::Systemd {
            return Ok(());
        }
        let verb = if on { "enable" } else { "disable" };
        self.tool("systemctl", &[verb, "--quiet", "--now", "yestrel-update.timer"])
    }

    /// Takes everything away again, and gives what there was.
    ///
    /// # Errors
    /// Something cannot be removed.
    pub fn remove(self) -> Result<Vec<String>> {
        let mut gone = Vec::new();
        if self.init == Init::Systemd && Path::new("/etc/systemd/system/yestrel.service").exists() {
            let _ = run("systemctl", &["disable", "--quiet", "--now", "yestrel-update.timer"]);
            let _ = run("systemctl", &["disable", "--quiet", "yestrel.service"]);
        }
        if self.init == Init::OpenRc {
            let _ = run("rc-update", &["del", "yestrel", "default"]);
        }
        let mut paths: Vec<PathBuf> = self
            .texts()
            .iter()
            .map(|(path, ..)| PathBuf::from(path))
            .filter(|path| !path.starts_with(PROGRAMS))
            .collect();
        paths.extend(["/etc/rc.d/S99yestrel", PID, LOCK, "/run/yestrel"].map(PathBuf::from));
        paths.extend([PROGRAMS, FOLDER, "/var/lib/private/yestrel"].map(PathBuf::from));
        for path in paths {
            let removed = match fs::symlink_metadata(&path) {
                Ok(about) if about.is_dir() => fs::remove_dir_all(&path),
                Ok(_) => fs::remove_file(&path),
                Err(_) => continue,
            };
            removed.map_err(|error| cannot_write(&path, &error))?;
            gone.push(path.display().to_string());
        }
        if self.init == Init::Systemd {
            let _ = run("systemctl", &["daemon-reload"]);
            let _ = run("systemctl", &["reset-failed", "yestrel.service"]);
        }
        if self.init == Init::Scripts && on_path("update-rc.d") {
            let _ = run("update-rc.d", &["yestrel", "remove"]);
        }
        if self.init == Init::RcLocal {
            let path = Path::new("/etc/rc.local");
            let text = fs::read_to_string(path).unwrap_or_default();
            let kept: Vec<_> = text.lines().filter(|line| *line != RC_LOCAL_LINE).collect();
            if put(path, (kept.join("\n") + "\n").as_bytes(), 0o755)? {
                gone.push("a line in /etc/rc.local".into());
            }
        }
        Ok(gone)
    }
}

/// Runs a program in a session of its own, so that it stays when the connection that asked for it ends.
///
/// # Errors
/// It cannot be run.
pub fn detach(program: &Path) -> Result<()> {
    let _ = nix::unistd::setsid();
    spawn(program, &[])
}

/// Starts a program that speaks to nobody.
pub(crate) fn spawn(program: &Path, arguments: &[&str]) -> Result<()> {
    Command::new(program)
        .args(arguments)
        .env("PATH", PATH)
        .current_dir("/")
        .stdin(Stdio::null())
        .stdout(Stdio::null())
        .stderr(Stdio::null())
        .spawn()
        .map(drop)
        .map_err(|error| Problem::failed(format!("{} does not run", program.display())).why(error.to_string()))
}

/// Processes that run the installed program as the agent.
#[must_use]
pub fn processes() -> Vec<nix::unistd::Pid> {
    let entries = fs::read_dir("/proc").into_iter().flatten().flatten();
    entries
        .filter_map(|entry| {
            let pid: i32 = entry.file_name().to_str()?.parse().ok()?;
            let line = fs::read_to_string(entry.path().join("cmdline")).ok()?;
            let mut words = line.split('\0');
            let agent = words.next() == Some(PROGRAM) && words.next() == Some("agent") && words.next() == Some("run");
            agent.then(|| nix::unistd::Pid::from_raw(pid))
        })
        .collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_kind_of_host_gets_the_files_that_it_needs() {
        let kinds = [Init::Systemd, Init::OpenRc, Init::Scripts, Init::RcLocal, Init::None];
        for init in kinds {
            let files = Service { init }.files();
            let starts =
                files.iter().filter(|(_, text, _)| text.contains(PROGRAM) && text.contains("agent run")).count();
            assert_eq!(starts, 1, "{init:?}: one file starts the agent");
            assert!(files.iter().any(|(path, ..)| *path == "/opt/yestrel/guard"), "{init:?}");
        }
    }

    #[test]
    fn a_file_is_written_whole_and_only_when_it_differs() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("deep/file");
        assert!(put(&path, b"one", 0o755).unwrap());
        assert!(!put(&path, b"one", 0o755).unwrap());
        assert!(put(&path, b"two", 0o755).unwrap());
        assert_eq!(fs::metadata(&path).unwrap().permissions().mode() & 0o777, 0o755);
        assert_eq!(fs::read_dir(path.parent().unwrap()).unwrap().count(), 1, "nothing half done is left");
    }
}
