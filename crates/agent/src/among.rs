//! What agents have to say to each other: they bring orders and renewals to gateways that the estate does not reach. They meet over the
//! gateways' own listeners, each with the key of its gateway, which the others' orders name; nothing else is opened for it.

use std::collections::{BTreeMap, HashMap};
use std::net::{IpAddr, SocketAddr};
use std::time::Duration;

use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use yestrel_core::exchange::NewsEvent;
use yestrel_core::keys::{KeyPair, PublicKey, Secret};
use yestrel_core::order::{self, Envelope, PEER_CALL, Peer, PeerDial, SignedRenewal};
use yestrel_core::{Problem, Result};
use yestrel_net::packets::{Receiver, Udp};
use yestrel_net::{clock, names};
use yestrel_wire::quill::call::Call;
use yestrel_wire::quill::device::{Config, Device, Event};
use yestrel_wire::quill::parcel::AMONG_GATEWAYS;
use yestrel_wire::quill::{ConnectionId, Suite};

use crate::peers::{Heard, LONGEST};
use crate::run::Agent;
use crate::terms::There;

/// Between two meetings with the same gateway.
const AGAIN: Duration = Duration::from_secs(20);
/// How long another gateway may take to answer, and how long a meeting lasts in which nothing more is said.
const PATIENCE: Duration = Duration::from_secs(8);
const QUIET: Duration = Duration::from_secs(2);
/// A meeting is over after this, whatever is still said.
const LONGEST_MEETING: Duration = Duration::from_secs(900);
/// What agents call themselves to each other.
const SOFTWARE: &str = concat!("yestrel agent ", env!("CARGO_PKG_VERSION"));

/// One thing that is said.
#[derive(Debug, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
enum Said {
    /// Who this is, which orders it has (its own, and those that it holds for others), and of when its newest renewal is.
    Known {
        gateway: String,
        orders: BTreeMap<String, u64>,
        renewal: Option<Timestamp>,
    },
    Order(Envelope),
    Renewal(SignedRenewal),
    /// Who is in there, of whose sessions policies count how many there are at once.
    Inside {
        gateway: String,
        sessions: Vec<There>,
    },
}

fn bytes(said: &Said) -> Vec<u8> {
    serde_json::to_vec(said).unwrap_or_default()
}

impl Agent {
    /// What this agent says first.
    pub(crate) fn introduction(&self) -> Result<Vec<u8>> {
        let keep = self.shared.keep.lock();
        let gateway = keep.identity()?.map(|identity| identity.gateway).unwrap_or_default();
        let mut orders: BTreeMap<String, u64> = BTreeMap::new();
        for envelope in keep.forwarded()? {
            let order = envelope.read()?;
            orders.insert(order.content.gateway, order.number);
        }
        let own = match self.shared.in_force() {
            Some(in_force) => Some(in_force.number),
            None => keep.order()?.map(|own| own.read()).transpose()?.map(|own| own.number),
        };
        drop(keep);
        orders.extend(own.map(|own| (gateway.clone(), own)));
        Ok(bytes(&Said::Known { gateway, orders, renewal: self.shared.renewed_at() }))
    }

    /// Hears what another gateway says, and gives what is said to it.
    ///
    /// # Errors
    /// It cannot be read, or is not the estate's.
    pub(crate) fn hear(&self, from: PublicKey, heard: &[u8]) -> Result<Vec<Vec<u8>>> {
        let strange = |_| Problem::refused("another gateway says something that this version does not know");
        match serde_json::from_slice(heard).map_err(strange)? {
            Said::Known { gateway, orders, renewal } => self.answers(from, &gateway, &orders, renewal),
            Said::Inside { gateway, sessions } => {
                self.hear_who_is_in(from, &gateway, sessions);
                Ok(Vec::new())
            }
            Said::Order(envelope) => {
                self.bring(&envelope, &from)?;
                Ok(Vec::new())
            }
            Said::Renewal(renewal) => {
                self.renew(&renewal)?;
                Ok(Vec::new())
            }
        }
    }

