//! An estate in one SQLite file.

use std::collections::BTreeSet;
use std::fs;
use std::os::unix::fs::{DirBuilderExt as _, OpenOptionsExt as _};
use std::path::{Path, PathBuf};
use std::time::Duration;

use jiff::Timestamp;
use rusqlite::config::DbConfig;
use rusqlite::types::{ToSqlOutput, Value as Sql, ValueRef};
use rusqlite::{Connection, ErrorCode, OpenFlags, OptionalExtension as _, TransactionBehavior};
use serde_json::{Map, Value};
use yestrel_core::audit::{HistoryRow, SignedHead};
use yestrel_core::undo::Change;
use yestrel_core::{Problem, Result};

use crate::book::Book;
use crate::journal;
use crate::rows::{Cell, Count, Link, Query, Row, Rows, View};
use crate::seal::{check_folder, check_private};

/// "YSTL": tells an estate from other SQLite files.
const APPLICATION: i64 = 0x5953_544c;
/// Each migration brings a file one version further.
const MIGRATIONS: [&str; 4] = [
    include_str!("migrations/0001.sql"),
    include_str!("migrations/0002.sql"),
    include_str!("migrations/0003.sql"),
    include_str!("migrations/0004.sql"),
];
/// How long a command waits for another that is writing.
const PATIENCE: Duration = Duration::from_secs(10);

/// The estate's file, opened.
pub struct SqliteStore {
    connection: Connection,
    path: PathBuf,
}

/// What the database says, for a person. A full disk hides behind several errors of the database; whether it is one, the disk
/// itself says.
fn problem(path: &Path, error: &rusqlite::Error) -> Problem {
    let words = error.to_string();
    let extended = error.sqlite_error().map(|error| error.extended_code);
    match error.sqlite_error_code() {
        Some(ErrorCode::DatabaseBusy | ErrorCode::DatabaseLocked) => Problem::failed("the estate is in use")
            .why(format!("another command has been writing to it for more than {} s", PATIENCE.as_secs()))
            .try_("the same command again, once the other is done"),
        Some(ErrorCode::DiskFull | ErrorCode::SystemIoFailure | ErrorCode::CannotOpen) if disk_is_full(path) => {
            Problem::failed("the disk is full")
                .why(format!("{} has no room left; nothing was changed", folder_of(path).display()))
                .try_("make room, then the same command again")
        }
        Some(ErrorCode::DiskFull) => Problem::failed("the disk is full").why("nothing was changed"),
        Some(ErrorCode::ReadOnly | ErrorCode::CannotOpen) => {
            Problem::failed("the estate cannot be written").why(format!("{words}; nothing was changed"))
        }
        Some(ErrorCode::NotADatabase | ErrorCode::DatabaseCorrupt) => {
            Problem::failed("this file is no estate, or a damaged one").why(words)
        }
        Some(ErrorCode::ConstraintViolation) if extended == Some(rusqlite::ffi::SQLITE_CONSTRAINT_FOREIGNKEY) => {
            Problem::refused("something else in the estate still needs this").why("nothing was changed")
        }
        _ => Problem::failed("the estate's database does not do as asked").why(words),
    }
}

fn folder_of(path: &Path) -> &Path {
    path.parent().filter(|folder| !folder.as_os_str().is_empty()).unwrap_or(Path::new("."))
}

fn disk_is_full(path: &Path) -> bool {
    nix::sys::statvfs::statvfs(folder_of(path)).is_ok_and(|about| about.blocks_available() < 8)
}

