//! An order's list of the admitted, found by what they show in a time that does not grow with the list.

use std::collections::{HashMap, HashSet};
use std::sync::Arc;

use super::{Proof, ProofKind, Shown};
use crate::keys::PublicKey;
use crate::order::{Admit, Amendment, Content, OrderListener};

/// Places in a list, of which there is mostly one.
#[derive(Debug, Clone)]
struct Few {
    first: u32,
    #[expect(clippy::box_collection, reason = "one word where there is nothing")]
    more: Option<Box<Vec<u32>>>,
}

impl Few {
    fn all(&self) -> impl Iterator<Item = u32> {
        std::iter::once(self.first).chain(self.more.iter().flat_map(|more| more.iter().copied()))
    }
}

fn put<K: std::hash::Hash + Eq>(map: &mut HashMap<K, Few>, key: K, at: u32) {
    match map.entry(key) {
        std::collections::hash_map::Entry::Vacant(vacant) => drop(vacant.insert(Few { first: at, more: None })),
        std::collections::hash_map::Entry::Occupied(mut there) => {
            there.get_mut().more.get_or_insert_default().push(at);
        }
    }
}

/// Entries, found by what they show.
#[derive(Debug, Clone, Default)]
struct Found {
    identities: HashMap<PublicKey, Few>,
    accounts: HashMap<String, Few>,
    numbers: HashMap<u64, Few>,
}

impl Found {
    fn of(admit: &[Admit]) -> Self {
        let mut found = Self { identities: HashMap::with_capacity(admit.len()), ..Self::default() };
        for (at, admit) in (0..).zip(admit) {
            put(&mut found.identities, admit.proof.identity(), at);
            match &admit.proof {
                Proof::Key { .. } | Proof::Certificate { .. } => {}
                Proof::Account { name, .. } => put(&mut found.accounts, name.clone(), at),
                Proof::SharedSecret { number, .. } => put(&mut found.numbers, *number, at),
            }
        }
        found
    }

    /// The entries of a list for what is shown.
    fn find<'a>(&'a self, admit: &'a [Admit], shown: Shown<'_>) -> impl Iterator<Item = &'a Admit> + use<'a> {
        let (few, kind) = match shown {
            Shown::Key(key) => (self.identities.get(&key), Some(ProofKind::Key)),
            Shown::Certificate(key) => (self.identities.get(&key), Some(ProofKind::Certificate)),
            Shown::Account(name) => (self.accounts.get(name), None),
            Shown::SharedSecret(number) => (self.numbers.get(&number), None),
            Shown::Session(identity) => (self.identities.get(&identity), None),
        };
        let entries = few.into_iter().flat_map(Few::all).filter_map(|at| admit.get(at as usize));
        entries.filter(move |admit| kind.is_none_or(|kind| admit.proof.kind() == kind))
    }
}

/// The list of a whole order.
#[derive(Debug)]
struct Whole {
    content: Content,
    found: Found,
    listeners: HashMap<String, u32>,
}

/// What was amended since, of all amendments together.
#[derive(Debug, Clone, Default)]
struct Since {
    devices: HashSet<String>,
    admit: Vec<Admit>,
    found: Found,
}

/// The content of an order in force, with its list indexed. What is amended stands beside it, so that an amendment costs by what it changes.
#[derive(Debug, Clone)]
pub struct Roll {
    whole: Arc<Whole>,
    since: Since,
    admitted: usize,
}

impl Roll {
    /// Takes a content over.
    #[must_use]
    pub fn new(mut content: Content) -> Self {
        if !content.admit.is_sorted_by(|a, b| a.place() <= b.place()) {
            content.admit.sort_by(Admit::in_order);
        }
        let found = Found::of(&content.admit);
        let listeners = (0..).zip(&content.listeners).map(|(at, listener)| (listener.name.clone(), at)).collect();
        let admitted = content.admit.len();
        Self { whole: Arc::new(Whole { content, found, listeners }), since: Since::default(), admitted }
    }

    /// As this one, with an amendment to its order.
    #[must_use]
    pub fn amended(&self, amendment: &Amendment) -> Self {
        let mut since = self.since.clone();
        since.admit.retain(|admit| !amendment.devices.contains(&admit.device));
        let is_there = |admit: &&Admit| admit.at.as_ref().is_none_or(|at| self.whole.listeners.contains_key(at));
        since.admit.extend(amendment.admit.iter().filter(is_there).cloned());
        since.found = Found::of(&since.admit);
        since.devices.extend(amendment.devices.iter().cloned());
        let hidden: usize = since.devices.iter().map(|device| self.whole.content.of_device(device).count()).sum();
        let admitted = (self.whole.content.admit.len() + since.admit.len()).saturating_sub(hidden);
        Self { whole: self.whole.clone(), since, admitted }
    }

    /// How many devices were amended since it was made anew.
    #[must_use]
    pub fn amendments(&self) -> usize {
        self.since.devices.len()
    }

    /// What it was made from, whose list of the admitted and of revocations may be older.
    #[must_use]
    pub fn settings(&self) -> &Content {
        &self.whole.content
    }

    /// How many entries it has.
    #[must_use]
    pub fn admitted(&self) -> usize {
        self.admitted
    }

    /// The entries of a device.
    pub fn of_device(&self, device: &str) -> impl Iterator<Item = &Admit> {
        let amended = self.since.devices.contains(device);
        let before = (!amended).then(|| self.whole.content.of_device(device)).into_iter().flatten();
        before.chain(self.since.admit.iter().filter(move |admit| admit.device == device))
    }

    /// A listener by its name.
    #[must_use]
    pub fn listener(&self, name: &str) -> Option<&OrderListener> {
        self.whole.listeners.get(name).and_then(|at| self.whole.content.listeners.get(*at as usize))
    }

    fn entries(&self, shown: Shown<'_>) -> impl Iterator<Item = &Admit> {
        let before = self.whole.found.find(&self.whole.content.admit, shown);
        let before = before.filter(|admit| !self.since.devices.contains(&admit.device));
        self.since.found.find(&self.since.admit, shown).chain(before)
    }

    /// The entry for what is shown at a listener: one for this listener before one for all of the gateway.
    #[must_use]
    pub fn find(&self, listener: &str, shown: Shown<'_>) -> Option<&Admit> {
        let here = self.entries(shown).find(|admit| admit.at.as_deref() == Some(listener));
        here.or_else(|| self.entries(shown).find(|admit| admit.at.is_none()))
    }

    /// Whose identity it is, as far as the order says.
    #[must_use]
    pub fn device_of(&self, identity: &PublicKey) -> Option<&str> {
        self.entries(Shown::Session(*identity)).next().map(|admit| &*admit.device)
    }

    /// Whether a listener takes this kind of proof.
    #[must_use]
    pub fn takes(&self, listener: &str, kind: ProofKind) -> bool {
        self.listener(listener).is_some_and(|listener| listener.tunnel.proofs().contains(&kind))
    }
}