    /// What another gateway lacks that this one has.
    fn answers(
        &self,
        to: PublicKey,
        gateway: &str,
        orders: &BTreeMap<String, u64>,
        renewal: Option<Timestamp>,
    ) -> Result<Vec<Vec<u8>>> {
        let keep = self.shared.keep.lock();
        let own = keep.identity()?.map(|identity| identity.gateway);
        let mut all = keep.forwarded()?;
        // An agent of the same name is an old one of this gateway: it learns of revocations by this one's order.
        if own.as_deref() == Some(gateway) {
            all.extend(keep.order()?);
        }
        let newest = keep.renewal().unwrap_or_default();
        drop(keep);
        let mut answers = Vec::new();
        let counted = self.shared.counted().zip(own.clone());
        answers.extend(counted.map(|(sessions, gateway)| bytes(&Said::Inside { gateway, sessions })));
        let mut done = Vec::new();
        for envelope in all {
            let order = envelope.read()?;
            let theirs = orders.get(&order.content.gateway).copied().unwrap_or(0);
            if theirs < order.number {
                if self.among.lock().may_send(to, &envelope.hash()) {
                    answers.push(bytes(&Said::Order(envelope)));
                }
            } else if order.content.gateway == gateway && order.content.public_key == to {
                done.push(order.content.gateway);
            }
        }
        for gateway in done {
            self.passed(&gateway)?;
        }
        if let Some(newest) = newest.filter(|_| self.shared.renewed_at() > renewal) {
            answers.push(bytes(&Said::Renewal(newest)));
        }
        Ok(answers)
    }

    /// A gateway says who is in there. It speaks for itself alone.
    fn hear_who_is_in(&self, from: PublicKey, gateway: &str, sessions: Vec<There>) {
        let in_force = self.shared.in_force();
        let is = in_force.as_ref().is_some_and(|in_force| {
            in_force.roll.settings().peers.iter().any(|peer| peer.public_key == from && peer.gateway == gateway)
        });
        if is {
            for (seat, refusal) in self.shared.are_elsewhere(gateway, sessions) {
                tracing::info!(device = seat.device(), gateway, "it is in there as well, and came there first");
                self.end_one(&seat, refusal.reason, &refusal.words);
            }
        }
    }

    /// A gateway has the order that was held for it. It is held on only for an old agent of the same name.
    fn passed(&self, gateway: &str) -> Result<()> {
        let in_force = self.shared.in_force();
        let peers = in_force.as_ref().map(|in_force| in_force.roll.settings().peers.clone()).unwrap_or_default();
        let mut keep = self.shared.keep.lock();
        let mut all = keep.forwarded()?;
        let mut news = Vec::new();
        let several = peers.iter().filter(|peer| peer.gateway == gateway).count() > 1;
        all.retain(|envelope| {
            let Ok(order) = envelope.read() else { return false };
            let is = order.content.gateway == gateway;
            if is && !several {
                news.push(order.number);
            }
            !is || several
        });
        if news.is_empty() {
            return Ok(());
        }
        keep.set_forwarded(&all);
        drop(keep);
        for order in news {
            tracing::info!(gateway, order, "another gateway has the order that was held for it");
            self.shared.note(NewsEvent::Passed { gateway: gateway.to_owned(), order });
        }
        Ok(())
    }

