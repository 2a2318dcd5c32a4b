//! What every reader of records is, whatever the format.

use hypodoke_core::record::Records;
use hypodoke_core::types::Domain;

use crate::bytes::Encoding;
use crate::error::ReadError;
use crate::facts::FormatFacts;

/// One table that a file holds.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct TableHead {
    /// Where in the file its rows stand: empty for the table that a file has anyway, the name of
    /// a sheet, or the path of a nested list.
    pub path: String,
    /// The names of its columns as the file has them; blank where it says nothing.
    pub names: Vec<String>,
    /// What the file itself says that the values of its columns are; empty where it says nothing.
    pub declared: Vec<Domain>,
    /// Its rows are parts of the records of the first table.
    pub is_child: bool,
    /// Keys, as paths, whose values were objects in files before: their columns stay, though a record
    /// may have a list there.
    pub objects: Vec<String>,
    /// How many columns files before had; 0 where that is not known.
    pub width: usize,
}

/// Reads the records of a file, batch by batch, each with its place in the file.
pub trait RecordReader: Send {
    /// The tables, the main one first. Where the format does not tell columns beforehand, tables
    /// and names are added while records are read, and none is taken away or moved.
    fn tables(&self) -> &[TableHead];

    /// Fills a batch with the next records, one set per table; `false` when there are no more.
    /// The batch is brought to the number of tables known by then.
    fn next(&mut self, batch: &mut Vec<Records>) -> Result<bool, ReadError>;

    /// How the file is written, as far as it is known by now.
    fn facts(&self) -> FormatFacts;

    /// The encoding, as far as it is known by now.
    fn encoding(&self) -> Option<Encoding>;

    /// The file in a few words, its compression left out.
    fn kind(&self) -> String;

    /// Where the rows stand in the file, where a line number does not say it: a JSON path with
    /// `*` for the record's number, or the name of a sheet.
    fn rows_at(&self, _table: usize) -> Option<String> {
        None
    }

    /// Lines after the table that are left out of it, known once the end is read.
    fn footer(&self) -> Vec<String> {
        Vec::new()
    }

    /// The line of the last record, where it breaks off: known once the end is read.
    fn cut_at(&self) -> Option<u64> {
        None
    }

    /// What else there is to say of the file once it is read.
    fn notes(&self) -> Vec<String> {
        Vec::new()
    }
}

/// The most cells (records times columns) that a batch of records holds, whatever the shape of the file: a record of a
/// few bytes may have thousands of columns that it says nothing of. 2^18 cells are 2 MB of fields and 4 MB of values.
pub const MOST_CELLS: usize = 1 << 18;

/// Brings a batch to a number of tables and empties it.
pub fn clear(batch: &mut Vec<Records>, tables: usize) {
    batch.iter_mut().for_each(Records::clear);
    batch.resize_with(tables.max(1), Records::default);
}
