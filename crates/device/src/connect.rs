//! The device's side: brings the tunnel of a handover up, way by way, and keeps it up.

use std::io;
use std::net::{IpAddr, SocketAddr};
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::sync::Arc;
use std::sync::atomic::Ordering;
use std::time::Duration;

use ipnet::IpNet;
use jiff::Timestamp;
use parking_lot::{Mutex, RwLock};
use yestrel_core::admission::{Reason, is_everything, within};
use yestrel_core::exchange::device::{Ask, TunnelState};
use yestrel_core::handover::HandoverWay;
use yestrel_core::sealed::Sealed;
use yestrel_core::tunnel::Settings;
use yestrel_core::{Problem, Result};
use yestrel_net::packets::{Batch, Sender, Tun, TunBuffers};
use yestrel_net::stack::Stack;
use yestrel_net::{clock, control};

use crate::asked::answer;
use crate::bounds::Bounds;
use crate::failure::{NotThisWay, no_way_in};
pub use crate::options::{Options, Told};
use crate::proxy::{self, Horizon};
use crate::running;
use crate::split::{self, Asked, Split};
use crate::system::Applied;
use crate::tunnel::{Inner, Tunnel};
use crate::ways::{Event, Ground, Kind, Way};

/// How long one address of one way may take to answer.
const ANSWER_PATIENCE: u64 = 6_000;
/// How long a lost tunnel is opened anew at the same address before all ways are tried again.
const LOST_PATIENCE: u64 = 4_000;
/// Between two things that a gateway says to the person here, in milliseconds.
const WORDS_CALM: u64 = 30_000;
/// What a tunnel asks for before its gateway has said it.
pub const NOT_ASKED: &str = "an answer that nobody has given yet";
/// Program and version, as gateways record it.
const SOFTWARE: &str = concat!("yestrel ", env!("CARGO_PKG_VERSION"));

/// Whether a tunnel of these options can begin here: nothing is changed yet.
///
/// # Errors
/// There is one of its name, it may not change this system, or this is a host with no system of its own.
pub fn may_begin(options: &Options) -> Result<()> {
    let others = running::list_in(&options.folder)?;
    if others.iter().any(|other| other.name == options.name && other.state != TunnelState::Blocked) {
        return Err(Problem::refused(format!("there is a tunnel {} on this machine already", options.name))
            .try_(format!("yestrel tunnel stop {}", options.name))
            .try_("another name: --name NAME"));
    }
    if options.proxy.is_none() && source().is_some() {
        return Err(Problem::refused("a tunnel of this host would change the network of the whole machine")
            .why("it is a host of a lab without namespaces: a process, with no network of its own")
            .try_("yestrel connect FILE --proxy 127.0.0.1:0   changes nothing")
            .try_("yestrel lab start --namespaces   as root: its hosts have networks of their own"));
    }
    if options.proxy.is_none() && !nix::unistd::geteuid().is_root() {
        return Err(Problem::refused("changing this system's routes needs root")
            .why(
                "without it the tunnel can still be brought up inside the process, and offered to programs on loopback",
            )
            .try_("yestrel connect FILE --proxy 127.0.0.1:1080")
            .try_("the same command as root"));
    }
    Ok(())
}

