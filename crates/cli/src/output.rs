//! Answers on standard output: tables and records, as text, JSON or CSV.

use std::io::{self, IsTerminal as _, Write as _};
use std::sync::atomic::{AtomicBool, Ordering};

use jiff::Timestamp;
use serde_json::{Map, Value};
use yestrel_core::findings::{Finding, Grade};
use yestrel_core::{lapse, shown};

/// How answers are written.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, clap::ValueEnum)]
pub enum FormatName {
    /// For people.
    #[default]
    Text,
    /// For programs: a list is an array of objects, a record an object.
    Json,
    /// For spreadsheets (RFC 4180).
    Csv,
}

/// When to use colour.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, clap::ValueEnum)]
pub enum Color {
    #[default]
    Auto,
    Always,
    Never,
}

/// One value of an answer.
#[derive(Debug, Clone)]
pub enum Cell {
    Text(String),
    Number(u64),
    Bytes(u64),
    Time(Timestamp),
    /// A moment that people want to know from now (the second): "in 89 days".
    Ago(Timestamp, Timestamp),
    List(Vec<String>),
    Flag(bool),
    /// A state, as a word, with how good it is.
    State(Grade, String),
    Missing,
}

impl Cell {
    /// A moment, seen from now.
    pub fn ago(at: Option<Timestamp>, now: Timestamp) -> Self {
        at.map_or(Self::Missing, |at| Self::Ago(at, now))
    }

    fn json(&self) -> Value {
        match self {
            Self::Text(text) | Self::State(_, text) => Value::from(text.as_str()),
            Self::Number(number) | Self::Bytes(number) => Value::from(*number),
            Self::Time(at) | Self::Ago(at, _) => Value::from(at.to_string()),
            Self::List(items) => Value::from(items.clone()),
            Self::Flag(flag) => Value::from(*flag),
            Self::Missing => Value::Null,
        }
    }

    pub fn text(&self) -> String {
        match self {
            Self::Text(text) | Self::State(_, text) if text.is_empty() => "-".into(),
            // What came from outside must not steer the terminal.
            Self::Text(text) | Self::State(_, text) => shown::line(text),
            Self::Number(number) => number.to_string(),
            Self::Bytes(bytes) => bytes_in_words(*bytes),
            Self::Ago(at, now) if !UTC.load(Ordering::Relaxed) => lapse::from_now(*at, *now),
            Self::Time(at) | Self::Ago(at, _) => here(*at),
            Self::List(items) if items.is_empty() => "-".into(),
            Self::List(items) => shown::line(&items.join(",")),
            Self::Flag(flag) => if *flag { "yes" } else { "no" }.into(),
            Self::Missing => "-".into(),
        }
    }

    fn is_number(&self) -> bool {
        matches!(self, Self::Number(_) | Self::Bytes(_))
    }
}

/// Whether moments are written whole and in UTC, also for people.
static UTC: AtomicBool = AtomicBool::new(false);

/// From now on moments are written whole and in UTC.
pub fn write_utc() {
    UTC.store(true, Ordering::Relaxed);
}

/// A moment in the machine's time zone, with its distance from UTC (RFC 3339).
fn here(at: Timestamp) -> String {
    let zone = jiff::tz::TimeZone::system();
    let offset = zone.to_offset(at);
    if UTC.load(Ordering::Relaxed) || offset == jiff::tz::Offset::UTC {
        return yestrel_core::moment(at);
    }
    at.to_zoned(zone).strftime("%Y-%m-%dT%H:%M:%S%:z").to_string()
}

impl<T: Into<Cell>> From<Option<T>> for Cell {
    fn from(value: Option<T>) -> Self {
        value.map_or(Self::Missing, Into::into)
    }
}

macro_rules! cell_from {
    ($($type:ty => $make:expr),+ $(,)?) => {
        $(impl From<$type> for Cell {
            fn from(value: $type) -> Self {
                ($make)(value)
            }
        })+
    };
}
cell_from! {
    String => Cell::Text,
    &str => |text: &str| Cell::Text(text.to_owned()),
    &String => |text: &String| Cell::Text(text.clone()),
    u64 => Cell::Number,
    u32 => |number: u32| Cell::Number(u64::from(number)),
    u16 => |number: u16| Cell::Number(u64::from(number)),
    usize => |number: usize| Cell::Number(number as u64),
    bool => Cell::Flag,
    Timestamp => Cell::Time,
    Vec<String> => Cell::List,
}

