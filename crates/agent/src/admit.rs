//! Who may come in now, with which address; and who is in. Every kind of tunnel asks here and reports here.

use std::collections::{BTreeMap, BTreeSet, HashMap, HashSet};
use std::net::{Ipv4Addr, SocketAddr};
use std::sync::Arc;
use std::sync::atomic::Ordering;
use std::sync::mpsc::SyncSender;

use ipnet::IpNet;
use jiff::Timestamp;
use parking_lot::{Mutex, RwLock};
use yestrel_core::admission::lease::Leases;
use yestrel_core::admission::{Admission, Bounds, Claim, Reason, Refusal, Roll, Shown, Signed, account, decide};
use yestrel_core::exchange::NewsEvent;
use yestrel_core::exchange::agent::{ForDevice, Live};
use yestrel_core::keys::PublicKey;
use yestrel_core::moment;
use yestrel_core::order::{self, Amendment, Content, Renewal, Revoked};
use yestrel_core::policy::{self, Asks, Terms};
use yestrel_core::pool::{gateway_address, gateway_address6};
use yestrel_core::tunnel::Settings;
use yestrel_net::clock;
use yestrel_net::plane::Plane;
use yestrel_net::seats::{Seat, Seats};

use crate::answers::Answers;
pub use crate::in_force::InForce;
use crate::keep::Keep;
use crate::peers::Heard;
use crate::scribe::{Refusals, Scribe, Tables};
use crate::signs::{How, Signs};
pub use crate::terms::Coming;
use crate::terms::{Elsewhere, FRESH, There, idle, room, stays};
use crate::totals::Totals;

/// What somebody is granted who may come in: what the order says, and an inner address.
pub struct Granted {
    pub admission: Admission,
    pub inner: Ipv4Addr,
    order: u64,
    /// Whether the plane carries IPv6: the one inside the process does not.
    ipv6: bool,
    /// Whether a second factor is asked for.
    asks: bool,
}

impl Granted {
    /// What the device is told.
    #[must_use]
    pub fn settings(&self) -> Settings {
        let settings = self.admission.settings(self.inner, self.order);
        Settings { second: settings.second.filter(|_| self.ipv6), asks: self.asks, ..settings }
    }
}

/// A way notice as it was sealed, with its number.
type Numbered = (u32, Arc<[u8]>);

/// What everybody in the agent shares. Nobody who lets devices in or carries their packets waits for a disk here.
pub struct Shared {
    /// Orders and who the agent is: for whoever changes these, never for who lets devices in.
    pub(crate) keep: Mutex<Keep>,
    /// What is seen, on its way to the disk.
    pub(crate) scribe: Arc<Scribe>,
    /// Every revocation that was ever learned.
    pub(crate) revoked: Arc<RwLock<BTreeMap<String, Revoked>>>,
    in_force: RwLock<Option<Arc<InForce>>>,
    /// Who is connected.
    pub seats: Arc<Seats>,
    /// When the credentials of who is connected end, with their sessions.
    ends: Mutex<BTreeSet<(Timestamp, u64)>>,
    /// How inner traffic meets the site; `None` before the first order.
    pub(crate) plane: RwLock<Option<Arc<Plane>>>,
    /// Credentials that were good for one session and have had it.
    spent: RwLock<HashSet<PublicKey>>,
    /// Those of them that are on their way to the disk: their packets wait for it.
    spending: Mutex<HashSet<PublicKey>>,
    /// Addresses that were leased, by listener.
    leases: Mutex<HashMap<String, Leases>>,
    /// Way notices for devices, by the identity of their credentials.
    notices: RwLock<HashMap<PublicKey, Numbered>>,
    /// Who is in at other gateways, of those whose sessions are counted.
    pub(crate) elsewhere: Elsewhere,
    /// Where what other gateways say is dealt with.
    pub(crate) from_peers: Mutex<Option<SyncSender<Heard>>>,
    /// The newest renewal of orders that hold for a time.
    renewed: RwLock<Option<Renewal>>,
    /// What was counted since the agent began to run.
    pub(crate) totals: Mutex<Totals>,
    /// Second factors that were asked for.
    pub(crate) answers: Answers,
    /// What is remembered of sign-ins.
    signs: Signs,
}