/// How an estate in a folder that cannot be written is opened for looking only; `None` in every other folder.
fn in_read_only_folder(path: &Path) -> Result<Option<String>> {
    let folder = folder_of(path);
    if nix::unistd::access(folder, nix::unistd::AccessFlags::W_OK).is_ok() {
        return Ok(None);
    }
    // What a command wrote last stands beside the file until it is taken in; without it the look would be a false one.
    let mut journal = path.as_os_str().to_owned();
    journal.push("-wal");
    if fs::metadata(&journal).is_ok_and(|about| about.len() > 0) {
        return Err(Problem::failed(format!("the estate {} cannot be opened", path.display()))
            .why("its folder cannot be written, and the last changes are not yet taken into the file")
            .try_("copy the folder to where it can be written, and look there"));
    }
    let spelled: String = path
        .to_string_lossy()
        .chars()
        .map(|c| if matches!(c, '%' | '?' | '#') { format!("%{:02x}", c as u32) } else { c.to_string() })
        .collect();
    Ok(Some(format!("file:{spelled}?immutable=1")))
}

/// Refuses what does not begin as an estate does: a file of SQLite 3 (its file format, section 1.3) of this application.
fn check_beginning(path: &Path) -> Result<()> {
    use std::io::Read as _;
    let no_estate = |why: &str| {
        Problem::failed(format!("{} is no estate", path.display()))
            .why(why)
            .try_("--estate PATH, with the estate's file")
    };
    let mut header = [0; 100];
    let mut file = fs::File::open(path).map_err(|error| {
        Problem::failed(format!("the estate {} cannot be read", path.display())).why(error.to_string())
    })?;
    file.read_exact(&mut header).map_err(|_| no_estate("it is another kind of file, or cut short"))?;
    if !header.starts_with(b"SQLite format 3\0") {
        return Err(no_estate("it is another kind of file, or damaged"));
    }
    if i64::from(u32::from_be_bytes([header[68], header[69], header[70], header[71]])) != APPLICATION {
        return Err(no_estate("it is a database of another program"));
    }
    Ok(())
}

impl SqliteStore {
    /// Makes a new estate file with mode 0600, in a folder with mode 0700 if that is not there either.
    ///
    /// # Errors
    /// There is something under this name already, or it cannot be written.
    pub fn create(path: &Path) -> Result<Self> {
        let cannot = |error: std::io::Error| {
            Problem::failed(format!("an estate cannot be made at {}", path.display())).why(error.to_string())
        };
        if let Some(folder) = path.parent().filter(|folder| !folder.as_os_str().is_empty()) {
            fs::DirBuilder::new().recursive(true).mode(0o700).create(folder).map_err(cannot)?;
        }
        check_folder(path)?;
        fs::OpenOptions::new().write(true).create_new(true).mode(0o600).open(path).map_err(|error| {
            if error.kind() == std::io::ErrorKind::AlreadyExists {
                Problem::refused(format!("there is already something at {}", path.display()))
                    .why("an estate is never written over another file")
                    .try_("another place: yestrel estate create NAME --estate PATH")
            } else {
                cannot(error)
            }
        })?;
        let mut store = Self::connect(path)?;
        store.connection.pragma_update(None, "application_id", APPLICATION).map_err(|e| problem(path, &e))?;
        store.migrate(0)?;
        Ok(store)
    }

    /// Opens an estate file and brings it to this version.
    ///
    /// # Errors
    /// It is missing, readable by others, no estate, or of a newer version.
    pub fn open(path: &Path) -> Result<Self> {
        let there = path.try_exists().map_err(|error| {
            Problem::failed(format!("the estate {} cannot be looked at", path.display()))
                .why(format!("{error}; it may be another user's"))
                .try_("--estate PATH, with an estate of this user")
        })?;
        if !there {
            return Err(Problem::failed(format!("there is no estate at {}", path.display()))
                .why("--estate, YESTREL_ESTATE or the user's data folder say where it is")
                .try_("yestrel estate create NAME"));
        }
        if path.is_dir() {
            return Err(Problem::words(format!("{} is a folder, not an estate", path.display()))
                .try_("--estate PATH, with the estate's file"));
        }
        // Whose file it is comes after whether it is an estate: other files are nobody's business here.
        check_beginning(path)?;
        check_private(path, "the estate")?;
        check_folder(path)?;
        let no_estate = |why: String| Problem::failed(format!("{} is no estate", path.display())).why(why);
        let mut store = Self::connect(path)?;
        let pragma = |name: &str| store.connection.pragma_query_value(None, name, |row| row.get::<_, i64>(0));
        let application = pragma("application_id").map_err(|error| match error.sqlite_error_code() {
            Some(ErrorCode::NotADatabase | ErrorCode::DatabaseCorrupt) => {
                no_estate("it is another kind of file, or damaged".into())
            }
            _ => problem(path, &error),
        })?;
        if application != APPLICATION {
            return Err(no_estate("it is a database of another program".into()));
        }
        let version = pragma("user_version").map_err(|e| problem(path, &e))?;
        let newest = MIGRATIONS.len() as i64;
        if version > newest {
            return Err(Problem::failed(format!("the estate {} is of a newer version", path.display()))
                .why(format!("it has the shape {version}; this program knows shapes up to {newest}"))
                .try_("install the newest yestrel"));
        }
        if version < newest {
            store.migrate(version as usize)?;
        }
        Ok(store)
    }

