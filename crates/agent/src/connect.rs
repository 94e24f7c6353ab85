//! The device's side: brings the tunnel of a handover up, way by way, and keeps it up.

use std::collections::HashMap;
use std::io;
use std::net::{IpAddr, Ipv4Addr, SocketAddr};
use std::path::PathBuf;
use std::process::{Command, Stdio};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Duration;

use ipnet::IpNet;
use jiff::Timestamp;
use parking_lot::{Mutex, RwLock};
use yestrel_core::handover::{Handover, HandoverWay};
use yestrel_core::{Problem, Result};
use yestrel_wire::talon::device::{Config, Device, Event};
use yestrel_wire::talon::frame::{Frame, frames};
use yestrel_wire::talon::lane::{Lane, OVERHEAD};
use yestrel_wire::talon::message::Settings;
use yestrel_wire::talon::{ConnectionId, Reason, Suite};

use crate::packets::{Batch, Receiver, Sender, Tun, TunBuffers, Udp, ipv4_ends};
use crate::proxy::{self, View};
use crate::stack::Stack;
use crate::system::{Applied, effective_reach, is_everything};
use crate::tunnels::{self, TunnelAnswer, TunnelAsk, TunnelStatus};
use crate::{clock, control, echo, names};

/// How long one address of one way may take to answer.
const ANSWER_PATIENCE: u64 = 6_000;
/// How long a lost tunnel is opened anew at the same address before all ways are tried again.
const LOST_PATIENCE: u64 = 4_000;
/// Program and version, as gateways record it.
const SOFTWARE: &str = concat!("yestrel ", env!("CARGO_PKG_VERSION"));

/// How a tunnel is brought up.
pub struct Options {
    pub handover: Handover,
    /// The tunnel's name on this machine.
    pub name: String,
    /// Offer the tunnel inside the process at this loopback address, instead of changing the system.
    pub proxy: Option<SocketAddr>,
    /// Block everything while the tunnel is down.
    pub strict: bool,
}

/// What the person at the device is told.
#[derive(Debug, Clone)]
pub enum Told {
    /// A way is being tried.
    Trying { way: String, peer: SocketAddr },
    /// The tunnel is up.
    Up(Box<TunnelStatus>),
    /// Something that they should know and that does not stop the tunnel.
    Note(String),
    /// The gateway is not heard any more.
    Lost,
}

enum Inner {
    None,
    System { tun: Arc<Tun>, applied: Mutex<Applied> },
    Process { stack: Arc<Stack>, view: Arc<RwLock<View>> },
}

/// What the threads of one tunnel share.
struct Tunnel {
    udp: RwLock<Option<Arc<Udp>>>,
    device: Mutex<Option<Device>>,
    lanes: RwLock<HashMap<ConnectionId, Arc<Lane>>>,
    current: RwLock<Option<Arc<Lane>>>,
    /// The device's own inner address, the gateway's, and what goes into the tunnel.
    bounds: RwLock<Bounds>,
    inner: RwLock<Arc<Inner>>,
    status: Mutex<TunnelStatus>,
    /// Where the proxy will listen, until it does.
    proxy: Mutex<Option<std::net::TcpListener>>,
    stop: AtomicBool,
}

#[derive(Debug, Clone)]
struct Bounds {
    own: Ipv4Addr,
    gateway: Ipv4Addr,
    reach: Vec<IpNet>,
}

impl Bounds {
    fn lets_out(&self, packet: &[u8]) -> bool {
        ipv4_ends(packet).is_some_and(|(source, destination)| source == self.own && self.beyond(destination))
    }

    fn lets_in(&self, packet: &[u8]) -> bool {
        ipv4_ends(packet).is_some_and(|(source, destination)| destination == self.own && self.beyond(source))
    }

    fn beyond(&self, address: Ipv4Addr) -> bool {
        address == self.gateway || self.reach.iter().any(|range| range.contains(&IpAddr::V4(address)))
    }
}

