//! What the ledger holds, whichever database holds it.
//!
//! The ledger's tables stand beside the staging tables and may be read with plain SQL; their
//! columns are documented in `docs/ledger.md`. Times are kept in UTC as ISO 8601 text.

use hypodoke_core::arrival::Arrival;
use hypodoke_core::event::Outcome;
use hypodoke_core::layout::Layout;

use crate::merge::Counts;

/// The version of the ledger's tables.
///
/// 1: batches, files, layouts, drift, rejects.
/// 2: parts; the place of a reject; what the modes did with the rows.
pub const LEDGER_VERSION: i64 = 2;

/// The ledger's tables.
pub const LEDGER_TABLES: [&str; 7] =
    ["hd_ledger", "hd_batches", "hd_files", "hd_parts", "hd_layouts", "hd_drift", "hd_rejects"];

/// One batch.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct BatchEntry {
    /// Its number.
    pub batch: i64,
    /// When it began: microseconds since 1970.
    pub began: i64,
    /// When it ended; `None` if it was interrupted or still runs.
    pub ended: Option<i64>,
    /// Files loaded.
    pub loaded: u64,
    /// Files that failed.
    pub failed: u64,
    /// Rows loaded.
    pub rows: u64,
    /// Rows rejected.
    pub rejected: u64,
}

/// One file of one batch.
#[derive(Clone, Debug, PartialEq)]
pub struct FileEntry {
    /// Its number: what the lineage column of its rows holds.
    pub file: i64,
    /// Its batch.
    pub batch: i64,
    /// What was seen of it.
    pub arrival: Arrival,
    /// The hash of its content, where it was read.
    pub hash: Option<String>,
    /// Its feed.
    pub feed: Option<String>,
    /// Its table.
    pub table: Option<String>,
    /// What kind of file it is, in words.
    pub kind: Option<String>,
    /// What became of it.
    pub outcome: Outcome,
    /// Records read.
    pub read: u64,
    /// Rows loaded.
    pub loaded: u64,
    /// Rows rejected.
    pub rejected: u64,
    /// Records left out by rule.
    pub left_out: u64,
    /// What became of the rows loaded.
    pub counts: Counts,
    /// When it was begun and done with: microseconds since 1970.
    pub began: i64,
    /// See `began`.
    pub ended: i64,
    /// Why it failed, or what else there is to say.
    pub message: Option<String>,
    /// The later entry whose rows took the place of this one's.
    pub replaced_by: Option<i64>,
}

/// A table's layout as the ledger keeps it: as this file left it, and with what others that were
/// loaded at the same time have met.
pub fn layout_text(layout: &Layout, kept: Option<&str>) -> String {
    let kept = kept.and_then(|text| serde_json::from_str::<Layout>(text).ok());
    let joined = kept.map(|kept| hypodoke_core::reconcile::join(layout, &kept));
    // What widened or came with this file is no less so for those who did not have it.
    serde_json::to_string(joined.as_ref().unwrap_or(layout)).unwrap_or_default()
}

/// What a file gave to one of its tables, besides the main one.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct PartEntry {
    /// The file's number.
    pub file: i64,
    /// The table.
    pub table: String,
    /// Where in the file its rows stand: a sheet, or the path of a nested list.
    pub path: String,
    /// Rows read.
    pub read: u64,
    /// Rows loaded.
    pub loaded: u64,
}

/// Which entries are asked for.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct FileQuery {
    /// Those of one batch.
    pub batch: Option<i64>,
    /// How many at the most; all if unsaid.
    pub most: Option<usize>,
}

/// A version of a table's layout.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct LayoutEntry {
    /// Its version, counted from 1.
    pub version: i64,
    /// The layout.
    pub layout: Layout,
}

/// A row that was rejected.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct RejectEntry {
    /// Its number.
    pub reject: i64,
    /// Its file's number.
    pub file: i64,
    /// Its line.
    pub line: u64,
    /// Where it stands, where a line does not say it: a JSON path, a cell.
    pub place: Option<String>,
    /// The column that would not do.
    pub column: Option<String>,
    /// The value that would not do.
    pub value: Option<String>,
    /// Why.
    pub reason: String,
    /// The record as it stands in the file.
    pub raw: Vec<u8>,
}