impl Shared {
    /// Begins with what the folder holds, and begins to keep what comes.
    pub(crate) fn start(keep: Keep, tables: Tables, folder: &std::path::Path) -> yestrel_core::Result<Arc<Self>> {
        // Session numbers stay unique over restarts: they begin at the moment, in milliseconds.
        let first = Timestamp::now().as_millisecond() as u64 * 16;
        let mut leases: HashMap<String, Leases> = HashMap::new();
        for (listener, device, address) in tables.leases() {
            leases.entry(listener.into()).or_default().set(device, address);
        }
        let spent = RwLock::new(tables.spent());
        let signs = Signs::new(tables.seen());
        let notices = keep.notices().unwrap_or_default();
        let shared = Arc::new(Self {
            notices: RwLock::default(),
            elsewhere: Elsewhere::default(),
            from_peers: Mutex::default(),
            renewed: RwLock::default(),
            revoked: keep.revoked(),
            leases: Mutex::new(leases),
            spent,
            scribe: Arc::new(Scribe::new(folder, tables)?),
            keep: Mutex::new(keep),
            in_force: RwLock::default(),
            seats: Arc::new(Seats::new(first)),
            ends: Mutex::default(),
            plane: RwLock::default(),
            spending: Mutex::default(),
            totals: Mutex::default(),
            answers: Answers::default(),
            signs,
        });
        shared.set_notices(&notices);
        let (scribe, weak) = (shared.scribe.clone(), Arc::downgrade(&shared));
        let kept = move |identity: &PublicKey| {
            if let Some(shared) = weak.upgrade() {
                shared.spending.lock().remove(identity);
                shared.seats.of_identity(identity).iter().for_each(|seat| shared.bound(seat));
            }
        };
        let spawned = std::thread::Builder::new().name("scribe".into()).spawn(move || scribe.run(&kept));
        spawned.map_err(|error| yestrel_core::Problem::failed("no thread to keep news").why(error.to_string()))?;
        Ok(shared)
    }

    /// Way notices for devices, in place of those before.
    pub(crate) fn set_notices(&self, notices: &[ForDevice]) {
        let of = |one: &ForDevice| (one.identity, (one.number, Arc::from(one.sealed.to_bytes())));
        *self.notices.write() = notices.iter().map(of).collect();
    }

    /// The way notice for a device whose newest is `known`, with its number.
    #[must_use]
    pub fn notice_for(&self, identity: &PublicKey, known: u32) -> Option<Numbered> {
        self.notices.read().get(identity).filter(|(number, _)| *number > known).cloned()
    }

    /// The order in force.
    #[must_use]
    pub fn in_force(&self) -> Option<Arc<InForce>> {
        self.in_force.read().clone()
    }

    /// The order in force is amended. Gives the sessions that it is about.
    pub(crate) fn amend(&self, in_force: &InForce, amendment: &Amendment, hash: String) -> Vec<Arc<Seat>> {
        *self.in_force.write() = Some(Arc::new(in_force.amended(amendment, hash)));
        let mut seats: Vec<_> = amendment.devices.iter().flat_map(|device| self.seats.of_device(device)).collect();
        // Whoever had one of these addresses by lease, or is called otherwise by now, is found by what they have.
        let identities = amendment.admit.iter().map(|admit| admit.proof.identity());
        seats.extend(identities.flat_map(|identity| self.seats.of_identity(&identity)));
        for admit in &amendment.admit {
            seats.extend(admit.address.and_then(|address| self.seats.find(address.into())));
        }
        seats.iter().for_each(|seat| self.bound(seat));
        self.heard_of();
        seats
    }

    pub(crate) fn set_in_force(&self, in_force: Option<InForce>) {
        *self.in_force.write() = in_force.map(Arc::new);
        for seat in self.seats.all() {
            self.bound(&seat);
        }
        self.heard_of();
    }

