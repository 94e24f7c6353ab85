//! Who may come in where, and what devices know of their ways in.

use jiff::Timestamp;
use serde::Deserialize;
use serde::de::IgnoredAny;
use serde_json::Value;
use yestrel_core::Result;
use yestrel_core::estate::{Credential, CredentialKind, CredentialState, NoticeMade, Permit};

use crate::book::Book;
use crate::records::Readable;
use crate::rows::{Link, Query};

impl Readable for Permit {
    const TABLE: &'static str = "credentials";
    const NOUN: &'static str = "credential";
    const STRUCTURED: &'static [&'static str] = &["ways", "gateways", "fixed", "account", "second_factor"];
    const FLAGS: &'static [&'static str] = &["made_on_device", "once"];
    const COLUMNS: &'static [&'static str] = &[
        "device",
        "user",
        "identity",
        "kind",
        "ways",
        "serial",
        "account",
        "gateways",
        "fixed",
        "second_factor",
        "made_on_device",
        "once",
        "issued",
        "valid_from",
        "expires",
        "job",
    ];
}

/// What a credential's device knows of its ways in.
#[derive(Debug, Clone, Deserialize)]
pub struct Knows {
    pub name: String,
    pub device: String,
    pub ways: Option<String>,
    /// What it was told, as it is kept: devices of one listener were mostly told the same.
    pub told: String,
    pub notice: Option<NoticeMade>,
}

impl Knows {
    /// Whether there is a way notice for it that it has not taken, and it was told anything before.
    #[must_use]
    pub fn waits(&self) -> bool {
        self.told != "[]" && self.notice.as_ref().is_some_and(|notice| notice.taken.is_none())
    }
}

impl Readable for Knows {
    const TABLE: &'static str = "credentials";
    const NOUN: &'static str = "credential";
    const STRUCTURED: &'static [&'static str] = &["notice"];
    const COLUMNS: &'static [&'static str] = &["name", "device", "ways", "told", "notice"];
}

/// As much of a credential as says who could come in by it, where and when.
#[derive(Debug, Clone, Deserialize)]
pub struct Opens {
    pub name: String,
    pub device: String,
    pub kind: CredentialKind,
    ways: Option<Vec<Towards>>,
    gateways: Option<Vec<String>>,
    pub issued: Timestamp,
    pub valid_from: Option<Timestamp>,
    pub expires: Option<Timestamp>,
    pub revoked: Option<Timestamp>,
    pub first_used: Option<Timestamp>,
    second_factor: Option<IgnoredAny>,
}

#[derive(Debug, Clone, Deserialize)]
struct Towards {
    listener: String,
}

impl Readable for Opens {
    const TABLE: &'static str = "credentials";
    const NOUN: &'static str = "credential";
    const STRUCTURED: &'static [&'static str] = &["ways", "gateways"];
    const COLUMNS: &'static [&'static str] = &[
        "name",
        "device",
        "kind",
        "ways",
        "gateways",
        "issued",
        "valid_from",
        "expires",
        "revoked",
        "first_used",
        "second_factor",
    ];
}

impl Opens {
    /// Whether it can answer where a second factor is asked for.
    #[must_use]
    pub fn has_second_factor(&self) -> bool {
        self.second_factor.is_some()
    }

    /// At which gateways it may come in.
    pub fn gateways(&self) -> impl Iterator<Item = &str> {
        let by_way = self.ways.iter().flatten().filter_map(|way| way.listener.split_once('/'));
        by_way.map(|(gateway, _)| gateway).chain(self.gateways.iter().flatten().map(String::as_str))
    }
}

/// As much of a credential as says whether its device has signed in by it.
#[derive(Debug, Clone, Deserialize)]
pub struct Used {
    pub device: String,
    pub first_used: Option<Timestamp>,
}

impl Readable for Used {
    const TABLE: &'static str = "credentials";
    const NOUN: &'static str = "credential";
    const COLUMNS: &'static [&'static str] = &["device", "first_used"];
}

