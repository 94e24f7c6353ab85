//! Who is connected: by inner address for packets, by number for everything else.

use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::net::{IpAddr, SocketAddr};
use std::sync::atomic::{AtomicBool, AtomicI64, AtomicU64, Ordering};
use std::sync::{Arc, OnceLock};

use ipnet::IpNet;
use jiff::Timestamp;
use parking_lot::{Mutex, RwLock};
use yestrel_core::admission::Bounds;
use yestrel_core::keys::PublicKey;
use yestrel_wire::counters::Counters;
use yestrel_wire::{Moment, Outward};

use crate::clock;
use crate::packets::{Sender, Udp, ends};
use crate::rate::Rate;

/// How inner packets get to the other end of one session: all that the data path knows of a tunnel.
pub trait Carrier: Send + Sync {
    /// Protects an inner packet and puts it into the sender, or on its way. What cannot be carried is lost, as on the way.
    fn carry(&self, now: Moment, packet: &[u8], sender: &mut Sender);

    /// Sends what the sender has collected for this session.
    fn flush(&self, sender: &mut Sender);
}

/// Packets go out under keys, in datagrams of a socket.
pub struct Under<K> {
    pub keys: Arc<K>,
    pub udp: Arc<Udp>,
}

impl<K: Outward> Carrier for Under<K> {
    fn carry(&self, now: Moment, packet: &[u8], sender: &mut Sender) {
        let keys = &self.keys;
        let (to, mark, length) = (keys.to(), keys.mark(packet), keys.length(packet.len()));
        sender.add_marked(&self.udp, to, mark, length, |out| keys.lay(now, packet, out));
    }

    fn flush(&self, sender: &mut Sender) {
        sender.flush(&self.udp);
    }
}

/// What a listener is called: the same for it and all of its sessions, also once it is called something else.
#[derive(Debug)]
pub struct Called(RwLock<Arc<str>>);

impl Called {
    /// A listener's name, `harbour/NAME`.
    #[must_use]
    pub fn new(name: &str) -> Arc<Self> {
        Arc::new(Self(RwLock::new(name.into())))
    }

    /// The name now.
    #[must_use]
    pub fn now(&self) -> Arc<str> {
        self.0.read().clone()
    }

    /// From here on it is called so.
    pub fn rename(&self, name: &str) {
        *self.0.write() = name.into();
    }
}

/// A device that is connected.
pub struct Seat {
    pub number: u64,
    /// By which its credential is known.
    pub identity: PublicKey,
    device: RwLock<String>,
    listener: Arc<Called>,
    pub opened: Timestamp,
    /// What the device says of itself.
    pub software: String,
    pub counters: Arc<Counters>,
    /// Its addresses, the first of them for people.
    inners: RwLock<Vec<IpNet>>,
    /// Where its packets may go; nowhere, until somebody has said.
    bounds: RwLock<Option<Bounds>>,
    from: Mutex<SocketAddr>,
    carrier: RwLock<Arc<dyn Carrier>>,
    /// Whether it is among those that carried something, and where these stand.
    marked: AtomicBool,
    marks: OnceLock<Arc<Marks>>,
    /// When it last carried something, as far as was looked, in milliseconds since 1970.
    busy: AtomicI64,
    /// When it is looked at next, in milliseconds since 1970.
    watched: AtomicI64,
    /// How much the device may send inwards, and is sent.
    upload: Rate,
    download: Rate,
    /// The policy by which it was admitted.
    policy: Mutex<Option<String>>,
    /// Nothing is carried to it.
    held: AtomicBool,
}

/// Packets go nowhere.
struct Nowhere;

impl Carrier for Nowhere {
    fn carry(&self, _: Moment, _: &[u8], _: &mut Sender) {}
    fn flush(&self, _: &mut Sender) {}
}

/// Sessions that have carried something since they were last asked for, by number.
type Marks = Mutex<Vec<u64>>;

