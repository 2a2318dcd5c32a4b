//! Stores: the databases that hold the staging tables and the ledger.
//!
//! A [`Store`] is a connection; a [`Loader`] is one file being loaded, in one transaction
//! with its table's changes, its rejects and its entry in the ledger. A loader dropped before
//! [`Loader::finish`] leaves nothing behind.

mod error;
mod ledger;
mod sqlite;
mod url;

use hypodoke_core::arrival::Arrival;
use hypodoke_core::cast::Rows;
use hypodoke_core::layout::Layout;
use hypodoke_core::reconcile::Change;
use hypodoke_core::types::Type;

pub use error::StoreError;
pub use ledger::{BatchEntry, FileEntry, FileQuery, LEDGER_TABLES, LEDGER_VERSION, LayoutEntry, RejectEntry};
pub use url::{StoreUrl, UrlError};

/// A column of a table as the database has it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct TableColumn {
    /// Its name.
    pub name: String,
    /// The type its declaration comes to.
    pub ty: Type,
    /// It takes no null.
    pub required: bool,
    /// The database fills it where nothing is given.
    pub filled: bool,
}

/// A table as the database has it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct TableShape {
    /// Its name.
    pub name: String,
    /// Its columns, lineage columns left out.
    pub columns: Vec<TableColumn>,
    /// It has the two lineage columns.
    pub lineage: bool,
}

/// One file to load: what is to become of the table, and what the ledger is to say.
#[derive(Clone, Debug)]
pub struct LoadPlan {
    /// The batch it belongs to.
    pub batch: i64,
    /// The file.
    pub arrival: Arrival,
    /// The feed, if the configuration names one.
    pub feed: Option<String>,
    /// The table.
    pub table: String,
    /// The table's layout once the file is loaded: its columns in the order of the rows' cells.
    pub layout: Layout,
    /// What changes in the table; a table that is not there is created.
    pub changes: Vec<Change>,
    /// Whether the table has, or gets, lineage columns.
    pub lineage: bool,
    /// The file of the ledger whose rows these replace.
    pub replaces: Option<i64>,
    /// What kind of file it is, how it is compressed, encoded and written, for the ledger.
    pub kind: String,
    /// Whether the ledger keeps the table's layout: not of a table that somebody else made.
    pub keeps_layout: bool,
    /// When the load began: microseconds since 1970.
    pub began: i64,
}

/// What is known of a file when all its rows are in.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct FileSummary {
    /// The hash of its content.
    pub hash: String,
    /// Records read.
    pub read: u64,
    /// Rows loaded.
    pub loaded: u64,
    /// Rows rejected.
    pub rejected: u64,
    /// Records left out by rule.
    pub left_out: u64,
    /// What else there is to say of the file.
    pub message: Option<String>,
    /// The layout as the file's values left it.
    pub layout: Layout,
    /// When the load ended: microseconds since 1970.
    pub ended: i64,
}

/// A connection to a staging database.
pub trait Store: Send {
    /// The database in words for people, without secrets: `sqlite:harbour.db`.
    fn shown(&self) -> String;

    /// How many columns a table may have, lineage columns included.
    fn most_columns(&self) -> usize;

    /// Makes the ledger's tables where they are missing.
    fn open_ledger(&mut self) -> Result<(), StoreError>;

    /// Whether the ledger is there.
    fn has_ledger(&mut self) -> Result<bool, StoreError>;

    /// A table as it is, if it is.
    fn table(&mut self, name: &str) -> Result<Option<TableShape>, StoreError>;

    /// The current layout of a table that was made by a load.
    fn layout(&mut self, table: &str) -> Result<Option<LayoutEntry>, StoreError>;

    /// The files whose rows are in a table now: the newest entry of each place and path.
    fn loaded_files(&mut self) -> Result<Vec<FileEntry>, StoreError>;

    /// Begins a batch and gives its number.
    fn begin_batch(&mut self, at: i64) -> Result<i64, StoreError>;

    /// Writes down that a batch is over.
    fn end_batch(&mut self, batch: i64, at: i64) -> Result<(), StoreError>;

    /// Begins to load a file. `None` if meanwhile somebody else loaded it.
    fn begin_load<'a>(&'a mut self, plan: &'a LoadPlan) -> Result<Option<Box<dyn Loader + 'a>>, StoreError>;

    /// Writes down a file that is not loaded, and why.
    fn note_file(&mut self, entry: &FileEntry) -> Result<(), StoreError>;

    /// The batches, the newest first.
    fn batches(&mut self, most: usize) -> Result<Vec<BatchEntry>, StoreError>;

    /// The entries of the ledger that a query asks for, the newest first.
    fn files(&mut self, query: &FileQuery) -> Result<Vec<FileEntry>, StoreError>;

    /// The rejects of a file, in the order of its lines.
    fn rejects(&mut self, file: i64, most: usize) -> Result<Vec<RejectEntry>, StoreError>;

    /// How many rows a table has.
    fn count_rows(&mut self, table: &str) -> Result<u64, StoreError>;

    /// The first rows of a table, every value as text, with the names of its columns.
    fn first_rows(&mut self, table: &str, most: usize) -> Result<SampleRows, StoreError>;
}

/// Rows of a table as people are shown them.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct SampleRows {
    /// The columns.
    pub columns: Vec<String>,
    /// The rows; `None` is null.
    pub rows: Vec<Vec<Option<String>>>,
}

/// One file being loaded. Dropped before `finish`, it leaves nothing behind.
pub trait Loader {
    /// Takes a batch of rows in, and its rejects. Rows that the database will not have are
    /// added to the rejects; the rest is loaded. Gives how many were loaded.
    fn rows(&mut self, rows: &mut Rows) -> Result<u64, StoreError>;

    /// Commits the rows with the file's entry in the ledger, and gives that entry's number.
    fn finish(self: Box<Self>, summary: &FileSummary) -> Result<i64, StoreError>;
}

/// Opens a store.
pub fn open(url: &StoreUrl) -> Result<Box<dyn Store>, StoreError> {
    match url {
        StoreUrl::Sqlite { path, wait } => Ok(Box::new(sqlite::SqliteStore::open(path, *wait)?)),
    }
}
