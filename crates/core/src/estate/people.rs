//! Users, groups, and what they carry.

use jiff::Timestamp;
use serde::{Deserialize, Serialize};

/// Whether a user may come in at all.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum UserState {
    Active,
    Suspended,
}

/// A person.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct User {
    pub name: String,
    /// The name that they had elsewhere, `mara.nilsen`: what their accounts are called.
    #[serde(default)]
    pub alias: Option<String>,
    pub mail: Option<String>,
    /// "engineer".
    pub about: Option<String>,
    pub state: UserState,
    pub groups: Vec<String>,
    pub created: Timestamp,
}

impl User {
    /// Somebody of whom nothing but the name is known.
    #[must_use]
    pub fn new(name: &str, created: Timestamp) -> Self {
        let (name, state, groups) = (name.into(), UserState::Active, Vec::new());
        Self { name, alias: None, mail: None, about: None, state, groups, created }
    }
}

/// A set of users.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct Group {
    pub name: String,
    pub about: Option<String>,
    /// Days that a certificate of a member holds, 1..=3650.
    pub lifetime: Option<u16>,
    pub created: Timestamp,
}

/// What a user carries, `mara/laptop`.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct Device {
    pub name: String,
    pub user: String,
    /// `linux`, `android`, ... in words.
    pub platform: Option<String>,
    pub created: Timestamp,
}