impl Seat {
    /// A seat with its inner addresses, or with networks behind it.
    #[must_use]
    #[expect(clippy::too_many_arguments, reason = "what a session begins with, each once")]
    pub fn new(
        number: u64,
        identity: PublicKey,
        device: &str,
        listener: &Arc<Called>,
        inners: Vec<IpNet>,
        from: SocketAddr,
        software: &str,
        counters: Arc<Counters>,
        carrier: Arc<dyn Carrier>,
    ) -> Arc<Self> {
        Arc::new(Self {
            number,
            identity,
            device: RwLock::new(device.into()),
            listener: listener.clone(),
            opened: crate::clock::shown(),
            software: software.into(),
            counters,
            inners: RwLock::new(inners),
            bounds: RwLock::default(),
            from: Mutex::new(from),
            carrier: RwLock::new(carrier),
            marked: AtomicBool::new(false),
            marks: OnceLock::new(),
            busy: AtomicI64::new(crate::clock::shown().as_millisecond()),
            watched: AtomicI64::new(0),
            upload: Rate::default(),
            download: Rate::default(),
            policy: Mutex::default(),
            held: AtomicBool::new(false),
        })
    }

    /// What the listener is called at which it came in.
    #[must_use]
    pub fn listener(&self) -> Arc<str> {
        self.listener.now()
    }

    /// When it last carried an inner packet, to about a second.
    #[must_use]
    pub fn busy(&self) -> Timestamp {
        Timestamp::from_millisecond(self.busy.load(Ordering::Relaxed)).unwrap_or(self.opened)
    }

    /// It has carried something until now.
    pub fn set_busy(&self, now: Timestamp) {
        self.busy.store(now.as_millisecond(), Ordering::Relaxed);
    }

    /// It is to be looked at then; whether somebody must see to that, because nothing earlier was said already.
    #[must_use]
    pub fn watch(&self, at: Timestamp, now: Timestamp) -> bool {
        let (at, now) = (at.as_millisecond(), now.as_millisecond());
        let before = self.watched.load(Ordering::Relaxed);
        let fresh = before <= now || at < before;
        if fresh {
            self.watched.store(at, Ordering::Relaxed);
        }
        fresh
    }

    /// The policy by which it is admitted; `None` where there are none.
    #[must_use]
    pub fn policy(&self) -> Option<String> {
        self.policy.lock().clone()
    }

    /// It is admitted by this policy.
    pub fn set_policy(&self, policy: Option<String>) {
        *self.policy.lock() = policy;
    }

    /// What its device is called.
    #[must_use]
    pub fn device(&self) -> String {
        self.device.read().clone()
    }

    /// Its inner addresses.
    #[must_use]
    pub fn inners(&self) -> Vec<IpNet> {
        self.inners.read().clone()
    }

    /// Says where the device's packets may go from now on.
    pub fn set_bounds(&self, bounds: Bounds) {
        *self.bounds.write() = Some(bounds);
    }

    /// Something is carried for it. A lock is only taken for the first packet after [`Seats::take_marked`].
    pub fn mark(&self) {
        if !self.marked.load(Ordering::Relaxed)
            && let Some(marks) = self.marks.get()
            && !self.marked.swap(true, Ordering::Relaxed)
        {
            marks.lock().push(self.number);
        }
    }

    /// Whether a packet from the device may go on: from its own address, to where it may go.
    #[must_use]
    pub fn passes(&self, packet: &[u8]) -> bool {
        self.mark();
        let may = ends(packet).is_some_and(|(source, destination)| {
            self.owns(source) && self.bounds.read().as_ref().is_some_and(|bounds| bounds.lets(destination))
        });
        may && self.upload.lets(packet.len(), clock::now)
    }

    /// Whether a packet may go to the device now, as fast as these come.
    #[must_use]
    pub fn takes(&self, packet: &[u8]) -> bool {
        self.download.lets(packet.len(), clock::now)
    }

    /// How much the device may send inwards, and is sent, in bits a second.
    pub fn set_rates(&self, upload: Option<u64>, download: Option<u64>) {
        self.upload.set(upload);
        self.download.set(download);
    }

    /// Whether a packet with this source is the device's own.
    #[must_use]
    pub fn owns(&self, source: IpAddr) -> bool {
        self.inners.read().iter().any(|inner| inner.contains(&source))
    }

