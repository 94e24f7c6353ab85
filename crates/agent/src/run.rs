//! The life of an agent: starts from what its folder holds, answers, looks after what runs, stops.

use std::collections::{BTreeMap, HashMap};
use std::net::{IpAddr, SocketAddr};
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, OnceLock};
use std::time::Duration;

use jiff::Timestamp;
use parking_lot::Mutex;
use yestrel_core::admission::Reason;
use yestrel_core::exchange::agent::{AgentStatus, Ask, ForDevice, Publication, Standing};
use yestrel_core::exchange::{Answered, NewsEvent};
use yestrel_core::findings::{Facts, Plane as PlaneKind};
use yestrel_core::keys::KeyPair;
use yestrel_core::order::{Content, SignedRenewal};
use yestrel_core::{Problem, Result, VERSION, moment};
use yestrel_host::folder::{self, Identity};
use yestrel_host::{probe, upgrade};
use yestrel_net::clock;
use yestrel_net::seats::Seat;
use yestrel_net::watch::Watch;
use yestrel_net::{control, plane};

use crate::admit::{Coming, Shared, ended, ends};
use crate::keep::Keep;
use crate::peers::Memory;
use crate::scribe::Tables;
use crate::terms::idle;
use crate::totals::Mended;
use crate::tunnels::{self, Kind, Tunnel};
use crate::{metrics, publish};

/// How an agent is started.
#[derive(Clone)]
pub struct Options {
    /// The agent's own folder.
    pub folder: PathBuf,
    /// Listen on this address only.
    pub bind: Option<IpAddr>,
    /// End inner traffic in the process even where the system could carry it.
    pub process_plane: bool,
    /// In the lab: where inner addresses really are.
    pub real: HashMap<SocketAddr, SocketAddr>,
    /// In the lab: a file that says by how many seconds this host's clock is ahead; where there is none, it is right.
    pub clock: Option<PathBuf>,
    /// The kinds of tunnel that it can open.
    pub kinds: Vec<Arc<dyn Kind>>,
}

impl Options {
    /// An agent with all kinds of tunnel, that keeps its things in `folder`.
    #[must_use]
    pub fn new(folder: PathBuf) -> Self {
        Self { folder, bind: None, process_plane: false, real: HashMap::new(), clock: None, kinds: tunnels::all() }
    }
}

/// A running agent.
pub struct Agent {
    pub(crate) shared: Arc<Shared>,
    pub(crate) options: Options,
    pub(crate) listeners: Mutex<BTreeMap<String, Arc<dyn Tunnel>>>,
    since: Timestamp,
    /// Orders, adoption and retirement happen one after another.
    pub(crate) change: Mutex<()>,
    /// What answers metrics over HTTP, with its address.
    pub(crate) exporter: Mutex<Option<metrics::Exporter>>,
    /// What publishes the state of certificates.
    pub(crate) publisher: Mutex<Option<publish::Publisher>>,
    /// What sees changes of the firewall and the network, and what came of them.
    pub(crate) watch: Mutex<Option<Watch>>,
    pub(crate) mended: Mutex<Mended>,
    /// Until when no order is taken up again by itself.
    closed_until: Mutex<Option<Timestamp>>,
    /// What it remembers of the estate's other gateways.
    pub(crate) among: Mutex<Memory>,
    /// Of which end devices were told.
    warned: Mutex<Option<Timestamp>>,
    /// SHA-256 of the program.
    program: OnceLock<String>,
    stop: AtomicBool,
}

