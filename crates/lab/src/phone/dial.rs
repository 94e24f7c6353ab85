//! Calls by a profile: IKE from a port of its own, then IKE and ESP from another (RFC 3948), as phones do behind translation.

use std::collections::HashMap;
use std::net::{IpAddr, Ipv4Addr, SocketAddr};
use std::sync::Arc;
use std::time::Duration;

use ipnet::{IpNet, Ipv4Net};
use jiff::Timestamp;
use parking_lot::{Mutex, RwLock};
use ring::rand::SystemRandom;
use yestrel_core::admission::Reason as Why;
use yestrel_core::firewall::Service;
use yestrel_core::handover::{Handover, HandoverWay};
use yestrel_core::tunnel::{Second, Settings as Given, ikev2};
use yestrel_core::x509::certificate::check_chain;
use yestrel_core::x509::names::SubjectName;
use yestrel_core::x509::{Certificate, proof};
use yestrel_core::{Problem, Result};
use yestrel_device::ways::{Event, Ground, Kind, Way};
use yestrel_net::clock;
use yestrel_net::packets::{Receiver, Udp};
use yestrel_net::seats::{Carrier, Under};
use yestrel_wire::Moment;
use yestrel_wire::counters::Counters;
use yestrel_wire::esp::ecn;
use yestrel_wire::esp::pair::Pair;
use yestrel_wire::ike::call::{Nobody, everything};
use yestrel_wire::ike::eap::Peer;
use yestrel_wire::ike::gateway::{Config, Gateway};
use yestrel_wire::ike::message::{Identity, attribute, id};
use yestrel_wire::ike::state::{Call, Caller, Door, Event as Happened, Reason, Settings, Shown};

use super::profile::{Connection, Profile};

/// What stands before IKE at the port that ESP shares (RFC 3948 section 2.2).
const MARKER: [u8; 4] = [0; 4];
/// A sign of life for what translates (RFC 3948 section 4), after so many milliseconds of silence.
const KEEP_ALIVE: [u8; 1] = [0xff];
const SILENCE: u64 = 20_000;
/// Bytes of an inner packet: what phones allow behind translation.
const PACKET_SIZE: u16 = 1_280;
/// Certificates above a gateway's own that are looked at.
const MOST_ABOVE: usize = 8;

/// Whoever holds the phone.
pub struct Phone {
    profile: Arc<Profile>,
}

impl Phone {
    pub fn new(profile: Profile) -> Self {
        Self { profile: Arc::new(profile) }
    }
}

/// One connection of a profile, in use.
struct Holder {
    profile: Arc<Profile>,
    at: usize,
}

fn identity_of(text: &str) -> Identity {
    match text.parse() {
        Ok(IpAddr::V4(four)) => Identity { kind: id::IPV4, data: four.octets().to_vec() },
        Ok(IpAddr::V6(six)) => Identity { kind: id::IPV6, data: six.octets().to_vec() },
        Err(_) if text.contains('@') => Identity { kind: id::MAIL, data: text.as_bytes().to_vec() },
        Err(_) => Identity { kind: id::FQDN, data: text.as_bytes().to_vec() },
    }
}

impl Holder {
    fn connection(&self) -> &Connection {
        &self.profile.connections[self.at]
    }

    /// From the gateway's own to somebody whom the profile trusts.
    fn chain(&self, shown: &[Certificate]) -> Option<Vec<Certificate>> {
        let mut chain = vec![shown.first()?.clone()];
        while chain.len() <= MOST_ABOVE {
            let last = chain.last()?;
            let signs = |one: &&Certificate| last.check_signed_by(one).is_ok();
            if let Some(trusted) = self.profile.trusted.iter().find(signs) {
                chain.push(trusted.clone());
                return Some(chain);
            }
            chain.push(shown.iter().find(signs)?.clone());
        }
        None
    }
}

impl Caller for Holder {
    fn dialled(&self) -> Option<Identity> {
        Some(identity_of(&self.connection().remote))
    }

    fn identity(&self) -> Identity {
        identity_of(&self.connection().local)
    }

    fn certificates(&self) -> Vec<Vec<u8>> {
        let chain = self.profile.identity.as_ref().map(|(chain, _)| chain.as_slice()).unwrap_or_default();
        chain.iter().filter(|one| !one.is_root()).map(|one| one.der().to_vec()).collect()
    }

    fn prove(&self, octets: &[u8], hashes: &[u16]) -> Option<Vec<u8>> {
        self.profile.identity.as_ref()?.1.prove(octets, hashes, &SystemRandom::new())
    }

    fn account(&self) -> Option<Peer> {
        self.connection().account.as_ref().map(|(name, password)| Peer::new(name, password))
    }

