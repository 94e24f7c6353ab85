//! Two ends of quill in a session, each of which hears from the other whatever frames there may be, in whatever sequence, with the
//! right keys: a hostile device at a gateway, a hostile gateway at a device.
#![no_main]

use std::collections::HashMap;
use std::net::SocketAddr;
use std::sync::Arc;

use libfuzzer_sys::fuzz_target;
use parking_lot::Mutex;
use yestrel_wire::quill::call::Call;
use yestrel_wire::quill::device::{Config, Device, Event as Told};
use yestrel_wire::quill::door::{Door, Valid};
use yestrel_wire::quill::frame::{Frame, frames};
use yestrel_wire::quill::gateway::{Doorkeeper, Event, Gateway};
use yestrel_wire::quill::hands::Hands;
use yestrel_wire::quill::lane::Lane;
use yestrel_wire::quill::message::Settings;
use yestrel_wire::quill::{ConnectionId, Reason, Suite};
use yestrel_wire::{Moment, Random};
use zeroize::Zeroizing;

struct Steps(u64);
impl Random for Steps {
    fn fill(&mut self, bytes: &mut [u8]) {
        for byte in bytes {
            self.0 = self.0.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
            *byte = (self.0 >> 56) as u8;
        }
    }
}

struct Anybody;
impl Doorkeeper for Anybody {
    fn admit(&self, _: &[u8; 32], _: std::net::SocketAddr, _: bool) -> Result<Settings, (Reason, String)> {
        Ok(Settings {
            edition: 1,
            inner: "10.187.44.2/24".parse().expect("a range"),
            gateway: "10.187.44.1".parse().expect("an address"),
            second: None,
            resolvers: vec![],
            reach: vec![],
            packet_size: 1400,
            keep_alive: 20,
        asks: false,
        })
    }
}

type Lanes = HashMap<ConnectionId, Arc<Lane>>;

fuzz_target!(|bytes: &[u8]| {
    let suite = Suite::ChaCha20Poly1305;
    let private = x25519_dalek::StaticSecret::from([5; 32]);
    let public = *x25519_dalek::PublicKey::from(&private).as_bytes();
    let call = Call::new(&[6; 32]);
    let door = Door::new(&mut Steps(1));
    door.set_calls(vec![Valid { number: 1, call: call.clone(), until: None }]);
    let mut numbers = 0..;
    let machine = Mutex::new(Gateway::new(suite, Box::new(move || numbers.next().unwrap_or(0)), Box::new(Steps(2))));
    let mut hands = Hands::new(suite, Zeroizing::new(private.to_bytes()), Box::new(Steps(3)));
    let (here, there): (SocketAddr, SocketAddr) = (([198, 51, 100, 23], 4000).into(), ([203, 0, 113, 10], 23817).into());
    let mut device = Device::new(Config::new(suite, Zeroizing::new([9; 32]), public, call, "fuzz"), there, Box::new(Steps(4)));
    let (mut lanes, mut device_lanes) = (Lanes::new(), Lanes::new());
    let mut now = Moment(1_000);
    device.open(now);
    // First as it should be; then each chunk of input is frames that one of the two says.
    let mut chunks = bytes.chunks(80).map(Some);
    for round in 0..40 {
        let chunk = if round < 6 { None } else { chunks.next().flatten() };
        if round >= 6 && chunk.is_none() {
            break;
        }
        let mut to_gateway: Vec<Vec<u8>> = device.take_output().into_iter().map(|(_, datagram)| datagram).collect();
        let mut to_device: Vec<Vec<u8>> = machine.lock().take_output().into_iter().map(|(_, datagram)| datagram).collect();
        if let Some([side, rest @ ..]) = chunk {
            let said: Vec<Frame<'_>> = frames(rest).flatten().collect();
            let from = if side & 1 == 0 { &device_lanes } else { &lanes };
            for lane in from.values() {
                if let Ok(datagram) = lane.seal_frames(now, &said) {
                    if side & 1 == 0 { to_gateway.push(datagram) } else { to_device.push(datagram) }
                }
            }
            now = now.after(u64::from(*side) * 20);
            machine.lock().tick(now);
            device.tick(now);
        }
        for mut datagram in to_gateway {
            let length = datagram.len();
            let Some(lane) = ConnectionId::of(&datagram).and_then(|id| lanes.get(&id).cloned()) else {
                if let Some(knock) = door.knock(now, here, &datagram) {
                    let _ = hands.opening(now, &knock, &door, &machine, &Anybody);
                }
                continue;
            };
            let Ok(body) = lane.open(now, &mut datagram) else { continue };
            if lane.needs_attention(here) && !machine.lock().heard(now, &lane, here, length) {
                continue;
            }
            for frame in frames(body).flatten() {
                machine.lock().control(now, &lane, here, length, frame);
            }
            let tasks = machine.lock().take_tasks();
            tasks.iter().for_each(|task| hands.second(now, task, &machine));
        }
        for event in machine.lock().take_events() {
            match event {
                Event::LaneAdded(lane) => drop(lanes.insert(lane.own, lane)),
                Event::LaneRemoved(id) => drop(lanes.remove(&id)),
                _ => {}
            }
        }
        for mut datagram in to_device {
            device.receive(now, there, &mut datagram, &|id| device_lanes.get(&id).cloned(), &mut |_| {});
            for event in device.take_events() {
                match event {
                    Told::LaneAdded(lane) => drop(device_lanes.insert(lane.own, lane)),
                    Told::LaneRemoved(id) => drop(device_lanes.remove(&id)),
                    _ => {}
                }
            }
        }
        assert!(lanes.len() < 64 && device_lanes.len() < 64, "what either holds is bounded");
    }
});
