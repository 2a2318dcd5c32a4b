//! Receipts: the account of a batch.

use hypodoke_core::drift::Drift;
use hypodoke_core::outcome::{Outcome, Reason};
use hypodoke_stores::{BatchEntry, Counts, FileEntry, PartEntry};
use serde::Serialize;

use crate::clock;
use crate::decide::HoldReason;
use crate::error::EngineError;
use crate::lost_tables::TableLoss;
use crate::stale_rows::StaleRows;

/// The version of the receipt's JSON.
///
/// 1: batch, database, files, known, unmatched, totals. Fields may be added without a new version.
pub const RECEIPT_VERSION: u32 = 1;

/// The account of a batch.
#[derive(Clone, Debug, Serialize)]
#[non_exhaustive]
pub struct Receipt {
    /// The version of this document.
    pub version: u32,
    /// The batch's number; `None` where nothing was new and none was begun.
    pub batch: Option<i64>,
    /// The database.
    pub database: String,
    /// When it began, as RFC 3339 has it.
    pub began_at: String,
    /// Seconds from beginning to end.
    pub seconds: f64,
    /// One line per file that was new or changed.
    pub files: Vec<ReceiptLine>,
    /// Files that the ledger knew already.
    pub known: u64,
    /// Files that no feed wants.
    pub unmatched: Vec<String>,
    /// Files that are still arriving, and are left for later.
    pub waiting: Vec<String>,
    /// Columns that files of this batch disagree about, and how they were brought together.
    pub conflicts: Vec<Conflict>,
    /// Tables a column of which became text, so that files before were read again.
    pub respelled: Vec<Respelled>,
    /// Rows of files that were replaced or retracted, which were in tables all the same, and were deleted.
    pub stale: Vec<StaleRows>,
    /// Corrections that no longer fit their tables: their rejects are open.
    pub refused_corrections: Vec<RefusedCorrection>,
    /// Tables that somebody has dropped or emptied since files were loaded into them.
    pub missing: Vec<TableLoss>,
    /// The sums of the lines.
    pub totals: Totals,
}

/// A column that files loaded together have different types for.
#[derive(Clone, Debug, PartialEq, Serialize)]
pub struct Conflict {
    /// The table.
    pub table: String,
    /// The column.
    pub column: String,
    /// The type that holds the values of all.
    pub joined: String,
    /// What the files have, each type once.
    pub sides: Vec<Side>,
}

/// A table whose files were read again, so that the values of a column that became text are spelled as in
/// the files.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize)]
pub struct Respelled {
    /// The table.
    pub table: String,
    /// How many files were read again.
    pub files: u64,
    /// The files that are not there any more: their values are spelled in the shortest way.
    pub gone: Vec<String>,
}

/// A correction that no longer fits its table.
#[derive(Clone, Debug, Default, PartialEq, Serialize)]
pub struct RefusedCorrection {
    /// The file of the reject.
    pub path: String,
    /// The line of the record.
    pub line: u64,
    /// Why its row was rejected.
    pub why: Option<String>,
    /// Else why none of the file's corrections can be applied, as codes and their facts.
    pub reasons: Vec<Reason>,
}

/// What some files of a conflict have.
#[derive(Clone, Debug, PartialEq, Serialize)]
pub struct Side {
    /// The type.
    pub of: String,
    /// How many files.
    pub files: u64,
    /// One of them.
    pub file: String,
    /// The line of a value that a narrower type does not hold, and the value.
    pub line: Option<u64>,
    /// See `line`.
    pub value: Option<String>,
}

/// The sums of a receipt.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize)]
pub struct Totals {
    /// Files loaded.
    pub files_loaded: u64,
    /// Files that failed.
    pub files_failed: u64,
    /// Files that are held.
    pub files_held: u64,
    /// Files that are looked at again later: they changed while they were read, or were gone.
    pub files_waiting: u64,
    /// Records read.
    pub rows_read: u64,
    /// Rows loaded.
    pub rows_loaded: u64,
    /// Rows rejected.
    pub rows_rejected: u64,
    /// Records left out by rule.
    pub rows_left_out: u64,
    /// Bytes of the files loaded.
    pub bytes: u64,
}

/// What became of the rows of a file in their table.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize)]
pub struct RowCounts {
    /// Rows added.
    pub inserted: u64,
    /// Rows that took the place of others, or a new version of them.
    pub updated: u64,
    /// Rows that were there just so.
    pub unchanged: u64,
    /// Rows taken out.
    pub deleted: u64,
}

impl From<Counts> for RowCounts {
    fn from(counts: Counts) -> RowCounts {
        let Counts { inserted, updated, unchanged, deleted, .. } = counts;
        RowCounts { inserted, updated, unchanged, deleted }
    }
}

/// What a file gave to one of its tables, besides the main one.
#[derive(Clone, Debug, Default, PartialEq, Serialize)]
pub struct PartLine {
    /// The table.
    pub table: String,
    /// Where in the file its rows stand: a sheet, or the path of a nested list.
    pub path: String,
    /// Rows read.
    pub rows_read: u64,
    /// Rows loaded.
    pub rows_loaded: u64,
}

/// Why rows of a file are rejected.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize)]
pub struct RejectReason {
    /// The column; `None` where the whole row will not do.
    pub column: Option<String>,
    /// Why, in words.
    pub reason: String,
    /// How many rows.
    pub rows: u64,
    /// The line of the first of them.
    pub line: u64,
    /// The value of the first of them.
    pub value: Option<String>,
}

