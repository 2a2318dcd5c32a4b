//! Typed values in a batch of rows: sixteen bytes each, texts as places in the buffer.

use std::ops::Range;

use crate::record::{Link, Records};
use crate::spelling::Number;

/// A typed value. Texts point into the bytes of the records they came from.
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum Cell {
    /// Null.
    Null,
    /// A truth value.
    Boolean(bool),
    /// An integer.
    Integer(i64),
    /// A decimal of the column's scale.
    Decimal {
        /// All its digits.
        mantissa: i64,
        /// How many of them stand after the mark.
        scale: u8,
    },
    /// A decimal whose digits do not fit 64 bits: its place among the batch's wide mantissas.
    Wide {
        /// The place.
        index: u32,
        /// How many digits stand after the mark.
        scale: u8,
    },
    /// A float.
    Float(f64),
    /// Days since 1970-01-01.
    Date(i32),
    /// Microseconds since midnight.
    Time(i64),
    /// Microseconds since 1970-01-01 00:00:00, without a zone.
    Timestamp(i64),
    /// Microseconds since 1970-01-01T00:00:00Z.
    TimestampTz(i64),
    /// A text: where it stands.
    Text {
        /// Its first byte.
        start: u32,
        /// Its length in bytes.
        len: u32,
    },
    /// A UUID in its 36 characters.
    Uuid {
        /// Its first byte.
        start: u32,
    },
}

impl Cell {
    /// The cell of a text at these bytes.
    pub fn text(range: Range<usize>) -> Cell {
        Cell::Text { start: range.start as u32, len: (range.end - range.start) as u32 }
    }
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
    /// The record as it stands in the file.
    pub raw: Vec<u8>,
    /// The record, by its place in the batch.
    pub record: u32,
    /// Where it stands, where a line does not say it: a JSON path, a cell.
    pub place: Option<String>,
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
            raw: self.records.raw(record).to_vec(),
            record: record as u32,
            place: None,
        }
    }
}