    /// An order that another gateway brought: for this one, or to be held for a third.
    fn bring(&self, envelope: &Envelope, from: &PublicKey) -> Result<()> {
        let order = {
            let keep = self.shared.keep.lock();
            let identity = keep.identity()?.ok_or_else(|| Problem::refused("this agent belongs to no estate"))?;
            let order = identity.verify(envelope)?;
            // Perhaps by another name, where it was renamed.
            let own = KeyPair::public_of(&identity.private_key)?;
            (order.estate == identity.estate)
                .then_some((order.content.gateway == identity.gateway || order.content.public_key == own, order))
                .ok_or_else(|| Problem::refused("the order is of another estate"))?
        };
        match order {
            (true, order) => {
                // What could cut its author off is held for a confirmation, and nobody is here to confirm it: perhaps it was undone for that.
                // It is the estate's to bring; who is revoked is learned all the same.
                let before = self.shared.keep.lock().order()?.map(|envelope| envelope.read()).transpose()?;
                if order::touches_the_way_in(before.as_ref().map(|order| &order.content), &order.content) {
                    let ended = self.learn(&order.content.revoked);
                    tracing::info!(
                        order = order.number,
                        ended,
                        "another gateway brought an order that touches the way in; its revocations were learned"
                    );
                    return Ok(());
                }
                let receipt = self.carry(envelope, 0)?;
                tracing::info!(order = order.number, ended = receipt.ended, from = %from, "another gateway brought an order");
                Ok(())
            }
            (false, _) => self.forward(std::slice::from_ref(envelope)),
        }
    }

    /// Holds orders for other gateways, until these are met.
    ///
    /// # Errors
    /// One is not the estate's.
    pub(crate) fn forward(&self, envelopes: &[Envelope]) -> Result<()> {
        let mut keep = self.shared.keep.lock();
        let identity = keep.identity()?.ok_or_else(|| Problem::refused("this agent belongs to no estate"))?;
        let mut held: BTreeMap<String, (u64, Envelope)> = BTreeMap::new();
        for envelope in keep.forwarded()? {
            let order = envelope.read()?;
            held.insert(order.content.gateway, (order.number, envelope));
        }
        for envelope in envelopes {
            let order = identity.verify(envelope)?;
            if order.estate != identity.estate {
                return Err(Problem::refused("the order is of another estate"));
            }
            let gateway = order.content.gateway;
            if held.get(&gateway).is_none_or(|(number, _)| *number < order.number) {
                held.insert(gateway, (order.number, envelope.clone()));
            }
        }
        let all: Vec<_> = held.into_values().map(|(_, envelope)| envelope).collect();
        keep.set_forwarded(&all);
        drop(keep);
        // Whoever is met next hears of it.
        self.among.lock().met.clear();
        Ok(())
    }

    /// One thread: deals with what other gateways say that have come in at listeners, until the agent stops.
    pub(crate) fn hear_others(&self, heard: &std::sync::mpsc::Receiver<Heard>) {
        use std::sync::mpsc::RecvTimeoutError;
        while !self.stops() {
            let Heard { listener, from, bytes } = match heard.recv_timeout(Duration::from_secs(1)) {
                Ok(heard) => heard,
                Err(RecvTimeoutError::Timeout) => continue,
                Err(RecvTimeoutError::Disconnected) => return,
            };
            self.among.lock().met.insert(from, std::time::Instant::now());
            let answers = match bytes.is_empty() {
                // It has just come in.
                true => self.introduction().map(|own| vec![own]),
                false => self.hear(from, &bytes),
            };
            let answers = answers.unwrap_or_else(|problem| {
                tracing::warn!("another gateway: {}", problem.line());
                Vec::new()
            });
            let listener = self.listeners.lock().get(&listener).cloned();
            for answer in answers {
                if let Some(listener) = &listener {
                    listener.tell_peer(&from, &answer);
                }
            }
        }
    }

    /// One thread: calls on other gateways from time to time, until the agent stops.
    pub(crate) fn call_on_others(&self) {
        while !self.stops() {
            std::thread::park_timeout(Duration::from_secs(1));
            let Some(in_force) = self.shared.in_force() else { continue };
            let content = in_force.roll.settings();
            for peer in &content.peers {
                let Some(dial) = &peer.dial else { continue };
                let met = self.among.lock().met.get(&peer.public_key).copied();
                if met.is_some_and(|at| at.elapsed() < AGAIN) || self.stops() {
                    continue;
                }
                self.among.lock().met.insert(peer.public_key, std::time::Instant::now());
                if let Err(problem) = self.call_on(peer, dial, content.peer_call.as_ref()) {
                    tracing::debug!(gateway = peer.gateway, "not met: {}", problem.line());
                }
            }
        }
    }