/// Anything that prints itself, as a list.
pub fn list<T: std::fmt::Display>(items: &[T]) -> Cell {
    Cell::List(items.iter().map(ToString::to_string).collect())
}

/// Bytes with a unit of 1000.
pub fn bytes_in_words(bytes: u64) -> String {
    let units = ["B", "kB", "MB", "GB", "TB"];
    let mut value = bytes as f64;
    let mut unit = 0;
    while value >= 1000.0 && unit < units.len() - 1 {
        value /= 1000.0;
        unit += 1;
    }
    if unit == 0 { format!("{bytes} B") } else { format!("{value:.1} {}", units[unit]) }
}

/// How and where answers go.
#[derive(Debug, Clone, Copy)]
pub struct Output {
    pub format: FormatName,
    pub color: bool,
    pub quiet: bool,
    /// Whether the answer goes to a terminal.
    pub terminal: bool,
    /// Columns of the terminal, where it says.
    pub width: Option<usize>,
}

/// One answer in one format.
trait Format {
    fn table(&self, table: &Table) -> String;
    fn record(&self, record: &[(&'static str, Cell)]) -> String;
}

/// A list of things of one kind.
#[derive(Clone)]
pub struct Table {
    pub columns: Vec<&'static str>,
    pub rows: Vec<Vec<Cell>>,
    /// What to say when there are no rows: what would fill the list, and the command for that.
    pub empty: String,
    /// Columns that are left out first where the terminal is too narrow, the least first.
    pub least: &'static [&'static str],
    /// No column is left out.
    pub wide: bool,
}

impl Table {
    /// A table without rows.
    pub fn new(columns: &[&'static str], empty: impl Into<String>) -> Self {
        Self { columns: columns.to_vec(), rows: Vec::new(), empty: empty.into(), least: &[], wide: false }
    }

    /// These columns are left out first where the terminal is too narrow, the least first.
    pub fn least(mut self, least: &'static [&'static str]) -> Self {
        self.least = least;
        self
    }

    /// The same without a column.
    fn without(&self, column: &str) -> Self {
        let Some(at) = self.columns.iter().position(|one| *one == column) else { return self.clone() };
        let mut table = self.clone();
        table.columns.remove(at);
        table.rows.iter_mut().for_each(|row| drop(row.remove(at)));
        table
    }

    /// Adds a row.
    pub fn row(&mut self, cells: Vec<Cell>) {
        debug_assert_eq!(cells.len(), self.columns.len());
        self.rows.push(cells);
    }
}

struct Text {
    color: bool,
    width: Option<usize>,
}
struct Json;
struct Csv;

impl Text {
    fn paint(&self, code: &str, text: &str) -> String {
        if self.color { format!("\x1b[{code}m{text}\x1b[0m") } else { text.to_owned() }
    }

    fn state(&self, cell: &Cell, text: &str) -> String {
        match cell {
            Cell::State(Grade::Good, _) => self.paint("32", text),
            Cell::State(Grade::Poor, _) => self.paint("33", text),
            Cell::State(Grade::Bad, _) => self.paint("31", text),
            _ => text.to_owned(),
        }
    }
}

/// Spaces that bring `text` to `width` columns.
fn gap(text: &str, width: usize) -> String {
    " ".repeat(width.saturating_sub(text.chars().count()))
}

/// Words in lines of at most `width` columns, where they let themselves be cut like that.
fn wrapped(text: &str, width: usize) -> String {
    let mut lines: Vec<String> = Vec::new();
    for word in text.split(' ') {
        match lines.last_mut() {
            Some(line) if line.chars().count() + 1 + word.chars().count() <= width => {
                line.push(' ');
                line.push_str(word);
            }
            _ => lines.push(word.to_owned()),
        }
    }
    lines.join("\n")
}

impl Format for Text {
    fn table(&self, table: &Table) -> String {
        if table.rows.is_empty() {
            return format!("{}\n", table.empty);
        }
        let texts: Vec<Vec<String>> = table.rows.iter().map(|row| row.iter().map(Cell::text).collect()).collect();
        let width_of = |at: usize| {
            let widest = texts.iter().map(|row| row[at].chars().count()).max().unwrap_or(0);
            widest.max(table.columns[at].chars().count())
        };
        let widths: Vec<_> = (0..table.columns.len()).map(width_of).collect();
        let whole: usize = widths.iter().sum::<usize>() + 2 * (widths.len() - 1);
        let too_wide = |whole: usize| !table.wide && self.width.is_some_and(|width| whole > width);
        if too_wide(whole) {
            let mut fewer = whole;
            for (count, column) in table.least.iter().enumerate() {
                let Some(at) = table.columns.iter().position(|one| one == column) else { continue };
                fewer -= widths[at] + 2;
                if !too_wide(fewer) {
                    let out = &table.least[..=count];
                    let narrow = out.iter().fold(table.clone(), |table, column| table.without(column));
                    let said = format!("left out: {}; --wide shows them", out.join(", "));
                    return format!("{}{}\n", self.table(&narrow), wrapped(&said, self.width.unwrap_or(80)));
                }
            }
            // Too narrow for a table: one thing after another, nothing cut off.
            let blocks = table.rows.iter().map(|row| {
                let record: Vec<_> = table.columns.iter().copied().zip(row.iter().cloned()).collect();
                self.record(&record)
            });
            return blocks.collect::<Vec<_>>().join("\n");
        }
        let numeric: Vec<_> = (0..widths.len()).map(|at| table.rows.iter().any(|row| row[at].is_number())).collect();
        let mut out = String::new();
        let header = table.columns.iter().enumerate().map(|(at, column)| {
            let bold = self.paint("1", column);
            let space = gap(column, widths[at]);
            if numeric[at] { format!("{space}{bold}") } else { format!("{bold}{space}") }
        });
        out.push_str(header.collect::<Vec<_>>().join("  ").trim_end());
        out.push('\n');
        for (row, texts) in table.rows.iter().zip(&texts) {
            let cells = row.iter().zip(texts).enumerate().map(|(at, (cell, text))| {
                let (painted, space) = (self.state(cell, text), gap(text, widths[at]));
                if numeric[at] { format!("{space}{painted}") } else { format!("{painted}{space}") }
            });
            out.push_str(cells.collect::<Vec<_>>().join("  ").trim_end());
            out.push('\n');
        }
        out
    }

    fn record(&self, record: &[(&'static str, Cell)]) -> String {
        let widest = record.iter().map(|(name, _)| name.chars().count()).max().unwrap_or(0);
        let line = |(name, cell): &(&'static str, Cell)| {
            let text = match cell {
                // A long list is easier to read one below another.
                Cell::List(items) if cell.text().chars().count() > 60 => {
                    let items: Vec<_> = items.iter().map(|item| shown::line(item)).collect();
                    items.join(&format!("\n{}", " ".repeat(widest + 2)))
                }
                _ => cell.text(),
            };
            format!("{}{}  {}\n", self.paint("1", name), gap(name, widest), self.state(cell, &text))
        };
        record.iter().map(line).collect()
    }
}

/// A column's name as a key: words joined by underscores.
fn key(column: &str) -> String {
    column.replace([' ', '-'], "_")
}

impl Format for Json {
    fn table(&self, table: &Table) -> String {
        let object = |row: &Vec<Cell>| {
            let fields = table.columns.iter().zip(row).map(|(column, cell)| (key(column), cell.json()));
            Value::Object(fields.collect::<Map<_, _>>())
        };
        let rows: Vec<_> = table.rows.iter().map(object).collect();
        serde_json::to_string_pretty(&rows).unwrap_or_default() + "\n"
    }

    fn record(&self, record: &[(&'static str, Cell)]) -> String {
        let fields: Map<_, _> = record.iter().map(|(name, cell)| (key(name), cell.json())).collect();
        serde_json::to_string_pretty(&fields).unwrap_or_default() + "\n"
    }
}

/// A cell that a spreadsheet would take for a formula becomes text.
fn inert(text: String) -> String {
    let first = text.trim_start().chars().next();
    let sums = matches!(first, Some('=' | '+' | '@')) || first == Some('-') && text.trim() != "-";
    if sums && text.parse::<f64>().is_err() { format!("'{text}") } else { text }
}

impl Format for Csv {
    fn table(&self, table: &Table) -> String {
        let mut writer = csv::Writer::from_writer(Vec::new());
        let plain = |cell: &Cell| match cell {
            Cell::Missing => String::new(),
            Cell::Bytes(bytes) => bytes.to_string(),
            Cell::Time(at) | Cell::Ago(at, _) => at.to_string(),
            Cell::List(items) => inert(shown::line(&items.join(" "))),
            other if other.is_number() => other.text(),
            other => inert(other.text()),
        };
        let _ = writer.write_record(table.columns.iter().map(|column| key(column)));
        for row in &table.rows {
            let _ = writer.write_record(row.iter().map(plain));
        }
        String::from_utf8(writer.into_inner().unwrap_or_default()).unwrap_or_default()
    }

    fn record(&self, record: &[(&'static str, Cell)]) -> String {
        let (columns, row) = record.iter().cloned().unzip();
        self.table(&Table { columns, rows: vec![row], empty: String::new(), least: &[], wide: true })
    }
}

/// Standard output takes nothing any more.
static UNREAD: AtomicBool = AtomicBool::new(false);

/// A line on standard error. Where nobody reads that, there is nobody to tell.
macro_rules! tell {
    ($($said:tt)*) => {{
        use std::io::Write as _;
        let _ = writeln!(std::io::stderr(), $($said)*);
    }};
}

/// The same without an end of line.
macro_rules! tell_on {
    ($($said:tt)*) => {{
        use std::io::Write as _;
        let _ = write!(std::io::stderr(), $($said)*);
        let _ = std::io::stderr().flush();
    }};
}

pub(crate) use {tell, tell_on};

impl Output {
    /// Decides from what the person said and where standard output goes.
    pub fn new(format: FormatName, color: Color, quiet: bool) -> Self {
        let terminal = io::stdout().is_terminal();
        let no_color = std::env::var_os("NO_COLOR").is_some_and(|value| !value.is_empty());
        let color = match color {
            Color::Always => true,
            Color::Never => false,
            Color::Auto => terminal && !no_color,
        };
        let width = if terminal { terminal_size::terminal_size().map(|(width, _)| usize::from(width.0)) } else { None };
        Self { format, color, quiet, terminal, width }
    }

    fn format(self) -> Box<dyn Format> {
        match self.format {
            FormatName::Text => Box::new(Text { color: self.color, width: self.width }),
            FormatName::Json => Box::new(Json),
            FormatName::Csv => Box::new(Csv),
        }
    }

    /// Writes a list.
    pub fn table(self, table: &Table) {
        self.write(&self.format().table(table));
    }

    /// A list as people see it.
    pub fn table_text(self, table: &Table) -> String {
        Text { color: self.color, width: self.width }.table(table)
    }

    /// Writes one thing in full.
    pub fn record(self, record: &[(&'static str, Cell)]) {
        self.write(&self.format().record(record));
    }

    /// A sentence about what was done: on standard output for people, on standard error beside data.
    pub fn say(self, text: &str) {
        if self.quiet {
            return;
        }
        self.write_always(text);
    }

    /// What a command made or did, for programs: in JSON and CSV it is the answer, and sentences stand beside it on standard error; for people
    /// the sentences are the answer.
    pub fn did(self, record: &[(&'static str, Cell)]) {
        if self.format != FormatName::Text {
            self.record(record);
        }
    }

    /// Whether the answer is for a program.
    pub fn is_for_programs(self) -> bool {
        self.format != FormatName::Text
    }

    /// What must be read whatever was asked for: on standard output for people, on standard error beside data.
    pub fn write_always(self, text: &str) {
        let text = shown::lines(text);
        if self.format == FormatName::Text { self.write(&format!("{text}\n")) } else { tell!("{text}") }
    }

    /// Something that they should know and that is no error.
    pub fn note(self, text: &str) {
        if !self.quiet {
            tell!("note: {}", shown::lines(text));
        }
    }

    /// Findings under a heading, in the form of a checkup.
    pub fn findings(self, heading: &str, findings: &[Finding]) {
        if self.format != FormatName::Text {
            let mut table = Table::new(&["grade", "subject", "words", "try"], "");
            for finding in findings {
                let grade = Cell::State(finding.grade, finding.grade.word().into());
                table.row(vec![grade, (&finding.subject).into(), (&finding.words).into(), finding.try_.clone().into()]);
            }
            self.table(&table);
            return;
        }
        self.write(&self.findings_text(heading, findings));
    }

    /// Findings under a heading, as people see them.
    pub fn findings_text(self, heading: &str, findings: &[Finding]) -> String {
        let text = Text { color: self.color, width: self.width };
        let widest = findings.iter().map(|finding| finding.subject.chars().count()).max().unwrap_or(0);
        let mut out = format!("{heading}\n");
        for finding in findings {
            let grade = Cell::State(finding.grade, finding.grade.word().into());
            let word = finding.grade.word();
            let (painted, space) = (text.state(&grade, word), gap(word, 4));
            let (subject, words) = (shown::line(&finding.subject), shown::line(&finding.words));
            out.push_str(&format!("  {painted}{space}  {subject}{}  {words}\n", gap(&subject, widest)));
            if let Some(what) = &finding.try_ {
                out.push_str(&format!("        try: {}\n", shown::line(what)));
            }
        }
        out
    }

    /// Whether somebody may still read standard output.
    pub fn is_read(self) -> bool {
        !UNREAD.load(Ordering::Relaxed)
    }

    /// Writes to standard output. A reader that went away (`| head`) is no error: there is nobody left to tell, and whatever else is
    /// to be done is done all the same.
    pub fn write(self, text: &str) {
        self.write_bytes(text.as_bytes());
    }

    /// As [`Output::write`], of anything.
    pub fn write_bytes(self, bytes: &[u8]) {
        if !self.is_read() {
            return;
        }
        let mut stdout = io::stdout().lock();
        if stdout.write_all(bytes).and_then(|()| stdout.flush()).is_err() {
            UNREAD.store(true, Ordering::Relaxed);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn sample() -> Table {
        let mut table = Table::new(&["name", "devices", "last used"], "none; yestrel user add");
        table.row(vec!["mara".into(), 2_u64.into(), Cell::Missing]);
        table.row(vec!["tomas".into(), 11_u64.into(), "a \"b\",\x1b[2J c".into()]);
        table
    }

    #[test]
    fn text_aligns_numbers_right_and_lets_nothing_steer_the_terminal() {
        let text = Text { color: false, width: None }.table(&sample());
        assert_eq!(text, "name   devices  last used\nmara         2  -\ntomas       11  a \"b\", [2J c\n");
    }

    #[test]
    fn a_narrow_terminal_gets_records_and_loses_nothing() {
        let text = Text { color: false, width: Some(20) }.table(&sample());
        assert!(text.contains("name       mara\ndevices    2\nlast used  -\n\nname       tomas"), "{text}");
    }

    #[test]
    fn the_least_columns_go_first_and_it_is_said() {
        let table = sample().least(&["last used", "devices"]);
        let at = |width| Text { color: false, width: Some(width) }.table(&table);
        assert_eq!(at(20), "name   devices\nmara         2\ntomas       11\nleft out: last used;\n--wide shows them\n");
        assert_eq!(at(10), "name\nmara\ntomas\nleft out:\nlast used,\ndevices;\n--wide\nshows them\n");
        assert!(at(4).starts_with("name       mara\n"), "records, and nothing lost");
        let wide = Table { wide: true, ..table.clone() };
        assert!(Text { color: false, width: Some(10) }.table(&wide).contains("last used"));
    }

    #[test]
    fn moments_are_seen_from_now_by_people_and_whole_by_programs() {
        let now: Timestamp = "2027-03-02T08:15:00Z".parse().unwrap();
        let cell = Cell::ago(Some(now + jiff::SignedDuration::from_hours(24 * 89)), now);
        assert_eq!(cell.text(), "in 89 days");
        assert_eq!(cell.json(), "2027-05-30T08:15:00Z");
        let mut table = Table::new(&["ends"], "");
        table.row(vec![cell]);
        assert_eq!(Csv.table(&table), "ends\n2027-05-30T08:15:00Z\n");
    }

    #[test]
    fn json_and_csv_carry_the_same_values() {
        let json: Value = serde_json::from_str(&Json.table(&sample())).unwrap();
        assert_eq!(json[1]["devices"], 11);
        assert_eq!(json[0]["last_used"], Value::Null);
        assert!(Csv.table(&sample()).starts_with("name,devices,last_used\nmara,2,\ntomas,11,\"a \"\"b\"\","));
        let empty = Table::new(&["name"], "none");
        assert_eq!(Json.table(&empty), "[]\n");
        assert_eq!(Text { color: false, width: None }.table(&empty), "none\n");
    }

    #[test]
    fn a_spreadsheet_finds_nothing_to_carry_out() {
        let mut table = Table::new(&["name", "count"], "");
        for name in ["=1+1", "+47 22", "@sum", "-2+3", " =x", "-", "-7", "mara"] {
            table.row(vec![name.into(), 7_u64.into()]);
        }
        let csv = Csv.table(&table);
        assert_eq!(csv, "name,count\n'=1+1,7\n'+47 22,7\n'@sum,7\n'-2+3,7\n' =x,7\n-,7\n-7,7\nmara,7\n");
    }

    #[test]
    fn bytes() {
        for (bytes, words) in [(0, "0 B"), (999, "999 B"), (1500, "1.5 kB"), (2_000_000, "2.0 MB")] {
            assert_eq!(bytes_in_words(bytes), words);
        }
    }
}
