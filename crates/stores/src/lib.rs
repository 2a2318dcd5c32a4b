//! Stores: the databases that hold the staging tables and the ledger.
//!
//! A [`Store`] is a connection; a [`Loader`] is one file being loaded, in one transaction
//! with its table's changes, its rejects and its entry in the ledger. A loader dropped before
//! [`Loader::finish`] leaves nothing behind.

mod error;
mod lease;
mod ledger;
mod merge;
mod postgres;
mod sqlite;
mod url;

use std::collections::HashSet;

use hypodoke_core::arrival::Arrival;
use hypodoke_core::cast::{Limit, Rows};
use hypodoke_core::drift::{Change, Drift};
use hypodoke_core::layout::Layout;
use hypodoke_core::names::Lineage;
use hypodoke_core::outcome::Outcome;
use hypodoke_core::types::Type;

pub use error::StoreError;
pub use lease::Lease;
pub use ledger::{
    BatchEntry, DecisionEntry, DriftEntry, FileEntry, FileQuery, LEDGER_TABLES, LEDGER_VERSION, LayoutEntry,
    NoticeEntry, PartEntry, RejectEntry,
};
pub use merge::{Counts, Mode};
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
    /// It always fills it itself, and takes no values.
    pub generated: bool,
    /// What it holds is narrower than its type.
    pub limit: Option<Limit>,
}

/// A table as the database has it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct TableShape {
    /// Its name.
    pub name: String,
    /// Its columns, lineage columns left out.
    pub columns: Vec<TableColumn>,
    /// The lineage columns it has.
    pub lineage: Lineage,
    /// How rows get into it.
    pub takes: Takes,
}

/// How rows get into a table.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Takes {
    /// In bulk, like any table's.
    #[default]
    Rows,
    /// Only by the statements of the modes with a key: a view.
    Statements,
    /// Not at all: a view that cannot be written to, or one that keeps its rows.
    Nothing,
}

/// What becomes of one table that a file fills.
#[derive(Clone, Debug)]
pub struct TablePlan {
    /// The table.
    pub table: String,
    /// Where in the file its rows stand; empty for a file's main table.
    pub path: String,
    /// The table's layout once the file is loaded: its columns in the order of the rows' cells.
    pub layout: Layout,
    /// What changes in the table; a table that is not there is created.
    pub changes: Vec<Change>,
    /// All that differs from the files before, with what is done about it, for the ledger.
    pub drift: Vec<Drift>,
    /// The lineage columns that the table has, or gets.
    pub lineage: Lineage,
    /// Whether the ledger keeps the table's layout: not of a table that somebody else made.
    pub keeps_layout: bool,
    /// The file has no rows of its own for it, only for its parts: there is no such table.
    pub is_virtual: bool,
    /// What becomes of its rows.
    pub mode: Mode,
    /// The columns that tell rows apart, where the mode asks for them.
    pub key: Vec<String>,
    /// Columns that say something of the file, and not of what its rows tell: a row that differs
    /// in them only is the same row.
    pub of_file: Vec<String>,
}

/// One file to load: what is to become of its tables, and what the ledger is to say.
#[derive(Clone, Debug)]
pub struct LoadPlan {
    /// The batch it belongs to.
    pub batch: i64,
    /// The file.
    pub arrival: Arrival,
    /// The feed, if the configuration names one.
    pub feed: Option<String>,
    /// The tables it fills, the main one first.
    pub tables: Vec<TablePlan>,
    /// The file of the ledger whose rows these replace.
    pub replaces: Option<i64>,
    /// What kind of file it is, how it is compressed, encoded and written, for the ledger.
    pub kind: String,
    /// When the load began: microseconds since 1970.
    pub began: i64,
    /// It is the first file of a delivery: what the tables hold until now goes, where the mode is
    /// to replace it.
    pub first_of_delivery: bool,
    /// Statements that are run before the first row, in the same transaction.
    pub sql_before: Vec<String>,
    /// Statements that are run after the last row.
    pub sql_after: Vec<String>,
    /// Rows are sent in small lots, so that one the database refuses costs no other.
    pub careful: bool,
    /// How the file is written, as JSON, for the ledger.
    pub shape: Option<String>,
    /// No rows come in the place of those that are replaced: they are only taken out.
    pub retracts: bool,
    /// The file of the ledger whose mended rejects these rows are: it gets no entry of its own.
    pub mends: Option<i64>,
}

