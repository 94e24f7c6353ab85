//! The device's end: opens, keeps the tunnel alive, renews keys, and says in one event what happened.

use std::net::SocketAddr;
use std::sync::Arc;

use zeroize::Zeroizing;

use super::frame::{Frame, frames};
use super::handshake::{self, Sent};
use super::lane::Lane;
use super::message::{Answer, Opening, Settings};
use super::{ConnectionId, Reason, Suite, VERSION};
use crate::Moment;
use crate::Random;
use crate::counters::Counters;
use crate::timer::Deadlines;

/// Keys are renewed after this many milliseconds.
pub const RENEW_AFTER: u64 = 600_000;
/// ... or after this many datagrams, well below [`super::suite::MOST_DATAGRAMS`].
pub const RENEW_DATAGRAMS: u64 = 1 << 22;
/// How long replaced keys still open what is on its way.
const KEEP_OLD: u64 = 10_000;
/// Silence after something was sent, before the device asks whether the gateway is there.
const ASK_AFTER: u64 = 2_000;
/// Silence after which the tunnel counts as lost and is opened anew.
const LOST_AFTER: u64 = 8_000;
/// An opening is repeated after this; the wait doubles up to [`RESEND_MOST`].
const RESEND_FIRST: u64 = 400;
const RESEND_MOST: u64 = 4_000;
/// An unanswered opening is made anew after this many repetitions, so that it does not stay comparable.
const REPEATS: u32 = 4;
/// Between two looks at the counters.
const WATCH: u64 = 500;
/// The first frame under new keys is repeated after this until the gateway is heard under them.
const READY_AGAIN: u64 = 300;

/// Who opens towards whom.
pub struct Config {
    /// The algorithms, as the handover says.
    pub suite: Suite,
    /// The device's private X25519 key.
    pub private: Zeroizing<[u8; 32]>,
    /// The gateway's public X25519 key.
    pub gateway_public: [u8; 32],
    /// Versions to offer, best first.
    pub versions: Vec<u16>,
    /// Program and version.
    pub software: String,
}

impl Config {
    /// A configuration that offers what this code speaks.
    #[must_use]
    pub fn new(suite: Suite, private: Zeroizing<[u8; 32]>, gateway_public: [u8; 32], software: &str) -> Self {
        Self { suite, private, gateway_public, versions: vec![VERSION], software: software.into() }
    }
}

/// What the caller is told.
#[derive(Debug)]
pub enum Event {
    /// Packets may arrive on this lane from now on.
    LaneAdded(Arc<Lane>),
    /// Packets go out on this lane from now on.
    Current(Arc<Lane>),
    /// Nothing arrives under this id any more.
    LaneRemoved(ConnectionId),
    /// The gateway admitted the device and showed that it has the keys.
    Up(Settings),
    /// Settings changed in a running session.
    Changed(Settings),
    /// The gateway is not heard any more; the device opens anew by itself.
    Lost,
    /// The gateway refused; the device does not try again.
    Refused(Reason, String),
    /// The session ended; the device does not try again.
    Ended(Reason, String),
}

impl std::fmt::Debug for Lane {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "Lane({:02x?})", self.own.0)
    }
}

/// What a device waits for.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
enum Timer {
    /// An opening that was not answered is repeated, or made anew.
    Resend,
    /// The first frame under new keys is repeated.
    Ready,
    /// The counters are looked at, which packets move and no timer does: silence, keep-alive, use of the keys.
    Watch,
    /// Keys are renewed for their age.
    Renew,
    /// Replaced keys are forgotten.
    Forget(ConnectionId),
}

struct Waiting {
    sent: Sent,
    datagram: Vec<u8>,
    wait: u64,
    repeats: u32,
    renews: bool,
}

struct Running {
    lane: Arc<Lane>,
    settings: Settings,
    announced: bool,
    asked: Moment,
    /// Since when something that this end said stands without any word from the other.
    unanswered: Option<Moment>,
}