    /// Says where a device's packets may go, by the order in force. Who is not let in any more goes nowhere.
    pub(crate) fn bound(&self, seat: &Seat) {
        let pools = self.in_force().map(|in_force| in_force.pools.clone()).unwrap_or_default();
        let mut reach = self.decide(&seat.listener(), Coming::of(seat));
        // Held to the end: whoever is told meanwhile that it is kept says so after this.
        let spending = self.spending.lock();
        if spending.contains(&seat.identity) {
            reach = Err(Refusal::plain(Reason::NotYet));
        }
        if let Ok(admission) = &reach {
            seat.set_policy(admission.policy.clone());
            seat.set_rates(admission.terms.upload, admission.terms.download);
        }
        self.watch(seat, reach.as_ref().ok());
        // Until a second factor is answered nothing passes, neither way.
        let owes = |admission: &Admission| {
            self.answers.owes(&seat.identity, Some(seat.number), &admission.terms, clock::shown())
        };
        let held = reach.as_ref().is_ok_and(owes);
        seat.hold(held);
        if held {
            reach = Err(Refusal::plain(Reason::NotYet));
        }
        let (gateways, reach) = match &reach {
            Ok(admission) => {
                let six = admission.pool6.as_ref().map(|pool6| gateway_address6(pool6).into());
                let gateways = std::iter::once(gateway_address(&admission.pool).into()).chain(six).collect();
                (gateways, admission.reach.as_slice())
            }
            Err(_) => (Vec::new(), [].as_slice()),
        };
        seat.set_bounds(Bounds::new(gateways, reach, &pools));
    }

    /// How inner traffic meets the site.
    #[must_use]
    pub fn plane(&self) -> Option<Arc<Plane>> {
        self.plane.read().clone()
    }

    /// Whether somebody may come in at a listener now.
    ///
    /// # Errors
    /// The refusal.
    pub fn decide(&self, listener: &str, coming: Coming<'_>) -> Result<Admission, Refusal> {
        let in_force = self.in_force().ok_or_else(|| Refusal::plain(Reason::Shutdown))?;
        self.still_holds(&in_force)?;
        self.admission(&in_force, in_force.called(listener), &coming)
    }

    /// The decision, by what is remembered of the sign-in; an answer that stands counts.
    fn admission(&self, in_force: &InForce, listener: &str, coming: &Coming<'_>) -> Result<Admission, Refusal> {
        let Coming { shown, from, since, session } = *coming;
        let (roll, now) = (&in_force.roll, clock::shown());
        let how = match session {
            Some(session) => self.signs.of(session),
            None => self.coming_how(roll, listener, shown),
        };
        let revoked = self.revoked.read();
        let signed = Signed { realm: how.realm.as_deref(), first: how.first, second_factor: false };
        let claim = Claim { listener, shown, from, since, signed };
        let admission = decide(&claim, roll, &revoked, now)?;
        let (identity, terms) = (admission.proof.identity(), &admission.terms);
        if !terms.second_factor || !roll.asks(Asks::SecondFactor) || self.answers.owes(&identity, session, terms, now) {
            return Ok(admission);
        }
        // Whoever was asked and has answered may be admitted by another policy; until the answer counts no more.
        let answered = Claim { signed: Signed { second_factor: true, ..signed }, ..claim };
        let lapses = self.answers.lapses(&identity, terms);
        let admission = decide(&answered, roll, &revoked, now)?;
        Ok(Admission { again: admission.again.into_iter().chain(lapses).min(), ..admission })
    }

    /// How somebody signs in who has no session yet.
    fn coming_how(&self, roll: &Roll, listener: &str, shown: Shown<'_>) -> How {
        // Of an account the name itself says its realm.
        let identity = match shown {
            Shown::Key(one) | Shown::Certificate(one) | Shown::Session(one) => Some(one),
            Shown::Account(_) | Shown::SharedSecret(_) if !roll.asks(Asks::FirstSignIn) => None,
            // By whatever name it is called here.
            Shown::Account(name) => account(name, listener, None, roll, clock::shown())
                .ok()
                .and_then(|called| roll.find(listener, Shown::Account(&called)))
                .map(|admit| admit.proof.identity()),
            Shown::SharedSecret(_) => roll.find(listener, shown).map(|admit| admit.proof.identity()),
        };
        let of = |one: PublicKey| {
            let new = roll.asks(Asks::FirstSignIn) && roll.is_new(&one);
            let device = if new { roll.device_of(&one) } else { None };
            self.signs.coming(&one, device.as_deref())
        };
        identity.map(of).unwrap_or_default()
    }

