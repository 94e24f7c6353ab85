//! What one command did to records: a line of JSON each, compressed (RFC 1951 in RFC 1950) as it comes, so that a command that changes a hundred
//! thousand records holds no more of them than their packed form.

use std::io::{BufRead as _, BufReader, Write as _};

use flate2::Compression;
use flate2::read::ZlibDecoder;
use flate2::write::ZlibEncoder;
use serde::Serialize;
use yestrel_core::undo::{Change, Fields, Shown};
use yestrel_core::{Problem, Result};

/// A [`Change`] of a record that was not there, as it is written.
#[derive(Serialize)]
struct New<'a> {
    table: &'a str,
    name: &'a str,
    after: Shown<'a>,
}

/// The changes of one command, in their sequence.
#[derive(Default)]
pub(crate) struct Journal {
    packed: Option<ZlibEncoder<Vec<u8>>>,
}

impl Journal {
    /// Adds a change.
    pub(crate) fn add(&mut self, change: &Change) {
        self.line(change);
    }

    /// Adds that there is a record now, and was not before.
    pub(crate) fn add_new(&mut self, table: &str, name: &str, fields: &Fields) {
        self.line(&New { table, name, after: Shown(fields, Some("name")) });
    }

    fn line(&mut self, change: &impl Serialize) {
        let packed = self.packed.get_or_insert_with(|| ZlibEncoder::new(Vec::new(), Compression::fast()));
        // Whole lines: packing costs by how often it is asked. Nothing of this can fail, it goes into memory.
        let mut line = serde_json::to_vec(change).unwrap_or_default();
        line.push(b'\n');
        let _ = packed.write_all(&line);
    }

    /// All of it.
    pub(crate) fn packed(self) -> Vec<u8> {
        self.packed.and_then(|packed| packed.finish().ok()).unwrap_or_default()
    }
}

/// The changes of one command, in their sequence.
///
/// # Errors
/// It is damaged.
pub(crate) fn unpacked(packed: &[u8]) -> Result<Vec<Change>> {
    if packed.is_empty() {
        return Ok(Vec::new());
    }
    let damaged = |why: String| Problem::failed("what was kept of a change cannot be read").why(why);
    BufReader::new(ZlibDecoder::new(packed))
        .lines()
        .map(|line| {
            let line = line.map_err(|error| damaged(error.to_string()))?;
            let mut change: Change = serde_json::from_str(&line).map_err(|error| damaged(error.to_string()))?;
            // Of what was not there before, the name stands once.
            if let (None, Some(after)) = (&change.before, &mut change.after) {
                after.entry("name").or_insert_with(|| change.name.clone().into());
            }
            Ok(change)
        })
        .collect()
}
