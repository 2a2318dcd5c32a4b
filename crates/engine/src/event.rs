//! What happens, as data. Terminal, log, metrics and notifications are renderers of these events; the
//! receipt is what was collected of them.

use std::sync::Arc;

use crate::error::EngineError;
use crate::receipt::{Conflict, Receipt, ReceiptLine};

/// One thing that happened.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub enum Event {
    /// A batch begins.
    BatchBegan {
        /// Its number in the ledger.
        batch: i64,
        /// How many files are new or changed.
        files: usize,
        /// How many bytes they have.
        bytes: u64,
    },
    /// Files begin to be profiled, and are not loaded.
    SurveyBegan {
        /// How many files.
        files: usize,
        /// How many bytes they have.
        bytes: u64,
    },
    /// A file is begun.
    FileBegan {
        /// Its path, as people know it.
        path: String,
        /// Whether its values are looked at first, or it is loaded straight away.
        step: Step,
        /// Its size in bytes.
        bytes: u64,
    },
    /// More bytes of a file were read.
    Progress {
        /// Its path, as people know it.
        path: Arc<str>,
        /// How many.
        bytes: u64,
    },
    /// Something failed that may work when it is tried again, and is.
    Retrying {
        /// The file, as people know it; without one it is the batch itself.
        path: Option<String>,
        /// What failed.
        error: EngineError,
    },
    /// A file is done with.
    FileEnded {
        /// The batch.
        batch: i64,
        /// Where it stands in the receipt: the number of its feed, and its own among the feed's files.
        position: (usize, usize),
        /// What became of it.
        line: Arc<ReceiptLine>,
    },
    /// Files of the batch have different types for a column.
    ConflictFound {
        /// The number of their feed.
        feed: usize,
        /// The column, and what the files have.
        conflict: Conflict,
    },
    /// The batch is over: all that came of it.
    BatchEnded {
        /// The receipt.
        receipt: Arc<Receipt>,
    },
    /// The files are profiled.
    SurveyEnded,
    /// Something failed that is no file of the batch: a place that cannot be listed, a file that
    /// cannot be put away, a database that became unreachable.
    Failed {
        /// What failed.
        error: EngineError,
    },
}

/// What is being done with a file.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Step {
    /// Reading all its values for their evidence.
    Profiling,
    /// Loading its rows.
    Loading,
}

/// Takes events, on whatever thread they happen.
pub trait Listener: Sync {
    /// Takes one event.
    fn on(&self, event: &Event);
}

/// A listener that does nothing.
#[derive(Clone, Copy, Debug, Default)]
pub struct Silent;

impl Listener for Silent {
    fn on(&self, _: &Event) {}
}

/// Listeners that are told one after another.
pub struct All<'a>(pub Vec<&'a dyn Listener>);

impl Listener for All<'_> {
    fn on(&self, event: &Event) {
        self.0.iter().for_each(|listener| listener.on(event));
    }
}
