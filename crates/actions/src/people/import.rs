//! Users from a table (CSV, RFC 4180), as spreadsheets and personnel systems write it.

use std::collections::{BTreeMap, BTreeSet};

use csv::{ByteRecord, ReaderBuilder};
use serde::{Deserialize, Serialize};
use yestrel_core::estate::{Device, Group, User};
use yestrel_core::shown::counted;
use yestrel_core::{Problem, Result, name};
use yestrel_store::Book;

use crate::context::Context;

/// Bytes at most of a file.
const LARGEST: usize = 64 * 1024 * 1024;
/// Characters at most in a field.
const LONGEST: usize = 200;
/// Columns that are known; the first is needed.
const COLUMNS: [&str; 6] = ["name", "mail", "about", "groups", "device", "platform"];

/// How a file is taken.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct How {
    /// Import what is good and leave out bad lines.
    pub skip_bad: bool,
    /// Make groups that are not there yet.
    pub make_groups: bool,
    /// Take the names that are proposed where one cannot be used.
    pub take_names: bool,
}

/// A line that can be imported.
#[derive(Debug, Clone)]
pub struct Line {
    /// The line in the file, from 1; the header is the first.
    pub number: u64,
    pub user: User,
    /// The same user as the estate has them, where it does.
    pub before: Option<User>,
    pub device: Option<Device>,
    /// Whether the estate does not have this device yet, or has it otherwise.
    pub device_is_new: bool,
}

impl Line {
    /// What would be another than it is, in words; empty where nothing would.
    #[must_use]
    pub fn changes(&self) -> Vec<String> {
        let mut changes = Vec::new();
        if let Some(before) = &self.before {
            let shown = |text: &Option<String>| text.clone().unwrap_or_else(|| "-".into());
            let mut differ = |what: &str, was: String, is: String| {
                if was != is {
                    changes.push(format!("{what} {was} -> {is}"));
                }
            };
            let groups = |groups: &[String]| if groups.is_empty() { "-".to_owned() } else { groups.join(",") };
            differ("mail", shown(&before.mail), shown(&self.user.mail));
            differ("about", shown(&before.about), shown(&self.user.about));
            differ("groups", groups(&before.groups), groups(&self.user.groups));
            differ("alias", shown(&before.alias), shown(&self.user.alias));
        }
        if let Some(device) = self.device.as_ref().filter(|_| self.device_is_new) {
            changes.push(format!("device {}", device.name));
        }
        changes
    }

    /// What would be done: a verb.
    #[must_use]
    pub fn verb(&self) -> &'static str {
        match (&self.before, self.changes().is_empty()) {
            (None, _) => "add",
            (Some(_), false) => "change",
            (Some(_), true) => "keep",
        }
    }
}

/// A line that cannot be imported.
#[derive(Debug, Clone)]
pub struct Bad {
    pub number: u64,
    /// What is wrong with this line and others like it, after "3 lines": "name a group that is not there".
    pub kind: &'static str,
    pub problem: Problem,
}

/// What is in a file.
#[derive(Debug, Default)]
pub struct Found {
    pub good: Vec<Line>,
    pub bad: Vec<Bad>,
    /// Groups that would be made.
    pub groups: BTreeSet<String>,
}

