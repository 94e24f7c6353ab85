//! The list and people as they are, or as they were at a moment: what was changed since is taken back in mind, and nothing in the estate.

use std::collections::{BTreeMap, HashMap};

use jiff::Timestamp;
use serde::de::DeserializeOwned;
use serde_json::Value;
use yestrel_core::admission::ProofKind;
use yestrel_core::estate::{CredentialKind, Device, Policy, User};
use yestrel_core::policy::{Person, Rule};
use yestrel_core::undo::Fields;
use yestrel_core::{Problem, Result, moment};
use yestrel_store::queries::Opens;
use yestrel_store::{Book, Query, Readable};

use super::asked::in_order;

/// As much of a credential as says who could come in by it.
#[derive(Debug, Clone)]
pub(super) struct Carried {
    pub name: String,
    pub kind: CredentialKind,
    /// Each once.
    pub gateways: Vec<String>,
    pub issued: Timestamp,
    pub valid_from: Option<Timestamp>,
    pub expires: Option<Timestamp>,
    pub revoked: Option<Timestamp>,
    pub first_used: Option<Timestamp>,
    /// Whether it can answer where a second factor is asked for.
    pub second_factor: bool,
}

impl Carried {
    /// What it shows.
    pub fn proof(&self) -> ProofKind {
        match self.kind {
            CredentialKind::KeyPair => ProofKind::Key,
            CredentialKind::Certificate => ProofKind::Certificate,
            CredentialKind::Password => ProofKind::Account,
        }
    }

    /// Whether it lets anybody in at a moment, as far as its own dates go.
    pub fn holds(&self, at: Timestamp) -> bool {
        let ended = [self.revoked, self.expires].into_iter().flatten().any(|ended| ended <= at);
        !ended && self.valid_from.is_none_or(|from| from <= at)
    }

    /// Whether it gets in by a policy that admits it: one that asks for a second factor is answered by those alone that have one.
    pub fn satisfies(&self, rule: &Rule) -> bool {
        !rule.terms.second_factor || self.second_factor
    }

    /// Whoever carries it, as policies see them; `platform` in lower case.
    pub fn person<'a>(&self, user: &'a User, device: &'a Device, platform: Option<&'a str>) -> Person<'a> {
        Person {
            user: &user.name,
            groups: &user.groups,
            device: &device.name,
            platform,
            credential: self.kind.word(),
            issued: Some(self.issued),
        }
    }

    fn of(credential: Opens) -> Self {
        Self {
            gateways: each_once(credential.gateways().map(str::to_owned)),
            second_factor: credential.has_second_factor(),
            name: credential.name,
            kind: credential.kind,
            issued: credential.issued,
            valid_from: credential.valid_from,
            expires: credential.expires,
            revoked: credential.revoked,
            first_used: credential.first_used,
        }
    }

    /// From what is kept of it, which has no secrets.
    fn kept(fields: &Fields) -> Option<Self> {
        let text = |name: &str| fields.get(name).and_then(Value::as_str);
        let at = |name: &str| text(name).and_then(|text| text.parse().ok());
        let each = |name: &str| fields.get(name).and_then(Value::as_array).cloned().unwrap_or_default();
        let by_way = each("ways").into_iter().filter_map(|way| {
            let listener = way.get("listener")?.as_str()?.split('/').next()?.to_owned();
            Some(listener)
        });
        let anywhere = each("gateways").into_iter().filter_map(|one| one.as_str().map(str::to_owned));
        Some(Self {
            name: text("name")?.to_owned(),
            kind: serde_json::from_value(fields.get("kind")?.clone()).ok()?,
            gateways: each_once(by_way.chain(anywhere)),
            issued: at("issued")?,
            valid_from: at("valid_from"),
            expires: at("expires"),
            revoked: at("revoked"),
            first_used: at("first_used"),
            second_factor: fields.get("second_factor").is_some_and(|factor| !factor.is_null()),
        })
    }
}

