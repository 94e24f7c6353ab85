//! A policy in the estate's one list.

use jiff::Timestamp;
use serde::{Deserialize, Serialize};

use crate::policy::{Conditions, Effect, Listed, Rule, Terms};

/// A policy with its place in the list.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct Policy {
    pub name: String,
    /// The list is in the order of these; they have gaps.
    pub place: i64,
    pub effect: Effect,
    /// Whether it is on.
    pub active: bool,
    /// All must hold.
    pub wants: Conditions,
    /// None may hold.
    pub bars: Conditions,
    pub terms: Terms,
    /// For people.
    pub about: Option<String>,
    pub created: Timestamp,
}

/// How far apart places are at first.
pub const GAP: i64 = 1 << 20;

impl Policy {
    /// A policy at a place.
    #[must_use]
    pub fn new(listed: Listed, place: i64, created: Timestamp) -> Self {
        let Listed { rule: Rule { name, effect, when, unless, terms }, on, about } = listed;
        Self { name, place, effect, active: on, wants: when, bars: unless, terms, about, created }
    }

    /// As it decides.
    #[must_use]
    pub fn rule(&self) -> Rule {
        let Self { name, effect, wants, bars, terms, .. } = self.clone();
        Rule { name, effect, when: wants, unless: bars, terms }
    }

    /// As the list shows it.
    #[must_use]
    pub fn listed(&self) -> Listed {
        Listed { rule: self.rule(), on: self.active, about: self.about.clone() }
    }
}
