//! A lab as a whole: started, looked at, broken, mended, entered, stopped.

use std::fs;
use std::net::SocketAddr;
use std::os::unix::fs::DirBuilderExt as _;
use std::os::unix::process::CommandExt as _;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

use serde::{Deserialize, Serialize};
use yestrel_core::exchange::device::Stop;
use yestrel_core::{Problem, Result};
use yestrel_net::files::write_whole;

use crate::namespaces;
use crate::owner::Owner;
use crate::plan::{self, BROKEN, CLOCK, Fault, HOSTS, Kind, Mode, Service};

/// The file that says to the hosts that their cables are laid.
pub(crate) const BUILT: &str = "built";
/// Names that were pointed elsewhere, a name and an address a line.
pub(crate) const POINTED: &str = "pointed";
const PATIENCE: Duration = Duration::from_secs(20);

/// A lab's folder and what is in it.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct Lab {
    pub folder: PathBuf,
    pub mode: Mode,
    /// What is missing for namespaces, where that is why they were not used.
    pub missing: Option<String>,
    /// Whose it is; without one it ends after its lifetime alone.
    #[serde(default)]
    pub owner: Option<Owner>,
}

/// Whether a host runs.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum HostState {
    Running,
    Broken(Fault),
    Stopped,
}

impl std::fmt::Display for HostState {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            Self::Running => f.write_str("running"),
            Self::Broken(fault) => write!(f, "broken: {}", fault.word()),
            Self::Stopped => f.write_str("stopped"),
        }
    }
}

impl Serialize for HostState {
    fn serialize<S: serde::Serializer>(&self, serializer: S) -> std::result::Result<S::Ok, S::Error> {
        serializer.collect_str(self)
    }
}

/// One host for a list.
#[derive(Debug, Clone, Serialize)]
pub struct HostStanding {
    pub name: String,
    pub kind: Kind,
    pub state: HostState,
    pub addresses: Vec<String>,
    /// What a `host add --via` takes.
    pub via: Option<String>,
}

/// The services of all hosts that have said so.
pub(crate) fn services_of(lab: &Path) -> Vec<Service> {
    HOSTS
        .iter()
        .filter_map(|host| fs::read(lab.join("hosts").join(host.name).join("services.json")).ok())
        .filter_map(|bytes| serde_json::from_slice::<Vec<Service>>(&bytes).ok())
        .flatten()
        .collect()
}

impl Lab {
    /// Starts a lab in `folder`, which must not hold one that runs. It ends by itself after `lifetime`, or with its owner.
    ///
    /// # Errors
    /// One runs there already, namespaces were demanded and are not to be had, or a host does not come up.
    pub fn start(folder: &Path, demanded: Option<Mode>, lifetime: Duration, owner: Option<Owner>) -> Result<Self> {
        if Self::open(folder).is_ok_and(|lab| lab.is_running()) {
            return Err(Problem::refused(format!("a lab runs in {} already", folder.display()))
                .try_("yestrel lab stop")
                .try_("another folder: --folder FOLDER"));
        }
        let missing = if demanded == Some(Mode::Processes) { None } else { namespaces::missing() };
        let possible = if missing.is_none() { Mode::Namespaces } else { Mode::Processes };
        let mode = demanded.unwrap_or(possible);
        if let (Mode::Namespaces, Some(missing)) = (mode, &missing) {
            return Err(Problem::failed("the lab cannot be built of namespaces").why(format!("{missing} is missing")));
        }
        let failed = |error: std::io::Error| Problem::failed("the lab does not start").why(error.to_string());
        if folder.exists() {
            // Only what a lab made is taken away again.
            if !folder.join("lab.json").exists()
                && fs::read_dir(folder).is_ok_and(|mut entries| entries.next().is_some())
            {
                return Err(Problem::refused(format!("{} holds something else than a lab", folder.display()))
                    .try_("another folder: --folder FOLDER"));
            }
            fs::remove_dir_all(folder).map_err(failed)?;
        }
        fs::DirBuilder::new().recursive(true).mode(0o700).create(folder).map_err(failed)?;
        let folder = folder.canonicalize().map_err(failed)?;
        let lab = Self { folder, mode, missing, owner };
        fs::write(lab.folder.join("lab.json"), serde_json::to_vec(&lab).unwrap_or_default()).map_err(failed)?;
        let started = lab.start_hosts(lifetime);
        if started.is_err() {
            lab.stop();
        }
        started.map(|()| lab)
    }

