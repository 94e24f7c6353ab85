//! The shuttle as an agent runs it.

use std::collections::HashMap;
use std::net::{IpAddr, SocketAddr};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Duration;

use parking_lot::Mutex;
use yestrel_agent::admit::{Coming, Shared};
use yestrel_agent::tunnels::{Ground, Kind, Tunnel};
use yestrel_core::account;
use yestrel_core::admission::{Proof, Reason, Refusal, Shown, account_purpose};
use yestrel_core::firewall::{Protocol, Service};
use yestrel_core::keys::Secret;
use yestrel_core::order::OrderListener;
use yestrel_core::{Problem, Result};
use yestrel_net::clock;
use yestrel_net::packets::{Batch, Receiver, Sender, Udp};
use yestrel_net::seats::{Called, Carrier, Seat};
use yestrel_wire::Moment;
use yestrel_wire::counters::Counters;

use crate::wire::{Message, PROTOCOL, WORD, laid, raw, received, taken};

/// The kind.
pub struct Shuttle;

/// A running listener.
struct Running {
    order: OrderListener,
    called: Arc<Called>,
    shared: Arc<Shared>,
    private_key: Secret,
    front: Udp,
    back: Arc<Udp>,
    raw: socket2::Socket,
    /// Accounts that were let in and have not yet been heard over the protocol; by session, with where they are at the front.
    coming: Mutex<HashMap<u64, (String, SocketAddr)>>,
    /// Where connected devices are at the front.
    fronts: Mutex<HashMap<u64, SocketAddr>>,
    stop: AtomicBool,
}

/// Packets of one session go to where its last one came from.
struct To {
    back: Arc<Udp>,
    session: u64,
    at: Mutex<Option<SocketAddr>>,
    counters: Arc<Counters>,
}

impl Carrier for To {
    fn carry(&self, now: Moment, packet: &[u8], sender: &mut Sender) {
        if let Some(at) = *self.at.lock() {
            self.counters.sent.fetch_add(packet.len() as u64, Ordering::Relaxed);
            self.counters.spoke.store(now.0, Ordering::Relaxed);
            sender.add(&self.back, at, packet.len() + 8, |out| {
                laid(self.session, packet, out);
                true
            });
        }
    }

    fn flush(&self, sender: &mut Sender) {
        sender.flush(&self.back);
    }
}

impl Kind for Shuttle {
    fn word(&self) -> &str {
        WORD
    }

    fn open(&self, order: &OrderListener, ground: &Ground, _: &[Arc<dyn Tunnel>]) -> Result<Arc<dyn Tunnel>> {
        let cannot = |error: std::io::Error| Problem::failed("the shuttle cannot be opened").why(error.to_string());
        let [Service::Port(Protocol::Udp, front), Service::Port(Protocol::Udp, back), Service::Ip(PROTOCOL)] =
            order.serves[..]
        else {
            return Err(Problem::refused("the shuttle has two UDP ports and a protocol"));
        };
        let at = ground.bind.unwrap_or(IpAddr::from([127, 0, 0, 1]));
        let running = Arc::new(Running {
            order: order.clone(),
            called: Called::new(&order.name),
            shared: ground.shared.clone(),
            private_key: ground.identity.private_key.clone(),
            front: Udp::bind(SocketAddr::new(at, front)).map_err(cannot)?,
            back: Arc::new(Udp::bind(SocketAddr::new(at, back)).map_err(cannot)?),
            raw: raw(at).map_err(cannot)?,
            coming: Mutex::default(),
            fronts: Mutex::default(),
            stop: AtomicBool::new(false),
        });
        for part in [Running::at_the_front, Running::over_the_protocol, Running::at_the_back] {
            let running = running.clone();
            std::thread::spawn(move || {
                let (mut receiver, mut batch) = (Receiver::default(), Batch::default());
                let mut carriers = HashMap::new();
                while !running.stop.load(Ordering::Relaxed) {
                    part(&running, &mut receiver, &mut batch, &mut carriers);
                }
            });
        }
        Ok(running)
    }
}

/// By session, for the thread that learns where devices are at the back.
type Carriers = HashMap<u64, Arc<To>>;

impl Running {
    /// Lets an account in, or says why not. The password is checked with the form that only this agent can open.
    fn sign_in(&self, name: &str, password: &str, from: SocketAddr) -> std::result::Result<(), Refusal> {
        let granted = self.shared.grant(&self.called.now(), Coming::new(Shown::Account(name), from))?;
        let Proof::Account { password: sealed, .. } = &granted.admission.proof else {
            return Err(Refusal::plain(Reason::Unknown));
        };
        let form = sealed.open(&self.private_key, &account_purpose(name));
        let form = form.map_err(|_| Refusal::plain(Reason::Unproved))?;
        let right = std::str::from_utf8(form.reveal()).is_ok_and(|form| account::matches(password, form));
        if right { Ok(()) } else { Err(Refusal::plain(Reason::Unproved)) }
    }