/// How one way ended before it was up.
struct NotThisWay {
    way: String,
    why: String,
    /// A refusal by the gateway, as opposed to silence.
    refused: Option<Reason>,
}

impl Tunnel {
    fn new(options: &Options, proxy: Option<std::net::TcpListener>) -> Self {
        Self {
            udp: RwLock::default(),
            device: Mutex::default(),
            lanes: RwLock::default(),
            current: RwLock::default(),
            bounds: RwLock::new(Bounds {
                own: Ipv4Addr::UNSPECIFIED,
                gateway: Ipv4Addr::UNSPECIFIED,
                reach: Vec::new(),
            }),
            inner: RwLock::new(Arc::new(Inner::None)),
            status: Mutex::new(TunnelStatus {
                proxy: options.proxy,
                strict: options.strict,
                pid: std::process::id(),
                ..TunnelStatus::new(&options.name, "opening", &options.handover.holder)
            }),
            proxy: Mutex::new(proxy),
            stop: AtomicBool::new(false),
        }
    }

    fn status(&self) -> TunnelStatus {
        let mut status = self.status.lock().clone();
        if let Some(lane) = &*self.current.read() {
            status.sent = lane.counters.sent.load(Ordering::Relaxed);
            status.received = lane.counters.received.load(Ordering::Relaxed);
            status.last_answer = Some(clock::wall(lane.counters.last_heard()));
        }
        status
    }

    /// Sends one inner packet, if it may go out.
    fn send(&self, packet: &[u8]) {
        let (Some(lane), Some(udp)) = (self.current.read().clone(), self.udp.read().clone()) else { return };
        if self.bounds.read().lets_out(packet) {
            let mut datagram = Vec::with_capacity(packet.len() + OVERHEAD);
            if lane.seal_packet(clock::now(), packet, &mut datagram).is_ok() {
                udp.send(lane.path(), &datagram);
            }
        }
    }

    /// Lets the state machine act, then sends what it wants sent and gives what happened.
    fn with_device(&self, act: impl FnOnce(&mut Device)) -> Vec<Event> {
        let mut guard = self.device.lock();
        let Some(device) = guard.as_mut() else { return Vec::new() };
        act(device);
        let (output, events) = (device.take_output(), device.take_events());
        let mut rest = Vec::new();
        for event in events {
            match event {
                Event::LaneAdded(lane) => drop(self.lanes.write().insert(lane.own, lane)),
                Event::LaneRemoved(id) => drop(self.lanes.write().remove(&id)),
                Event::Current(lane) => *self.current.write() = Some(lane),
                other => rest.push(other),
            }
        }
        drop(guard);
        if let Some(udp) = self.udp.read().clone() {
            for (to, datagram) in output {
                udp.send(to, &datagram);
            }
        }
        rest
    }

    /// Receives what is there, at most after `wait`, and gives inner packets to the system or the stack.
    fn receive(&self, udp: &Udp, receiver: &mut Receiver, batch: &mut Batch, wait: Duration) -> Vec<Event> {
        let mut happened = Vec::new();
        if !udp.wait(wait) {
            return happened;
        }
        let now = clock::now();
        let bounds = self.bounds.read().clone();
        let inner = self.inner.read().clone();
        receiver.receive(udp, |from, datagram| {
            let Some(id) = ConnectionId::of(datagram) else { return };
            let lane = self.lanes.read().get(&id).cloned();
            let Some(lane) = lane else {
                happened.extend(self.with_device(|device| {
                    if device.awaits(datagram) {
                        device.answer(now, datagram)
                    }
                }));
                return;
            };
            let Ok(body) = lane.open(now, datagram) else { return };
            if lane.needs_attention(from) {
                happened.extend(self.with_device(|device| {
                    device.heard(now, &lane, from);
                }));
            }
            for frame in frames(body) {
                match frame {
                    Ok(Frame::Data(packet)) if bounds.lets_in(packet) => {
                        lane.count_received(packet.len());
                        batch.push(packet);
                        if batch.is_full() {
                            deliver(&inner, batch);
                        }
                    }
                    Ok(Frame::Data(_)) => {}
                    Ok(frame) => happened.extend(self.with_device(|device| device.control(now, &lane, frame))),
                    Err(_) => return,
                }
            }
        });
        deliver(&inner, batch);
        happened
    }
}