    fn start_hosts(&self, lifetime: Duration) -> Result<()> {
        let failed = |error: std::io::Error| Problem::failed("the lab does not start").why(error.to_string());
        let exe = std::env::current_exe().map_err(failed)?;
        for host in HOSTS {
            let folder = self.folder.join("hosts").join(host.name);
            fs::create_dir_all(&folder).map_err(failed)?;
            let log = fs::File::create(folder.join("host.log")).map_err(failed)?;
            let mut command = Command::new(&exe);
            command.args(["lab", "host", host.name, "--folder"]).arg(&self.folder);
            command.args(["--lifetime", &lifetime.as_secs().to_string()]);
            if self.mode == Mode::Processes {
                command.arg("--processes");
            }
            command.stdin(Stdio::null()).stdout(Stdio::null()).stderr(log).process_group(0);
            let mut child = command.spawn().map_err(failed)?;
            // Whoever started the lab reaps its hosts, if it lives that long.
            std::thread::spawn(move || child.wait());
        }
        self.wait_for("pid")?;
        if self.mode == Mode::Namespaces {
            namespaces::lay_cables(&|name| self.pid(name))?;
        }
        fs::write(self.folder.join(BUILT), "").map_err(failed)?;
        self.wait_for("manage.sock")
    }

    fn wait_for(&self, file: &str) -> Result<()> {
        let end = Instant::now() + PATIENCE;
        for host in HOSTS {
            let folder = self.folder.join("hosts").join(host.name);
            // A number that is being written is none yet.
            while !folder.join(file).exists() || (file == "pid" && self.pid(host.name).is_none()) {
                if Instant::now() > end {
                    let log = fs::read_to_string(folder.join("host.log")).unwrap_or_default();
                    return Err(Problem::failed(format!("the lab's host {} does not come up", host.name))
                        .why(log.trim().to_owned()));
                }
                std::thread::park_timeout(Duration::from_millis(5));
            }
        }
        Ok(())
    }

    /// The lab in `folder`.
    ///
    /// # Errors
    /// There is none.
    pub fn open(folder: &Path) -> Result<Self> {
        let bytes = fs::read(folder.join("lab.json")).map_err(|_| {
            Problem::failed(format!("there is no lab in {}", folder.display())).try_("yestrel lab start")
        })?;
        serde_json::from_slice(&bytes)
            .map_err(|_| Problem::failed("the lab's description is damaged").try_("yestrel lab start"))
    }

    /// The process that is a host, if it runs.
    fn pid(&self, name: &str) -> Option<u32> {
        let pid = fs::read_to_string(self.host_folder(name).join("pid")).ok()?.trim().parse().ok()?;
        let command = fs::read(format!("/proc/{pid}/cmdline")).ok()?;
        let words: Vec<_> = command.split(|byte| *byte == 0).map(String::from_utf8_lossy).collect();
        // Process numbers are used again: only one that is this host of this lab counts.
        let ours =
            words.iter().any(|word| word == name) && words.iter().any(|word| *word == self.folder.to_string_lossy());
        ours.then_some(pid)
    }

    /// The folder of a host.
    #[must_use]
    pub fn host_folder(&self, name: &str) -> PathBuf {
        self.folder.join("hosts").join(name)
    }

    /// Whether any of its hosts runs.
    #[must_use]
    pub fn is_running(&self) -> bool {
        HOSTS.iter().any(|host| self.pid(host.name).is_some())
    }

    /// Its hosts.
    #[must_use]
    pub fn hosts(&self) -> Vec<HostStanding> {
        let standing = |host: &plan::HostPlan| {
            let state = match (self.pid(host.name), Fault::of(&self.host_folder(host.name))) {
                (None, _) => HostState::Stopped,
                (Some(_), Some(fault)) => HostState::Broken(fault),
                (Some(_), None) => HostState::Running,
            };
            let addresses = match self.mode {
                Mode::Namespaces => host.cards.iter().map(|card| card.address.to_owned()).collect(),
                Mode::Processes => vec![host.loopback.to_string()],
            };
            let via = (host.kind == Kind::Managed).then(|| format!("lab:{}", self.host_folder(host.name).display()));
            HostStanding { name: host.name.into(), kind: host.kind, state, addresses, via }
        };
        HOSTS.iter().map(standing).collect()
    }

