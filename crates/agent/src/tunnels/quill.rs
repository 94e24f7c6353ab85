//! Yestrel's own tunnel: a UDP port, its state machine, the thread that moves its packets, and the one that does its handshakes.

use std::collections::{HashMap, HashSet};
use std::net::{IpAddr, Ipv6Addr, SocketAddr};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Duration;

use parking_lot::{Mutex, MutexGuard, RwLock};
use yestrel_core::admission::{Reason as Why, Refusal, Shown, second_factor_purpose};
use yestrel_core::exchange::NewsEvent;
use yestrel_core::firewall::{Protocol, Service};
use yestrel_core::keys::{PublicKey, Secret};
use yestrel_core::order::{OrderListener, PEER_CALL};
use yestrel_core::tunnel::{self, quill};
use yestrel_core::{Problem, Result};
use yestrel_net::clock;
use yestrel_net::packets::{Batch, MOST_PIECES, Receiver, Sender, Udp};
use yestrel_net::seats::{Called, Carrier, Seat, Under};
use yestrel_net::sieve::{ALL, Sieve};
use yestrel_wire::Moment;
use yestrel_wire::quill::call::Call;
use yestrel_wire::quill::door::{Door, Knock, Valid};
use yestrel_wire::quill::frame::{Frame, frames};
use yestrel_wire::quill::gateway::{Doorkeeper, Event, Gateway, Task};
use yestrel_wire::quill::hands::Hands;
use yestrel_wire::quill::handshake::{FIRST_OVERHEAD, LONGEST as LONGEST_OPENING};
use yestrel_wire::quill::lane::Lane;
use yestrel_wire::quill::message::Settings;
use yestrel_wire::quill::parcel::{AMONG_GATEWAYS, ANSWER, NOTICE, QUESTION, WORDS};
use yestrel_wire::quill::{ConnectionId, MARK_BITS, Mark, Reason, Suite};

use super::kind::{inward, thread};
use super::queue::Queue;
use super::strangers::{ENOUGH, GATHER, Strangers, Unknown};
use super::travels::{inners, number, of_a_peer, reason, settings};
use super::{Ground, Kind, Tunnel};
use crate::admit::{Coming, Shared, ends};
use crate::answers::Given;
use crate::peers::LONGEST;

/// Bytes of an answer at most: more is no code.
const LONGEST_ANSWER: usize = 64;

/// The kind.
pub struct QuillKind;

/// A lane, and the device at its other end once it has come in.
struct Held {
    lane: Arc<Lane>,
    seat: Option<Arc<Seat>>,
}

/// Way notices and a device that is here: the number of the newest that it was sent, and of the newest that it says it has.
struct Noticed {
    sent: u32,
    says: u32,
}

/// A running listener.
pub struct Quill {
    listener: OrderListener,
    called: Arc<Called>,
    udp: Arc<Udp>,
    machine: Mutex<Gateway>,
    door: Door,
    /// What waits for the thread that does handshakes.
    work: Queue<Work>,
    /// The gateway's, which opens what orders seal to it.
    private: Secret,
    lanes: RwLock<HashMap<ConnectionId, Held>>,
    noticed: Mutex<HashMap<PublicKey, Noticed>>,
    /// The keys of other gateways that are here.
    peers: Mutex<HashSet<[u8; 32]>>,
    shared: Arc<Shared>,
    stop: AtomicBool,
}

/// Somebody who has come in and may not.
struct Unwelcome {
    key: [u8; 32],
    refusal: Refusal,
}

/// What the thread that does handshakes is given.
enum Work {
    Opening(Box<Knock>),
    Second(Task),
}

/// Packets of one session go out under these keys, once its device has shown that it receives where it seems to be.
struct Proved(Under<Lane>);

impl Carrier for Proved {
    fn carry(&self, now: Moment, packet: &[u8], sender: &mut Sender) {
        if self.0.keys.is_proved() {
            self.0.carry(now, packet, sender);
        }
    }

    fn flush(&self, sender: &mut Sender) {
        self.0.flush(sender);
    }
}

struct Keeper<'a>(&'a Quill);

