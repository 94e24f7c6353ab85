//! An estate in one SQLite file.
//!
//! | file | its job |
//! |---|---|
//! | `problem` | what the database says, for a person |
//! | `query` | queries in the database's language |
//! | `rows` | the rows of one transaction |

mod problem;
mod query;
mod rows;

use std::fs;
use std::os::unix::fs::{DirBuilderExt as _, OpenOptionsExt as _};
use std::path::{Path, PathBuf};

use jiff::Timestamp;
use rusqlite::config::DbConfig;
use rusqlite::{Connection, ErrorCode, OpenFlags, TransactionBehavior};
use yestrel_core::{Problem, Result};

use crate::book::Book;
use crate::seal::{check_folder, check_private};
use crate::store::Store;
use problem::{folder_of, problem, waits};
use rows::SqliteRows;

/// "YSTL": tells an estate from other SQLite files.
const APPLICATION: i64 = 0x5953_544c;
/// Each migration brings a file one version further.
const MIGRATIONS: [&str; 9] = [
    include_str!("migrations/0001.sql"),
    include_str!("migrations/0002.sql"),
    include_str!("migrations/0003.sql"),
    include_str!("migrations/0004.sql"),
    include_str!("migrations/0005.sql"),
    include_str!("migrations/0006.sql"),
    include_str!("migrations/0007.sql"),
    include_str!("migrations/0008.sql"),
    include_str!("migrations/0009.sql"),
];
/// KiB of pages that are kept at most, so that a command that writes tens of thousands of rows writes each page once.
const CACHE: i64 = 32 * 1024;

/// How many pages of 4 KiB are written beside the file before they are taken into it: one that several batches change is then taken in once.
const TAKEN_IN: i64 = 8 * 1024;

/// The estate's file, opened.
pub struct SqliteStore {
    connection: Connection,
    path: PathBuf,
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
        let mut connection = match in_read_only_folder(path)? {
            None => Connection::open_with_flags(path, flags).map_err(|e| problem(path, &e))?,
            // It can still be looked at.
            Some(uri) => {
                let flags = OpenFlags::SQLITE_OPEN_READ_ONLY | OpenFlags::SQLITE_OPEN_URI;
                return Connection::open_with_flags(uri, flags)
                    .map(|connection| Self { connection, path: path.to_owned() })
                    .map_err(|e| problem(path, &e));
            }
        };
        let mut set = || -> rusqlite::Result<()> {
            connection.busy_handler(Some(waits))?;
            // A statement is compiled once, not anew for each value that it is asked with.
            connection.set_db_config(DbConfig::SQLITE_DBCONFIG_ENABLE_QPSG, true)?;
            connection.pragma_update(None, "foreign_keys", true)?;
            connection.pragma_update(None, "synchronous", "full")?;
            // Every kind of statement that a command has stays compiled.
            connection.set_prepared_statement_cache_capacity(256);
            connection.pragma_update(None, "cache_size", -CACHE)?;
            connection.pragma_update(None, "wal_autocheckpoint", TAKEN_IN)?;
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
        // Each page is looked at once, here and there: nothing is gained by keeping them.
        let cache = |kibibytes: i64| self.connection.pragma_update(None, "cache_size", -kibibytes);
        cache(4 * 1024).map_err(|e| problem(path, &e))?;
        let copied = self.connection.execute("VACUUM INTO ?1", [path.to_string_lossy()]);
        cache(CACHE).map_err(|e| problem(path, &e))?;
        copied.map_err(|e| problem(path, &e))?;
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

impl Store for SqliteStore {
    fn look(&self, now: Timestamp, look: &mut dyn FnMut(&Book<'_>) -> Result<()>) -> Result<()> {
        self.read(now, look)
    }

    fn change(&mut self, now: Timestamp, who: &str, change: &mut dyn FnMut(&Book<'_>) -> Result<()>) -> Result<()> {
        self.write(now, who, change)
    }

    fn try_out(&mut self, now: Timestamp, who: &str, change: &mut dyn FnMut(&Book<'_>) -> Result<()>) -> Result<()> {
        self.rehearse(now, who, change)
    }

    fn copy_to(&mut self, path: &Path) -> Result<()> {
        Self::copy_to(self, path)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use yestrel_core::audit::HistoryRow;
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
    fn what_rows_of_one_command_have_in_common_is_kept_once_and_read_in_each() {
        let folder = tempfile::tempdir().unwrap();
        let mut store = SqliteStore::create(&folder.path().join("e")).unwrap();
        let later = at() + jiff::SignedDuration::from_secs(7);
        for (moment, who, rows) in [(at(), "a@b", 3), (later, "c@d", 1), (later, "c@d", 4), (later, "a@b", 2)] {
            store
                .write(moment, who, |book| {
                    (0..rows).try_for_each(|n| {
                        book.note(if n == 2 { "user change" } else { "user add" }, &n.to_string(), "")
                    })
                })
                .unwrap();
        }
        let mut all = Vec::new();
        store
            .read(at(), |book| {
                all = book.history(100)?;
                let mut at = 0;
                book.each_history(|row| {
                    let hash = if row.hash.is_empty() { String::new() } else { all[at].hash.clone() };
                    assert_eq!(row, HistoryRow { hash, ..all[at].clone() });
                    at += 1;
                    Ok(true)
                })?;
                assert_eq!(at, 10);
                // However many are asked for, also where that cuts a command.
                for limit in 0..12 {
                    assert_eq!(book.history(limit)?, all[10_usize.saturating_sub(limit)..], "{limit}");
                }
                let mut walk = yestrel_core::audit::Walk::new(None);
                all.iter().for_each(|row| walk.row(row));
                assert_eq!(walk.end(book.history_head()?.as_ref()), None);
                Ok(())
            })
            .unwrap();
        assert_eq!(
            all.iter().map(|row| row.who.as_str()).collect::<String>(),
            "a@b".repeat(3) + &"c@d".repeat(5) + "a@ba@b"
        );
        assert!(all.iter().all(|row| row.at == if row.number < 4 { at() } else { later }.to_string()));
        let kept: i64 =
            store.connection.query_row("SELECT count(*) FROM history WHERE hash <> ''", [], |row| row.get(0)).unwrap();
        assert_eq!(kept, 4);
        // What is altered where nothing of its own stands is noticed by what follows from it.
        store.connection.execute("DROP TRIGGER history_stays_changed", []).unwrap();
        for number in 1..=10 {
            let alter = |what: &str| {
                store
                    .connection
                    .execute("UPDATE history SET subject = ?1 WHERE number = ?2", rusqlite::params![what, number])
                    .unwrap()
            };
            let was: String = store
                .connection
                .query_row("SELECT subject FROM history WHERE number = ?1", [number], |row| row.get(0))
                .unwrap();
            alter("x");
            let mut walk = yestrel_core::audit::Walk::new(None);
            store
                .read(at(), |book| {
                    book.each_history(|row| {
                        walk.row(&row);
                        Ok(true)
                    })?;
                    assert!(walk.end(book.history_head()?.as_ref()).is_some(), "{number}");
                    Ok(())
                })
                .unwrap();
            alter(&was);
        }
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
