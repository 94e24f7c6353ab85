//! What phones and computers have built in: two UDP ports, the responder of IKE with a thread of its own, ESP in the thread that moves
//! packets.

use std::collections::{HashMap, HashSet};
use std::net::{IpAddr, Ipv6Addr, SocketAddr};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Duration;

use parking_lot::{Mutex, MutexGuard, RwLock};
use yestrel_core::admission::Reason as Why;
use yestrel_core::firewall::Service;
use yestrel_core::keys::PublicKey;
use yestrel_core::order::OrderListener;
use yestrel_core::tunnel::{self, ikev2};
use yestrel_core::{Problem, Result};
use yestrel_net::clock;
use yestrel_net::packets::{Batch, Receiver, Udp};
use yestrel_net::seats::{Called, Carrier, Seat, Under};
use yestrel_wire::Moment;
use yestrel_wire::budget::Quiet;
use yestrel_wire::esp::ecn;
use yestrel_wire::esp::pair::Pair;
use yestrel_wire::ike::gateway::{Config, Gateway, lets_by};
use yestrel_wire::ike::state::{Door, Event};

use super::kind::{inward, thread};
use super::papers::{Papers, machine_reason, reason, words_of};
use super::queue::Queue;
use super::strangers::{ENOUGH, GATHER, Strangers, Unknown};
use super::{Ground, Kind, Tunnel};
use crate::admit::Shared;

/// What stands before IKE at the port that ESP shares (RFC 3948 section 2.2).
const MARKER: [u8; 4] = [0; 4];
/// A sign of life of what translates, which says nothing (RFC 3948 section 2.3).
const KEEP_ALIVE: [u8; 1] = [0xff];
/// Where a message says its exchange; the first exchange is anybody's.
const EXCHANGE_AT: usize = 18;
const FIRST_EXCHANGE: u8 = 34;

/// The kind.
pub struct Ikev2Kind;

/// A pair, and whose it is once they are in.
struct Held {
    pair: Arc<Pair>,
    seat: Option<Arc<Seat>>,
    /// The thread of IKE is to look at it, and has not yet.
    told: Arc<AtomicBool>,
}

/// A running listener.
pub struct Ikev2 {
    listener: OrderListener,
    called: Arc<Called>,
    doors: [Arc<Udp>; 2],
    machine: Mutex<Gateway>,
    /// Whether openings are let go unread.
    quiet: Arc<Quiet>,
    papers: Papers,
    /// What waits for the thread of IKE.
    work: Queue<Work>,
    pairs: RwLock<HashMap<u32, Held>>,
    /// SPIs of associations that are up: their messages come before those of strangers.
    known: RwLock<HashSet<u64>>,
    shared: Arc<Shared>,
    stop: AtomicBool,
}

enum Work {
    Message {
        door: Door,
        from: SocketAddr,
        message: Vec<u8>,
    },
    /// A packet of this pair says something: it is the first, the keys are worn, or, with `newest`, its sender is elsewhere.
    Packet {
        pair: Arc<Pair>,
        from: SocketAddr,
        newest: bool,
        worn: bool,
        told: Arc<AtomicBool>,
    },
}

impl Kind for Ikev2Kind {
    fn word(&self) -> &str {
        ikev2::WORD
    }