    fn connect(path: &Path) -> Result<Self> {
        let flags = OpenFlags::SQLITE_OPEN_READ_WRITE | OpenFlags::SQLITE_OPEN_NO_MUTEX;
        let connection = match in_read_only_folder(path)? {
            None => Connection::open_with_flags(path, flags).map_err(|e| problem(path, &e))?,
            // It can still be looked at.
            Some(uri) => {
                let flags = OpenFlags::SQLITE_OPEN_READ_ONLY | OpenFlags::SQLITE_OPEN_URI;
                return Connection::open_with_flags(uri, flags)
                    .map(|connection| Self { connection, path: path.to_owned() })
                    .map_err(|e| problem(path, &e));
            }
        };
        let set = || -> rusqlite::Result<()> {
            connection.busy_timeout(PATIENCE)?;
            // A statement is compiled once, not anew for each value that it is asked with.
            connection.set_db_config(DbConfig::SQLITE_DBCONFIG_ENABLE_QPSG, true)?;
            connection.pragma_update(None, "foreign_keys", true)?;
            connection.pragma_update(None, "synchronous", "full")?;
            // Every kind of statement that a command has stays compiled.
            connection.set_prepared_statement_cache_capacity(256);
            // 32 MiB at most, so that a command that writes tens of thousands of rows writes each page once.
            connection.pragma_update(None, "cache_size", -32 * 1024)?;
            Ok(())
        };
        set().map_err(|e| problem(path, &e))?;
        Ok(Self { connection, path: path.to_owned() })
    }

    /// Names in a table that begin so, for completing words: read without waiting for anybody, and without bringing anything further.
    ///
    /// # Errors
    /// There is no estate, or none that can be read.
    pub fn names(path: &Path, table: &str, begun: &str, most: usize) -> Result<Vec<String>> {
        check_beginning(path)?;
        let table = crate::records::known(table)?;
        let read = || {
            let flags = OpenFlags::SQLITE_OPEN_READ_ONLY | OpenFlags::SQLITE_OPEN_NO_MUTEX;
            let connection = Connection::open_with_flags(path, flags)?;
            let mut statement =
                connection.prepare(&format!("SELECT name FROM {table} WHERE name >= ?1 ORDER BY name LIMIT ?2"))?;
            let most = i64::try_from(most).unwrap_or(i64::MAX);
            let rows = statement.query_map(rusqlite::params![begun, most], |row| row.get::<_, String>(0))?;
            rows.collect::<rusqlite::Result<Vec<_>>>()
        };
        let names = read().map_err(|e| problem(path, &e))?;
        Ok(names.into_iter().take_while(|name| name.starts_with(begun)).collect())
    }

    fn migrate(&mut self, from: usize) -> Result<()> {
        let path = &self.path;
        self.connection.pragma_update(None, "journal_mode", "wal").map_err(|e| problem(path, &e))?;
        let transaction =
            self.connection.transaction_with_behavior(TransactionBehavior::Immediate).map_err(|e| problem(path, &e))?;
        for (step, sql) in MIGRATIONS.iter().enumerate().skip(from) {
            transaction.execute_batch(sql).map_err(|e| problem(path, &e))?;
            transaction.pragma_update(None, "user_version", step as i64 + 1).map_err(|e| problem(path, &e))?;
        }
        transaction.commit().map_err(|e| problem(path, &e))
    }

