//! The gateway's agent: takes orders, keeps to the newest, answers questions.

mod listener;
mod metrics;
mod plane;
mod publish;

use std::collections::{BTreeMap, HashMap};
use std::net::{IpAddr, Ipv4Addr, SocketAddr};
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, OnceLock};
use std::time::Duration;

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD as BASE64;
use jiff::Timestamp;
use parking_lot::{Mutex, RwLock};
use ring::rand::SystemRandom;
use yestrel_core::control::{Answer, Ask, Live, NewsEvent, Publication, Receipt, Status};
use yestrel_core::facts::Plane as PlaneKind;
use yestrel_core::keys::{KeyPair, PublicKey, Secret};
use yestrel_core::order::{self, Content, Envelope, Order};
use yestrel_core::x509::{Certificate, PrivateKey};
use yestrel_core::{Problem, Result, moment};
use yestrel_wire::talon::Reason;

use crate::keep::{Held, Identity, Keep};
use crate::{clock, control, probe, upgrade};
use listener::Listener;
use plane::Plane;

/// The agent's version, as it says it.
pub const VERSION: &str = env!("CARGO_PKG_VERSION");

/// The name of the agent's log in its folder.
pub const LOG: &str = "log";

/// How an agent is started.
#[derive(Debug, Clone, Default)]
pub struct Options {
    /// The agent's own folder.
    pub folder: PathBuf,
    /// Listen on this address only.
    pub bind: Option<IpAddr>,
    /// End inner traffic in the process even where the system could carry it.
    pub process_plane: bool,
    /// In the lab: where inner addresses really are.
    pub real: HashMap<SocketAddr, SocketAddr>,
}

/// A device that is connected.
pub(crate) struct Seat {
    pub number: u64,
    pub key: [u8; 32],
    pub device: String,
    pub listener: String,
    /// Changes with the listener's pool.
    pub inner: Mutex<Ipv4Addr>,
    pub from: Mutex<SocketAddr>,
    pub opened: Timestamp,
    pub software: String,
    pub lane: RwLock<Arc<yestrel_wire::talon::lane::Lane>>,
}

impl Seat {
    fn live(&self) -> Live {
        let lane = self.lane.read();
        Live {
            number: self.number,
            device: self.device.clone(),
            listener: self.listener.clone(),
            from: self.from.lock().to_string(),
            inner: *self.inner.lock(),
            opened: self.opened,
            received: lane.counters.received.load(Ordering::Relaxed),
            sent: lane.counters.sent.load(Ordering::Relaxed),
            last_heard: clock::wall(lane.counters.last_heard()),
            software: self.software.clone(),
        }
    }
}

/// Connected devices by inner address, each with the listener that it came in at.
type Seats = HashMap<Ipv4Addr, (Arc<Seat>, Arc<Listener>)>;

/// What everybody in the agent shares.
pub(crate) struct Shared {
    pub keep: Mutex<Keep>,
    /// The order in force, and who it admits at each listener.
    pub content: RwLock<Option<Arc<InForce>>>,
    /// Connected devices by inner address.
    pub seats: RwLock<Seats>,
    pub plane: RwLock<Option<Arc<Plane>>>,
    /// What was counted since the agent began to run.
    pub totals: Mutex<metrics::Totals>,
}

pub(crate) struct InForce {
    pub order: Order,
    pub hash: String,
    pub admit: HashMap<(String, [u8; 32]), order::Admit>,
}

impl InForce {
    fn new(order: Order, hash: String) -> Self {
        let admit =
            order.content.admit.iter().map(|admit| ((admit.listener.clone(), admit.key.0), admit.clone())).collect();
        Self { order, hash, admit }
    }
}

