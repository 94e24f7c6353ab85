//! An order's list of the admitted, found by what they show in a time that does not grow with the list, and kept in few bytes each.

use std::collections::{BTreeMap, HashMap, HashSet};
use std::net::Ipv4Addr;
use std::sync::Arc;

use jiff::Timestamp;

use super::{Proof, ProofKind, Shown};
use crate::keys::PublicKey;
use crate::order::{Admit, Amendment, Content, OrderListener, OrderPolicies};
use crate::policy::{Asks, List as Policies, Registries};
use crate::sealed::Sealed;

/// An entry as it is kept: of one size, so that all of them stand in one piece of memory. What most do not have stands beside them.
#[derive(Debug, Clone)]
struct Entry {
    identity: PublicKey,
    /// From and until when, in milliseconds since 1970; [`i64::MIN`] and [`i64::MAX`] for always.
    from: i64,
    until: i64,
    /// Where in the names its device's stands.
    name: u32,
    name_length: u16,
    /// The listener's place in the order; of one for the whole gateway, [`ANYWHERE`].
    at: u16,
    /// [`Ipv4Addr::UNSPECIFIED`] for none: no pool has it.
    address: Ipv4Addr,
    /// [`u32::MAX`] for as many as somebody wants.
    sessions: u32,
    /// When it was issued, in seconds since 1970; 0 where no policy asks.
    issued: u32,
    /// What policies ask of its user and device: the place in [`Traits`].
    traits: u32,
    /// [`KEY`], [`CERTIFICATE`], or the place of another proof.
    proof: u32,
    suspended: bool,
    /// Its device has signed in nowhere, as far as the estate has heard.
    new: bool,
}

const KEY: u32 = u32::MAX;
const CERTIFICATE: u32 = u32::MAX - 1;

/// What policies ask of users and devices beside their names; most have the same as others, and each is kept once.
#[derive(Debug, Clone)]
struct Traits {
    all: Vec<(Vec<String>, Option<String>)>,
    places: HashMap<(Vec<String>, Option<String>), u32>,
}

impl Default for Traits {
    fn default() -> Self {
        let none = (Vec::new(), None);
        Self { all: vec![none.clone()], places: HashMap::from([(none, 0)]) }
    }
}

impl Traits {
    fn place(&mut self, groups: Vec<String>, platform: Option<String>) -> u32 {
        let traits = (groups, platform);
        if let Some(place) = self.places.get(&traits) {
            return *place;
        }
        let place = u32::try_from(self.all.len()).unwrap_or(0);
        self.all.push(traits.clone());
        self.places.insert(traits, place);
        place
    }
}

const ANYWHERE: u16 = u16::MAX;

/// Entries, found by what they show.
#[derive(Debug, Clone, Default)]
struct List {
    /// By device.
    entries: Vec<Entry>,
    /// The names of their devices, one after another.
    names: String,
    /// Proofs that are neither a key nor a certificate.
    others: Vec<Proof>,
    /// Second factors, by identity.
    seconds: HashMap<PublicKey, Sealed>,
    /// Places in `entries`, by identity.
    identities: Vec<u32>,
    accounts: BTreeMap<String, Vec<u32>>,
    numbers: BTreeMap<u64, Vec<u32>>,
}

impl List {
    /// The entries of an order but those at a listener that it does not have: nobody can come in by these.
    fn new(mut all: Vec<Admit>, listeners: &HashMap<String, u16>, traits: &mut Traits) -> Self {
        all.sort_by(|a, b| a.device.cmp(&b.device));
        let mut list = Self::default();
        list.entries.reserve_exact(all.len());
        list.names.reserve_exact(all.iter().map(|admit| admit.device.len()).sum());
        for admit in all {
            list.push(admit, listeners, traits);
        }
        let entries = &list.entries;
        list.identities = (0..).take(entries.len()).collect();
        list.identities.sort_by_cached_key(|at| entries[*at as usize].identity.0);
        list
    }