    /// One command's change: happens whole, or, when `change` fails, not at all. Waits for another command that is
    /// writing.
    ///
    /// # Errors
    /// What `change` returns, or the database's own.
    pub fn write<R>(&mut self, now: Timestamp, who: &str, change: impl FnOnce(&Book<'_>) -> Result<R>) -> Result<R> {
        let path = &self.path;
        let transaction =
            self.connection.transaction_with_behavior(TransactionBehavior::Immediate).map_err(|e| problem(path, &e))?;
        let rows = SqliteRows { connection: &transaction, path };
        let book = Book::new(&rows, now, who);
        let result = change(&book)?;
        book.finish()?;
        transaction.commit().map_err(|e| problem(path, &e))?;
        Ok(result)
    }

    /// What a change would come to: as [`SqliteStore::write`], and then nothing of it happens.
    ///
    /// # Errors
    /// What `change` returns, or the database's own.
    pub fn rehearse<R>(&mut self, now: Timestamp, who: &str, change: impl FnOnce(&Book<'_>) -> Result<R>) -> Result<R> {
        let path = &self.path;
        let transaction =
            self.connection.transaction_with_behavior(TransactionBehavior::Immediate).map_err(|e| problem(path, &e))?;
        let result = change(&Book::new(&SqliteRows { connection: &transaction, path }, now, who));
        transaction.rollback().map_err(|e| problem(path, &e))?;
        result
    }

    /// Copies the database as it stands at one moment, whatever other commands do meanwhile.
    ///
    /// # Errors
    /// The file is there, or cannot be written.
    pub fn copy_to(&mut self, path: &Path) -> Result<()> {
        self.connection.execute("VACUUM INTO ?1", [path.to_string_lossy()]).map_err(|e| problem(path, &e))?;
        use std::os::unix::fs::PermissionsExt as _;
        fs::set_permissions(path, fs::Permissions::from_mode(0o600))
            .map_err(|error| Problem::failed("the estate cannot be copied").why(error.to_string()))
    }

    /// Checks that the database is whole.
    ///
    /// # Errors
    /// It is not, with what is wrong first.
    pub fn check(&mut self) -> Result<()> {
        let path = &self.path;
        let found: String = self
            .connection
            .query_row("PRAGMA integrity_check(1)", [], |row| row.get(0))
            .map_err(|e| problem(path, &e))?;
        if found == "ok" { Ok(()) } else { Err(Problem::failed("the estate's database is damaged").why(found)) }
    }

    /// A consistent look at the estate.
    ///
    /// # Errors
    /// What `look` returns, or the database's own.
    pub fn read<R>(&self, now: Timestamp, look: impl FnOnce(&Book<'_>) -> Result<R>) -> Result<R> {
        let path = &self.path;
        let transaction = self.connection.unchecked_transaction().map_err(|e| problem(path, &e))?;
        look(&Book::new(&SqliteRows { connection: &transaction, path }, now, ""))
    }
}

struct SqliteRows<'a> {
    connection: &'a Connection,
    path: &'a Path,
}

/// A JSON value as an SQL parameter. Structures do not occur: records turn them into text first.
struct Parameter<'a>(&'a Value);

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

/// A row under the cursor.
struct Seen<'a> {
    row: &'a rusqlite::Row<'a>,
    columns: &'a [String],
    path: &'a Path,
}

