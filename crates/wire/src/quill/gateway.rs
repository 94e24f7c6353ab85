//! The gateway's end: answers openings, keeps sessions, ends them with a reason.
//!
//! A session belongs to one device key. An answered opening is a *greeting*: the two ends agree on the second secret under its first keys. It
//! changes nothing until the device has used the final keys; only then do these replace what was there. Inner packets go only to
//! an address that has answered a path check.
//!
//! Curve operations are never done here but in `hands`, which holds the machine only while it looks at it.

use std::collections::HashMap;
use std::net::SocketAddr;
use std::sync::Arc;

use super::door::OPENING_TAG;
pub use super::ends::Task;

use super::ends::{Answered, Closing, End, Greeting, Heard, Judged, Owner, Second, Session};
pub use super::event::{Doorkeeper, Event};
use super::frame::Frame;
use super::handshake::{LONGEST, Received};
use super::keys::Split;
use super::lane::Lane;
use super::message::Settings;
use super::parcel::{Inbox, Outbox};
use super::second::{Ids, KEY, PART};
use super::waits::{AGAIN, Timer, most_silent, one_more};
use super::{ConnectionId, Mark, Reason, Suite, VERSION};
use crate::Moment;
use crate::Random;
use crate::counters::Counters;
use crate::timer::Deadlines;

/// How long an answered opening waits for the device's first datagram under the final keys.
const PENDING: u64 = 10_000;
/// Greetings of one device that have shown a token; a further one takes the place of the oldest.
const MOST_GREETINGS: usize = 4;
/// How long replaced keys, and keys of an ended session, are still understood.
const KEEP_OLD: u64 = 10_000;
/// Keys that were not renewed for this long end their session.
const LONGEST_KEYS: u64 = 1_200_000;
/// Bytes of a datagram with a path check, which is sent for none that is shorter.
const CHECK_LENGTH: usize = 39;

/// The state machine of one listener.
pub struct Gateway {
    suite: Suite,
    random: Box<dyn Random>,
    /// On every id under which it receives.
    mark: Mark,
    ends: HashMap<[u8; 32], End>,
    greetings: HashMap<ConnectionId, Greeting>,
    tags: HashMap<[u8; OPENING_TAG], ConnectionId>,
    owners: HashMap<ConnectionId, Owner>,
    closing: HashMap<ConnectionId, Closing>,
    timers: Deadlines<Timer>,
    numbers: Box<dyn FnMut() -> u64 + Send>,
    out: Vec<(SocketAddr, Vec<u8>)>,
    events: Vec<Event>,
    tasks: Vec<Task>,
}

impl Gateway {
    /// A listener with no sessions. Each new one gets its number from `numbers`.
    #[must_use]
    pub fn new(suite: Suite, numbers: Box<dyn FnMut() -> u64 + Send>, mut random: Box<dyn Random>) -> Self {
        let mark = Mark::new(&mut *random);
        Self {
            suite,
            random,
            mark,
            ends: HashMap::new(),
            greetings: HashMap::new(),
            tags: HashMap::new(),
            owners: HashMap::new(),
            closing: HashMap::new(),
            timers: Deadlines::default(),
            numbers,
            out: Vec::new(),
            events: Vec::new(),
            tasks: Vec::new(),
        }
    }

    /// What every id has under which datagrams of sessions arrive here.
    #[must_use]
    pub fn mark(&self) -> Mark {
        self.mark
    }

    /// Datagrams to send, with where to.
    pub fn take_output(&mut self) -> Vec<(SocketAddr, Vec<u8>)> {
        std::mem::take(&mut self.out)
    }

    /// What happened since the last call.
    pub fn take_events(&mut self) -> Vec<Event> {
        std::mem::take(&mut self.events)
    }

    /// Work for the hands of this listener.
    pub fn take_tasks(&mut self) -> Vec<Task> {
        std::mem::take(&mut self.tasks)
    }

