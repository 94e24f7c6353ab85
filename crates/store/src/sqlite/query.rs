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

/// A query in the database's language, with its values.
pub(super) fn written(query: &Query<'_>) -> (String, Vec<Sql>) {
    let mut values = Vec::new();
    let mut place = |value: Sql| {
        values.push(value);
        format!("?{}", values.len())
    };
    let mut conditions = Vec::new();
    for (column, value) in query.filters {
        // Written out, so that an index over what has none is found.
        let value = if value.is_null() { "NULL".to_owned() } else { place(as_sql(value)) };
        let is = if value == "NULL" { "IS" } else { "=" };
        conditions.push(format!("{column} {is} {value}"));
    }
    let mut from = query.table.to_owned();
    if let Some((link, of)) = query.linked {
        let (table, whose, of_what) = match link {
            Link::Members => ("members", "user", "of_group"),
            Link::Admitted => ("admitted", "credential", "gateway"),
            Link::KeptOut => ("kept_out", "revocation", "gateway"),
        };
        from = format!("{table} CROSS JOIN {from} ON {from}.name = {table}.{whose}");
        let of = place(Sql::Text(of.to_owned()));
        conditions.push(format!("{table}.{of_what} = {of}"));
    }
    if let Some(column) = query.having {
        conditions.push(format!("{column} IS NOT NULL"));
    }
    if let Some((column, begun)) = query.beginning {
        // Everything that begins so stands between it and it with a character after the last one that a name can have.
        let first = place(Sql::Text(begun.to_owned()));
        let past = place(Sql::Text(format!("{begun}\u{10ffff}")));
        conditions.push(format!("{column} >= {first} AND {column} < {past}"));
    }
    if let Some((column, most)) = query.at_most {
        let most = place(Sql::Text(most.to_owned()));
        conditions.push(format!("{column} <= {most}"));
    }
    if let Some((column, least)) = query.at_least {
        let least = place(Sql::Text(least.to_owned()));
        conditions.push(format!("{column} >= {least}"));
    }
    if let Some(after) = query.after {
        let after = place(Sql::Text(after.to_owned()));
        conditions.push(format!("{}.name > {after}", query.table));
    }
    let columns: Vec<_> = query.columns.iter().map(|column| format!("{}.{column}", query.table)).collect();
    let mut columns = if columns.is_empty() { format!("{}.*", query.table) } else { columns.join(", ") };
    for Count { named, table, by, without } in query.counts {
        let without = without.map(|column| format!(" AND counted.{column} IS NULL")).unwrap_or_default();
        columns.push_str(&format!(
            ", (SELECT count(*) FROM {table} AS counted WHERE counted.{by} = {}.name{without}) AS {named}",
            query.table
        ));
    }
    let condition = if conditions.is_empty() { "1".to_owned() } else { conditions.join(" AND ") };
    let limit = query.limit.map(|limit| format!(" LIMIT {limit}")).unwrap_or_default();
    let by = query.by.map(|column| format!("{}.{column}, ", query.table)).unwrap_or_default();
    (format!("SELECT {columns} FROM {from} WHERE {condition} ORDER BY {by}{}.name{limit}", query.table), values)
}

fn as_sql(value: &Value) -> Sql {
    match value {
        Value::Null => Sql::Null,
        Value::Bool(flag) => Sql::Integer(i64::from(*flag)),
        Value::Number(number) => Sql::Integer(number.as_i64().unwrap_or(i64::MAX)),
        Value::String(text) => Sql::Text(text.clone()),
        other => Sql::Text(other.to_string()),
    }
}

/// What rows must have, as a condition with a parameter for each value.
pub(super) fn condition(filters: &[(&str, Value)]) -> String {
    let conditions: Vec<_> = filters
        .iter()
        .enumerate()
        .map(|(n, (column, value))| match value {
            // Written out, so that an index over what has none is found; its place stays.
            Value::Null => format!("{column} IS NULL AND ?{} IS NULL", n + 1),
            _ => format!("{column} = ?{}", n + 1),
        })
        .collect();
    if conditions.is_empty() { "1".to_owned() } else { conditions.join(" AND ") }
}