/// The state machine of one tunnel on a device.
pub struct Device {
    config: Config,
    random: Box<dyn Random>,
    gateway: SocketAddr,
    waiting: Option<Waiting>,
    running: Option<Running>,
    timers: Deadlines<Timer>,
    out: Vec<(SocketAddr, Vec<u8>)>,
    events: Vec<Event>,
    sessions: u64,
}

impl Device {
    /// A device that has not opened yet.
    #[must_use]
    pub fn new(config: Config, gateway: SocketAddr, random: Box<dyn Random>) -> Self {
        Self {
            config,
            random,
            gateway,
            waiting: None,
            running: None,
            timers: Deadlines::default(),
            out: Vec::new(),
            events: Vec::new(),
            sessions: 0,
        }
    }

    /// Datagrams to send, with where to.
    pub fn take_output(&mut self) -> Vec<(SocketAddr, Vec<u8>)> {
        std::mem::take(&mut self.out)
    }

    /// What happened since the last call.
    pub fn take_events(&mut self) -> Vec<Event> {
        std::mem::take(&mut self.events)
    }

    /// The gateway is at another address now.
    pub fn redirect(&mut self, gateway: SocketAddr) {
        self.gateway = gateway;
        if let Some(running) = &self.running {
            running.lane.set_path(gateway);
        }
    }

    /// Opens a new session.
    pub fn open(&mut self, now: Moment) {
        self.forget_running(now, false);
        self.start(now, None);
    }

    fn start(&mut self, now: Moment, continues: Option<ConnectionId>) {
        let opening = Opening {
            versions: self.config.versions.clone(),
            id: ConnectionId(super::eight(&mut *self.random)),
            software: self.config.software.clone(),
            continues,
            padding: 0,
        };
        let (sent, datagram) = handshake::open(
            self.config.suite,
            &self.config.private,
            &self.config.gateway_public,
            opening,
            &mut *self.random,
        );
        self.out.push((self.gateway, datagram.clone()));
        self.timers.set(Timer::Resend, now.after(RESEND_FIRST));
        self.waiting = Some(Waiting { sent, datagram, wait: RESEND_FIRST, repeats: 0, renews: continues.is_some() });
    }

    fn forget_running(&mut self, now: Moment, keep: bool) {
        for timer in [Timer::Ready, Timer::Watch, Timer::Renew] {
            self.timers.clear(timer);
        }
        if let Some(running) = self.running.take() {
            if keep {
                self.timers.set(Timer::Forget(running.lane.own), now.after(KEEP_OLD));
            } else {
                self.events.push(Event::LaneRemoved(running.lane.own));
            }
        }
    }

    fn stop_waiting(&mut self) {
        self.waiting = None;
        self.timers.clear(Timer::Resend);
    }

    /// Whether `datagram` may answer the opening that is waiting.
    #[must_use]
    pub fn awaits(&self, datagram: &[u8]) -> bool {
        self.waiting.as_ref().is_some_and(|waiting| ConnectionId::of(datagram) == Some(waiting.sent.id))
    }

    /// Takes a datagram that [`Device::awaits`]. What does not verify is dropped.
    pub fn answer(&mut self, now: Moment, datagram: &[u8]) {
        let Some(waiting) = self.waiting.as_mut() else {
            return;
        };
        let Ok((answer, split)) = waiting.sent.answer(datagram) else {
            return;
        };
        let (own, suite, renews) = (waiting.sent.id, waiting.sent.suite(), waiting.renews);
        self.stop_waiting();
        match answer {
            Answer::Refused(reason, words) => {
                self.forget_running(now, false);
                self.events.push(Event::Refused(reason, words));
            }
            Answer::Admitted { version, .. } if !self.config.versions.contains(&version) => {
                self.forget_running(now, false);
                self.events.push(Event::Refused(Reason::Versions, String::new()));
            }
            Answer::Admitted { id, settings, .. } => {
                let counters = match &self.running {
                    Some(running) if renews => running.lane.counters.clone(),
                    _ => {
                        self.sessions += 1;
                        Arc::new(Counters::default())
                    }
                };
                let announced = renews && self.running.as_ref().is_some_and(|running| running.announced);
                counters.heard.store(now.0, std::sync::atomic::Ordering::Relaxed);
                let lane = Arc::new(Lane::new(suite, &split, own, id, self.sessions, self.gateway, counters));
                self.forget_running(now, renews);
                self.events.push(Event::LaneAdded(lane.clone()));
                self.events.push(Event::Current(lane.clone()));
                self.running = Some(Running { lane, settings, announced, asked: now, unanswered: None });
                self.timers.set(Timer::Watch, now.after(WATCH));
                self.timers.set(Timer::Renew, now.after(RENEW_AFTER));
                self.ready(now);
            }
        }
    }

