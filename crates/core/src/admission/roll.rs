//! An order's list of the admitted, found by what they show in a time that does not grow with the list.

use std::collections::HashMap;

use super::{Proof, ProofKind, Shown};
use crate::keys::PublicKey;
use crate::order::{Admit, Content, OrderListener};

/// What an entry is found by.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
enum Index {
    Key(PublicKey),
    Certificate(PublicKey),
    Account(String),
    SharedSecret(u64),
    Identity(PublicKey),
}

impl Index {
    fn of(proof: &Proof) -> Self {
        match proof {
            Proof::Key { key } => Self::Key(*key),
            Proof::Certificate { key } => Self::Certificate(*key),
            Proof::Account { name, .. } => Self::Account(name.clone()),
            Proof::SharedSecret { number, .. } => Self::SharedSecret(*number),
        }
    }
}

impl From<Shown<'_>> for Index {
    fn from(shown: Shown<'_>) -> Self {
        match shown {
            Shown::Key(key) => Self::Key(key),
            Shown::Certificate(key) => Self::Certificate(key),
            Shown::Account(name) => Self::Account(name.into()),
            Shown::SharedSecret(number) => Self::SharedSecret(number),
            Shown::Session(identity) => Self::Identity(identity),
        }
    }
}

/// The content of an order in force, with its list indexed.
#[derive(Debug)]
pub struct Roll {
    content: Content,
    found: HashMap<Index, Vec<u32>>,
    listeners: HashMap<String, u32>,
}

impl Roll {
    /// Takes a content over.
    #[must_use]
    pub fn new(content: Content) -> Self {
        let mut found: HashMap<_, Vec<u32>> = HashMap::with_capacity(2 * content.admit.len());
        for (at, admit) in (0..).zip(&content.admit) {
            found.entry(Index::of(&admit.proof)).or_default().push(at);
            found.entry(Index::Identity(admit.proof.identity())).or_default().push(at);
        }
        let listeners = (0..).zip(&content.listeners).map(|(at, listener)| (listener.name.clone(), at)).collect();
        Self { content, found, listeners }
    }

    /// What it was made from.
    #[must_use]
    pub fn content(&self) -> &Content {
        &self.content
    }

    /// A listener by its name.
    #[must_use]
    pub fn listener(&self, name: &str) -> Option<&OrderListener> {
        self.listeners.get(name).and_then(|at| self.content.listeners.get(*at as usize))
    }

    /// The entry for what is shown at a listener: one for this listener before one for all of the gateway.
    #[must_use]
    pub fn find(&self, listener: &str, shown: Shown<'_>) -> Option<&Admit> {
        let entries = self.found.get(&shown.into())?;
        let entries = || entries.iter().filter_map(|at| self.content.admit.get(*at as usize));
        entries()
            .find(|admit| admit.at.as_deref() == Some(listener))
            .or_else(|| entries().find(|admit| admit.at.is_none()))
    }

    /// Whose identity it is, as far as the order says.
    #[must_use]
    pub fn device_of(&self, identity: &PublicKey) -> Option<&str> {
        let first = self.found.get(&Index::Identity(*identity))?.first()?;
        self.content.admit.get(*first as usize).map(|admit| &*admit.device)
    }

    /// Whether a listener takes this kind of proof.
    #[must_use]
    pub fn takes(&self, listener: &str, kind: ProofKind) -> bool {
        self.listener(listener).is_some_and(|listener| listener.tunnel.proofs().contains(&kind))
    }
}