impl Agent {
    /// Starts from what the folder holds: an adopted agent carries out its last order at once.
    ///
    /// # Errors
    /// The folder cannot be used. An order that cannot be carried out yet is tried again.
    pub fn start(options: Options) -> Result<Arc<Self>> {
        let mut keep = Keep::open(&options.folder)?;
        let mut tables = Tables::open(&options.folder)?;
        let before = tables.take_live();
        let adopted = keep.identity()?.is_some();
        // An order that nobody confirmed before a crash or a reboot has had its chance.
        let undone = keep.held().map(|held| held.envelope.read().map_or(0, |order| order.number));
        if let Some(order) = undone {
            keep.set_held(None);
            if keep.order()?.is_none() {
                plane::take_back(keep.before()?.map(|before| before.forwarded()))?;
            }
            tracing::warn!(order, "the agent began anew before the order was confirmed; it is undone");
        }
        let renewal = keep.identity()?.zip(keep.renewal().unwrap_or_default());
        let shared = Shared::start(keep, tables, &options.folder)?;
        if let Some((identity, renewal)) = renewal
            && let Ok(renewal) = renewal.verify(&identity.estate_key, &identity.estate)
        {
            shared.renew(renewal);
        }
        if adopted {
            shared.note(NewsEvent::Started { version: VERSION.into() });
        }
        for live in before {
            let words = "the agent stopped without saying goodbye; bytes as of its last note";
            shared.note(ended(live, Reason::AgentStopped, words));
        }
        if let Some(order) = undone {
            shared.note(NewsEvent::Undone { order });
        }
        let agent = Arc::new(Self {
            shared,
            options,
            listeners: Mutex::default(),
            since: Timestamp::now(),
            change: Mutex::default(),
            exporter: Mutex::default(),
            publisher: Mutex::default(),
            watch: Mutex::default(),
            mended: Mutex::default(),
            closed_until: Mutex::default(),
            warned: Mutex::default(),
            among: Mutex::default(),
            program: OnceLock::new(),
            stop: AtomicBool::new(false),
        });
        agent.begin_to_watch();
        agent.clone().spawn_meetings()?;
        agent.clone().spawn_housekeeping();
        Ok(agent)
    }

    /// Starts, answers at the control socket, and runs until a signal or retirement.
    ///
    /// # Errors
    /// As [`Agent::start`], or another agent runs in the same folder.
    pub fn run(options: Options) -> Result<()> {
        use nix::sys::signal::{SigSet, Signal};
        let mut signals = SigSet::empty();
        signals.add(Signal::SIGTERM);
        signals.add(Signal::SIGINT);
        // Before any thread starts, so that all of them leave these to this one.
        let _ = signals.thread_block();
        only_what_serves_pages_may_fail_alone();
        let socket = folder::socket(&options.folder);
        if std::os::unix::net::UnixStream::connect(&socket).is_ok() {
            return Err(Problem::refused("an agent runs in this folder already").why(socket.display().to_string()));
        }
        let agent = Self::start(options)?;
        let answering = agent.clone();
        control::serve(&socket, move |ask: Ask| answering.answer(ask))?;
        tracing::info!(version = VERSION, folder = %agent.options.folder.display(), "agent runs");
        let stopping = agent.clone();
        let waiting = std::thread::spawn(move || {
            let _ = signals.wait();
            stopping.stop.store(true, Ordering::Relaxed);
        });
        while !agent.stop.load(Ordering::Relaxed) && !waiting.is_finished() {
            std::thread::park_timeout(Duration::from_millis(100));
        }
        tracing::info!("agent stops");
        *agent.shared.from_peers.lock() = None;
        for listener in agent.listeners.lock().values() {
            listener.close();
        }
        agent.shared.scribe.stop(Duration::from_secs(5));
        let _ = std::fs::remove_file(socket);
        Ok(())
    }

    /// Whether the agent is about to end.
    pub(crate) fn stops(&self) -> bool {
        self.stop.load(Ordering::Relaxed)
    }

    fn spawn_meetings(self: Arc<Self>) -> Result<()> {
        let (tell, heard) = std::sync::mpsc::sync_channel(2);
        *self.shared.from_peers.lock() = Some(tell);
        let (hearing, calling) = (self.clone(), self);
        let no_thread = |error: std::io::Error| Problem::failed("no thread for other gateways").why(error.to_string());
        let name = |name: &str| std::thread::Builder::new().name(name.into());
        name("other-gateways").spawn(move || hearing.hear_others(&heard)).map_err(no_thread)?;
        name("calling-others").spawn(move || calling.call_on_others()).map(drop).map_err(no_thread)
    }