    fn push(&mut self, admit: Admit, listeners: &HashMap<String, u16>, traits: &mut Traits) {
        let Admit {
            proof,
            device,
            at,
            address,
            from,
            until,
            suspended,
            sessions,
            groups,
            platform,
            issued,
            second,
            new,
        } = admit;
        let at = match at {
            Some(at) => match listeners.get(&at) {
                Some(at) => *at,
                None => return,
            },
            None => ANYWHERE,
        };
        let place = u32::try_from(self.entries.len()).unwrap_or(u32::MAX);
        let identity = proof.identity();
        let proof = match proof {
            Proof::Key { .. } => KEY,
            Proof::Certificate { .. } => CERTIFICATE,
            other => {
                match &other {
                    Proof::Account { name, .. } => self.accounts.entry(name.clone()).or_default().push(place),
                    Proof::SharedSecret { number, .. } => self.numbers.entry(*number).or_default().push(place),
                    Proof::Key { .. } | Proof::Certificate { .. } => {}
                }
                self.others.push(other);
                u32::try_from(self.others.len() - 1).unwrap_or(u32::MAX)
            }
        };
        if let Some(second) = second {
            self.seconds.insert(identity, second);
        }
        // Names are far shorter; one that is not stands as much as fits, and is nobody's.
        let fits =
            (0..=device.len().min(usize::from(u16::MAX))).rev().find(|at| device.is_char_boundary(*at)).unwrap_or(0);
        let name = u32::try_from(self.names.len()).unwrap_or(u32::MAX);
        self.names.push_str(&device[..fits]);
        self.entries.push(Entry {
            identity,
            from: from.map_or(i64::MIN, Timestamp::as_millisecond),
            until: until.map_or(i64::MAX, Timestamp::as_millisecond),
            name,
            name_length: u16::try_from(fits).unwrap_or(u16::MAX),
            at,
            address: address.unwrap_or(Ipv4Addr::UNSPECIFIED),
            sessions: sessions.unwrap_or(u32::MAX),
            issued: issued.and_then(|issued| u32::try_from(issued.as_second()).ok()).unwrap_or(0),
            traits: traits.place(groups, platform),
            proof,
            suspended,
            new,
        });
    }

    fn device(&self, entry: &Entry) -> &str {
        let begins = entry.name as usize;
        self.names.get(begins..begins + usize::from(entry.name_length)).unwrap_or_default()
    }

    /// An entry as the order has it.
    fn admit(&self, entry: &Entry, listeners: &[OrderListener], traits: &Traits) -> Admit {
        let (groups, platform) = traits.all.get(entry.traits as usize).cloned().unwrap_or_default();
        let issued = Some(entry.issued).filter(|issued| *issued > 0);
        Admit {
            groups,
            platform,
            issued: issued.and_then(|issued| Timestamp::from_second(issued.into()).ok()),
            proof: match entry.proof {
                CERTIFICATE => Proof::Certificate { key: entry.identity },
                place => self.others.get(place as usize).cloned().unwrap_or(Proof::Key { key: entry.identity }),
            },
            device: self.device(entry).to_owned(),
            at: listeners.get(usize::from(entry.at)).map(|listener| listener.name.clone()),
            address: Some(entry.address).filter(|address| !address.is_unspecified()),
            from: Some(entry.from)
                .filter(|from| *from != i64::MIN)
                .and_then(|from| Timestamp::from_millisecond(from).ok()),
            until: Some(entry.until)
                .filter(|until| *until != i64::MAX)
                .and_then(|until| Timestamp::from_millisecond(until).ok()),
            suspended: entry.suspended,
            sessions: Some(entry.sessions).filter(|sessions| *sessions != u32::MAX),
            second: self.seconds.get(&entry.identity).cloned(),
            new: entry.new,
        }
    }

