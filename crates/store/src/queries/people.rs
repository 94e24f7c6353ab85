//! Users and devices as lists show them.

use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use serde_json::Value;
use yestrel_core::Result;
use yestrel_core::estate::{Credential, Device, UserState};

use crate::book::Book;
use crate::records::Readable;
use crate::rows::{Count, Query};

/// A user, with how much they carry.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct UserLine {
    pub name: String,
    pub mail: Option<String>,
    pub about: Option<String>,
    pub state: UserState,
    pub groups: Vec<String>,
    pub devices: usize,
    /// Those that are not revoked.
    pub credentials: usize,
}

impl Readable for UserLine {
    const TABLE: &'static str = "users";
    const NOUN: &'static str = "user";
    const STRUCTURED: &'static [&'static str] = &["groups"];
    const COLUMNS: &'static [&'static str] = &["name", "mail", "about", "state", "groups"];
    const COUNTS: &'static [Count] = &[
        Count { named: "devices", table: "devices", by: "user", without: None },
        Count { named: "credentials", table: "credentials", by: "user", without: Some("revoked") },
    ];
}

/// When a session began, and nothing else of it.
#[derive(Debug, Clone, Deserialize)]
pub struct OpenedAt {
    pub opened: Timestamp,
}

impl Readable for OpenedAt {
    const TABLE: &'static str = "sessions";
    const NOUN: &'static str = "session";
    const COLUMNS: &'static [&'static str] = &["opened"];
}

/// As much of a session as says how it began.
#[derive(Debug, Clone, Deserialize)]
pub struct SignIn {
    pub gateway: String,
    pub device: String,
    pub from_address: String,
    pub opened: Timestamp,
    pub reason: Option<String>,
    pub policy: Option<String>,
    pub realm: Option<String>,
}

impl Readable for SignIn {
    const TABLE: &'static str = "sessions";
    const NOUN: &'static str = "session";
    const COLUMNS: &'static [&'static str] =
        &["gateway", "device", "from_address", "opened", "reason", "policy", "realm"];
}

/// So many devices are read at once.
const PAGE: usize = 500;

impl Book<'_> {
    /// Shows devices one by one with their credentials that are not revoked, for as long as `visit` says yes; all devices, or those of `user`.
    ///
    /// # Errors
    /// The database cannot be read, or what `visit` returns.
    pub fn each_device(
        &self,
        user: Option<&str>,
        mut visit: impl FnMut(Device, Vec<Credential>) -> Result<bool>,
    ) -> Result<()> {
        let filters: Vec<_> = user.map(|user| ("user", user.into())).into_iter().collect();
        let mut after = String::new();
        loop {
            let page: Vec<Device> =
                self.ask(&Query { filters: &filters, after: Some(&after), limit: Some(PAGE), ..Query::default() })?;
            let (Some(first), Some(last)) = (page.first(), page.last()) else { return Ok(()) };
            let live = [("revoked", Value::Null)];
            let mut theirs = std::collections::HashMap::<String, Vec<Credential>>::new();
            let query = Query {
                filters: &live,
                at_least: Some(("device", &first.name)),
                at_most: Some(("device", &last.name)),
                by: Some("device"),
                ..Query::default()
            };
            self.each(&query, |credential: Credential| {
                theirs.entry(credential.device.clone()).or_default().push(credential);
                Ok(true)
            })?;
            after.clone_from(&last.name);
            for device in page {
                let credentials = theirs.remove(&device.name).unwrap_or_default();
                if !visit(device, credentials)? {
                    return Ok(());
                }
            }
        }
    }
}