    fn ready(&mut self, now: Moment) {
        let Some(running) = self.running.as_ref() else {
            return;
        };
        self.timers.set(Timer::Ready, now.after(READY_AGAIN));
        let token = super::eight(&mut *self.random);
        let taken = Frame::SettingsTaken(running.settings.edition);
        if let Ok(datagram) = running.lane.seal_frames(now, &[Frame::Ready, taken, Frame::Echo(token)]) {
            self.out.push((self.gateway, datagram));
        }
    }

    /// A datagram was opened on `lane` that [`Lane::needs_attention`]. Whether its frames are to be taken.
    pub fn heard(&mut self, _now: Moment, lane: &Lane, _from: SocketAddr) -> bool {
        if lane.confirm()
            && let Some(running) = self.running.as_mut()
            && running.lane.own == lane.own
            && !running.announced
        {
            running.announced = true;
            self.events.push(Event::Up(running.settings.clone()));
        }
        true
    }

    /// A frame other than data arrived on `lane`.
    pub fn control(&mut self, now: Moment, lane: &Lane, frame: Frame<'_>) {
        match frame {
            Frame::Echo(token) => self.send_on(now, lane, &[Frame::EchoAnswer(token)]),
            Frame::PathCheck(token) => self.send_on(now, lane, &[Frame::PathAnswer(token)]),
            Frame::Settings(bytes) => {
                let Ok(settings) = Settings::parse(bytes) else {
                    return;
                };
                let edition = settings.edition;
                if let Some(running) = self.running.as_mut()
                    && edition > running.settings.edition
                {
                    running.settings = settings.clone();
                    self.events.push(Event::Changed(settings));
                }
                self.send_on(now, lane, &[Frame::SettingsTaken(edition)]);
            }
            Frame::End(reason, words) => {
                let current = self.running.as_ref().is_some_and(|running| running.lane.session == lane.session);
                if !current {
                    return;
                }
                self.stop_waiting();
                if reason.passes() {
                    self.lost(now);
                } else {
                    self.forget_running(now, false);
                    self.events.push(Event::Ended(reason, super::words_of(words)));
                }
            }
            _ => {}
        }
    }