impl Doorkeeper for Keeper<'_> {
    fn admit(
        &self,
        key: &[u8; 32],
        from: SocketAddr,
        continues: bool,
    ) -> std::result::Result<Settings, (Reason, String)> {
        if self.0.shared.is_peer(&PublicKey(*key)) {
            return Ok(of_a_peer());
        }
        let unspent = if continues { Ok(()) } else { self.0.shared.unspent(&PublicKey(*key)) };
        unspent.map_err(|refusal| (number(refusal.reason), refusal.words))?;
        let shown = Shown::Key(PublicKey(*key));
        // A session that goes on is of its own beginning, wherever its device is now.
        let coming = match continues {
            true => Coming { shown, from: Some(from.ip()), ..self.0.shared.coming_again(PublicKey(*key)) },
            false => Coming::new(shown, from),
        };
        self.0.settings_of(coming)
    }
}

impl Kind for QuillKind {
    fn word(&self) -> &str {
        quill::WORD
    }

    fn open(&self, listener: &OrderListener, ground: &Ground, leaving: &[Arc<dyn Tunnel>]) -> Result<Arc<dyn Tunnel>> {
        let cannot = |why: &str| Problem::refused(format!("the listener {} cannot be opened", listener.name)).why(why);
        let tunnel::Tunnel::Quill(own) = &listener.tunnel else {
            return Err(cannot("it is of another kind of tunnel"));
        };
        let [service @ Service::Port(Protocol::Udp, port)] = listener.serves[..] else {
            return Err(cannot("the tunnel quill has one UDP port"));
        };
        let suite: Suite = own.cipher.word().parse().map_err(|_| cannot("this agent does not have its cipher"))?;
        let address = SocketAddr::new(ground.bind.unwrap_or(IpAddr::V6(Ipv6Addr::UNSPECIFIED)), port);
        let bound = match leaving.iter().find_map(|leaving| leaving.lend(service)) {
            Some(lent) => Ok(lent),
            None => Udp::bind(address),
        };
        let udp = bound.map_err(|error| {
            let problem = Problem::refused(format!("port {service} of {} cannot be opened", listener.name));
            match error.kind() {
                std::io::ErrorKind::AddrInUse => problem
                    .why("another program on the host has it")
                    .try_("yestrel host probe   names the program")
                    .try_(format!("yestrel listener change {} --port with a free one", listener.name)),
                _ => problem.why(error.to_string()),
            }
        })?;
        let private = ground.identity.private_key.private_key()?;
        let seats = ground.shared.seats.clone();
        let numbers = Box::new(move || seats.number());
        let quill = Arc::new(Quill {
            listener: listener.clone(),
            called: Called::new(&listener.name),
            udp: Arc::new(udp),
            machine: Mutex::new(Gateway::new(suite, numbers, clock::SystemRandom::boxed())),
            door: Door::new(&mut *clock::SystemRandom::boxed()),
            work: Queue::default(),
            private: ground.identity.private_key.clone(),
            lanes: RwLock::default(),
            noticed: Mutex::default(),
            peers: Mutex::default(),
            shared: ground.shared.clone(),
            stop: AtomicBool::new(false),
        });
        quill.open_door(listener)?;
        let hands = Hands::new(suite, private, clock::SystemRandom::boxed());
        let (moving, greeting) = (quill.clone(), quill.clone());
        thread("handshakes", move || greeting.greet(hands))?;
        if let Err(problem) = thread("from-devices", move || moving.run()) {
            quill.stop.store(true, Ordering::Relaxed);
            return Err(problem);
        }
        tracing::info!(listener = listener.name, port, "listener open");
        Ok(quill)
    }
}

impl Tunnel for Quill {
    fn called(&self) -> &Called {
        &self.called
    }

    fn serves(&self, listener: &OrderListener) -> bool {
        self.listener.serves == listener.serves && self.listener.tunnel.goes_on_as(&listener.tunnel)
    }

    fn services(&self) -> Vec<Service> {
        let bound = self.udp.local_addr().ok().map(|address| Service::udp(address.port()));
        bound.into_iter().collect()
    }