/// When the device that has these signed in first, as far as gateways have said.
pub(super) fn first_use(credentials: &[Carried]) -> Option<Timestamp> {
    credentials.iter().filter_map(|one| one.first_used).min()
}

fn each_once(names: impl Iterator<Item = String>) -> Vec<String> {
    let mut names: Vec<String> = names.collect();
    names.sort_unstable();
    names.dedup();
    names
}

/// Devices, each with its credentials.
pub(super) type Carries = Vec<(Device, Vec<Carried>)>;

/// What was other than it is: by table and name; `None`: it was not there.
type Overlay = HashMap<&'static str, BTreeMap<String, Option<Fields>>>;

/// The estate as it is, or was.
#[derive(Default)]
pub(super) struct Then(Overlay);

/// Tables that are looked at.
const TABLES: [&str; 4] = ["policies", "users", "devices", "credentials"];

fn read<T: DeserializeOwned>(fields: &Fields) -> Result<T> {
    let mut fields = fields.clone();
    for (_, value) in fields.iter_mut().filter(|(name, _)| *name == "active") {
        *value = Value::Bool(value.as_u64() != Some(0));
    }
    serde_json::from_value(Value::Object(fields.into_iter().collect()))
        .map_err(|error| Problem::failed("what is kept of the past cannot be read").why(error.to_string()))
}

impl Then {
    /// As it was at a moment.
    ///
    /// # Errors
    /// The moment is before the estate, to come, or before changes were kept.
    pub fn at(book: &Book<'_>, at: Timestamp) -> Result<Self> {
        let wrong = |why: String| Problem::words(format!("the estate of {} is not known", moment(at))).why(why);
        if at > book.now {
            return Err(wrong("that is to come".into()).try_("--at   for a sign-in that is to come"));
        }
        let (mut first, mut since) = (None, None);
        book.each_history(|row| {
            let of: Timestamp = row.at.parse().unwrap_or(Timestamp::MAX);
            first = first.or(Some(of));
            if of > at {
                since = Some(row.number);
            }
            Ok(since.is_none())
        })?;
        if let Some(first) = first.filter(|first| *first > at) {
            return Err(wrong(format!("it was made at {}", moment(first))));
        }
        let Some(since) = since else { return Ok(Self::default()) };
        let mut overlay = Overlay::new();
        for step in book.steps_from(since)?.into_iter().rev() {
            let Some(changes) = step.changes else {
                return Err(wrong("an earlier version changed it since then, and did not keep what".into()));
            };
            for change in changes.into_iter().rev() {
                if let Some(table) = TABLES.into_iter().find(|table| *table == change.table) {
                    overlay.entry(table).or_default().insert(change.name, change.before);
                }
            }
        }
        Ok(Self(overlay))
    }

    fn was(&self, table: &str, name: &str) -> Option<&Option<Fields>> {
        self.0.get(table)?.get(name)
    }

    fn others(&self, table: &str) -> impl Iterator<Item = &Fields> {
        self.0.get(table).into_iter().flat_map(BTreeMap::values).flatten()
    }

    fn one<T: Readable + DeserializeOwned>(&self, book: &Book<'_>, name: &str) -> Result<Option<T>> {
        match self.was(T::TABLE, name) {
            Some(fields) => fields.as_ref().map(read).transpose(),
            None => book.get(name),
        }
    }

    /// The policies that are, or were, on, in their order.
    pub fn rules(&self, book: &Book<'_>) -> Result<Vec<Rule>> {
        let mut all: Vec<Policy> = in_order(book)?;
        all.retain(|policy| self.was("policies", &policy.name).is_none());
        for fields in self.others("policies") {
            all.push(read(fields)?);
        }
        all.sort_by(|a, b| (a.place, &a.name).cmp(&(b.place, &b.name)));
        Ok(all.into_iter().filter(|policy| policy.active).map(|policy| policy.rule()).collect())
    }