impl Shared {
    /// Why a key is not let in at a listener now; `Ok` with what the order says if it is.
    pub fn verdict(&self, listener: &str, key: &[u8; 32]) -> std::result::Result<order::Admit, (Reason, String)> {
        if let Some(revoked) = self.keep.lock().revoked().get(&PublicKey(*key).to_string()) {
            return Err((Reason::Revoked, revoked.reason.clone()));
        }
        let Some(content) = self.content.read().clone() else { return Err((Reason::Shutdown, String::new())) };
        let admit = content.admit.get(&(listener.to_owned(), *key));
        let Some(admit) = admit else { return Err((Reason::Unknown, String::new())) };
        let now = Timestamp::now();
        if admit.suspended {
            return Err((Reason::Suspended, String::new()));
        }
        if let Some(from) = admit.from.filter(|from| *from > now) {
            return Err((Reason::NotYet, format!("from {}; the gateway's clock says {}", moment(from), moment(now))));
        }
        if let Some(until) = admit.until.filter(|until| *until <= now) {
            return Err((Reason::Expired, format!("on {}; the gateway's clock says {}", moment(until), moment(now))));
        }
        if admit.inner.is_none() {
            return Err((Reason::PoolFull, String::new()));
        }
        Ok(admit.clone())
    }

    /// A credential that is good for one session has had it. A gateway that merely stops, or a device that comes back from
    /// another address, does not end it.
    pub fn spend(&self, listener: &str, key: &[u8; 32], device: &str, reason: Reason) {
        let content = self.content.read().clone();
        let admit = content.as_ref().and_then(|content| content.admit.get(&(listener.to_owned(), *key)));
        if !admit.is_some_and(|admit| admit.once) || matches!(reason, Reason::Shutdown | Reason::Replaced) {
            return;
        }
        let spent = order::Revoked { device: device.into(), reason: "it was good for one session".into() };
        let spent = BTreeMap::from([(PublicKey(*key).to_string(), spent)]);
        if let Err(problem) = self.keep.lock().learn(&spent) {
            tracing::error!("a used credential cannot be kept out: {problem}");
        }
    }

    /// Notes what was seen; a full disk must not stop the tunnel.
    pub fn note(&self, event: NewsEvent) {
        self.totals.lock().count(&event);
        if let Err(problem) = self.keep.lock().note(event) {
            let why = problem.why.as_deref().unwrap_or_default();
            tracing::error!("news cannot be kept: {problem}: {why}");
        }
    }

    pub fn live(&self) -> Vec<Live> {
        let mut live: Vec<_> = self.seats.read().values().map(|(seat, _)| seat.live()).collect();
        live.sort_by(|a, b| a.device.cmp(&b.device));
        live
    }
}