    /// An account has shown that it is one, by this name.
    pub(crate) fn named(&self, identity: PublicKey, name: &str) {
        self.signs.named(identity, policy::realm(name).1);
    }

    /// What the account is called that somebody signs in to.
    ///
    /// # Errors
    /// No registry that this gateway can ask claims the name.
    pub(crate) fn account_of(&self, listener: &str, name: &str, from: SocketAddr) -> Result<String, Refusal> {
        let in_force = self.in_force().ok_or_else(|| Refusal::plain(Reason::Shutdown))?;
        let (listener, from) = (in_force.called(listener), Some(from.ip()));
        account(name, listener, from, &in_force.roll, clock::shown()).map(std::borrow::Cow::into_owned)
    }

    /// Whoever has a seat has signed in, once nothing is owed.
    pub(crate) fn arrived(&self, seat: &Seat) {
        let Some(in_force) = self.in_force() else { return };
        if !in_force.roll.asks(Asks::FirstSignIn) || !in_force.roll.is_new(&seat.identity) {
            return;
        }
        let Ok(admission) = self.decide(&seat.listener(), Coming::of(seat)) else { return };
        let owes = self.answers.owes(&seat.identity, Some(seat.number), &admission.terms, clock::shown());
        if !owes && self.signs.see(seat.identity, &admission.device) {
            self.scribe.seen(seat.identity, Some(admission.device));
        }
    }

    /// Forgets the sign-ins of which the estate has heard, as the order in force says.
    fn heard_of(&self) {
        let Some(in_force) = self.in_force().filter(|in_force| in_force.roll.asks(Asks::FirstSignIn)) else { return };
        let roll = &in_force.roll;
        // Also where this credential is gone by now: its device may have another.
        let new = |one: &PublicKey, device: &str| roll.is_new(one) || roll.of_device(device).any(|admit| admit.new);
        for identity in self.signs.heard(new) {
            self.scribe.seen(identity, None);
        }
    }

    fn still_holds(&self, in_force: &InForce) -> Result<(), Refusal> {
        match in_force.holds_until(self.renewed.read().as_ref()) {
            Some((until, _)) if until <= clock::shown() => Err(Refusal {
                reason: Reason::Shutdown,
                words: format!(
                    "this gateway has heard nothing of its estate for too long, and lets nobody in since {}",
                    moment(until)
                ),
            }),
            _ => Ok(()),
        }
    }

    /// Until when an order would hold, with the newest renewal, and for how long at all; nothing where it holds for ever.
    pub(crate) fn would_hold_until(
        &self,
        content: &Content,
        number: u64,
        issued: Timestamp,
    ) -> Option<(Timestamp, u32)> {
        let renewed = self.renewed.read();
        let until = |holds| order::holds_until(&content.gateway, number, issued, holds, renewed.as_ref());
        content.holds.map(|holds| (until(holds), holds))
    }

    /// Until when the order in force holds, where it does not for ever, and whether that is soon.
    #[must_use]
    pub fn holds_until(&self) -> Option<(Timestamp, bool)> {
        let (until, holds) = self.in_force()?.holds_until(self.renewed.read().as_ref())?;
        Some((until, order::ends_soon(until, holds, clock::shown())))
    }

    /// Of when the newest renewal is.
    #[must_use]
    pub fn renewed_at(&self) -> Option<Timestamp> {
        self.renewed.read().as_ref().map(|renewal| renewal.at)
    }

    /// Another gateway has come in at a listener, or says something. Where too much waits, it is said again at the next meeting.
    pub fn heard(&self, listener: &str, from: PublicKey, bytes: Vec<u8>) {
        if let Some(tell) = &*self.from_peers.lock() {
            let _ = tell.try_send(Heard { listener: listener.to_owned(), from, bytes });
        }
    }