    /// Carries out the last order, and again until it works; notes who is connected.
    fn spawn_housekeeping(self: Arc<Self>) {
        let spawned = std::thread::Builder::new().name("housekeeping".into()).spawn(move || {
            loop {
                if self.shared.in_force().is_none() {
                    let resumed = self.resume().err().map(|problem| problem.line());
                    let mut mended = self.mended.lock();
                    if let Some(why) = resumed.as_ref().filter(|why| mended.amiss.as_ref() != Some(*why)) {
                        tracing::warn!("the last order is not in force yet: {why}");
                    }
                    mended.amiss = resumed;
                }
                self.shared.keep_live();
                // Sessions whose credential has ended since they began, or a limit of theirs was reached.
                self.set_clock();
                let now = clock::shown();
                self.end_those_unwelcome(self.shared.take_ended(now));
                if self.shared.time_has_turned(now) {
                    self.turn();
                }
                self.shared.keep.lock().try_again();
                self.warn_of_the_end();
                if let Err(problem) = self.undo_if_unconfirmed() {
                    tracing::error!("an order that nobody confirmed cannot be undone yet: {}", problem.line());
                }
                std::thread::park_timeout(Duration::from_secs(1));
                if self.stop.load(Ordering::Relaxed) {
                    return;
                }
            }
        });
        if let Err(error) = spawned {
            tracing::error!("no thread: {error}");
        }
    }

    /// The clock of a host in the lab may have been set.
    fn set_clock(&self) {
        if let Some(file) = &self.options.clock {
            let ahead = std::fs::read_to_string(file).ok().and_then(|text| text.trim().parse().ok());
            if clock::set_ahead(ahead.unwrap_or(0)) {
                tracing::warn!(ahead = ahead.unwrap_or(0), "the clock of this host was set");
            }
        }
    }

    fn resume(&self) -> Result<()> {
        let _one = self.change.lock();
        let closed = self.closed_until.lock().is_some_and(|until| Timestamp::now() < until);
        if closed || self.shared.in_force().is_some() {
            return Ok(());
        }
        let (identity, envelope) = {
            let keep = self.shared.keep.lock();
            (keep.identity()?, keep.order()?)
        };
        let (Some(identity), Some(envelope)) = (identity, envelope) else { return Ok(()) };
        let order = identity.verify_kept(&envelope)?;
        self.switch(&identity, order, envelope.hash())?;
        Ok(())
    }

    /// Answers one question.
    pub fn answer(&self, ask: Ask) -> Answered {
        match ask {
            Ask::Status(q) => Answered::to(&q, self.status().map(Box::new)),
            Ask::Adopt(q) => {
                let (estate, gateway, private_key) = (q.estate.clone(), q.gateway.clone(), q.private_key.clone());
                let (estate_key, recovery_key) = (q.estate_key, q.recovery_key);
                let identity = Identity { estate, estate_key, gateway, private_key, recovery_key, previous_key: None };
                Answered::to(&q, self.adopt(identity))
            }
            Ask::Certify(q) => Answered::to(&q, self.certify(&q.private_key)),
            Ask::Publish(q) => Answered::to(&q, self.publish(&q.publications)),
            Ask::Tell(q) => {
                self.tell(&q.notices);
                Answered::to(&q, Ok(()))
            }
            Ask::Renew(q) => Answered::to(&q, self.renew(&q.renewal)),
            Ask::Forward(q) => Answered::to(&q, self.forward(&q.envelopes)),
            Ask::OrderInForce(q) => Answered::to(&q, self.standing()),
            Ask::Carry(q) => Answered::to(&q, self.carry(&q.envelope, q.hold)),
            Ask::Amend(q) => Answered::to(&q, self.amend(&q.amendment)),
            Ask::Confirm(q) => Answered::to(&q, self.confirm(&q.hash)),
            Ask::NewsAfter(q) => {
                let page = self.shared.scribe.news_after(q.after);
                Answered::to(&q, page)
            }
            Ask::Sessions(q) => Answered::to(&q, Ok(self.shared.live())),
            Ask::EndSessions(q) => Answered::to(&q, Ok(self.end(&q.device, &q.words))),
            Ask::Facts(q) => Answered::to(&q, probe::facts(self.options.process_plane).map(Box::new)),
            Ask::Metrics(q) => Answered::to(&q, Ok(metrics::text(&self.shared))),
            Ask::Close(q) => {
                self.close();
                Answered::to(&q, Ok(()))
            }
            Ask::Retire(q) => Answered::to(&q, self.retire()),
        }
    }

