//! How answers are written: for people, as JSON, as CSV; whole, or row by row.

use serde_json::Map;
use yestrel_core::findings::Grade;
use yestrel_core::shown;

use crate::cells::{Cell, Table};

/// How the rows of a list stand, decided by the first of them.
#[derive(Debug, Clone, Default)]
pub struct Shape {
    columns: Vec<&'static str>,
    /// Columns that are shown, by their place.
    kept: Vec<usize>,
    widths: Vec<usize>,
    numeric: Vec<bool>,
    left_out: Vec<&'static str>,
    /// Each row as a record.
    one_by_one: bool,
}

/// One answer in one format.
pub trait Format {
    /// How the rows of a list are to stand.
    fn shape(&self, table: &Table) -> Shape {
        Shape { columns: table.columns.clone(), ..Shape::default() }
    }

    /// What stands before the rows.
    fn begin(&self, shape: &Shape) -> String;

    fn row(&self, shape: &Shape, row: &[Cell], first: bool) -> String;

    /// What stands after the rows.
    fn end(&self, _: &Shape) -> String {
        String::new()
    }

    /// A list without rows.
    fn nothing(&self, table: &Table) -> String;

    /// A whole list.
    fn table(&self, table: &Table) -> String {
        if table.rows.is_empty() {
            return self.nothing(table);
        }
        let shape = self.shape(table);
        let mut out = self.begin(&shape);
        for (at, row) in table.rows.iter().enumerate() {
            out.push_str(&self.row(&shape, row, at == 0));
        }
        out + &self.end(&shape)
    }

    fn record(&self, record: &[(&'static str, Cell)]) -> String;
}

pub struct Text {
    pub color: bool,
    pub width: Option<usize>,
}
pub struct Json;
pub struct Csv;

impl Text {
    fn paint(&self, code: &str, text: &str) -> String {
        if self.color { format!("\x1b[{code}m{text}\x1b[0m") } else { text.to_owned() }
    }

    pub fn state(&self, cell: &Cell, text: &str) -> String {
        match cell {
            Cell::State(Grade::Good, _) => self.paint("32", text),
            Cell::State(Grade::Poor, _) => self.paint("33", text),
            Cell::State(Grade::Bad, _) => self.paint("31", text),
            _ => text.to_owned(),
        }
    }
}

/// Spaces that bring `text` to `width` columns.
pub fn gap(text: &str, width: usize) -> String {
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
    fn shape(&self, table: &Table) -> Shape {
        let texts: Vec<Vec<String>> = table.rows.iter().map(|row| row.iter().map(Cell::text).collect()).collect();
        let width_of = |at: usize| {
            let widest = texts.iter().map(|row| row[at].chars().count()).max().unwrap_or(0);
            widest.max(table.columns[at].chars().count())
        };
        let widths: Vec<_> = (0..table.columns.len()).map(width_of).collect();
        let numeric = (0..widths.len()).map(|at| table.rows.iter().any(|row| row[at].is_number())).collect();
        let mut whole: usize = widths.iter().sum::<usize>() + 2 * widths.len().saturating_sub(1);
        let mut shape = Shape {
            columns: table.columns.clone(),
            kept: (0..widths.len()).collect(),
            widths,
            numeric,
            ..Shape::default()
        };
        let too_wide = |whole: usize| !table.wide && self.width.is_some_and(|width| whole > width);
        if !too_wide(whole) {
            return shape;
        }
        let all = shape.kept.clone();
        for column in table.least {
            let Some(at) = table.columns.iter().position(|one| one == column) else { continue };
            whole -= shape.widths[at] + 2;
            shape.kept.retain(|kept| *kept != at);
            shape.left_out.push(column);
            if !too_wide(whole) {
                return shape;
            }
        }
        // Too narrow for a table: one thing after another, nothing cut off.
        Shape { kept: all, left_out: Vec::new(), one_by_one: true, ..shape }
    }

    fn begin(&self, shape: &Shape) -> String {
        if shape.one_by_one {
            return String::new();
        }
        let header = shape.kept.iter().map(|at| {
            let (bold, space) = (self.paint("1", shape.columns[*at]), gap(shape.columns[*at], shape.widths[*at]));
            if shape.numeric[*at] { format!("{space}{bold}") } else { format!("{bold}{space}") }
        });
        format!("{}\n", header.collect::<Vec<_>>().join("  ").trim_end())
    }

    fn row(&self, shape: &Shape, row: &[Cell], first: bool) -> String {
        if shape.one_by_one {
            let record: Vec<_> = shape.columns.iter().copied().zip(row.iter().cloned()).collect();
            return format!("{}{}", if first { "" } else { "\n" }, self.record(&record));
        }
        let cells = shape.kept.iter().map(|at| {
            let text = row[*at].text();
            let (painted, space) = (self.state(&row[*at], &text), gap(&text, shape.widths[*at]));
            if shape.numeric[*at] { format!("{space}{painted}") } else { format!("{painted}{space}") }
        });
        format!("{}\n", cells.collect::<Vec<_>>().join("  ").trim_end())
    }

    fn end(&self, shape: &Shape) -> String {
        if shape.left_out.is_empty() {
            return String::new();
        }
        let said = format!("left out: {}; --wide shows them", shape.left_out.join(", "));
        format!("{}\n", wrapped(&said, self.width.unwrap_or(80)))
    }

    fn nothing(&self, table: &Table) -> String {
        format!("{}\n", table.empty)
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
    fn begin(&self, _: &Shape) -> String {
        "[".into()
    }

    fn row(&self, shape: &Shape, row: &[Cell], first: bool) -> String {
        let fields = shape.columns.iter().zip(row).map(|(column, cell)| (key(column), cell.json()));
        let object = serde_json::to_string_pretty(&fields.collect::<Map<_, _>>()).unwrap_or_default();
        format!("{}\n  {}", if first { "" } else { "," }, object.replace('\n', "\n  "))
    }

    fn end(&self, _: &Shape) -> String {
        "\n]\n".into()
    }

    fn nothing(&self, _: &Table) -> String {
        "[]\n".into()
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

fn csv(cells: impl IntoIterator<Item = String>) -> String {
    let mut writer = csv::Writer::from_writer(Vec::new());
    let _ = writer.write_record(cells);
    String::from_utf8(writer.into_inner().unwrap_or_default()).unwrap_or_default()
}

impl Format for Csv {
    fn begin(&self, shape: &Shape) -> String {
        csv(shape.columns.iter().map(|column| key(column)))
    }

    fn row(&self, _: &Shape, row: &[Cell], _: bool) -> String {
        csv(row.iter().map(|cell| match cell {
            Cell::Missing => String::new(),
            Cell::Bytes(bytes) => bytes.to_string(),
            Cell::Time(at) | Cell::Ago(at, _) => at.to_string(),
            Cell::List(items) => inert(shown::line(&items.join(" "))),
            other if other.is_number() => other.text(),
            other => inert(other.text()),
        }))
    }

    fn nothing(&self, table: &Table) -> String {
        self.begin(&self.shape(table))
    }

    fn record(&self, record: &[(&'static str, Cell)]) -> String {
        let (columns, row) = record.iter().cloned().unzip();
        self.table(&Table { columns, rows: vec![row], empty: String::new(), least: &[], wide: true })
    }
}
