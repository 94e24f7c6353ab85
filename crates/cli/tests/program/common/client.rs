//! A device of our own making: the wire's state machine over a socket, which the tests make lie, flood and replay.

use std::collections::HashMap;
use std::net::{SocketAddr, UdpSocket};
use std::sync::Arc;
use std::time::{Duration, Instant};

use yestrel_core::keys::{PublicKey, Secret};
use yestrel_wire::quill::call::Call;
use yestrel_wire::quill::device::{Config, Device, Event};
use yestrel_wire::quill::lane::Lane;
use yestrel_wire::quill::{ConnectionId, Suite};
use yestrel_wire::{Moment, Random};

/// Numbers that can be had again.
pub struct Dice(pub u64);

impl Random for Dice {
    fn fill(&mut self, bytes: &mut [u8]) {
        for byte in bytes {
            self.0 ^= self.0 << 13;
            self.0 ^= self.0 >> 7;
            self.0 ^= self.0 << 17;
            *byte = (self.0 >> 32) as u8;
        }
    }
}

/// What a client needs of its gateway.
#[derive(Clone)]
pub struct Gateway {
    pub at: SocketAddr,
    pub public: PublicKey,
    pub call: Secret,
    pub suite: Suite,
}

impl Gateway {
    /// Its call secret, as the wire has it.
    pub fn call(&self) -> Call {
        Call::new(&self.call.private_key().unwrap())
    }
}

pub struct Client {
    pub socket: UdpSocket,
    pub device: Device,
    gateway: SocketAddr,
    lanes: HashMap<ConnectionId, Arc<Lane>>,
    /// Under these keys packets go out.
    pub current: Option<Arc<Lane>>,
    pub events: Vec<Event>,
    /// Inner packets that arrived.
    pub arrived: Vec<Vec<u8>>,
    /// What is to be sent once it has its final keys is held back.
    pub hold: bool,
    held: Vec<Vec<u8>>,
    /// Nothing that arrives is taken.
    pub deaf: bool,
    started: Instant,
    skipped: u64,
}

impl Client {
    /// A device with this private key, which has not opened yet.
    pub fn new(gateway: &Gateway, private: &Secret, seed: u64) -> Self {
        let (private, words) = (private.private_key().unwrap(), "of our own making");
        let config = Config::new(gateway.suite, private, gateway.public.0, gateway.call(), words);
        let config = Config { most_parcel: 65_536, ..config };
        let socket = UdpSocket::bind("127.0.0.1:0").unwrap();
        socket.set_read_timeout(Some(Duration::from_millis(20))).unwrap();
        Self {
            socket,
            device: Device::new(config, gateway.at, Box::new(Dice(seed * 2 + 1))),
            gateway: gateway.at,
            lanes: HashMap::new(),
            current: None,
            events: Vec::new(),
            arrived: Vec::new(),
            hold: false,
            held: Vec::new(),
            deaf: false,
            started: Instant::now(),
            skipped: 0,
        }
    }

    pub fn now(&self) -> Moment {
        Moment(1_000 + self.skipped + self.started.elapsed().as_millis() as u64)
    }

    /// Its clock goes forward.
    pub fn skip(&mut self, millis: u64) {
        self.skipped += millis;
    }

    /// Sends what was held back.
    pub fn release(&mut self) {
        self.hold = false;
        for datagram in std::mem::take(&mut self.held) {
            self.socket.send_to(&datagram, self.gateway).unwrap();
        }
    }

    fn settle(&mut self) {
        for event in self.device.take_events() {
            match &event {
                Event::LaneAdded(lane) => drop(self.lanes.insert(lane.own, lane.clone())),
                Event::LaneRemoved(id) => drop(self.lanes.remove(id)),
                Event::Current(lane) => self.current = Some(lane.clone()),
                _ => {}
            }
            self.events.push(event);
        }
        for (to, datagram) in self.device.take_output() {
            if self.hold && self.current.is_some() {
                self.held.push(datagram);
            } else {
                let _ = self.socket.send_to(&datagram, to);
            }
        }
    }

    /// Does what a device does until `enough`, at most so long; whether it came to that.
    pub fn run(&mut self, most: Duration, enough: impl Fn(&Self) -> bool) -> bool {
        let end = Instant::now() + most;
        let mut buffer = [0; 2000];
        loop {
            let now = self.now();
            self.device.tick(now);
            self.settle();
            if enough(self) {
                return true;
            }
            if Instant::now() >= end {
                return false;
            }
            let came = self.socket.recv_from(&mut buffer);
            if let Ok((length, from)) = came
                && !self.deaf
            {
                let (lanes, arrived) = (&self.lanes, &mut self.arrived);
                let taken = |id| lanes.get(&id).cloned();
                self.device
                    .receive(now, from, &mut buffer[..length], &taken, &mut |packet| arrived.push(packet.to_vec()));
                self.settle();
            }
        }
    }

    /// Comes in, within 10 s.
    pub fn up(mut self) -> Self {
        self.device.open(self.now());
        assert!(self.run(Duration::from_secs(10), Self::is_up), "{:?}", self.events);
        self
    }

    pub fn is_up(&self) -> bool {
        self.events.iter().any(|event| matches!(event, Event::Up(_)))
    }

    /// Sends an inner packet, whatever it is.
    pub fn send(&self, packet: &[u8]) {
        let mut datagram = Vec::new();
        self.current.as_ref().unwrap().seal_packet(self.now(), packet, &mut datagram).unwrap();
        self.socket.send_to(&datagram, self.gateway).unwrap();
    }
}