    fn standing(&self) -> Result<Standing> {
        let envelope = self.shared.keep.lock().order()?;
        Ok(Standing { envelope, revoked: self.shared.revoked.read().clone() })
    }

    /// How inner traffic meets the site, or will.
    ///
    /// # Errors
    /// The host cannot be looked at, or it no longer has what it had: the other way is another gateway to devices, and nobody's choice
    /// but the administrator's.
    pub(crate) fn plane_kind(&self) -> Result<PlaneKind> {
        if let Some(plane) = self.shared.plane() {
            return Ok(plane.kind());
        }
        let facts = probe::facts(self.options.process_plane)?;
        let before = self.shared.keep.lock().plane()?;
        if before == Some(PlaneKind::Kernel) && facts.plane == PlaneKind::Process && !self.options.process_plane {
            let missing = match facts {
                Facts { privileged: false, .. } => "the right to change its network",
                Facts { tun: false, .. } => "TUN devices",
                _ => "nftables that answers",
            };
            return Err(Problem::refused("inner traffic went through this host's kernel, and cannot now")
                .why(format!("the host no longer has {missing}"))
                .try_("mend that; the agent tries again by itself")
                .try_("yestrel gateway retire and create   for one that carries inside the agent instead"));
        }
        Ok(facts.plane)
    }

    fn status(&self) -> Result<AgentStatus> {
        let (plane, cannot) = match self.plane_kind() {
            Ok(plane) => (plane, None),
            Err(problem) => (PlaneKind::Kernel, Some(problem.line())),
        };
        let in_force = self.shared.in_force();
        let listeners =
            self.listeners.lock().iter().map(|(name, listener)| (name.clone(), listener.services())).collect();
        let keep = self.shared.keep.lock();
        let identity = keep.identity()?;
        let estate_key = identity.as_ref().map(|identity| identity.estate_key);
        let recovery_key = identity.as_ref().and_then(|identity| identity.recovery_key);
        let public_key = identity.as_ref().map(|identity| KeyPair::public_of(&identity.private_key)).transpose()?;
        Ok(AgentStatus {
            version: VERSION.into(),
            estate: identity.as_ref().map(|identity| identity.estate.clone()),
            gateway: identity.map(|identity| identity.gateway),
            order: in_force.as_ref().map_or(0, |in_force| in_force.number),
            order_hash: in_force.as_ref().map(|in_force| in_force.hash.clone()).unwrap_or_default(),
            since: self.since,
            plane,
            revoked: self.shared.revoked.read().len() as u64,
            listeners,
            newest: self.shared.scribe.newest(),
            program: self.program(),
            held: keep.held().map(|held| held.until),
            amiss: cannot.or_else(|| self.mended.lock().amiss.clone()),
            unkept: keep.unkept().or_else(|| self.shared.scribe.trouble()),
            amends: true,
            uncounted: self.shared.uncounted(),
            clock: Some(clock::shown()),
            holds_until: self.shared.holds_until().map(|(until, _)| until),
            published: self.publisher.lock().as_ref().map(publish::Publisher::numbers).unwrap_or_default(),
            estate_key,
            recovery_key,
            public_key,
        })
    }

    fn program(&self) -> String {
        let own = || upgrade::hash(Path::new("/proc/self/exe")).unwrap_or_default();
        self.program.get_or_init(own).clone()
    }

    fn adopt(&self, mut identity: Identity) -> Result<()> {
        let _one = self.change.lock();
        let mut keep = self.shared.keep.lock();
        if let Some(own) = keep.identity()? {
            let other_gateway = own.gateway != identity.gateway && own.private_key != identity.private_key;
            if other_gateway || (&own.estate, own.estate_key) != (&identity.estate, identity.estate_key) {
                return Err(Problem::refused("this agent belongs to another estate or is another gateway")
                    .why(format!("it is the gateway {} of the estate with id {}", own.gateway, own.estate))
                    .try_("retire it from its own estate first: yestrel gateway retire"));
            }
            if own.private_key == identity.private_key && own.recovery_key == identity.recovery_key {
                return Ok(());
            }
            // The order that says so brings another name.
            identity.gateway = own.gateway;
            identity.previous_key = own.previous_key;
        }
        KeyPair::public_of(&identity.private_key)?;
        tracing::info!(gateway = identity.gateway, "adopted");
        keep.set_identity(&identity)
    }

