//! `hypodoke ledger` and `hypodoke receipt`: what the ledger says.

use hypodoke_core::event::Outcome;
use hypodoke_stores::{BatchEntry, FileEntry, FileQuery, PartEntry};
use serde::Serialize;

use super::Context;
use crate::cli::{LedgerArguments, ReceiptArguments};
use crate::engine::batch::rfc3339;
use crate::engine::receipt::{PartLine, RECEIPT_VERSION, Receipt, ReceiptLine};
use crate::exit::Exit;
use crate::failure::Failure;
use crate::render::{self, json};

/// The version of the ledger's JSON.
///
/// 1: database, files.
const LEDGER_JSON_VERSION: u32 = 1;

#[derive(Serialize)]
struct LedgerDocument {
    version: u32,
    database: String,
    files: Vec<FileLine>,
}

/// An entry of the ledger as JSON.
#[derive(Serialize)]
struct FileLine {
    file: i64,
    batch: i64,
    place: String,
    path: String,
    bytes: u64,
    modified_at: String,
    content_hash: Option<String>,
    feed: Option<String>,
    table: Option<String>,
    kind: Option<String>,
    outcome: Outcome,
    rows_read: u64,
    rows_loaded: u64,
    rows_rejected: u64,
    rows_left_out: u64,
    began_at: String,
    ended_at: String,
    message: Option<String>,
    replaced_by: Option<i64>,
}

impl From<FileEntry> for FileLine {
    fn from(entry: FileEntry) -> FileLine {
        FileLine {
            file: entry.file,
            batch: entry.batch,
            place: entry.arrival.place,
            path: entry.arrival.path,
            bytes: entry.arrival.bytes,
            modified_at: rfc3339(entry.arrival.modified),
            content_hash: entry.hash,
            feed: entry.feed,
            table: entry.table,
            kind: entry.kind,
            outcome: entry.outcome,
            rows_read: entry.read,
            rows_loaded: entry.loaded,
            rows_rejected: entry.rejected,
            rows_left_out: entry.left_out,
            began_at: rfc3339(entry.began),
            ended_at: rfc3339(entry.ended),
            message: entry.message,
            replaced_by: entry.replaced_by,
        }
    }
}

/// Lists the entries.
pub fn list(arguments: &LedgerArguments, context: &Context) -> Result<Exit, Failure> {
    let mut store = context.ledger(&arguments.database)?;
    let files = store.files(&FileQuery { most: Some(arguments.most), ..FileQuery::default() })?;
    if context.json {
        let files = files.into_iter().map(FileLine::from).collect();
        json::print(&LedgerDocument { version: LEDGER_JSON_VERSION, database: store.shown(), files });
    } else {
        render::print(&render::ledger::files(&files, context.screen));
    }
    Ok(Exit::Done)
}

/// Shows a batch again, as it was shown when it ended.
pub fn receipt(arguments: &ReceiptArguments, context: &Context) -> Result<Exit, Failure> {
    let mut store = context.ledger(&arguments.database)?;
    let batches = store.batches(usize::MAX >> 1)?;
    let batch = pick(&batches, arguments.batch)?;
    let files = store.files(&FileQuery { batch: Some(batch.batch), ..FileQuery::default() })?;
    let mut lines = Vec::new();
    for entry in files.iter().rev() {
        let parts = if entry.outcome == Outcome::Loaded { store.parts(entry.file)? } else { Vec::new() };
        lines.push(line_of(entry, parts));
    }
    let receipt = Receipt {
        version: RECEIPT_VERSION,
        batch: Some(batch.batch),
        database: store.shown(),
        began_at: rfc3339(batch.began),
        seconds: batch.ended.map_or(0.0, |ended| seconds(batch.began, ended)),
        totals: Receipt::total(&lines),
        files: lines,
        known: 0,
        unmatched: Vec::new(),
        conflicts: Vec::new(),
        waiting: Vec::new(),
    };
    if context.json {
        json::print(&receipt);
    } else {
        render::print(&render::receipt::text(&receipt, context.screen));
        if batch.ended.is_none() {
            context.remark("this batch has no end: it was interrupted, or it still runs");
        }
    }
    Ok(Exit::Done)
}

/// The batch of that number, or the newest.
pub fn pick(batches: &[BatchEntry], wanted: Option<i64>) -> Result<&BatchEntry, Failure> {
    let newest = batches.first().ok_or_else(|| Failure::usage("the ledger holds no batches yet"))?;
    match wanted {
        None => Ok(newest),
        Some(number) => batches.iter().find(|batch| batch.batch == number).ok_or_else(|| {
            Failure::usage(format!("there is no batch {number}; the newest is {}", newest.batch))
        }),
    }
}

fn line_of(entry: &FileEntry, parts: Vec<PartEntry>) -> ReceiptLine {
    // Of a file that was loaded, the message is what was noted of it, a line each.
    let (notes, message) = match (entry.outcome, &entry.message) {
        (Outcome::Loaded, Some(message)) => (message.lines().map(str::to_owned).collect(), None),
        (_, message) => (Vec::new(), message.clone()),
    };
    let part = |part: PartEntry| PartLine {
        table: part.table,
        path: part.path,
        rows_read: part.read,
        rows_loaded: part.loaded,
    };
    ReceiptLine {
        parts: parts.into_iter().map(part).collect(),
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
        ..ReceiptLine::default()
    }
}

fn seconds(from: i64, to: i64) -> f64 {
    (to - from) as f64 / 1e6
}
