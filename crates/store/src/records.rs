//! How the nouns of the estate become rows: a field is a column of the same name.

use jiff::Timestamp;
use serde::Serialize;
use serde::de::DeserializeOwned;
use serde_json::Value;
use yestrel_core::estate::{
    Authority, Credential, Device, Estate, Gateway, Group, Host, IssuedCertificate, Job, Listener, OrderText, Policy,
    Registry, Revocation, Session, SharedSecret, Site, StoredOrder, User,
};
use yestrel_core::{Problem, Result};

use yestrel_core::undo::Fields;

use crate::reading;
use crate::rows::{Count, Row, View};

/// What can be read from the rows of a table: a noun, or as much of it as somebody needs.
pub trait Readable: DeserializeOwned {
    /// The table's name.
    const TABLE: &'static str;
    /// The word for one, as commands use it.
    const NOUN: &'static str;
    /// Columns that hold JSON text.
    const STRUCTURED: &'static [&'static str] = &[];
    /// Columns that hold 0 or 1 for no or yes.
    const FLAGS: &'static [&'static str] = &[];
    /// The columns that are read; none: all.
    const COLUMNS: &'static [&'static str] = &[];
    /// Numbers that stand beside the columns.
    const COUNTS: &'static [Count] = &[];

    /// From a row that is being looked at.
    ///
    /// # Errors
    /// The row does not hold what this version expects.
    fn read(view: &dyn View) -> Result<Self> {
        reading::read(view, Self::STRUCTURED, Self::FLAGS).map_err(|error| {
            Problem::failed(format!("a {} in the estate cannot be read", Self::NOUN))
                .why(format!("its row was changed by something else: {error}"))
        })
    }
}

/// A noun with a table of its own.
pub trait Record: Serialize + Readable {
    /// The value of the column `name`.
    fn key(&self) -> &str;

    /// Its fields as columns have them: yes and no as 1 and 0.
    ///
    /// # Errors
    /// Never for the nouns of this program; a noun must be a structure.
    fn to_fields(&self) -> Result<Fields> {
        let Ok(Value::Object(mut fields)) = serde_json::to_value(self) else {
            return Err(Problem::failed(format!("a {} cannot be stored", Self::NOUN)));
        };
        for value in fields.values_mut() {
            if let Value::Bool(flag) = value {
                *value = Value::from(u8::from(*flag));
            }
        }
        Ok(fields)
    }
}

/// Fields as columns: lists and structures as text, yes and no as 1 and 0.
pub(crate) fn row(mut fields: Fields) -> Row {
    for value in fields.values_mut() {
        match value {
            Value::Array(_) | Value::Object(_) => *value = Value::String(value.to_string()),
            Value::Bool(flag) => *value = Value::from(u8::from(*flag)),
            _ => {}
        }
    }
    fields
}

/// Columns as fields: text of lists and structures as such.
pub(crate) fn fields(table: &str, mut row: Row) -> Fields {
    if let Some((_, structured)) = KEPT.iter().find(|(kept, _)| *kept == table) {
        structure(structured, &mut row);
    }
    row
}

fn structure(columns: &[&str], row: &mut Row) {
    for column in columns {
        if let Some(Value::String(text)) = row.get(*column)
            && let Ok(value) = serde_json::from_str(text)
        {
            row.insert((*column).to_owned(), value);
        }
    }
}

/// Whether what becomes of such records is kept beside the history. Sessions are news, and orders are copies.
pub(crate) fn is_told(table: &str) -> bool {
    KEPT.iter().any(|(kept, _)| *kept == table)
}

/// The table of this name, as this program names it.
pub(crate) fn known(table: &str) -> Result<&'static str> {
    let known = KEPT.iter().find(|(kept, _)| *kept == table).map(|(kept, _)| *kept);
    known.ok_or_else(|| {
        Problem::failed(format!("there are no {:?} in an estate", table.chars().take(60).collect::<String>()))
    })
}

