//! Where accounts are kept and checked.

use jiff::Timestamp;
use serde::{Deserialize, Serialize};

use crate::policy::{Claimant, Conditions, NameForm};

pub use crate::policy::{Method, RegistryKind};

/// Where accounts are kept and checked.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct Registry {
    pub name: String,
    pub kind: RegistryKind,
    pub methods: Vec<Method>,
    /// Which sign-ins it claims; the estate, with none, those that no other does.
    pub claims: Conditions,
    /// What it calls those that sign in.
    pub called: NameForm,
    /// The lowest is asked first; those without after them.
    pub rank: Option<u16>,
    pub created: Timestamp,
}

impl Registry {
    /// As it takes part in the order of checking.
    #[must_use]
    pub fn claimant(&self) -> Claimant {
        let Self { name, kind, methods, claims, called, .. } = self.clone();
        Claimant { name, kind, claims, methods, called }
    }

    /// Registries as they are asked, one after another.
    #[must_use]
    pub fn in_order(mut all: Vec<Self>) -> Vec<Self> {
        all.sort_by(|a, b| {
            let place = |one: &Self| (one.claims.is_empty(), one.rank.is_none(), one.rank);
            place(a).cmp(&place(b)).then_with(|| a.name.cmp(&b.name))
        });
        all
    }
}