    /// Whether a greeting has answered this very opening; then the answer is sent again.
    pub(super) fn answered_before(&mut self, from: SocketAddr, tag: &[u8; OPENING_TAG]) -> bool {
        let Some(greeting) = self.tags.get(tag).and_then(|id| self.greetings.get(id)) else { return false };
        self.out.push((from, greeting.said.answer.clone()));
        true
    }

    /// An opening is refused.
    pub(super) fn refuse(
        &mut self,
        from: SocketAddr,
        device_key: [u8; 32],
        (reason, words): (Reason, String),
        answer: Vec<u8>,
    ) {
        self.out.push((from, answer));
        self.events.push(Event::Refused { device_key, from, reason, words });
    }

    /// What becomes of an opening that was read.
    pub(super) fn judge(
        &mut self,
        now: Moment,
        (from, proved): (SocketAddr, bool),
        received: &Received,
        keeper: &dyn Doorkeeper,
    ) -> Judged {
        let device_key = received.device_key;
        let end = self.ends.get(&device_key);
        // A second opening of one device: one of the two may be replayed, and who shows that they are there comes first.
        let another =
            end.is_some_and(|end| !end.greetings.is_empty()) || self.timers.is_set(Timer::Refused(device_key));
        if another && !proved {
            return Judged::Again;
        }
        let session = end.and_then(|end| end.session.as_ref());
        let named = |session: &&Session| {
            let is = |lane: &Lane| received.opening.continues == Some(lane.own);
            is(&session.lane) || session.old.as_ref().is_some_and(|old| is(old))
        };
        let renews = session.filter(named).map(|session| session.lane.session);
        let verdict = if received.opening.versions.contains(&VERSION) {
            keeper.admit(&device_key, from, renews.is_some())
        } else {
            Err((Reason::Versions, format!("the gateway speaks version {VERSION}")))
        };
        match verdict {
            Ok(settings) => Judged::Admitted { own: self.free_id(), settings, renews },
            Err((reason, words)) => {
                self.timers.set(Timer::Refused(device_key), now.after(PENDING));
                Judged::Refused(reason, words)
            }
        }
    }

    /// An opening is answered.
    pub(super) fn greet(&mut self, now: Moment, from: SocketAddr, said: Answered) {
        let (id, device_key) = (said.lane.own, said.device_key);
        let end = self.ends.entry(device_key).or_default();
        end.greetings.push(id);
        let proved = end.greetings.iter().filter(|id| self.greetings.get(id).is_some_and(|other| other.said.proved));
        let (count, oldest) = (proved.clone().count(), proved.clone().next().copied());
        self.timers.set(Timer::Unused(id), now.after(PENDING));
        self.owners.insert(id, Owner::First);
        self.tags.insert(said.tag, id);
        self.events.push(Event::LaneAdded(said.lane.clone()));
        self.out.push((from, said.answer.clone()));
        let second = Second::Parts(Box::default());
        self.greetings.insert(id, Greeting { said, device_id: None, second, sent: (now, 0) });
        if let Some(oldest) = oldest.filter(|_| count >= MOST_GREETINGS) {
            self.drop_greeting(oldest);
        }
    }

    /// Forgets a greeting with its keys, the final ones as well.
    pub(super) fn drop_greeting(&mut self, id: ConnectionId) {
        if let Some(greeting) = self.take_greeting(id)
            && let Second::Done { lane, .. } = greeting.second
        {
            self.forget(&lane);
        }
    }

    /// Takes a greeting out; its final keys stay.
    fn take_greeting(&mut self, id: ConnectionId) -> Option<Greeting> {
        let greeting = self.greetings.remove(&id)?;
        let device_key = greeting.said.device_key;
        self.tags.remove(&greeting.said.tag);
        self.timers.clear(Timer::Unused(id));
        self.forget(&greeting.said.lane);
        if let Some(end) = self.ends.get_mut(&device_key) {
            end.greetings.retain(|other| *other != id);
            if end.session.is_none() && end.greetings.is_empty() {
                self.ends.remove(&device_key);
            }
        }
        Some(greeting)
    }