    fn refresh(&self) {
        let in_force = self.shared.in_force();
        if let Some(listener) = in_force.as_ref().and_then(|in_force| in_force.roll.listener(&self.called.now()))
            && let Err(problem) = self.open_door(listener)
        {
            tracing::error!(listener = listener.name, "the call secrets stay as they were: {}", problem.line());
        }
        let mut machine = self.machine.lock();
        let gone: Vec<_> =
            self.peers.lock().iter().filter(|key| !self.shared.is_peer(&PublicKey(**key))).copied().collect();
        for key in gone {
            machine.end(clock::now(), &key, Reason::Unknown, "");
        }
        for key in machine.device_keys() {
            let coming = self.shared.coming_again(PublicKey(key));
            if let Ok(settings) = self.settings_of(Coming { shown: Shown::Key(PublicKey(key)), ..coming }) {
                if let Some(session) = machine.session_of(&key) {
                    self.shared.seats.reseat(session, inners(&settings));
                }
                machine.change(clock::now(), &key, settings);
                self.bring_notice(&mut machine, &key);
            }
        }
        machine.tick(clock::now());
        self.settle(machine);
    }

    fn tell_peer(&self, peer: &PublicKey, bytes: &[u8]) {
        let mut machine = self.machine.lock();
        machine.send_parcel(clock::now(), &peer.0, AMONG_GATEWAYS, bytes.into());
        machine.tick(clock::now());
        self.settle(machine);
    }

    fn say(&self, words: &str) {
        let mut machine = self.machine.lock();
        for key in machine.device_keys() {
            machine.send_parcel(clock::now(), &key, WORDS, words.as_bytes().into());
        }
        machine.tick(clock::now());
        self.settle(machine);
    }

    fn tell(&self, seat: &Seat) {
        let mut machine = self.machine.lock();
        self.tell_settings(&mut machine, seat);
        machine.tick(clock::now());
        self.settle(machine);
    }

    fn ask(&self, seat: &Seat, question: &str) {
        let mut machine = self.machine.lock();
        self.put_question(&mut machine, &seat.identity.0, question);
        machine.tick(clock::now());
        self.settle(machine);
    }

    fn end(&self, seat: &Seat, reason: Why, words: &str) -> bool {
        let mut machine = self.machine.lock();
        let ended = machine.end(clock::now(), &seat.identity.0, number(reason), words);
        self.settle(machine);
        ended
    }

    fn close(&self) {
        let mut machine = self.machine.lock();
        machine.shut_down(clock::now());
        // Before the goodbye goes out: a device that comes back at once must find nobody rather than a refusal.
        self.stop.store(true, Ordering::Relaxed);
        self.settle(machine);
    }

    fn lend(&self, service: Service) -> Option<Udp> {
        if self.services().contains(&service) { self.udp.share().ok() } else { None }
    }
}

impl Quill {
    fn settings_of(&self, coming: Coming<'_>) -> std::result::Result<Settings, (Reason, String)> {
        let granted = self.shared.grant(&self.called.now(), coming);
        granted.map(|granted| settings(granted.settings())).map_err(|refusal| (number(refusal.reason), refusal.words))
    }

    /// From now on the call secrets of an order open the door.
    fn open_door(&self, listener: &OrderListener) -> Result<()> {
        let calls = listener.tunnel.calls().unwrap_or_default();
        let (wall, now) = (jiff::Timestamp::now(), clock::now());
        let valid = calls.iter().map(|call| {
            let left = |until: jiff::Timestamp| until.duration_since(wall).as_millis();
            let until = call.until.map(|until| now.after(u64::try_from(left(until)).unwrap_or(0)));
            Ok(Valid { number: call.number, call: Call::new(&*call.open(&listener.name, &self.private)?), until })
        });
        let mut valid: Vec<_> = valid.collect::<Result<_>>()?;
        // By another secret the estate's gateways call on each other.
        if let Some(in_force) = self.shared.in_force()
            && let Some(call) = &in_force.roll.settings().peer_call
        {
            let call = call.open(&self.private, PEER_CALL)?;
            valid.push(Valid { number: 0, call: Call::new(&*call.private_key()?), until: None });
        }
        self.door.set_calls(valid);
        Ok(())
    }

