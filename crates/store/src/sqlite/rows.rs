//! The rows of one transaction.

use std::collections::BTreeSet;
use std::fmt::Write as _;
use std::path::Path;

use rusqlite::types::ValueRef;
use rusqlite::{Connection, OptionalExtension as _};
use serde_json::{Map, Value};
use yestrel_core::audit::{HistoryRow, SignedHead};
use yestrel_core::undo::Change;
use yestrel_core::{Problem, Result};

use super::problem::problem;
use super::query::{Parameter, over, written};
use crate::journal;
use crate::rows::{Cell, Query, Row, Rows, View};

/// The rows of one transaction.
pub(super) struct SqliteRows<'a> {
    pub connection: &'a Connection,
    pub path: &'a Path,
}

fn read_row(row: &rusqlite::Row<'_>) -> rusqlite::Result<Row> {
    let mut out = Map::new();
    for (index, column) in row.as_ref().column_names().enumerate() {
        let value = match row.get_ref(index)? {
            ValueRef::Integer(number) => Value::from(number),
            ValueRef::Text(text) => Value::String(String::from_utf8_lossy(text).into_owned()),
            _ => Value::Null,
        };
        out.insert(column.to_owned(), value);
    }
    Ok(out)
}

/// What the columns of a query are called.
enum Names {
    Asked(Vec<&'static str>),
    /// All that a table has.
    All(Vec<String>),
}

impl Names {
    fn at(&self, at: usize) -> Option<&str> {
        match self {
            Self::Asked(names) => names.get(at).copied(),
            Self::All(names) => names.get(at).map(String::as_str),
        }
    }
}

/// A row under the cursor.
struct Seen<'a> {
    row: &'a rusqlite::Row<'a>,
    names: &'a Names,
    path: &'a Path,
}

impl View for Seen<'_> {
    fn column(&self, at: usize) -> Option<&str> {
        self.names.at(at)
    }

    fn cell(&self, at: usize) -> Result<Cell<'_>> {
        Ok(match self.row.get_ref(at).map_err(|e| problem(self.path, &e))? {
            ValueRef::Integer(number) => Cell::Integer(number),
            ValueRef::Text(text) => Cell::Text(std::str::from_utf8(text).map_err(|error| {
                Problem::failed("the estate's database is damaged").why(format!("a text in it is none: {error}"))
            })?),
            _ => Cell::Null,
        })
    }
}

impl SqliteRows<'_> {
    fn query(&self, sql: &str, parameters: &[&dyn rusqlite::ToSql]) -> Result<Vec<Row>> {
        let run = || {
            let mut statement = self.connection.prepare_cached(sql)?;
            statement.query_map(parameters, read_row)?.collect::<rusqlite::Result<Vec<_>>>()
        };
        run().map_err(|e| problem(self.path, &e))
    }
}

impl SqliteRows<'_> {
    /// One number over the rows that have these values.
    fn number(&self, what: &str, table: &str, filters: &[(&str, Value)]) -> Result<u64> {
        let (sql, values) = over(what, table, filters);
        let parameters = rusqlite::params_from_iter(values.iter().map(Parameter));
        let run = || self.connection.prepare_cached(&sql)?.query_row(parameters, |row| row.get::<_, i64>(0));
        run().map(|number| u64::try_from(number).unwrap_or_default()).map_err(|e| problem(self.path, &e))
    }
}

