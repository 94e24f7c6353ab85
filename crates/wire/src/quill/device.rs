//! The device's end: opens, keeps the tunnel alive, renews keys, and says in one event what happened.

use std::net::SocketAddr;
use std::sync::Arc;
use std::sync::atomic::Ordering;

use zeroize::Zeroizing;

use super::call::{Call, Token};
use super::frame::{Frame, frames};
use super::handshake::{self, LONGEST, Sent, Towards};
use super::keys::First;
use super::lane::Lane;
use super::message::{Answer, Opening, Settings};
use super::parcel::{Inbox, Outbox};
use super::second::{Ids, Offer};
use super::{ConnectionId, Reason, Suite, VERSION};
use crate::Moment;
use crate::Random;
use crate::counters::{Counters, SILENT_AFTER};
use crate::timer::Deadlines;

/// Keys are renewed after this many milliseconds.
pub const RENEW_AFTER: u64 = 600_000;
/// ... or after this many datagrams, well below [`super::suite::MOST_DATAGRAMS`].
pub const RENEW_DATAGRAMS: u64 = 1 << 22;
/// How long replaced keys still open what is on its way.
const KEEP_OLD: u64 = 10_000;
/// Silence after something was sent, before the device asks whether the gateway is there.
const ASK_AFTER: u64 = SILENT_AFTER;
/// Silence after which the tunnel counts as lost and is opened anew.
const LOST_AFTER: u64 = 8_000;
/// An opening is repeated after this; the wait doubles up to [`RESEND_MOST`].
const RESEND_FIRST: u64 = 400;
const RESEND_MOST: u64 = 4_000;
/// An unanswered opening is made anew after this many repetitions, so that it does not stay comparable.
const REPEATS: u32 = 4;
/// The key for the second secret is sent again after this, so often, before the device begins anew.
const SECOND_AGAIN: u64 = 400;
const SECOND_REPEATS: u32 = 8;
/// A datagram with a part of that key is at least so long, for what answers it is no longer.
const SECOND_LENGTH: usize = 1180;
/// A gateway that asks again and again to come with a token is left alone until the opening is due anew.
const MOST_ASKED: u32 = 3;
/// Between two renewals for which the gateway asks.
const ASKED_RENEWAL: u64 = 10_000;
/// Between two settings that are told.
const SETTINGS_CALM: u64 = 1_000;
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
    /// The listener's call secret.
    pub call: Call,
    /// Versions to offer, best first.
    pub versions: Vec<u16>,
    /// Program and version.
    pub software: String,
    /// The newest way notice that was taken; 0 for none.
    pub notice: u32,
    /// Bytes at most of a parcel that the gateway may send.
    pub most_parcel: usize,
}