    fn check_host(name: &str) -> Result<&'static plan::HostPlan> {
        plan::host(name).ok_or_else(|| Problem::words(format!("the lab has no host {name}")).try_("yestrel lab show"))
    }

    /// Breaks a host.
    ///
    /// # Errors
    /// No such host, or nothing of that kind to break.
    pub fn break_host(&self, name: &str, fault: Fault) -> Result<()> {
        let host = Self::check_host(name)?;
        match fault {
            Fault::Unreachable | Fault::Agent if host.kind == Kind::Managed => {}
            Fault::Unreachable | Fault::Agent => {
                return Err(Problem::words(format!("{name} cannot be broken in that way")));
            }
            Fault::Cable if self.mode == Mode::Namespaces => self.set_card(host, "down")?,
            Fault::Cable => {
                return Err(Problem::refused("a lab of processes has no cables").why("its hosts share one loopback"));
            }
        }
        write_whole(&self.host_folder(name).join(BROKEN), fault.word().as_bytes())?;
        if fault == Fault::Agent {
            let socket = self.host_folder(name).join("var/yestrel/control.sock");
            let end = Instant::now() + PATIENCE;
            while std::os::unix::net::UnixStream::connect(&socket).is_ok() && Instant::now() < end {
                std::thread::park_timeout(Duration::from_millis(10));
            }
        }
        Ok(())
    }

    /// Mends a host.
    ///
    /// # Errors
    /// No such host.
    pub fn mend(&self, name: &str) -> Result<()> {
        let host = Self::check_host(name)?;
        let folder = self.host_folder(name);
        if Fault::of(&folder) == Some(Fault::Cable) {
            self.set_card(host, "up")?;
        }
        let _ = fs::remove_file(folder.join(BROKEN));
        Ok(())
    }

    /// Sets the clock of a host's agent so many seconds ahead of the system's, or back; with 0 it is right. Waits until the agent has seen it;
    /// whether one did.
    ///
    /// # Errors
    /// No such host, or one that has no agent.
    pub fn set_clock(&self, name: &str, ahead: i64) -> Result<bool> {
        let host = Self::check_host(name)?;
        if host.kind != Kind::Managed {
            return Err(Problem::words(format!("{name} has no agent whose clock could be set")));
        }
        let folder = self.host_folder(name);
        write_whole(&folder.join(CLOCK), ahead.to_string().as_bytes())?;
        let socket = folder.join("var/yestrel/control.sock");
        let end = Instant::now() + PATIENCE;
        while Instant::now() < end {
            let status = yestrel_net::control::ask(&socket, &yestrel_core::exchange::agent::Status, PATIENCE);
            // Who does not answer has no clock to wait for.
            let Some(shows) = status.ok().and_then(|status| status.clock) else { return Ok(false) };
            if (shows.duration_since(jiff::Timestamp::now()).as_secs() - ahead).abs() <= 5 {
                return Ok(true);
            }
            std::thread::park_timeout(Duration::from_millis(50));
        }
        Ok(false)
    }

    /// Lets a name lead to a host's first address, from the next question on.
    ///
    /// # Errors
    /// No such host, or not a name.
    pub fn point(&self, name: &str, host: &str) -> Result<String> {
        let host = Self::check_host(host)?;
        yestrel_core::name::dialled(name)?;
        let address = host.cards.first().and_then(|card| card.address.split('/').next()).unwrap_or_default();
        let failed =
            |error: std::io::Error| Problem::failed(format!("{name} cannot be pointed")).why(error.to_string());
        let mut file =
            fs::OpenOptions::new().append(true).create(true).open(self.folder.join(POINTED)).map_err(failed)?;
        std::io::Write::write_all(&mut file, format!("{name} {address}\n").as_bytes()).map_err(failed)?;
        Ok(address.to_owned())
    }

    fn set_card(&self, host: &plan::HostPlan, state: &str) -> Result<()> {
        let Some(card) = host.cards.first() else { return Ok(()) };
        let failed = |error: std::io::Error| Problem::failed("the cable cannot be touched").why(error.to_string());
        let exe = std::env::current_exe().map_err(failed)?;
        let script = match (state, card.default_by) {
            ("up", Some(router)) => format!("ip link set {} up; ip route replace default via {router}", card.name),
            _ => format!("ip link set {} {state}", card.name),
        };
        let mut command = Command::new(exe);
        command.args(["lab", "enter", host.name, "--folder"]).arg(&self.folder).args(["--", "sh", "-c", &script]);
        let output = command.output().map_err(failed)?;
        if output.status.success() {
            Ok(())
        } else {
            Err(Problem::failed("the cable cannot be touched")
                .why(String::from_utf8_lossy(&output.stderr).trim().to_owned()))
        }
    }

    /// Ends the processes of this lab, and with them everything that they made; removes its folder.
    pub fn stop(&self) {
        use nix::sys::signal::{Signal, kill};
        // The host that ends a lab whose owner is gone ends itself.
        let other = |pid: &u32| *pid != std::process::id();
        let pids: Vec<_> = HOSTS.iter().filter_map(|host| self.pid(host.name)).filter(other).collect();
        // Tunnels and agents first: they take back what they changed.
        let run: Vec<_> = HOSTS.iter().map(|host| self.host_folder(host.name)).collect();
        for file in run.iter().flat_map(|folder| fs::read_dir(folder.join("run")).into_iter().flatten().flatten()) {
            let path = file.path();
            if path.extension().is_some_and(|ending| ending == "sock") {
                let _ = yestrel_net::control::ask(&path, &Stop, Duration::from_secs(2));
            }
        }
        let end = Instant::now() + Duration::from_secs(3);
        let tunnels_left = || {
            run.iter()
                .flat_map(|folder| fs::read_dir(folder.join("run")).into_iter().flatten().flatten())
                .any(|file| std::os::unix::net::UnixStream::connect(file.path()).is_ok())
        };
        while tunnels_left() && Instant::now() < end {
            std::thread::park_timeout(Duration::from_millis(10));
        }
        // Without their folder, hosts end by themselves and stop their agents.
        let _ = fs::remove_dir_all(&self.folder);
        let alive = |pid: u32| fs::read_to_string(format!("/proc/{pid}/stat")).is_ok_and(|stat| !stat.contains(") Z "));
        while pids.iter().any(|pid| alive(*pid)) && Instant::now() < end + Duration::from_secs(3) {
            std::thread::park_timeout(Duration::from_millis(10));
        }
        for pid in pids.into_iter().filter(|pid| alive(*pid)) {
            let _ = kill(nix::unistd::Pid::from_raw(pid as i32), Signal::SIGKILL);
        }
        // A host that was killed could not stop its agent.
        for pid in self.agents() {
            let _ = kill(nix::unistd::Pid::from_raw(pid), Signal::SIGKILL);
        }
        let _ = fs::remove_dir_all(&self.folder);
    }

    /// Processes that run an agent's program of this lab.
    fn agents(&self) -> Vec<i32> {
        let hosts = format!("{}/hosts/", self.folder.display());
        let entries = fs::read_dir("/proc").into_iter().flatten().flatten();
        let pids = entries.filter_map(|entry| entry.file_name().to_str()?.parse::<i32>().ok());
        pids.filter(|pid| fs::read_to_string(format!("/proc/{pid}/cmdline")).is_ok_and(|line| line.starts_with(&hosts)))
            .collect()
    }

    /// Where an address of the lab's world really is, asked from a host: itself with namespaces; without, only what
    /// that host's network would reach.
    ///
    /// # Errors
    /// From there, nothing leads there.
    pub fn real(&self, from: &str, to: SocketAddr) -> Result<SocketAddr> {
        if self.mode == Mode::Namespaces || to.ip().is_loopback() {
            return Ok(to);
        }
        let inside = plan::host(from).is_some_and(|host| matches!(host.kind, Kind::Managed | Kind::Server));
        services_of(&self.folder)
            .into_iter()
            .find(|service| service.address == to && (service.outside || inside))
            .map(|service| service.real)
            .ok_or_else(|| {
                Problem::failed(format!("{to} does not answer"))
                    .why(format!("no way leads there from the network of {from}"))
            })
    }
}