const fn kept<T: Record>() -> (&'static str, &'static [&'static str]) {
    (T::TABLE, T::STRUCTURED)
}

/// Tables of which every change is kept, and their columns that hold JSON text.
const KEPT: [(&str, &[&str]); 16] = [
    kept::<Estate>(),
    kept::<Site>(),
    kept::<Host>(),
    kept::<Gateway>(),
    kept::<Listener>(),
    kept::<User>(),
    kept::<Group>(),
    kept::<Device>(),
    kept::<Credential>(),
    kept::<Address>(),
    kept::<Revocation>(),
    kept::<Authority>(),
    kept::<IssuedCertificate>(),
    kept::<SharedSecret>(),
    kept::<Registry>(),
    kept::<Policy>(),
];

macro_rules! record {
    ($type:ty, $table:literal, $noun:literal $(, structured $structured:expr)? $(, flags $flags:expr)?) => {
        impl Readable for $type {
            const TABLE: &'static str = $table;
            const NOUN: &'static str = $noun;
            $(const STRUCTURED: &'static [&'static str] = &$structured;)?
            $(const FLAGS: &'static [&'static str] = &$flags;)?
        }

        impl Record for $type {
            fn key(&self) -> &str {
                &self.name
            }
        }
    };
}

record!(Estate, "estates", "estate", structured["previous_keys"]);
record!(Site, "sites", "site", structured["networks"]);
record!(Host, "hosts", "host", structured["facts", "access", "leftover"]);
record!(Gateway, "gateways", "gateway", structured["updates", "also", "certificate", "lists_there"], flags["masquerade", "adopted", "amends"]);
record!(Listener, "listeners", "listener", structured["tunnel", "serves", "resolvers", "domains"]);
record!(User, "users", "user", structured["groups"]);
record!(Group, "groups", "group");
record!(Device, "devices", "device");
record!(Credential, "credentials", "credential", structured["ways", "told", "gateways", "fixed", "account", "notice", "second_factor"], flags["made_on_device", "once"]);
record!(Address, "addresses", "address", flags["leased"]);
record!(Revocation, "revocations", "revocation", structured["gateways"]);
record!(StoredOrder, "orders", "order");
record!(OrderText, "order_texts", "text of an order");
record!(Session, "sessions", "session");
record!(Authority, "authorities", "authority", structured["above", "responder", "published_at"]);
record!(IssuedCertificate, "certificates", "certificate");
record!(SharedSecret, "shared_secrets", "shared secret");
record!(Job, "jobs", "job");
record!(Policy, "policies", "policy", structured["wants", "bars", "terms"], flags["active"]);
record!(Registry, "registries", "registry", structured["methods", "claims"]);

/// One inner address that is given out: the table keeps two credentials from ever having the same.
#[derive(Debug, Clone, Serialize, serde::Deserialize)]
pub struct Address {
    /// `harbour/quill 10.187.44.2`.
    pub name: String,
    pub listener: String,
    pub inner: std::net::Ipv4Addr,
    pub credential: String,
    /// Leased at a sign-in by the gateway's agent, rather than given with the credential.
    pub leased: bool,
    /// The credential is revoked, and until then nobody else gets the address.
    pub held_until: Option<Timestamp>,
    /// `inner` as a number, by which addresses stand in order.
    #[serde(default)]
    pub number: u32,
}

impl Address {
    /// The row that gives `inner` of `listener` to `credential`.
    #[must_use]
    pub fn new(listener: &str, inner: std::net::Ipv4Addr, credential: &str) -> Self {
        let name = format!("{listener} {inner}");
        Self {
            name,
            listener: listener.into(),
            inner,
            credential: credential.into(),
            leased: false,
            held_until: None,
            number: inner.into(),
        }
    }

    /// Whether somebody else may get it.
    #[must_use]
    pub fn is_free(&self, now: Timestamp) -> bool {
        self.held_until.is_some_and(|until| until <= now)
    }

    /// The device of its credential.
    #[must_use]
    pub fn device(&self) -> &str {
        self.credential.rsplit_once('/').map_or("", |(device, _)| device)
    }
}
