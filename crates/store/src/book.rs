//! The typed view of one transaction: nouns in, nouns out, and the history written beside each change.

use std::cell::RefCell;
use std::net::Ipv4Addr;

use jiff::Timestamp;
use serde_json::Value;
use yestrel_core::audit::{HistoryRow, SignedHead};
use yestrel_core::estate::{Credential, Listener};
use yestrel_core::undo::{Change, Fields, Step, without_secrets};
use yestrel_core::{Problem, Result, pool};

use crate::journal::Journal;
use crate::records::{self, Readable, Record};
use crate::rows::{Cell, Query, Row, Rows};

/// The typed view of one transaction: who changes things, and when.
pub struct Book<'a> {
    pub(crate) rows: &'a dyn Rows,
    /// The moment of the command.
    pub now: Timestamp,
    who: String,
    /// What this transaction did to records, and the first row that it noted.
    changes: RefCell<Journal>,
    noted: std::cell::Cell<Option<u64>>,
    /// What the row that it noted last says.
    what: RefCell<Option<String>>,
    /// The newest row of the history, where this transaction wrote one.
    head: RefCell<Option<(u64, String)>>,
}

impl<'a> Book<'a> {
    /// A view for `who` at `now`.
    #[must_use]
    pub fn new(rows: &'a dyn Rows, now: Timestamp, who: &str) -> Self {
        Self {
            rows,
            now,
            who: who.into(),
            changes: RefCell::default(),
            noted: std::cell::Cell::new(None),
            what: RefCell::default(),
            head: RefCell::default(),
        }
    }

    /// The record with this name, if there is one.
    ///
    /// # Errors
    /// The database cannot be read.
    pub fn get<T: Readable>(&self, name: &str) -> Result<Option<T>> {
        let mut found = self.find(&[("name", name.into())])?;
        Ok(found.pop())
    }

    /// The record with this name.
    ///
    /// # Errors
    /// There is none: names that are near are offered.
    pub fn need<T: Readable>(&self, name: &str) -> Result<T> {
        if let Some(record) = self.get(name)? {
            return Ok(record);
        }
        let all = self.names::<T>(&Query::default())?.into_iter();
        let near = all.map(|there| (distance(&there, name), there)).min();
        let noun = T::NOUN;
        let shown: String = name.chars().take(60).collect();
        let problem = Problem::words(format!("there is no {noun} {shown:?}"));
        Err(match near {
            Some((away, there)) if away <= 3 => problem.why(format!("the nearest is {there}")),
            Some(_) => problem.why("the estate has others under other names"),
            None => problem.why(format!("the estate has no {noun} yet")),
        }
        .try_(looked_up(noun).0))
    }

    /// Records whose columns have these values, by name.
    ///
    /// # Errors
    /// The database cannot be read.
    pub fn find<T: Readable>(&self, filters: &[(&str, Value)]) -> Result<Vec<T>> {
        self.ask(&Query { filters, ..Query::default() })
    }

    /// The records that a query names, in the order of their names; the table and the columns are those of the records.
    ///
    /// # Errors
    /// The database cannot be read.
    pub fn ask<T: Readable>(&self, query: &Query<'_>) -> Result<Vec<T>> {
        let mut found = Vec::new();
        self.each(query, |record| {
            found.push(record);
            Ok(true)
        })?;
        Ok(found)
    }

    /// Shows the records that a query names one by one, for as long as `visit` says yes; none of them is kept.
    ///
    /// # Errors
    /// The database cannot be read, or what `visit` returns.
    pub fn each<T: Readable>(&self, query: &Query<'_>, mut visit: impl FnMut(T) -> Result<bool>) -> Result<()> {
        self.rows
            .each(&Query { table: T::TABLE, columns: T::COLUMNS, counts: T::COUNTS, ..query.clone() }, &mut |view| {
                visit(T::read(view)?)
            })
    }

    /// The names of the records that a query names.
    ///
    /// # Errors
    /// The database cannot be read.
    pub fn names<T: Readable>(&self, query: &Query<'_>) -> Result<Vec<String>> {
        let mut names = Vec::new();
        let query = Query { table: T::TABLE, columns: &["name"], ..query.clone() };
        self.rows.each(&query, &mut |view| {
            if let Cell::Text(name) = view.cell(0)? {
                names.push(name.to_owned());
            }
            Ok(true)
        })?;
        Ok(names)
    }