impl SqliteRows<'_> {
    /// The history from a row on that says everything of itself; `hashed`: also with those hashes that follow.
    fn history_from(&self, number: i64, hashed: bool, visit: &mut dyn FnMut(HistoryRow) -> Result<bool>) -> Result<()> {
        let cannot = |error: rusqlite::Error| problem(self.path, &error);
        let sql = "SELECT number, at, who, what, subject, detail, hash FROM history WHERE number >= ?1 ORDER BY number";
        let mut statement = self.connection.prepare_cached(sql).map_err(cannot)?;
        let mut rows = statement.query([number]).map_err(cannot)?;
        let (mut before, mut what) = ((String::new(), String::new(), String::new()), String::new());
        while let Some(row) = rows.next().map_err(cannot)? {
            let read = || {
                Ok(HistoryRow {
                    number: row.get::<_, i64>(0)?.unsigned_abs(),
                    at: row.get(1)?,
                    who: row.get(2)?,
                    what: row.get(3)?,
                    subject: row.get(4)?,
                    detail: row.get(5)?,
                    hash: row.get(6)?,
                })
            };
            let mut row = read().map_err(cannot)?;
            let (at, who, hash) = &before;
            if row.hash.is_empty() {
                row.at.clone_from(at);
                row.who.clone_from(who);
                if row.what.is_empty() {
                    row.what.clone_from(&what);
                }
                if hashed {
                    row = row.chained(hash);
                    before.2.clone_from(&row.hash);
                }
            } else {
                before = (row.at.clone(), row.who.clone(), row.hash.clone());
            }
            if row.what != what {
                what.clone_from(&row.what);
            }
            if !visit(row)? {
                break;
            }
        }
        Ok(())
    }

    /// Writes a row; over the one with its key, or only where there is none.
    fn insert(&self, table: &str, row: &Row, over: bool) -> Result<()> {
        let mut sql = String::with_capacity(1024);
        let (mut places, mut sets) = (String::with_capacity(128), String::with_capacity(512));
        // Nothing of this can fail, it goes into memory.
        let _ = write!(sql, "INSERT INTO {table} (");
        for (place, column) in (1..).zip(row.keys()) {
            let comma = if place == 1 { "" } else { ", " };
            let _ = write!(sql, "{comma}{column}");
            let _ = write!(places, "{comma}?{place}");
            if over {
                let _ = write!(sets, "{comma}{column} = excluded.{column}");
            }
        }
        let _ = write!(sql, ") VALUES ({places})");
        if over {
            let _ = write!(sql, " ON CONFLICT (name) DO UPDATE SET {sets}");
        }
        let values = rusqlite::params_from_iter(row.values().map(Parameter));
        let run = || self.connection.prepare_cached(&sql)?.execute(values);
        run().map(drop).map_err(|e| problem(self.path, &e))
    }
}