    /// Where the device is outside.
    #[must_use]
    pub fn from(&self) -> SocketAddr {
        *self.from.lock()
    }

    /// The device is somewhere else outside.
    pub fn set_from(&self, from: SocketAddr) {
        *self.from.lock() = from;
    }

    /// How packets get to the device now.
    #[must_use]
    pub fn carrier(&self) -> Arc<dyn Carrier> {
        if self.is_held() { Arc::new(Nowhere) } else { self.carrier.read().clone() }
    }

    /// Whether nothing gets to the device.
    #[must_use]
    pub fn is_held(&self) -> bool {
        self.held.load(Ordering::Relaxed)
    }

    /// Whether nothing is to get to the device until this is said otherwise: where its own packets may go is said by [`Seat::set_bounds`].
    pub fn hold(&self, held: bool) {
        self.held.store(held, Ordering::Relaxed);
    }

    /// Packets get to the device in another way from now on: under renewed keys, say.
    pub fn set_carrier(&self, carrier: Arc<dyn Carrier>) {
        *self.carrier.write() = carrier;
    }
}

#[derive(Default)]
struct Table {
    /// Prefix lengths that occur, of both IP versions.
    lengths: BTreeSet<u8>,
    by_address: HashMap<IpNet, Arc<Seat>>,
    by_number: HashMap<u64, Arc<Seat>>,
    /// The sessions of a credential.
    by_identity: HashMap<[u8; 32], Vec<u64>>,
    /// The sessions of a device.
    by_device: BTreeMap<String, Vec<u64>>,
}

/// Takes a session out of a list of them; whether it was the last.
fn leave(list: Option<&mut Vec<u64>>, number: u64) -> bool {
    list.is_some_and(|list| {
        list.retain(|other| *other != number);
        list.is_empty()
    })
}

impl Table {
    fn leave_device(&mut self, device: &str, number: u64) {
        if leave(self.by_device.get_mut(device), number) {
            self.by_device.remove(device);
        }
    }

    /// Takes a seat's address away, if it is still that seat's.
    fn vacate(&mut self, inner: IpNet, number: u64) {
        if self.by_address.get(&inner).is_some_and(|there| there.number == number) {
            self.by_address.remove(&inner);
            if !self.by_address.keys().any(|other| other.prefix_len() == inner.prefix_len()) {
                self.lengths.remove(&inner.prefix_len());
            }
        }
    }

    fn occupy(&mut self, inner: IpNet, seat: Arc<Seat>) {
        self.lengths.insert(inner.prefix_len());
        self.by_address.insert(inner, seat);
    }
}

/// All connected devices of an agent, whatever their tunnels.
pub struct Seats {
    table: RwLock<Table>,
    next: AtomicU64,
    marks: Arc<Marks>,
}

impl Seats {
    /// Nobody is connected. Sessions are numbered from `first` on.
    #[must_use]
    pub fn new(first: u64) -> Self {
        Self { table: RwLock::default(), next: AtomicU64::new(first), marks: Arc::default() }
    }

    /// The number of the next session: one counter for all listeners, so that no two sessions have one number.
    pub fn number(&self) -> u64 {
        self.next.fetch_add(1, Ordering::Relaxed)
    }

    /// A device is connected.
    pub fn insert(&self, seat: Arc<Seat>) {
        let _ = seat.marks.set(self.marks.clone());
        let mut table = self.table.write();
        table.by_number.insert(seat.number, seat.clone());
        table.by_identity.entry(seat.identity.0).or_default().push(seat.number);
        table.by_device.entry(seat.device()).or_default().push(seat.number);
        seat.inners().into_iter().for_each(|inner| table.occupy(inner.trunc(), seat.clone()));
    }

    /// A session is over. Gives its seat, if there was one.
    pub fn remove(&self, number: u64) -> Option<Arc<Seat>> {
        let mut table = self.table.write();
        let seat = table.by_number.remove(&number)?;
        if leave(table.by_identity.get_mut(&seat.identity.0), number) {
            table.by_identity.remove(&seat.identity.0);
        }
        table.leave_device(&seat.device(), number);
        seat.inners().into_iter().for_each(|inner| table.vacate(inner.trunc(), number));
        Some(seat)
    }

