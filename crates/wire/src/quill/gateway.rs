//! The gateway's end: answers openings, keeps sessions, ends them with a reason.
//!
//! A session belongs to one device key. An answered opening changes nothing until the device has used the
//! new keys; only then does it replace what was there. A device's address changes only after it has answered a
//! path check from the new one.

use std::collections::HashMap;
use std::net::SocketAddr;
use std::sync::Arc;

use zeroize::Zeroizing;

use super::frame::Frame;
use super::handshake::{self, OpeningKey};
use super::lane::Lane;
use super::message::{Answer, Settings};
use super::{ConnectionId, Reason, Suite, VERSION};
use crate::Moment;
use crate::Random;
use crate::counters::Counters;
use crate::timer::Deadlines;

/// How long an answered opening waits for the device's first frame.
const PENDING: u64 = 10_000;
/// How long replaced keys, and keys of an ended session, are still understood.
const KEEP_OLD: u64 = 10_000;
/// Keys that were not renewed for this long end their session.
const LONGEST_KEYS: u64 = 1_200_000;
/// A session without keep-alive is silent for at most this long.
const SILENT: u64 = 600_000;
/// Path checks of one session within [`AGAIN`], to whatever addresses.
const MOST_CHECKS: u8 = 4;
/// Between two repetitions of settings, path checks and ends.
const AGAIN: u64 = 500;

/// Decides who comes in.
pub trait Doorkeeper {
    /// The settings for the device with this key, or why it is refused. `None` as words: the
    /// reason's own sentence is enough.
    ///
    /// # Errors
    /// The reason, and what the device's person is told beside it.
    fn admit(&self, device_key: &[u8; 32]) -> Result<Settings, (Reason, String)>;
}

/// What the caller is told.
#[derive(Debug)]
pub enum Event {
    /// Datagrams may arrive on this lane.
    LaneAdded(Arc<Lane>),
    /// Nothing arrives under this id any more.
    LaneRemoved(ConnectionId),
    /// A device came in.
    Opened { device_key: [u8; 32], lane: Arc<Lane>, from: SocketAddr, software: String, settings: Settings },
    /// Packets for the device go out on this lane from now on: its keys were renewed.
    Renewed { device_key: [u8; 32], lane: Arc<Lane> },
    /// The device proved a new address.
    Moved { device_key: [u8; 32], session: u64, to: SocketAddr },
    /// A session is over.
    Ended { device_key: [u8; 32], session: u64, reason: Reason, words: String },
    /// Somebody with a device key was refused.
    Refused { device_key: [u8; 32], from: SocketAddr, reason: Reason },
}

struct Pending {
    lane: Arc<Lane>,
    tag: ConnectionId,
    answer: Vec<u8>,
    settings: Settings,
    software: String,
    from: SocketAddr,
    renews: bool,
}

struct Session {
    lane: Arc<Lane>,
    old: Option<Arc<Lane>>,
    settings: Settings,
    taken: u32,
    check: Option<(SocketAddr, [u8; 8], Moment)>,
    /// Path checks sent since this moment, to whatever addresses.
    checks: (Moment, u8),
}

/// What a gateway waits for. Each stands for one device key, or for one session that has ended.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
enum Timer {
    /// An answered opening that was not used is forgotten.
    Unused([u8; 32]),
    /// Replaced keys are forgotten.
    OldKeys([u8; 32]),
    /// A session of which nothing was heard ends. Packets do not move this timer: when it comes, the counters say whether it is
    /// time, or until when it is not.
    Silence([u8; 32]),
    /// Keys that were not renewed end their session.
    KeysEnd([u8; 32]),
    /// Settings that the device has not taken are sent again.
    SettingsAgain([u8; 32]),
    /// A session that has ended is not answered any more.
    Forget(ConnectionId),
}

#[derive(Default)]
struct End {
    session: Option<Session>,
    pending: Option<Pending>,
}

struct Closing {
    reason: Reason,
    words: String,
    again: Moment,
}

/// The state machine of one listener.
pub struct Gateway {
    suite: Suite,
    private: Zeroizing<[u8; 32]>,
    opening_key: OpeningKey,
    random: Box<dyn Random>,
    ends: HashMap<[u8; 32], End>,
    owners: HashMap<ConnectionId, [u8; 32]>,
    closing: HashMap<ConnectionId, Closing>,
    timers: Deadlines<Timer>,
    numbers: Box<dyn FnMut() -> u64 + Send>,
    out: Vec<(SocketAddr, Vec<u8>)>,
    events: Vec<Event>,
}