    fn believes(&self, shown: &Shown<'_>) -> std::result::Result<(), String> {
        let connection = self.connection();
        if *shown.identity != identity_of(&connection.remote) {
            return Err(format!("whoever answers is not {}", connection.remote));
        }
        let all: Vec<_> = shown.certificates.iter().filter_map(|der| Certificate::from_der(der).ok()).collect();
        let chain = self.chain(&all).ok_or("no authority of the profile signed the gateway's certificate")?;
        check_chain(&chain, Timestamp::now(), true).map_err(|problem| problem.line())?;
        let leaf = &chain[0];
        if connection.issuer.as_ref().is_some_and(|issuer| *issuer != leaf.issuer_name()) {
            return Err(format!("{} signed the gateway's certificate", leaf.issuer_name()));
        }
        let named = SubjectName::dialled(&connection.remote);
        if !leaf.is_for_servers() || !leaf.names().unwrap_or_default().contains(&named) {
            return Err(format!("the gateway's certificate is not for {}", connection.remote));
        }
        proof::check(leaf.key(), shown.proof, shown.octets).map_err(|problem| problem.line())
    }
}

/// A connection that is being made, or that is up.
struct Dialling {
    first: Udp,
    second: Arc<Udp>,
    machine: Mutex<Gateway>,
    pairs: RwLock<HashMap<u32, Arc<Pair>>>,
    serving: RwLock<Option<Arc<Pair>>>,
    receiver: Mutex<Receiver>,
    gateway: SocketAddr,
}

impl Kind for Phone {
    fn word(&self) -> &str {
        ikev2::WORD
    }

    fn dials(&self, _: &HandoverWay) -> Vec<Service> {
        ikev2::PORTS.into_iter().map(Service::udp).collect()
    }

    fn open(&self, way: &HandoverWay, _: &Handover, ground: &Ground) -> Result<Arc<dyn Way>> {
        let at = self.profile.connections.iter().position(|one| one.name == way.gateway);
        let at = at.ok_or_else(|| Problem::failed("the profile has no such connection"))?;
        let holder = Holder { profile: self.profile.clone(), at };
        let connection = holder.connection();
        let (suite, packets) = connection.suites;
        let minutes = |count: u64| count * 60_000;
        let config = Config {
            renew_self: minutes(connection.lifetimes.0),
            renew_pair: minutes(connection.lifetimes.1),
            listens: false,
        };
        let any = SocketAddr::new(Ipv4Addr::UNSPECIFIED.into(), 0);
        let bind = || Udp::bind(any).map_err(|error| Problem::failed("the phone has no socket").why(error.to_string()));
        let mut sessions = 0;
        let number = move || {
            sessions += 1;
            sessions
        };
        let gateway = SocketAddr::new(ground.peer.ip(), ikev2::PORTS[1]);
        let dialling = Arc::new(Dialling {
            first: bind()?,
            second: Arc::new(bind()?),
            machine: Mutex::new(Gateway::new(config, Box::new(number), clock::SystemRandom::boxed())),
            pairs: RwLock::default(),
            serving: RwLock::default(),
            receiver: Mutex::default(),
            gateway,
        });
        let call = Call {
            first: SocketAddr::new(ground.peer.ip(), ikev2::PORTS[0]),
            second: gateway,
            suites: vec![suite],
            pair_suites: vec![packets],
            attributes: vec![
                attribute::IPV4_ADDRESS,
                attribute::IPV6_ADDRESS,
                attribute::IPV4_DNS,
                attribute::IPV6_DNS,
                attribute::DNS_DOMAIN,
            ],
            reach: everything(),
            in_parts: true,
            mobike: true,
            who: Arc::new(holder),
        };
        let _ = dialling.act(|machine| {
            machine.call(clock::now(), call);
        });
        Ok(dialling)
    }
}

fn why(reason: Reason) -> Why {
    match reason {
        Reason::PoolFull => Why::PoolFull,
        Reason::Silent => Why::Silent,
        Reason::Algorithms => Why::Algorithms,
        Reason::Proof | Reason::Password => Why::Unknown,
        Reason::Untrusted => Why::Unproved,
        Reason::Unfinished => Why::Unfinished,
        Reason::Policy => Why::Policy,
        _ => Why::Other,
    }
}

/// As everything else has it.
fn given(settings: &Settings) -> Given {
    let host = |range: &&IpNet| range.prefix_len() == range.max_prefix_len();
    let hosts = || settings.reach.iter().filter(host).map(IpNet::addr);
    let gateway = hosts().find(IpAddr::is_ipv4).unwrap_or(IpAddr::V4(settings.inner));
    let gateway6 = hosts().find_map(|one| if let IpAddr::V6(six) = one { Some(six) } else { None });
    let second = settings.inner6.zip(gateway6.or(settings.inner6));
    Given {
        edition: 0,
        asks: false,
        inner: Ipv4Net::from(settings.inner).into(),
        gateway,
        second: second
            .and_then(|(inner, gateway)| Some(Second { inner: ipnet::Ipv6Net::new(inner, 128).ok()?, gateway })),
        resolvers: settings.resolvers.clone(),
        reach: settings.reach.clone(),
        packet_size: PACKET_SIZE,
        keep_alive: 0,
    }
}

