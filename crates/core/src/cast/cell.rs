//! Rows ready to be loaded, and rejects.

use serde::{Deserialize, Serialize};

use crate::record::{Cell, Link, Records};
use crate::spelling::Number;

/// A value that would not do.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Misfitting {
    /// Its column, by its name in the file.
    pub column: String,
    /// The value.
    pub value: Option<String>,
    /// Why, in words.
    pub reason: String,
}

/// A row that could not be loaded.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Reject {
    /// The line its record starts on.
    pub line: u64,
    /// The column that would not do, by its name in the file; `None` where the whole row will not.
    pub column: Option<String>,
    /// The value that would not do.
    pub value: Option<String>,
    /// Why, in words.
    pub reason: String,
    /// What else of the row would not do, column by column.
    pub more: Vec<Misfitting>,
    /// The record as it stands in the file.
    pub raw: Vec<u8>,
    /// The record, by its place in the batch.
    pub record: u32,
    /// Where it stands, where a line does not say it: a JSON path, a cell.
    pub place: Option<String>,
    /// The sheet of a workbook that it stands on.
    pub sheet: Option<String>,
}

/// A record that is in the file and whose row is not loaded.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct RejectedRow {
    /// The line its record starts on.
    pub line: u64,
    /// Its record, by its place in the batch; `None` where the key of the row cannot be read.
    pub record: Option<u32>,
}

/// A batch of typed rows, with the records they came from.
#[derive(Debug, Default)]
pub struct Rows {
    /// The records: texts point into their bytes.
    pub records: Records,
    /// The cells of the rows to load, row after row.
    pub cells: Vec<Cell>,
    /// Mantissas too wide for a cell.
    pub wide: Vec<i128>,
    /// How many cells make a row.
    pub width: usize,
    /// For every row to load, its record.
    pub kept: Vec<u32>,
    /// The records that are not loaded.
    pub rejects: Vec<Reject>,
    /// The rows of rejected records, where [`note_rejected`](super::note_rejected) was called: of a list, those in
    /// records that are rejected.
    pub rejected: Vec<RejectedRow>,
}

impl Rows {
    /// How many rows there are to load.
    pub fn len(&self) -> usize {
        self.kept.len()
    }

    /// Whether there are none.
    pub fn is_empty(&self) -> bool {
        self.kept.is_empty()
    }

    /// The cells of a row.
    #[inline]
    pub fn row(&self, index: usize) -> &[Cell] {
        let start = self.kept[index] as usize * self.width;
        &self.cells[start..start + self.width]
    }

    /// The line of a row.
    #[inline]
    pub fn line(&self, index: usize) -> u64 {
        self.records.line(self.kept[index] as usize)
    }

    /// How a row of a child table hangs on its parent.
    #[inline]
    pub fn link(&self, index: usize) -> Link {
        self.records.links().get(self.kept[index] as usize).copied().unwrap_or_default()
    }

    /// The bytes of a text cell.
    #[inline]
    pub fn bytes(&self, start: u32, len: u32) -> &[u8] {
        &self.records.bytes[start as usize..(start + len) as usize]
    }

    /// A wide decimal.
    pub fn wide(&self, index: u32, scale: u8) -> Number {
        Number { mantissa: self.wide[index as usize], scale: scale as u16 }
    }

    /// Makes a reject of a row that the database would not have.
    pub fn refuse(&self, index: usize, column: Option<String>, reason: String) -> Reject {
        let record = self.kept[index] as usize;
        Reject {
            line: self.records.line(record),
            column,
            value: None,
            reason,
            more: Vec::new(),
            raw: self.records.raw_record(record),
            record: record as u32,
            place: None,
            sheet: None,
        }
    }
}
