//! What the ledger holds, whichever database holds it.
//!
//! The ledger's tables stand beside the staging tables and may be read with plain SQL; their
//! columns are documented in `docs/ledger.md`. Times are kept in UTC as ISO 8601 text.

pub mod corrections;
pub mod files_in_force;
pub mod intents;
pub mod joined_layouts;
pub mod loaded_files;
pub mod outbox;
pub mod read;
pub mod schema;
mod sql_ledger;
pub mod write;

use std::collections::HashSet;

use hypodoke_core::arrival::Arrival;
use hypodoke_core::cast::Misfitting;
use hypodoke_core::drift::Cause;
use hypodoke_core::drift::Drift;
use hypodoke_core::layout::Layout;
use hypodoke_core::outcome::{Outcome, Reason};

pub use corrections::PendingCorrection;

use crate::error::StoreError;
use crate::load_plan::Counts;
use crate::load_plan::LoadRules;
use crate::load_plan::file_order::FileOrder;
use crate::sql::SqlConnection;

/// Batches, files, layouts, drift, decisions and rejects, as they were recorded; with the messages about them.
pub trait Ledger: Outbox {
    /// The database in words for people, without secrets: `sqlite:harbour.db`.
    fn ledger_shown(&self) -> String;

    /// Whether the connection may be used again after a while: it still stands, and leads where it led.
    fn is_alive(&mut self) -> bool {
        true
    }

    /// Makes the ledger where it is missing.
    fn open_ledger(&mut self) -> Result<(), StoreError>;

    /// Whether the ledger is there.
    fn has_ledger(&mut self) -> Result<bool, StoreError>;

    /// The current layout of a table that was made by a load.
    fn layout(&mut self, table: &str) -> Result<Option<LayoutEntry>, StoreError>;

    /// The versions of a table's layout, the oldest first.
    fn layouts(&mut self, table: &str) -> Result<Vec<LayoutEntry>, StoreError>;

    /// What the files that are loaded into a table gave it.
    fn rows_loaded(&mut self, table: &str) -> Result<RowsLoaded, StoreError>;

    /// The current layout of each table.
    fn newest_layouts(&mut self) -> Result<Vec<(String, Layout)>, StoreError> {
        Ok(Vec::new())
    }

    /// The files whose rows are in a table now: the newest entry of each place and path.
    fn loaded_files(&mut self) -> Result<Vec<FileEntry>, StoreError>;

    /// The same entries, as far as it takes to tell what is known of a file: without how it is written, and of
    /// its rules the named parts of its path only.
    fn known_files(&mut self) -> Result<Vec<FileEntry>, StoreError> {
        self.loaded_files()
    }

    /// Those of them that may be these files: of the same place and path, or of the same size.
    fn files_like(&mut self, arrivals: &[&Arrival]) -> Result<Vec<FileEntry>, StoreError>;

    /// The entries that a query asks for, the newest first.
    fn files(&mut self, query: &FileQuery) -> Result<Vec<FileEntry>, StoreError>;

    /// The batches, the newest first.
    fn batches(&mut self, most: usize) -> Result<Vec<BatchEntry>, StoreError>;

    /// The tables besides its main one that a file filled.
    fn parts(&mut self, file: i64) -> Result<Vec<PartEntry>, StoreError>;

    /// The rejects of a file, in the order of its lines.
    fn rejects(&mut self, file: i64, most: usize) -> Result<Vec<RejectEntry>, StoreError>;

    /// The pending corrections of files whose rows count.
    fn pending_corrections(&mut self) -> Result<Vec<PendingCorrection>, StoreError> {
        Ok(Vec::new())
    }

    /// Records why a correction does not fit. Returns whether it was still pending.
    fn refuse_correction(&mut self, _reject: i64, _why: &str) -> Result<bool, StoreError> {
        Ok(false)
    }

    /// The figures of the columns of the newest files of a table that are loaded, the newest first.
    fn figures(&mut self, table: &str, most: usize) -> Result<Vec<String>, StoreError> {
        let _ = (table, most);
        Ok(Vec::new())
    }

    /// How files differed from what came before them, in the order they came.
    fn drift(&mut self) -> Result<Vec<DriftEntry>, StoreError>;

    /// The tables a column of which was spelled anew, so that the files before are to be read again: each
    /// with the newest file for which that was.
    fn rereads(&mut self) -> Result<Vec<(String, i64)>, StoreError> {
        Ok(Vec::new())
    }

    /// Records that the files of a table before this one were read again.
    fn end_reread(&mut self, _table: &str, _newest: i64) -> Result<(), StoreError> {
        Ok(())
    }

    /// What was decided about held files, the oldest first.
    fn decisions(&mut self) -> Result<Vec<DecisionEntry>, StoreError>;

    /// Begins a batch and gives its number.
    fn begin_batch(&mut self, at: i64) -> Result<i64, StoreError>;

    /// Records that a batch is over.
    fn end_batch(&mut self, batch: i64, at: i64) -> Result<(), StoreError>;

    /// Records a file that is not loaded, and why: with how it differs from its tables, by
    /// their names, where it was held for that.
    fn note_file(&mut self, entry: &FileEntry, drift: &[(String, Drift)]) -> Result<(), StoreError>;

    /// Records what somebody decided.
    fn note_decision(&mut self, entry: &DecisionEntry) -> Result<(), StoreError>;