    /// Carries out what the state machine wants, with its lock given back before anything slow.
    fn settle(&self, mut machine: MutexGuard<'_, Gateway>) {
        let mut output = Vec::new();
        loop {
            // Lanes and seats change while the machine is held, so that no thread sees an older state later.
            let events = machine.take_events();
            if events.is_empty() {
                break;
            }
            for event in events {
                let Some(event) = self.of_peers(&mut machine, event) else { continue };
                if let Event::Parcel { device_key, bytes, .. } = &event {
                    self.answered(&mut machine, device_key, bytes);
                    continue;
                }
                let opened = matches!(event, Event::Opened { .. });
                let device = match &event {
                    Event::Opened { device_key, .. } | Event::Renewed { device_key, .. } => Some(*device_key),
                    _ => None,
                };
                // Revoked, or used up elsewhere, since it was answered.
                if let Err(Unwelcome { key, refusal }) = self.happened(event) {
                    machine.end(clock::now(), &key, number(refusal.reason), &refusal.words);
                } else if let Some(key) = device {
                    self.bring_notice(&mut machine, &key);
                    let seat = self.shared.seats.of_identity(&PublicKey(key)).into_iter().next();
                    if let Some(question) = seat.and_then(|seat| self.shared.question(&seat)) {
                        self.put_question(&mut machine, &key, question);
                    }
                    if opened && let Some((until, true)) = self.shared.holds_until() {
                        machine.send_parcel(clock::now(), &key, WORDS, ends(until).as_bytes().into());
                    }
                }
            }
        }
        output.append(&mut machine.take_output());
        let tasks = machine.take_tasks();
        drop(machine);
        for task in tasks {
            self.work.push(true, Work::Second(task));
        }
        for (to, datagram) in output {
            self.udp.send(to, &datagram);
        }
    }

    /// What concerns other gateways is dealt with here; gives what does not.
    fn of_peers(&self, machine: &mut Gateway, event: Event) -> Option<Event> {
        let mut here = self.peers.lock();
        match event {
            Event::Opened { device_key, .. } if self.shared.is_peer(&PublicKey(device_key)) => {
                here.insert(device_key);
                machine.expect(&device_key, LONGEST);
                self.shared.heard(&self.called.now(), PublicKey(device_key), Vec::new());
                None
            }
            Event::Renewed { device_key, .. } | Event::Moved { device_key, .. } if here.contains(&device_key) => None,
            Event::Ended { device_key, .. } if here.remove(&device_key) => None,
            Event::Parcel { device_key, kind: AMONG_GATEWAYS, bytes } if here.contains(&device_key) => {
                self.shared.heard(&self.called.now(), PublicKey(device_key), bytes);
                None
            }
            Event::Parcel { device_key, kind: ANSWER, .. } if !here.contains(&device_key) => Some(event),
            Event::Parcel { .. } => None,
            other => Some(other),
        }
    }

    /// What the device of a session is told now.
    fn tell_settings(&self, machine: &mut Gateway, seat: &Seat) {
        let coming = Coming { shown: Shown::Key(seat.identity), ..Coming::of(seat) };
        if let Ok(settings) = self.settings_of(coming) {
            machine.change(clock::now(), &seat.identity.0, settings);
        }
    }

    /// The person at a device is asked for something.
    fn put_question(&self, machine: &mut Gateway, key: &[u8; 32], question: &str) {
        machine.expect(key, LONGEST_ANSWER);
        machine.send_parcel(clock::now(), key, QUESTION, question.as_bytes().into());
    }

    /// The person at a device has answered.
    fn answered(&self, machine: &mut Gateway, key: &[u8; 32], answer: &[u8]) {
        let identity = PublicKey(*key);
        let Some(seat) = self.shared.seats.of_identity(&identity).into_iter().next() else { return };
        let Ok(admission) = self.shared.decide(&seat.listener(), Coming::of(&seat)) else { return };
        let answers = &self.shared.answers;
        let now = clock::shown();
        if !answers.owes(&identity, Some(seat.number), &admission.terms, now) {
            return;
        }
        let secret = admission.second.map(|sealed| sealed.open(&self.private, &second_factor_purpose(&identity)));
        let given = match secret {
            Some(Ok(secret)) => answers.give(&identity, seat.number, &secret, &String::from_utf8_lossy(answer), now),
            _ => Given::Over(Refusal { reason: Why::Policy, words: "its second factor is not known here".into() }),
        };
        let refused = |words: &str, reason: Why| {
            self.shared.refused(&self.called.now(), Some(identity), seat.from(), reason, words);
        };
        match given {
            Given::Right => {
                tracing::info!(device = seat.device(), "a second factor was answered");
                self.shared.bound(&seat);
                self.shared.arrived(&seat);
                self.tell_settings(machine, &seat);
                machine.send_parcel(clock::now(), key, QUESTION, [].into());
            }
            Given::Wrong(question) => {
                refused("a second factor was answered wrongly", Why::Policy);
                self.put_question(machine, key, &question);
            }
            Given::Over(refusal) => {
                refused(&refusal.words, refusal.reason);
                machine.end(clock::now(), key, number(refusal.reason), &refusal.words);
            }
        }
    }