impl View for Seen<'_> {
    fn columns(&self) -> &[String] {
        self.columns
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

/// A query in the database's language, with its values.
fn written(query: &Query<'_>) -> (String, Vec<Sql>) {
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

impl SqliteRows<'_> {
    fn query(&self, sql: &str, parameters: &[&dyn rusqlite::ToSql]) -> Result<Vec<Row>> {
        let run = || {
            let mut statement = self.connection.prepare_cached(sql)?;
            statement.query_map(parameters, read_row)?.collect::<rusqlite::Result<Vec<_>>>()
        };
        run().map_err(|e| problem(self.path, &e))
    }
}

/// What rows must have, as a condition with a parameter for each value.
fn condition(filters: &[(&str, Value)]) -> String {
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

impl Rows for SqliteRows<'_> {
    fn get(&self, table: &str, key: &str) -> Result<Option<Row>> {
        Ok(self.query(&format!("SELECT * FROM {table} WHERE name = ?1"), &[&key])?.pop())
    }

    fn each(&self, query: &Query<'_>, visit: &mut dyn FnMut(&dyn View) -> Result<bool>) -> Result<()> {
        let (sql, values) = written(query);
        let parameters: Vec<&dyn rusqlite::ToSql> = values.iter().map(|value| value as _).collect();
        let cannot = |error: rusqlite::Error| problem(self.path, &error);
        let mut statement = self.connection.prepare_cached(&sql).map_err(cannot)?;
        let columns: Vec<_> = statement.column_names().map(str::to_owned).collect();
        let mut rows = statement.query(&parameters[..]).map_err(cannot)?;
        while let Some(row) = rows.next().map_err(cannot)? {
            if !visit(&Seen { row, columns: &columns, path: self.path })? {
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

    fn free_address(&self, listener: &str, from: u32, below: u32, now: &str) -> Result<Option<u32>> {
        let run = || {
            let one = |sql: &str, parameters: &[&dyn rusqlite::ToSql]| {
                self.connection.prepare_cached(sql)?.query_row(parameters, |row| row.get::<_, u32>(0)).optional()
            };
            let free = "SELECT number FROM addresses WHERE listener = ?1 AND held_until <= ?2 AND number >= ?3 AND number < ?4 ORDER BY held_until, number LIMIT 1";
            if let Some(number) = one(free, &[&listener, &now, &from, &below])? {
                return Ok(Some(number));
            }
            let noted = "SELECT lowest FROM address_marks WHERE listener = ?1 AND first = ?2";
            let mut number = one(noted, &[&listener, &from])?.unwrap_or(from);
            let taken =
                "SELECT number FROM addresses WHERE listener = ?1 AND number >= ?2 AND number < ?3 ORDER BY number";
            let mut statement = self.connection.prepare_cached(taken)?;
            let mut rows = statement.query(rusqlite::params![listener, number, below])?;
            while let Some(row) = rows.next()? {
                if row.get::<_, u32>(0)? != number {
                    break;
                }
                number += 1;
            }
            self.connection
                .prepare_cached("INSERT INTO address_marks (listener, first, lowest) VALUES (?1, ?2, ?3) ON CONFLICT (listener, first) DO UPDATE SET lowest = excluded.lowest")?
                .execute(rusqlite::params![listener, from, number])?;
            Ok((number < below).then_some(number))
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

    fn names(&self, table: &str) -> Result<Vec<String>> {
        let run = || {
            let mut statement = self.connection.prepare_cached(&format!("SELECT name FROM {table} ORDER BY name"))?;
            statement.query_map([], |row| row.get(0))?.collect::<rusqlite::Result<Vec<_>>>()
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
        let sql = format!("SELECT count(*) FROM {table} WHERE {}", condition(filters));
        let values: Vec<_> = filters.iter().map(|(_, value)| Parameter(value)).collect();
        let parameters: Vec<&dyn rusqlite::ToSql> = values.iter().map(|value| value as _).collect();
        let run = || self.connection.prepare_cached(&sql)?.query_row(&parameters[..], |row| row.get::<_, i64>(0));
        run().map(|count| usize::try_from(count).unwrap_or_default()).map_err(|e| problem(self.path, &e))
    }

    fn greatest(&self, table: &str, column: &str, filters: &[(&str, Value)]) -> Result<u64> {
        let sql = format!("SELECT coalesce(max({column}), 0) FROM {table} WHERE {}", condition(filters));
        let values: Vec<_> = filters.iter().map(|(_, value)| Parameter(value)).collect();
        let parameters: Vec<&dyn rusqlite::ToSql> = values.iter().map(|value| value as _).collect();
        let run = || self.connection.prepare_cached(&sql)?.query_row(&parameters[..], |row| row.get::<_, i64>(0));
        run().map(|number| u64::try_from(number).unwrap_or_default()).map_err(|e| problem(self.path, &e))
    }

    fn put(&self, table: &str, row: &Row) -> Result<()> {
        let columns: Vec<_> = row.keys().map(String::as_str).collect();
        let places: Vec<_> = (1..=columns.len()).map(|n| format!("?{n}")).collect();
        let updates: Vec<_> = columns.iter().map(|column| format!("{column} = excluded.{column}")).collect();
        let sql = format!(
            "INSERT INTO {table} ({}) VALUES ({}) ON CONFLICT (name) DO UPDATE SET {}",
            columns.join(", "),
            places.join(", "),
            updates.join(", ")
        );
        let values: Vec<_> = row.values().map(Parameter).collect();
        let parameters: Vec<&dyn rusqlite::ToSql> = values.iter().map(|value| value as _).collect();
        let run = || self.connection.prepare_cached(&sql)?.execute(&parameters[..]);
        run().map(drop).map_err(|e| problem(self.path, &e))
    }

    fn set(&self, table: &str, key: &str, columns: &[(&str, Value)]) -> Result<()> {
        let sets: Vec<_> = (2..).zip(columns).map(|(place, (column, _))| format!("{column} = ?{place}")).collect();
        let sql = format!("UPDATE {table} SET {} WHERE name = ?1", sets.join(", "));
        let values: Vec<_> = columns.iter().map(|(_, value)| Parameter(value)).collect();
        let mut parameters: Vec<&dyn rusqlite::ToSql> = vec![&key];
        parameters.extend(values.iter().map(|value| value as &dyn rusqlite::ToSql));
        let run = || self.connection.prepare_cached(&sql)?.execute(&parameters[..]);
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
        let limit = i64::try_from(limit).unwrap_or(i64::MAX);
        let mut rows = self.query("SELECT * FROM history ORDER BY number DESC LIMIT ?1", &[&limit])?;
        rows.reverse();
        rows.into_iter()
            .map(|row| {
                serde_json::from_value(Value::Object(row))
                    .map_err(|error| Problem::failed("the history cannot be read").why(error.to_string()))
            })
            .collect()
    }

    fn each_history(&self, visit: &mut dyn FnMut(HistoryRow) -> Result<bool>) -> Result<()> {
        let cannot = |error: rusqlite::Error| problem(self.path, &error);
        let sql = "SELECT number, at, who, what, subject, detail, hash FROM history ORDER BY number";
        let mut statement = self.connection.prepare_cached(sql).map_err(cannot)?;
        let mut rows = statement.query([]).map_err(cannot)?;
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
            if !visit(read().map_err(cannot)?)? {
                break;
            }
        }
        Ok(())
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

    fn append_history(&self, row: &HistoryRow) -> Result<()> {
        let run = || {
            self.connection
                .prepare_cached("INSERT INTO history (number, at, who, what, subject, detail, hash) VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7)")?
                .execute(rusqlite::params![
                    row.number as i64, row.at, row.who, row.what, row.subject, row.detail, row.hash
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

#[cfg(test)]
mod tests {
    use super::*;
    use yestrel_core::estate::{Group, Revocation, Site};

    fn at() -> Timestamp {
        "2027-03-02T08:15:00Z".parse().unwrap()
    }

    fn group(name: &str) -> Group {
        Group { name: name.into(), about: None, lifetime: None, created: at() }
    }

    #[test]
    fn a_failed_command_changes_nothing() {
        let folder = tempfile::tempdir().unwrap();
        let mut store = SqliteStore::create(&folder.path().join("e")).unwrap();
        let failed = store.write(at(), "astrid@bridge", |book| {
            book.add(&group("crew"))?;
            book.note("group add", "crew", "")?;
            Err::<(), _>(Problem::refused("no"))
        });
        assert!(failed.is_err());
        store
            .read(at(), |book| {
                assert!(book.get::<Group>("crew")?.is_none());
                assert!(book.history(10)?.is_empty());
                Ok(())
            })
            .unwrap();
    }

    #[test]
    fn records_come_back_as_they_went() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("deep/er/e");
        let site = Site {
            name: "harbour".into(),
            networks: vec!["10.44.0.0/22".parse().unwrap()],
            time_zone: "Europe/Oslo".into(),
            front: None,
            created: at(),
        };
        SqliteStore::create(&path).unwrap().write(at(), "a@b", |book| book.add(&site)).unwrap();
        let back: Site = SqliteStore::open(&path).unwrap().read(at(), |book| book.need("harbour")).unwrap();
        assert_eq!(format!("{back:?}"), format!("{site:?}"));
        let problem = SqliteStore::open(&path).unwrap().read(at(), |book| book.need::<Site>("harbor")).unwrap_err();
        assert_eq!(problem.why.as_deref(), Some("the nearest is harbour"));
    }

    #[test]
    fn revocations_and_history_cannot_be_taken_back() {
        let folder = tempfile::tempdir().unwrap();
        let mut store = SqliteStore::create(&folder.path().join("e")).unwrap();
        let revocation = Revocation {
            name: "key".into(),
            device: "tomas/tablet".into(),
            reason: "lost".into(),
            at: at(),
            gateways: vec![],
        };
        store
            .write(at(), "a@b", |book| {
                book.put(&revocation)?;
                book.note("credential revoke", "tomas/tablet", "")
            })
            .unwrap();
        assert!(store.write(at(), "a@b", |book| book.remove::<Revocation>("key")).is_err());
        for sql in ["DELETE FROM history", "UPDATE history SET who = 'nobody'"] {
            assert!(store.connection.execute(sql, []).is_err(), "{sql}");
        }
    }

    #[test]
    fn what_is_no_estate_is_said() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("e");
        assert!(SqliteStore::open(&path).err().unwrap().error.contains("no estate"));
        fs::OpenOptions::new().write(true).create_new(true).mode(0o600).open(&path).unwrap();
        fs::write(&path, "just a text, longer than a hundred bytes ".repeat(30)).unwrap();
        assert!(SqliteStore::open(&path).err().unwrap().error.contains("is no estate"));
        assert!(SqliteStore::create(&path).err().unwrap().error.contains("already something"));
        let newer = folder.path().join("newer");
        SqliteStore::create(&newer).unwrap().connection.pragma_update(None, "user_version", 999).unwrap();
        assert!(SqliteStore::open(&newer).err().unwrap().error.contains("newer version"));
    }

    #[test]
    fn commands_at_once_lose_nothing() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("e");
        SqliteStore::create(&path).unwrap();
        std::thread::scope(|scope| {
            for thread in 0..4 {
                let path = &path;
                scope.spawn(move || {
                    for n in 0..10 {
                        let mut store = SqliteStore::open(path).unwrap();
                        store
                            .write(at(), "a@b", |book| {
                                book.add(&group(&format!("group-{thread}-{n}")))?;
                                book.note("group add", "x", "")
                            })
                            .unwrap();
                    }
                });
            }
        });
        SqliteStore::open(&path)
            .unwrap()
            .read(at(), |book| {
                assert_eq!(book.all::<Group>()?.len(), 40);
                let history = book.history(100)?;
                assert_eq!(history.len(), 40);
                let mut walk = yestrel_core::audit::Walk::new(None);
                history.iter().for_each(|row| walk.row(row));
                assert_eq!(walk.end(book.history_head()?.as_ref()), None);
                Ok(())
            })
            .unwrap();
    }
}