    /// Forgets the kept rows of files of a table that were loaded before a moment: microseconds since
    /// 1970. What is in the table stays.
    fn forget_rows(&mut self, table: &str, before: i64) -> Result<(), StoreError>;
}

/// A connection to a ledger, which other databases' loads are recorded in.
pub trait LedgerConnection: Ledger + SqlConnection + Send {
    /// Connects anew after the connection was lost.
    fn reconnect_ledger(&mut self) -> Result<(), StoreError>;

    /// The statements that give the rights on these tables that are missing.
    fn missing_ledger_grants(
        &mut self,
        on: &[(String, &'static [&'static str])],
    ) -> Result<Vec<String>, StoreError>;
}

/// Messages to people: what they were told of, and what they are still to be told.
pub trait Outbox {
    /// Those of some events that somebody was not told of yet.
    fn new_events(&mut self, to: &str, events: &[String]) -> Result<HashSet<String>, StoreError>;

    /// Adds a message, with the events it tells of; `false`, and nothing is added, if another process has told
    /// of one of them since they were asked for.
    fn add_notice(&mut self, entry: &NoticeEntry, events: &[String]) -> Result<bool, StoreError>;

    /// Takes the messages in hand, at a moment, that are still to be sent: those not tried since
    /// `tried_before` and not written before `from`, so that no two processes send one twice.
    fn take_notices(&mut self, at: i64, tried_before: i64, from: i64)
    -> Result<Vec<NoticeEntry>, StoreError>;

    /// Records that a message was sent, or what was in its way.
    fn finish_notice(&mut self, notice: i64, at: i64, trouble: Option<&str>) -> Result<(), StoreError>;
}

/// The version of the ledger's tables.
///
/// 1: batches, files, layouts, drift, rejects.
/// 2: parts; the place of a reject; what the modes did with the rows.
/// 3: what was done about a change; how a file was written; decisions on held files; corrected rejects.
/// 4: what people were told of, and what they are still to be told.
/// 5: what the place of a file calls its version.
/// 6: the order of a table's files, how the table follows from them, and their rows.
/// 7: the value that forced a change; all reasons of a reject; figures of a file's columns.
/// 8: intents of loads whose rows are in another database; reasons as codes and facts.
/// 9: the sheet of a reject; whether a file has named parts.
/// 10: the values that people gave for rejects.
pub const LEDGER_VERSION: i64 = 10;

/// The ledger's tables.
pub const LEDGER_TABLES: [&str; 14] = [
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
    "hd_kept_rows",
    "hd_intents",
    "hd_pairing",
    "hd_corrections",
];

/// The rights on a table of the ledger that loading needs: kept rows go where nothing counts on them, and so do
/// changes of tables that are made.
pub(crate) fn rights_on(table: &str) -> &'static [&'static str] {
    match table {
        "hd_kept_rows" | "hd_table_changes" | "hd_intents" | "hd_commits" | "hd_pairing"
        | "hd_corrections" => &["SELECT", "INSERT", "UPDATE", "DELETE"],
        _ => &["SELECT", "INSERT", "UPDATE"],
    }
}

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
    /// What was noted of it, a line each, or what a person said of it.
    pub message: Option<String>,
    /// Why it is held, failed or was skipped, and what it is warned of, as codes and their facts.
    pub reasons: Vec<Reason>,
    /// The later entry whose rows took the place of this one's.
    pub replaced_by: Option<i64>,
    /// How it is written, as JSON: what the next file is held against.
    pub shape: Option<String>,
    /// Where it stands among the files of its table.
    pub order: FileOrder,
    /// How its tables follow from their files; `None` of a file that was loaded before that was recorded.
    pub rules: Option<LoadRules>,
    /// Its rows are kept in the ledger.
    pub rows_kept: bool,
    /// What its columns hold, in figures, as JSON: what later files are held against.
    pub figures: Option<String>,
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
    /// Those of one place and path.
    pub path: Option<(String, String)>,
    /// Those of one table.
    pub table: Option<String>,
    /// Those of that outcome; of those loaded also those that a newer delivery has superseded.
    pub outcome: Option<Outcome>,
    /// Those of one feed.
    pub feed: Option<String>,
    /// Those done with since a moment: microseconds since 1970.
    pub since: Option<i64>,
    /// How many at the most; all if unsaid.
    pub most: Option<usize>,
}

/// What the files that are loaded into a table gave it, those left out that were replaced or retracted.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct RowsLoaded {
    /// How many files they are.
    pub files: u64,
    /// How many rows they gave it.
    pub rows: u64,
    /// How many of these were added: of a mode with a key, those whose key the table did not have. Keys that came with
    /// a file that was replaced or retracted since, and that others hold too, are not among them.
    pub inserted: u64,
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
    /// The value of the file that forced it, and the line that it stands on.
    pub cause: Option<Cause>,
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
    /// The sheet of a workbook that it stands on.
    pub sheet: Option<String>,
    /// The column that would not do.
    pub column: Option<String>,
    /// The value that would not do.
    pub value: Option<String>,
    /// Why.
    pub reason: String,
    /// What else of the row would not do.
    pub more: Vec<Misfitting>,
    /// The record as it stands in the file.
    pub raw: Vec<u8>,
    /// When it was corrected and loaded; `None` while it is a reject.
    pub corrected: Option<i64>,
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
