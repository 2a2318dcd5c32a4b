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
            FileOutcome::Skipped(
                SkipReason::InUse | SkipReason::Changing | SkipReason::Gone | SkipReason::DeliveryWaits,
            ) => Outcome::Waiting,
        }
    }

    /// Why it is held, failed or was skipped, and of what it is warned, as codes and their facts.
    pub fn reasons(&self) -> Vec<Reason> {
        match self {
            FileOutcome::Loaded(file) => file.loaded.warnings.clone(),
            FileOutcome::Recorded(_) => Vec::new(),
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

    /// The line of the receipt.
    pub fn line(self, feed: &Feed, file: &Candidate, seconds: f64) -> ReceiptLine {
        let reasons = self.reasons();
        let line = ReceiptLine { seconds, reasons, ..line_of(feed, file, self.status()) };
        match self {
            FileOutcome::Loaded(file) => file.fill(line),
            FileOutcome::Recorded(entry) => {
                let ReceiptLine { path, modified, seconds, .. } = line;
                ReceiptLine { path, modified, seconds, ..ReceiptLine::recorded(&entry) }
            }
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
        if let FileOutcome::Recorded(entry) = self {
            return FileEntry::clone(entry);
        }
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
            message: None,
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
            left_keys: loaded.left_keys,
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

#[cfg(test)]
mod tests {
    use std::path::PathBuf;

    use hypodoke_core::arrival::Arrival;
    use hypodoke_places::Seen;
    use rstest::rstest;

    use super::*;
    use crate::decide::{FailReason, Violation};
    use crate::receipt::RowCounts;

    fn candidate() -> Candidate {
        let arrival =
            Arrival { place: "quay".into(), path: "berths.csv".into(), bytes: 812, modified: 7, token: None };
        Candidate::of(Seen::local(arrival, PathBuf::from("berths.csv")))
    }

    fn loaded(superseded: bool) -> FileOutcome {
        let counts = Counts { inserted: 5, updated: 2, ..Counts::default() };
        let loaded = Loaded {
            number: 41,
            read: 9,
            loaded: 7,
            rejected: 1,
            left_out: 1,
            counts,
            superseded,
            kind: "csv".into(),
            hash: "h".into(),
            warnings: vec![Violation::CutShort { line: 9 }.warning()],
            notes: vec!["1 line after the table left out: total".into()],
            ..Loaded::default()
        };
        FileOutcome::Loaded(Box::new(LoadedFile { loaded, rejects_allowed: true, ..LoadedFile::default() }))
    }

    fn held() -> FileOutcome {
        let reasons = vec![HoldReason::HeaderGone, HoldReason::ChangedFile];
        FileOutcome::Held(Box::new(HeldFile {
            reasons,
            kind: Some("csv".into()),
            read: 9,
            ..HeldFile::default()
        }))
    }

    fn failed() -> FileOutcome {
        FileOutcome::Failed(EngineError::unloadable("berths.csv", FailReason::ChangedWhileRead))
    }

    fn skipped(reason: SkipReason) -> FileOutcome {
        FileOutcome::Skipped(reason)
    }

    #[rstest]
    #[case::loaded(loaded(false), Outcome::Loaded, &["warned.truncated"])]
    #[case::superseded(loaded(true), Outcome::Superseded, &["warned.truncated"])]
    #[case::held(held(), Outcome::Held, &["held.header_gone", "held.changed_file"])]
    #[case::failed(failed(), Outcome::Failed, &["failed.changed_while_read"])]
    #[case::known(skipped(SkipReason::Known), Outcome::Known, &["skipped.known"])]
    #[case::meanwhile(skipped(SkipReason::LoadedMeanwhile), Outcome::Known, &["skipped.loaded_meanwhile"])]
    #[case::same(
        skipped(SkipReason::SameContent { batch: 3, path: None }),
        Outcome::Same,
        &["skipped.same_content"]
    )]
    #[case::ignored(skipped(SkipReason::ChangeIgnored), Outcome::Discarded, &["skipped.change_ignored"])]
    #[case::empty(skipped(SkipReason::Empty), Outcome::Discarded, &["skipped.empty"])]
    #[case::in_use(skipped(SkipReason::InUse), Outcome::Waiting, &["skipped.in_use"])]
    #[case::changing(skipped(SkipReason::Changing), Outcome::Waiting, &["skipped.changing"])]
    #[case::gone(skipped(SkipReason::Gone), Outcome::Waiting, &["skipped.gone"])]
    #[case::waiting(skipped(SkipReason::DeliveryWaits), Outcome::Waiting, &["skipped.delivery_waits"])]
    fn line_and_entry_say_the_same(
        #[case] outcome: FileOutcome,
        #[case] status: Outcome,
        #[case] codes: &[&str],
    ) {
        let (feed, file) = (Feed::new("berths"), candidate());
        let entry = outcome.entry(&feed, &file, BegunIn { batch: 4, began: 11 });
        let line = outcome.line(&feed, &file, 1.5);
        assert_eq!((line.outcome, entry.outcome), (status, status));
        assert_eq!((&line.kind, line.rows_read), (&entry.kind, entry.read));
        assert_eq!((line.rows_loaded, line.rows_rejected), (entry.loaded, entry.rejected));
        assert_eq!(line.rows_left_out, entry.left_out);
        assert_eq!(line.reasons, entry.reasons);
        let found: Vec<&str> = line.reasons.iter().map(|reason| reason.code.as_str()).collect();
        assert_eq!(found, codes);
        // Of a file that was loaded the entry keeps what was noted; other files have their reasons.
        let noted = (!line.notes.is_empty()).then(|| line.notes.join("\n"));
        assert_eq!((entry.message, &line.message), (noted, &None));
        assert_eq!((entry.batch, entry.began, entry.table.as_deref()), (4, 11, Some("berths")));
        assert_eq!((line.path.as_str(), line.bytes, line.seconds), ("berths.csv", 812, 1.5));
        assert_eq!(line.error.is_some(), status == Outcome::Failed);
        assert_eq!(line.holds.len(), if status == Outcome::Held { codes.len() } else { 0 });
    }

    #[test]
    fn what_was_recorded_before_the_connection_broke_is_told_as_it_was_recorded() {
        let (feed, file) = (Feed::new("berths"), candidate());
        let entry = loaded(false).entry(&feed, &file, BegunIn { batch: 4, began: 11 });
        let counts = Counts { inserted: 5, updated: 2, ..Counts::default() };
        let line = FileOutcome::Recorded(Box::new(FileEntry { counts, ..entry })).line(&feed, &file, 0.0);
        let told = loaded(false).line(&feed, &file, 0.0);
        assert_eq!((line.outcome, line.rows_read, line.rows_loaded), (told.outcome, 9, 7));
        assert_eq!(line.counts, RowCounts { inserted: 5, updated: 2, ..RowCounts::default() });
        assert_eq!((line.counts, line.notes), (told.counts, told.notes));
    }

    #[test]
    fn the_entry_of_a_loaded_file_has_its_number_and_its_hash() {
        let entry = loaded(false).entry(&Feed::new("berths"), &candidate(), BegunIn { batch: 4, began: 11 });
        assert_eq!((entry.file, entry.hash.as_deref()), (41, Some("h")));
        let other = held().entry(&Feed::new("berths"), &candidate(), BegunIn { batch: 4, began: 11 });
        assert_eq!((other.file, other.hash), (0, None));
    }
}
