//! An order's list of the admitted, found by what they show in a time that does not grow with the list, and kept in few bytes each.

use std::collections::{BTreeMap, HashMap, HashSet};
use std::net::Ipv4Addr;
use std::sync::Arc;

use jiff::Timestamp;

use super::{Proof, ProofKind, Shown};
use crate::keys::PublicKey;
use crate::order::{Admit, Amendment, Content, OrderListener};
use crate::policy::List as Policies;

/// By what somebody is let in, as it is kept: what most have stands in itself.
#[derive(Debug, Clone)]
enum By {
    Key(PublicKey),
    Certificate(PublicKey),
    Other(Box<Proof>),
}

/// An entry as it is kept.
#[derive(Debug, Clone)]
struct Entry {
    by: By,
    device: Box<str>,
    /// The listener's place in the order; of one for the whole gateway, [`ANYWHERE`].
    at: u16,
    suspended: bool,
    address: Option<Ipv4Addr>,
    from: Option<Timestamp>,
    until: Option<Timestamp>,
    sessions: Option<u32>,
    /// When it was issued, in seconds since 1970; 0 where no policy asks.
    issued: u32,
    /// What policies ask of its user and device: the place in [`Traits`].
    traits: u32,
}

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

impl Entry {
    fn identity(&self) -> PublicKey {
        match &self.by {
            By::Key(key) | By::Certificate(key) => *key,
            By::Other(proof) => proof.identity(),
        }
    }

    /// The entry of an order; `None` for one at a listener that the order does not have: nobody can come in by it.
    fn of(admit: Admit, listeners: &HashMap<String, u16>, traits: &mut Traits) -> Option<Self> {
        let Admit { proof, device, at, address, from, until, suspended, sessions, groups, platform, issued } = admit;
        let at = match at {
            Some(at) => *listeners.get(&at)?,
            None => ANYWHERE,
        };
        let by = match proof {
            Proof::Key { key } => By::Key(key),
            Proof::Certificate { key } => By::Certificate(key),
            other => By::Other(other.into()),
        };
        let issued = issued.and_then(|issued| u32::try_from(issued.as_second()).ok()).unwrap_or(0);
        let traits = traits.place(groups, platform);
        let device = device.into_boxed_str();
        Some(Self { by, device, at, suspended, address, from, until, sessions, issued, traits })
    }

    fn admit(&self, listeners: &[OrderListener], traits: &Traits) -> Admit {
        let (groups, platform) = traits.all.get(self.traits as usize).cloned().unwrap_or_default();
        let issued = Some(self.issued).filter(|issued| *issued > 0);
        Admit {
            groups,
            platform,
            issued: issued.and_then(|issued| Timestamp::from_second(issued.into()).ok()),
            proof: match &self.by {
                By::Key(key) => Proof::Key { key: *key },
                By::Certificate(key) => Proof::Certificate { key: *key },
                By::Other(proof) => (**proof).clone(),
            },
            device: self.device.to_string(),
            at: listeners.get(usize::from(self.at)).map(|listener| listener.name.clone()),
            address: self.address,
            from: self.from,
            until: self.until,
            suspended: self.suspended,
            sessions: self.sessions,
        }
    }

    fn shows(&self, shown: Shown<'_>) -> bool {
        match (shown, &self.by) {
            (Shown::Key(one), By::Key(key)) | (Shown::Certificate(one), By::Certificate(key)) => one == *key,
            (Shown::Account(one), By::Other(proof)) => matches!(&**proof, Proof::Account { name, .. } if name == one),
            (Shown::SharedSecret(one), By::Other(proof)) => {
                matches!(&**proof, Proof::SharedSecret { number, .. } if *number == one)
            }
            (Shown::Session(one), _) => one == self.identity(),
            _ => false,
        }
    }
}

/// Entries, found by what they show.
#[derive(Debug, Clone, Default)]
struct List {
    /// By device.
    entries: Vec<Entry>,
    /// Places in `entries`, by identity.
    identities: Vec<u32>,
    accounts: BTreeMap<String, Vec<u32>>,
    numbers: BTreeMap<u64, Vec<u32>>,
}