    /// Addresses of a listener's pool that can be given to devices, at most so many, in the order in which they are to be given, each with
    /// whether there is a record of it; none where the pool is full.
    ///
    /// # Errors
    /// The database cannot be written.
    pub fn free_addresses(&self, listener: &Listener, most: usize) -> Result<Vec<(Ipv4Addr, bool)>> {
        let (from, below) = pool::numbers(&listener.pool);
        let numbers = self.rows.free_addresses(&listener.name, from, below, &self.now.to_string(), most)?;
        Ok(numbers.into_iter().map(|(number, there)| (Ipv4Addr::from(number), there)).collect())
    }

    /// The credential with which somebody could sign in as `account`.
    ///
    /// # Errors
    /// The database cannot be read.
    pub fn account(&self, account: &str) -> Result<Option<Credential>> {
        let mut last = None;
        for name in self.rows.with_account(account)? {
            last = self.get::<Credential>(&name)?.filter(|one| one.revoked.is_none()).or(last);
        }
        Ok(last)
    }

    /// How many records have these values.
    ///
    /// # Errors
    /// The database cannot be read.
    pub fn count<T: Readable>(&self, filters: &[(&str, Value)]) -> Result<usize> {
        self.rows.count(T::TABLE, filters)
    }

    /// All records of a kind, by name.
    ///
    /// # Errors
    /// The database cannot be read.
    pub fn all<T: Readable>(&self) -> Result<Vec<T>> {
        self.find(&[])
    }

    /// Writes a record.
    ///
    /// # Errors
    /// The database cannot be written.
    pub fn put<T: Record>(&self, record: &T) -> Result<()> {
        let before = if records::is_told(T::TABLE) { self.rows.get(T::TABLE, record.key())? } else { None };
        self.write(record, before)
    }

    fn write<T: Record>(&self, record: &T, before: Option<Row>) -> Result<()> {
        let fields = record.to_fields()?;
        if records::is_told(T::TABLE) {
            self.keep(T::TABLE, record.key(), before, Some(&fields));
        }
        self.rows.put(T::TABLE, &records::row(fields))
    }

    /// Keeps what becomes of a record, for [`Book::finish`].
    fn keep(&self, table: &str, name: &str, before: Option<Row>, after: Option<&Fields>) {
        let before = before.map(|row| records::fields(table, row));
        let after = after.map(|fields| match &before {
            None => without_secrets(fields),
            Some(before) => {
                // A column that a record does not name stays as it is.
                let mut all = before.clone();
                all.extend(fields.clone());
                without_secrets(&all)
            }
        });
        let before = before.map(|fields| without_secrets(&fields));
        if before != after {
            let change = Change { table: table.into(), name: name.into(), before, after };
            self.changes.borrow_mut().add(&change);
        }
    }

    /// Writes what was changed beside the rows of the history that say why. What was noted nowhere is news, and not kept.
    pub(crate) fn finish(&self) -> Result<()> {
        let changes = self.changes.take().packed();
        match (self.noted.get(), self.head.take()) {
            (Some(first), Some((last, hash))) => {
                self.rows.set_history_head(last, &hash)?;
                self.rows.keep_changes(first, last, &changes)
            }
            _ => Ok(()),
        }
    }

