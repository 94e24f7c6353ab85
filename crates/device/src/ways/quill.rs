//! Yestrel's own tunnel: a UDP socket and its state machine.

use std::collections::HashMap;
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr, SocketAddr};
use std::sync::Arc;
use std::time::Duration;

use ipnet::IpNet;
use parking_lot::{Mutex, RwLock};
use yestrel_core::admission::Reason as Why;
use yestrel_core::firewall::Service;
use yestrel_core::handover::{Handover, HandoverWay};
use yestrel_core::tunnel::{Second, Settings as Given, WayIn, quill};
use yestrel_core::{Problem, Result, notice};
use yestrel_net::clock;
use yestrel_net::packets::{Receiver, Udp};
use yestrel_net::seats::{Carrier, Under};
use yestrel_wire::Moment;
use yestrel_wire::counters::Counters;
use yestrel_wire::quill::call::Call;
use yestrel_wire::quill::device::{Config, Device, Event as Happened};
use yestrel_wire::quill::frame::{Frame, frames};
use yestrel_wire::quill::lane::Lane;
use yestrel_wire::quill::message::Settings;
use yestrel_wire::quill::parcel::{ANSWER, NOTICE, QUESTION, WORDS};
use yestrel_wire::quill::{ConnectionId, Reason, Suite, words_of};

use super::{Event, Ground, Kind, Way};

/// The kind.
pub struct QuillKind;

struct QuillWay {
    udp: Arc<Udp>,
    device: Mutex<Device>,
    lanes: RwLock<HashMap<ConnectionId, Arc<Lane>>>,
    current: RwLock<Option<Arc<Lane>>>,
    receiver: Mutex<Receiver>,
}

/// The reason as everything else has it.
fn why(number: Reason) -> Why {
    match number {
        Reason::Revoked => Why::Revoked,
        Reason::Expired => Why::Expired,
        Reason::NotYet => Why::NotYet,
        Reason::Suspended => Why::Suspended,
        Reason::Unknown => Why::Unknown,
        Reason::PoolFull => Why::PoolFull,
        Reason::Versions => Why::Versions,
        Reason::Silent => Why::Silent,
        Reason::Limit => Why::Limit,
        Reason::Shutdown => Why::Shutdown,
        Reason::Administrator => Why::Administrator,
        Reason::Replaced => Why::Replaced,
        Reason::Closed => Why::Closed,
        Reason::Policy => Why::Policy,
        Reason::Other => Why::Other,
    }
}

/// As everything else has it; a second address that is not IPv6 counts for nothing.
fn given(settings: Settings) -> Given {
    let second = settings.second.and_then(|(inner, gateway)| match (inner, gateway) {
        (IpNet::V6(inner), IpAddr::V6(gateway)) => Some(Second { inner, gateway }),
        _ => None,
    });
    Given {
        second,
        edition: settings.edition,
        inner: settings.inner,
        gateway: settings.gateway,
        resolvers: settings.resolvers,
        reach: settings.reach,
        packet_size: settings.packet_size,
        keep_alive: settings.keep_alive,
        asks: settings.asks,
    }
}

impl Kind for QuillKind {
    fn word(&self) -> &str {
        quill::WORD
    }

    fn dials(&self, way: &HandoverWay) -> Vec<Service> {
        vec![Service::udp(way.port)]
    }

    fn open(&self, way: &HandoverWay, handover: &Handover, ground: &Ground) -> Result<Arc<dyn Way>> {
        let WayIn::Quill(own) = &way.tunnel else {
            return Err(Problem::failed("the way is of another kind of tunnel"));
        };
        let suite: Suite = own
            .cipher
            .word()
            .parse()
            .map_err(|_| Problem::failed(format!("this version does not have the cipher {}", own.cipher)))?;
        let key = handover.device_key.as_ref().ok_or_else(|| Problem::failed("the handover holds no private key"))?;
        let peer = ground.peer;
        let any: IpAddr = if peer.is_ipv4() { Ipv4Addr::UNSPECIFIED.into() } else { Ipv6Addr::UNSPECIFIED.into() };
        let source = ground.source.filter(|source| source.is_ipv4() == peer.is_ipv4()).unwrap_or(any);
        let udp = Udp::bind(SocketAddr::new(source, 0))
            .map_err(|error| Problem::failed("the system gives no socket").why(error.to_string()))?;
        let call = Call::new(&*own.call_secret.private_key()?);
        let config = Config {
            notice: handover.notice,
            most_parcel: notice::LONGEST,
            ..Config::new(suite, key.private_key()?, own.server_key.0, call, ground.software)
        };
        let mut device = Device::new(config, peer, clock::SystemRandom::boxed());
        device.open(clock::now());
        let way = Arc::new(QuillWay {
            udp: Arc::new(udp),
            device: Mutex::new(device),
            lanes: RwLock::default(),
            current: RwLock::default(),
            receiver: Mutex::default(),
        });
        let _ = way.act(|_| {});
        Ok(way)
    }
}

