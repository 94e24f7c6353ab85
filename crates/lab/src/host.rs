//! The process that is one host of the lab: its namespace, its services, and its management.

use std::collections::HashMap;
use std::fs;
use std::io;
use std::net::{IpAddr, Ipv4Addr, SocketAddr};
use std::os::unix::fs::DirBuilderExt as _;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::{Duration, Instant};

use parking_lot::Mutex;
use yestrel_core::exchange::host::{Ask, Installed};
use yestrel_core::exchange::{Answered, agent};
use yestrel_core::findings::{Facts, Init, Interface};
use yestrel_core::{Problem, Result};
use yestrel_host::{folder, manage, probe};
use yestrel_net::control;
use yestrel_net::files::write_whole;

use crate::namespaces;
use crate::plan::{self, CLOCK, Fault, HostPlan, Kind, Mode, NAMES, SITE_NAMES, Service};
use crate::services;
use crate::world::{BUILT, Lab, POINTED, services_of};

/// The stand-in of an init system looks after its agent this often.
const LOOK_AFTER: Duration = Duration::from_millis(50);

/// A managed host's agent, as the stand-in of an init system keeps it.
struct Machine {
    plan: &'static HostPlan,
    mode: Mode,
    folder: PathBuf,
    lab: PathBuf,
    agent: Mutex<Option<Child>>,
    wanted: AtomicBool,
}

/// Is one host of a lab until `lifetime` is over or it is stopped. Must be called before the process has threads.
///
/// # Errors
/// The host cannot be set up.
pub fn run(lab: &Path, name: &str, mode: Mode, lifetime: Duration) -> Result<()> {
    let failed =
        |error: io::Error| Problem::failed(format!("the lab's host {name} does not start")).why(error.to_string());
    let plan = plan::host(name).ok_or_else(|| Problem::words(format!("the lab has no host {name}")))?;
    let folder = lab.join("hosts").join(name);
    fs::DirBuilder::new().recursive(true).mode(0o700).create(folder.join("run")).map_err(failed)?;
    let resolv_conf = folder.join("resolv.conf");
    let resolver = plan.resolver.map(|address| format!("nameserver {address}\n")).unwrap_or_default();
    fs::write(&resolv_conf, resolver).map_err(failed)?;
    if mode == Mode::Namespaces {
        namespaces::isolate(&resolv_conf).map_err(failed)?;
    }
    write_whole(&folder.join("pid"), std::process::id().to_string().as_bytes())?;
    let end = Instant::now() + lifetime;
    if mode == Mode::Namespaces {
        while !lab.join(BUILT).exists() && Instant::now() < end {
            std::thread::park_timeout(Duration::from_millis(10));
        }
    }
    let own = offer_services(plan, mode, lab).map_err(failed)?;
    let text = serde_json::to_vec(&own).unwrap_or_default();
    yestrel_net::files::write_whole(&folder.join("services.json"), &text)?;
    let machine = Arc::new(Machine {
        plan,
        mode,
        folder: folder.clone(),
        lab: lab.to_owned(),
        agent: Mutex::default(),
        wanted: AtomicBool::new(false),
    });
    let managed = machine.clone();
    control::serve(&folder.join("manage.sock"), move |question: Ask| managed.manage(question))?;
    // One host looks after the whole lab.
    let owner = Lab::open(lab).ok().and_then(|lab| lab.owner).filter(|_| plan.kind == Kind::Outside);
    while Instant::now() < end && lab.exists() {
        if let Some(owner) = owner.as_ref().filter(|owner| !owner.is_there()) {
            Lab::open(lab)?.stop();
            owner.clear_away();
            break;
        }
        machine.look_after();
        std::thread::park_timeout(LOOK_AFTER);
    }
    machine.stop_agent();
    Ok(())
}

/// Starts what the host offers, and says where.
fn offer_services(plan: &HostPlan, mode: Mode, lab: &Path) -> io::Result<Vec<Service>> {
    let mut offered = Vec::new();
    let mut offer = |name: &str, address: &str, port: u16, start: &dyn Fn(SocketAddr) -> io::Result<SocketAddr>| {
        let address = SocketAddr::new(address.parse().map_err(io::Error::other)?, port);
        let real =
            start(if mode == Mode::Namespaces { address } else { SocketAddr::new(IpAddr::V4(plan.loopback), 0) })?;
        offered.push(Service { name: name.into(), address, real, outside: plan.kind == Kind::Outside });
        Ok::<_, io::Error>(())
    };
    let pointed = lab.join(POINTED);
    let real = move |address: IpAddr| if mode == Mode::Processes { loopback_of(address) } else { address };
    match plan.name {
        "outside" => {
            offer("names", plan::NAME_SERVICE, 53, &|at| services::names(at, NAMES, pointed.clone(), real))?;
            offer("mirror", plan::MIRROR, 80, &|at| services::web(at, |peer| peer.ip().to_string()))?;
        }
        "tickets" => {
            offer("site names", plan::TICKETS, 53, &|at| services::names(at, SITE_NAMES, pointed.clone(), real))?;
            offer("tickets", plan::TICKETS, 80, &|at| {
                services::web(at, |_| "Skerry Line tickets: 14 seats left on the 17:40 to Outer Holm".into())
            })?;
        }
        "till" => {
            offer("till", "192.168.40.30", 80, &|at| services::web(at, |_| "the till of the pier office".into()))?
        }
        _ => {}
    }
    Ok(offered)
}

