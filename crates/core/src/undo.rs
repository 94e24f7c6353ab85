//! What a change did to the estate's records, kept beside the history, and how a change that no gateway has seen is taken back.
//!
//! Secrets are not kept, only their hashes: a change that put one secret in the place of another cannot be taken back, every other
//! field of the same record can.

use serde::{Deserialize, Serialize, Serializer};
use serde_json::{Map, Value};

use crate::audit::HistoryRow;
use crate::keys::sha256_hex;
use crate::{Problem, Result};

/// Fields of records whose values are secrets, sealed or hashed, wherever they stand in a record.
const SECRET: [&str; 14] = [
    "certificate_key",
    "for_agent",
    "for_agents",
    "generated",
    "kept",
    "ms_chap",
    "password",
    "peer_call",
    "peer_secret",
    "private_key",
    "recovery_sealed",
    "request_key",
    "sealed",
    "secret",
];
/// What stands in the place of a secret: this, and the hash of its value.
const HIDDEN: &str = "secret, SHA-256 ";

/// A record, field by field; lists and structures as such.
pub type Fields = Map<String, Value>;

/// One record that a change touched.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Change {
    /// The table.
    pub table: String,
    pub name: String,
    /// `None`: it was not there.
    #[serde(default)]
    pub before: Option<Fields>,
    /// `None`: it is no more.
    pub after: Option<Fields>,
}

/// What one command changed at once.
#[derive(Debug, Clone, PartialEq)]
pub struct Step {
    /// The rows that it wrote into the history; never empty.
    pub rows: Vec<HistoryRow>,
    /// In their order. `None`: a version wrote them that did not keep what was there before.
    pub changes: Option<Vec<Change>>,
}

/// A record without its secrets.
#[must_use]
pub fn without_secrets(fields: &Fields) -> Fields {
    fields
        .iter()
        .filter(|(_, value)| !value.is_null())
        .map(|(field, value)| {
            let shown = if SECRET.contains(&field.as_str()) { hidden(value) } else { inner(value) };
            (field.clone(), shown)
        })
        .collect()
}

/// Writes what [`without_secrets`] would make, without making it; but for one field, where one is named.
pub struct Shown<'a>(pub &'a Fields, pub Option<&'a str>);

impl Serialize for Shown<'_> {
    fn serialize<S: Serializer>(&self, serializer: S) -> std::result::Result<S::Ok, S::Error> {
        let shown = |(field, value): &(&String, &Value)| !value.is_null() && self.1 != Some(field.as_str());
        serializer.collect_map(self.0.iter().filter(shown).map(|(field, value)| {
            let shown =
                if SECRET.contains(&field.as_str()) { ShownValue::Hidden(value) } else { ShownValue::Open(value) };
            (field, shown)
        }))
    }
}

enum ShownValue<'a> {
    Hidden(&'a Value),
    Open(&'a Value),
}

impl Serialize for ShownValue<'_> {
    fn serialize<S: Serializer>(&self, serializer: S) -> std::result::Result<S::Ok, S::Error> {
        match self {
            Self::Hidden(value) => hidden(value).serialize(serializer),
            Self::Open(Value::Object(fields)) => Shown(fields, None).serialize(serializer),
            Self::Open(Value::Array(list)) => serializer.collect_seq(list.iter().map(ShownValue::Open)),
            Self::Open(other) => other.serialize(serializer),
        }
    }
}

fn hidden(value: &Value) -> Value {
    Value::String(format!("{HIDDEN}{}", sha256_hex(value.to_string().as_bytes())))
}

fn inner(value: &Value) -> Value {
    match value {
        Value::Object(fields) => Value::Object(without_secrets(fields)),
        Value::Array(list) => Value::Array(list.iter().map(inner).collect()),
        other => other.clone(),
    }
}

fn has_secret(value: &Value) -> bool {
    match value {
        Value::String(text) => text.starts_with(HIDDEN),
        Value::Array(list) => list.iter().any(has_secret),
        Value::Object(fields) => fields.values().any(has_secret),
        _ => false,
    }
}