impl Rows for SqliteRows<'_> {
    fn get(&self, table: &str, key: &str) -> Result<Option<Row>> {
        Ok(self.query(&format!("SELECT * FROM {table} WHERE name = ?1"), &[&key])?.pop())
    }

    fn each(&self, query: &Query<'_>, visit: &mut dyn FnMut(&dyn View) -> Result<bool>) -> Result<()> {
        let (sql, values) = written(query);
        let cannot = |error: rusqlite::Error| problem(self.path, &error);
        let mut statement = self.connection.prepare_cached(&sql).map_err(cannot)?;
        let parameters = rusqlite::params_from_iter(values.iter().map(Parameter));
        let mut rows = statement.query(parameters).map_err(cannot)?;
        let asked = query.columns.iter().copied().chain(query.counts.iter().map(|count| count.named));
        let mut names = (!query.columns.is_empty()).then(|| Names::Asked(asked.collect()));
        while let Some(row) = rows.next().map_err(cannot)? {
            // Looked up where there is a row: many questions have none as their answer.
            let all = || Names::All(row.as_ref().column_names().map(str::to_owned).collect());
            let names = names.get_or_insert_with(all);
            if !visit(&Seen { row, names, path: self.path })? {
                break;
            }
        }
        Ok(())
    }

    fn holds(&self, table: &str, column: &str, key: &str, text: &str) -> Result<bool> {
        let sql = format!("SELECT instr({column}, ?2) > 0 FROM {table} WHERE name = ?1");
        let run = || self.connection.prepare_cached(&sql)?.query_row([key, text], |row| row.get(0)).optional();
        run().map(|found| found.unwrap_or_default()).map_err(|e| problem(self.path, &e))
    }

    fn free_addresses(
        &self,
        listener: &str,
        from: u32,
        below: u32,
        now: &str,
        most: usize,
    ) -> Result<Vec<(u32, bool)>> {
        let run = || {
            let over = "SELECT number FROM addresses WHERE listener = ?1 AND held_until <= ?2 AND number >= ?3 AND number < ?4 ORDER BY held_until, number LIMIT ?5";
            let limit = i64::try_from(most).unwrap_or(i64::MAX);
            let mut statement = self.connection.prepare_cached(over)?;
            let rows = statement
                .query_map(rusqlite::params![listener, now, from, below, limit], |row| Ok((row.get(0)?, true)))?;
            let mut free = rows.collect::<rusqlite::Result<Vec<_>>>()?;
            if free.len() >= most {
                return Ok(free);
            }
            let noted = "SELECT lowest FROM address_marks WHERE listener = ?1 AND first = ?2";
            let mut noted = self.connection.prepare_cached(noted)?;
            let mut number =
                noted.query_row(rusqlite::params![listener, from], |row| row.get(0)).optional()?.unwrap_or(from);
            let mut lowest = None;
            let taken =
                "SELECT number FROM addresses WHERE listener = ?1 AND number >= ?2 AND number < ?3 ORDER BY number";
            let mut statement = self.connection.prepare_cached(taken)?;
            let mut rows = statement.query(rusqlite::params![listener, number, below])?;
            // Between what is taken, and after the last of it.
            loop {
                let next = rows.next()?.map(|row| row.get::<_, u32>(0)).transpose()?;
                let until = next.unwrap_or(below);
                if number < until {
                    lowest.get_or_insert(number);
                    let room = u32::try_from(most - free.len()).unwrap_or(u32::MAX);
                    free.extend((number..until.min(number.saturating_add(room))).map(|number| (number, false)));
                }
                if next.is_none() || free.len() >= most {
                    break;
                }
                number = until + 1;
            }
            self.connection
                .prepare_cached("INSERT INTO address_marks (listener, first, lowest) VALUES (?1, ?2, ?3) ON CONFLICT (listener, first) DO UPDATE SET lowest = excluded.lowest")?
                .execute(rusqlite::params![listener, from, lowest.unwrap_or(below)])?;
            Ok(free)
        };
        run().map_err(|e| problem(self.path, &e))
    }

    fn pending(&self, gateway: &str, most: usize) -> Result<BTreeSet<String>> {
        let run = || {
            let sql = "SELECT device FROM pending WHERE gateway = ?1 ORDER BY device LIMIT ?2";
            let mut statement = self.connection.prepare_cached(sql)?;
            let most = i64::try_from(most).unwrap_or(i64::MAX);
            statement.query_map(rusqlite::params![gateway, most], |row| row.get(0))?.collect::<rusqlite::Result<_>>()
        };
        run().map_err(|e| problem(self.path, &e))
    }

    fn settle(&self, gateway: &str, devices: Option<&BTreeSet<String>>) -> Result<()> {
        let run = || {
            let Some(devices) = devices else {
                return self
                    .connection
                    .prepare_cached("DELETE FROM pending WHERE gateway = ?1")?
                    .execute([gateway])
                    .map(drop);
            };
            let mut one = self.connection.prepare_cached("DELETE FROM pending WHERE gateway = ?1 AND device = ?2")?;
            devices.iter().try_for_each(|device| one.execute([gateway, device]).map(drop))
        };
        run().map_err(|e| problem(self.path, &e))
    }

    fn unsettle(&self, gateway: &str, device: &str) -> Result<()> {
        let sql = "INSERT OR IGNORE INTO pending (gateway, device) VALUES (?1, ?2)";
        let run = || self.connection.prepare_cached(sql)?.execute([gateway, device]);
        run().map(drop).map_err(|e| problem(self.path, &e))
    }

    fn told(&self) -> Result<Vec<(String, usize)>> {
        let run = || {
            let mut statement = self.connection.prepare_cached("SELECT told, devices FROM told_texts ORDER BY told")?;
            let rows = statement.query_map([], |row| Ok((row.get(0)?, row.get::<_, i64>(1)?)))?;
            rows.map(|row| row.map(|(told, count)| (told, usize::try_from(count).unwrap_or_default())))
                .collect::<rusqlite::Result<_>>()
        };
        run().map_err(|e| problem(self.path, &e))
    }

    fn with_account(&self, name: &str) -> Result<Vec<String>> {
        let run = || {
            let sql = "SELECT name FROM credentials WHERE account IS NOT NULL AND json_extract(account, '$.name') = ?1 ORDER BY name";
            let mut statement = self.connection.prepare_cached(sql)?;
            statement.query_map([name], |row| row.get(0))?.collect::<rusqlite::Result<Vec<_>>>()
        };
        run().map_err(|e| problem(self.path, &e))
    }

    fn count(&self, table: &str, filters: &[(&str, Value)]) -> Result<usize> {
        Ok(usize::try_from(self.number("count(*)", table, filters)?).unwrap_or_default())
    }

    fn greatest(&self, table: &str, column: &str, filters: &[(&str, Value)]) -> Result<u64> {
        self.number(&format!("coalesce(max({column}), 0)"), table, filters)
    }

    fn add(&self, table: &str, row: &Row) -> Result<()> {
        self.insert(table, row, false)
    }

    fn put(&self, table: &str, row: &Row) -> Result<()> {
        self.insert(table, row, true)
    }

    fn set(&self, table: &str, key: &str, columns: &[(&str, Value)]) -> Result<()> {
        let sets: Vec<_> = (1..).zip(columns).map(|(place, (column, _))| format!("{column} = ?{place}")).collect();
        let sql = format!("UPDATE {table} SET {} WHERE name = ?{}", sets.join(", "), sets.len() + 1);
        let key = Value::from(key);
        let values = columns.iter().map(|(_, value)| value).chain([&key]).map(Parameter);
        let run = || self.connection.prepare_cached(&sql)?.execute(rusqlite::params_from_iter(values));
        run().map(drop).map_err(|e| problem(self.path, &e))
    }

    fn remove(&self, table: &str, key: &str) -> Result<bool> {
        let run = || self.connection.prepare_cached(&format!("DELETE FROM {table} WHERE name = ?1"))?.execute([key]);
        run().map(|count| count > 0).map_err(|e| problem(self.path, &e))
    }

    fn defer_references(&self) -> Result<()> {
        self.connection.pragma_update(None, "defer_foreign_keys", true).map_err(|e| problem(self.path, &e))
    }

    fn history(&self, limit: usize) -> Result<Vec<HistoryRow>> {
        let run = || {
            let newest = "SELECT coalesce(max(number), 0) FROM history";
            let newest: i64 = self.connection.prepare_cached(newest)?.query_row([], |row| row.get(0))?;
            let first = newest.saturating_sub(i64::try_from(limit).unwrap_or(i64::MAX)).saturating_add(1).max(1);
            // What a command's later rows do not say again stands in its first.
            let whole = "SELECT number FROM history WHERE number <= ?1 AND hash <> '' ORDER BY number DESC LIMIT 1";
            let whole =
                self.connection.prepare_cached(whole)?.query_row([first], |row| row.get::<_, i64>(0)).optional()?;
            Ok((first, whole.unwrap_or(1)))
        };
        let (first, whole) = run().map_err(|e| problem(self.path, &e))?;
        let mut found = Vec::new();
        self.history_from(whole, true, &mut |row| {
            if i64::try_from(row.number).is_ok_and(|number| number >= first) {
                found.push(row);
            }
            Ok(true)
        })?;
        Ok(found)
    }

    fn each_history(&self, visit: &mut dyn FnMut(HistoryRow) -> Result<bool>) -> Result<()> {
        self.history_from(i64::MIN, false, visit)
    }

    fn history_head(&self) -> Result<Option<(u64, String)>> {
        let row = self.query("SELECT number, hash FROM history_head", &[])?.pop();
        let field = |row: &Row, name: &str| row.get(name).cloned().unwrap_or_default();
        Ok(row.and_then(|row| Some((field(&row, "number").as_u64()?, field(&row, "hash").as_str()?.to_owned()))))
    }

    fn signed_head(&self) -> Result<Option<SignedHead>> {
        let row = self.query("SELECT signed FROM history_head", &[])?.pop();
        let text = row.as_ref().and_then(|row| row.get("signed")).and_then(Value::as_str);
        text.map(serde_json::from_str)
            .transpose()
            .map_err(|error| Problem::failed("what is signed of the history cannot be read").why(error.to_string()))
    }

    fn set_signed_head(&self, signed: &SignedHead) -> Result<()> {
        let text = serde_json::to_string(signed).unwrap_or_default();
        let run = || self.connection.prepare_cached("UPDATE history_head SET signed = ?1")?.execute([text]);
        run().map(drop).map_err(|e| problem(self.path, &e))
    }

    fn append_history(&self, row: &HistoryRow, before: Option<&str>) -> Result<()> {
        let kept = |text: &'_ str| if before.is_some() { String::new() } else { text.to_owned() };
        let what = if before == Some(row.what.as_str()) { "" } else { &row.what };
        let run = || {
            self.connection
                .prepare_cached("INSERT INTO history (number, at, who, what, subject, detail, hash) VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7)")?
                .execute(rusqlite::params![
                    row.number as i64,
                    kept(&row.at),
                    kept(&row.who),
                    what,
                    row.subject,
                    row.detail,
                    kept(&row.hash)
                ])?;
            Ok(())
        };
        run().map_err(|e| problem(self.path, &e))
    }

    fn set_history_head(&self, number: u64, hash: &str) -> Result<()> {
        let run = || {
            self.connection
                .prepare_cached("INSERT INTO history_head (one, number, hash) VALUES (1, ?1, ?2) ON CONFLICT (one) DO UPDATE SET number = excluded.number, hash = excluded.hash")?
                .execute(rusqlite::params![number as i64, hash])
        };
        run().map(drop).map_err(|e| problem(self.path, &e))
    }

    fn keep_changes(&self, first: u64, last: u64, packed: &[u8]) -> Result<()> {
        let run = || {
            self.connection
                .prepare_cached("INSERT INTO changes (number, first, records, packed) VALUES (?1, ?2, '', ?3)")?
                .execute(rusqlite::params![last as i64, first as i64, packed])
        };
        run().map(drop).map_err(|e| problem(self.path, &e))
    }

    fn changes_at(&self, number: u64) -> Result<Vec<Change>> {
        let run = || {
            let sql = "SELECT packed FROM changes WHERE number = ?1 AND packed IS NOT NULL";
            self.connection.prepare_cached(sql)?.query_row([number as i64], |row| row.get::<_, Vec<u8>>(0)).optional()
        };
        run().map_err(|e| problem(self.path, &e))?.map_or_else(|| Ok(Vec::new()), |packed| journal::unpacked(&packed))
    }

    fn changes_from(&self, number: u64) -> Result<Vec<(u64, u64, Vec<Change>)>> {
        let number = i64::try_from(number).unwrap_or(i64::MAX);
        let run = || {
            let sql = "SELECT first, number, records, packed FROM changes WHERE number >= ?1 ORDER BY number";
            let mut statement = self.connection.prepare_cached(sql)?;
            let rows = statement.query_map([number], |row| {
                Ok((
                    row.get::<_, i64>(0)?,
                    row.get::<_, i64>(1)?,
                    row.get::<_, String>(2)?,
                    row.get::<_, Option<Vec<u8>>>(3)?,
                ))
            })?;
            rows.collect::<rusqlite::Result<Vec<_>>>()
        };
        run()
            .map_err(|e| problem(self.path, &e))?
            .into_iter()
            .map(|(first, number, text, packed)| {
                // As text, where an earlier version kept it.
                let changes = match packed {
                    Some(packed) => journal::unpacked(&packed)?,
                    None => serde_json::from_str(&text).map_err(|error| {
                        Problem::failed("what was kept of a change cannot be read").why(error.to_string())
                    })?,
                };
                Ok((first.unsigned_abs(), number.unsigned_abs(), changes))
            })
            .collect()
    }
}