/// In a lab of processes, where the host with this address really is.
fn loopback_of(address: IpAddr) -> IpAddr {
    let found = plan::HOSTS.iter().find(|host| {
        host.kind == Kind::Managed
            && host.cards.iter().any(|card| card.address.split('/').next() == Some(&address.to_string()))
    });
    found.map_or(address, |host| IpAddr::V4(host.loopback))
}

impl Machine {
    fn broken(&self) -> Option<Fault> {
        Fault::of(&self.folder)
    }

    fn agent_folder(&self) -> PathBuf {
        self.folder.join("var/yestrel")
    }

    fn manage(&self, question: Ask) -> Answered {
        if let Err(problem) = self.lets_itself_be_managed() {
            return Answered::refused(problem);
        }
        match question {
            Ask::Facts(q) => Answered::to(&q, self.facts().map(Box::new)),
            Ask::Install(q) => Answered::to(&q, self.install(&q.version)),
            Ask::Agent(q) => Answered::to(&q, self.ask(&q.question)),
            Ask::Restart(q) => Answered::to(&q, self.restart()),
            Ask::Log(q) => Answered::to(&q, manage::log(&self.agent_folder(), q.offset)),
            Ask::Remove(q) => Answered::to(&q, self.remove(q.force)),
            Ask::Updates(q) => Answered::to(&q, Ok(())),
        }
    }

    fn lets_itself_be_managed(&self) -> Result<()> {
        if self.plan.kind != Kind::Managed {
            return Err(Problem::refused(format!("{} cannot be managed", self.plan.name))
                .why("nobody has given its owner's access away"));
        }
        if self.broken() == Some(Fault::Unreachable) {
            return Err(Problem::failed(format!("the host {} cannot be reached", self.plan.name))
                .why("its management does not answer; the lab has broken it")
                .try_(format!("yestrel lab mend {}", self.plan.name)));
        }
        Ok(())
    }

    fn facts(&self) -> Result<Facts> {
        let mut facts = probe::facts(self.mode == Mode::Processes)?;
        facts.init = Init::Lab;
        if self.mode == Mode::Processes {
            // The machine below is nobody's business: the host is its loopback address.
            let own = IpAddr::V4(self.plan.loopback);
            let address = ipnet_of(self.plan.loopback);
            facts.interfaces =
                vec![Interface { name: "lo".into(), addresses: address, up: true, outward: true, leased: false }];
            facts.busy_ports.retain(|busy| busy.address == own || busy.address.is_unspecified());
        }
        Ok(facts)
    }

    fn ask(&self, question: &agent::Ask) -> Result<Answered> {
        let socket = folder::socket(&self.agent_folder());
        control::exchange(&socket, question, Duration::from_secs(12)).map_err(|problem| {
            Problem::failed(format!("no agent answers on the host {}", self.plan.name))
                .why(problem.reason())
                .try_("yestrel rollout   installs it")
        })
    }

    fn restart(&self) -> Result<()> {
        if !self.wanted.load(Ordering::Relaxed) {
            return Err(Problem::refused(format!("there is no agent on {}", self.plan.name)).try_("yestrel rollout"));
        }
        self.stop_agent();
        self.wanted.store(true, Ordering::Relaxed);
        self.look_after();
        self.wait_for_agent()
    }

    fn running(&self) -> bool {
        self.ask(&agent::Status.into()).is_ok_and(|answered| answered.read::<agent::Status>().is_ok())
    }

    fn wait_for_agent(&self) -> Result<()> {
        let patience = Instant::now() + Duration::from_secs(10);
        while !self.running() {
            if Instant::now() > patience {
                return Err(Problem::failed(format!("the agent on {} does not answer", self.plan.name))
                    .why("it was started, and nobody answers at its control socket"));
            }
            std::thread::park_timeout(Duration::from_millis(20));
        }
        Ok(())
    }