/// The record as it is to be once a change is taken back: what the change altered as it was before, all else as it is now. `None`:
/// it is to be no more.
///
/// # Errors
/// Something else has changed the same since, or a secret would be needed that is not kept.
pub fn taken_back(change: &Change, now: Option<&Fields>) -> Result<Option<Fields>> {
    let what = || format!("{} {}", one_of(&change.table), change.name);
    let since = || Problem::refused(format!("{} has been changed since", what()));
    let lost = || Problem::refused(format!("a secret of {} was replaced, and the old one is not kept", what()));
    match (&change.before, &change.after, now) {
        (None, Some(_), Some(_)) => Ok(None),
        (None, None, _) => Ok(now.cloned()),
        (Some(before), None, None) => {
            if has_secret(&Value::Object(before.clone())) {
                return Err(Problem::refused(format!("the secrets of {} went with it", what())));
            }
            Ok(Some(before.clone()))
        }
        (Some(before), Some(after), Some(now)) => {
            let mut fields = now.clone();
            let mut names: Vec<_> = before.keys().chain(after.keys()).collect();
            names.sort();
            names.dedup();
            for field in names {
                let (was, became) = (before.get(field), after.get(field));
                if was == became {
                    continue;
                }
                let there = now.get(field).filter(|value| !value.is_null());
                let shown =
                    there.map(|value| without_secrets(&std::iter::once((field.clone(), value.clone())).collect()));
                if shown.as_ref().and_then(|shown| shown.get(field)) != became {
                    return Err(since().why(format!("its {field} is no longer what that change made it")));
                }
                let value = match was {
                    None => Value::Null,
                    Some(was) => whole(was, there).ok_or_else(lost)?,
                };
                fields.insert(field.clone(), value);
            }
            Ok(Some(fields))
        }
        _ => Err(since()),
    }
}

/// A value as it was, with the secrets in it taken from what is there, as far as they are the same.
fn whole(was: &Value, there: Option<&Value>) -> Option<Value> {
    if !has_secret(was) {
        return Some(was.clone());
    }
    match (was, there?) {
        (Value::Object(was), Value::Object(there)) => {
            let shown = without_secrets(there);
            let pairs = was.iter().map(|(field, value)| {
                let same = shown.get(field) == Some(value);
                let value = if same { there.get(field).cloned() } else { whole(value, there.get(field)) };
                value.map(|value| (field.clone(), value))
            });
            pairs.collect::<Option<_>>().map(Value::Object)
        }
        (Value::Array(was), Value::Array(there)) => {
            // A list may have become longer or shorter: each element is looked for among all that are there.
            let found = |one: &Value| there.iter().find(|other| inner(other) == *one).cloned();
            was.iter().map(|one| found(one).or_else(|| whole(one, None))).collect::<Option<_>>().map(Value::Array)
        }
        _ => None,
    }
}

/// A table's word for one of its records.
fn one_of(table: &str) -> String {
    match table {
        "registries" => "the registry".into(),
        "authorities" => "the authority".into(),
        "addresses" => "the address".into(),
        other => format!("the {}", other.strip_suffix('s').unwrap_or(other).replace('_', " ")),
    }
}

/// Whether gateways learn of such a change by their next order.
fn travels(change: &Change) -> bool {
    match change.table.as_str() {
        "groups" | "devices" | "hosts" | "revocations" => false,
        "users" => {
            let state = |fields: &Option<Fields>| fields.as_ref().and_then(|fields| fields.get("state").cloned());
            change.before.is_some() && change.after.is_some() && state(&change.before) != state(&change.after)
        }
        _ => true,
    }
}