    fn send_on(&mut self, now: Moment, lane: &Lane, frames: &[Frame<'_>]) {
        if let Ok(datagram) = lane.seal_frames(now, frames) {
            self.out.push((self.gateway, datagram));
        }
    }

    fn lost(&mut self, now: Moment) {
        self.events.push(Event::Lost);
        self.open(now);
    }

    /// Opens a datagram of any kind: gives inner packets to `packet` and handles the rest. Returns
    /// whether it was taken. (The data path of the agent does the same with the lanes alone.)
    pub fn receive(
        &mut self,
        now: Moment,
        from: SocketAddr,
        datagram: &mut [u8],
        lanes: &dyn Fn(ConnectionId) -> Option<Arc<Lane>>,
        packet: &mut dyn FnMut(&[u8]),
    ) -> bool {
        if self.awaits(datagram) {
            self.answer(now, datagram);
            return true;
        }
        let Some(lane) = ConnectionId::of(datagram).and_then(lanes) else {
            return false;
        };
        let Ok(body) = lane.open(now, datagram) else {
            return false;
        };
        if lane.needs_attention(from) && !self.heard(now, &lane, from) {
            return true;
        }
        for frame in frames(body) {
            match frame {
                Ok(Frame::Data(inner)) => {
                    lane.count_received(inner.len());
                    packet(inner);
                }
                Ok(frame) => self.control(now, &lane, frame),
                Err(_) => break,
            }
        }
        true
    }

    /// Says goodbye and stops.
    pub fn close(&mut self, now: Moment) {
        self.stop_waiting();
        if let Some(running) = &self.running {
            let lane = running.lane.clone();
            self.send_on(now, &lane, &[Frame::End(Reason::Closed, "")]);
        }
        self.forget_running(now, false);
    }

    /// The next moment at which something becomes due; `None` when nothing waits.
    #[must_use]
    pub fn deadline(&self) -> Option<Moment> {
        self.timers.next()
    }

    /// Does what has become due.
    pub fn tick(&mut self, now: Moment) {
        while let Some(timer) = self.timers.due(now) {
            match timer {
                Timer::Resend => self.resend(now),
                Timer::Ready => {
                    if self.running.as_ref().is_some_and(|running| !running.lane.is_confirmed()) {
                        self.ready(now);
                    }
                }
                Timer::Watch => {
                    self.timers.set(Timer::Watch, now.after(WATCH));
                    self.watch(now);
                }
                Timer::Renew => self.renew(now),
                Timer::Forget(id) => self.events.push(Event::LaneRemoved(id)),
            }
        }
    }

    fn resend(&mut self, now: Moment) {
        let Some(waiting) = self.waiting.as_mut() else {
            return;
        };
        if waiting.repeats >= REPEATS {
            let continues = waiting.renews.then(|| self.running.as_ref().map(|r| r.lane.other)).flatten();
            self.start(now, continues);
            if let Some(waiting) = self.waiting.as_mut() {
                waiting.wait = RESEND_MOST;
                self.timers.set(Timer::Resend, now.after(RESEND_MOST));
            }
        } else {
            waiting.repeats += 1;
            waiting.wait = (waiting.wait * 2).min(RESEND_MOST);
            self.timers.set(Timer::Resend, now.after(waiting.wait));
            self.out.push((self.gateway, waiting.datagram.clone()));
        }
    }

    fn watch(&mut self, now: Moment) {
        let Some(running) = self.running.as_mut() else {
            return;
        };
        let counters = running.lane.counters.clone();
        let (heard, spoke) = (counters.last_heard(), counters.last_spoke());
        running.unanswered =
            if spoke > heard { running.unanswered.filter(|since| *since > heard).or(Some(now)) } else { None };
        let silent = running.unanswered.map_or(0, |since| now.since(since));
        if silent >= LOST_AFTER {
            self.lost(now);
            return;
        }
        if !running.lane.is_confirmed() {
            return;
        }
        let keep_alive = u64::from(running.settings.keep_alive) * 1000;
        let quiet = keep_alive > 0 && now.since(spoke.max(heard)) >= keep_alive;
        let doubtful = silent >= ASK_AFTER;
        if (quiet || doubtful) && now.since(running.asked) >= 1000 {
            running.asked = now;
            let lane = running.lane.clone();
            let token = super::eight(&mut *self.random);
            self.send_on(now, &lane, &[Frame::Echo(token)]);
            return;
        }
        if running.lane.used() >= RENEW_DATAGRAMS {
            self.renew(now);
        }
    }

    /// Asks for new keys, once the present ones are known to be the gateway's too.
    fn renew(&mut self, now: Moment) {
        let Some(running) = self.running.as_ref() else {
            return;
        };
        if self.waiting.is_none() && running.lane.is_confirmed() {
            let continues = Some(running.lane.other);
            self.start(now, continues);
        } else {
            self.timers.set(Timer::Renew, now.after(WATCH));
        }
    }
}