/// What came of a file.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Finished {
    /// Its number in the ledger.
    pub file: i64,
    /// What became of its rows.
    pub counts: Counts,
}

impl LoadPlan {
    /// The ledger's entry for the file as it is begun: its figures come when it ends.
    pub(crate) fn entry(&self) -> FileEntry {
        FileEntry {
            file: 0,
            batch: self.batch,
            arrival: self.arrival.clone(),
            hash: None,
            feed: self.feed.clone(),
            table: Some(self.table().to_owned()),
            kind: Some(self.kind.clone()),
            outcome: if self.retracts { Outcome::Retracted } else { Outcome::Loaded },
            read: 0,
            loaded: 0,
            rejected: 0,
            left_out: 0,
            counts: Counts::default(),
            began: self.began,
            ended: self.began,
            message: None,
            replaced_by: None,
            shape: self.shape.clone(),
        }
    }

    /// The table that the file is known by.
    pub fn table(&self) -> &str {
        self.tables.first().map_or("", |main| &main.table)
    }
}

/// What is known of one table when all the file's rows are in.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct PartSummary {
    /// Records read.
    pub read: u64,
    /// Rows loaded.
    pub loaded: u64,
    /// The layout as the file's values left it.
    pub layout: Layout,
}

/// What is known of a file when all its rows are in.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct FileSummary {
    /// The hash of its content.
    pub hash: String,
    /// Records read, what is nested in them not counted.
    pub read: u64,
    /// Rows loaded of them.
    pub loaded: u64,
    /// Rows rejected of them.
    pub rejected: u64,
    /// Records left out by rule.
    pub left_out: u64,
    /// What else there is to say of the file.
    pub message: Option<String>,
    /// One for each table of the plan.
    pub parts: Vec<PartSummary>,
    /// When the load ended: microseconds since 1970.
    pub ended: i64,
    /// Rejects that are none any more, where the load mends some.
    pub mended: Vec<i64>,
}

impl FileSummary {
    /// What there is to say of the file, with what is to be said of what became of its rows.
    fn message_with(&self, counts: &Counts) -> Option<String> {
        let all: Vec<String> = self.message.clone().into_iter().chain(counts.note()).collect();
        (!all.is_empty()).then(|| all.join("\n"))
    }
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

    /// Those of them that may be these files: of the same place and path, or of the same size.
    fn files_like(&mut self, arrivals: &[&Arrival]) -> Result<Vec<FileEntry>, StoreError>;

    /// Begins a batch and gives its number.
    fn begin_batch(&mut self, at: i64) -> Result<i64, StoreError>;

    /// Writes down that a batch is over.
    fn end_batch(&mut self, batch: i64, at: i64) -> Result<(), StoreError>;

    /// Begins to load a file. `None` if meanwhile somebody else loaded it.
    fn begin_load<'a>(&'a mut self, plan: &'a LoadPlan) -> Result<Option<Box<dyn Loader + 'a>>, StoreError>;

    /// Connects anew after the connection was lost.
    fn reconnect(&mut self) -> Result<(), StoreError> {
        Ok(())
    }

    /// Begins a delivery: files loaded from now on are kept all together, or none.
    fn begin_delivery(&mut self) -> Result<(), StoreError>;

    /// Ends a delivery: keeps its files, or takes them back.
    fn end_delivery(&mut self, keep: bool) -> Result<(), StoreError>;

    /// The SQL that loading a file would run to make or change its tables.
    fn ddl(&mut self, plan: &LoadPlan) -> Result<Vec<String>, StoreError>;

    /// What the database says of itself: its version and the user it knows us as.
    fn about(&mut self) -> Result<About, StoreError>;

    /// The rights that loading into these tables needs and that are not given, as the statements
    /// that would give them.
    fn missing_rights(&mut self, tables: &[(String, Mode)]) -> Result<Vec<String>, StoreError>;

    /// Writes down a file that is not loaded, and why: with how it differs from its tables, by
    /// their names, where it was held for that.
    fn note_file(&mut self, entry: &FileEntry, drift: &[(String, Drift)]) -> Result<(), StoreError>;

    /// The versions of a table's layout, the oldest first.
    fn layouts(&mut self, table: &str) -> Result<Vec<LayoutEntry>, StoreError>;

