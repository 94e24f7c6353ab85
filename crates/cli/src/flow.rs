//! Lists that are written as they are read: the first screen is there at once, and of a hundred thousand rows none is kept.

use yestrel_core::Result;

use crate::cells::{Cell, Table};
use crate::formats::{Format, Shape};
use crate::listing::Listing;
use crate::output::Output;

/// By so many rows it is decided how wide columns are.
const FIRST: usize = 100;
/// Bytes that are written at once, about.
const PIECE: usize = 32 * 1024;

/// A list on its way to standard output. Where it is put in order, or only its end is wanted, it is gathered first.
pub struct Flow<'a> {
    output: Output,
    listing: &'a Listing,
    /// With the rows that are not written yet.
    table: Table,
    format: Box<dyn Format>,
    shape: Option<Shape>,
    begun: bool,
    piece: String,
}

impl<'a> Flow<'a> {
    /// A list with these columns.
    pub fn begin(output: Output, listing: &'a Listing, table: Table) -> Self {
        let table = Table { wide: listing.wide, ..table };
        Self { output, listing, table, format: output.format(), shape: None, begun: false, piece: String::new() }
    }

    /// The next row. Whether anybody still reads.
    pub fn row(&mut self, cells: Vec<Cell>) -> bool {
        if self.listing.is_whole() {
            self.table.row(cells);
            return true;
        }
        if self.listing.leaves_out(&cells) {
            return self.output.is_read();
        }
        match self.shape.take() {
            Some(shape) => {
                self.write(&shape, &cells);
                self.shape = Some(shape);
            }
            None => {
                self.table.row(cells);
                if self.table.rows.len() == FIRST {
                    self.start();
                }
            }
        }
        self.output.is_read()
    }

    /// Decides how the list looks, and writes what has gathered.
    fn start(&mut self) {
        let shape = self.format.shape(&self.table);
        self.piece.push_str(&self.format.begin(&shape));
        for row in std::mem::take(&mut self.table.rows) {
            self.write(&shape, &row);
        }
        self.flush();
        self.shape = Some(shape);
    }

    fn write(&mut self, shape: &Shape, row: &[Cell]) {
        self.piece.push_str(&self.format.row(shape, row, !self.begun));
        self.begun = true;
        if self.piece.len() >= PIECE {
            self.flush();
        }
    }

    fn flush(&mut self) {
        self.output.write(&self.piece);
        self.piece.clear();
    }

    /// That was all.
    ///
    /// # Errors
    /// It was to be put in order by a column that is not there.
    pub fn end(mut self) -> Result<()> {
        if self.listing.is_whole() {
            self.listing.apply(&mut self.table)?;
            self.output.table(&self.table);
            return Ok(());
        }
        if self.shape.is_none() && self.table.rows.is_empty() {
            self.listing.apply(&mut self.table)?;
            self.output.write(&self.format.nothing(&self.table));
            return Ok(());
        }
        if self.shape.is_none() {
            self.start();
        }
        if let Some(shape) = self.shape.take() {
            let end = self.format.end(&shape);
            self.piece.push_str(&end);
        }
        self.flush();
        Ok(())
    }
}