    fn at_the_front(&self, receiver: &mut Receiver, _: &mut Batch, _: &mut Carriers) {
        if !self.front.wait(Duration::from_millis(50)) {
            return;
        }
        receiver.receive(&self.front, |from, datagram| match Message::read(datagram) {
            Some(Message::Hello { name, password }) => match self.sign_in(&name, &password, from) {
                Ok(()) => {
                    let session = self.shared.seats.number();
                    self.coming.lock().insert(session, (name, from));
                    let port = self.back.local_addr().map_or(0, |at| at.port());
                    self.front.send(from, &Message::Go { session, port }.write());
                }
                Err(Refusal { reason, words }) => {
                    self.shared.refused(&self.called.now(), None, from, reason, "");
                    self.front.send(from, &Message::Refused { reason, words }.write());
                }
            },
            Some(Message::Over { session, reason, words }) => self.over(session, reason, &words),
            _ => {}
        });
    }

    fn over_the_protocol(&self, _: &mut Receiver, _: &mut Batch, _: &mut Carriers) {
        let Some((from, Message::Here { session })) = received(&self.raw) else { return };
        let Some((name, front)) = self.coming.lock().remove(&session) else { return };
        let coming = Coming::new(Shown::Account(&name), front);
        let Ok(granted) = self.shared.grant(&self.order.name, coming) else { return };
        let counters = Arc::new(Counters::default());
        counters.heard.store(clock::now().0, Ordering::Relaxed);
        let carrier =
            Arc::new(To { back: self.back.clone(), session, at: Mutex::default(), counters: counters.clone() });
        let identity = granted.admission.proof.identity();
        let device = granted.admission.device.as_str();
        let inner = vec![ipnet::IpNet::from(IpAddr::V4(granted.inner))];
        let seat = Seat::new(session, identity, device, &self.called, inner, front, "shuttle 1", counters, carrier);
        self.fronts.lock().insert(session, front);
        self.shared.seat(seat, 0);
        let settings = granted.settings().into();
        let _ = self.raw.send_to(&Message::In { session, settings }.write(), &SocketAddr::new(from, 0).into());
    }

    fn at_the_back(&self, receiver: &mut Receiver, batch: &mut Batch, carriers: &mut Carriers) {
        if !self.back.wait(Duration::from_millis(50)) {
            return;
        }
        receiver.receive(&self.back, |from, datagram| {
            let Some((session, packet)) = taken(datagram) else { return };
            let Some(seat) = self.shared.seats.get(session) else { return };
            // A device speaks only from its own address, and only to where it may go.
            if !seat.passes(packet) {
                return;
            }
            let counters = seat.counters.clone();
            counters.received.fetch_add(packet.len() as u64, Ordering::Relaxed);
            counters.heard.store(clock::now().0, Ordering::Relaxed);
            let to = carriers.entry(session).or_insert_with(|| {
                let at = Mutex::new(Some(from));
                let to = Arc::new(To { back: self.back.clone(), session, at, counters });
                seat.set_carrier(to.clone());
                to
            });
            *to.at.lock() = Some(from);
            batch.push(packet);
        });
        if let Some(plane) = self.shared.plane() {
            plane.deliver(batch);
        }
    }

    fn over(&self, session: u64, reason: Reason, words: &str) {
        self.fronts.lock().remove(&session);
        self.shared.unseat(session, reason, words);
    }
}

impl Tunnel for Running {
    fn called(&self) -> &Called {
        &self.called
    }

    fn serves(&self, order: &OrderListener) -> bool {
        self.order.serves == order.serves && self.order.tunnel == order.tunnel
    }

    fn services(&self) -> Vec<Service> {
        self.order.serves.clone()
    }

    fn refresh(&self) {}

    fn end(&self, seat: &Seat, reason: Reason, words: &str) -> bool {
        let front = self.fronts.lock().get(&seat.number).copied();
        if let Some(front) = front {
            self.front.send(front, &Message::Over { session: seat.number, reason, words: words.into() }.write());
        }
        self.over(seat.number, reason, words);
        front.is_some()
    }

    fn close(&self) {
        self.stop.store(true, Ordering::Relaxed);
    }

    fn lend(&self, _: Service) -> Option<Udp> {
        None
    }
}
