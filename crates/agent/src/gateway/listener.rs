//! One talon listener: a UDP port, its state machine, and the thread that moves its packets.

use std::collections::HashMap;
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr, SocketAddr};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Duration;

use jiff::Timestamp;
use parking_lot::{Mutex, RwLock};
use yestrel_core::control::NewsEvent;
use yestrel_core::keys::PublicKey;
use yestrel_core::order::OrderListener;
use yestrel_core::pool::gateway_address;
use yestrel_core::{Problem, Result};
use yestrel_wire::talon::frame::{Frame, frames};
use yestrel_wire::talon::gateway::{Doorkeeper, Event, Gateway};
use yestrel_wire::talon::lane::Lane;
use yestrel_wire::talon::message::Settings;
use yestrel_wire::talon::{ConnectionId, Reason, Suite};

use super::{Options, Seat, Shared};
use crate::clock;
use crate::keep::Identity;
use crate::packets::{Batch, Receiver, Udp, ipv4_ends};

/// A running listener.
pub(crate) struct Listener {
    wanted: OrderListener,
    udp: Udp,
    machine: Mutex<Gateway>,
    lanes: RwLock<HashMap<ConnectionId, Arc<Lane>>>,
    /// By session number: to find the seat when it ends.
    seats: Mutex<HashMap<u64, Arc<Seat>>>,
    shared: Arc<Shared>,
    stop: AtomicBool,
    /// This listener itself, for the seats that point to it.
    me: std::sync::Weak<Self>,
}

struct Door<'a>(&'a Listener);

impl Doorkeeper for Door<'_> {
    fn admit(&self, key: &[u8; 32]) -> std::result::Result<Settings, (Reason, String)> {
        self.0.settings(key)
    }
}

impl Listener {
    /// Binds the port, or takes it over from a listener that is about to close, and starts the thread.
    pub fn open(
        wanted: &OrderListener,
        identity: &Identity,
        options: &Options,
        shared: Arc<Shared>,
        before: Option<&Self>,
    ) -> Result<Arc<Self>> {
        let suite: Suite = wanted.cipher.parse().map_err(|error: yestrel_wire::talon::suite::UnknownSuite| {
            Problem::refused(format!("the listener {} cannot be opened", wanted.name)).why(error.to_string())
        })?;
        let address = SocketAddr::new(options.bind.unwrap_or(IpAddr::V6(Ipv6Addr::UNSPECIFIED)), wanted.port);
        let bound = match before {
            Some(before) => before.udp.share(),
            None => Udp::bind(address),
        };
        let udp = bound.map_err(|error| {
            let problem = Problem::refused(format!("port {}/udp of {} cannot be opened", wanted.port, wanted.name));
            match error.kind() {
                std::io::ErrorKind::AddrInUse => problem
                    .why("another program on the host has it")
                    .try_("yestrel host probe   names the program")
                    .try_(format!("yestrel listener change {} --port with a free one", wanted.name)),
                _ => problem.why(error.to_string()),
            }
        })?;
        let private = identity.private_key.private_key()?;
        let public = yestrel_core::keys::KeyPair::public_of(&identity.private_key)?;
        // Session numbers stay unique over restarts and listeners: they begin at the moment, in milliseconds.
        let first = Timestamp::now().as_millisecond() as u64 * 16 + u64::from(wanted.port % 16);
        let machine = Gateway::new(suite, private, &public.0, first, clock::SystemRandom::boxed());
        let listener = Arc::new_cyclic(|me| Self {
            wanted: wanted.clone(),
            udp,
            machine: Mutex::new(machine),
            lanes: RwLock::default(),
            seats: Mutex::default(),
            shared,
            stop: AtomicBool::new(false),
            me: me.clone(),
        });
        let running = listener.clone();
        std::thread::Builder::new()
            .name("from-devices".into())
            .spawn(move || running.run())
            .map_err(|error| Problem::failed("no thread for the listener").why(error.to_string()))?;
        tracing::info!(listener = wanted.name, port = wanted.port, "listener open");
        Ok(listener)
    }

    pub fn name(&self) -> &str {
        &self.wanted.name
    }

    pub fn udp(&self) -> &Udp {
        &self.udp
    }

    pub fn port(&self) -> u16 {
        self.udp.local_addr().map_or(self.wanted.port, |address| address.port())
    }

    /// Whether it can go on running under `wanted`: everything else is settings.
    pub fn serves(&self, wanted: &OrderListener) -> bool {
        self.wanted.port == wanted.port && self.wanted.cipher == wanted.cipher
    }