    /// Publishes newer lists.
    fn publish(&self, publications: &[Publication]) -> Result<()> {
        let _one = self.change.lock();
        let in_force = self.shared.in_force();
        let order = in_force.as_ref().and_then(|in_force| in_force.roll.settings().publish.as_ref());
        let before = self.publisher.lock().as_ref().map(publish::Publisher::numbers).unwrap_or_default();
        publish::check(publications, order, &before)?;
        self.shared.keep.lock().set_published(publications);
        let Some(order) = order else { return Ok(()) };
        let mut publisher = self.publisher.lock();
        match &*publisher {
            Some(running) => running.fill(order, publications),
            // The port was another program's when the order came; perhaps it is free by now.
            None => *publisher = Some(publish::Publisher::start(self.options.bind, order, publications)?),
        }
        Ok(())
    }

    /// Brings way notices to their devices, now and whenever they come.
    fn tell(&self, notices: &[ForDevice]) {
        let _one = self.change.lock();
        self.shared.keep.lock().set_notices(notices);
        self.shared.set_notices(notices);
        for listener in self.listeners.lock().values() {
            listener.refresh();
        }
    }

    /// The estate stands by its orders: one that holds for a time goes on.
    pub(crate) fn renew(&self, signed: &SignedRenewal) -> Result<()> {
        let _one = self.change.lock();
        let Some(identity) = self.shared.keep.lock().identity()? else { return Ok(()) };
        if self.shared.renew(signed.verify(&identity.estate_key, &identity.estate)?) {
            self.shared.keep.lock().set_renewal(signed);
        }
        Ok(())
    }

    /// Tells devices, once, when the order in force ends soon, and again when it was renewed and does so another time.
    fn warn_of_the_end(&self) {
        let soon = self.shared.holds_until().filter(|(_, soon)| *soon).map(|(until, _)| until);
        let mut warned = self.warned.lock();
        if *warned == soon {
            return;
        }
        *warned = soon;
        if let Some(until) = soon {
            tracing::warn!("nothing was heard of the estate for long; from {} on nobody is let in", moment(until));
            for listener in self.listeners.lock().values() {
                listener.say(&ends(until));
            }
        }
    }

    /// Opens or closes the port where the state of certificates is published. Nobody who comes in depends on it, so it never
    /// stops an order.
    pub(crate) fn put_out(&self, content: &Content) {
        let mut publisher = self.publisher.lock();
        let Some(order) = &content.publish else {
            *publisher = None;
            return;
        };
        let publications = self.shared.keep.lock().published().unwrap_or_default();
        match &*publisher {
            Some(running) if running.port() == order.port => running.fill(order, &publications),
            _ => {
                *publisher = None;
                match publish::Publisher::start(self.options.bind, order, &publications) {
                    Ok(running) => *publisher = Some(running),
                    Err(problem) => tracing::error!("{}", problem.line()),
                }
            }
        }
    }

    /// Answers metrics over HTTP where the order says. Nobody who comes in depends on it, so it never stops an order.
    pub(crate) fn export_metrics(&self, at: Option<std::net::SocketAddrV4>) {
        let mut exporter = self.exporter.lock();
        if exporter.as_ref().map(metrics::Exporter::address) == at {
            return;
        }
        *exporter = None;
        if let Some(at) = at {
            match metrics::Exporter::start(at, &self.shared) {
                Ok(running) => *exporter = Some(running),
                Err(error) => tracing::error!("metrics are not answered at {at}: {error}"),
            }
        }
    }

    /// Ends the sessions of everybody who would not be let in now.
    pub(crate) fn end_the_unwelcome(&self) -> u64 {
        self.end_those_unwelcome(self.shared.seats.all())
    }

