//! Lines of a receipt and entries of the ledger, made of what came of a file.

use hypodoke_core::drift::{Change, Drift};
use hypodoke_core::event::Outcome;
use hypodoke_stores::{FileEntry, StoreError};

use super::file::{HeldFile, Loaded, Trouble};
use super::receipt::ReceiptLine;
use super::{Candidate, Feed, clock, decision};
use crate::failure::Failure;

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

/// How a file differs from its tables, by their names.
pub type Differs = Vec<(String, Drift)>;

/// The line of a file, also of one that failed or is held; an error only where the database is
/// gone.
pub fn or_failed(
    result: Result<ReceiptLine, Trouble>,
    feed: &Feed,
    file: &Candidate,
) -> Result<(ReceiptLine, Differs), StoreError> {
    let plain = |line: ReceiptLine| Ok((line, Vec::new()));
    match result {
        Ok(line) => plain(line),
        Err(Trouble::Store(error)) if error.is_unreachable() => Err(error),
        Err(Trouble::Store(error)) => plain(failed_line(feed, file, &Failure::from(error))),
        Err(Trouble::File(failure)) => plain(failed_line(feed, file, &failure)),
        Err(Trouble::Held(held)) => Ok((held_line(feed, file, &held), held.drift)),
    }
}

fn held_line(feed: &Feed, file: &Candidate, held: &HeldFile) -> ReceiptLine {
    let why: Vec<&str> = held.holds.iter().map(|hold| hold.why.as_str()).collect();
    let first: Vec<String> =
        held.holds.iter().filter_map(|hold| hold.ways.first()).map(decision::option).fold(
            Vec::new(),
            |mut all, option| {
                if !all.contains(&option) {
                    all.push(option);
                }
                all
            },
        );
    let command = format!("hypodoke settle {} {}", decision::quoted(&file.shown), first.join(" "));
    ReceiptLine {
        kind: held.kind.clone(),
        message: Some(why.join("\n")),
        advice: Some(command),
        changes: held.drift.iter().map(|(_, drift)| drift.clone()).collect(),
        holds: held.holds.clone(),
        rows_read: held.read,
        ..line_of(feed, file, Outcome::Held)
    }
}

fn failed_line(feed: &Feed, file: &Candidate, failure: &Failure) -> ReceiptLine {
    ReceiptLine {
        message: Some(failure.message.clone()),
        advice: failure.advice.clone(),
        ..line_of(feed, file, Outcome::Failed)
    }
}

/// The line of a file that was loaded.
pub fn loaded_line(feed: &Feed, file: &Candidate, loaded: &Loaded, replaced: bool) -> ReceiptLine {
    ReceiptLine {
        kind: Some(loaded.kind.clone()),
        rows_read: loaded.read,
        rows_loaded: loaded.loaded,
        rows_rejected: loaded.rejected,
        rows_left_out: loaded.left_out,
        counts: loaded.counts.into(),
        parts: loaded.parts.clone(),
        changes: loaded.drift.clone(),
        replaced,
        footer: loaded.footer.clone(),
        notes: loaded.notes.clone(),
        advice: was_misread(&loaded.drift)
            .then(|| format!("hypodoke replay {} reads the files before it anew", feed.table)),
        ..line_of(feed, file, Outcome::Loaded)
    }
}

fn was_misread(drift: &[Drift]) -> bool {
    drift.iter().any(|drift| matches!(drift.change, Change::Misread { .. }))
}

/// The ledger's entry for what a line tells.
pub fn entry_of(
    line: &ReceiptLine,
    feed: &Feed,
    file: &Candidate,
    batch: i64,
    began: i64,
    hash: Option<String>,
) -> FileEntry {
    FileEntry {
        file: 0,
        batch,
        arrival: file.seen.arrival.clone(),
        hash,
        feed: feed.name.clone(),
        table: Some(feed.table.clone()),
        kind: line.kind.clone(),
        outcome: line.outcome,
        read: line.rows_read,
        loaded: line.rows_loaded,
        rejected: line.rows_rejected,
        left_out: line.rows_left_out,
        counts: Default::default(),
        began,
        ended: clock::now(),
        message: line.message.clone().or_else(|| (!line.notes.is_empty()).then(|| line.notes.join("\n"))),
        replaced_by: None,
        shape: None,
    }
}