    /// Whether a key is that of another gateway of the estate.
    #[must_use]
    pub fn is_peer(&self, key: &PublicKey) -> bool {
        self.in_force().is_some_and(|in_force| in_force.peers.contains(key))
    }

    /// The newest renewal is this one, where it is newer than the one before. Whether it is.
    pub(crate) fn renew(&self, renewal: Renewal) -> bool {
        let mut renewed = self.renewed.write();
        let newer = renewed.as_ref().is_none_or(|before| before.at < renewal.at);
        if newer {
            *renewed = Some(renewal);
        }
        newer
    }

    /// As [`Shared::decide`], with an inner address: the one that was given with the credential, or a lease.
    ///
    /// # Errors
    /// The refusal; also that the pool is full.
    pub fn grant(&self, listener: &str, coming: Coming<'_>) -> Result<Granted, Refusal> {
        let in_force = self.in_force().ok_or_else(|| Refusal::plain(Reason::Shutdown))?;
        self.still_holds(&in_force)?;
        let listener = in_force.called(listener);
        let since = coming.since;
        let admission = self.admission(&in_force, listener, &coming)?;
        if since.is_none() {
            room(&self.seats, &self.elsewhere, &admission)?;
        }
        let identity = admission.proof.identity();
        let seat = since.and_then(|_| self.seats.of_identity(&identity).into_iter().next());
        self.answers.may_be_asked(&identity, &admission.terms, clock::shown())?;
        let asks = self.answers.owes(&identity, seat.map(|seat| seat.number), &admission.terms, clock::shown());
        let order = in_force.number;
        let ipv6 = self.plane().is_some_and(|plane| plane.carries_ipv6());
        if let Some(inner) = admission.address {
            return Ok(Granted { admission, inner, order, ipv6, asks });
        }
        let none = HashSet::new();
        let given = in_force.given.get(listener).unwrap_or(&none);
        let mut leases = self.leases.lock();
        let own = leases.entry(listener.to_owned()).or_default();
        // Who is connected counts only where somebody's idle lease would have to go.
        let connected = || {
            let seats = self.seats.all();
            seats.iter().filter(|seat| in_force.called(&seat.listener()) == listener).map(|seat| four(seat)).collect()
        };
        let before = own.of(&admission.device);
        let inner = own
            .lease(&admission.device, &admission.pool, |address| admission.may_lease(address), given, connected)
            .ok_or_else(|| match (&admission.terms.pool, &admission.policy) {
                (Some(own), Some(policy)) => {
                    let words = format!("no address of {own} is left here, which the policy {policy} gives");
                    Refusal { reason: Reason::PoolFull, words }
                }
                _ => Refusal::plain(Reason::PoolFull),
            })?;
        if before != Some(inner) {
            if let Some(before) = before {
                self.scribe.leased(listener, before, None);
            }
            self.scribe.leased(listener, inner, Some(&admission.device));
        }
        Ok(Granted { admission, inner, order, ipv6, asks })
    }

    /// What was leased at listeners stays so under their other names.
    pub(crate) fn rename_leases(&self, renamed: &BTreeMap<String, String>) {
        let mut leases = self.leases.lock();
        let moved: Vec<_> = renamed.iter().filter_map(|(old, new)| Some((old, new, leases.remove(old)?))).collect();
        for (old, new, mut own) in moved {
            let late = leases.remove(new).unwrap_or_default();
            late.holders().for_each(|(device, address)| own.set(device, address));
            for (device, address) in own.holders() {
                self.scribe.leased(old, address, None);
                self.scribe.leased(new, address, Some(device));
            }
            leases.insert(new.clone(), own);
        }
    }

    /// Whether a session has an address that the order in force gives with somebody else's credential, or a policy to others.
    pub(crate) fn must_yield(&self, seat: &Seat, admission: &Admission) -> bool {
        let inner = four(seat);
        let given =
            |in_force: &InForce| in_force.given.get(&*seat.listener()).is_some_and(|given| given.contains(&inner));
        if admission.address.is_none() && !admission.may_lease(inner) {
            return true;
        }
        admission.address != Some(inner) && self.in_force().is_some_and(|in_force| given(&in_force))
    }