impl Gateway {
    /// A listener with no sessions. Each new one gets its number from `numbers`.
    #[must_use]
    pub fn new(
        suite: Suite,
        private: Zeroizing<[u8; 32]>,
        public: &[u8; 32],
        numbers: Box<dyn FnMut() -> u64 + Send>,
        random: Box<dyn Random>,
    ) -> Self {
        Self {
            suite,
            private,
            opening_key: OpeningKey::new(public),
            random,
            ends: HashMap::new(),
            owners: HashMap::new(),
            closing: HashMap::new(),
            timers: Deadlines::default(),
            numbers,
            out: Vec::new(),
            events: Vec::new(),
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

    /// Takes a datagram under an id that names no lane: an opening, or noise. Noise is never answered.
    pub fn opening(&mut self, now: Moment, from: SocketAddr, datagram: &[u8], door: &dyn Doorkeeper) {
        if datagram.len() > handshake::LONGEST || !self.opening_key.matches(datagram) {
            return;
        }
        let Some(tag) = ConnectionId::of(datagram) else {
            return;
        };
        let Ok(received) = handshake::receive(self.suite, &self.private, datagram) else {
            return;
        };
        let device_key = received.device_key;
        // The same opening again: its answer was lost, or somebody replays it. Both get the same bytes.
        if let Some(pending) = self.ends.get(&device_key).and_then(|end| end.pending.as_ref())
            && pending.tag == tag
        {
            self.out.push((from, pending.answer.clone()));
            return;
        }
        let verdict = if received.opening.versions.contains(&VERSION) {
            door.admit(&device_key)
        } else {
            Err((Reason::Versions, format!("the gateway speaks version {VERSION}")))
        };
        let settings = match verdict {
            Ok(settings) => settings,
            Err((reason, words)) => {
                if let Ok((datagram, _)) = received.answer(&Answer::Refused(reason, words)) {
                    self.out.push((from, datagram));
                    self.events.push(Event::Refused { device_key, from, reason });
                }
                return;
            }
        };
        let session = self.ends.get(&device_key).and_then(|end| end.session.as_ref());
        let renewed = received.opening.continues.and_then(|id| session.filter(|session| session.lane.own == id));
        let (number, counters, renews) = match renewed {
            Some(session) => (session.lane.session, session.lane.counters.clone(), true),
            None => ((self.numbers)(), Arc::new(Counters::default()), false),
        };
        let own = self.free_id();
        let (other, software) = (received.opening.id, received.opening.software.clone());
        let answer = Answer::Admitted { version: VERSION, id: own, settings: settings.clone() };
        let Ok((datagram, split)) = received.answer(&answer) else {
            return;
        };
        let lane = Arc::new(Lane::new(self.suite, &split, own, other, number, from, counters));
        let end = self.ends.entry(device_key).or_default();
        self.timers.set(Timer::Unused(device_key), now.after(PENDING));
        let pending = Pending { lane: lane.clone(), tag, answer: datagram.clone(), settings, software, from, renews };
        if let Some(replaced) = end.pending.replace(pending) {
            self.owners.remove(&replaced.lane.own);
            self.events.push(Event::LaneRemoved(replaced.lane.own));
        }
        self.owners.insert(own, device_key);
        self.events.push(Event::LaneAdded(lane));
        self.out.push((from, datagram));
    }

    fn free_id(&mut self) -> ConnectionId {
        loop {
            let id = ConnectionId(super::eight(&mut *self.random));
            if !self.owners.contains_key(&id) && !self.closing.contains_key(&id) {
                return id;
            }
        }
    }

    /// A datagram was opened on `lane` that [`Lane::needs_attention`]. Whether its frames are to be taken.
    pub fn heard(&mut self, now: Moment, lane: &Arc<Lane>, from: SocketAddr) -> bool {
        if let Some(closing) = self.closing.get_mut(&lane.own) {
            if closing.again <= now {
                closing.again = now.after(AGAIN);
                if let Ok(datagram) = lane.seal_frames(now, &[Frame::End(closing.reason, &closing.words)]) {
                    self.out.push((lane.path(), datagram));
                }
            }
            return false;
        }
        let Some(device_key) = self.owners.get(&lane.own).copied() else {
            return false;
        };
        if lane.confirm() {
            self.promote(now, device_key, lane);
        }
        if lane.path() != from {
            self.check_path(now, device_key, lane, from);
        }
        true
    }

    fn promote(&mut self, now: Moment, device_key: [u8; 32], lane: &Arc<Lane>) {
        let Some(end) = self.ends.get_mut(&device_key) else {
            return;
        };
        let Some(pending) = end.pending.take_if(|pending| pending.lane.own == lane.own) else {
            return;
        };
        let Pending { settings, software, from, renews, .. } = pending;
        let taken = settings.edition;
        let fresh =
            Session { lane: lane.clone(), old: None, settings: settings.clone(), taken, check: None, checks: (now, 0) };
        let before = end.session.replace(fresh);
        self.timers.clear(Timer::Unused(device_key));
        self.timers.set(Timer::KeysEnd(device_key), now.after(LONGEST_KEYS));
        self.timers.set(Timer::Silence(device_key), now.after(most_silent(&settings)));
        match before {
            Some(before) if renews => {
                if let Some(session) = end.session.as_mut() {
                    session.old = Some(before.lane);
                    self.timers.set(Timer::OldKeys(device_key), now.after(KEEP_OLD));
                }
                if let Some(older) = before.old {
                    self.forget(&older);
                }
                self.events.push(Event::Renewed { device_key, lane: lane.clone() });
            }
            before => {
                if let Some(before) = before {
                    self.finish(now, device_key, before, Reason::Replaced, String::new());
                }
                self.events.push(Event::Opened { device_key, lane: lane.clone(), from, software, settings });
            }
        }
    }

    fn check_path(&mut self, now: Moment, device_key: [u8; 32], lane: &Arc<Lane>, from: SocketAddr) {
        let token = super::eight(&mut *self.random);
        let Some(session) = self.ends.get_mut(&device_key).and_then(|end| end.session.as_mut()) else {
            return;
        };
        // Whoever sends a datagram on from ever other addresses makes the gateway ask no more often for it.
        if session.checks.0.after(AGAIN) <= now {
            session.checks = (now, 0);
        }
        if session.checks.1 >= MOST_CHECKS {
            return;
        }
        let token = match session.check {
            Some((to, _, again)) if to == from && again > now => return,
            Some((to, token, _)) if to == from => token,
            _ => token,
        };
        session.check = Some((from, token, now.after(AGAIN)));
        session.checks.1 += 1;
        if let Ok(datagram) = lane.seal_frames(now, &[Frame::PathCheck(token)]) {
            self.out.push((from, datagram));
        }
    }

    /// A frame other than data arrived on `lane` from `from`.
    pub fn control(&mut self, now: Moment, lane: &Arc<Lane>, from: SocketAddr, frame: Frame<'_>) {
        let Some(device_key) = self.owners.get(&lane.own).copied() else {
            return;
        };
        let Some(session) = self.ends.get_mut(&device_key).and_then(|end| end.session.as_mut()) else {
            return;
        };
        match frame {
            Frame::Echo(token) => {
                if let Ok(datagram) = lane.seal_frames(now, &[Frame::EchoAnswer(token)]) {
                    self.out.push((lane.path(), datagram));
                }
            }
            Frame::SettingsTaken(edition) => session.taken = session.taken.max(edition),
            Frame::PathAnswer(token)
                if session.check.take_if(|(to, sent, _)| *to == from && *sent == token).is_some() =>
            {
                session.lane.set_path(from);
                if let Some(old) = &session.old {
                    old.set_path(from);
                }
                let number = session.lane.session;
                self.events.push(Event::Moved { device_key, session: number, to: from });
            }
            // Whatever reason it writes: that a device ended a session is all that it can know.
            Frame::End(_, words) => {
                let words = super::words_of(words);
                if let Some(session) = self.ends.get_mut(&device_key).and_then(|end| end.session.take()) {
                    self.clear_session_timers(&device_key);
                    self.finish(now, device_key, session, Reason::Closed, words);
                }
            }
            _ => {}
        }
    }

    fn forget(&mut self, lane: &Lane) {
        self.owners.remove(&lane.own);
        self.events.push(Event::LaneRemoved(lane.own));
    }

    fn finish(&mut self, now: Moment, device_key: [u8; 32], session: Session, reason: Reason, words: String) {
        if let Some(old) = &session.old {
            self.forget(old);
        }
        let lane = session.lane;
        self.owners.remove(&lane.own);
        lane.close();
        if reason != Reason::Closed
            && let Ok(datagram) = lane.seal_frames(now, &[Frame::End(reason, &words)])
        {
            self.out.push((lane.path(), datagram));
        }
        self.events.push(Event::Ended { device_key, session: lane.session, reason, words: words.clone() });
        self.timers.set(Timer::Forget(lane.own), now.after(KEEP_OLD));
        let again = now.after(AGAIN);
        self.closing.insert(lane.own, Closing { reason, words, again });
    }

    fn clear_session_timers(&mut self, key: &[u8; 32]) {
        for timer in [Timer::OldKeys(*key), Timer::Silence(*key), Timer::KeysEnd(*key), Timer::SettingsAgain(*key)] {
            self.timers.clear(timer);
        }
    }

    /// Ends the session of a device, if it has one, and tells the device why.
    pub fn end(&mut self, now: Moment, device_key: &[u8; 32], reason: Reason, words: &str) -> bool {
        let Some(mut end) = self.ends.remove(device_key) else {
            return false;
        };
        if let Some(pending) = end.pending.take() {
            self.timers.clear(Timer::Unused(*device_key));
            self.forget(&pending.lane);
        }
        let Some(session) = end.session.take() else {
            return false;
        };
        self.clear_session_timers(device_key);
        self.finish(now, *device_key, session, reason, words.to_owned());
        true
    }

    /// Ends every session: the gateway stops.
    pub fn shut_down(&mut self, now: Moment) {
        for key in self.device_keys() {
            self.end(now, &key, Reason::Shutdown, "");
        }
    }

    /// The keys of devices with a session.
    #[must_use]
    pub fn device_keys(&self) -> Vec<[u8; 32]> {
        self.ends.iter().filter(|(_, end)| end.session.is_some()).map(|(key, _)| *key).collect()
    }

    /// The number of the session of a device key, if it has one.
    #[must_use]
    pub fn session_of(&self, device_key: &[u8; 32]) -> Option<u64> {
        let session = self.ends.get(device_key).and_then(|end| end.session.as_ref());
        session.map(|session| session.lane.session)
    }

    /// New settings for a device with a session: sent until the device has taken them.
    pub fn change(&mut self, now: Moment, device_key: &[u8; 32], settings: Settings) {
        let Some(session) = self.ends.get_mut(device_key).and_then(|end| end.session.as_mut()) else {
            return;
        };
        if session.settings != settings {
            // A shorter silence may be due sooner than the timer of the longer one.
            let silence = session.lane.counters.last_heard().after(most_silent(&settings));
            session.settings = settings;
            self.timers.set(Timer::SettingsAgain(*device_key), now);
            self.timers.set_sooner(Timer::Silence(*device_key), silence);
        }
    }

    /// The next moment at which something becomes due; `None` when nothing waits.
    #[must_use]
    pub fn deadline(&self) -> Option<Moment> {
        self.timers.next()
    }

    /// Does what has become due. Costs by what is due, not by how many sessions there are.
    pub fn tick(&mut self, now: Moment) {
        while let Some(timer) = self.timers.due(now) {
            match timer {
                Timer::Unused(key) => {
                    let pending = self.ends.get_mut(&key).and_then(|end| end.pending.take());
                    if let Some(pending) = pending {
                        self.forget(&pending.lane);
                    }
                    if self.ends.get(&key).is_some_and(|end| end.session.is_none()) {
                        self.ends.remove(&key);
                    }
                }
                Timer::OldKeys(key) => {
                    let session = self.ends.get_mut(&key).and_then(|end| end.session.as_mut());
                    if let Some(old) = session.and_then(|session| session.old.take()) {
                        self.forget(&old);
                    }
                }
                Timer::Silence(key) => {
                    let Some(session) = self.ends.get(&key).and_then(|end| end.session.as_ref()) else { continue };
                    let until = session.lane.counters.last_heard().after(most_silent(&session.settings));
                    if until <= now {
                        self.end(now, &key, Reason::Silent, "");
                    } else {
                        self.timers.set(Timer::Silence(key), until);
                    }
                }
                Timer::KeysEnd(key) => {
                    self.end(now, &key, Reason::Silent, "");
                }
                Timer::SettingsAgain(key) => {
                    let Some(session) = self.ends.get(&key).and_then(|end| end.session.as_ref()) else { continue };
                    if session.taken < session.settings.edition {
                        let body = session.settings.emit();
                        if let Ok(datagram) = session.lane.seal_frames(now, &[Frame::Settings(&body)]) {
                            self.out.push((session.lane.path(), datagram));
                        }
                        self.timers.set(Timer::SettingsAgain(key), now.after(AGAIN));
                    }
                }
                Timer::Forget(id) => {
                    if self.closing.remove(&id).is_some() {
                        self.events.push(Event::LaneRemoved(id));
                    }
                }
            }
        }
    }
}

/// After how long a session of which nothing was heard ends: four keep-alives, and a minute at least.
fn most_silent(settings: &Settings) -> u64 {
    match u64::from(settings.keep_alive) * 1000 {
        0 => SILENT,
        keep_alive => (keep_alive * 4).max(60_000),
    }
}