    /// What happened from the row `number` of the history on, the oldest first; with all of the command that wrote that row.
    ///
    /// # Errors
    /// There is no such row, or the database cannot be read.
    pub fn steps_from(&self, number: u64) -> Result<Vec<Step>> {
        let last = self.history_head()?.map_or(0, |(last, _)| last);
        if number == 0 || number > last {
            return Err(Problem::words(format!("the history has no row {number}"))
                .why(format!("its rows go from 1 to {last}"))
                .try_("yestrel estate history"));
        }
        let kept = self.rows.changes_from(number)?;
        let first = kept.first().map_or(number, |(first, ..)| number.min(*first));
        let rows = self.rows.history(usize::try_from(last - first + 1).unwrap_or(usize::MAX))?;
        let mut steps: Vec<Step> = Vec::new();
        let mut kept = kept.into_iter().peekable();
        for row in rows {
            if let Some((first, _, changes)) = kept.next_if(|(_, until, _)| *until == row.number) {
                // The rows before it of the same command have made a step each, for want of knowing better.
                let with = steps.iter().position(|step| step.rows[0].number >= first).unwrap_or(steps.len());
                let mut rows: Vec<_> = steps.drain(with..).flat_map(|step| step.rows).collect();
                rows.push(row);
                steps.push(Step { rows, changes: Some(changes) });
            } else {
                steps.push(Step { rows: vec![row], changes: None });
            }
        }
        Ok(steps)
    }

    /// What a command did to records, by the last row that it wrote into the history; nothing where that is no last one.
    ///
    /// # Errors
    /// The database cannot be read.
    pub fn changes_at(&self, number: u64) -> Result<Vec<Change>> {
        self.rows.changes_at(number)
    }

    /// A record of any table, field by field.
    ///
    /// # Errors
    /// The database cannot be read.
    pub fn fields(&self, table: &str, name: &str) -> Result<Option<Fields>> {
        let known = records::known(table)?;
        Ok(self.rows.get(known, name)?.map(|row| records::fields(known, row)))
    }

    /// Makes a record of any table what these fields say; `None` removes it.
    ///
    /// # Errors
    /// Something else needs it, or it would not be whole.
    pub fn set_fields(&self, table: &str, name: &str, fields: Option<Fields>) -> Result<()> {
        let known = records::known(table)?;
        let before = self.rows.get(known, name)?;
        self.keep(known, name, before, fields.as_ref());
        match fields {
            Some(fields) => self.rows.put(known, &records::row(fields)),
            None => self.rows.remove(known, name).map(drop),
        }
    }

    /// Writes a record of which whoever calls has seen in this transaction that it is not there.
    ///
    /// # Errors
    /// The database cannot be written, or it is there.
    pub fn put_new<T: Record>(&self, record: &T) -> Result<()> {
        let fields = record.to_fields()?;
        if records::is_told(T::TABLE) {
            self.changes.borrow_mut().add_new(T::TABLE, record.key(), &fields);
        }
        self.rows.add(T::TABLE, &records::row(fields))
    }

    /// Writes a record that must not be there yet.
    ///
    /// # Errors
    /// There is one with this name.
    pub fn add<T: Record>(&self, record: &T) -> Result<()> {
        let name = record.key();
        if self.rows.get(T::TABLE, name)?.is_some() {
            return Err(Problem::refused(format!("there is already a {} {name}", T::NOUN))
                .why("names are unique within an estate")
                .try_(
                    looked_up(T::NOUN).1.replace("NAME", name).replace("USER", name.split('/').next().unwrap_or(name)),
                ));
        }
        self.put_new(record)
    }

    /// Removes a record; whether there was one.
    ///
    /// # Errors
    /// Another record needs it.
    pub fn remove<T: Record>(&self, name: &str) -> Result<bool> {
        if records::is_told(T::TABLE)
            && let Some(before) = self.rows.get(T::TABLE, name)?
        {
            self.keep(T::TABLE, name, Some(before), None);
        }
        self.rows.remove(T::TABLE, name)
    }

    /// From here on records may name others that are not there yet; at the end all must be there.
    ///
    /// # Errors
    /// The database cannot be written.
    pub fn defer_references(&self) -> Result<()> {
        self.rows.defer_references()
    }

    /// Notes a change in the history.
    ///
    /// # Errors
    /// The database cannot be written.
    pub fn note(&self, what: &str, subject: &str, detail: &str) -> Result<()> {
        // From the head and not from the last row that is there: rows cut off the end stay missing for good.
        let (number, before) = self.history_head()?.map_or((1, String::new()), |(number, hash)| (number + 1, hash));
        let row = HistoryRow {
            number,
            at: self.now.to_string(),
            who: self.who.clone(),
            what: what.into(),
            subject: subject.into(),
            detail: detail.into(),
            hash: String::new(),
        };
        self.noted.set(self.noted.get().or(Some(number)));
        let row = row.chained(&before);
        self.rows.append_history(&row, self.what.borrow().as_deref())?;
        if self.what.borrow().as_deref() != Some(what) {
            *self.what.borrow_mut() = Some(what.to_owned());
        }
        *self.head.borrow_mut() = Some((number, row.hash));
        Ok(())
    }