/// A running agent.
pub struct Agent {
    shared: Arc<Shared>,
    options: Options,
    listeners: Mutex<BTreeMap<String, Arc<Listener>>>,
    since: Timestamp,
    /// Orders, adoption and retirement happen one after another.
    change: Mutex<()>,
    /// What answers metrics over HTTP, with its address.
    exporter: Mutex<Option<metrics::Exporter>>,
    /// What publishes the state of certificates.
    publisher: Mutex<Option<publish::Publisher>>,
    /// Until when no order is taken up again by itself.
    closed_until: Mutex<Option<Timestamp>>,
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
        let before: Vec<_> = keep.live()?;
        if keep.identity()?.is_some() {
            keep.note(NewsEvent::Started { version: VERSION.into() })?;
        }
        for live in before {
            keep.note(NewsEvent::Ended {
                session: live.number,
                device: live.device,
                reason: "agent-stopped".into(),
                words: "the agent stopped without saying goodbye; bytes as of its last note".into(),
                received: live.received,
                sent: live.sent,
                last_heard: live.last_heard,
            })?;
        }
        keep.set_live(&[])?;
        // An order that nobody confirmed before a crash or a reboot has had its chance.
        if let Some(held) = keep.held()? {
            let order = held.envelope.read().map_or(0, |order| order.number);
            keep.set_held(None)?;
            if keep.order()?.is_none() {
                plane::take_back(&keep)?;
            }
            keep.note(NewsEvent::Undone { order })?;
            tracing::warn!(order, "the agent began anew before the order was confirmed; it is undone");
        }
        let shared = Arc::new(Shared {
            keep: Mutex::new(keep),
            content: RwLock::default(),
            seats: RwLock::default(),
            plane: RwLock::default(),
            totals: Mutex::default(),
        });
        let agent = Arc::new(Self {
            shared,
            options,
            listeners: Mutex::default(),
            since: Timestamp::now(),
            change: Mutex::default(),
            exporter: Mutex::default(),
            publisher: Mutex::default(),
            closed_until: Mutex::default(),
            program: OnceLock::new(),
            stop: AtomicBool::new(false),
        });
        agent.clone().spawn_keeper();
        Ok(agent)
    }

    /// Where commands ask an agent that keeps its things in `folder`.
    #[must_use]
    pub fn socket(folder: &Path) -> PathBuf {
        folder.join("control.sock")
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
        let socket = Self::socket(&options.folder);
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
        for listener in agent.listeners.lock().values() {
            listener.shut_down();
        }
        let _ = agent.shared.keep.lock().set_live(&[]);
        let _ = std::fs::remove_file(socket);
        Ok(())
    }

    /// Carries out the last order, and again until it works; notes who is connected.
    fn spawn_keeper(self: Arc<Self>) {
        let spawned = std::thread::Builder::new().name("keeper".into()).spawn(move || {
            let mut live = Vec::new();
            loop {
                if self.shared.content.read().is_none()
                    && let Err(problem) = self.resume()
                {
                    let why = problem.why.as_deref().unwrap_or_default();
                    tracing::warn!("the last order is not in force yet: {problem}: {why}");
                }
                let now = self.shared.live();
                let same = |a: &Vec<Live>, b: &Vec<Live>| {
                    a.len() == b.len()
                        && a.iter()
                            .zip(b)
                            .all(|(a, b)| (a.number, a.received, a.sent) == (b.number, b.received, b.sent))
                };
                if !same(&now, &live) {
                    let _ = self.shared.keep.lock().set_live(&now);
                    live = now;
                }
                self.expire();
                if let Err(problem) = self.undo_if_unconfirmed() {
                    let why = problem.why.as_deref().unwrap_or_default();
                    tracing::error!("an order that nobody confirmed cannot be undone yet: {problem}: {why}");
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

    fn resume(&self) -> Result<()> {
        let _one = self.change.lock();
        let closed = self.closed_until.lock().is_some_and(|until| Timestamp::now() < until);
        if closed || self.shared.content.read().is_some() {
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

    /// Ends sessions whose credential has expired since they began.
    fn expire(&self) {
        let seats: Vec<_> = self.shared.seats.read().values().cloned().collect();
        for (seat, listener) in seats {
            if let Err((reason, words)) = self.shared.verdict(&seat.listener, &seat.key) {
                listener.end(&seat.key, reason, &words);
            }
        }
    }

    /// Answers one question.
    pub fn answer(&self, ask: Ask) -> Answer {
        let answered = match ask {
            Ask::Status => self.status().map(|status| Answer::Status(Box::new(status))),
            Ask::Adopt { estate, estate_key, gateway, private_key, recovery_key } => self
                .adopt(Identity { estate, estate_key, gateway, private_key, recovery_key, previous_key: None })
                .map(|()| Answer::Adopted),
            Ask::Certify { private_key } => self.certify(&private_key).map(|()| Answer::Kept),
            Ask::Publish { publications } => self.publish(&publications).map(|()| Answer::Kept),
            Ask::Order => {
                let keep = self.shared.keep.lock();
                keep.order().map(|envelope| Answer::Order { envelope, revoked: keep.revoked().clone() })
            }
            Ask::Carry { envelope, hold } => self.carry(&envelope, hold).map(Answer::Carried),
            Ask::Confirm { hash } => self.confirm(&hash).map(Answer::Carried),
            Ask::News { after } => {
                self.shared.keep.lock().news_after(after).map(|(items, more)| Answer::News { items, more })
            }
            Ask::Sessions => Ok(Answer::Sessions { sessions: self.shared.live() }),
            Ask::End { device, words } => Ok(Answer::Ended { sessions: self.end(&device, &words) }),
            Ask::Facts => probe::facts(self.options.process_plane).map(|facts| Answer::Facts(Box::new(facts))),
            Ask::Metrics => Ok(Answer::Metrics { text: self.metrics() }),
            Ask::Close => {
                self.close();
                Ok(Answer::Closed)
            }
            Ask::Retire => self.retire().map(|()| Answer::Retired),
        };
        answered.unwrap_or_else(Answer::Refused)
    }

    fn plane_kind(&self) -> PlaneKind {
        match &*self.shared.plane.read() {
            Some(plane) => plane.kind(),
            None => probe::facts(self.options.process_plane).map_or(PlaneKind::Process, |facts| facts.plane),
        }
    }

    fn status(&self) -> Result<Status> {
        let plane = self.plane_kind();
        let content = self.shared.content.read().clone();
        let listeners = self.listeners.lock().iter().map(|(name, listener)| (name.clone(), listener.port())).collect();
        let keep = self.shared.keep.lock();
        let identity = keep.identity()?;
        let estate_key = identity.as_ref().map(|identity| identity.estate_key);
        let recovery_key = identity.as_ref().and_then(|identity| identity.recovery_key);
        Ok(Status {
            version: VERSION.into(),
            estate: identity.as_ref().map(|identity| identity.estate.clone()),
            gateway: identity.map(|identity| identity.gateway),
            order: content.as_ref().map_or(0, |content| content.order.number),
            order_hash: content.as_ref().map(|content| content.hash.clone()).unwrap_or_default(),
            since: self.since,
            plane,
            revoked: keep.revoked().len() as u64,
            listeners,
            newest: keep.newest(),
            program: self.program(),
            held: keep.held()?.map(|held| held.until),
            published: self.publisher.lock().as_ref().map(publish::Publisher::numbers).unwrap_or_default(),
            estate_key,
            recovery_key,
        })
    }

    fn program(&self) -> String {
        let own = || upgrade::hash(Path::new("/proc/self/exe")).unwrap_or_default();
        self.program.get_or_init(own).clone()
    }

    fn metrics(&self) -> String {
        metrics::text(&self.shared)
    }

    fn adopt(&self, mut identity: Identity) -> Result<()> {
        let _one = self.change.lock();
        let keep = self.shared.keep.lock();
        if let Some(own) = keep.identity()? {
            if (&own.estate, own.estate_key, &own.gateway) != (&identity.estate, identity.estate_key, &identity.gateway)
            {
                return Err(Problem::refused("this agent belongs to another estate or is another gateway")
                    .why(format!("it is the gateway {} of the estate with id {}", own.gateway, own.estate))
                    .try_("retire it from its own estate first: yestrel gateway retire"));
            }
            if own.private_key == identity.private_key && own.recovery_key == identity.recovery_key {
                return Ok(());
            }
            identity.previous_key = own.previous_key;
        }
        KeyPair::public_of(&identity.private_key)?;
        tracing::info!(gateway = identity.gateway, "adopted");
        keep.set_identity(&identity)
    }

    fn carry(&self, envelope: &Envelope, hold: u16) -> Result<Receipt> {
        let _one = self.change.lock();
        let identity = self.shared.keep.lock().identity()?.ok_or_else(|| {
            Problem::refused("this agent belongs to no estate yet").try_("yestrel rollout   adopts it first")
        })?;
        let order = identity.verify(envelope)?;
        if order.estate != identity.estate {
            return Err(Problem::refused("the order is of another estate").why(format!("its id is {}", order.estate)));
        }
        // Revocations are learned from anything that the estate signed, whatever becomes of the rest: also outside of
        // what is undone later.
        self.shared.keep.lock().learn(&order.content.revoked)?;
        let mut ended = self.end_the_unwelcome();
        let hash = envelope.hash();
        let (held, confirmed) = {
            let keep = self.shared.keep.lock();
            (keep.held()?, keep.order()?)
        };
        let current = held.as_ref().map(|held| held.envelope.clone()).or_else(|| confirmed.clone());
        let current = current.map(|envelope| Ok::<_, Problem>((envelope.read()?, envelope.hash()))).transpose()?;
        let standing = current.as_ref().map(|(order, hash)| (order, hash.as_str()));
        order::may_follow(standing, &order, &hash, &identity.gateway)?;
        let number = order.number;
        // From here on the estate's new key counts, whatever becomes of the rest.
        if let Some(successor) = order.successor.filter(|successor| *successor != identity.estate_key) {
            self.shared.keep.lock().set_identity(&Identity {
                estate_key: successor,
                previous_key: Some(identity.estate_key),
                ..identity.clone()
            })?;
            tracing::info!("the estate has a new key");
        }
        let mut until = held.filter(|held| held.envelope.hash() == hash).map(|held| held.until);
        let in_force = self.shared.content.read().as_ref().is_some_and(|content| content.hash == hash);
        if !in_force {
            let before = confirmed.map(|envelope| envelope.read()).transpose()?.map(|order| order.content);
            let touches = order::touches_the_way_in(before.as_ref(), &order.content);
            self.switch(&identity, order, hash.clone())?;
            let mut keep = self.shared.keep.lock();
            if touches && hold > 0 {
                let end = Timestamp::now() + jiff::SignedDuration::from_secs(i64::from(hold));
                keep.set_held(Some(&Held { envelope: envelope.clone(), until: end }))?;
                until = Some(end);
            } else {
                keep.set_order(envelope)?;
                keep.set_held(None)?;
            }
            keep.note(NewsEvent::Carried { order: number })?;
            drop(keep);
            ended += self.end_the_unwelcome();
            tracing::info!(order = number, ended, held = until.is_some(), "order carried out");
        }
        Ok(Receipt { number, hash, at: Timestamp::now(), ended, held: until })
    }

    /// Keeps an order that was held.
    fn confirm(&self, hash: &str) -> Result<Receipt> {
        let _one = self.change.lock();
        let held = self.shared.keep.lock().held()?;
        if let Some(held) = held.filter(|held| held.envelope.hash() == hash) {
            let keep = self.shared.keep.lock();
            keep.set_order(&held.envelope)?;
            keep.set_held(None)?;
            tracing::info!("order confirmed");
        }
        let content = self.shared.content.read().clone();
        match content.filter(|content| content.hash == hash) {
            Some(content) => Ok(Receipt {
                number: content.order.number,
                hash: hash.into(),
                at: Timestamp::now(),
                ended: 0,
                held: None,
            }),
            None => Err(Problem::refused("the order is not in force any more")
                .why("nobody confirmed it in time, so the one before is in force again")
                .try_("yestrel rollout   again")),
        }
    }

    /// Goes back to the order before when nobody has confirmed the one in force in time.
    fn undo_if_unconfirmed(&self) -> Result<()> {
        let due = |held: &Held| held.until <= Timestamp::now();
        if !self.shared.keep.lock().held()?.as_ref().is_some_and(due) {
            return Ok(());
        }
        let _one = self.change.lock();
        let (held, before, identity) = {
            let keep = self.shared.keep.lock();
            (keep.held()?.filter(due), keep.order()?, keep.identity()?)
        };
        let (Some(held), Some(identity)) = (held, identity) else { return Ok(()) };
        match before {
            Some(envelope) => {
                let order = identity.verify_kept(&envelope)?;
                self.switch(&identity, order, envelope.hash())?;
            }
            None => self.undo_everything()?,
        }
        let order = held.envelope.read().map_or(0, |order| order.number);
        self.shared.keep.lock().set_held(None)?;
        self.shared.note(NewsEvent::Undone { order });
        tracing::warn!(order, "nobody confirmed the order over a new connection; it is undone");
        self.end_the_unwelcome();
        Ok(())
    }

    /// Brings the machine to what the order says: first everything that can fail without harm, then the switch.
    fn switch(&self, identity: &Identity, order: Order, hash: String) -> Result<()> {
        let content: &Content = &order.content;
        if content.public_key != KeyPair::public_of(&identity.private_key)? {
            return Err(Problem::refused("the order is for another key than this gateway has")
                .why("the agent was adopted with a key that the estate has replaced")
                .try_("yestrel rollout   hands the new key over first"));
        }
        let plane = {
            let existing = self.shared.plane.read().clone();
            match existing {
                Some(plane) => plane,
                None => Arc::new(Plane::make(self.plane_kind(), content, &self.options, &self.shared)?),
            }
        };
        plane.check(content)?;
        self.check_certificate(content)?;
        // New ports first: a busy one refuses the whole order while everything is as before.
        let mut listeners = self.listeners.lock();
        let stays = |name: &String, running: &Arc<Listener>| {
            content.listeners.iter().any(|wanted| wanted.name == *name && running.serves(wanted))
        };
        let mut fresh = BTreeMap::new();
        let opened = content
            .listeners
            .iter()
            .filter(|wanted| !listeners.get(&wanted.name).is_some_and(|l| l.serves(wanted)))
            .try_for_each(|wanted| {
                let before =
                    listeners.iter().find(|(name, running)| running.port() == wanted.port && !stays(name, running));
                let before = before.map(|(_, running)| &**running);
                let listener = Listener::open(wanted, identity, &self.options, self.shared.clone(), before)?;
                fresh.insert(wanted.name.clone(), listener);
                Ok(())
            });
        let switched = opened.and_then(|()| plane.switch(content, &self.shared.keep.lock()));
        if switched.is_err() {
            fresh.values().for_each(|listener: &Arc<Listener>| listener.shut_down());
        }
        switched?;
        *self.shared.plane.write() = Some(plane);
        *self.shared.content.write() = Some(Arc::new(InForce::new(order.clone(), hash)));
        let gone: Vec<_> = listeners
            .keys()
            .filter(|name| fresh.contains_key(*name) || !content.listeners.iter().any(|wanted| wanted.name == **name))
            .cloned()
            .collect();
        for name in gone {
            if let Some(listener) = listeners.remove(&name) {
                listener.shut_down();
            }
        }
        listeners.extend(fresh);
        for listener in listeners.values() {
            listener.take_settings();
        }
        drop(listeners);
        self.export_metrics(content.metrics);
        self.put_out(content);
        Ok(())
    }

    /// The certificate that an order names is of use only with its key.
    fn check_certificate(&self, content: &Content) -> Result<()> {
        let keys = self.shared.keep.lock().certificate_keys()?;
        match certificate_of(content)? {
            Some(certificate) if !keys.iter().any(|key| is_key_of(key, &certificate)) => {
                Err(Problem::refused("the order names a certificate whose key this agent does not have")
                    .why(format!("it is the one of {}", certificate.common_name()))
                    .try_("yestrel rollout   hands the key over first"))
            }
            _ => Ok(()),
        }
    }

    /// Keeps the key of a certificate that the next order names, beside that of the order that may be gone back to.
    fn certify(&self, private_key: &Secret) -> Result<()> {
        let _one = self.change.lock();
        let keep = self.shared.keep.lock();
        if keep.identity()?.is_none() {
            return Err(Problem::refused("this agent belongs to no estate yet"));
        }
        PrivateKey::from_pkcs8(private_key.clone(), &SystemRandom::new())?;
        let in_force = match keep.order()? {
            Some(envelope) => certificate_of(&envelope.read()?.content)?,
            None => None,
        };
        let mut keys = keep.certificate_keys()?;
        keys.retain(|key| key != private_key && in_force.as_ref().is_some_and(|one| is_key_of(key, one)));
        keys.push(private_key.clone());
        keep.set_certificate_keys(&keys)
    }

    /// Publishes newer lists.
    fn publish(&self, publications: &[Publication]) -> Result<()> {
        let _one = self.change.lock();
        let content = self.shared.content.read().clone();
        let order = content.as_ref().and_then(|content| content.order.content.publish.as_ref());
        let before = self.publisher.lock().as_ref().map(publish::Publisher::numbers).unwrap_or_default();
        publish::check(publications, order, &before)?;
        self.shared.keep.lock().set_published(publications)?;
        if let (Some(publisher), Some(order)) = (&*self.publisher.lock(), order) {
            publisher.fill(order, publications);
        }
        Ok(())
    }

    /// Opens or closes the port where the state of certificates is published. Nobody who comes in depends on it, so it never
    /// stops an order.
    fn put_out(&self, content: &Content) {
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
                    Err(problem) => {
                        tracing::error!("{problem}: {}", problem.why.as_deref().unwrap_or_default());
                    }
                }
            }
        }
    }

    /// Answers metrics over HTTP where the order says. Nobody who comes in depends on it, so it never stops an order.
    fn export_metrics(&self, at: Option<std::net::SocketAddrV4>) {
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
    fn end_the_unwelcome(&self) -> u64 {
        let mut ended = 0;
        for listener in self.listeners.lock().values() {
            for key in listener.device_keys() {
                if let Err((reason, words)) = self.shared.verdict(listener.name(), &key)
                    && listener.end(&key, reason, &words)
                {
                    ended += 1;
                }
            }
        }
        ended
    }

    fn end(&self, device: &str, words: &str) -> u64 {
        let seats: Vec<_> =
            self.shared.seats.read().values().filter(|(seat, _)| seat.device == device).cloned().collect();
        let ended = seats.iter().filter(|(seat, listener)| listener.end(&seat.key, Reason::Administrator, words));
        ended.count() as u64
    }

    /// Takes back whatever an order has changed on the machine.
    fn undo_everything(&self) -> Result<()> {
        *self.exporter.lock() = None;
        *self.publisher.lock() = None;
        for listener in self.listeners.lock().values() {
            listener.shut_down();
        }
        self.listeners.lock().clear();
        self.shared.seats.write().clear();
        let plane = self.shared.plane.read().clone();
        if let Some(plane) = plane {
            plane.undo(&self.shared.keep.lock())?;
        }
        *self.shared.plane.write() = None;
        *self.shared.content.write() = None;
        Ok(())
    }

    /// Ends all sessions and takes no new ones for a while. An agent that is then not retired opens again by itself.
    fn close(&self) {
        let _one = self.change.lock();
        *self.closed_until.lock() = Some(Timestamp::now() + jiff::SignedDuration::from_secs(30));
        for listener in self.listeners.lock().values() {
            listener.shut_down();
        }
        self.listeners.lock().clear();
        *self.shared.content.write() = None;
    }

    fn retire(&self) -> Result<()> {
        let _one = self.change.lock();
        self.undo_everything()?;
        self.shared.keep.lock().forget()?;
        tracing::info!("retired");
        self.stop.store(true, Ordering::Relaxed);
        Ok(())
    }
}

/// The certificate that an order names for the gateway itself.
fn certificate_of(content: &Content) -> Result<Option<Certificate>> {
    let Some(leaf) = content.certificate.first() else { return Ok(None) };
    let der = BASE64.decode(leaf).map_err(|_| Problem::words("the gateway's certificate is damaged"))?;
    Certificate::from_der(&der).map(Some)
}

fn is_key_of(key: &Secret, certificate: &Certificate) -> bool {
    PrivateKey::from_pkcs8(key.clone(), &SystemRandom::new()).is_ok_and(|key| key.public() == certificate.key())
}
