//! Users from a table (CSV, RFC 4180), as spreadsheets and personnel systems write it.

use std::collections::{BTreeMap, BTreeSet};

use csv::{ByteRecord, ReaderBuilder};
use yestrel_core::estate::{Device, Group, User, UserState};
use yestrel_core::{Problem, Result, name};
use yestrel_store::Book;

use crate::context::Context;

/// Bytes at most of a file.
const LARGEST: usize = 64 * 1024 * 1024;
/// Characters at most in a field.
const LONGEST: usize = 200;
/// Columns that are known; the first is needed.
const COLUMNS: [&str; 6] = ["name", "mail", "about", "groups", "device", "platform"];

/// A line that can be imported.
#[derive(Debug, Clone)]
pub struct Line {
    /// The line in the file, from 1; the header is the first.
    pub number: u64,
    pub user: User,
    pub device: Option<Device>,
}

/// What is in a file.
#[derive(Debug, Default)]
pub struct Found {
    pub good: Vec<Line>,
    /// Lines that cannot be imported, and why.
    pub bad: Vec<(u64, Problem)>,
}

/// The sign between fields: whichever the header has most of.
fn separator(header: &[u8]) -> u8 {
    let count = |sign: u8| header.iter().filter(|byte| **byte == sign).count();
    [b',', b';', b'\t'].into_iter().rev().max_by_key(|sign| count(*sign)).unwrap_or(b',')
}

/// Reads a file and checks each line by itself and against the estate; nothing is changed.
///
/// # Errors
/// Not a table with a known header.
pub fn look(context: &mut Context, bytes: &[u8]) -> Result<Found> {
    context.read(|book| check(book, bytes))
}

fn check(book: &Book<'_>, bytes: &[u8]) -> Result<Found> {
    let unusable = |what: &str| Problem::words(format!("this file cannot be imported: {what}"));
    if bytes.len() > LARGEST {
        return Err(unusable("it is larger than 64 MiB").try_("several smaller files"));
    }
    if bytes.starts_with(&[0xff, 0xfe]) || bytes.starts_with(&[0xfe, 0xff]) {
        return Err(unusable("it is UTF-16").try_("save it as CSV in UTF-8"));
    }
    let bytes = bytes.strip_prefix(b"\xef\xbb\xbf").unwrap_or(bytes);
    let first = bytes.split(|byte| *byte == b'\n').next().unwrap_or_default();
    let mut reader = ReaderBuilder::new().delimiter(separator(first)).flexible(true).from_reader(bytes);
    let header = reader.byte_headers().map_err(|error| unusable(&error.to_string()))?.clone();
    let columns = columns(&header)?;
    let groups: BTreeSet<_> = book.all::<Group>()?.into_iter().map(|group| group.name).collect();
    let taken: BTreeSet<_> = book.all::<User>()?.into_iter().map(|user| user.name).collect();
    let mut seen: BTreeMap<String, u64> = BTreeMap::new();
    let mut found = Found::default();
    for record in reader.byte_records() {
        let record = match record {
            Ok(record) => record,
            Err(error) => {
                let line = error.position().map_or(0, |position| line_at(bytes, position));
                found.bad.push((line, Problem::words("the line cannot be read").why(error.to_string())));
                continue;
            }
        };
        let number = record.position().map_or(0, |position| line_at(bytes, position));
        let line = read(&record, header.len(), &columns, number, &groups, book);
        let line = line.and_then(|line| {
            let name = &line.user.name;
            if taken.contains(name) {
                return Err(Problem::words(format!("there is already a user {name}")));
            }
            if let Some(before) = seen.insert(name.clone(), number) {
                return Err(Problem::words(format!("{name} stands in line {before} already")));
            }
            Ok(line)
        });
        match line {
            Ok(line) => found.good.push(line),
            Err(problem) => found.bad.push((number, problem)),
        }
    }
    Ok(found)
}

/// The line on which a record begins. The reader counts it before the line feed of a line that ends in CR and LF.
fn line_at(bytes: &[u8], position: &csv::Position) -> u64 {
    let at = usize::try_from(position.byte()).unwrap_or(usize::MAX);
    let rest = bytes.get(at..).unwrap_or_default();
    let before = rest.iter().take_while(|byte| matches!(byte, b'\r' | b'\n')).filter(|byte| **byte == b'\n').count();
    position.line() + before as u64
}