    fn free_id(&mut self) -> ConnectionId {
        loop {
            let id = self.mark.id(&mut *self.random);
            if !self.owners.contains_key(&id) && !self.closing.contains_key(&id) {
                return id;
            }
        }
    }

    /// A part of a device's key for the second secret.
    fn second_key(&mut self, now: Moment, own: ConnectionId, heard: Heard, part: u8, id: ConnectionId, key: &[u8]) {
        if let Some(Greeting { second: Second::Done { .. }, .. }) = self.greetings.get(&own) {
            return self.send_second(now, own, heard);
        }
        let gateway_id = self.free_id();
        let Some(greeting) = self.greetings.get_mut(&own) else { return };
        let Second::Parts(parts) = &mut greeting.second else { return };
        let Ok(key) = <[u8; PART]>::try_from(key) else { return };
        if *greeting.device_id.get_or_insert(id) != id {
            return;
        }
        if let Some(place) = parts.get_mut(usize::from(part)) {
            place.get_or_insert(key);
        }
        if let [Some(one), Some(two)] = &**parts {
            let mut key = Box::new([0; KEY]);
            key[..PART].copy_from_slice(one);
            key[PART..].copy_from_slice(two);
            let (first, ids) = (greeting.said.first.clone(), Ids { device: id, gateway: gateway_id });
            greeting.second = Second::Handed(heard);
            self.tasks.push(Task { greeting: own, first, ids, key });
        }
    }

    pub(super) fn seconded(&mut self, now: Moment, task: &Task, ciphertext: Vec<u8>, split: &Split) {
        let Some(greeting) = self.greetings.get(&task.greeting) else { return };
        let Second::Handed(heard) = greeting.second else { return };
        let (own, other) = (task.ids.gateway, task.ids.device);
        if self.owners.contains_key(&own) || self.closing.contains_key(&own) {
            return self.drop_greeting(task.greeting);
        }
        let session = self.ends.get(&greeting.said.device_key).and_then(|end| end.session.as_ref());
        let renewed = session.filter(|session| greeting.said.renews == Some(session.lane.session));
        let (number, counters) = match renewed {
            Some(session) => (session.lane.session, session.lane.counters.clone()),
            None => ((self.numbers)(), Arc::new(Counters::default())),
        };
        let lane = Arc::new(Lane::new(self.suite, split, own, other, number, heard.0, counters));
        self.owners.insert(own, Owner::Final(task.greeting));
        self.events.push(Event::LaneAdded(lane.clone()));
        if let Some(greeting) = self.greetings.get_mut(&task.greeting) {
            greeting.second = Second::Done { lane, ciphertext };
        }
        self.send_second(now, task.greeting, heard);
    }

    /// Sends the ciphertext to where the device's key came from: nothing longer than what came, and not too often.
    fn send_second(&mut self, now: Moment, greeting: ConnectionId, (to, length): Heard) {
        let Some(greeting) = self.greetings.get_mut(&greeting) else { return };
        let Second::Done { lane, ciphertext } = &greeting.second else { return };
        if !one_more(&mut greeting.sent, now) {
            return;
        }
        let answer = Frame::SecondAnswer(lane.own, ciphertext);
        if let Ok(datagram) = greeting.said.lane.seal_frames_to(now, &[answer], length.min(LONGEST))
            && datagram.len() <= length
        {
            self.out.push((to, datagram));
        }
    }