    /// Whose identity it is, as far as the order in force and the revocations say.
    #[must_use]
    pub fn device_of(&self, identity: &PublicKey) -> Option<String> {
        let in_force = self.in_force();
        let by_order = in_force.as_ref().and_then(|in_force| in_force.roll.device_of(identity));
        by_order.or_else(|| self.revoked.read().get(&identity.to_string()).map(|revoked| revoked.device.clone()))
    }

    /// A device has come in, with what it says of the newest way notice that it has taken: from here on packets find it.
    pub fn seat(&self, seat: Arc<Seat>, notice: u32) {
        let inner = four(&seat);
        let in_force = self.in_force();
        let shown = Shown::Session(seat.identity);
        if let Some(in_force) = &in_force {
            let how = self.coming_how(&in_force.roll, in_force.called(&seat.listener()), shown);
            self.signs.begin(seat.number, how);
        }
        let decided = self.decide(&seat.listener(), Coming::of(&seat)).ok();
        let asked = decided.as_ref().and_then(|admission| admission.asked);
        seat.set_policy(decided.and_then(|admission| admission.policy));
        let admit = in_force.as_ref().and_then(|in_force| in_force.roll.find(in_force.called(&seat.listener()), shown));
        let leased = admit.is_some_and(|admit| admit.address != Some(inner));
        tracing::info!(device = seat.device(), from = %seat.from(), %inner, "session opened");
        self.note(NewsEvent::Opened {
            session: seat.number,
            device: seat.device(),
            identity: seat.identity,
            listener: seat.listener().to_string(),
            from: seat.from().to_string(),
            inner,
            leased,
            notice,
            policy: seat.policy(),
            method: self.method_of(&seat.listener(), &seat.identity),
            asked,
            realm: self.signs.of(seat.number).realm.map(|realm| realm.to_string()),
        });
        self.scribe.live(seat.number, Some(live(&seat)));
        // Known first: whoever marks its credential as spent must find it.
        self.seats.insert(seat.clone());
        self.bound(&seat);
        self.arrived(&seat);
    }

    /// A connected device is somewhere else outside.
    pub fn moved(&self, session: u64, to: SocketAddr) {
        if let Some(seat) = self.seats.get(session) {
            seat.set_from(to);
            // From there it may be admitted by another policy, or by none.
            self.ends.lock().insert((clock::shown(), session));
            tracing::info!(device = seat.device(), %to, "session moved");
            self.note(NewsEvent::Moved { session, to: to.to_string() });
        }
    }

    /// A session is over.
    pub fn unseat(&self, session: u64, reason: Reason, words: &str) {
        let Some(seat) = self.seats.remove(session) else { return };
        self.signs.end(session);
        tracing::info!(device = seat.device(), reason = reason.word(), words, "session ended");
        self.note(ended(live(&seat), reason, words));
        self.scribe.live(session, None);
    }

    /// Somebody was not let in at a listener, with what it was for an administrator. `identity`: the credential, where it is one that the order or a
    /// revocation names.
    pub fn refused(&self, listener: &str, identity: Option<PublicKey>, from: SocketAddr, reason: Reason, words: &str) {
        self.totals.lock().refused(reason);
        let device = identity.and_then(|identity| self.device_of(&identity));
        let method = identity.and_then(|identity| self.method_of(listener, &identity));
        self.scribe.refused(identity, Refusals { device, from, times: 0, words: words.into(), method }, reason);
    }

    /// By which method whoever has this credential proves it at a listener.
    fn method_of(&self, listener: &str, identity: &PublicKey) -> Option<String> {
        let in_force = self.in_force()?;
        let called = in_force.called(listener);
        let admit = in_force.roll.find(called, Shown::Session(*identity))?;
        Some(in_force.roll.listener(called)?.tunnel.method(admit.proof.kind()).to_owned())
    }

