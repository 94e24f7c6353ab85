//! Answers as values: cells, and tables of them.

use std::sync::atomic::{AtomicBool, Ordering};

use jiff::Timestamp;
use serde_json::Value;
use yestrel_core::findings::Grade;
use yestrel_core::{lapse, shown};

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

    pub fn json(&self) -> Value {
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

    pub fn is_number(&self) -> bool {
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

    /// Adds a row.
    pub fn row(&mut self, cells: Vec<Cell>) {
        debug_assert_eq!(cells.len(), self.columns.len());
        self.rows.push(cells);
    }
}