    /// How files differed from what came before them, in the order they came.
    fn drift(&mut self) -> Result<Vec<DriftEntry>, StoreError>;

    /// What was decided about held files, the oldest first.
    fn decisions(&mut self) -> Result<Vec<DecisionEntry>, StoreError>;

    /// Writes down what somebody decided.
    fn note_decision(&mut self, entry: &DecisionEntry) -> Result<(), StoreError>;

    /// Those of some events that somebody was not told of yet.
    fn untold(&mut self, to: &str, events: &[String]) -> Result<HashSet<String>, StoreError>;

    /// Writes a message to people down, with the events it tells of.
    fn note_notice(&mut self, entry: &NoticeEntry, events: &[String]) -> Result<(), StoreError>;

    /// Takes the messages in hand, at a moment, that are still to be sent: those not tried since
    /// `tried_before` and not written before `from`, so that no two processes send one twice.
    fn take_notices(&mut self, at: i64, tried_before: i64, from: i64)
    -> Result<Vec<NoticeEntry>, StoreError>;

    /// Writes down that a message was sent, or what was in its way.
    fn settle_notice(&mut self, notice: i64, at: i64, trouble: Option<&str>) -> Result<(), StoreError>;

    /// What a column of a table holds, so that another may be held against it.
    fn column_sample(&mut self, table: &str, column: &str) -> Result<ColumnSample, StoreError>;

    /// For each file whose rows are in a table: how many, and the exact sums of some columns of
    /// integers and decimals. The table has the column that names the file.
    fn file_figures(&mut self, table: &str, sums: &[(String, Type)]) -> Result<Vec<FileFigures>, StoreError>;

    /// The batches, the newest first.
    fn batches(&mut self, most: usize) -> Result<Vec<BatchEntry>, StoreError>;

    /// The entries of the ledger that a query asks for, the newest first.
    fn files(&mut self, query: &FileQuery) -> Result<Vec<FileEntry>, StoreError>;

    /// The tables besides its main one that a file filled.
    fn parts(&mut self, file: i64) -> Result<Vec<PartEntry>, StoreError>;

    /// The rejects of a file, in the order of its lines.
    fn rejects(&mut self, file: i64, most: usize) -> Result<Vec<RejectEntry>, StoreError>;

    /// How many rows a table has.
    fn count_rows(&mut self, table: &str) -> Result<u64, StoreError>;

    /// The first rows of a table, every value as text, with the names of its columns.
    fn first_rows(&mut self, table: &str, most: usize) -> Result<SampleRows, StoreError>;
}

/// The most values of a column that are sampled: as many as evidence keeps apart.
pub(crate) const MOST_SAMPLED: usize = hypodoke_core::evidence::EXACT;

/// What a column holds, in the words of the database.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct ColumnSample {
    /// Its least value.
    pub least: Option<String>,
    /// Its greatest value.
    pub greatest: Option<String>,
    /// Some of its values, each once.
    pub values: Vec<String>,
}

/// What of one file is in a table.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct FileFigures {
    /// The file's number.
    pub file: i64,
    /// Its rows.
    pub rows: u64,
    /// The sums asked for, in units of the column's last digit; `None` where they cannot be told.
    pub sums: Vec<Option<i128>>,
}

/// What a database says of itself.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct About {
    /// Its program and version.
    pub version: String,
    /// The user it knows us as, where it knows users.
    pub user: Option<String>,
    /// The schema that is used, where it has schemas.
    pub schema: Option<String>,
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
    /// `table` is the table's place in the plan.
    fn rows(&mut self, table: usize, rows: &mut Rows) -> Result<u64, StoreError>;

    /// Commits the rows with the file's entry in the ledger. What the mode leaves out of the rows
    /// loaded is taken off them, here and in the ledger.
    fn finish(self: Box<Self>, summary: &FileSummary) -> Result<Finished, StoreError>;
}

/// Opens a store.
pub fn open(url: &StoreUrl) -> Result<Box<dyn Store>, StoreError> {
    match url {
        StoreUrl::Sqlite { path, wait } => Ok(Box::new(sqlite::SqliteStore::open(path, *wait)?)),
        StoreUrl::Postgres { address, schema, wait } => {
            Ok(Box::new(postgres::PostgresStore::open(address, schema.as_deref(), *wait)?))
        }
    }
}