    /// A way notice that a device does not know yet goes to it.
    fn bring_notice(&self, machine: &mut Gateway, key: &[u8; 32]) {
        let mut noticed = self.noticed.lock();
        let Some(noticed) = noticed.get_mut(&PublicKey(*key)) else { return };
        if let Some((number, sealed)) = self.shared.notice_for(&PublicKey(*key), noticed.sent)
            && machine.send_parcel(clock::now(), key, NOTICE, sealed)
        {
            noticed.sent = number;
        }
    }

    /// Carries out and notes what has happened; or says that whoever has come in is to be thrown out.
    fn happened(&self, event: Event) -> std::result::Result<(), Unwelcome> {
        match event {
            Event::LaneAdded(lane) => {
                self.lanes.write().insert(lane.own, Held { lane, seat: None });
            }
            Event::LaneRemoved(id) => {
                self.lanes.write().remove(&id);
            }
            Event::Opened { device_key, lane, from, software, settings, stale, notice } => {
                let identity = PublicKey(device_key);
                if let Err(refusal) = self.shared.welcome(&self.called.now(), identity, from) {
                    self.shared.refused(&self.called.now(), Some(identity), from, refusal.reason, &refusal.words);
                    return Err(Unwelcome { key: device_key, refusal });
                }
                let device = self.shared.device_of(&identity).unwrap_or_default();
                if stale {
                    tracing::warn!(device, "it calls with a secret that has been renewed: its handover is stale");
                }
                let (counters, carrier) = (lane.counters.clone(), self.carrier(&lane));
                let (number, inners, listener) = (lane.session, inners(&settings), &self.called);
                let seat = Seat::new(number, identity, &device, listener, inners, from, &software, counters, carrier);
                self.sit(&lane, &seat);
                self.noticed.lock().insert(identity, Noticed { sent: notice, says: notice });
                self.shared.seat(seat, notice);
            }
            Event::Renewed { device_key, lane, notice, .. } => {
                let identity = PublicKey(device_key);
                // What it was sent and still does not have is sent again.
                let before = self.noticed.lock().insert(identity, Noticed { sent: notice, says: notice });
                if before.is_none_or(|before| before.says < notice) && notice > 0 {
                    self.shared.note(NewsEvent::Noticed { identity, notice });
                }
                if let Some(seat) = self.shared.seats.get(lane.session) {
                    seat.set_carrier(self.carrier(&lane));
                    self.sit(&lane, &seat);
                }
            }
            Event::Moved { session, to, .. } => self.shared.moved(session, to),
            Event::Ended { device_key, session, reason: number, words } => {
                self.noticed.lock().remove(&PublicKey(device_key));
                self.shared.unseat(session, reason(number), &words);
            }
            // Of other gateways, and dealt with.
            Event::Parcel { .. } => {}
            Event::Refused { device_key, from, reason: number, words } => {
                self.shared.refused(&self.called.now(), Some(PublicKey(device_key)), from, reason(number), &words);
            }
        }
        Ok(())
    }

    fn carrier(&self, lane: &Arc<Lane>) -> Arc<dyn Carrier> {
        Arc::new(Proved(Under { keys: lane.clone(), udp: self.udp.clone() }))
    }

    /// Packets on this lane are this device's.
    fn sit(&self, lane: &Arc<Lane>, seat: &Arc<Seat>) {
        if let Some(held) = self.lanes.write().get_mut(&lane.own) {
            held.seat = Some(seat.clone());
        }
    }

    /// One thread: openings are answered.
    fn greet(self: Arc<Self>, mut hands: Hands) {
        while !self.stop.load(Ordering::Relaxed) {
            let Some(work) = self.work.take(Duration::from_millis(100)) else { continue };
            let now = clock::now();
            match work {
                Work::Opening(knock) => {
                    if let Some(again) = hands.opening(now, &knock, &self.door, &self.machine, &Keeper(&self)) {
                        self.udp.send(knock.from, &again);
                        continue;
                    }
                }
                Work::Second(task) => hands.second(now, &task, &self.machine),
            }
            let machine = self.machine.lock();
            if self.stop.load(Ordering::Relaxed) {
                return;
            }
            self.settle(machine);
        }
    }