    /// A datagram of `length` bytes was opened on `lane` that [`Lane::needs_attention`]. Whether its frames are to be taken.
    pub fn heard(&mut self, now: Moment, lane: &Arc<Lane>, from: SocketAddr, length: usize) -> bool {
        if let Some(closing) = self.closing.get_mut(&lane.own) {
            if closing.again <= now && lane.is_proved() {
                closing.again = now.after(AGAIN);
                if let Ok(datagram) = lane.seal_frames(now, &[Frame::End(closing.reason, &closing.words)]) {
                    self.out.push((lane.path(), datagram));
                }
            }
            return false;
        }
        let device_key = match self.owners.get(&lane.own).copied() {
            None => return false,
            Some(Owner::First) => {
                lane.confirm();
                return true;
            }
            Some(Owner::Final(greeting)) => {
                lane.confirm();
                match self.promote(now, greeting, lane, from) {
                    Some(device_key) => device_key,
                    None => return false,
                }
            }
            Some(Owner::Session(device_key)) => device_key,
        };
        if lane.path() != from || !lane.is_proved() {
            self.check_path(now, device_key, lane, from, length);
        }
        if lane.take_worn()
            && lane.is_proved()
            && let Ok(datagram) = lane.seal_frames(now, &[Frame::Renew])
        {
            self.out.push((lane.path(), datagram));
        }
        true
    }

    /// The device has used the final keys: the greeting becomes a session, or renews one. Gives whose.
    fn promote(&mut self, now: Moment, id: ConnectionId, lane: &Arc<Lane>, from: SocketAddr) -> Option<[u8; 32]> {
        let Answered { device_key, settings, software, renews, stale, notice, .. } = self.take_greeting(id)?.said;
        let others = self.ends.get(&device_key).map(|end| end.greetings.clone()).unwrap_or_default();
        others.into_iter().for_each(|other| self.drop_greeting(other));
        let mut before = self.ends.get_mut(&device_key).and_then(|end| end.session.take());
        let renewed = before.take_if(|before| before.lane.session == lane.session);
        if renewed.is_none() && renews == Some(lane.session) {
            // The session that it renews has ended meanwhile. The device opens a new one.
            if let Some(before) = before {
                self.ends.entry(device_key).or_default().session = Some(before);
            }
            self.owners.remove(&lane.own);
            self.put_away(now, lane, Reason::Silent, String::new());
            return None;
        }
        lane.set_path(from);
        self.owners.insert(lane.own, Owner::Session(device_key));
        let taken = settings.edition;
        let at = renewed.as_ref().map_or(from, |renewed| renewed.at);
        let (checks, settings_now) = ((now, 0), settings.clone());
        let [a, b, c, d, ..] = super::eight(&mut *self.random);
        let mut fresh = Session {
            lane: lane.clone(),
            old: None,
            settings: settings_now,
            taken,
            at,
            check: None,
            checks,
            outbox: Outbox::new(u32::from_be_bytes([a, b, c, d])),
            // A device has nothing to say that is longer than a datagram.
            inbox: Inbox::new(0),
        };
        self.timers.clear(Timer::SettingsAgain(device_key));
        self.timers.set(Timer::KeysEnd(device_key), now.after(LONGEST_KEYS));
        self.timers.set(Timer::Silence(device_key), now.after(most_silent(&settings)));
        if let Some(renewed) = renewed {
            if renewed.lane.is_proved() && renewed.lane.path() == from {
                lane.set_proved();
            }
            if let Some(older) = renewed.old {
                self.forget(&older);
            }
            if renewed.settings.edition > fresh.settings.edition {
                // The device goes by what it has that is newer; where something else holds by now, it is told.
                let same = fresh.settings.says_the_same(&renewed.settings);
                fresh.settings.edition = renewed.settings.edition.saturating_add(u32::from(!same));
                fresh.taken = renewed.taken;
                if fresh.taken < fresh.settings.edition {
                    self.timers.set(Timer::SettingsAgain(device_key), now);
                }
            }
            fresh.old = Some(renewed.lane);
            (fresh.outbox, fresh.inbox) = (renewed.outbox, renewed.inbox);
            self.timers.set(Timer::OldKeys(device_key), now.after(KEEP_OLD));
            self.ends.entry(device_key).or_default().session = Some(fresh);
            self.events.push(Event::Renewed { device_key, lane: lane.clone(), from, notice });
        } else {
            if let Some(before) = before {
                self.finish(now, device_key, before, Reason::Replaced, String::new());
            }
            self.ends.entry(device_key).or_default().session = Some(fresh);
            let lane = lane.clone();
            self.events.push(Event::Opened { device_key, lane, from, software, settings, stale, notice });
        }
        Some(device_key)
    }

