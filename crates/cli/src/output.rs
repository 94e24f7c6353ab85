//! Answers on standard output: tables and records, as text, JSON or CSV.

use std::io::{self, IsTerminal as _, Write as _};
use std::sync::atomic::{AtomicBool, Ordering};

use yestrel_core::findings::Finding;
use yestrel_core::shown;

pub use crate::cells::{Cell, Table, bytes_in_words, list, write_utc};
use crate::formats::{Csv, Format, Json, Text, gap};

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

    pub fn format(self) -> Box<dyn Format> {
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
    use jiff::Timestamp;
    use serde_json::Value;

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