    /// One thread: what devices send goes to the site, and timers run.
    fn run(self: Arc<Self>) {
        let mut receiver = Receiver::default();
        let mut batch = Batch::default();
        let mut strangers = Strangers::default();
        let mark = self.machine.lock().mark();
        let mut share = ALL;
        while !self.stop.load(Ordering::Relaxed) {
            if self.udp.wait(Duration::from_millis(100)) {
                let plane = self.shared.plane();
                let mut unknown = 0;
                let received =
                    inward(&mut receiver, &self.udp, plane.as_deref(), &mut batch, |from, _, datagram, batch| {
                        unknown += u32::from(!self.datagram(from, datagram, batch));
                    });
                let unknown = Unknown { all: unknown, callers: self.door.tagged() };
                let flooded = strangers.flood(clock::now(), unknown, received >= MOST_PIECES);
                if flooded && received < ENOUGH {
                    std::thread::sleep(GATHER);
                }
            } else {
                strangers.flood(clock::now(), Unknown::default(), false);
            }
            if share != strangers.share() {
                share = strangers.share();
                if let Err(error) = self.sift(mark, share) {
                    tracing::warn!(
                        listener = &*self.called.now(),
                        "strangers flood the port, and the system drops nothing for this program: {error}"
                    );
                    strangers.do_without();
                    share = ALL;
                }
            }
            match strangers.says(clock::now()) {
                Some(true) => tracing::warn!(
                    listener = &*self.called.now(),
                    "strangers flood the port: of {ALL} who may call for the first time, {share} are heard"
                ),
                Some(false) => tracing::info!(listener = &*self.called.now(), "nobody floods the port any more"),
                None => {}
            }
            let mut machine = self.machine.lock();
            let now = clock::now();
            if machine.deadline().is_some_and(|at| at <= now) {
                machine.tick(now);
                self.settle(machine);
            }
        }
        tracing::info!(listener = &*self.called.now(), "listener closed");
    }

    /// Has the system drop what no opening can be, and all but a share of what may be one: `share` of [`ALL`].
    fn sift(&self, mark: Mark, share: u32) -> std::io::Result<()> {
        let [shortest, longest] =
            [FIRST_OVERHEAD, LONGEST_OPENING].map(|length| u32::try_from(length).unwrap_or(u32::MAX));
        let (factors, want) = (mark.factors, mark.want);
        let sieve = Sieve { factors, want, bits: MARK_BITS, lengths: shortest..=longest, share };
        self.udp.sift((share < ALL).then_some(&sieve))
    }

    /// Takes one datagram; whether it is of a session that is known.
    fn datagram(&self, from: SocketAddr, datagram: &mut [u8], batch: &mut Batch) -> bool {
        // What arrives after the goodbye is for a listener that may have taken the port over; devices repeat it.
        if self.stop.load(Ordering::Relaxed) {
            return false;
        }
        let Some(id) = ConnectionId::of(datagram) else { return false };
        let now = clock::now();
        let held = self.lanes.read().get(&id).map(|held| (held.lane.clone(), held.seat.clone()));
        let Some((lane, mut seat)) = held else {
            if let Some(knock) = self.door.knock(now, from, datagram) {
                // Where few wait it does not matter who comes first, and nothing more is looked at here.
                let shows = || knock.front().is_some_and(|front| self.door.proves(now, from, &front));
                let preferred = self.work.is_crowded() && shows();
                self.work.push(preferred, Work::Opening(Box::new(knock)));
            }
            return false;
        };
        let length = datagram.len();
        let Ok(body) = lane.open(now, datagram) else { return false };
        if lane.needs_attention(from) {
            let mut machine = self.machine.lock();
            let taken = machine.heard(now, &lane, from, length);
            self.settle(machine);
            if !taken {
                return true;
            }
            // The first datagram under new keys has opened or renewed the session.
            seat = self.lanes.read().get(&id).and_then(|held| held.seat.clone());
        }
        for frame in frames(body) {
            match frame {
                Ok(Frame::Data(packet)) => {
                    // A device speaks only from its own address, and only to where it may go.
                    if seat.as_ref().is_some_and(|seat| seat.passes(packet)) {
                        lane.count_received(packet.len());
                        batch.push(packet);
                    }
                }
                Ok(frame) => {
                    let mut machine = self.machine.lock();
                    machine.control(now, &lane, from, length, frame);
                    self.settle(machine);
                }
                Err(_) => return true,
            }
        }
        true
    }
}