    pub fn device_keys(&self) -> Vec<[u8; 32]> {
        self.machine.lock().device_keys()
    }

    fn settings(&self, key: &[u8; 32]) -> std::result::Result<Settings, (Reason, String)> {
        let admit = self.shared.verdict(&self.wanted.name, key)?;
        let content = self.shared.content.read().clone();
        let wanted = content.as_ref().and_then(|content| {
            let listener = content.order.content.listeners.iter().find(|listener| listener.name == self.wanted.name);
            listener.map(|listener| (listener.clone(), content.order.number))
        });
        let (Some((listener, number)), Some(inner)) = (wanted, admit.inner) else {
            return Err((Reason::Unknown, String::new()));
        };
        let inner =
            ipnet::Ipv4Net::new(inner, listener.pool.prefix_len()).map_err(|_| (Reason::Other, String::new()))?;
        Ok(Settings {
            edition: number as u32,
            inner: inner.into(),
            gateway: IpAddr::V4(gateway_address(&listener.pool)),
            resolvers: listener.resolvers.clone(),
            reach: listener.reach.clone(),
            packet_size: listener.packet_size,
            keep_alive: listener.keep_alive,
        })
    }

    /// A new order is in force: connected devices get its settings.
    pub fn take_settings(&self) {
        let mut machine = self.machine.lock();
        for key in machine.device_keys() {
            if let Ok(settings) = self.settings(&key) {
                if let IpAddr::V4(inner) = settings.inner.addr() {
                    self.reseat(&key, inner);
                }
                machine.change(clock::now(), &key, settings);
            }
        }
        machine.tick(clock::now());
        self.settle(machine);
    }

    /// Gives a connected device's packets their new address.
    fn reseat(&self, key: &[u8; 32], inner: Ipv4Addr) {
        let Some(seat) = self.seats.lock().values().find(|seat| seat.key == *key).cloned() else { return };
        let before = std::mem::replace(&mut *seat.inner.lock(), inner);
        if before != inner
            && let Some(own) = self.me.upgrade()
        {
            let mut seats = self.shared.seats.write();
            if seats.get(&before).is_some_and(|(there, _)| there.number == seat.number) {
                seats.remove(&before);
            }
            seats.insert(inner, (seat, own));
        }
    }

    /// Ends a device's session; whether it had one.
    pub fn end(&self, key: &[u8; 32], reason: Reason, words: &str) -> bool {
        let mut machine = self.machine.lock();
        let ended = machine.end(clock::now(), key, reason, words);
        self.settle(machine);
        ended
    }

    /// Says goodbye to everybody and stops.
    pub fn shut_down(&self) {
        let mut machine = self.machine.lock();
        machine.shut_down(clock::now());
        // Before the goodbye goes out: a device that comes back at once must find nobody rather than a refusal.
        self.stop.store(true, Ordering::Relaxed);
        self.settle(machine);
    }

    /// Carries out what the state machine wants, with its lock given back before anything slow.
    fn settle(&self, mut machine: parking_lot::MutexGuard<'_, Gateway>) {
        let (output, events) = (machine.take_output(), machine.take_events());
        // Lanes and seats change while the machine is held, so that no thread sees an older state later.
        let mut news = Vec::new();
        for event in events {
            self.take(event, &mut news);
        }
        drop(machine);
        for (to, datagram) in output {
            self.udp.send(to, &datagram);
        }
        for event in news {
            self.shared.note(event);
        }
    }

    fn device_of(&self, key: &[u8; 32]) -> Option<String> {
        let content = self.shared.content.read().clone()?;
        let admit = content.admit.get(&(self.wanted.name.clone(), *key)).map(|admit| admit.device.clone());
        admit.or_else(|| {
            self.shared.keep.lock().revoked().get(&PublicKey(*key).to_string()).map(|revoked| revoked.device.clone())
        })
    }