    fn check_path(&mut self, now: Moment, device_key: [u8; 32], lane: &Lane, from: SocketAddr, length: usize) {
        let token = super::eight(&mut *self.random);
        let Some(session) = self.ends.get_mut(&device_key).and_then(|end| end.session.as_mut()) else {
            return;
        };
        let token = match session.check {
            Some((to, _, again)) if to == from && again > now => return,
            Some((to, token, _)) if to == from => token,
            _ => token,
        };
        // Whoever sends a datagram on from ever other addresses makes the gateway ask no more often for it, and nothing longer.
        if length < CHECK_LENGTH || !one_more(&mut session.checks, now) {
            return;
        }
        session.check = Some((from, token, now.after(AGAIN)));
        if let Ok(datagram) = lane.seal_frames_to(now, &[Frame::PathCheck(token)], CHECK_LENGTH) {
            self.out.push((from, datagram));
        }
    }

    /// A frame other than data arrived on `lane` from `from`, in a datagram of `length` bytes.
    pub fn control(&mut self, now: Moment, lane: &Arc<Lane>, from: SocketAddr, length: usize, frame: Frame<'_>) {
        let device_key = match self.owners.get(&lane.own) {
            Some(Owner::Session(device_key)) => *device_key,
            Some(Owner::First) => {
                if let Frame::SecondKey(part, id, key) = frame {
                    self.second_key(now, lane.own, (from, length), part, id, key);
                }
                return;
            }
            _ => return,
        };
        let Some(session) = self.ends.get_mut(&device_key).and_then(|end| end.session.as_mut()) else {
            return;
        };
        match frame {
            Frame::Echo(token) => {
                if let Ok(datagram) = lane.seal_frames(now, &[Frame::EchoAnswer(token)])
                    && (lane.is_proved() || datagram.len() <= length)
                {
                    self.out.push((lane.path(), datagram));
                }
            }
            Frame::SettingsTaken(edition) => session.taken = session.taken.max(edition),
            Frame::PathAnswer(token)
                if session.check.take_if(|(to, sent, _)| *to == from && *sent == token).is_some() =>
            {
                for lane in session.old.iter().chain([&session.lane]) {
                    lane.set_path(from);
                    lane.set_proved();
                }
                let number = session.lane.session;
                if session.taken < session.settings.edition {
                    self.timers.set(Timer::SettingsAgain(device_key), now);
                }
                if std::mem::replace(&mut session.at, from) != from {
                    self.events.push(Event::Moved { device_key, session: number, to: from });
                }
            }
            Frame::Parcel(part) => {
                let (whole, taken) = session.inbox.part(part);
                if let Some(taken) = taken.filter(|_| lane.is_proved())
                    && let Ok(datagram) = lane.seal_frames(now, &[Frame::ParcelTaken(taken)])
                {
                    self.out.push((lane.path(), datagram));
                }
                self.events.extend(whole.map(|(kind, bytes)| Event::Parcel { device_key, kind, bytes }));
            }
            Frame::ParcelTaken(taken) => {
                session.outbox.taken(taken);
                self.timers.set(Timer::Parcels(device_key), now);
            }
            // Whatever reason it writes: that a device ended a session is all that it can know.
            Frame::End(_, words) => {
                let words = super::words_of(words);
                if let Some(session) = self.ends.get_mut(&device_key).and_then(|end| end.session.take()) {
                    self.clear_session_timers(&device_key);
                    self.finish(now, device_key, session, Reason::Closed, words);
                    if self.ends.get(&device_key).is_some_and(|end| end.greetings.is_empty()) {
                        self.ends.remove(&device_key);
                    }
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
        self.events.push(Event::Ended { device_key, session: lane.session, reason, words: words.clone() });
        self.put_away(now, &lane, reason, words);
    }

    /// Says the end to the other end, if it is where it says and did not say so itself, and for a while again.
    fn put_away(&mut self, now: Moment, lane: &Arc<Lane>, reason: Reason, words: String) {
        lane.close();
        if reason != Reason::Closed
            && lane.is_proved()
            && let Ok(datagram) = lane.seal_frames(now, &[Frame::End(reason, &words)])
        {
            self.out.push((lane.path(), datagram));
        }
        self.timers.set(Timer::Forget(lane.own), now.after(KEEP_OLD));
        let again = now.after(AGAIN);
        self.closing.insert(lane.own, Closing { reason, words, again });
    }

    fn clear_session_timers(&mut self, key: &[u8; 32]) {
        for timer in [
            Timer::OldKeys(*key),
            Timer::Silence(*key),
            Timer::KeysEnd(*key),
            Timer::SettingsAgain(*key),
            Timer::Parcels(*key),
        ] {
            self.timers.clear(timer);
        }
    }

    /// Ends the session of a device, if it has one, and tells the device why.
    pub fn end(&mut self, now: Moment, device_key: &[u8; 32], reason: Reason, words: &str) -> bool {
        let Some(end) = self.ends.remove(device_key) else {
            return false;
        };
        end.greetings.into_iter().for_each(|greeting| self.drop_greeting(greeting));
        let Some(session) = end.session else {
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
        let mut settings = settings;
        if !settings.says_the_same(&session.settings) {
            // Also what changes by itself is newer than what the device has.
            settings.edition = settings.edition.max(session.settings.edition.saturating_add(1));
        }
        if settings.edition > session.settings.edition {
            // A shorter silence may be due sooner than the timer of the longer one.
            let silence = session.lane.counters.last_heard().after(most_silent(&settings));
            session.settings = settings;
            self.timers.set(Timer::SettingsAgain(*device_key), now);
            self.timers.set_sooner(Timer::Silence(*device_key), silence);
        }
    }

    /// The other end of this device key's session may send parcels of up to so many bytes.
    pub fn expect(&mut self, device_key: &[u8; 32], most: usize) {
        if let Some(session) = self.ends.get_mut(device_key).and_then(|end| end.session.as_mut()) {
            session.inbox = Inbox::new(most);
        }
    }

    /// Sends something longer than a datagram, until the device has taken it. Whether there is a session, with room for it.
    pub fn send_parcel(&mut self, now: Moment, device_key: &[u8; 32], kind: u8, bytes: Arc<[u8]>) -> bool {
        let session = self.ends.get_mut(device_key).and_then(|end| end.session.as_mut());
        let sent = session.is_some_and(|session| session.outbox.push(kind, bytes));
        if sent {
            self.timers.set_sooner(Timer::Parcels(*device_key), now);
        }
        sent
    }

    fn send_parts(&mut self, now: Moment, device_key: [u8; 32]) {
        let Some(session) = self.ends.get_mut(&device_key).and_then(|end| end.session.as_mut()) else { return };
        let (lane, out) = (session.lane.clone(), &mut self.out);
        if lane.is_proved() {
            session.outbox.due(now, |part| {
                if let Ok(datagram) = lane.seal_frames(now, &[Frame::Parcel(part)]) {
                    out.push((lane.path(), datagram));
                }
            });
        }
        // Where nothing may be sent yet, it is looked at again.
        if let Some(at) = session.outbox.deadline(now) {
            self.timers.set(Timer::Parcels(device_key), Moment(at.0.max(now.0 + 50)));
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
                Timer::Unused(id) => self.drop_greeting(id),
                Timer::Refused(_) => {}
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
                        if session.lane.is_proved()
                            && let Ok(datagram) = session.lane.seal_frames(now, &[Frame::Settings(&body)])
                        {
                            self.out.push((session.lane.path(), datagram));
                        }
                        self.timers.set(Timer::SettingsAgain(key), now.after(AGAIN));
                    }
                }
                Timer::Parcels(key) => self.send_parts(now, key),
                Timer::Forget(id) => {
                    if self.closing.remove(&id).is_some() {
                        self.events.push(Event::LaneRemoved(id));
                    }
                }
            }
        }
    }
}