    fn shows(&self, entry: &Entry, shown: Shown<'_>) -> bool {
        let other = || self.others.get(entry.proof as usize);
        match shown {
            Shown::Key(one) => entry.proof == KEY && one == entry.identity,
            Shown::Certificate(one) => entry.proof == CERTIFICATE && one == entry.identity,
            Shown::Account(one) => matches!(other(), Some(Proof::Account { name, .. }) if name == one),
            Shown::SharedSecret(one) => matches!(other(), Some(Proof::SharedSecret { number, .. }) if *number == one),
            Shown::Session(one) => one == entry.identity,
        }
    }

    /// The entries among which those for what is shown are.
    fn find<'a>(&'a self, shown: Shown<'_>) -> impl Iterator<Item = &'a Entry> + use<'a> {
        let of_identity = |identity: PublicKey| {
            let key = |at: &u32| self.entries[*at as usize].identity.0;
            let first = self.identities.partition_point(|at| key(at) < identity.0);
            let many = self.identities[first..].iter().take_while(|at| key(at) == identity.0).count();
            &self.identities[first..first + many]
        };
        let places: &[u32] = match shown {
            Shown::Key(key) | Shown::Certificate(key) | Shown::Session(key) => of_identity(key),
            Shown::Account(name) => self.accounts.get(name).map_or(&[], Vec::as_slice),
            Shown::SharedSecret(number) => self.numbers.get(&number).map_or(&[], Vec::as_slice),
        };
        places.iter().filter_map(|at| self.entries.get(*at as usize))
    }

    /// The entries of a device.
    fn of_device(&self, device: &str) -> &[Entry] {
        let first = self.entries.partition_point(|entry| self.device(entry) < device);
        let many = self.entries[first..].iter().take_while(|entry| self.device(entry) == device).count();
        &self.entries[first..first + many]
    }
}

/// A whole order.
#[derive(Debug)]
struct Whole {
    /// But for whom it admits.
    settings: Content,
    list: List,
    listeners: HashMap<String, u16>,
    /// `None`: an order of a version before there were policies.
    policies: Option<Policies>,
    /// `None`: the estate alone.
    registries: Option<Registries>,
}

/// The content of an order in force, with its list indexed. What is amended stands beside it, so that an amendment costs by what it changes.
#[derive(Debug, Clone)]
pub struct Roll {
    whole: Arc<Whole>,
    /// Devices that were amended since, and what they have now.
    amended: HashSet<String>,
    since: List,
    /// Of both.
    traits: Traits,
    admitted: usize,
}

impl Roll {
    /// Takes a content over.
    #[must_use]
    pub fn new(content: Content) -> Self {
        let settings = content.settings();
        let listeners = (0..ANYWHERE).zip(&settings.listeners).map(|(at, listener)| (listener.name.clone(), at));
        let listeners: HashMap<_, _> = listeners.collect();
        let mut traits = Traits::default();
        let list = List::new(content.admit, &listeners, &mut traits);
        let admitted = list.entries.len();
        // One that cannot be read is refused before it comes here; nobody comes in by it.
        let none = || Policies::new(&[], "UTC").ok();
        let policies = settings.policies.as_ref().and_then(|policies| policies.ready().ok().or_else(none));
        let nobody = || Registries::new(&[], "UTC").ok();
        let of = |policies: &OrderPolicies| policies.registries().unwrap_or_else(|_| nobody());
        let registries = settings.policies.as_ref().and_then(of);
        let whole = Arc::new(Whole { settings, list, listeners, policies, registries });
        Self { whole, amended: HashSet::new(), since: List::default(), traits, admitted }
    }