/// One file of a receipt.
#[derive(Clone, Debug, Default, Serialize)]
#[non_exhaustive]
pub struct ReceiptLine {
    /// The file's path, as people know it.
    pub path: String,
    /// Its feed.
    pub feed: Option<String>,
    /// What became of it.
    pub outcome: Outcome,
    /// What kind of file it is.
    pub kind: Option<String>,
    /// Its table.
    pub table: Option<String>,
    /// Records read.
    pub rows_read: u64,
    /// Rows loaded.
    pub rows_loaded: u64,
    /// Rows rejected.
    pub rows_rejected: u64,
    /// Why, the commonest reason first.
    pub reject_reasons: Vec<RejectReason>,
    /// The feed says how many may be.
    #[serde(skip)]
    pub rejects_allowed: bool,
    /// Records left out by rule.
    pub rows_left_out: u64,
    /// What became of its rows in the table.
    pub counts: RowCounts,
    /// What went to its other tables: sheets, and what was nested in its records.
    pub parts: Vec<PartLine>,
    /// Its size.
    pub bytes: u64,
    /// When it was modified: microseconds since 1970.
    #[serde(skip)]
    pub modified: i64,
    /// Seconds it took.
    pub seconds: f64,
    /// How it differs from its tables, with what was done about it.
    pub changes: Vec<Drift>,
    /// Why it is held.
    pub holds: Vec<HoldReason>,
    /// Why it is held, failed or was skipped, and what it is warned of, as codes and their facts.
    pub reasons: Vec<Reason>,
    /// Whether its rows took the place of an earlier version's.
    pub replaced: bool,
    /// It is as it was when those were loaded.
    #[serde(skip)]
    pub again: bool,
    /// The first keys that were left as somebody else has changed them: `id 2`.
    pub left_keys: Vec<String>,
    /// Lines after the table that were left out of it.
    pub footer: Vec<String>,
    /// What there is to say of what was found in it.
    pub notes: Vec<String>,
    /// What a person or an earlier version of the program wrote into the ledger about it.
    pub message: Option<String>,
    /// Why it failed, as data.
    #[serde(skip)]
    pub error: Option<EngineError>,
}

impl Receipt {
    /// The receipt of a batch as the ledger has it: these are its lines. What the ledger does not keep
    /// (files that were known, conflicts) is not in it.
    pub fn recorded(batch: &BatchEntry, database: String, files: Vec<ReceiptLine>) -> Receipt {
        Receipt {
            version: RECEIPT_VERSION,
            batch: Some(batch.batch),
            database,
            began_at: clock::rfc3339(batch.began),
            seconds: batch.ended.map_or(0.0, |ended| seconds(batch.began, ended)),
            totals: Receipt::total(&files),
            files,
            known: 0,
            unmatched: Vec::new(),
            conflicts: Vec::new(),
            respelled: Vec::new(),
            stale: Vec::new(),
            refused_corrections: Vec::new(),
            waiting: Vec::new(),
            missing: Vec::new(),
        }
    }

    /// Adds the lines up.
    pub fn total(lines: &[ReceiptLine]) -> Totals {
        let mut totals = Totals::default();
        for line in lines {
            match line.outcome {
                Outcome::Loaded | Outcome::Superseded => {
                    totals.files_loaded += 1;
                    totals.rows_read += line.rows_read;
                    totals.rows_loaded += line.rows_loaded;
                    totals.rows_rejected += line.rows_rejected;
                    totals.rows_left_out += line.rows_left_out;
                    totals.bytes += line.bytes;
                }
                Outcome::Failed => totals.files_failed += 1,
                Outcome::Held => totals.files_held += 1,
                Outcome::Waiting => totals.files_waiting += 1,
                Outcome::Known
                | Outcome::Same
                | Outcome::Discarded
                | Outcome::Retracted
                | Outcome::Unmatched => {}
            }
        }
        totals
    }
}

impl ReceiptLine {
    /// The line of an entry of the ledger.
    pub fn recorded(entry: &FileEntry) -> ReceiptLine {
        // Of a file that was loaded, the message is what was noted of it, a line each.
        let (notes, message) = match (entry.outcome, &entry.message) {
            (Outcome::Loaded | Outcome::Superseded, Some(message)) => {
                (message.lines().map(str::to_owned).collect(), None)
            }
            (_, message) => (Vec::new(), message.clone()),
        };
        ReceiptLine {
            notes,
            path: entry.arrival.path.clone(),
            feed: entry.feed.clone(),
            outcome: entry.outcome,
            kind: entry.kind.clone(),
            table: entry.table.clone(),
            rows_read: entry.read,
            rows_loaded: entry.loaded,
            rows_rejected: entry.rejected,
            rows_left_out: entry.left_out,
            counts: entry.counts.into(),
            bytes: entry.arrival.bytes,
            seconds: seconds(entry.began, entry.ended),
            message,
            reasons: entry.reasons.clone(),
            ..ReceiptLine::default()
        }
    }
}

impl PartLine {
    /// The line of a part as the ledger has it.
    pub fn recorded(part: PartEntry) -> PartLine {
        PartLine { table: part.table, path: part.path, rows_read: part.read, rows_loaded: part.loaded }
    }
}

/// Seconds between two moments in microseconds.
fn seconds(from: i64, to: i64) -> f64 {
    to.saturating_sub(from) as f64 / 1e6
}