impl List {
    fn new(mut entries: Vec<Entry>) -> Self {
        entries.sort_by(|a, b| a.device.cmp(&b.device));
        entries.shrink_to_fit();
        let mut list = Self { entries, ..Self::default() };
        for (at, entry) in (0..).zip(&list.entries) {
            list.identities.push(at);
            match &entry.by {
                By::Other(proof) => match &**proof {
                    Proof::Account { name, .. } => list.accounts.entry(name.clone()).or_default().push(at),
                    Proof::SharedSecret { number, .. } => list.numbers.entry(*number).or_default().push(at),
                    Proof::Key { .. } | Proof::Certificate { .. } => {}
                },
                By::Key(_) | By::Certificate(_) => {}
            }
        }
        let entries = &list.entries;
        list.identities.sort_by_cached_key(|at| entries[*at as usize].identity().0);
        list.identities.shrink_to_fit();
        list
    }

    /// The entries among which those for what is shown are.
    fn find<'a>(&'a self, shown: Shown<'_>) -> impl Iterator<Item = &'a Entry> + use<'a> {
        let of_identity = |identity: PublicKey| {
            let key = |at: &u32| self.entries[*at as usize].identity().0;
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
        let first = self.entries.partition_point(|entry| *entry.device < *device);
        let many = self.entries[first..].iter().take_while(|entry| *entry.device == *device).count();
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
        let entries = content.admit.into_iter().filter_map(|admit| Entry::of(admit, &listeners, &mut traits));
        let list = List::new(entries.collect());
        let admitted = list.entries.len();
        // One that cannot be read is refused before it comes here; nobody comes in by it.
        let none = || Policies::new(&[], "UTC").ok();
        let policies = settings.policies.as_ref().and_then(|policies| policies.ready().ok().or_else(none));
        let whole = Arc::new(Whole { settings, list, listeners, policies });
        Self { whole, amended: HashSet::new(), since: List::default(), traits, admitted }
    }

    /// As this one, with an amendment to its order.
    #[must_use]
    pub fn amended(&self, amendment: &Amendment) -> Self {
        let mut entries = self.since.entries.clone();
        entries.retain(|entry| !amendment.devices.contains(&*entry.device));
        let mut traits = self.traits.clone();
        let of = |admit: &Admit| Entry::of(admit.clone(), &self.whole.listeners, &mut traits);
        entries.extend(amendment.admit.iter().filter_map(of));
        let mut amended = self.amended.clone();
        amended.extend(amendment.devices.iter().cloned());
        let hidden: usize = amended.iter().map(|device| self.whole.list.of_device(device).len()).sum();
        let admitted = (self.whole.list.entries.len() + entries.len()).saturating_sub(hidden);
        Self { whole: self.whole.clone(), amended, since: List::new(entries), traits, admitted }
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
        list.of_device(device).iter().map(|entry| entry.admit(&self.whole.settings.listeners, &self.traits))
    }

    /// The list of policies; `None` in an order of a version before there were any.
    #[must_use]
    pub fn policies(&self) -> Option<&Policies> {
        self.whole.policies.as_ref()
    }

    /// A listener by its name.
    #[must_use]
    pub fn listener(&self, name: &str) -> Option<&OrderListener> {
        self.whole.listeners.get(name).and_then(|at| self.whole.settings.listeners.get(usize::from(*at)))
    }

    fn entries(&self, shown: Shown<'_>) -> impl Iterator<Item = &Entry> {
        let before = self.whole.list.find(shown).filter(|entry| !self.amended.contains(&*entry.device));
        self.since.find(shown).chain(before).filter(move |entry| entry.shows(shown))
    }

    /// The entry for what is shown at a listener: one for this listener before one for all of the gateway.
    #[must_use]
    pub fn find(&self, listener: &str, shown: Shown<'_>) -> Option<Admit> {
        let at = self.whole.listeners.get(listener).copied();
        let here = at.and_then(|at| self.entries(shown).find(|entry| entry.at == at));
        let found = here.or_else(|| self.entries(shown).find(|entry| entry.at == ANYWHERE))?;
        Some(found.admit(&self.whole.settings.listeners, &self.traits))
    }

    /// Whose identity it is, as far as the order says.
    #[must_use]
    pub fn device_of(&self, identity: &PublicKey) -> Option<String> {
        self.entries(Shown::Session(*identity)).next().map(|entry| entry.device.to_string())
    }

    /// Whether a listener takes this kind of proof.
    #[must_use]
    pub fn takes(&self, listener: &str, kind: ProofKind) -> bool {
        self.listener(listener).is_some_and(|listener| listener.tunnel.proofs().contains(&kind))
    }
}