    /// A user of this name.
    ///
    /// # Errors
    /// There is, or was, none.
    pub fn user(&self, book: &Book<'_>, name: &str) -> Result<User> {
        match self.one(book, name)? {
            Some(user) => Ok(user),
            None if self.was("users", name).is_some() => Err(Problem::words(format!("there was no user {name} then"))),
            None => book.need(name),
        }
    }

    /// A device of this name.
    ///
    /// # Errors
    /// There is, or was, none.
    pub fn device(&self, book: &Book<'_>, name: &str) -> Result<Device> {
        match self.one(book, name)? {
            Some(device) => Ok(device),
            None if self.was("devices", name).is_some() => {
                Err(Problem::words(format!("there was no device {name} then")))
            }
            None => book.need(name),
        }
    }

    /// The devices of a user.
    pub fn devices_of(&self, book: &Book<'_>, user: &str) -> Result<Vec<Device>> {
        let mut all: Vec<Device> = book.find(&[("user", user.into())])?;
        all.retain(|device| self.was("devices", &device.name).is_none());
        for fields in self.others("devices").filter(|fields| fields.get("user").and_then(Value::as_str) == Some(user)) {
            all.push(read(fields)?);
        }
        all.sort_by(|a, b| a.name.cmp(&b.name));
        Ok(all)
    }

    /// The credentials of a device.
    pub fn credentials_of(&self, book: &Book<'_>, device: &str) -> Result<Vec<Carried>> {
        let filters = [("device", device.into())];
        let mut all: Vec<Opens> = book.ask(&Query { filters: &filters, ..Query::default() })?;
        all.retain(|credential| self.was("credentials", &credential.name).is_none());
        let mut carried: Vec<Carried> = all.into_iter().map(Carried::of).collect();
        let of_it = |fields: &&Fields| fields.get("device").and_then(Value::as_str) == Some(device);
        carried.extend(self.others("credentials").filter(of_it).filter_map(Carried::kept));
        carried.sort_by(|a, b| a.name.cmp(&b.name));
        Ok(carried)
    }

    /// All users with their devices, and the credentials of these.
    pub fn everybody(&self, book: &Book<'_>) -> Result<Vec<(User, Carries)>> {
        let mut credentials: HashMap<String, Vec<Carried>> = HashMap::new();
        let mut devices: HashMap<String, Vec<Device>> = HashMap::new();
        book.each(&Query::default(), |credential: Opens| {
            if self.was("credentials", &credential.name).is_none() {
                let device = credential.device.clone();
                credentials.entry(device).or_default().push(Carried::of(credential));
            }
            Ok(true)
        })?;
        for fields in self.others("credentials") {
            let device = fields.get("device").and_then(Value::as_str).unwrap_or_default().to_owned();
            credentials.entry(device).or_default().extend(Carried::kept(fields));
        }
        book.each(&Query::default(), |device: Device| {
            if self.was("devices", &device.name).is_none() {
                devices.entry(device.user.clone()).or_default().push(device);
            }
            Ok(true)
        })?;
        for fields in self.others("devices") {
            let device: Device = read(fields)?;
            devices.entry(device.user.clone()).or_default().push(device);
        }
        let mut users = Vec::new();
        book.each(&Query::default(), |user: User| {
            if self.was("users", &user.name).is_none() {
                users.push(user);
            }
            Ok(true)
        })?;
        for fields in self.others("users") {
            users.push(read(fields)?);
        }
        users.sort_by(|a, b| a.name.cmp(&b.name));
        let with = |user: User| {
            let own = devices.remove(&user.name).unwrap_or_default();
            let own = own.into_iter().map(|device| {
                let carried = credentials.remove(&device.name).unwrap_or_default();
                (device, carried)
            });
            let own = own.collect();
            (user, own)
        };
        Ok(users.into_iter().map(with).collect())
    }
}