    /// A connected device is called something else.
    pub fn rename(&self, number: u64, device: &str) {
        let mut table = self.table.write();
        let Some(seat) = table.by_number.get(&number).cloned() else { return };
        let before = std::mem::replace(&mut *seat.device.write(), device.to_owned());
        table.leave_device(&before, number);
        table.by_device.entry(device.to_owned()).or_default().push(number);
    }

    /// A connected device gets other inner addresses.
    pub fn reseat(&self, number: u64, inners: Vec<IpNet>) {
        let mut table = self.table.write();
        let Some(seat) = table.by_number.get(&number).cloned() else { return };
        let before = std::mem::replace(&mut *seat.inners.write(), inners.clone());
        if before != inners {
            before.into_iter().for_each(|inner| table.vacate(inner.trunc(), number));
            inners.into_iter().for_each(|inner| table.occupy(inner.trunc(), seat.clone()));
        }
    }

    /// The seat that a packet with this destination is for, by the longest prefix.
    #[must_use]
    pub fn find(&self, address: IpAddr) -> Option<Arc<Seat>> {
        let table = self.table.read();
        let most = if address.is_ipv4() { 32 } else { 128 };
        table.lengths.iter().rev().filter(|length| **length <= most).find_map(|length| {
            let key = IpNet::new(address, *length).ok()?.trunc();
            table.by_address.get(&key).cloned()
        })
    }

    /// A session by its number.
    #[must_use]
    pub fn get(&self, number: u64) -> Option<Arc<Seat>> {
        self.table.read().by_number.get(&number).cloned()
    }

    /// The sessions of a credential.
    #[must_use]
    pub fn of_identity(&self, identity: &PublicKey) -> Vec<Arc<Seat>> {
        let table = self.table.read();
        let numbers = table.by_identity.get(&identity.0).map(Vec::as_slice).unwrap_or_default();
        numbers.iter().filter_map(|number| table.by_number.get(number).cloned()).collect()
    }

    /// The sessions of a device.
    #[must_use]
    pub fn of_device(&self, device: &str) -> Vec<Arc<Seat>> {
        let table = self.table.read();
        let numbers = table.by_device.get(device).map(Vec::as_slice).unwrap_or_default();
        numbers.iter().filter_map(|number| table.by_number.get(number).cloned()).collect()
    }

    /// The sessions of all devices of a user.
    #[must_use]
    pub fn of_user(&self, user: &str) -> Vec<Arc<Seat>> {
        let table = self.table.read();
        let (first, after) = (format!("{user}/"), format!("{user}0"));
        let numbers = table.by_device.range(first..after).flat_map(|(_, numbers)| numbers);
        numbers.filter_map(|number| table.by_number.get(number).cloned()).collect()
    }

    /// Sessions that have carried something since this was last asked.
    #[must_use]
    pub fn take_marked(&self) -> Vec<Arc<Seat>> {
        let numbers = std::mem::take(&mut *self.marks.lock());
        let seats: Vec<_> = numbers.into_iter().filter_map(|number| self.get(number)).collect();
        seats.iter().for_each(|seat| seat.marked.store(false, Ordering::Relaxed));
        seats
    }

    /// Everybody who is connected.
    #[must_use]
    pub fn all(&self) -> Vec<Arc<Seat>> {
        self.table.read().by_number.values().cloned().collect()
    }