    fn open(&self, listener: &OrderListener, ground: &Ground, leaving: &[Arc<dyn Tunnel>]) -> Result<Arc<dyn Tunnel>> {
        let cannot = |why: &str| Problem::refused(format!("the listener {} cannot be opened", listener.name)).why(why);
        let tunnel::Tunnel::Ikev2(own) = &listener.tunnel else {
            return Err(cannot("it is of another kind of tunnel"));
        };
        let [first, second] = listener.serves[..] else { return Err(cannot("the tunnel ikev2 has two UDP ports")) };
        let bind = |service: Service| {
            let Service::Port(_, port) = service else { return Err(cannot("the tunnel ikev2 has two UDP ports")) };
            let address = SocketAddr::new(ground.bind.unwrap_or(IpAddr::V6(Ipv6Addr::UNSPECIFIED)), port);
            let bound = match leaving.iter().find_map(|leaving| leaving.lend(service)) {
                Some(lent) => Ok(lent),
                None => Udp::bind(address),
            };
            bound.map(Arc::new).map_err(|error| {
                let problem = Problem::refused(format!("port {service} of {} cannot be opened", listener.name));
                match error.kind() {
                    std::io::ErrorKind::AddrInUse => problem
                        .why("another program on the host has it, and built-in clients dial no other")
                        .try_("yestrel host probe   names the program; stop it, or use another host for this gateway"),
                    _ => problem.why(error.to_string()),
                }
            })
        };
        let called = Called::new(&listener.name);
        let papers = Papers::new(listener, &called, ground)?;
        let seats = ground.shared.seats.clone();
        let renew = own.renew_after.map(|seconds| u64::from(seconds) * 1_000);
        let config = renew.map_or_else(Config::default, |renew| Config {
            renew_pair: renew,
            renew_self: 2 * renew,
            ..Config::default()
        });
        let machine = Gateway::new(config, Box::new(move || seats.number()), clock::SystemRandom::boxed());
        let running = Arc::new(Ikev2 {
            listener: listener.clone(),
            called,
            doors: [bind(first)?, bind(second)?],
            quiet: machine.quiet(),
            machine: Mutex::new(machine),
            papers,
            work: Queue::default(),
            pairs: RwLock::default(),
            known: RwLock::default(),
            shared: ground.shared.clone(),
            stop: AtomicBool::new(false),
        });
        let (talking, greeting, moving) = (running.clone(), running.clone(), running.clone());
        let started = thread("ike", move || talking.talk())
            .and_then(|()| thread("ike-first", move || greeting.first_port()))
            .and_then(|()| thread("from-devices", move || moving.second_port()));
        if let Err(problem) = started {
            running.stop.store(true, Ordering::Relaxed);
            return Err(problem);
        }
        tracing::info!(listener = listener.name, "listener open");
        Ok(running)
    }
}

impl Tunnel for Ikev2 {
    fn called(&self) -> &Called {
        &self.called
    }

    fn serves(&self, listener: &OrderListener) -> bool {
        self.listener.serves == listener.serves && self.listener.tunnel.goes_on_as(&listener.tunnel)
    }

    fn services(&self) -> Vec<Service> {
        let bound = |udp: &Arc<Udp>| udp.local_addr().ok().map(|address| Service::udp(address.port()));
        self.doors.iter().filter_map(bound).collect()
    }

    fn refresh(&self) {
        let order = self.shared.in_force();
        let Some(listener) = order.as_ref().and_then(|order| order.roll.listener(&self.called.now())) else { return };
        self.papers.refresh(listener);
        let mut machine = self.machine.lock();
        let sessions: Vec<_> = machine.sessions().collect();
        for (number, credential) in sessions {
            // Its own addresses cannot change under a client of this protocol: it signs in again. Where it may go the data path knows.
            let coming = self.shared.coming_again(PublicKey(credential));
            let Ok(granted) = self.shared.grant(&self.called.now(), coming) else {
                continue;
            };
            if machine.inner_of(number).is_some_and(|inner| inner != granted.inner) {
                machine.end(clock::now(), number, machine_reason(Why::Administrator), "its inner address has changed");
            }
        }
        self.settle(machine);
    }

    fn end(&self, seat: &Seat, why: Why, words: &str) -> bool {
        let mut machine = self.machine.lock();
        let ended = machine.end(clock::now(), seat.number, machine_reason(why), words);
        self.settle(machine);
        ended
    }

    fn close(&self) {
        let mut machine = self.machine.lock();
        machine.shut_down(clock::now());
        self.stop.store(true, Ordering::Relaxed);
        self.settle(machine);
    }