impl Config {
    /// A configuration that offers what this code speaks.
    #[must_use]
    pub fn new(
        suite: Suite,
        private: Zeroizing<[u8; 32]>,
        gateway_public: [u8; 32],
        call: Call,
        software: &str,
    ) -> Self {
        Self {
            suite,
            private,
            gateway_public,
            call,
            versions: vec![VERSION],
            software: software.into(),
            notice: 0,
            most_parcel: 0,
        }
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
    /// Something longer than a datagram has arrived whole.
    Parcel(u8, Vec<u8>),
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
    /// An opening that was not answered is repeated, or made anew; and so is the key for the second secret.
    Resend,
    /// The first frame under new keys is repeated.
    Ready,
    /// The counters are looked at, which packets move and no timer does: silence, keep-alive, use of the keys.
    Watch,
    /// Keys are renewed for their age.
    Renew,
    /// Settings that came too soon after others are told.
    Settings,
    /// Parts of a parcel are sent, or sent again.
    Parcels,
    /// Replaced keys are forgotten.
    Forget(ConnectionId),
}

struct Waiting {
    sent: Sent,
    datagram: Vec<u8>,
    wait: u64,
    repeats: u32,
    /// How often the gateway has asked to come with a token.
    asked: u32,
    continues: Option<ConnectionId>,
}

/// Admitted; the second secret is to be agreed upon.
struct Greeting {
    lane: Arc<Lane>,
    first: First,
    offer: Offer,
    /// Under which id this end will receive.
    own: ConnectionId,
    settings: Settings,
    repeats: u32,
    continues: Option<ConnectionId>,
}

struct Running {
    lane: Arc<Lane>,
    settings: Settings,
    announced: bool,
    asked: Moment,
    /// Since when something that this end said stands without any word from the other.
    unanswered: Option<Moment>,
}

fn number(random: &mut dyn Random) -> u32 {
    let [a, b, c, d, ..] = super::eight(random);
    u32::from_be_bytes([a, b, c, d])
}

/// The state machine of one tunnel on a device.
pub struct Device {
    config: Config,
    random: Box<dyn Random>,
    gateway: SocketAddr,
    waiting: Option<Waiting>,
    greeting: Option<Greeting>,
    running: Option<Running>,
    /// When the gateway last got the renewal that it asked for.
    asked_renewal: Option<Moment>,
    /// When settings were last told, and what has come since.
    told: (Moment, Option<Settings>),
    outbox: Outbox,
    inbox: Inbox,
    timers: Deadlines<Timer>,
    out: Vec<(SocketAddr, Vec<u8>)>,
    events: Vec<Event>,
    sessions: u64,
}

impl Device {
    /// A device that has not opened yet.
    #[must_use]
    pub fn new(config: Config, gateway: SocketAddr, mut random: Box<dyn Random>) -> Self {
        let (outbox, inbox) = (Outbox::new(number(&mut *random)), Inbox::new(config.most_parcel));
        Self {
            outbox,
            inbox,
            config,
            random,
            gateway,
            waiting: None,
            greeting: None,
            running: None,
            asked_renewal: None,
            told: (Moment(0), None),
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
        self.start(now, None, None, 0);
    }

    fn start(&mut self, now: Moment, continues: Option<ConnectionId>, token: Option<Token>, asked: u32) {
        self.stop_waiting();
        let opening = Opening {
            versions: self.config.versions.clone(),
            id: ConnectionId(super::eight(&mut *self.random)),
            software: self.config.software.clone(),
            continues,
            notice: self.config.notice,
        };
        let towards = Towards {
            suite: self.config.suite,
            call: &self.config.call,
            gateway_public: &self.config.gateway_public,
            device_private: &self.config.private,
        };
        let (sent, datagram) = handshake::open(&towards, token, opening, &mut *self.random);
        self.out.push((self.gateway, datagram.clone()));
        self.timers.set(Timer::Resend, now.after(RESEND_FIRST));
        self.waiting = Some(Waiting { sent, datagram, wait: RESEND_FIRST, repeats: 0, asked, continues });
    }

    fn forget_running(&mut self, now: Moment, keep: bool) {
        for timer in [Timer::Ready, Timer::Watch, Timer::Renew, Timer::Settings] {
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
        if let Some(greeting) = self.greeting.take() {
            self.events.push(Event::LaneRemoved(greeting.lane.own));
        }
        self.timers.clear(Timer::Resend);
    }

    /// Whether `datagram` may answer the opening that is waiting.
    #[must_use]
    pub fn awaits(&self, datagram: &[u8]) -> bool {
        self.waiting.as_ref().is_some_and(|waiting| {
            ConnectionId::of(datagram) == Some(waiting.sent.id) || waiting.sent.asked(datagram).is_some()
        })
    }

    /// Takes a datagram that [`Device::awaits`]. What does not verify is dropped.
    pub fn answer(&mut self, now: Moment, datagram: &[u8]) {
        let Some(waiting) = self.waiting.as_mut() else {
            return;
        };
        if let Some(token) = waiting.sent.asked(datagram) {
            let (continues, asked) = (waiting.continues, waiting.asked + 1);
            if asked <= MOST_ASKED {
                self.start(now, continues, Some(token), asked);
            }
            return;
        }
        let Ok((answer, first)) = waiting.sent.answer(datagram) else {
            return;
        };
        let (own, suite, continues) = (waiting.sent.id, waiting.sent.suite(), waiting.continues);
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
                let lane = Arc::new(Lane::first(suite, &first.of_device(), own, id, self.gateway));
                lane.confirm();
                lane.set_proved();
                self.events.push(Event::LaneAdded(lane.clone()));
                let (offer, own) = (Offer::new(&mut *self.random), ConnectionId(super::eight(&mut *self.random)));
                self.greeting = Some(Greeting { lane, first, offer, own, settings, repeats: 0, continues });
                self.offer(now);
            }
        }
    }