impl Tunnel {
    /// What is blocked while a strict tunnel is down, so that the gateway can be dialled; nothing else passes.
    fn strict(&self) -> Option<Applied> {
        match &**self.inner.read() {
            Inner::System { applied, .. } => Some(applied.lock().clone()).filter(|applied| applied.strict),
            _ => None,
        }
    }

    /// The addresses of the name that is dialled, asked beside the tunnel: through it, it cannot be asked before it is up.
    fn look_up_beside(&self, name: &str) -> Result<Vec<IpAddr>> {
        match self.strict() {
            Some(applied) => applied.look_up_beside(name),
            None => names::look_up(name),
        }
    }

    fn let_dial(&self, peer: SocketAddr) {
        if let Some(applied) = self.strict()
            && let Err(problem) = applied.let_dial(peer)
        {
            tracing::warn!("{problem}");
        }
    }
}

fn deliver(inner: &Inner, batch: &mut Batch) {
    match inner {
        Inner::System { tun, .. } => tun.write(batch),
        Inner::Process { stack, .. } => batch.drain().for_each(|packet| stack.packet(packet)),
        Inner::None => batch.drain().for_each(drop),
    }
}

/// Brings a tunnel up and keeps it up until it is stopped, ended or cannot be brought up.
///
/// # Errors
/// Why it could not come in, way by way; or why it ended, when nobody here asked for that.
pub fn run(options: &Options, tell: &dyn Fn(Told)) -> Result<()> {
    use nix::sys::signal::{SigSet, Signal};
    let folder = tunnels::folder()?;
    // What a crashed tunnel left behind goes first, or its rules would carry this one's datagrams.
    let others = tunnels::list()?;
    if others.iter().any(|other| other.name == options.name && other.state != "blocked") {
        return Err(Problem::refused(format!("there is a tunnel {} on this machine already", options.name))
            .try_(format!("yestrel tunnel stop {}", options.name))
            .try_("another name: --name NAME"));
    }
    if let Some(left) = tunnels::applied(&folder, &options.name) {
        left.undo();
    }
    if options.proxy.is_none() && !nix::unistd::geteuid().is_root() {
        return Err(Problem::refused("changing this system's routes needs root")
            .why(
                "without it the tunnel can still be brought up inside the process, and offered to programs on loopback",
            )
            .try_("yestrel connect FILE --proxy 127.0.0.1:1080")
            .try_("the same command as root"));
    }
    let proxy = options.proxy.map(proxy::bind).transpose()?;
    let mut signals = SigSet::empty();
    signals.add(Signal::SIGTERM);
    signals.add(Signal::SIGINT);
    signals.add(Signal::SIGHUP);
    let _ = signals.thread_block();
    let tunnel = Arc::new(Tunnel::new(options, proxy));
    let stopping = tunnel.clone();
    let _waiting = std::thread::spawn(move || {
        let _ = signals.wait();
        stopping.stop.store(true, Ordering::Relaxed);
    });
    let socket = tunnels::socket(&folder, &options.name);
    let answering = tunnel.clone();
    control::serve(&socket, move |ask: TunnelAsk| answer(&answering, ask))?;
    tunnels::note_end(&folder, &options.name, None);
    let result = keep_up(options, &tunnel, &folder, tell);
    if let Err(problem) = &result {
        tunnels::note_end(&folder, &options.name, Some(problem));
    }
    tunnel.with_device(|device| device.close(clock::now()));
    if let Inner::System { applied, .. } = &**tunnel.inner.read() {
        applied.lock().undo();
    }
    let _ = std::fs::remove_file(socket);
    result
}