    fn lend(&self, service: Service) -> Option<Udp> {
        let bound = |udp: &&Arc<Udp>| udp.local_addr().is_ok_and(|address| Service::udp(address.port()) == service);
        self.doors.iter().find(bound).and_then(|udp| udp.share().ok())
    }
}

impl Ikev2 {
    /// Carries out what the state machine wants, with its lock given back before anything slow.
    fn settle(&self, mut machine: MutexGuard<'_, Gateway>) {
        loop {
            let events = machine.take_events();
            if events.is_empty() {
                break;
            }
            for event in events {
                if let Some((session, why, words)) = self.happened(event) {
                    machine.end(clock::now(), session, machine_reason(why), &words);
                }
            }
        }
        let out = machine.take_output();
        drop(machine);
        for one in out {
            match one.door {
                Door::First => self.doors[0].send(one.to, &one.bytes),
                Door::Second => self.doors[1].send(one.to, &[&MARKER[..], &one.bytes].concat()),
            }
        }
    }

    /// Carries out and notes what has happened; gives a session that has begun and may not.
    fn happened(&self, event: Event) -> Option<(u64, Why, String)> {
        match event {
            Event::PairAdded(pair) => {
                let seat = self.shared.seats.get(pair.session);
                self.pairs.write().insert(pair.own, Held { pair, seat, told: Arc::default() });
            }
            Event::PairRemoved(spi) => drop(self.pairs.write().remove(&spi)),
            Event::Known(spi) => drop(self.known.write().insert(spi)),
            Event::Forgotten(spi) => drop(self.known.write().remove(&spi)),
            Event::Opened { session, granted, from, software, pair } => {
                let identity = PublicKey(granted.credential);
                if let Err(refusal) = self.shared.welcome(&self.called.now(), identity, from) {
                    self.shared.refused(&self.called.now(), Some(identity), from, refusal.reason, &refusal.words);
                    return Some((session, refusal.reason, refusal.words));
                }
                let device = self.shared.device_of(&identity).unwrap_or_default();
                let (counters, carrier) = (pair.counters.clone(), self.carrier(&pair));
                let (inners, listener) = (granted.settings.inners(), &self.called);
                let seat = Seat::new(session, identity, &device, listener, inners, from, &software, counters, carrier);
                if let Some(held) = self.pairs.write().get_mut(&pair.own) {
                    held.seat = Some(seat.clone());
                }
                self.shared.seat(seat, 0);
            }
            Event::Serves { session, pair } => {
                if let Some(seat) = self.shared.seats.get(session) {
                    seat.set_carrier(self.carrier(&pair));
                }
            }
            Event::Moved { session, to } => self.shared.moved(session, to),
            Event::Ended { session, reason: why, words, .. } => self.shared.unseat(session, reason(why), &words),
            Event::Refused { from, refusal } => {
                let identity = refusal.credential.map(PublicKey);
                self.shared.refused(&self.called.now(), identity, from, reason(refusal.reason), &words_of(&refusal));
            }
            // This end calls nobody.
            Event::Failed { .. } => {}
        }
        None
    }

    fn carrier(&self, pair: &Arc<Pair>) -> Arc<dyn Carrier> {
        Arc::new(Under { keys: pair.clone(), udp: self.doors[1].clone() })
    }

    /// One thread: IKE is answered, and its timers run.
    fn talk(self: Arc<Self>) {
        while !self.stop.load(Ordering::Relaxed) {
            let work = self.work.take(Duration::from_millis(100));
            let now = clock::now();
            let mut machine = self.machine.lock();
            match work {
                Some(Work::Message { door, from, message }) => {
                    machine.receive(now, door, from, &message, &self.papers);
                }
                Some(Work::Packet { pair, from, newest, worn, told }) => {
                    told.store(false, Ordering::Relaxed);
                    machine.heard_in(now, pair.own);
                    if newest {
                        machine.moved(now, pair.session, from);
                    }
                    if worn {
                        machine.worn(now, pair.own);
                    }
                }
                None => {}
            }
            if machine.deadline().is_some_and(|at| at <= now) {
                machine.tick(now);
            }
            if self.stop.load(Ordering::Relaxed) {
                return;
            }
            self.settle(machine);
        }
    }

