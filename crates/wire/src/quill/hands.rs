//! The handshakes of a gateway: every curve operation and every ciphertext of the second secret, in a thread that carries no data.

use std::sync::Arc;

use parking_lot::Mutex;
use zeroize::Zeroizing;

use super::door::{Door, Knock};
use super::ends::{Answered, Judged, Task};
use super::gateway::{Doorkeeper, Gateway};
use super::lane::Lane;
use super::message::Answer;
use super::{Suite, VERSION, handshake, second};
use crate::budget::{Budget, Verdict};
use crate::{Moment, Random};

/// Does the handshakes of one listener, in a thread that carries no data.
pub struct Hands {
    suite: Suite,
    private: Zeroizing<[u8; 32]>,
    budget: Budget,
    random: Box<dyn Random>,
}

impl Hands {
    /// Hands with a full budget.
    #[must_use]
    pub fn new(suite: Suite, private: Zeroizing<[u8; 32]>, mut random: Box<dyn Random>) -> Self {
        let budget = Budget::new(&mut *random);
        Self { suite, private, budget, random }
    }

    /// Answers an opening whose tag is right, or does nothing, as the budget says; or gives a datagram that asks its sender to come
    /// again, for which the machine is not needed.
    pub fn opening(
        &mut self,
        now: Moment,
        knock: &Knock,
        door: &Door,
        machine: &Mutex<Gateway>,
        keeper: &dyn Doorkeeper,
    ) -> Option<Vec<u8>> {
        let front = knock.front()?;
        let proved = door.proves(now, knock.from, &front);
        match self.budget.spend(now, knock.from, proved) {
            Verdict::Read => {}
            Verdict::Again => return Some(door.again(now, knock, &front.tag, &mut *self.random)),
            Verdict::Nothing => return None,
            Verdict::Flooded { everywhere } => {
                door.be_quiet(now, knock.from, everywhere);
                return None;
            }
        }
        // The same opening again: its answer was lost, or somebody replays it. Both get the same bytes, without any work.
        if machine.lock().answered_before(knock.from, &front.tag) {
            return None;
        }
        let received = handshake::receive(self.suite, &self.private, &knock.call, &front, &knock.datagram).ok()?;
        let judged = machine.lock().judge(now, (knock.from, proved), &received, keeper);
        match judged {
            Judged::Again => {
                let may = self.budget.ask(now) == Verdict::Again;
                return may.then(|| door.again(now, knock, &front.tag, &mut *self.random));
            }
            Judged::Refused(reason, words) => {
                let device_key = received.device_key;
                let (answer, _) = received.answer(&Answer::Refused(reason, words.clone()), &mut *self.random).ok()?;
                machine.lock().refuse(knock.from, device_key, (reason, words), answer);
            }
            Judged::Admitted { own, settings, renews } => {
                let (device_key, said) = (received.device_key, received.opening.clone());
                let answer = Answer::Admitted { version: VERSION, id: own, settings: settings.clone() };
                let (answer, first) = received.answer(&answer, &mut *self.random).ok()?;
                let lane = Lane::first(self.suite, &first.of_gateway(), own, said.id, knock.from);
                let said = Answered {
                    device_key,
                    tag: front.tag,
                    proved,
                    stale: knock.stale,
                    answer,
                    settings,
                    software: said.software,
                    notice: said.notice,
                    renews,
                    lane: Arc::new(lane),
                    first,
                };
                machine.lock().greet(now, knock.from, said);
            }
        }
        None
    }

