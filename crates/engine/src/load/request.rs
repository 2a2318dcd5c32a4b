//! What is asked of the load of one file, and what comes of it.

use hypodoke_core::drift::{Action, Drift};
use hypodoke_core::outcome::Reason;
use hypodoke_core::types::Type;
use hypodoke_stores::{Counts, Restore, StoreError};

use crate::clock;
use crate::decide::{FailReason, FileDecision, HoldReason, SkipReason, Terms, Violation};
use crate::error::EngineError;
use crate::event::Listener;
use crate::job::{Candidate, Feed};
use crate::plan::TableMapping;
use crate::receipt::{PartLine, RejectReason};

/// One file to load.
#[derive(Clone)]
pub struct FileRequest<'a> {
    /// Its feed.
    pub feed: &'a Feed,
    /// The file.
    pub file: &'a Candidate,
    /// Its batch.
    pub batch: i64,
    /// The entry whose rows these replace.
    pub replaces: Option<i64>,
    /// How rows of its keys that differ from the files are treated.
    pub restore: Restore,
    /// The newest entry of the file that is known, 0 for none; `None` where that does not matter.
    pub known_until: Option<i64>,
    /// The listener that events go to.
    pub listener: &'a dyn Listener,
    /// When it was begun: microseconds since 1970.
    pub began: i64,
    /// What it does not meet of what its sender states, and is loaded all the same.
    pub warnings: Vec<Violation>,
    /// How many records the files before had, for what is usual.
    pub rows_before: &'a [u64],
    /// The sums of all columns of numbers are wanted, and no expectation is checked.
    pub sum_all: bool,
}

impl<'a> FileRequest<'a> {
    /// A file by itself that replaces nothing.
    pub fn of(
        feed: &'a Feed,
        file: &'a Candidate,
        batch: i64,
        listener: &'a dyn Listener,
    ) -> FileRequest<'a> {
        FileRequest {
            feed,
            file,
            batch,
            replaces: None,
            restore: Restore::Nothing,
            known_until: None,
            listener,
            began: clock::now(),
            warnings: Vec::new(),
            rows_before: &[],
            sum_all: false,
        }
    }
}

/// Why a file is not loaded.
#[derive(Debug)]
pub enum NotLoaded {
    /// The file cannot be read, or does not fit.
    Failed(EngineError),
    /// A person has to decide first.
    Held(Box<HeldFile>),
    /// There is nothing to load.
    Skipped(SkipReason),
    /// The database did not take it.
    Store(StoreError),
}

impl From<StoreError> for NotLoaded {
    fn from(error: StoreError) -> NotLoaded {
        NotLoaded::Store(error)
    }
}

impl From<EngineError> for NotLoaded {
    fn from(error: EngineError) -> NotLoaded {
        NotLoaded::Failed(error)
    }
}

impl NotLoaded {
    /// A file that cannot be loaded.
    pub fn failed(file: &Candidate, reason: FailReason) -> NotLoaded {
        NotLoaded::Failed(EngineError::unloadable(&file.shown, reason))
    }

    /// The terms of a decision that lets a file be loaded; or why it is not. `held` is what else is
    /// known of a file that is held.
    ///
    /// # Errors
    ///
    /// The decision is to hold, fail or skip the file.
    pub fn by(
        decision: FileDecision,
        file: &Candidate,
        held: impl FnOnce() -> HeldFile,
    ) -> Result<Terms, NotLoaded> {
        match decision {
            FileDecision::Load(terms) => Ok(terms),
            FileDecision::Hold(reasons) => Err(NotLoaded::Held(Box::new(HeldFile { reasons, ..held() }))),
            FileDecision::Fail(reason) => Err(NotLoaded::failed(file, reason)),
            FileDecision::Skip(reason) => Err(NotLoaded::Skipped(reason)),
        }
    }
}

/// A file that is held.
#[derive(Clone, Debug, Default)]
pub struct HeldFile {
    /// Why.
    pub reasons: Vec<HoldReason>,
    /// How it differs from its tables, by their names.
    pub drift: Vec<(String, Drift)>,
    /// The file in a few words.
    pub kind: Option<String>,
    /// Records read, where all of it was.
    pub read: u64,
}

impl HeldFile {
    /// How the file would have differed: what a load would have changed was not changed.
    pub fn drift_of(mappings: &[TableMapping]) -> Vec<(String, Drift)> {
        let undone = |drift: Drift| match drift.action {
            Action::Held => drift,
            _ => Drift { action: Action::Noted, ..drift },
        };
        let of_table = |mapping: &TableMapping| {
            let table = mapping.table.clone();
            mapping.drift.clone().into_iter().map(move |drift| (table.clone(), undone(drift)))
        };
        mappings.iter().flat_map(of_table).collect()
    }
}

/// A file that was loaded.
#[derive(Clone, Debug, Default)]
pub struct Loaded {
    /// Its number in the ledger.
    pub number: i64,
    /// Records read, what is nested in them not counted.
    pub read: u64,
    /// Rows loaded of them.
    pub loaded: u64,
    /// Rows rejected of them.
    pub rejected: u64,
    /// Why, the commonest reason first.
    pub reject_reasons: Vec<RejectReason>,
    /// Rows left out by rule.
    pub left_out: u64,
    /// What became of the rows in their tables.
    pub counts: Counts,
    /// A newer delivery is in the table: its rows are kept, and would be again without that one.
    pub superseded: bool,
    /// The first keys that were left as somebody else has changed them.
    pub left_keys: Vec<String>,
    /// What went to its other tables.
    pub parts: Vec<PartLine>,
    /// The file in a few words.
    pub kind: String,
    /// The hash of its content.
    pub hash: String,
    /// How it differs from its tables, with what was done about it.
    pub drift: Vec<Drift>,
    /// Lines after the table that were left out.
    pub footer: Vec<String>,
    /// Expectations that are not met and only warn, as codes and their facts.
    pub warnings: Vec<Reason>,
    /// What else there is to say.
    pub notes: Vec<String>,
    /// The sums of the main table's columns, where they were asked for.
    pub sums: Vec<(String, Type, i128)>,
}