    /// The newest rows of the history, oldest first.
    ///
    /// # Errors
    /// The database cannot be read.
    pub fn history(&self, limit: usize) -> Result<Vec<HistoryRow>> {
        self.rows.history(limit)
    }

    /// Shows the rows of the history one by one, the oldest first, for as long as `visit` says yes. One whose hash only follows from it and the
    /// one before it has none.
    ///
    /// # Errors
    /// The database cannot be read, or what `visit` returns.
    pub fn each_history(&self, mut visit: impl FnMut(HistoryRow) -> Result<bool>) -> Result<()> {
        self.rows.each_history(&mut visit)
    }

    /// Up to which row the estate's key has signed the history; `None` where it has not yet.
    ///
    /// # Errors
    /// The database cannot be read.
    pub fn signed_head(&self) -> Result<Option<SignedHead>> {
        self.rows.signed_head()
    }

    /// Notes up to which row the estate's key has signed.
    ///
    /// # Errors
    /// The database cannot be written.
    pub fn set_signed_head(&self, signed: &SignedHead) -> Result<()> {
        // Beside the row of the history that it is about.
        if let Some((number, hash)) = &*self.head.borrow() {
            self.rows.set_history_head(*number, hash)?;
        }
        self.rows.set_signed_head(signed)
    }

    /// Number and hash of the newest row, as they were noted apart from the history.
    ///
    /// # Errors
    /// The database cannot be read.
    pub fn history_head(&self) -> Result<Option<(u64, String)>> {
        match &*self.head.borrow() {
            Some(head) => Ok(Some(head.clone())),
            None => self.rows.history_head(),
        }
    }
}

/// By which commands the things of a noun are listed, and one of them is shown.
#[must_use]
pub fn looked_up(noun: &str) -> (&'static str, &'static str) {
    match noun {
        "site" => ("yestrel site list", "yestrel site show NAME"),
        "host" => ("yestrel host list", "yestrel host show NAME"),
        "gateway" => ("yestrel gateway list", "yestrel gateway show NAME"),
        "listener" => ("yestrel listener list", "yestrel listener show NAME"),
        "user" => ("yestrel user list", "yestrel user show NAME"),
        "group" => ("yestrel group list", "yestrel group show NAME"),
        "device" => ("yestrel device list", "yestrel device list USER"),
        "credential" => ("yestrel credential list", "yestrel credential show NAME"),
        "authority" => ("yestrel authority list", "yestrel authority show NAME"),
        "registry" => ("yestrel registry list", "yestrel registry list"),
        "policy" => ("yestrel policy list", "yestrel policy show NAME"),
        "session" => ("yestrel session list", "yestrel session list"),
        "shared secret" => {
            ("yestrel credential list --kind shared-secret", "yestrel credential show NAME --kind shared-secret")
        }
        _ => ("yestrel estate show", "yestrel estate show"),
    }
}

/// Edits between two names (Levenshtein), for offering what was probably meant.
fn distance(a: &str, b: &str) -> usize {
    let b: Vec<_> = b.bytes().take(60).collect();
    let mut row: Vec<usize> = (0..=b.len()).collect();
    for (i, x) in a.bytes().enumerate() {
        let mut diagonal = row[0];
        row[0] = i + 1;
        for (j, y) in b.iter().enumerate() {
            let cost = diagonal + usize::from(x != *y);
            diagonal = row[j + 1];
            row[j + 1] = cost.min(row[j] + 1).min(diagonal + 1);
        }
    }
    row[b.len()]
}

#[cfg(test)]
mod tests {
    #[test]
    fn distances() {
        for (a, b, edits) in [("mara", "mara", 0), ("mara", "mra", 1), ("harbour", "harbor", 1), ("a", "xyz", 3)] {
            assert_eq!(super::distance(a, b), edits, "{a} {b}");
        }
    }
}