impl QuillWay {
    /// Lets the state machine act, then sends what it wants sent and gives what happened.
    fn act(&self, act: impl FnOnce(&mut Device)) -> Vec<Event> {
        let mut device = self.device.lock();
        act(&mut device);
        let (output, events) = (device.take_output(), device.take_events());
        let mut rest = Vec::new();
        for event in events {
            rest.push(match event {
                Happened::LaneAdded(lane) => {
                    self.lanes.write().insert(lane.own, lane);
                    continue;
                }
                Happened::LaneRemoved(id) => {
                    self.lanes.write().remove(&id);
                    continue;
                }
                Happened::Current(lane) => {
                    *self.current.write() = Some(lane);
                    continue;
                }
                Happened::Up(settings) => Event::Up(given(settings)),
                Happened::Changed(settings) => Event::Changed(given(settings)),
                Happened::Parcel(NOTICE, bytes) => Event::Notice(bytes),
                Happened::Parcel(WORDS, bytes) => Event::Words(words_of(&String::from_utf8_lossy(&bytes))),
                Happened::Parcel(QUESTION, bytes) => Event::Question(words_of(&String::from_utf8_lossy(&bytes))),
                Happened::Parcel(..) => continue,
                Happened::Lost => Event::Lost,
                Happened::Refused(reason, words) => Event::Refused(why(reason), words),
                Happened::Ended(reason, words) => Event::Ended(why(reason), words),
            });
        }
        drop(device);
        for (to, datagram) in output {
            self.udp.send(to, &datagram);
        }
        rest
    }

    fn datagram(
        &self,
        now: Moment,
        from: SocketAddr,
        datagram: &mut [u8],
        happened: &mut Vec<Event>,
        inside: &mut dyn FnMut(&[u8]) -> bool,
    ) {
        let Some(id) = ConnectionId::of(datagram) else { return };
        let lane = self.lanes.read().get(&id).cloned();
        let Some(lane) = lane else {
            happened.extend(self.act(|device| {
                if device.awaits(datagram) {
                    device.answer(now, datagram)
                }
            }));
            return;
        };
        let Ok(body) = lane.open(now, datagram) else { return };
        if lane.needs_attention(from) {
            happened.extend(self.act(|device| {
                device.heard(now, &lane, from);
            }));
        }
        for frame in frames(body) {
            match frame {
                Ok(Frame::Data(packet)) if lane.carries => {
                    if inside(packet) {
                        lane.count_received(packet.len());
                    }
                }
                Ok(frame) => happened.extend(self.act(|device| device.control(now, &lane, frame))),
                Err(_) => return,
            }
        }
    }
}

impl Way for QuillWay {
    fn step(&self, wait: Duration, inside: &mut dyn FnMut(&[u8]) -> bool) -> Vec<Event> {
        let mut happened = Vec::new();
        if self.udp.wait(wait) {
            let now = clock::now();
            self.receiver.lock().receive(&self.udp, |from, datagram| {
                self.datagram(now, from, datagram, &mut happened, inside);
            });
        }
        let now = clock::now();
        if self.device.lock().deadline().is_some_and(|at| at <= now) {
            happened.extend(self.act(|device| device.tick(now)));
        }
        happened
    }

    fn carrier(&self) -> Option<Arc<dyn Carrier>> {
        let lane = self.current.read().clone()?;
        Some(Arc::new(Under { keys: lane, udp: self.udp.clone() }))
    }

    fn counters(&self) -> Option<Arc<Counters>> {
        self.current.read().as_ref().map(|lane| lane.counters.clone())
    }

    fn noticed(&self, number: u32) {
        let _ = self.act(|device| device.noticed(clock::now(), number));
    }

    fn answer(&self, code: &str) -> bool {
        let mut sent = false;
        let _ = self.act(|device| {
            sent = device.send_parcel(clock::now(), ANSWER, code.as_bytes().into());
            device.tick(clock::now());
        });
        sent
    }

    fn close(&self) {
        let _ = self.act(|device| device.close(clock::now()));
    }
}