/// Which column holds what.
fn columns(header: &ByteRecord) -> Result<BTreeMap<&'static str, usize>> {
    let mut columns = BTreeMap::new();
    for (at, field) in header.iter().enumerate() {
        let text = String::from_utf8_lossy(field).trim().to_lowercase();
        let Some(column) = COLUMNS.iter().find(|column| **column == text) else {
            let shown: String = text.chars().take(60).collect();
            return Err(Problem::words(format!("the header names a column {shown:?}"))
                .why(format!("the columns are {}; only name is needed", COLUMNS.join(", ")))
                .try_("name the columns in the first line"));
        };
        if columns.insert(*column, at).is_some() {
            return Err(Problem::words(format!("the header names the column {column} twice")));
        }
    }
    if !columns.contains_key("name") {
        return Err(Problem::words("there is no column name").why("the first line names the columns: name,mail,groups"));
    }
    Ok(columns)
}

fn read(
    record: &ByteRecord,
    width: usize,
    columns: &BTreeMap<&'static str, usize>,
    number: u64,
    groups: &BTreeSet<String>,
    book: &Book<'_>,
) -> Result<Line> {
    if record.len() > width {
        return Err(Problem::words(format!("it has {} fields, and the header {width}", record.len()))
            .why("a field with the separating sign in it stands in quotes"));
    }
    let field = |column: &str| -> Result<Option<String>> {
        let Some(bytes) = columns.get(column).and_then(|at| record.get(*at)) else { return Ok(None) };
        if bytes.len() > 4 * LONGEST {
            return Err(Problem::words(format!("the field {column} has {} bytes", bytes.len()))
                .why(format!("at most {LONGEST} characters are taken; perhaps a quote is not closed")));
        }
        let text = std::str::from_utf8(bytes)
            .map_err(|_| {
                Problem::words(format!("the field {column} is not UTF-8")).try_("save the file as CSV in UTF-8")
            })?
            .trim();
        if text.chars().count() > LONGEST || text.chars().any(char::is_control) {
            return Err(Problem::words(format!("the field {column} is too long or more than one line")));
        }
        Ok(Some(text.to_owned()).filter(|text| !text.is_empty()))
    };
    let user = field("name")?.ok_or_else(|| Problem::words("it has no name"))?;
    name::check("user", &user)?;
    let mail = field("mail")?.map(|mail| name::mail(&mail)).transpose()?;
    let mut member_of: Vec<String> = field("groups")?
        .unwrap_or_default()
        .split([' ', ',', ';', '|'])
        .filter(|group| !group.is_empty())
        .map(str::to_owned)
        .collect();
    member_of.sort();
    member_of.dedup();
    if let Some(unknown) = member_of.iter().find(|group| !groups.contains(*group)) {
        return Err(
            Problem::words(format!("there is no group {unknown:?}")).try_(format!("yestrel group add {unknown}"))
        );
    }
    let device = field("device")?;
    if let Some(device) = &device {
        name::check("device", device)?;
    }
    let device = device.map(|device| -> Result<Device> {
        Ok(Device {
            name: format!("{user}/{device}"),
            user: user.clone(),
            platform: field("platform")?,
            created: book.now,
        })
    });
    let device = device.transpose()?;
    let user = User {
        name: user,
        mail,
        about: field("about")?,
        state: UserState::Active,
        groups: member_of,
        created: book.now,
    };
    Ok(Line { number, user, device })
}

/// Imports what is good in a file; all of it or, when a line is bad and `skip_bad` does not say otherwise, nothing.
///
/// # Errors
/// A bad line, or as [`look`].
pub fn import(
    context: &mut Context,
    bytes: &[u8],
    skip_bad: bool,
    step: &mut dyn FnMut(usize, usize),
) -> Result<Found> {
    context.write(|book| {
        let found = check(book, bytes)?;
        if !found.bad.is_empty() && !skip_bad {
            return Err(refused(&found));
        }
        let count = found.good.len();
        for (at, line) in found.good.iter().enumerate() {
            book.add(&line.user)?;
            book.note("user add", &line.user.name, &line.user.groups.join(","))?;
            if let Some(device) = &line.device {
                book.add(device)?;
                book.note("device add", &device.name, device.platform.as_deref().unwrap_or_default())?;
            }
            step(at + 1, count);
        }
        Ok(found)
    })
}

/// Why nothing of a file is imported.
#[must_use]
pub fn refused(found: &Found) -> Problem {
    Problem::refused(format!(
        "nothing was imported: {} of {} lines are bad",
        found.bad.len(),
        found.bad.len() + found.good.len()
    ))
    .why("a file is imported whole or not at all")
    .try_("mend the lines, then the same command again")
    .try_("--skip-bad   imports the others")
}