    /// As this one, with an amendment to its order.
    #[must_use]
    pub fn amended(&self, amendment: &Amendment) -> Self {
        let listeners = &self.whole.settings.listeners;
        let stays = |entry: &&Entry| !amendment.devices.contains(self.since.device(entry));
        let stay = self.since.entries.iter().filter(stays);
        let mut all: Vec<_> = stay.map(|entry| self.since.admit(entry, listeners, &self.traits)).collect();
        all.extend(amendment.admit.iter().cloned());
        let mut traits = self.traits.clone();
        let since = List::new(all, &self.whole.listeners, &mut traits);
        let mut amended = self.amended.clone();
        amended.extend(amendment.devices.iter().cloned());
        let hidden: usize = amended.iter().map(|device| self.whole.list.of_device(device).len()).sum();
        let admitted = (self.whole.list.entries.len() + since.entries.len()).saturating_sub(hidden);
        Self { whole: self.whole.clone(), amended, since, traits, admitted }
    }

    /// All that the order says but of people.
    #[must_use]
    pub fn settings(&self) -> &Content {
        &self.whole.settings
    }

    /// How many entries it has.
    #[must_use]
    pub fn admitted(&self) -> usize {
        self.admitted
    }

    /// The entries of a device.
    pub fn of_device(&self, device: &str) -> impl Iterator<Item = Admit> {
        let list = if self.amended.contains(device) { &self.since } else { &self.whole.list };
        list.of_device(device).iter().map(|entry| list.admit(entry, &self.whole.settings.listeners, &self.traits))
    }

    /// The list of policies; `None` in an order of a version before there were any.
    #[must_use]
    pub fn policies(&self) -> Option<&Policies> {
        self.whole.policies.as_ref()
    }

    /// Who checks accounts; `None`: the estate, whatever the name.
    #[must_use]
    pub fn registries(&self) -> Option<&Registries> {
        self.whole.registries.as_ref()
    }

    /// A listener by its name.
    #[must_use]
    pub fn listener(&self, name: &str) -> Option<&OrderListener> {
        self.whole.listeners.get(name).and_then(|at| self.whole.settings.listeners.get(usize::from(*at)))
    }

    fn entries(&self, shown: Shown<'_>) -> impl Iterator<Item = (&List, &Entry)> {
        let (whole, since) = (&self.whole.list, &self.since);
        let before = whole.find(shown).map(move |entry| (whole, entry));
        let before = before.filter(|(list, entry)| !self.amended.contains(list.device(entry)));
        since
            .find(shown)
            .map(move |entry| (since, entry))
            .chain(before)
            .filter(move |(list, entry)| list.shows(entry, shown))
    }

    /// The entry for what is shown at a listener: one for this listener before one for all of the gateway.
    #[must_use]
    pub fn find(&self, listener: &str, shown: Shown<'_>) -> Option<Admit> {
        let at = self.whole.listeners.get(listener).copied();
        let here = at.and_then(|at| self.entries(shown).find(|(_, entry)| entry.at == at));
        let (list, found) = here.or_else(|| self.entries(shown).find(|(_, entry)| entry.at == ANYWHERE))?;
        Some(list.admit(found, &self.whole.settings.listeners, &self.traits))
    }

    /// Whether the order says of the device that has this identity that it has not signed in yet.
    #[must_use]
    pub fn is_new(&self, identity: &PublicKey) -> bool {
        self.entries(Shown::Session(*identity)).any(|(_, entry)| entry.new)
    }

    /// Whether its list asks about this.
    #[must_use]
    pub fn asks(&self, asks: Asks) -> bool {
        self.policies().is_some_and(|list| list.asks(asks))
    }

    /// Whose identity it is, as far as the order says.
    #[must_use]
    pub fn device_of(&self, identity: &PublicKey) -> Option<String> {
        self.entries(Shown::Session(*identity)).next().map(|(list, entry)| list.device(entry).to_owned())
    }

    /// Whether a listener takes this kind of proof.
    #[must_use]
    pub fn takes(&self, listener: &str, kind: ProofKind) -> bool {
        self.listener(listener).is_some_and(|listener| listener.tunnel.proofs().contains(&kind))
    }
}
