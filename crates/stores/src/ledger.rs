//! What the ledger holds, whichever database holds it.
//!
//! The ledger's tables stand beside the staging tables and may be read with plain SQL; their
//! columns are documented in `docs/ledger.md`. Times are kept in UTC as ISO 8601 text.

use hypodoke_core::arrival::Arrival;
use hypodoke_core::layout::Layout;
use hypodoke_core::outcome::Outcome;

use crate::merge::Counts;

/// The version of the ledger's tables.
///
/// 1: batches, files, layouts, drift, rejects.
/// 2: parts; the place of a reject; what the modes did with the rows.
/// 3: what was done about a change; how a file was written; decisions on held files; rejects mended.
/// 4: what people were told of, and what they are still to be told.
pub const LEDGER_VERSION: i64 = 4;

/// The ledger's tables.
pub const LEDGER_TABLES: [&str; 10] = [
    "hd_ledger",
    "hd_batches",
    "hd_files",
    "hd_parts",
    "hd_layouts",
    "hd_drift",
    "hd_rejects",
    "hd_decisions",
    "hd_notices",
    "hd_noticed",
];

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
    /// How it is written, as JSON: what the next file is held against.
    pub shape: Option<String>,
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
    /// The one of that number.
    pub file: Option<i64>,
    /// Those of one table.
    pub table: Option<String>,
    /// Those of that outcome.
    pub outcome: Option<Outcome>,
    /// Those of one feed.
    pub feed: Option<String>,
    /// Those done with since a moment: microseconds since 1970.
    pub since: Option<i64>,
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
    /// The file that made it, by its number.
    pub file: i64,
}

/// A change that a file brought, and what was done about it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct DriftEntry {
    /// The file, by its number.
    pub file: i64,
    /// The table.
    pub table: String,
    /// What changed: mostly a column.
    pub column: String,
    /// The change in a word.
    pub change: String,
    /// What was before.
    pub from: Option<String>,
    /// What is now.
    pub to: Option<String>,
    /// What was done, in a word.
    pub action: String,
}

/// What somebody decided about a file that was held.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct DecisionEntry {
    /// The place and path of the file, its size and time when the decision was made.
    pub arrival: Arrival,
    /// The table it goes to.
    pub table: String,
    /// The decision, as JSON.
    pub decision: String,
    /// Who made it.
    pub by: String,
    /// When: microseconds since 1970.
    pub at: i64,
    /// Why, in the words of who made it.
    pub why: Option<String>,
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
    /// When it was mended and loaded; `None` while it is a reject.
    pub mended: Option<i64>,
}

/// A message to people, sent or still to be sent.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct NoticeEntry {
    /// Its number; 0 until it is written down.
    pub notice: i64,
    /// Who is told, by the name that the configuration has for them.
    pub to: String,
    /// What is said, as JSON.
    pub content: String,
    /// When it was written: microseconds since 1970.
    pub at: i64,
}