fn keep_up(options: &Options, tunnel: &Arc<Tunnel>, folder: &std::path::Path, tell: &dyn Fn(Told)) -> Result<()> {
    let mut receiver = Receiver::default();
    let mut batch = Batch::default();
    let mut was_up = false;
    loop {
        let (way, peer, settings) = match come_in(options, tunnel, &mut receiver, &mut batch, tell) {
            Ok(found) => found,
            Err(_) if tunnel.stop.load(Ordering::Relaxed) => return Ok(()),
            // A tunnel that was up comes back when the gateway does; only a refusal is final.
            Err(ways) if was_up && ways.iter().all(|way| way.refused.is_none()) => {
                std::thread::park_timeout(Duration::from_secs(2));
                continue;
            }
            Err(ways) => return Err(no_way_in(&options.handover, &ways)),
        };
        was_up = true;
        take_settings(options, tunnel, folder, &way, peer, &settings, tell)?;
        {
            let mut status = tunnel.status.lock();
            status.state = "up".into();
            status.since = Some(Timestamp::now());
        }
        tell(Told::Up(Box::new(tunnel.status())));
        match stay(options, tunnel, folder, &way, peer, &mut receiver, &mut batch, tell)? {
            After::Stopped => return Ok(()),
            After::Lost => {}
        }
    }
}

enum After {
    Stopped,
    Lost,
}

/// Tries all ways in order, each with all addresses of its name.
fn come_in(
    options: &Options,
    tunnel: &Tunnel,
    receiver: &mut Receiver,
    batch: &mut Batch,
    tell: &dyn Fn(Told),
) -> std::result::Result<(HandoverWay, SocketAddr, Settings), Vec<NotThisWay>> {
    let mut failures = Vec::new();
    for way in &options.handover.ways {
        let dialled = format!("{}:{}", way.address, way.port);
        let addresses = match tunnel.look_up_beside(&way.address) {
            Ok(addresses) => addresses,
            Err(problem) => {
                let why = format!("{}{}", problem.error, problem.why.map(|why| format!(": {why}")).unwrap_or_default());
                failures.push(NotThisWay { way: dialled, why, refused: None });
                continue;
            }
        };
        for address in addresses {
            let peer = SocketAddr::new(address, way.port);
            tell(Told::Trying { way: dialled.clone(), peer });
            tunnel.let_dial(peer);
            match open(options, tunnel, way, peer, receiver, batch) {
                Ok(settings) => return Ok((way.clone(), peer, settings)),
                Err((why, refused)) => {
                    let dialled = if way.address == address.to_string() {
                        dialled.clone()
                    } else {
                        format!("{dialled} ({address})")
                    };
                    failures.push(NotThisWay { way: dialled, why, refused });
                }
            }
            if tunnel.stop.load(Ordering::Relaxed) {
                return Err(failures);
            }
        }
    }
    Err(failures)
}

