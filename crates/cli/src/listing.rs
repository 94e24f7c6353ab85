//! What every list takes: a text to find, an order, how many, and whether all columns are shown.

use clap::Args;
use jiff::Timestamp;
use yestrel_core::{Problem, Result, lapse};

use crate::cells::{Cell, Table};

#[derive(Args, Debug, Default, Clone)]
pub struct Listing {
    /// Only lines with this text in some column, whatever its case
    #[arg(long, value_name = "TEXT")]
    pub find: Option<String>,
    /// In the order of this column; with - before it, the other way round
    #[arg(long, value_name = "COLUMN", allow_hyphen_values = true)]
    pub sort: Option<String>,
    /// Only the last so many lines
    #[arg(long, value_name = "NUMBER")]
    pub last: Option<usize>,
    /// All columns, also where the terminal is too narrow for them
    #[arg(long)]
    pub wide: bool,
}

/// By what cells of a column are put in order: what is missing first, numbers and moments by their size, all else as text.
#[derive(PartialEq, Eq, PartialOrd, Ord)]
enum Place {
    Missing,
    Number(u64),
    Moment(Timestamp),
    Text(String),
}

fn place(cell: &Cell) -> Place {
    match cell {
        Cell::Missing => Place::Missing,
        Cell::Number(number) | Cell::Bytes(number) => Place::Number(*number),
        Cell::Time(at) | Cell::Ago(at, _) => Place::Moment(*at),
        other => Place::Text(other.text().to_lowercase()),
    }
}

impl Listing {
    /// Whether every row must be there before the first can be written.
    pub fn is_whole(&self) -> bool {
        self.sort.is_some() || self.last.is_some()
    }

    /// Whether a row is none of those that are looked for.
    pub fn leaves_out(&self, row: &[Cell]) -> bool {
        let has = |find: String| row.iter().any(|cell| cell.text().to_lowercase().contains(&find));
        self.find.as_ref().is_some_and(|find| !has(find.to_lowercase()))
    }

    /// Leaves of a table what was asked for, in the order that was asked for.
    ///
    /// # Errors
    /// There is no such column.
    pub fn apply(&self, table: &mut Table) -> Result<()> {
        if let Some(find) = &self.find {
            table.rows.retain(|row| !self.leaves_out(row));
            let find = find.to_lowercase();
            table.empty = format!("no line has {find:?} in it");
        }
        if let Some(sort) = &self.sort {
            let (name, back) = sort.strip_prefix('-').map_or((sort.as_str(), false), |name| (name, true));
            let wanted = name.replace(['_', '-'], " ");
            let at = table.columns.iter().position(|column| column.replace('-', " ") == wanted).ok_or_else(|| {
                Problem::words(format!("there is no column {name} here"))
                    .why(format!("the columns are {}", table.columns.join(", ")))
                    .try_(format!("--sort {}", table.columns.first().copied().unwrap_or_default().replace(' ', "-")))
            })?;
            table.rows.sort_by_cached_key(|row| place(&row[at]));
            if back {
                table.rows.reverse();
            }
        }
        if let Some(last) = self.last {
            let skip = table.rows.len().saturating_sub(last);
            table.rows.drain(..skip);
        }
        table.wide = self.wide;
        Ok(())
    }
}

/// Whether a device, `mara/laptop`, or something of it is a user's.
pub fn is_of(device: &str, user: &str) -> bool {
    device.split('/').next() == Some(user)
}

/// A moment in the past: a date, a moment, or how long ago.
pub fn since(text: &str) -> std::result::Result<Timestamp, String> {
    if let Some(span) = lapse::parse(text) {
        return Timestamp::now().checked_sub(span).map_err(|error| error.to_string());
    }
    crate::words::moment(text)
        .map_err(|_| "a date (2027-03-01), a moment (2027-03-01T08:00:00Z), or how long ago (2h, 30d)".into())
}

#[cfg(test)]
mod tests {
    use super::*;

    fn table() -> Table {
        let mut table = Table::new(&["name", "devices", "last used"], "none");
        for (name, devices, used) in [("tomas", 2, None), ("Mara", 10, Some("2027-03-02T08:15:00Z")), ("ines", 1, None)]
        {
            let used = used.map(|at: &str| at.parse::<Timestamp>().unwrap());
            table.row(vec![name.into(), Cell::Number(devices), used.into()]);
        }
        table
    }

    fn names(listing: &Listing) -> Vec<String> {
        let mut table = table();
        listing.apply(&mut table).unwrap();
        table.rows.iter().map(|row| row[0].text()).collect()
    }

    #[test]
    fn lines_are_found_ordered_and_cut() {
        let sorted = |by: &str| Listing { sort: Some(by.into()), ..Listing::default() };
        assert_eq!(names(&Listing::default()), ["tomas", "Mara", "ines"]);
        assert_eq!(names(&sorted("name")), ["ines", "Mara", "tomas"]);
        assert_eq!(names(&sorted("devices")), ["ines", "tomas", "Mara"], "by size, not by letters");
        assert_eq!(names(&sorted("-devices")), ["Mara", "tomas", "ines"]);
        assert_eq!(names(&sorted("last-used"))[2], "Mara", "what is missing comes first");
        assert_eq!(names(&Listing { last: Some(1), ..sorted("name") }), ["tomas"]);
        assert_eq!(names(&Listing { last: Some(9), ..sorted("name") }).len(), 3);
        assert_eq!(names(&Listing { find: Some("MA".into()), ..Listing::default() }), ["tomas", "Mara"]);
        let problem = sorted("size").apply(&mut table()).unwrap_err();
        assert!(problem.why.is_some_and(|why| why.contains("name, devices, last used")));
    }
}