    /// Sends the key for the second secret, in two datagrams.
    fn offer(&mut self, now: Moment) {
        let Some(greeting) = self.greeting.as_ref() else { return };
        for (part, key) in (0..).zip(greeting.offer.parts()) {
            let length = SECOND_LENGTH + super::below(&mut *self.random, LONGEST + 1 - SECOND_LENGTH);
            let frame = Frame::SecondKey(part, greeting.own, key);
            if let Ok(datagram) = greeting.lane.seal_frames_to(now, &[frame], length) {
                self.out.push((self.gateway, datagram));
            }
        }
        self.timers.set(Timer::Resend, now.after(SECOND_AGAIN));
    }

    /// Both secrets are there: from here on packets go under the final keys.
    fn seconded(&mut self, now: Moment, other: ConnectionId, ciphertext: &[u8]) {
        let Some(greeting) = self.greeting.take() else { return };
        let ids = Ids { device: greeting.own, gateway: other };
        let Some(split) = greeting.offer.keys(&greeting.first, ids, ciphertext) else { return };
        self.timers.clear(Timer::Resend);
        self.timers.set(Timer::Forget(greeting.lane.own), now.after(KEEP_OLD));
        let renews = greeting.continues.is_some() && self.running.is_some();
        let counters = match &self.running {
            Some(running) if renews => running.lane.counters.clone(),
            _ => {
                self.sessions += 1;
                Arc::new(Counters::default())
            }
        };
        let announced = renews && self.running.as_ref().is_some_and(|running| running.announced);
        counters.heard.store(now.0, std::sync::atomic::Ordering::Relaxed);
        let lane = Lane::new(self.config.suite, &split, greeting.own, other, self.sessions, self.gateway, counters);
        let lane = Arc::new(lane);
        lane.set_proved();
        let newer = self.running.as_ref().filter(|running| running.settings.edition > greeting.settings.edition);
        let settings = newer.map_or(greeting.settings, |running| running.settings.clone());
        self.forget_running(now, renews);
        if !renews {
            self.told = (Moment(0), None);
            self.outbox = Outbox::new(number(&mut *self.random));
            self.inbox = Inbox::new(self.config.most_parcel);
            self.timers.clear(Timer::Parcels);
        }
        self.events.push(Event::LaneAdded(lane.clone()));
        self.events.push(Event::Current(lane.clone()));
        self.running = Some(Running { lane, settings, announced, asked: now, unanswered: None });
        self.timers.set(Timer::Watch, now.after(WATCH));
        self.timers.set(Timer::Renew, now.after(RENEW_AFTER));
        self.ready(now);
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
            Frame::SecondAnswer(id, ciphertext)
                if self.greeting.as_ref().is_some_and(|greeting| greeting.lane.own == lane.own) =>
            {
                self.seconded(now, id, ciphertext);
            }
            Frame::Renew => {
                let current = self.running.as_ref().is_some_and(|running| running.lane.own == lane.own);
                if current && self.asked_renewal.is_none_or(|before| before.after(ASKED_RENEWAL) <= now) {
                    self.asked_renewal = Some(now);
                    self.renew(now);
                }
            }
            Frame::Settings(bytes) => {
                let current = self.running.as_ref().is_some_and(|running| running.lane.session == lane.session);
                let Ok(settings) = Settings::parse(bytes) else { return };
                if current && lane.carries {
                    let edition = settings.edition;
                    self.settings(now, settings);
                    self.send_on(now, lane, &[Frame::SettingsTaken(edition)]);
                }
            }
            Frame::Parcel(part) if self.is_current(lane) => {
                let (whole, taken) = self.inbox.part(part);
                if let Some(taken) = taken {
                    self.send_on(now, lane, &[Frame::ParcelTaken(taken)]);
                }
                self.events.extend(whole.map(|(kind, bytes)| Event::Parcel(kind, bytes)));
            }
            Frame::ParcelTaken(taken) if self.is_current(lane) => {
                self.outbox.taken(taken);
                self.timers.set(Timer::Parcels, now);
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

    /// Whether it is a lane of the session that runs, under final keys.
    fn is_current(&self, lane: &Lane) -> bool {
        lane.carries && self.running.as_ref().is_some_and(|running| running.lane.session == lane.session)
    }

    /// Sends something longer than a datagram, until the gateway has taken it. Whether there is a session, with room for it.
    pub fn send_parcel(&mut self, now: Moment, kind: u8, bytes: Arc<[u8]>) -> bool {
        let sent = self.running.is_some() && self.outbox.push(kind, bytes);
        if sent {
            self.timers.set_sooner(Timer::Parcels, now);
        }
        sent
    }

    /// Whether everything that was to be sent in parcels has been taken.
    #[must_use]
    pub fn is_quiet(&self) -> bool {
        self.outbox.is_empty()
    }

    fn send_parts(&mut self, now: Moment) {
        let Some(lane) = self.running.as_ref().map(|running| running.lane.clone()) else { return };
        let (out, gateway) = (&mut self.out, self.gateway);
        self.outbox.due(now, |part| {
            if let Ok(datagram) = lane.seal_frames(now, &[Frame::Parcel(part)]) {
                out.push((gateway, datagram));
            }
        });
        if let Some(at) = self.outbox.deadline(now) {
            self.timers.set(Timer::Parcels, at);
        }
    }

    /// The device has taken a way notice: the gateway learns it with new keys, at once.
    pub fn noticed(&mut self, now: Moment, number: u32) {
        self.config.notice = number;
        self.renew(now);
    }

    /// Settings arrived. What comes too soon after the last is told later, and only the newest of it: no gateway makes a device flap.
    fn settings(&mut self, now: Moment, settings: Settings) {
        let newest = self.told.1.as_ref().map(|waiting| waiting.edition);
        let Some(running) = self.running.as_mut() else { return };
        if settings.edition <= newest.unwrap_or(running.settings.edition) {
            return;
        }
        if self.told.0.after(SETTINGS_CALM) <= now {
            running.settings = settings.clone();
            self.told = (now, None);
            self.events.push(Event::Changed(settings));
        } else {
            self.timers.set(Timer::Settings, self.told.0.after(SETTINGS_CALM));
            self.told.1 = Some(settings);
        }
    }

    fn send_on(&mut self, now: Moment, lane: &Lane, frames: &[Frame<'_>]) {
        if let Ok(datagram) = lane.seal_frames(now, frames) {
            self.out.push((self.gateway, datagram));
        }
    }

    /// The gateway is not heard any more. What is opened now goes on with the session that was, where the gateway still has it.
    fn lost(&mut self, now: Moment) {
        self.events.push(Event::Lost);
        let continues = self.running.as_ref().map(|running| running.lane.other);
        self.forget_running(now, false);
        self.start(now, continues, None, 0);
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
                Ok(Frame::Data(inner)) if lane.carries => {
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
                Timer::Settings => {
                    if let Some(settings) = self.told.1.take() {
                        self.settings(now, settings);
                    }
                }
                Timer::Parcels => self.send_parts(now),
                Timer::Forget(id) => self.events.push(Event::LaneRemoved(id)),
            }
        }
    }

    fn resend(&mut self, now: Moment) {
        if let Some(greeting) = self.greeting.as_mut() {
            greeting.repeats += 1;
            if greeting.repeats < SECOND_REPEATS {
                self.offer(now);
            } else {
                let continues = greeting.continues;
                self.start(now, continues, None, 0);
            }
            return;
        }
        let Some(waiting) = self.waiting.as_mut() else {
            return;
        };
        if waiting.repeats >= REPEATS {
            let continues = waiting.continues;
            self.start(now, continues, None, 0);
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
        counters.unanswered.store(running.unanswered.map_or(0, |since| since.0.max(1)), Ordering::Relaxed);
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
        if self.waiting.is_none() && self.greeting.is_none() && running.lane.is_confirmed() {
            let continues = Some(running.lane.other);
            self.start(now, continues, None, 0);
        } else {
            self.timers.set(Timer::Renew, now.after(WATCH));
        }
    }
}
