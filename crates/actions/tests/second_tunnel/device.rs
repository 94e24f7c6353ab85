//! The shuttle as a device runs it.

use std::net::{IpAddr, SocketAddr};
use std::sync::Arc;
use std::sync::atomic::Ordering;
use std::time::Duration;

use parking_lot::Mutex;
use yestrel_core::firewall::Service;
use yestrel_core::handover::{Handover, HandoverWay};
use yestrel_core::{Problem, Result};
use yestrel_device::ways::{Event, Ground, Kind, Way};
use yestrel_net::clock;
use yestrel_net::packets::{Receiver, Sender, Udp};
use yestrel_net::seats::Carrier;
use yestrel_wire::Moment;
use yestrel_wire::counters::Counters;

use crate::wire::{Message, PROTOCOL, WORD, laid, raw, received, taken};

/// The kind.
pub struct Shuttle;

/// A way in.
struct Open {
    peer: SocketAddr,
    front: Udp,
    back: Arc<Udp>,
    raw: socket2::Socket,
    receiver: Mutex<Receiver>,
    /// The session, and where its packets go.
    session: Mutex<Option<(u64, SocketAddr)>>,
    counters: Arc<Counters>,
}

struct To {
    back: Arc<Udp>,
    session: u64,
    peer: SocketAddr,
    counters: Arc<Counters>,
}

impl Carrier for To {
    fn carry(&self, now: Moment, packet: &[u8], sender: &mut Sender) {
        self.counters.sent.fetch_add(packet.len() as u64, Ordering::Relaxed);
        self.counters.spoke.store(now.0, Ordering::Relaxed);
        sender.add(&self.back, self.peer, packet.len() + 8, |out| {
            laid(self.session, packet, out);
            true
        });
    }

    fn flush(&self, sender: &mut Sender) {
        sender.flush(&self.back);
    }
}

impl Kind for Shuttle {
    fn word(&self) -> &str {
        WORD
    }

    fn dials(&self, way: &HandoverWay) -> Vec<Service> {
        vec![Service::udp(way.port), Service::Ip(PROTOCOL)]
    }

    fn open(&self, way: &HandoverWay, handover: &Handover, ground: &Ground) -> Result<Arc<dyn Way>> {
        let failed = |error: std::io::Error| Problem::failed("the system gives no socket").why(error.to_string());
        let missing = || Problem::failed("the handover holds no account with its password");
        let account = handover.account.as_ref().ok_or_else(missing)?;
        let password = account.password.as_ref().ok_or_else(missing)?;
        let own = IpAddr::from([127, 0, 0, 1]);
        let open = Open {
            peer: SocketAddr::new(ground.peer.ip(), way.port),
            front: Udp::bind(SocketAddr::new(own, 0)).map_err(failed)?,
            back: Arc::new(Udp::bind(SocketAddr::new(own, 0)).map_err(failed)?),
            raw: raw(own).map_err(failed)?,
            receiver: Mutex::default(),
            session: Mutex::default(),
            counters: Arc::default(),
        };
        let password = String::from_utf8_lossy(password.reveal()).into_owned();
        open.front.send(open.peer, &Message::Hello { name: account.name.clone(), password }.write());
        Ok(Arc::new(open))
    }
}

impl Open {
    fn at_the_front(&self, message: Message, happened: &mut Vec<Event>) {
        match message {
            Message::Go { session, port } => {
                *self.session.lock() = Some((session, SocketAddr::new(self.peer.ip(), port)));
                let _ = self.raw.send_to(&Message::Here { session }.write(), &self.peer.into());
            }
            Message::Refused { reason, words } => happened.push(Event::Refused(reason, words)),
            Message::Over { reason, words, .. } => happened.push(Event::Ended(reason, words)),
            _ => {}
        }
    }
}

impl Way for Open {
    fn step(&self, wait: Duration, inside: &mut dyn FnMut(&[u8]) -> bool) -> Vec<Event> {
        let mut happened = Vec::new();
        let mut receiver = self.receiver.lock();
        let up = self.session.lock().is_some();
        if self.front.wait(if up { Duration::ZERO } else { wait }) {
            receiver.receive(&self.front, |_, datagram| {
                if let Some(message) = Message::read(datagram) {
                    self.at_the_front(message, &mut happened);
                }
            });
        }
        if self.counters.heard.load(Ordering::Relaxed) == 0 {
            let own = self.session.lock().map(|(session, _)| session);
            if let Some((_, Message::In { settings, session })) = received(&self.raw)
                && own == Some(session)
            {
                self.counters.heard.store(clock::now().0, Ordering::Relaxed);
                happened.push(Event::Up(settings.into()));
            }
        } else if self.back.wait(wait.min(Duration::from_millis(20))) {
            receiver.receive(&self.back, |_, datagram| {
                if let Some((_, packet)) = taken(datagram)
                    && inside(packet)
                {
                    self.counters.received.fetch_add(packet.len() as u64, Ordering::Relaxed);
                    self.counters.heard.store(clock::now().0, Ordering::Relaxed);
                }
            });
        }
        happened
    }

    fn carrier(&self) -> Option<Arc<dyn Carrier>> {
        let (session, peer) = (*self.session.lock())?;
        Some(Arc::new(To { back: self.back.clone(), session, peer, counters: self.counters.clone() }))
    }

    fn counters(&self) -> Option<Arc<Counters>> {
        Some(self.counters.clone())
    }

    fn close(&self) {
        if let Some((session, _)) = *self.session.lock() {
            let (reason, words) = (yestrel_core::admission::Reason::Closed, String::new());
            self.front.send(self.peer, &Message::Over { session, reason, words }.write());
        }
    }
}