/// Why a step cannot be taken back, and what to do in its place.
fn lasting(step: &Step) -> Option<(String, Option<String>)> {
    let subject =
        |row: &HistoryRow| row.subject.rsplit_once('/').map_or(row.subject.clone(), |(device, _)| device.into());
    for row in &step.rows {
        match row.what.as_str() {
            "credential handover" | "credential notice" => {
                let instead = format!("yestrel credential revoke {} --reason REASON", subject(row));
                return Some(("the device may have it already".into(), Some(instead)));
            }
            "credential revoke" => {
                let instead = format!("yestrel credential issue {}", subject(row));
                return Some(("a revocation stays".into(), Some(instead)));
            }
            "gateway retire" | "gateway move" => return Some(("hosts were changed by it".into(), None)),
            "estate create" | "estate load" | "estate renew" | "estate recover" => {
                return Some(("it is about the estate's keys, or all of it".into(), None));
            }
            _ => {}
        }
    }
    let Some(changes) = &step.changes else {
        return Some(("the version that made it did not keep what was there before".into(), None));
    };
    changes.iter().find_map(|change| match change.table.as_str() {
        "revocations" => Some(("a revocation stays".into(), None)),
        "authorities" | "certificates" => Some(("what an authority has signed stays signed".into(), None)),
        "shared_secrets" => Some(("it is about a shared secret".into(), None)),
        _ => None,
    })
}

/// Whether a step did not change the estate: it is left as it is.
#[must_use]
pub fn is_passing(step: &Step) -> bool {
    const PASSING: [&str; 8] = [
        "rollout",
        "gateway passed",
        "gateway righted",
        "gateway restart",
        "session end",
        "host clean",
        "estate save",
        "credential lift",
    ];
    step.rows.iter().all(|row| PASSING.contains(&row.what.as_str()))
}

/// Whether a gateway got an order in this step.
fn is_order(step: &Step) -> bool {
    step.rows.iter().any(|row| matches!(row.what.as_str(), "rollout" | "gateway passed"))
}

/// What can be taken back, and what not.
#[derive(Debug, Default)]
pub struct Verdict {
    /// Steps to take back, the newest first: their places in what was given.
    pub back: Vec<usize>,
    /// What stays: its row, why, and what to do in its place.
    pub stays: Vec<(HistoryRow, String, Option<String>)>,
}