    /// Whoever has a session by this identity, as they came in.
    #[must_use]
    pub fn coming_again(&self, identity: PublicKey) -> Coming<'static> {
        let seat = self.seats.of_identity(&identity).into_iter().next();
        let nobody = Coming { shown: Shown::Session(identity), from: None, since: None, session: None };
        seat.map_or(nobody, |seat| Coming::of(&seat))
    }

    /// Who is in here of those whose sessions are counted, for other gateways; `None` where no policy counts any.
    pub(crate) fn counted(&self) -> Option<Vec<There>> {
        let in_force = self.in_force()?;
        let limited = |terms: &Terms| terms.user_sessions.is_some() || terms.device_sessions.is_some();
        if !in_force.roll.policies()?.rules().any(|rule| limited(&rule.terms)) {
            return None;
        }
        let of = |seat: Arc<Seat>| There { device: seat.device(), identity: seat.identity, opened: seat.opened };
        Some(self.seats.all().into_iter().map(of).collect())
    }

    /// Gateways of which nothing is heard while a policy counts sessions over all of them: what is in there is not counted here.
    pub(crate) fn uncounted(&self) -> Vec<String> {
        let Some(in_force) = self.in_force() else { return Vec::new() };
        // Before that they may not have had the time.
        if self.counted().is_none() || in_force.since.elapsed() < FRESH {
            return Vec::new();
        }
        let content = in_force.roll.settings();
        let others = content.peers.iter().map(|peer| peer.gateway.as_str());
        self.elsewhere.silent(others.filter(|other| *other != content.gateway))
    }

    /// Another gateway says who is in there. Gives the sessions here that are too many beside those, each with why.
    pub(crate) fn are_elsewhere(&self, gateway: &str, there: Vec<There>) -> Vec<(Arc<Seat>, Refusal)> {
        let Some(in_force) = self.in_force() else { return Vec::new() };
        let own = in_force.roll.settings().gateway.clone();
        let users: HashSet<String> =
            there.iter().filter_map(|one| one.device.split('/').next()).map(str::to_owned).collect();
        self.elsewhere.set(gateway, there);
        let mut too_many = Vec::new();
        for seat in users.iter().flat_map(|user| self.seats.of_user(user)) {
            let Ok(admission) = self.decide(&seat.listener(), Coming::of(&seat)) else { continue };
            if let Err(refusal) = stays(&self.seats, &self.elsewhere, (&own, &seat), &admission) {
                too_many.push((seat, refusal));
            }
        }
        too_many
    }

    /// Whether decisions may have become others by themselves since this was last asked.
    pub(crate) fn time_has_turned(&self, now: Timestamp) -> bool {
        self.in_force().is_some_and(|in_force| in_force.turn.has_come(&in_force.roll, now))
    }

    /// Whether a credential may still begin a session: one that is good for one session may not when it has had it.
    ///
    /// # Errors
    /// The refusal.
    pub fn unspent(&self, identity: &PublicKey) -> Result<(), Refusal> {
        if self.spent.read().contains(identity) {
            return Err(Refusal { reason: Reason::Revoked, words: "it was good for one session".into() });
        }
        Ok(())
    }

    /// Whether a session that begins now is welcome; with it, a credential that is good for one session is spent. Its packets go
    /// nowhere until that is kept, or cannot be.
    ///
    /// # Errors
    /// The refusal: revoked or spent since it was let in.
    pub fn welcome(&self, listener: &str, identity: PublicKey, from: SocketAddr) -> Result<(), Refusal> {
        let admission = self.decide(listener, Coming::new(Shown::Session(identity), from))?;
        room(&self.seats, &self.elsewhere, &admission)?;
        if admission.sessions == Some(1) {
            self.unspent(&identity)?;
            self.spent.write().insert(identity);
            self.spending.lock().insert(identity);
            self.scribe.spent(identity);
        }
        Ok(())
    }

    /// Notes what was seen.
    pub fn note(&self, event: NewsEvent) {
        self.totals.lock().count(&event);
        self.scribe.note(event);
    }

    /// A session is looked at again when its credential ends, a limit is reached, or the order ends.
    fn watch(&self, seat: &Seat, admission: Option<&Admission>) {
        let now = clock::shown();
        let idle = admission.and_then(|admission| idle(seat, admission, now).ok().flatten());
        let again = admission.and_then(|admission| admission.again);
        let answer = admission.and_then(|admission| {
            self.answers.until(&seat.identity, seat.number, &admission.terms, now).ok().flatten()
        });
        let until = again.into_iter().chain(idle).chain(answer).chain(self.holds_until().map(|(until, _)| until)).min();
        if let Some(until) = until.filter(|until| seat.watch(*until, now)) {
            self.ends.lock().insert((until, seat.number));
        }
    }

    /// What the device of a session is to be asked now, where it owes an answer and was not asked yet.
    pub(crate) fn question(&self, seat: &Seat) -> Option<&'static str> {
        let admission = self.decide(&seat.listener(), Coming::of(seat)).ok()?;
        self.answers.question(&seat.identity, seat.number, &admission.terms, clock::shown())
    }

    /// A device that is in is called something else now.
    pub(crate) fn rename(&self, seat: &Seat, device: &str) {
        tracing::info!(before = seat.device(), device, "renamed");
        self.seats.rename(seat.number, device);
        self.scribe.live(seat.number, Some(live(seat)));
    }

    /// Keeps how far sessions have come that carried something since this was last done.
    pub(crate) fn keep_live(&self) {
        let now = clock::shown();
        for seat in self.seats.take_marked() {
            seat.set_busy(now);
            self.scribe.live(seat.number, Some(live(&seat)));
            // It may have ended just now.
            if self.seats.get(seat.number).is_none() {
                self.scribe.live(seat.number, None);
            }
        }
    }

    /// Sessions whose credential has ended since they began. Costs by what has ended.
    pub(crate) fn take_ended(&self, now: Timestamp) -> Vec<Arc<Seat>> {
        let mut ends = self.ends.lock();
        let later = ends.split_off(&(now, u64::MAX));
        let due = std::mem::replace(&mut *ends, later);
        drop(ends);
        due.into_iter().filter_map(|(_, session)| self.seats.get(session)).collect()
    }

    /// Who is connected.
    #[must_use]
    pub fn live(&self) -> Vec<Live> {
        let of = |seat: &Arc<Seat>| {
            let How { realm, first } = self.signs.of(seat.number);
            let realm = realm.map(|realm| realm.to_string());
            Live { realm, first, answered: self.answers.were_given(&seat.identity), ..live(seat) }
        };
        let mut all: Vec<_> = self.seats.all().iter().map(of).collect();
        all.sort_by(|a, b| (&a.device, a.number).cmp(&(&b.device, b.number)));
        all
    }
}

