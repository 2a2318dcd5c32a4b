//! Lines of a receipt and entries of the ledger, made of what came of a file.

use hypodoke_core::drift::Drift;
use hypodoke_core::outcome::Outcome;
use hypodoke_stores::{Counts, FileEntry, FileOrder};

use crate::clock;
use crate::decide::{HoldReason, SkipReason};
use crate::error::EngineError;
use crate::job::{Candidate, Feed};
use crate::load::{HeldFile, Loaded};
use crate::receipt::ReceiptLine;

/// How a file differs from its tables, by their names.
pub type TableDrift = Vec<(String, Drift)>;

/// The line of a file of which there is no more to say than this.
pub fn line_of(feed: &Feed, file: &Candidate, outcome: Outcome) -> ReceiptLine {
    ReceiptLine {
        path: file.shown.clone(),
        feed: feed.name.clone(),
        outcome,
        table: Some(feed.table.clone()),
        bytes: file.seen.arrival.bytes,
        modified: file.seen.arrival.modified,
        ..ReceiptLine::default()
    }
}

/// The line of a file that is held.
pub fn held_line(feed: &Feed, file: &Candidate, held: &HeldFile) -> ReceiptLine {
    let why: Vec<String> = held.reasons.iter().map(ToString::to_string).collect();
    ReceiptLine {
        kind: held.kind.clone(),
        message: Some(why.join("\n")),
        changes: held.drift.iter().map(|(_, drift)| drift.clone()).collect(),
        holds: held.reasons.clone(),
        reasons: held.reasons.iter().map(HoldReason::reason).collect(),
        rows_read: held.read,
        ..line_of(feed, file, Outcome::Held)
    }
}

/// The line of a file that failed.
pub fn failed_line(feed: &Feed, file: &Candidate, error: EngineError) -> ReceiptLine {
    let message = Some(error.to_string());
    let reasons = error.reasons();
    ReceiptLine { message, reasons, error: Some(error), ..line_of(feed, file, Outcome::Failed) }
}

/// The line of a file of which there was nothing to load.
pub fn skipped_line(feed: &Feed, file: &Candidate, reason: &SkipReason) -> ReceiptLine {
    let outcome = match reason {
        SkipReason::Known | SkipReason::LoadedMeanwhile => Outcome::Known,
        SkipReason::SameContent { .. } => Outcome::Same,
        SkipReason::ChangeIgnored | SkipReason::Empty => Outcome::Discarded,
        SkipReason::Changing | SkipReason::Gone | SkipReason::DeliveryWaits => Outcome::Waiting,
    };
    let reasons = vec![reason.reason()];
    ReceiptLine { message: reason.sentence(), reasons, ..line_of(feed, file, outcome) }
}

/// The line of a file that was loaded.
pub fn loaded_line(feed: &Feed, file: &Candidate, loaded: &Loaded, replaced: bool) -> ReceiptLine {
    ReceiptLine {
        kind: Some(loaded.kind.clone()),
        rows_read: loaded.read,
        rows_loaded: loaded.loaded,
        rows_rejected: loaded.rejected,
        reject_reasons: loaded.reject_reasons.clone(),
        rejects_allowed: feed.expect.rejected_rows.is_some(),
        rows_left_out: loaded.left_out,
        counts: loaded.counts.into(),
        parts: loaded.parts.clone(),
        changes: loaded.drift.clone(),
        replaced,
        footer: loaded.footer.clone(),
        notes: loaded.notes.clone(),
        ..line_of(feed, file, if loaded.superseded { Outcome::Superseded } else { Outcome::Loaded })
    }
}

/// The line of a file that an entry of the ledger says is loaded.
pub fn recorded_line(feed: &Feed, file: &Candidate, entry: &FileEntry) -> ReceiptLine {
    ReceiptLine {
        kind: entry.kind.clone(),
        rows_read: entry.read,
        rows_loaded: entry.loaded,
        rows_rejected: entry.rejected,
        rows_left_out: entry.left_out,
        counts: entry.counts.into(),
        ..line_of(feed, file, entry.outcome)
    }
}

/// The ledger's entry for what a line tells, of a batch in which the file was begun at a moment.
pub fn entry_of(line: &ReceiptLine, feed: &Feed, file: &Candidate, (batch, began): (i64, i64)) -> FileEntry {
    FileEntry {
        file: 0,
        batch,
        arrival: file.seen.arrival.clone(),
        hash: None,
        feed: feed.name.clone(),
        table: Some(feed.table.clone()),
        kind: line.kind.clone(),
        outcome: line.outcome,
        read: line.rows_read,
        loaded: line.rows_loaded,
        rejected: line.rows_rejected,
        left_out: line.rows_left_out,
        counts: Counts::default(),
        began,
        ended: clock::now(),
        message: line.message.clone().or_else(|| (!line.notes.is_empty()).then(|| line.notes.join("\n"))),
        reasons: line.reasons.clone(),
        replaced_by: None,
        shape: None,
        order: FileOrder::default(),
        rules: None,
        rows_kept: false,
        figures: None,
    }
}