/// Judges steps, the oldest first and without a gap up to the newest.
#[must_use]
pub fn judge(steps: &[Step]) -> Verdict {
    let mut verdict = Verdict::default();
    let mut seen: Option<&HistoryRow> = None;
    for (at, step) in steps.iter().enumerate().rev() {
        if is_order(step) {
            seen = step.rows.first();
        }
        if is_passing(step) {
            continue;
        }
        let Some(first) = step.rows.first() else { continue };
        if let Some((why, instead)) = lasting(step) {
            verdict.stays.push((first.clone(), why, instead));
        } else if let Some(order) = seen.filter(|_| step.changes.iter().flatten().any(travels)) {
            let why =
                format!("gateways may know it since row {}: {} got its {}", order.number, order.subject, order.detail);
            verdict.stays.push((first.clone(), why, None));
        } else {
            verdict.back.push(at);
        }
    }
    verdict
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use serde_json::json;

    fn fields(value: Value) -> Fields {
        match value {
            Value::Object(fields) => fields,
            _ => Fields::new(),
        }
    }

    fn change(before: Option<Value>, after: Option<Value>) -> Change {
        let kept = |value: Option<Value>| value.map(|value| without_secrets(&fields(value)));
        Change { table: "listeners".into(), name: "harbour/quill".into(), before: kept(before), after: kept(after) }
    }

    fn step(number: u64, what: &str, changes: Vec<Change>) -> Step {
        let row = HistoryRow {
            number,
            at: "2027-03-02T08:15:00Z".into(),
            who: "astrid@bridge".into(),
            what: what.into(),
            subject: "harbour".into(),
            detail: "order 2".into(),
            hash: String::new(),
        };
        Step { rows: vec![row], changes: Some(changes) }
    }

    #[test]
    fn what_is_written_at_once_is_what_would_be_made_first() {
        for record in [
            json!({}),
            json!({"name": "mara", "about": null, "password": "AAAA", "groups": ["crew", null, 7]}),
            json!({"calls": [{"number": 1, "kept": "AAAA", "until": null}], "tunnel": {"secret": {"a": [1]}, "port": null, "on": true}}),
        ] {
            let fields = fields(record);
            assert_eq!(serde_json::to_value(Shown(&fields, None)).unwrap(), Value::Object(without_secrets(&fields)));
        }
    }

    #[test]
    fn no_secret_is_kept_and_none_is_needed_where_none_was_replaced() {
        let before =
            json!({"port": 4600, "tunnel": {"kind": "quill", "calls": [{"number": 1, "kept": "AAAA"}]}, "about": null});
        let after =
            json!({"port": 4700, "tunnel": {"kind": "quill", "calls": [{"number": 1, "kept": "AAAA"}]}, "about": "x"});
        let made = change(Some(before.clone()), Some(after.clone()));
        assert!(!serde_json::to_string(&made).unwrap().contains("AAAA"));
        let mut now = fields(after);
        // Something else that came since stays.
        now.insert("last_heard".into(), json!("2027-03-02T08:15:00Z"));
        let back = taken_back(&made, Some(&now)).unwrap().unwrap();
        assert_eq!(back["port"], 4600);
        assert_eq!(back["about"], Value::Null);
        assert_eq!(back["tunnel"], before["tunnel"]);
        assert_eq!(back["last_heard"], now["last_heard"]);
    }

    #[test]
    fn a_secret_that_was_replaced_is_not_made_up() {
        let (old, new) = (json!({"private_key": "OLD", "name": "a"}), json!({"private_key": "NEW", "name": "b"}));
        let made = change(Some(old.clone()), Some(new.clone()));
        assert!(taken_back(&made, Some(&fields(new.clone()))).unwrap_err().error.contains("secret"));
        // One that is still there is taken as it stands, in a list too.
        let one = json!({"calls": [{"number": 1, "kept": "A"}]});
        let two = json!({"calls": [{"number": 2, "kept": "B"}, {"number": 1, "kept": "A"}]});
        let back = taken_back(&change(Some(one.clone()), Some(two.clone())), Some(&fields(two))).unwrap().unwrap();
        assert_eq!(back["calls"], one["calls"]);
        assert!(taken_back(&change(Some(old), None), None).is_err());
        assert_eq!(taken_back(&change(None, Some(new.clone())), Some(&fields(new))).unwrap(), None);
    }

    #[test]
    fn what_has_changed_since_is_not_overwritten() {
        let made = change(Some(json!({"port": 1})), Some(json!({"port": 2})));
        assert!(taken_back(&made, Some(&fields(json!({"port": 3})))).is_err());
        assert!(taken_back(&made, None).is_err());
        assert!(taken_back(&change(Some(json!({"port": 1})), None), Some(&fields(json!({"port": 1})))).is_err());
    }

    #[test]
    fn an_order_keeps_what_it_may_have_carried_and_nothing_else() {
        let port = || change(Some(json!({"port": 1})), Some(json!({"port": 2})));
        let group = || Change { table: "groups".into(), ..change(None, Some(json!({"name": "crew"}))) };
        let steps = [
            step(1, "listener change", vec![port()]),
            step(2, "group add", vec![group()]),
            step(3, "rollout", vec![]),
            step(4, "listener change", vec![port()]),
            step(5, "estate save", vec![]),
        ];
        let verdict = judge(&steps);
        assert_eq!(verdict.back, [3, 1]);
        assert_eq!(verdict.stays.len(), 1);
        assert_eq!(verdict.stays[0].0.number, 1);
        for what in ["credential handover", "credential revoke", "gateway retire", "estate renew"] {
            assert!(judge(&[step(1, what, vec![group()])]).back.is_empty(), "{what}");
        }
        let unkept = Step { changes: None, ..step(1, "group add", vec![]) };
        assert!(judge(&[unkept]).back.is_empty());
    }

    proptest! {
        #[test]
        fn there_and_back(before in any::<Option<[u8; 3]>>(), after in any::<Option<[u8; 3]>>()) {
            let row = |bytes: Option<[u8; 3]>| bytes.map(|[a, b, c]| {
                json!({"a": a % 3, "b": {"c": b % 3}, "c": if c % 2 == 0 { Value::Null } else { json!(c) }})
            });
            let (before, after) = (row(before), row(after));
            let now = after.clone().map(fields);
            let back = taken_back(&change(before.clone(), after), now.as_ref()).unwrap();
            let plain = |fields: Option<Fields>| fields.map(|fields| without_secrets(&fields));
            prop_assert_eq!(plain(back), plain(before.map(fields)));
        }
    }
}