    /// Meets another gateway at its listener.
    fn call_on(&self, peer: &Peer, dial: &PeerDial, call: Option<&yestrel_core::sealed::Sealed>) -> Result<()> {
        let identity = self.shared.keep.lock().identity()?.ok_or_else(|| Problem::refused("no estate"))?;
        let call = call.ok_or_else(|| Problem::refused("no secret to call with"))?;
        let call = call.open(&identity.private_key, PEER_CALL)?;
        let suite: Suite =
            dial.cipher.word().parse().map_err(|_| Problem::failed("this agent does not have its cipher"))?;
        for address in names::look_up(&dial.address)? {
            let at = SocketAddr::new(address, dial.port);
            if self.meet(peer, at, suite, &identity.private_key, &call)? {
                return Ok(());
            }
        }
        Err(Problem::failed("no answer"))
    }

    /// Whether the gateway answered at an address.
    fn meet(&self, peer: &Peer, at: SocketAddr, suite: Suite, private: &Secret, call: &Secret) -> Result<bool> {
        let any: IpAddr =
            if at.is_ipv4() { std::net::Ipv4Addr::UNSPECIFIED.into() } else { std::net::Ipv6Addr::UNSPECIFIED.into() };
        let source = self.options.bind.filter(|bind| bind.is_ipv4() == at.is_ipv4()).unwrap_or(any);
        let udp = Udp::bind(SocketAddr::new(source, 0))
            .map_err(|error| Problem::failed("no socket").why(error.to_string()))?;
        let config = Config {
            most_parcel: LONGEST,
            ..Config::new(suite, private.private_key()?, peer.public_key.0, Call::new(&*call.private_key()?), SOFTWARE)
        };
        let mut device = Device::new(config, at, clock::SystemRandom::boxed());
        device.open(clock::now());
        let mut lanes = HashMap::<ConnectionId, std::sync::Arc<yestrel_wire::quill::lane::Lane>>::new();
        let mut receiver = Receiver::default();
        let (began, mut last, mut up) = (std::time::Instant::now(), std::time::Instant::now(), false);
        let mut introduced = false;
        loop {
            for event in device.take_events() {
                match event {
                    Event::LaneAdded(lane) => drop(lanes.insert(lane.own, lane)),
                    Event::LaneRemoved(id) => drop(lanes.remove(&id)),
                    Event::Up(_) => {
                        up = true;
                        last = std::time::Instant::now();
                        device.send_parcel(clock::now(), AMONG_GATEWAYS, self.introduction()?.into());
                    }
                    Event::Parcel(AMONG_GATEWAYS, bytes) => {
                        introduced = true;
                        let answers = self.hear(peer.public_key, &bytes).unwrap_or_else(|problem| {
                            tracing::warn!(gateway = peer.gateway, "{}", problem.line());
                            Vec::new()
                        });
                        for answer in answers {
                            device.send_parcel(clock::now(), AMONG_GATEWAYS, answer.into());
                        }
                        last = std::time::Instant::now();
                    }
                    Event::Refused(..) | Event::Ended(..) => return Ok(up),
                    _ => {}
                }
            }
            for (to, datagram) in device.take_output() {
                udp.send(to, &datagram);
            }
            let patience = if introduced { QUIET } else { PATIENCE };
            let over = device.is_quiet() && last.elapsed() >= patience;
            if over || began.elapsed() >= LONGEST_MEETING || (!up && began.elapsed() >= PATIENCE) || self.stops() {
                device.close(clock::now());
                for (to, datagram) in device.take_output() {
                    udp.send(to, &datagram);
                }
                return Ok(up);
            }
            let now = clock::now();
            if udp.wait(Duration::from_millis(50)) {
                receiver.receive(&udp, |from, datagram| {
                    let lane = |id| lanes.get(&id).cloned();
                    if device.receive(now, from, datagram, &lane, &mut |_| {}) {
                        last = last.max(if up { std::time::Instant::now() } else { last });
                    }
                });
            }
            let now = clock::now();
            if device.deadline().is_some_and(|deadline| deadline <= now) {
                device.tick(now);
            }
        }
    }
}