    /// Nobody is connected any more.
    pub fn clear(&self) {
        *self.table.write() = Table::default();
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn seat(number: u64, inner: &str) -> Arc<Seat> {
        let from = "198.51.100.23:40000".parse().unwrap();
        let (counters, carrier) = (Arc::default(), Arc::new(Nowhere));
        let inner = inner.split(',').map(|one| one.parse().unwrap()).collect();
        Seat::new(
            number,
            PublicKey([1; 32]),
            "mara/laptop",
            &Called::new("harbour/first"),
            inner,
            from,
            "",
            counters,
            carrier,
        )
    }

    fn found(seats: &Seats, address: &str) -> Option<u64> {
        seats.find(address.parse().unwrap()).map(|seat| seat.number)
    }

    #[test]
    fn the_longest_prefix_decides_in_both_ip_versions() {
        let seats = Seats::new(1);
        for (number, inner) in
            [(1, "10.187.44.2/32"), (2, "10.50.0.0/16"), (3, "10.50.7.0/24"), (4, "2001:db8:44::2/128")]
        {
            seats.insert(seat(number, inner));
        }
        let cases = [
            ("10.187.44.2", Some(1)),
            ("10.187.44.3", None),
            ("10.50.1.1", Some(2)),
            ("10.50.7.9", Some(3)),
            ("2001:db8:44::2", Some(4)),
            ("2001:db8:44::3", None),
        ];
        for (address, number) in cases {
            assert_eq!(found(&seats, address), number, "{address}");
        }
        seats.remove(3);
        assert_eq!(found(&seats, "10.50.7.9"), Some(2));
    }

    #[test]
    fn of_many_looks_at_a_seat_the_next_one_is_kept_and_no_other() {
        let seat = seat(1, "10.187.44.2/32");
        let at = |second: i64| Timestamp::from_second(1_000_000 + second).unwrap();
        assert!(seat.watch(at(60), at(0)));
        assert!(!seat.watch(at(60), at(1)) && !seat.watch(at(90), at(2)), "it is looked at before that");
        assert!(seat.watch(at(30), at(3)));
        assert!(!seat.watch(at(60), at(29)));
        assert!(seat.watch(at(60), at(30)), "that look has come");
    }

    #[test]
    fn a_seat_that_was_replaced_does_not_take_its_successors_address_away() {
        let seats = Seats::new(7);
        assert_eq!((seats.number(), seats.number()), (7, 8));
        seats.insert(seat(1, "10.187.44.2/32"));
        seats.insert(seat(2, "10.187.44.2/32"));
        assert_eq!(seats.remove(1).unwrap().number, 1);
        assert_eq!(found(&seats, "10.187.44.2"), Some(2));
        seats.reseat(2, vec!["10.187.45.9/32".parse().unwrap(), "fd01:203:405::9/128".parse().unwrap()]);
        assert_eq!((found(&seats, "10.187.44.2"), found(&seats, "10.187.45.9")), (None, Some(2)));
        assert_eq!((found(&seats, "fd01:203:405::9"), found(&seats, "fd01:203:405::8")), (Some(2), None));
        assert!(seats.get(2).unwrap().owns("fd01:203:405::9".parse().unwrap()));
        assert!(seats.get(2).unwrap().owns("10.187.45.9".parse().unwrap()));
        assert!(!seats.get(2).unwrap().owns("10.187.44.2".parse().unwrap()));
        assert!(seats.remove(9).is_none() && seats.all().len() == 1);
    }

    #[test]
    fn sessions_are_found_by_whose_they_are_and_by_whether_they_carried_anything() {
        let seats = Seats::new(1);
        let busy = seat(1, "10.187.44.2/32");
        seats.insert(busy.clone());
        seats.insert(seat(2, "10.187.44.3/32"));
        let numbers = |seats: Vec<Arc<Seat>>| seats.iter().map(|seat| seat.number).collect::<Vec<_>>();
        assert_eq!(numbers(seats.of_device("mara/laptop")), [1, 2]);
        assert_eq!(numbers(seats.of_identity(&PublicKey([1; 32]))), [1, 2]);
        assert!(seats.of_identity(&PublicKey([2; 32])).is_empty() && seats.of_device("mara").is_empty());
        assert!(numbers(seats.take_marked()).is_empty());
        (0..3).for_each(|_| busy.mark());
        assert_eq!(numbers(seats.take_marked()), [1]);
        assert!(numbers(seats.take_marked()).is_empty());
        busy.mark();
        seats.remove(1);
        assert!(numbers(seats.take_marked()).is_empty(), "what is over carries nothing");
        assert_eq!(numbers(seats.of_device("mara/laptop")), [2]);
        assert_eq!(numbers(seats.of_identity(&PublicKey([1; 32]))), [2]);
    }
}