impl Found {
    /// The lines that cannot be imported, by what is wrong with them: that, how many, and the first of them.
    #[must_use]
    pub fn mistakes(&self) -> Vec<(&'static str, Vec<&Bad>)> {
        let mut kinds: Vec<(&'static str, Vec<&Bad>)> = Vec::new();
        for bad in &self.bad {
            match kinds.iter_mut().find(|(kind, _)| *kind == bad.kind) {
                Some((_, lines)) => lines.push(bad),
                None => kinds.push((bad.kind, vec![bad])),
            }
        }
        kinds
    }
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
pub fn look(context: &mut Context, bytes: &[u8], how: How) -> Result<Found> {
    context.read(|book| check(book, bytes, how))
}

pub(super) fn check(book: &Book<'_>, bytes: &[u8], how: How) -> Result<Found> {
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
    let table = Table {
        columns,
        width: header.len(),
        how,
        groups: book.all::<Group>()?.into_iter().map(|group| group.name).collect(),
    };
    let mut seen: BTreeMap<String, u64> = BTreeMap::new();
    let mut found = Found::default();
    for record in reader.byte_records() {
        let record = match record {
            Ok(record) => record,
            Err(error) => {
                let number = error.position().map_or(0, |position| line_at(bytes, position));
                let problem = Problem::words("the line cannot be read").why(error.to_string());
                found.bad.push(Bad { number, kind: "cannot be read", problem });
                continue;
            }
        };
        let number = record.position().map_or(0, |position| line_at(bytes, position));
        let line = table.read(&record, number, book).and_then(|(line, groups)| {
            let name = &line.user.name;
            if let Some(before) = seen.insert(name.clone(), number) {
                let problem = Problem::words(format!("{name} stands in line {before} already"));
                return Err(("name somebody who stands in another line", problem));
            }
            found.groups.extend(groups);
            Ok(line)
        });
        match line {
            Ok(line) => found.good.push(line),
            Err((kind, problem)) => found.bad.push(Bad { number, kind, problem }),
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

/// What all lines of a file are read by.
struct Table {
    columns: BTreeMap<&'static str, usize>,
    /// Fields in the header.
    width: usize,
    how: How,
    /// The groups that there are.
    groups: BTreeSet<String>,
}

/// What is wrong with a line, and with others like it.
type Wrong = (&'static str, Problem);

impl Table {
    fn field(&self, record: &ByteRecord, column: &str) -> std::result::Result<Option<String>, Wrong> {
        const KIND: &str = "have a field that cannot be taken";
        let Some(bytes) = self.columns.get(column).and_then(|at| record.get(*at)) else { return Ok(None) };
        if bytes.len() > 4 * LONGEST {
            let problem = Problem::words(format!("the field {column} has {} bytes", bytes.len()))
                .why(format!("at most {LONGEST} characters are taken; perhaps a quote is not closed"));
            return Err((KIND, problem));
        }
        let text = std::str::from_utf8(bytes).map_err(|_| {
            let problem = Problem::words(format!("the field {column} is not UTF-8"));
            (KIND, problem.try_("save the file as CSV in UTF-8"))
        })?;
        let text = text.trim();
        if text.chars().count() > LONGEST || text.chars().any(char::is_control) {
            return Err((KIND, Problem::words(format!("the field {column} is too long or more than one line"))));
        }
        Ok(Some(text.to_owned()).filter(|text| !text.is_empty()))
    }

    /// The name of a user, and the one that the file has in its place.
    fn name(&self, written: String) -> std::result::Result<(String, Option<String>), Wrong> {
        let Err(problem) = name::check("user", &written) else { return Ok((written, None)) };
        let near = name::near(&written);
        // A dot between names is how others write them.
        let only_dots = written.replace('.', "-") == near;
        if !near.is_empty() && (only_dots || self.how.take_names) && name::check("user", &near).is_ok() {
            return Ok((near, Some(written)));
        }
        let problem =
            if near.is_empty() { problem } else { problem.try_("--take-names   takes the names that are proposed") };
        Err(("have a name that cannot be used", problem))
    }

    /// A line, and the groups that it names and that are not there.
    fn read(
        &self,
        record: &ByteRecord,
        number: u64,
        book: &Book<'_>,
    ) -> std::result::Result<(Line, Vec<String>), Wrong> {
        let fields = |kind, why: &str| {
            let problem = Problem::words(format!("it has {} fields, and the header {}", record.len(), self.width));
            Err((kind, problem.why(why)))
        };
        if record.len() > self.width {
            return fields("have too many fields", "a field with the separating sign in it stands in quotes");
        }
        if record.len() < self.width {
            return fields("have too few fields", "a field that is empty has its separating sign all the same");
        }
        let of_book = |problem: Problem| ("cannot be compared with the estate", problem);
        let written = self.field(record, "name")?.ok_or_else(|| ("have no name", Problem::words("it has no name")))?;
        let (user, alias) = self.name(written)?;
        let before: Option<User> = book.get(&user).map_err(of_book)?;
        if let Some(alias) = &alias {
            let other = book.find::<User>(&[("alias", alias.as_str().into())]).map_err(of_book)?.pop();
            if let Some(other) = other.filter(|other| other.name != user) {
                let problem = Problem::words(format!("{alias} is the name elsewhere of {} already", other.name));
                return Err(("have a name that is somebody else's", problem));
            }
        }
        let mail = self.field(record, "mail")?.map(|mail| name::mail(&mail)).transpose();
        let mail = mail.map_err(|problem| ("have no mail address where one stands", problem))?;
        let about = self.field(record, "about")?;
        let groups = self.field(record, "groups")?;
        let mut member_of: Vec<String> = groups
            .iter()
            .flat_map(|groups| groups.split([' ', ',', ';', '|']))
            .filter(|group| !group.is_empty())
            .map(str::to_owned)
            .collect();
        member_of.sort();
        member_of.dedup();
        let missing: Vec<_> = member_of.iter().filter(|group| !self.groups.contains(*group)).cloned().collect();
        if let Some(unknown) = missing.first().filter(|_| !self.how.make_groups) {
            let problem =
                Problem::words(format!("there is no group {unknown:?}")).try_(format!("yestrel group add {unknown}"));
            return Err(("name a group that is not there", problem.try_("--make-groups   makes them")));
        }
        for group in &missing {
            name::check("group", group).map_err(|problem| ("name a group that cannot be", problem))?;
        }
        let device = self.field(record, "device")?;
        let platform = self.field(record, "platform")?;
        let device = device.map(|own| -> std::result::Result<Device, Wrong> {
            name::check("device", &own).map_err(|problem| ("have a device that cannot be", problem))?;
            let name = format!("{user}/{own}");
            Ok(Device { name, user: user.clone(), platform: platform.clone(), created: book.now })
        });
        let mut device = device.transpose()?;
        let there: Option<Device> = match &device {
            Some(device) => book.get(&device.name).map_err(of_book)?,
            None => None,
        };
        if let (Some(device), Some(there)) = (&mut device, &there) {
            device.created = there.created;
            device.platform = device.platform.take().or_else(|| there.platform.clone());
        }
        let device_is_new =
            device.as_ref().is_some_and(|device| there.as_ref().is_none_or(|there| there.platform != device.platform));
        // What the file does not say of somebody who is there stays as it is.
        let was = before.clone().unwrap_or_else(|| User::new(&user, book.now));
        let user = User {
            // The first name that they had elsewhere is the one that their accounts are called by.
            alias: was.alias.or(alias),
            mail: mail.or(was.mail),
            about: about.or(was.about),
            groups: if groups.is_some() { member_of } else { was.groups },
            name: was.name,
            state: was.state,
            created: was.created,
        };
        Ok((Line { number, user, before, device, device_is_new }, missing))
    }
}

/// Why nothing of a file is imported.
#[must_use]
pub fn refused(found: &Found) -> Problem {
    let mut problem = Problem::refused(format!(
        "nothing was imported: of {}, {} cannot be used",
        counted(found.bad.len() + found.good.len(), "line"),
        found.bad.len()
    ))
    .why("a file is imported whole or not at all")
    .try_("mend the lines, then the same command again");
    // What helps one line helps all that are like it.
    for (_, lines) in found.mistakes() {
        for what in lines[0].problem.tries.iter().filter(|what| what.starts_with("--")) {
            problem = problem.try_(what);
        }
    }
    problem.try_("--skip-bad   imports the others")
}