fn open(
    options: &Options,
    tunnel: &Tunnel,
    way: &HandoverWay,
    peer: SocketAddr,
    receiver: &mut Receiver,
    batch: &mut Batch,
) -> std::result::Result<Settings, (String, Option<Reason>)> {
    let fail = |why: String| (why, None);
    let suite: Suite =
        way.cipher.parse().map_err(|error: yestrel_wire::talon::suite::UnknownSuite| fail(error.to_string()))?;
    let key = options.handover.device_key.as_ref().ok_or_else(|| fail("the handover holds no private key".into()))?;
    let private = key.private_key().map_err(|problem| fail(problem.error))?;
    let any: IpAddr =
        if peer.is_ipv4() { Ipv4Addr::UNSPECIFIED.into() } else { std::net::Ipv6Addr::UNSPECIFIED.into() };
    let own = std::env::var("YESTREL_SOURCE")
        .ok()
        .and_then(|text| text.parse().ok())
        .filter(|own: &IpAddr| own.is_ipv4() == peer.is_ipv4());
    let bind = SocketAddr::new(own.unwrap_or(any), 0);
    let udp = Arc::new(Udp::bind(bind).map_err(|error| fail(error.to_string()))?);
    let device =
        Device::new(Config::new(suite, private, way.server_key.0, SOFTWARE), peer, clock::SystemRandom::boxed());
    *tunnel.udp.write() = Some(udp.clone());
    tunnel.lanes.write().clear();
    *tunnel.current.write() = None;
    *tunnel.device.lock() = Some(device);
    let began = clock::now();
    let mut events = tunnel.with_device(|device| device.open(began));
    while clock::now().since(began) < ANSWER_PATIENCE && !tunnel.stop.load(Ordering::Relaxed) {
        events.extend(tunnel.receive(&udp, receiver, batch, Duration::from_millis(50)));
        events.extend(tunnel.with_device(|device| {
            device.tick(clock::now());
        }));
        for event in events.drain(..) {
            match event {
                Event::Up(settings) => return Ok(settings),
                Event::Refused(reason, words) | Event::Ended(reason, words) => {
                    let beside = if words.is_empty() { String::new() } else { format!(" ({words})") };
                    let last = Some(reason).filter(|reason| *reason != Reason::Shutdown);
                    return Err((format!("{}{beside}", reason.sentence()), last));
                }
                _ => {}
            }
        }
    }
    Err(fail(format!("no answer within {} s", ANSWER_PATIENCE / 1000)))
}

fn no_way_in(handover: &Handover, ways: &[NotThisWay]) -> Problem {
    let lines: Vec<_> = ways.iter().map(|way| format!("{}: {}", way.way, way.why)).collect();
    let problem = Problem::failed(format!("{} cannot come in", handover.holder)).why(lines.join("; "));
    match ways.iter().find_map(|way| way.refused) {
        Some(Reason::Revoked | Reason::Expired | Reason::Unknown) => {
            problem.try_("ask for a new handover: yestrel credential renew, on the administrator's machine")
        }
        Some(Reason::Versions) => problem.try_("the same version of yestrel here and on the gateway"),
        Some(_) => problem.try_("ask the administrator of this gateway"),
        None => problem
            .try_("another network: some let only the web through")
            .try_("yestrel port list   on the administrator's machine: is the port open all the way?"),
    }
}