    fn install(&self, version: &str) -> Result<Installed> {
        let failed = |error: io::Error| {
            Problem::failed(format!("the agent cannot be installed on {}", self.plan.name)).why(error.to_string())
        };
        let program = self.folder.join("opt/yestrel");
        let mark = self.folder.join("opt/version");
        let before = fs::read_to_string(&mark).ok();
        if before.as_deref() == Some(version) && self.running() {
            return Ok(Installed::Nothing);
        }
        self.stop_agent();
        fs::create_dir_all(self.folder.join("opt")).map_err(failed)?;
        let _ = fs::remove_file(&program);
        let own = std::env::current_exe().map_err(failed)?;
        fs::hard_link(&own, &program).or_else(|_| fs::copy(&own, &program).map(drop)).map_err(failed)?;
        fs::write(&mark, version).map_err(failed)?;
        self.wanted.store(true, Ordering::Relaxed);
        self.look_after();
        self.wait_for_agent()?;
        Ok(match before {
            None => Installed::New,
            Some(there) if there == version => Installed::Mended,
            Some(_) => Installed::Upgraded,
        })
    }

    /// The stand-in of an init system: an agent that is wanted and not there is started.
    fn look_after(&self) {
        let down = self.broken() == Some(Fault::Agent);
        let mut agent = self.agent.lock();
        if down {
            if let Some(mut child) = agent.take() {
                let _ = child.kill();
                let _ = child.wait();
            }
            return;
        }
        let gone = match agent.as_mut() {
            Some(child) => !matches!(child.try_wait(), Ok(None)),
            None => true,
        };
        if gone && self.wanted.load(Ordering::Relaxed) {
            match self.start_agent() {
                Ok(child) => {
                    // Whole: somebody may look for it just now.
                    let _ = write_whole(&self.folder.join("agent.pid"), child.id().to_string().as_bytes());
                    *agent = Some(child);
                }
                Err(error) => tracing::error!("agent: {error}"),
            }
        }
    }

    fn start_agent(&self) -> io::Result<Child> {
        let log = fs::OpenOptions::new().create(true).append(true).open(self.folder.join("agent.log"))?;
        let mut command = Command::new(self.folder.join("opt/yestrel"));
        command.args(["agent", "run", "--folder"]).arg(self.agent_folder());
        command.arg("--clock").arg(self.folder.join(CLOCK));
        if self.mode == Mode::Processes {
            command.args(["--process-plane", "--bind", &self.plan.loopback.to_string()]);
            let real: HashMap<_, _> =
                services_of(&self.lab).into_iter().map(|service| (service.address, service.real)).collect();
            for (address, real) in real {
                command.arg("--real").arg(format!("{address}={real}"));
            }
        }
        command.env_remove("YESTREL_RUN").stdin(Stdio::null()).stdout(Stdio::null()).stderr(log).spawn()
    }

    fn stop_agent(&self) {
        self.wanted.store(false, Ordering::Relaxed);
        if let Some(mut child) = self.agent.lock().take() {
            let pid = nix::unistd::Pid::from_raw(child.id() as i32);
            let _ = nix::sys::signal::kill(pid, nix::sys::signal::Signal::SIGTERM);
            let patience = Instant::now() + Duration::from_secs(3);
            while matches!(child.try_wait(), Ok(None)) && Instant::now() < patience {
                std::thread::park_timeout(Duration::from_millis(10));
            }
            let _ = child.kill();
            let _ = child.wait();
        }
    }

    fn remove(&self, force: bool) -> Result<Vec<String>> {
        let there = self.running();
        if there && !force {
            self.ask(&agent::Retire.into())?.read::<agent::Retire>()?;
        }
        if force {
            let _ = self.ask(&agent::Retire.into());
        }
        self.stop_agent();
        let mut gone = Vec::new();
        if there {
            gone.push("its firewall table, addresses and sessions".to_owned());
        }
        for (left, what) in [("opt", "its program"), ("var", "its folder")] {
            if fs::remove_dir_all(self.folder.join(left)).is_ok() {
                gone.push(what.into());
            }
        }
        for left in ["agent.log", "agent.pid"] {
            let _ = fs::remove_file(self.folder.join(left));
        }
        match ["opt", "var", "agent.log", "agent.pid"].iter().find(|left| self.folder.join(left).exists()) {
            Some(left) => Err(Problem::failed(format!("{left} cannot be removed from {}", self.plan.name))),
            None => Ok(gone),
        }
    }
}

fn ipnet_of(address: Ipv4Addr) -> Vec<ipnet::IpNet> {
    ipnet::Ipv4Net::new(address, 8).map(ipnet::IpNet::V4).into_iter().collect()
}