/// Becomes a command on a host of the lab, as its user would type it there. Must be called before the process has threads.
///
/// # Errors
/// No such host, or it does not run; otherwise this never returns.
pub fn enter(folder: &Path, name: &str, command: &[String]) -> Result<std::convert::Infallible> {
    let lab = Lab::open(folder)?;
    let host = Lab::check_host(name)?;
    let pid = lab
        .pid(name)
        .ok_or_else(|| Problem::failed(format!("the lab's host {name} does not run")).try_("yestrel lab start"))?;
    let failed = |error: std::io::Error| Problem::failed(format!("{name} cannot be entered")).why(error.to_string());
    let Some((program, arguments)) = command.split_first() else {
        return Err(Problem::words("there is no command to run")
            .try_(format!("yestrel lab enter {name} -- yestrel tunnel list")));
    };
    // "yestrel" is this very program, wherever it lies.
    let program = if program == "yestrel" { std::env::current_exe().map_err(failed)? } else { PathBuf::from(program) };
    let mut becoming = Command::new(program);
    becoming.args(arguments).env("YESTREL_RUN", lab.host_folder(name).join("run"));
    becoming.env("YESTREL_LAB", &lab.folder).env("YESTREL_LAB_HOST", name);
    match lab.mode {
        Mode::Namespaces => {
            // Joining a mount namespace leads to its root folder; the person stays where they were.
            let here = std::env::current_dir();
            namespaces::join(pid).map_err(failed)?;
            if let Ok(here) = here {
                let _ = std::env::set_current_dir(here);
            }
        }
        Mode::Processes => {
            becoming.env("YESTREL_SOURCE", host.loopback.to_string());
            let resolver = services_of(&lab.folder).into_iter().find(|service| service.name == "names");
            if let Some(resolver) = resolver {
                becoming.env("YESTREL_RESOLVER", resolver.real.to_string());
            }
        }
    }
    let error = becoming.exec();
    if error.kind() == std::io::ErrorKind::NotFound {
        return Err(Problem::failed(format!("there is no program {} to run on {name}", command[0]))
            .why("a host of the lab has the programs of this machine, and this one is not installed here")
            .try_("install it here, or another program"));
    }
    Err(failed(error))
}