    /// Answers a device's key for the second secret.
    pub fn second(&mut self, now: Moment, task: &Task, machine: &Mutex<Gateway>) {
        match second::accept(&task.first, task.ids, &task.key, &mut *self.random) {
            Some((ciphertext, split)) => machine.lock().seconded(now, task, ciphertext, &split),
            None => machine.lock().drop_greeting(task.greeting),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::super::call::Call;
    use super::super::device::{self, Config, Device};
    use super::super::door::Valid;
    use super::super::frame::{Frame, frames};
    use super::super::gateway::Event;
    use super::super::lane::{WORN, WORN_STEP};
    use super::super::message::Settings;
    use super::super::{ConnectionId, Reason};
    use super::*;
    use std::collections::HashMap;
    use x25519_dalek::{PublicKey, StaticSecret};

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
        fn admit(
            &self,
            _device_key: &[u8; 32],
            _from: std::net::SocketAddr,
            _continues: bool,
        ) -> Result<Settings, (Reason, String)> {
            Ok(Settings {
                edition: 1,
                inner: "10.187.44.2/24".parse().unwrap(),
                gateway: "10.187.44.1".parse().unwrap(),
                second: None,
                resolvers: vec![],
                reach: vec![],
                packet_size: 1400,
                keep_alive: 20,
                asks: false,
            })
        }
    }

    /// Two ends that hear each other at once.
    struct Both {
        now: Moment,
        machine: Mutex<Gateway>,
        hands: Hands,
        door: Door,
        device: Device,
        lanes: HashMap<ConnectionId, Arc<Lane>>,
        device_lanes: HashMap<ConnectionId, Arc<Lane>>,
        serving: Option<Arc<Lane>>,
    }

    const DEVICE: &str = "198.51.100.23:40000";

    impl Both {
        fn up() -> Self {
            let suite = Suite::Aes256Gcm;
            let private = StaticSecret::from([5; 32]);
            let call = Call::new(&[6; 32]);
            let door = Door::new(&mut Steps(1));
            door.set_calls(vec![Valid { number: 1, call: call.clone(), until: None }]);
            let public = *PublicKey::from(&private).as_bytes();
            let config = Config::new(suite, Zeroizing::new([9; 32]), public, call, "test");
            let mut number = 0..;
            let mut both = Self {
                now: Moment(1_000),
                machine: Mutex::new(Gateway::new(suite, Box::new(move || number.next().unwrap()), Box::new(Steps(2)))),
                hands: Hands::new(suite, Zeroizing::new(private.to_bytes()), Box::new(Steps(3))),
                door,
                device: Device::new(config, "203.0.113.10:23817".parse().unwrap(), Box::new(Steps(4))),
                lanes: HashMap::new(),
                device_lanes: HashMap::new(),
                serving: None,
            };
            both.device.open(both.now);
            both.settle();
            assert!(both.serving.as_ref().is_some_and(|lane| lane.is_proved()));
            both
        }

        fn settle(&mut self) {
            for _ in 0..8 {
                for (_, datagram) in self.device.take_output() {
                    self.arrive(datagram);
                }
                self.hear();
            }
        }

        /// The device hears whatever the gateway says.
        fn hear(&mut self) {
            for event in self.machine.lock().take_events() {
                match event {
                    Event::LaneAdded(lane) => drop(self.lanes.insert(lane.own, lane)),
                    Event::Opened { lane, .. } | Event::Renewed { lane, .. } => self.serving = Some(lane),
                    _ => {}
                }
            }
            let out = self.machine.lock().take_output();
            for (to, mut datagram) in out {
                let lanes = &self.device_lanes;
                self.device.receive(self.now, to, &mut datagram, &|id| lanes.get(&id).cloned(), &mut |_| {});
                for event in self.device.take_events() {
                    if let device::Event::LaneAdded(lane) = event {
                        self.device_lanes.insert(lane.own, lane);
                    }
                }
            }
        }

        fn arrive(&mut self, mut datagram: Vec<u8>) {
            let (from, length) = (DEVICE.parse().unwrap(), datagram.len());
            let Some(lane) = ConnectionId::of(&datagram).and_then(|id| self.lanes.get(&id).cloned()) else {
                let knock = self.door.knock(self.now, from, &datagram).unwrap();
                let again = self.hands.opening(self.now, &knock, &self.door, &self.machine, &Anybody);
                return assert!(again.is_none());
            };
            let body = lane.open(self.now, &mut datagram).unwrap();
            if lane.needs_attention(from) && !self.machine.lock().heard(self.now, &lane, from, length) {
                return;
            }
            for frame in frames(body) {
                self.machine.lock().control(self.now, &lane, from, length, frame.unwrap());
            }
            let tasks = self.machine.lock().take_tasks();
            tasks.iter().for_each(|task| self.hands.second(self.now, task, &self.machine));
        }
    }

    /// A download of millions of datagrams to a device that has not counted them: the gateway asks, and the session goes on.
    #[test]
    fn a_gateway_asks_for_new_keys_before_its_own_are_used_up() {
        let mut both = Both::up();
        let first = both.serving.clone().unwrap();
        first.skip_to(WORN - 2);
        assert!(first.seal_packet(both.now, b"x", &mut Vec::new()).is_ok());
        assert!(!first.needs_attention(DEVICE.parse().unwrap()));
        first.seal_packet(both.now, b"x", &mut Vec::new()).unwrap();
        assert!(first.needs_attention(DEVICE.parse().unwrap()));
        // Its request is lost; the next is due after so many more.
        both.machine.lock().heard(both.now, &first, DEVICE.parse().unwrap(), 100);
        assert_eq!(both.machine.lock().take_output().len(), 1);
        assert!(!first.needs_attention(DEVICE.parse().unwrap()));
        first.skip_to(WORN + WORN_STEP - 1);
        first.seal_packet(both.now, b"x", &mut Vec::new()).unwrap();
        both.machine.lock().heard(both.now, &first, DEVICE.parse().unwrap(), 100);
        both.settle();
        let second = both.serving.clone().unwrap();
        assert_ne!(second.own, first.own);
        assert_eq!((second.session, second.is_proved()), (first.session, true));
    }

    /// A renewal that arrives when its session has just ended begins no session under an old number.
    #[test]
    fn a_renewal_of_a_session_that_has_ended_meanwhile_begins_anew() {
        let mut both = Both::up();
        let session = both.serving.clone().unwrap().session;
        both.now = both.now.after(device::RENEW_AFTER);
        both.device.tick(both.now);
        // As far as the ciphertext: the device's first datagram under the final keys is on its way.
        let mut ready = Vec::new();
        for _ in 0..3 {
            for (_, datagram) in both.device.take_output() {
                let known =
                    ConnectionId::of(&datagram).is_some_and(|id| both.lanes.get(&id).is_some_and(|lane| lane.carries));
                if known { ready.push(datagram) } else { both.arrive(datagram) }
            }
            both.hear();
        }
        assert!(!ready.is_empty());
        // The device's own goodbye under its old keys overtakes it.
        let (lane, from) = (both.serving.clone().unwrap(), DEVICE.parse().unwrap());
        both.machine.lock().control(both.now, &lane, from, 100, Frame::End(Reason::Closed, ""));
        let ended = both.machine.lock().take_events();
        assert!(ended.iter().any(|event| matches!(event, Event::Ended { reason: Reason::Closed, .. })), "{ended:?}");
        ready.into_iter().for_each(|datagram| both.arrive(datagram));
        let events = both.machine.lock().take_events();
        assert!(
            !events.iter().any(|event| matches!(event, Event::Opened { .. } | Event::Renewed { .. })),
            "{events:?}"
        );
        // The device notices, and opens a session with a number of its own.
        both.now = both.now.after(20_000);
        both.device.open(both.now);
        both.settle();
        assert_ne!(both.serving.clone().unwrap().session, session);
    }
}