/// As much of a credential as says whether its device needs another.
#[derive(Debug, Clone, Deserialize)]
pub struct Has {
    pub name: String,
    pub kind: CredentialKind,
    pub issued: Timestamp,
    pub revoked: Option<Timestamp>,
    pub superseded: Option<Timestamp>,
    /// The command on many that made it.
    pub job: Option<String>,
}

impl Readable for Has {
    const TABLE: &'static str = "credentials";
    const NOUN: &'static str = "credential";
    const COLUMNS: &'static [&'static str] = &["name", "kind", "issued", "revoked", "superseded", "job"];
}

impl Has {
    /// Which of a device's credentials of this kind is neither revoked nor replaced.
    #[must_use]
    pub fn current(all: &[Self], kind: CredentialKind) -> Option<&Self> {
        all.iter().rfind(|one| one.kind == kind && one.revoked.is_none() && one.superseded.is_none())
    }

    /// The number of the device's next one, in its name: none that it has stands after it.
    #[must_use]
    pub fn next_number(all: &[Self]) -> u64 {
        let number = |one: &Self| one.name.rsplit('/').next().and_then(|number| number.parse::<u64>().ok());
        all.iter().filter_map(number).max().unwrap_or_default().saturating_add(1)
    }
}

/// Credentials that are not revoked and may come in at a gateway.
#[must_use]
pub fn admitted_at(gateway: &str) -> Query<'_> {
    Query { linked: Some((Link::Admitted, gateway)), ..Query::default() }
}

/// As much of a credential as says where it stands.
#[derive(Debug, Clone, Deserialize)]
pub struct Stands {
    pub revoked: Option<Timestamp>,
    pub expires: Option<Timestamp>,
    pub handed_over: Option<Timestamp>,
}

impl Readable for Stands {
    const TABLE: &'static str = "credentials";
    const NOUN: &'static str = "credential";
    const COLUMNS: &'static [&'static str] = &["revoked", "expires", "handed_over"];
}

impl Stands {
    /// Where it stands at `now`.
    #[must_use]
    pub fn state(&self, now: Timestamp) -> CredentialState {
        CredentialState::of(self.revoked, self.expires, self.handed_over, now)
    }
}

impl Book<'_> {
    /// Credentials that are neither revoked nor replaced, and end after now and by `until`.
    ///
    /// # Errors
    /// The database cannot be read.
    pub fn ending(&self, until: Timestamp) -> Result<Vec<Credential>> {
        let (filters, until) = ([("revoked", Value::Null)], until.to_string());
        let mut all: Vec<Credential> =
            self.ask(&Query { filters: &filters, at_most: Some(("expires", &until)), ..Query::default() })?;
        all.retain(|one| one.is_current() && one.expires.is_some_and(|end| end > self.now));
        Ok(all)
    }

    /// What devices were told whose credentials are not revoked, each text once, with how many were.
    ///
    /// # Errors
    /// The database cannot be read.
    pub fn told_texts(&self) -> Result<Vec<(String, usize)>> {
        self.rows.told()
    }

    /// Shows each device that was told this, one by one, as long as its credential is not revoked.
    ///
    /// # Errors
    /// The database cannot be read, or what `visit` returns.
    pub fn told(&self, told: &str, mut visit: impl FnMut(Knows) -> Result<()>) -> Result<()> {
        let filters = [("revoked", Value::Null), ("told", told.into())];
        self.each(&Query { filters: &filters, ..Query::default() }, |knows: Knows| visit(knows).map(|()| true))
    }

    /// Shows each device for which a way notice was made, one by one, as long as its credential is not revoked.
    ///
    /// # Errors
    /// The database cannot be read, or what `visit` returns.
    pub fn noticed(&self, mut visit: impl FnMut(Knows) -> Result<()>) -> Result<()> {
        let filters = [("revoked", Value::Null)];
        let query = Query { filters: &filters, having: Some("notice"), ..Query::default() };
        self.each(&query, |knows: Knows| visit(knows).map(|()| true))
    }
}