/// Brings a tunnel up and keeps it up until it is stopped, ended or cannot be brought up.
///
/// # Errors
/// Why it could not come in, way by way; or why it ended, when nobody here asked for that.
pub fn run(options: &Options, tell: &dyn Fn(Told)) -> Result<()> {
    use nix::sys::signal::{SigSet, Signal};
    may_begin(options)?;
    let folder = options.folder.clone();
    // What a crashed tunnel left behind goes first, or its rules would carry this one's datagrams.
    if let Some(left) = running::applied(&folder, &options.name) {
        left.undo();
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
    let socket = running::socket(&folder, &options.name);
    let answering = tunnel.clone();
    control::serve(&socket, move |ask: Ask| answer(&answering, ask))?;
    running::note_end(&folder, &options.name, None);
    let result = keep_up(options, &tunnel, &folder, tell);
    if let Err(problem) = &result {
        running::note_end(&folder, &options.name, Some(problem));
    }
    tunnel.close();
    if let Inner::System { applied, .. } = &**tunnel.inner.read() {
        applied.lock().undo();
    }
    let _ = std::fs::remove_file(socket);
    result
}

/// A way that is up.
struct Up {
    way: HandoverWay,
    peer: SocketAddr,
    kind: Arc<dyn Kind>,
}

fn keep_up(options: &Options, tunnel: &Arc<Tunnel>, folder: &Path, tell: &dyn Fn(Told)) -> Result<()> {
    let mut batch = Batch::default();
    let mut was_up = false;
    loop {
        let (up, settings) = match come_in(options, tunnel, &mut batch, tell) {
            Ok(found) => found,
            Err(_) if tunnel.stop.load(Ordering::Relaxed) => return Ok(()),
            // A tunnel that was up comes back when the gateway does; only a refusal is final.
            Err(ways) if was_up && ways.iter().all(|way| way.refused.is_none()) => {
                std::thread::park_timeout(Duration::from_secs(2));
                continue;
            }
            Err(ways) => return Err(no_way_in(&tunnel.handover.read(), &ways)),
        };
        was_up = true;
        put_in_force(options, tunnel, folder, &up, &settings, tell)?;
        {
            let mut status = tunnel.status.lock();
            status.state = TunnelState::Up;
            status.since = Some(Timestamp::now());
        }
        tell(Told::Up(Box::new(tunnel.status())));
        match stay(options, tunnel, folder, up, settings, &mut batch, tell)? {
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
    batch: &mut Batch,
    tell: &dyn Fn(Told),
) -> std::result::Result<(Up, Settings), Vec<NotThisWay>> {
    let mut failures = Vec::new();
    let handover = tunnel.handover.read().clone();
    // Where a way was before its last notice is tried after all others: that change may have been taken back.
    for way in handover.ways.iter().chain(&handover.formerly()) {
        let dialled = format!("{}:{}", way.address, way.port);
        let word = way.tunnel.word();
        let Some(kind) = options.kinds.iter().find(|kind| kind.word() == word).cloned() else {
            let why = format!("its tunnel is {word}, which this version does not have");
            failures.push(NotThisWay { way: dialled, why, refused: None });
            continue;
        };
        let addresses = match tunnel.look_up_beside(&way.address) {
            Ok(addresses) => addresses,
            Err(problem) => {
                failures.push(NotThisWay { way: dialled, why: problem.line(), refused: None });
                continue;
            }
        };
        for address in addresses {
            let peer = SocketAddr::new(address, way.port);
            tell(Told::Trying { way: dialled.clone(), peer });
            tunnel.let_dial(peer, &*kind, way);
            match open(tunnel, &*kind, way, peer, batch) {
                Ok(settings) => return Ok((Up { way: way.clone(), peer, kind }, settings)),
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
    tunnel: &Tunnel,
    kind: &dyn Kind,
    way: &HandoverWay,
    peer: SocketAddr,
    batch: &mut Batch,
) -> std::result::Result<Settings, (String, Option<Reason>)> {
    let source = source();
    let ground = Ground { peer, source, software: SOFTWARE };
    let opened = kind.open(way, &tunnel.handover.read(), &ground).map_err(|problem| (problem.line(), None))?;
    *tunnel.way.write() = Some(opened.clone());
    let began = clock::now();
    while clock::now().since(began) < ANSWER_PATIENCE && !tunnel.stop.load(Ordering::Relaxed) {
        for event in tunnel.receive(&*opened, batch, Duration::from_millis(50)) {
            match event {
                Event::Up(settings) => return Ok(settings),
                Event::Refused(reason, words) | Event::Ended(reason, words) => {
                    let beside = if words.is_empty() { String::new() } else { format!(" ({words})") };
                    let last = Some(reason).filter(|reason| *reason != Reason::Shutdown);
                    return Err((format!("{}{beside}", reason.sentence()), last));
                }
                Event::Changed(_) | Event::Words(_) | Event::Question(_) | Event::Notice(_) | Event::Lost => {}
            }
        }
    }
    Err((format!("no answer within {} s", ANSWER_PATIENCE / 1000), None))
}

/// Puts settings into force, at the beginning and whenever the gateway changes them.
fn put_in_force(
    options: &Options,
    tunnel: &Arc<Tunnel>,
    folder: &Path,
    up: &Up,
    settings: &Settings,
    tell: &dyn Fn(Told),
) -> Result<()> {
    let Up { way, peer, kind } = up;
    let dials = kind.dials(way);
    let (IpAddr::V4(own), IpAddr::V4(gateway)) = (settings.inner.addr(), settings.gateway) else {
        return Err(
            Problem::failed("the gateway gave an IPv6 inner address").why("this version takes IPv4 inner addresses")
        );
    };
    let reach = within(&[&settings.reach, &way.reach]);
    // Of its own accord a gateway answers for no names but those that the handover says, unless everything goes through it.
    let everything = is_everything(&reach);
    // What a program hands to the proxy goes nowhere else, and is asked nowhere else.
    let domains = if everything || options.proxy.is_some() { Vec::new() } else { way.domains.clone() };
    // The stack inside the process takes IPv4 alone.
    let second = settings.second.filter(|_| options.proxy.is_none());
    let settings = &Settings { second, ..settings.clone() };
    *tunnel.bounds.write() = Bounds {
        own: settings.inners().iter().map(IpNet::addr).collect(),
        gateways: settings.gateways(),
        reach: reach.clone(),
    };
    {
        let mut status = tunnel.status.lock();
        status.gateway.clone_from(&way.gateway);
        status.way = format!("{}:{}", way.address, way.port);
        status.peer = Some(*peer);
        status.inner = Some(own);
        status.gateway_inner = Some(gateway);
        status.inner6 = second.map(|second| second.inner.addr());
        status.gateway_inner6 = second.map(|second| second.gateway);
        status.reach.clone_from(&reach);
        status.resolvers.clone_from(&settings.resolvers);
        status.domains.clone_from(&domains);
        status.packet_size = settings.packet_size;
        status.asks = settings.asks.then(|| status.asks.take().unwrap_or_else(|| NOT_ASKED.into()));
    }
    if settings.reach.iter().any(|range| !reach.iter().any(|within| within.contains(range))) {
        tell(Told::Note(
            "the gateway reaches more than this handover allows; a new handover would take that in".into(),
        ));
    }
    if everything && settings.resolvers.is_empty() {
        tell(Told::Note(
            "everything goes through the tunnel, but the gateway gave no resolvers: names may not resolve".into(),
        ));
    }
    let existing = tunnel.inner.read().clone();
    let listener = tunnel.proxy.lock().take();
    match (&*existing, listener) {
        (Inner::Process { stack, horizon }, _) => {
            stack.set_address(own);
            *horizon.write() = Horizon { reach, resolvers: settings.resolvers.clone() };
        }
        (Inner::System { applied, split, .. }, _) => {
            let mut applied = applied.lock();
            let resolvers = split_names(&mut applied, &mut split.lock(), settings, &domains, everything)?;
            applied.apply(settings, &reach, peer.ip(), &dials, &resolvers)?;
        }
        (Inner::None, Some(listener)) => {
            let weak = Arc::downgrade(tunnel);
            let emit = Arc::new(move |packet: &[u8]| {
                if let Some(tunnel) = weak.upgrade() {
                    tunnel.send(packet);
                }
            });
            let stack = Arc::new(Stack::start(own, settings.packet_size, None, emit)?);
            let horizon = Arc::new(RwLock::new(Horizon { reach, resolvers: settings.resolvers.clone() }));
            let bound = proxy::serve(listener, stack.clone(), horizon.clone())?;
            tunnel.status.lock().proxy = Some(bound);
            *tunnel.inner.write() = Arc::new(Inner::Process { stack, horizon });
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
                slot: running::free_slot(folder)?,
                interface,
                resolvers: None,
                strict: options.strict,
                file: running::applied_file(folder, &options.name),
            };
            applied.write_down()?;
            // From here on something would have to be taken back: somebody must be there who does it even after a crash.
            spawn_watcher(&options.name).map_err(no_tun)?;
            let mut split = None;
            let applying = split_names(&mut applied, &mut split, settings, &domains, everything)
                .and_then(|resolvers| applied.apply(settings, &reach, peer.ip(), &dials, &resolvers));
            if applying.is_err() {
                applied.undo();
            }
            applying?;
            let (reading, weak) = (tun.clone(), Arc::downgrade(tunnel));
            std::thread::Builder::new()
                .name("from-system".into())
                .spawn(move || carry_from_system(&reading, &weak))
                .map_err(no_tun)?;
            *tunnel.inner.write() =
                Arc::new(Inner::System { tun, applied: Mutex::new(applied), split: Mutex::new(split) });
        }
    }
    Ok(())
}

/// The address on loopback that is this host's, where it is one of a lab without namespaces.
fn source() -> Option<IpAddr> {
    std::env::var("YESTREL_SOURCE").ok().and_then(|text| text.parse().ok())
}

/// Which resolvers the system is to ask: the gateway's where everything goes through the tunnel; where only some does, a resolver of our own
/// that asks the gateway's for names in these domains alone; and none where there are no domains.
fn split_names(
    applied: &mut Applied,
    split: &mut Option<Split>,
    settings: &Settings,
    domains: &[String],
    everything: bool,
) -> Result<Vec<IpAddr>> {
    if everything || domains.is_empty() || settings.resolvers.is_empty() {
        *split = None;
        return Ok(if everything { settings.resolvers.clone() } else { Vec::new() });
    }
    let at = |resolvers: &[IpAddr]| resolvers.iter().map(|resolver| SocketAddr::new(*resolver, 53)).collect();
    let asked =
        Asked { domains: domains.to_vec(), inner: at(&settings.resolvers), before: at(&applied.resolvers_before()) };
    if let Some(split) = split {
        split.set(asked);
    } else {
        *split = Some(Split::start(SocketAddr::new(split::address(applied.slot), 53), asked)?);
    }
    Ok(split.as_ref().map(|split| split.at().ip()).into_iter().collect())
}

/// A process that takes everything back if this one dies: its standard input ends then.
fn spawn_watcher(name: &str) -> io::Result<()> {
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

fn stay(
    options: &Options,
    tunnel: &Arc<Tunnel>,
    folder: &Path,
    mut up: Up,
    mut settings: Settings,
    batch: &mut Batch,
    tell: &dyn Fn(Told),
) -> Result<After> {
    let Some(way) = tunnel.way.read().clone() else { return Ok(After::Lost) };
    let (mut lost_since, mut said, mut was_asked) = (None, None, false);
    while !tunnel.stop.load(Ordering::Relaxed) {
        for event in tunnel.receive(&*way, batch, Duration::from_millis(100)) {
            match event {
                Event::Up(given) => {
                    lost_since = None;
                    settings = given;
                    put_in_force(options, tunnel, folder, &up, &settings, tell)?;
                    tunnel.status.lock().state = TunnelState::Up;
                    tell(Told::Up(Box::new(tunnel.status())));
                }
                Event::Changed(given) => {
                    settings = given;
                    let asked = tunnel.status.lock().asks.is_some();
                    put_in_force(options, tunnel, folder, &up, &settings, tell)?;
                    // That a question is answered may be heard of here before its end is.
                    was_asked |= asked && !settings.asks;
                    tell(Told::Note("the gateway changed the settings of this tunnel".into()));
                }
                Event::Question(words) => {
                    let words: String = words.chars().take(200).collect();
                    let asks = Some(words).filter(|words| !words.is_empty());
                    let before = std::mem::replace(&mut tunnel.status.lock().asks, asks.clone());
                    match asks {
                        Some(words) => tell(Told::Asked(words)),
                        None if before.is_some() || std::mem::take(&mut was_asked) => {
                            tell(Told::Note("that was right: the tunnel is open".into()))
                        }
                        None => {}
                    }
                }
                Event::Words(words) => {
                    // A gateway does not fill a terminal.
                    let now = clock::now();
                    if said.is_none_or(|before| now.since(before) >= WORDS_CALM) {
                        said = Some(now);
                        tell(Told::Note(format!("the gateway says: {words}")));
                    }
                }
                Event::Notice(bytes) => {
                    // What the tunnel that is up may carry counts at once; where to dial, when it is opened the next time.
                    let taken = take_notice(options, tunnel, &*way, &bytes, tell);
                    let same =
                        |new: &HandoverWay| new.gateway == up.way.gateway && new.tunnel.word() == up.way.tunnel.word();
                    if let Some(new) = taken.and_then(|ways| ways.into_iter().find(same)) {
                        up.way.reach = new.reach;
                        up.way.domains = new.domains;
                        put_in_force(options, tunnel, folder, &up, &settings, tell)?;
                    }
                }
                Event::Lost => {
                    lost_since = lost_since.or(Some(clock::now()));
                    tunnel.status.lock().state = TunnelState::Lost;
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
            }
        }
        if lost_since.is_some_and(|since| clock::now().since(since) > LOST_PATIENCE) {
            return Ok(After::Lost);
        }
    }
    Ok(After::Stopped)
}

/// Takes a way notice that the gateway brought: only the estate can have made it. Gives the ways that it names.
fn take_notice(
    options: &Options,
    tunnel: &Tunnel,
    way: &dyn Way,
    bytes: &[u8],
    tell: &dyn Fn(Told),
) -> Option<Vec<HandoverWay>> {
    let sealed = Sealed::from_bytes(bytes);
    let mut handover = tunnel.handover.write();
    let mut notices = tunnel.notices.lock();
    let (number, words) = match notices.take(&sealed, &mut handover) {
        Ok(taken) => taken,
        Err(problem) => {
            // A hostile gateway may send what it likes, as often as it likes.
            tracing::debug!("a way notice is not taken: {}", problem.line());
            return None;
        }
    };
    let kept = if options.keep_notices { notices.write(&handover.holder) } else { Ok(()) };
    let ways = handover.ways.clone();
    drop(handover);
    for words in words {
        tell(Told::Note(format!("the estate says: {words}")));
    }
    match kept {
        Ok(()) => way.noticed(number),
        Err(problem) => tell(Told::Note(format!("that holds as long as this tunnel runs: {}", problem.line()))),
    }
    Some(ways)
}

/// One thread: what the system routes into the tunnel goes to the gateway.
fn carry_from_system(tun: &Tun, tunnel: &std::sync::Weak<Tunnel>) {
    let mut buffers = TunBuffers::default();
    let mut sender = Sender::default();
    loop {
        let Ok(packets) = tun.read(&mut buffers) else { return };
        let Some(tunnel) = tunnel.upgrade() else { return };
        let Some(carrier) = tunnel.way.read().as_ref().and_then(|way| way.carrier()) else { continue };
        let now = clock::now();
        let bounds = tunnel.bounds.read();
        for packet in packets.filter(|packet| bounds.lets_out(packet)) {
            carrier.carry(now, packet, &mut sender);
        }
        drop(bounds);
        carrier.flush(&mut sender);
    }
}