/// Puts settings into force, at the beginning and whenever the gateway changes them.
fn take_settings(
    options: &Options,
    tunnel: &Arc<Tunnel>,
    folder: &std::path::Path,
    way: &HandoverWay,
    peer: SocketAddr,
    settings: &Settings,
    tell: &dyn Fn(Told),
) -> Result<()> {
    let (IpAddr::V4(own), IpAddr::V4(gateway)) = (settings.inner.addr(), settings.gateway) else {
        return Err(
            Problem::failed("the gateway gave an IPv6 inner address").why("this version takes IPv4 inner addresses")
        );
    };
    let reach = effective_reach(&settings.reach, &way.reach);
    *tunnel.bounds.write() = Bounds { own, gateway, reach: reach.clone() };
    {
        let mut status = tunnel.status.lock();
        status.gateway.clone_from(&way.gateway);
        status.way = format!("{}:{}", way.address, way.port);
        status.peer = Some(peer);
        status.inner = Some(own);
        status.gateway_inner = Some(gateway);
        status.reach.clone_from(&reach);
        status.resolvers.clone_from(&settings.resolvers);
        status.packet_size = settings.packet_size;
    }
    if settings.reach.iter().any(|range| !reach.iter().any(|within| within.contains(range))) {
        tell(Told::Note(
            "the gateway reaches more than this handover allows; a new handover would take that in".into(),
        ));
    }
    if is_everything(&reach) && settings.resolvers.is_empty() {
        tell(Told::Note(
            "everything goes through the tunnel, but the gateway gave no resolvers: names may not resolve".into(),
        ));
    }
    let existing = tunnel.inner.read().clone();
    let listener = tunnel.proxy.lock().take();
    match (&*existing, listener) {
        (Inner::Process { stack, view }, _) => {
            stack.set_address(own);
            *view.write() = View { reach, resolvers: settings.resolvers.clone() };
        }
        (Inner::System { applied, .. }, _) => applied.lock().apply(settings, &reach, peer)?,
        (Inner::None, Some(listener)) => {
            let weak = Arc::downgrade(tunnel);
            let emit = Arc::new(move |packet: &[u8]| {
                if let Some(tunnel) = weak.upgrade() {
                    tunnel.send(packet);
                }
            });
            let stack = Arc::new(Stack::start(own, settings.packet_size, None, emit)?);
            let view = Arc::new(RwLock::new(View { reach, resolvers: settings.resolvers.clone() }));
            let bound = proxy::serve(listener, stack.clone(), view.clone())?;
            tunnel.status.lock().proxy = Some(bound);
            *tunnel.inner.write() = Arc::new(Inner::Process { stack, view });
        }
        (Inner::None, None) => {
            let no_tun = |error: io::Error| {
                Problem::failed("the TUN device cannot be made")
                    .why(error.to_string())
                    .try_("yestrel connect FILE --proxy 127.0.0.1:1080   needs none")
            };
            let tun = Arc::new(Tun::create("yestrel%d", settings.packet_size).map_err(no_tun)?);
            let interface = tun.name().map_err(no_tun)?;
            let mut applied = Applied {
                slot: tunnels::free_slot(folder)?,
                interface,
                resolvers: None,
                strict: options.strict,
                file: tunnels::applied_file(folder, &options.name),
            };
            applied.keep()?;
            // From here on something would have to be taken back: somebody must be there who does it even after a crash.
            spawn_keeper(&options.name).map_err(no_tun)?;
            let applying = applied.apply(settings, &reach, peer);
            if applying.is_err() {
                applied.undo();
            }
            applying?;
            let (reading, weak) = (tun.clone(), Arc::downgrade(tunnel));
            std::thread::Builder::new()
                .name("from-system".into())
                .spawn(move || carry_from_system(&reading, &weak))
                .map_err(no_tun)?;
            *tunnel.inner.write() = Arc::new(Inner::System { tun, applied: Mutex::new(applied) });
        }
    }
    Ok(())
}

/// A process that takes everything back if this one dies: its standard input ends then.
fn spawn_keeper(name: &str) -> io::Result<()> {
    use std::os::unix::process::CommandExt as _;
    let exe = std::env::current_exe().unwrap_or_else(|_| PathBuf::from("/proc/self/exe"));
    let mut child = Command::new(exe);
    // In a process group of its own: a Ctrl-C for this process is not for it.
    child
        .args(["tunnel", "keep", name])
        .stdin(Stdio::piped())
        .stdout(Stdio::null())
        .stderr(Stdio::null())
        .process_group(0);
    let mut child = child.spawn()?;
    // The pipe stays open as long as this process lives.
    if let Some(pipe) = child.stdin.take() {
        std::mem::forget(pipe);
    }
    Ok(())
}