impl Dialling {
    fn act(&self, act: impl FnOnce(&mut Gateway)) -> Vec<Event> {
        let mut machine = self.machine.lock();
        act(&mut machine);
        let (out, events) = (machine.take_output(), machine.take_events());
        drop(machine);
        let mut rest = Vec::new();
        for event in events {
            match event {
                Happened::PairAdded(pair) => drop(self.pairs.write().insert(pair.own, pair)),
                Happened::PairRemoved(spi) => drop(self.pairs.write().remove(&spi)),
                Happened::Opened { granted, pair, .. } => {
                    *self.serving.write() = Some(pair);
                    rest.push(Event::Up(given(&granted.settings)));
                }
                Happened::Serves { pair, .. } => *self.serving.write() = Some(pair),
                Happened::Failed { reason, words, .. } => rest.push(Event::Refused(why(reason), words)),
                // A deletion does not say why (RFC 7296 section 3.11).
                Happened::Ended { reason: Reason::Closed, .. } => {
                    rest.push(Event::Ended(Why::Other, "the gateway ended it, and IKE does not say why".into()));
                }
                Happened::Ended { reason, words, .. } => rest.push(Event::Ended(why(reason), words)),
                Happened::Known(_) | Happened::Forgotten(_) | Happened::Moved { .. } | Happened::Refused { .. } => {}
            }
        }
        for one in out {
            match one.door {
                Door::First => self.first.send(one.to, &one.bytes),
                Door::Second => self.second.send(one.to, &[&MARKER[..], &one.bytes].concat()),
            }
        }
        rest
    }

    fn packet(
        &self,
        now: Moment,
        from: SocketAddr,
        mark: u8,
        datagram: &mut [u8],
        inside: &mut dyn FnMut(&[u8]) -> bool,
    ) -> Vec<Event> {
        if let Some(message) = datagram.strip_prefix(&MARKER) {
            return self.act(|machine| machine.receive(now, Door::Second, from, message, &Nobody));
        }
        let Some(spi) = Pair::spi(datagram) else { return Vec::new() };
        let Some(pair) = self.pairs.read().get(&spi).cloned() else { return Vec::new() };
        let before = pair.is_heard();
        let Ok((packet, _)) = pair.open(now, datagram) else { return Vec::new() };
        if ecn::take_over(packet, mark) && inside(packet) {
            pair.count_received(packet.len());
        }
        let worn = pair.take_worn();
        if before && !worn {
            return Vec::new();
        }
        self.act(|machine| {
            machine.heard_in(now, spi);
            if worn {
                machine.worn(now, spi);
            }
        })
    }
}

impl Way for Dialling {
    fn step(&self, wait: Duration, inside: &mut dyn FnMut(&[u8]) -> bool) -> Vec<Event> {
        let (now, up) = (clock::now(), self.serving.read().is_some());
        let mut happened = Vec::new();
        if !up && self.first.wait(wait.min(Duration::from_millis(5))) {
            self.receiver.lock().receive(&self.first, |from, datagram| {
                happened.extend(self.act(|machine| machine.receive(now, Door::First, from, datagram, &Nobody)));
            });
        }
        if self.second.wait(if up { wait } else { Duration::from_millis(5) }) {
            let now = clock::now();
            self.receiver.lock().receive_marked(&self.second, |from, mark, datagram| {
                happened.extend(self.packet(now, from, mark, datagram, inside));
            });
        }
        let now = clock::now();
        if self.machine.lock().deadline().is_some_and(|at| at <= now) {
            happened.extend(self.act(|machine| machine.tick(now)));
        }
        if let Some(counters) = self.counters() {
            let spoke = counters.spoke.load(std::sync::atomic::Ordering::Relaxed);
            if now.since(Moment(spoke)) >= SILENCE {
                counters.spoke.store(now.0, std::sync::atomic::Ordering::Relaxed);
                self.second.send(self.gateway, &KEEP_ALIVE);
            }
        }
        happened
    }

    fn carrier(&self) -> Option<Arc<dyn Carrier>> {
        let pair = self.serving.read().clone()?;
        Some(Arc::new(Under { keys: pair, udp: self.second.clone() }))
    }

    fn counters(&self) -> Option<Arc<Counters>> {
        self.serving.read().as_ref().map(|pair| pair.counters.clone())
    }

    fn close(&self) {
        let _ = self.act(|machine| machine.shut_down(clock::now()));
    }
}
