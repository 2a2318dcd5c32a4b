//! What became of a file. Its line in the receipt and its entry in the ledger are both made of it.

use hypodoke_core::drift::Drift;
use hypodoke_core::outcome::{Outcome, Reason};
use hypodoke_stores::{Counts, FileEntry, FileOrder};

use crate::clock;
use crate::decide::{HoldReason, SkipReason};
use crate::error::EngineError;
use crate::job::{Candidate, Feed};
use crate::load::{HeldFile, Loaded};
use crate::receipt::ReceiptLine;

/// What became of a file.
#[derive(Debug)]
pub enum FileOutcome {
    /// It was loaded.
    Loaded(Box<LoadedFile>),
    /// It was loaded before the connection broke, as its entry in the ledger says.
    Recorded(Box<FileEntry>),
    /// It waits for a person's decision.
    Held(Box<HeldFile>),
    /// It cannot be loaded as it is, or the database did not take it.
    Failed(EngineError),
    /// There was nothing to load.
    Skipped(SkipReason),
}

/// A file that was loaded by a batch.
#[derive(Debug, Default)]
pub struct LoadedFile {
    /// What the load gave.
    pub loaded: Loaded,
    /// Its rows took the place of an earlier version's.
    pub replaced: bool,
    /// It is as it was when those were loaded.
    pub again: bool,
    /// The feed says how many rows may be rejected.
    pub rejects_allowed: bool,
}

/// When and in which batch a file was begun.
#[derive(Clone, Copy, Debug)]
pub struct BegunIn {
    /// The number of the batch.
    pub batch: i64,
    /// Microseconds since 1970.
    pub began: i64,
}

impl FileOutcome {
    /// The outcome as the ledger and receipts name it.
    pub fn status(&self) -> Outcome {
        match self {
            FileOutcome::Loaded(file) if file.loaded.superseded => Outcome::Superseded,
            FileOutcome::Loaded(_) => Outcome::Loaded,
            FileOutcome::Recorded(entry) => entry.outcome,
            FileOutcome::Held(_) => Outcome::Held,
            FileOutcome::Failed(_) => Outcome::Failed,
            FileOutcome::Skipped(SkipReason::Known | SkipReason::LoadedMeanwhile) => Outcome::Known,
            FileOutcome::Skipped(SkipReason::SameContent { .. }) => Outcome::Same,
            FileOutcome::Skipped(SkipReason::ChangeIgnored | SkipReason::Empty) => Outcome::Discarded,
            FileOutcome::Skipped(SkipReason::Changing | SkipReason::Gone | SkipReason::DeliveryWaits) => {
                Outcome::Waiting
            }
        }
    }

    /// Why it is held, failed or was skipped, as codes and their facts.
    pub fn reasons(&self) -> Vec<Reason> {
        match self {
            FileOutcome::Loaded(_) | FileOutcome::Recorded(_) => Vec::new(),
            FileOutcome::Held(held) => held.reasons.iter().map(HoldReason::reason).collect(),
            FileOutcome::Failed(error) => error.reasons(),
            FileOutcome::Skipped(reason) => vec![reason.reason()],
        }
    }

    /// How a file that is held differs from its tables, by their names.
    pub fn drift(&self) -> &[(String, Drift)] {
        match self {
            FileOutcome::Held(held) => &held.drift,
            _ => &[],
        }
    }

    /// The same in words, for people.
    fn message(&self) -> Option<String> {
        match self {
            FileOutcome::Loaded(_) | FileOutcome::Recorded(_) => None,
            FileOutcome::Held(held) => {
                Some(held.reasons.iter().map(ToString::to_string).collect::<Vec<_>>().join("\n"))
            }
            FileOutcome::Failed(error) => Some(error.to_string()),
            FileOutcome::Skipped(reason) => reason.sentence(),
        }
    }

    /// The line of the receipt.
    pub fn line(self, feed: &Feed, file: &Candidate, seconds: f64) -> ReceiptLine {
        let (reasons, message) = (self.reasons(), self.message());
        let line = ReceiptLine { seconds, reasons, message, ..line_of(feed, file, self.status()) };
        match self {
            FileOutcome::Loaded(file) => file.fill(line),
            FileOutcome::Recorded(entry) => ReceiptLine {
                kind: entry.kind,
                rows_read: entry.read,
                rows_loaded: entry.loaded,
                rows_rejected: entry.rejected,
                rows_left_out: entry.left_out,
                counts: entry.counts.into(),
                ..line
            },
            FileOutcome::Held(held) => ReceiptLine {
                kind: held.kind,
                changes: held.drift.into_iter().map(|(_, drift)| drift).collect(),
                holds: held.reasons,
                rows_read: held.read,
                ..line
            },
            FileOutcome::Failed(error) => ReceiptLine { error: Some(error), ..line },
            FileOutcome::Skipped(_) => line,
        }
    }

    /// The entry of the ledger.
    pub fn entry(&self, feed: &Feed, file: &Candidate, begun: BegunIn) -> FileEntry {
        let entry = FileEntry {
            file: 0,
            batch: begun.batch,
            arrival: file.seen.arrival.clone(),
            hash: None,
            feed: feed.name.clone(),
            table: Some(feed.table.clone()),
            kind: None,
            outcome: self.status(),
            read: 0,
            loaded: 0,
            rejected: 0,
            left_out: 0,
            counts: Counts::default(),
            began: begun.began,
            ended: clock::now(),
            message: self.message(),
            reasons: self.reasons(),
            replaced_by: None,
            shape: None,
            order: FileOrder::default(),
            rules: None,
            rows_kept: false,
            figures: None,
        };
        match self {
            FileOutcome::Loaded(file) => file.recorded(entry),
            FileOutcome::Held(held) => FileEntry { kind: held.kind.clone(), read: held.read, ..entry },
            FileOutcome::Recorded(_) | FileOutcome::Failed(_) | FileOutcome::Skipped(_) => entry,
        }
    }
}

impl LoadedFile {
    fn fill(self, line: ReceiptLine) -> ReceiptLine {
        let loaded = self.loaded;
        ReceiptLine {
            kind: Some(loaded.kind),
            rows_read: loaded.read,
            rows_loaded: loaded.loaded,
            rows_rejected: loaded.rejected,
            reject_reasons: loaded.reject_reasons,
            rejects_allowed: self.rejects_allowed,
            rows_left_out: loaded.left_out,
            counts: loaded.counts.into(),
            parts: loaded.parts,
            changes: loaded.drift,
            replaced: self.replaced,
            again: self.again,
            footer: loaded.footer,
            notes: loaded.notes,
            ..line
        }
    }

    fn recorded(&self, entry: FileEntry) -> FileEntry {
        let loaded = &self.loaded;
        FileEntry {
            file: loaded.number,
            hash: Some(loaded.hash.clone()),
            kind: Some(loaded.kind.clone()),
            read: loaded.read,
            loaded: loaded.loaded,
            rejected: loaded.rejected,
            left_out: loaded.left_out,
            message: (!loaded.notes.is_empty()).then(|| loaded.notes.join("\n")),
            ..entry
        }
    }
}

/// The line of a file of which no more is known than this.
fn line_of(feed: &Feed, file: &Candidate, outcome: Outcome) -> ReceiptLine {
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