#[expect(clippy::too_many_arguments, reason = "the loop's own state, passed on once")]
fn stay(
    options: &Options,
    tunnel: &Arc<Tunnel>,
    folder: &std::path::Path,
    way: &HandoverWay,
    peer: SocketAddr,
    receiver: &mut Receiver,
    batch: &mut Batch,
    tell: &dyn Fn(Told),
) -> Result<After> {
    let Some(udp) = tunnel.udp.read().clone() else { return Ok(After::Lost) };
    let mut lost_since = None;
    let mut next_tick = clock::now();
    while !tunnel.stop.load(Ordering::Relaxed) {
        let mut events = tunnel.receive(&udp, receiver, batch, Duration::from_millis(100));
        let now = clock::now();
        if now >= next_tick || !events.is_empty() {
            events.extend(tunnel.with_device(|device| next_tick = device.tick(now)));
        }
        for event in events {
            match event {
                Event::Up(settings) => {
                    lost_since = None;
                    take_settings(options, tunnel, folder, way, peer, &settings, tell)?;
                    tunnel.status.lock().state = "up".into();
                    tell(Told::Up(Box::new(tunnel.status())));
                }
                Event::Changed(settings) => {
                    take_settings(options, tunnel, folder, way, peer, &settings, tell)?;
                    tell(Told::Note("the gateway changed the settings of this tunnel".into()));
                }
                Event::Lost => {
                    lost_since = lost_since.or(Some(now));
                    tunnel.status.lock().state = "lost".into();
                    if let Inner::System { applied, .. } = &**tunnel.inner.read() {
                        applied.lock().step_aside();
                    }
                    tell(Told::Lost);
                }
                // It stops, and may come back, here or elsewhere.
                Event::Refused(Reason::Shutdown, _) => return Ok(After::Lost),
                Event::Refused(reason, words) | Event::Ended(reason, words) => {
                    let problem = Problem::failed(format!("the tunnel {} ended: {}", options.name, reason.sentence()));
                    return Err(if words.is_empty() { problem } else { problem.why(words) });
                }
                _ => {}
            }
        }
        if lost_since.is_some_and(|since| now.since(since) > LOST_PATIENCE) {
            return Ok(After::Lost);
        }
    }
    Ok(After::Stopped)
}

/// One thread: what the system routes into the tunnel goes to the gateway.
fn carry_from_system(tun: &Tun, tunnel: &std::sync::Weak<Tunnel>) {
    let mut buffers = TunBuffers::default();
    let mut sender = Sender::default();
    loop {
        let Ok(packets) = tun.read(&mut buffers) else { return };
        let Some(tunnel) = tunnel.upgrade() else { return };
        let (Some(lane), Some(udp)) = (tunnel.current.read().clone(), tunnel.udp.read().clone()) else { continue };
        let (now, path) = (clock::now(), lane.path());
        let bounds = tunnel.bounds.read();
        for packet in packets.filter(|packet| bounds.lets_out(packet)) {
            sender.add(&udp, path, packet.len() + OVERHEAD, |out| lane.seal_packet(now, packet, out).is_ok());
        }
        drop(bounds);
        sender.flush(&udp);
    }
}

fn answer(tunnel: &Tunnel, ask: TunnelAsk) -> TunnelAnswer {
    match ask {
        TunnelAsk::Status => TunnelAnswer::Status(Box::new(tunnel.status())),
        TunnelAsk::Stop => {
            tunnel.stop.store(true, Ordering::Relaxed);
            TunnelAnswer::Stopping
        }
        TunnelAsk::Echo { to, hops } => {
            let patience = Duration::from_secs(2);
            let answered = match &**tunnel.inner.read() {
                Inner::Process { stack, .. } => stack.echo(to, hops, patience),
                Inner::System { .. } => echo::send(to, hops, patience),
                Inner::None => None,
            };
            TunnelAnswer::Echo {
                from: answered.map(|(from, _)| from),
                millis: answered.map_or(0.0, |(_, after)| after.as_secs_f64() * 1000.0),
            }
        }
        TunnelAsk::LookUp { name } => look_up(tunnel, &name).unwrap_or_else(TunnelAnswer::Refused),
    }
}

fn look_up(tunnel: &Tunnel, name: &str) -> Result<TunnelAnswer> {
    if let Inner::Process { stack, view } = &**tunnel.inner.read() {
        let view = view.read().clone();
        let (addresses, resolver) = proxy::look_up(stack, &view, name)?;
        return Ok(TunnelAnswer::Addresses { addresses, resolver });
    }
    let resolver = tunnel.status.lock().resolvers.first().copied();
    let resolver = resolver.ok_or_else(|| {
        Problem::failed("the gateway gave no resolvers")
            .why("names are looked up as without the tunnel")
            .try_("yestrel listener change --resolvers ADDRESS, on the administrator's machine")
    })?;
    let addresses = names::ask(SocketAddr::new(resolver, 53), name)?;
    Ok(TunnelAnswer::Addresses { addresses, resolver })
}