/// What a device's person is told of an order that ends soon.
pub(crate) fn ends(until: Timestamp) -> String {
    let until = moment(until);
    format!("this gateway has heard nothing of its estate for long: it lets nobody in from {until} on, unless it does")
}

/// The inner IPv4 address of a seat.
fn four(seat: &Seat) -> Ipv4Addr {
    let four = |inner: IpNet| if let IpNet::V4(four) = inner { Some(four.addr()) } else { None };
    seat.inners().into_iter().find_map(four).unwrap_or(Ipv4Addr::UNSPECIFIED)
}

fn live(seat: &Seat) -> Live {
    Live {
        number: seat.number,
        device: seat.device(),
        identity: seat.identity,
        listener: seat.listener().to_string(),
        from: seat.from().to_string(),
        inner: four(seat),
        opened: seat.opened,
        received: seat.counters.received.load(Ordering::Relaxed),
        sent: seat.counters.sent.load(Ordering::Relaxed),
        last_heard: clock::wall(seat.counters.last_heard()),
        policy: seat.policy(),
        software: seat.software.clone(),
        asks: seat.is_held(),
        realm: None,
        first: false,
        answered: false,
    }
}

/// What is to be noted of a session that is over.
pub(crate) fn ended(live: Live, reason: Reason, words: &str) -> NewsEvent {
    NewsEvent::Ended {
        session: live.number,
        device: live.device,
        identity: live.identity,
        reason,
        words: words.into(),
        received: live.received,
        sent: live.sent,
        last_heard: live.last_heard,
    }
}