    /// Gives a message to the thread of IKE; whether it is of somebody who is in.
    fn queue(&self, door: Door, from: SocketAddr, message: &[u8]) -> bool {
        let Some(exchange) = message.get(EXCHANGE_AT) else { return false };
        if !lets_by(&self.quiet, clock::now(), from, message) {
            return false;
        }
        let spis =
            || [&message[..8], &message[8..16]].map(|spi| u64::from_be_bytes(spi.try_into().unwrap_or_default()));
        let known = *exchange != FIRST_EXCHANGE && {
            let known = self.known.read();
            spis().iter().any(|spi| known.contains(spi))
        };
        self.work.push(known, Work::Message { door, from, message: message.to_vec() });
        known
    }

    /// One thread: what comes at the port for the first exchange.
    fn first_port(self: Arc<Self>) {
        let (mut receiver, mut strangers) = (Receiver::default(), Strangers::default());
        while !self.stop.load(Ordering::Relaxed) {
            if self.doors[0].wait(Duration::from_millis(100)) {
                let mut unknown = 0;
                let received = receiver.receive(&self.doors[0], |from, datagram| {
                    unknown += u32::from(!self.queue(Door::First, from, datagram));
                });
                if strangers.flood(clock::now(), Unknown { all: unknown, callers: 0 }, false) && received < ENOUGH {
                    std::thread::sleep(10 * GATHER);
                }
            }
        }
    }

    /// One thread: what devices send goes to the site.
    fn second_port(self: Arc<Self>) {
        let (mut receiver, mut batch) = (Receiver::default(), Batch::default());
        while !self.stop.load(Ordering::Relaxed) {
            if !self.doors[1].wait(Duration::from_millis(100)) {
                continue;
            }
            let (plane, now) = (self.shared.plane(), clock::now());
            inward(&mut receiver, &self.doors[1], plane.as_deref(), &mut batch, |from, mark, datagram, batch| {
                self.datagram(now, from, mark, datagram, batch);
            });
        }
        tracing::info!(listener = &*self.called.now(), "listener closed");
    }

    fn datagram(&self, now: Moment, from: SocketAddr, mark: u8, datagram: &mut [u8], batch: &mut Batch) {
        if self.stop.load(Ordering::Relaxed) || *datagram == KEEP_ALIVE {
            return;
        }
        if let Some(message) = datagram.strip_prefix(&MARKER) {
            self.queue(Door::Second, from, message);
            return;
        }
        let Some(spi) = Pair::spi(datagram) else { return };
        let held = self.pairs.read().get(&spi).map(|held| (held.pair.clone(), held.seat.clone(), held.told.clone()));
        let Some((pair, seat, told)) = held else { return };
        let before = pair.is_heard();
        let Ok((packet, newest)) = pair.open(now, datagram) else { return };
        let worn = pair.take_worn();
        // Nothing here waits for the thread of IKE, which may be in the middle of a signature.
        if (!before || (newest && pair.path.get() != from) || worn) && !told.swap(true, Ordering::Relaxed) {
            let packet = Work::Packet { pair: pair.clone(), from, newest, worn, told: told.clone() };
            if !self.work.push(true, packet) {
                told.store(false, Ordering::Relaxed);
            }
        }
        if !ecn::take_over(packet, mark) {
            return;
        }
        // A device speaks only from its own address, and only to where it may go.
        if seat.as_ref().is_some_and(|seat| seat.passes(packet)) {
            pair.count_received(packet.len());
            batch.push(packet);
        }
    }
}
