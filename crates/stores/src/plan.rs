//! What is asked of the load of one file, and what is known of it when all its rows are in.

use hypodoke_core::arrival::Arrival;
use hypodoke_core::drift::{Change, Drift};
use hypodoke_core::layout::Layout;
use hypodoke_core::names::Lineage;

use crate::merge::{Counts, Mode};

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
    /// The file of the ledger whose corrected rejects these rows are: it gets no entry of its own.
    pub resubmits: Option<i64>,
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
    /// Rejects that are none any more, where the load resubmits some.
    pub resubmitted: Vec<i64>,
}

impl FileSummary {
    /// What there is to say of the file, with what is to be said of what became of its rows.
    pub(crate) fn message_with(&self, counts: &Counts) -> Option<String> {
        let all: Vec<String> = self.message.clone().into_iter().chain(counts.note()).collect();
        (!all.is_empty()).then(|| all.join("\n"))
    }
}
