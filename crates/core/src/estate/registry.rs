//! Where accounts are kept and checked.

use jiff::Timestamp;
use serde::{Deserialize, Serialize};

use crate::{Problem, Result};

/// What keeps the accounts of a registry.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum RegistryKind {
    /// This estate itself.
    Estate,
}

impl RegistryKind {
    /// The word for tables.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::Estate => "estate",
        }
    }
}

/// How a sign-in may prove its password. In the order of their words.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Method {
    /// RFC 2759; it needs a form of the password beside the one at rest.
    MsChapV2,
    /// The password itself, protected by what surrounds it.
    Password,
}

impl Method {
    /// All there are, the better first.
    pub const ALL: [Self; 2] = [Self::Password, Self::MsChapV2];

    /// The word for it, as commands take it.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::Password => "password",
            Self::MsChapV2 => "ms-chap-v2",
        }
    }
}

impl std::fmt::Display for Method {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str(self.word())
    }
}

impl std::str::FromStr for Method {
    type Err = Problem;

    fn from_str(text: &str) -> Result<Self> {
        Self::ALL.into_iter().find(|method| method.word() == text).ok_or_else(|| {
            Problem::words(format!("the method {text:?} is not known"))
                .why(format!("there are {}", Self::ALL.map(Self::word).join(" and ")))
        })
    }
}

/// Where accounts are kept and checked.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct Registry {
    pub name: String,
    pub kind: RegistryKind,
    pub methods: Vec<Method>,
    pub created: Timestamp,
}
