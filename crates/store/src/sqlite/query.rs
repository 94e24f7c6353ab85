//! Queries in the database's language, with their values.

use rusqlite::types::{ToSqlOutput, Value as Sql, ValueRef};
use serde_json::Value;

use crate::rows::{Count, Link, Query};

/// A JSON value as an SQL parameter. Structures do not occur: records turn them into text first.
pub(super) struct Parameter<'a>(pub(super) &'a Value);

impl rusqlite::ToSql for Parameter<'_> {
    fn to_sql(&self) -> rusqlite::Result<ToSqlOutput<'_>> {
        Ok(match self.0 {
            Value::Null => ToSqlOutput::Owned(Sql::Null),
            Value::Bool(flag) => ToSqlOutput::Owned(Sql::Integer(i64::from(*flag))),
            Value::Number(number) => ToSqlOutput::Owned(Sql::Integer(number.as_i64().unwrap_or(i64::MAX))),
            Value::String(text) => ToSqlOutput::Borrowed(ValueRef::Text(text.as_bytes())),
            other => ToSqlOutput::Owned(Sql::Text(other.to_string())),
        })
    }
}

/// Conditions that are being gathered, and the values that stand in them.
#[derive(Default)]
struct Conditions {
    all: Vec<String>,
    values: Vec<Value>,
}

impl Conditions {
    fn add(&mut self, column: &str, compared: &str, value: impl Into<Value>) {
        self.values.push(value.into());
        self.all.push(format!("{column} {compared} ?{}", self.values.len()));
    }

    fn filters(&mut self, filters: &[(&str, Value)]) {
        for (column, value) in filters {
            match value {
                // Written out, so that an index over what has none is found.
                Value::Null => self.all.push(format!("{column} IS NULL")),
                value => self.add(column, "=", value.clone()),
            }
        }
    }

    fn written(self) -> (String, Vec<Value>) {
        (if self.all.is_empty() { "1".to_owned() } else { self.all.join(" AND ") }, self.values)
    }
}

/// One value over the rows that have these values.
pub(super) fn over(what: &str, table: &str, filters: &[(&str, Value)]) -> (String, Vec<Value>) {
    let mut conditions = Conditions::default();
    conditions.filters(filters);
    let (condition, values) = conditions.written();
    (format!("SELECT {what} FROM {table} WHERE {condition}"), values)
}

/// A query with its values.
pub(super) fn written(query: &Query<'_>) -> (String, Vec<Value>) {
    let table = query.table;
    let mut conditions = Conditions::default();
    conditions.filters(query.filters);
    let mut from = table.to_owned();
    if let Some((link, of)) = query.linked {
        let (linking, whose, theirs, of_what) = match link {
            Link::Members => ("members", "user", "name", "of_group"),
            Link::Admitted => ("admitted", "credential", "name", "gateway"),
            Link::KeptOut => ("kept_out", "revocation", "name", "gateway"),
            Link::Pending => ("pending", "device", "device", "gateway"),
        };
        from = format!("{linking} CROSS JOIN {table} ON {table}.{theirs} = {linking}.{whose}");
        conditions.add(&format!("{linking}.{of_what}"), "=", of);
    }
    if let Some(column) = query.having {
        conditions.all.push(format!("{column} IS NOT NULL"));
    }
    if let Some((column, begun)) = query.beginning {
        // Everything that begins so stands between it and it with a character after the last one that a name can have.
        conditions.add(column, ">=", begun);
        conditions.add(column, "<", format!("{begun}\u{10ffff}"));
    }
    if let Some((column, most)) = query.at_most {
        conditions.add(column, "<=", most);
    }
    if let Some((column, least)) = query.at_least {
        conditions.add(column, ">=", least);
    }
    if let Some(after) = query.after {
        conditions.add(&format!("{table}.name"), ">", after);
    }
    let columns: Vec<_> = query.columns.iter().map(|column| format!("{table}.{column}")).collect();
    let mut columns = if columns.is_empty() { format!("{table}.*") } else { columns.join(", ") };
    for Count { named, table: other, by, without } in query.counts {
        let without = without.map(|column| format!(" AND counted.{column} IS NULL")).unwrap_or_default();
        columns.push_str(&format!(
            ", (SELECT count(*) FROM {other} AS counted WHERE counted.{by} = {table}.name{without}) AS {named}"
        ));
    }
    let (condition, values) = conditions.written();
    let limit = query.limit.map(|limit| format!(" LIMIT {limit}")).unwrap_or_default();
    let by = query.by.map(|column| format!("{table}.{column}, ")).unwrap_or_default();
    (format!("SELECT {columns} FROM {from} WHERE {condition} ORDER BY {by}{table}.name{limit}"), values)
}