    /// Ends those of the sessions whose device would not be let in now.
    pub(crate) fn end_those_unwelcome(&self, seats: Vec<Arc<Seat>>) -> u64 {
        let mut ended = 0;
        for seat in seats {
            let now = clock::shown();
            let decided = self.shared.decide(&seat.listener(), Coming::of(&seat));
            let decided = decided.and_then(|admission| idle(&seat, &admission, now).map(|_| admission));
            let answers = &self.shared.answers;
            let decided = decided.and_then(|admission| {
                answers.until(&seat.identity, seat.number, &admission.terms, now).map(|_| admission)
            });
            if let Ok(admission) = &decided
                && admission.device != seat.device()
            {
                self.shared.rename(&seat, &admission.device);
            }
            match decided {
                Ok(admission) if self.shared.must_yield(&seat, &admission) => {
                    let words = "its address is another device's now; coming in again brings another one";
                    ended += u64::from(self.end_one(&seat, Reason::Replaced, words));
                }
                Ok(_) => {
                    let before = seat.policy();
                    self.shared.bound(&seat);
                    if seat.policy() != before {
                        // By another policy it may reach something else, which its device is to know.
                        let listener = self.listeners.lock().get(&*seat.listener()).cloned();
                        listener.iter().for_each(|listener| listener.tell(&seat));
                    }
                    if let Some(question) = self.shared.question(&seat) {
                        let listener = self.listeners.lock().get(&*seat.listener()).cloned();
                        listener.iter().for_each(|listener| listener.ask(&seat, question));
                    }
                }
                Err(refusal) => ended += u64::from(self.end_one(&seat, refusal.reason, &refusal.words)),
            }
        }
        ended
    }

    /// Policies admit others than a moment ago: whoever they do not admit is out, and whoever is in hears what it may reach now.
    fn turn(&self) {
        let _one = self.change.lock();
        let ended = self.end_the_unwelcome();
        tracing::info!(ended, "hours or dates of a policy begin or end");
        self.listeners.lock().values().for_each(|listener| listener.refresh());
    }

    pub(crate) fn end_one(&self, seat: &Seat, reason: Reason, words: &str) -> bool {
        let listener = self.listeners.lock().get(&*seat.listener()).cloned();
        listener.is_some_and(|listener| listener.end(seat, reason, words))
    }

    fn end(&self, device: &str, words: &str) -> u64 {
        let seats = self.shared.seats.of_device(device);
        seats.iter().map(|seat| u64::from(self.end_one(seat, Reason::Administrator, words))).sum()
    }

    /// Takes back whatever an order has changed on the machine.
    pub(crate) fn undo_everything(&self) -> Result<()> {
        *self.exporter.lock() = None;
        *self.publisher.lock() = None;
        for listener in self.listeners.lock().values() {
            listener.close();
        }
        self.listeners.lock().clear();
        self.shared.seats.clear();
        let plane = self.shared.plane();
        if let Some(plane) = plane {
            let before = self.shared.keep.lock().before()?;
            plane.undo(before.map(|before| before.forwarded()))?;
        }
        *self.shared.plane.write() = None;
        self.shared.set_in_force(None);
        Ok(())
    }

    /// Ends all sessions and takes no new ones for a while. An agent that is then not retired opens again by itself.
    fn close(&self) {
        let _one = self.change.lock();
        *self.closed_until.lock() = Some(Timestamp::now() + jiff::SignedDuration::from_secs(30));
        for listener in self.listeners.lock().values() {
            listener.close();
        }
        self.listeners.lock().clear();
        self.shared.set_in_force(None);
    }

    fn retire(&self) -> Result<()> {
        let _one = self.change.lock();
        self.undo_everything()?;
        self.shared.keep.lock().forget()?;
        self.shared.scribe.forget()?;
        tracing::info!("retired");
        self.stop.store(true, Ordering::Relaxed);
        Ok(())
    }
}

/// A thread that fails ends the agent, which is then started again, rather than leave it half dead; but what serves pages is apart from
/// everything that tunnels need.
fn only_what_serves_pages_may_fail_alone() {
    let tell = std::panic::take_hook();
    std::panic::set_hook(Box::new(move |panic| {
        tell(panic);
        let expendable = [publish::THREAD, metrics::THREAD];
        if std::thread::current().name().is_some_and(|name| expendable.contains(&name)) {
            tracing::error!("what serves pages has failed, and goes on: {panic}");
        } else {
            std::process::abort();
        }
    }));
}