    fn take(&self, event: Event, news: &mut Vec<NewsEvent>) {
        match event {
            Event::LaneAdded(lane) => drop(self.lanes.write().insert(lane.own, lane)),
            Event::LaneRemoved(id) => drop(self.lanes.write().remove(&id)),
            Event::Opened { device_key, lane, from, software, settings } => {
                let IpAddr::V4(inner) = settings.inner.addr() else { return };
                let device = self.device_of(&device_key).unwrap_or_default();
                tracing::info!(device, %from, %inner, "session opened");
                let seat = Arc::new(Seat {
                    number: lane.session,
                    key: device_key,
                    device: device.clone(),
                    listener: self.wanted.name.clone(),
                    inner: Mutex::new(inner),
                    from: Mutex::new(from),
                    opened: Timestamp::now(),
                    software,
                    lane: RwLock::new(lane),
                });
                news.push(NewsEvent::Opened {
                    session: seat.number,
                    device,
                    key: PublicKey(device_key),
                    listener: self.wanted.name.clone(),
                    from: from.to_string(),
                    inner,
                });
                self.seats.lock().insert(seat.number, seat.clone());
                if let Some(own) = self.me.upgrade() {
                    self.shared.seats.write().insert(inner, (seat, own));
                }
            }
            Event::Renewed { lane, .. } => {
                if let Some(seat) = self.seats.lock().get(&lane.session) {
                    *seat.lane.write() = lane;
                }
            }
            Event::Moved { session, to, .. } => {
                if let Some(seat) = self.seats.lock().get(&session) {
                    *seat.from.lock() = to;
                    tracing::info!(device = seat.device, %to, "session moved");
                    news.push(NewsEvent::Moved { session, to: to.to_string() });
                }
            }
            Event::Ended { session, reason, words, .. } => {
                let Some(seat) = self.seats.lock().remove(&session) else { return };
                let mut seats = self.shared.seats.write();
                let inner = *seat.inner.lock();
                if seats.get(&inner).is_some_and(|(there, _)| there.number == session) {
                    seats.remove(&inner);
                }
                drop(seats);
                tracing::info!(device = seat.device, reason = reason.word(), words, "session ended");
                self.shared.spend(&seat.listener, &seat.key, &seat.device, reason);
                let live = seat.live();
                news.push(NewsEvent::Ended {
                    session,
                    device: live.device,
                    reason: reason.word().into(),
                    words,
                    received: live.received,
                    sent: live.sent,
                    last_heard: live.last_heard,
                });
            }
            Event::Refused { device_key, from, reason } => {
                let device = self.device_of(&device_key);
                tracing::warn!(?device, %from, reason = reason.word(), "refused");
                news.push(NewsEvent::Refused { device, from: from.to_string(), reason: reason.word().into() });
            }
        }
    }

    /// One thread: what devices send goes to the site, and timers run.
    fn run(self: Arc<Self>) {
        let mut receiver = Receiver::default();
        let mut batch = Batch::default();
        let mut next_tick = clock::now();
        while !self.stop.load(Ordering::Relaxed) {
            if self.udp.wait(Duration::from_millis(100)) {
                let plane = self.shared.plane.read().clone();
                receiver.receive(&self.udp, |from, datagram| {
                    self.datagram(from, datagram, &mut batch);
                    if batch.is_full()
                        && let Some(plane) = &plane
                    {
                        plane.deliver(&mut batch);
                    }
                });
                if let Some(plane) = &plane {
                    plane.deliver(&mut batch);
                }
            }
            let now = clock::now();
            if now >= next_tick {
                let mut machine = self.machine.lock();
                next_tick = machine.tick(now);
                self.settle(machine);
            }
        }
        tracing::info!(listener = self.wanted.name, "listener closed");
    }

    fn datagram(&self, from: SocketAddr, datagram: &mut [u8], batch: &mut Batch) {
        // What arrives after the goodbye is for a listener that may have taken the port over; devices repeat it.
        if self.stop.load(Ordering::Relaxed) {
            return;
        }
        let Some(id) = ConnectionId::of(datagram) else { return };
        let now = clock::now();
        let lane = self.lanes.read().get(&id).cloned();
        let Some(lane) = lane else {
            let mut machine = self.machine.lock();
            if self.stop.load(Ordering::Relaxed) {
                return;
            }
            machine.opening(now, from, datagram, &Door(self));
            self.settle(machine);
            return;
        };
        let Ok(body) = lane.open(now, datagram) else { return };
        if lane.needs_attention(from) {
            let mut machine = self.machine.lock();
            let take = machine.heard(now, &lane, from);
            self.settle(machine);
            if !take {
                return;
            }
        }
        for frame in frames(body) {
            match frame {
                Ok(Frame::Data(packet)) => {
                    // A device speaks only from its own address.
                    let seat = self.shared.seats.read();
                    let own = ipv4_ends(packet).is_some_and(|(source, _)| {
                        seat.get(&source).is_some_and(|(seat, _)| seat.number == lane.session)
                    });
                    drop(seat);
                    if own {
                        lane.count_received(packet.len());
                        batch.push(packet);
                    }
                }
                Ok(frame) => {
                    let mut machine = self.machine.lock();
                    machine.control(now, &lane, from, frame);
                    self.settle(machine);
                }
                Err(_) => return,
            }
        }
    }
}
