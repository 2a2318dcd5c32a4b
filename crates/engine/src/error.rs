//! What went wrong, as data: what, where, and the cause. Words for what to do about it are the
//! program's.

use std::path::PathBuf;
use std::sync::Arc;

use hypodoke_core::count;
use hypodoke_core::outcome::Reason;
use hypodoke_core::sanitize::clean;
use hypodoke_formats::ReadError;
use hypodoke_places::PlaceError;
use hypodoke_stores::StoreError;
use serde_json::json;

use crate::decide::{FailReason, SkipReason, reason_of};

/// Why the engine could not do something.
#[derive(Clone, Debug, thiserror::Error)]
#[non_exhaustive]
pub enum EngineError {
    /// The files of a place could not be listed.
    #[error("place `{place}`: {}", clean(&cause.to_string()))]
    Place {
        /// The place.
        place: String,
        /// Why.
        #[source]
        cause: Arc<PlaceError>,
    },
    /// A file could not be reached or opened.
    #[error("{}", clean(&.0.to_string()))]
    File(#[source] Arc<PlaceError>),
    /// A file could not be read.
    #[error("{}: {cause}", clean(path))]
    Read {
        /// The file, as people know it.
        path: String,
        /// Why.
        #[source]
        cause: Arc<ReadError>,
    },
    /// A file was read, and cannot be loaded.
    #[error("{} cannot be loaded: {}", clean(path), reason)]
    Unloadable {
        /// The file, as people know it.
        path: String,
        /// Why.
        reason: FailReason,
    },
    /// The database did not do what was asked.
    #[error("{0}")]
    Store(#[source] Arc<StoreError>),
    /// A place became unreachable during a batch, and some of its files were left for later.
    #[error("place `{place}` became unreachable: {} left for later", count::files(*left))]
    PlaceLost {
        /// The place.
        place: String,
        /// How many files were not tried.
        left: u64,
        /// What happened to the first of its files.
        #[source]
        cause: Box<EngineError>,
    },
    /// Two files with different names would have one table.
    #[error(
        "{}: its table would be `{table}`, which is that of files called `{}`; its own name is `{}`",
        clean(path),
        clean(other),
        clean(name)
    )]
    OneTable {
        /// The file.
        path: String,
        /// The table.
        table: String,
        /// What the file's parts make of the table's name.
        name: String,
        /// What those of other files make of it.
        other: String,
    },
    /// A folder that was named holds no files.
    #[error("the folder `{}` holds no files", folder.display())]
    EmptyFolder {
        /// The folder.
        folder: PathBuf,
    },
    /// An entry of the ledger is not what its program writes.
    #[error("the ledger's {what} of {} cannot be read: {why}", clean(path))]
    LedgerEntry {
        /// What it is: `decision`, `format`.
        what: &'static str,
        /// The file that it is about.
        path: String,
        /// Why.
        why: String,
    },
    /// Something that goes into the ledger cannot be written as JSON.
    #[error("the {what} of {} cannot be written to the ledger: {why}", clean(path))]
    NotRecorded {
        /// What it is.
        what: &'static str,
        /// The file that it is about.
        path: String,
        /// Why.
        why: String,
    },
    /// Corrected rows could not be taken.
    #[error("{0}")]
    Resubmit(ResubmitProblem),
    /// Files could not be loaded again, or not be taken out.
    #[error("{0}")]
    Again(AgainProblem),
}

/// What is the matter with a file of corrected rejects.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum ResubmitProblem {
    /// The file could not be opened.
    #[error("{shown} could not be read: {why}")]
    Unreadable {
        /// The file.
        shown: String,
        /// Why.
        why: String,
    },
    /// It has no column that leads back to the rejects.
    #[error("{shown} has no column `hd_reject`, which leads back to the rejects")]
    NoRejectColumn {
        /// The file.
        shown: String,
    },
    /// It has no column that ties its rows to the rejects.
    #[error("{shown} has no column `hd_mark`, which ties each row to its reject")]
    NoMarkColumn {
        /// The file.
        shown: String,
    },
    /// A line does not fit the header.
    #[error("{shown}, line {line}: it has {found} fields, the header {expected}")]
    OtherWidth {
        /// The file.
        shown: String,
        /// The line.
        line: u64,
        /// Its fields.
        found: usize,
        /// The fields of the header.
        expected: usize,
    },
    /// A line does not name its reject.
    #[error("{shown}, line {line}: `hd_reject` is `{}`, which is not the number of a reject", clean(found))]
    NoNumber {
        /// The file.
        shown: String,
        /// The line.
        line: u64,
        /// What stands there.
        found: String,
    },
    /// A line is no row.
    #[error("{shown}: `{}` is not a row under its header", clean(line))]
    NoRow {
        /// The file.
        shown: String,
        /// The line.
        line: String,
    },
    /// A row's reject cannot be loaded.
    #[error("{shown}, line {line}: reject {reject} {}", why.words())]
    NotOpen {
        /// The file.
        shown: String,
        /// The line.
        line: u64,
        /// The reject.
        reject: i64,
        /// Why.
        why: NotOpen,
    },
    /// A record is no JSON.
    #[error("line {line}: `hd_record` is not a JSON record: {why}")]
    NoJson {
        /// The line.
        line: u64,
        /// Why.
        why: String,
    },
    /// The file's records fill several tables at once.
    #[error(
        "{}: its records have lists with tables of their own, and cannot be taken back one by one",
        clean(path)
    )]
    NestedLists {
        /// The file that the rejects are of.
        path: String,
    },
    /// The columns of the rejects' file are no longer those of the table.
    #[error("{}: its columns are no longer those of the table `{table}`", clean(path))]
    OtherColumns {
        /// The file that the rejects are of.
        path: String,
        /// The table.
        table: String,
    },
    /// The feed of the rejects' file is not configured any more.
    #[error("the configuration has no feed `{feed}`, by which {} came", clean(path))]
    NoFeed {
        /// The feed.
        feed: String,
        /// The file that the rejects are of.
        path: String,
    },
    /// The rejects could not be written as CSV.
    #[error("the rejects could not be written: {0}")]
    NotWritten(String),
}

/// Why a reject cannot be loaded.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum NotOpen {
    /// Its number stands in the file twice.
    Twice,
    /// The ledger has no such reject.
    Unknown,
    /// Its corrected row was loaded before.
    Loaded,
    /// A later version of its file is loaded.
    Replaced,
}

impl NotOpen {
    fn words(self) -> &'static str {
        match self {
            NotOpen::Twice => "is there twice",
            NotOpen::Unknown => "is not known to this ledger",
            NotOpen::Loaded => "was corrected before, and its row is in the table",
            NotOpen::Replaced => "is of a file that a later version has taken the place of",
        }
    }
}

/// Why files could not be loaded again, or their rows not be taken out, or a held file not be settled.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum AgainProblem {
    /// The table's rows do not lead back to files.
    #[error("`{table}` has no lineage columns to find the rows of {} by", clean(path))]
    NoLineage {
        /// The file.
        path: String,
        /// The table.
        table: String,
    },
    /// Another process works on the file.
    #[error("{}: somebody else loads it just now", clean(path))]
    InUse {
        /// The file.
        path: String,
    },
    /// The file is in no place, or no feed takes it.
    #[error("{} is not there any more, or no feed of the configuration takes it", clean(path))]
    Gone {
        /// The file.
        path: String,
    },
    /// The file is not what it was when it was held.
    #[error("{} has changed since it was held", clean(path))]
    Changed {
        /// The file.
        path: String,
    },
}

impl EngineError {
    /// Why a file failed for it, as codes and their facts.
    pub fn reasons(&self) -> Vec<Reason> {
        let one = |case: &'static str, facts: serde_json::Value| vec![reason_of("failed", (case, facts))];
        match self {
            EngineError::Unloadable { reason, .. } => reason.reasons(),
            EngineError::Read { cause, .. } => one(cause.code(), json!({ "cause": cause.to_string() })),
            EngineError::Place { .. } | EngineError::File(_) | EngineError::PlaceLost { .. } => {
                one("unreachable", json!({ "cause": self.to_string() }))
            }
            EngineError::Store(cause) => one("database", json!({ "cause": cause.to_string() })),
            EngineError::OneTable { table, other, .. } => {
                one("one_table", json!({ "table": table, "other": other, "cause": self.to_string() }))
            }
            EngineError::EmptyFolder { .. } => one("empty_folder", json!({ "cause": self.to_string() })),
            EngineError::LedgerEntry { what, .. } | EngineError::NotRecorded { what, .. } => {
                one("ledger_entry", json!({ "what": what, "cause": self.to_string() }))
            }
            EngineError::Resubmit(_) => one("resubmit", json!({ "cause": self.to_string() })),
            EngineError::Again(_) => one("again", json!({ "cause": self.to_string() })),
        }
    }

    /// Whether it is that there is nothing in a file.
    pub fn is_of_empty_file(&self) -> bool {
        matches!(self, EngineError::Read { cause, .. } if matches!(**cause, ReadError::Empty))
    }

    /// A file that cannot be loaded.
    pub fn unloadable(path: &str, reason: FailReason) -> EngineError {
        EngineError::Unloadable { path: path.to_owned(), reason }
    }

    /// A file that could not be read.
    pub fn reading(path: &str, cause: ReadError) -> EngineError {
        EngineError::Read { path: path.to_owned(), cause: Arc::new(cause) }
    }

    /// A place that could not be listed.
    pub fn listing(place: &str, cause: PlaceError) -> EngineError {
        EngineError::Place { place: place.to_owned(), cause: Arc::new(cause) }
    }

    /// An entry of the ledger that cannot be read.
    pub fn ledger(what: &'static str, path: &str, why: serde_json::Error) -> EngineError {
        EngineError::LedgerEntry { what, path: path.to_owned(), why: why.to_string() }
    }

    /// Something that cannot be written to the ledger.
    pub fn not_recorded(what: &'static str, path: &str, why: serde_json::Error) -> EngineError {
        EngineError::NotRecorded { what, path: path.to_owned(), why: why.to_string() }
    }

    /// Whether the same may work when it is tried again, without anybody doing anything.
    pub fn is_transient(&self) -> bool {
        match self {
            EngineError::Store(cause) => cause.is_transient(),
            EngineError::Place { cause, .. } | EngineError::File(cause) => {
                matches!(&**cause, PlaceError::Remote { trouble, .. } if trouble.is_transient())
            }
            EngineError::PlaceLost { cause, .. } => cause.is_transient(),
            _ => false,
        }
    }

    /// Why a file is left for later of which this is the error: it is being sent again, or was moved.
    pub fn leaves_for_later(&self) -> Option<SkipReason> {
        match self {
            EngineError::Unloadable { reason: FailReason::ChangedWhileRead, .. } => {
                Some(SkipReason::Changing)
            }
            EngineError::File(cause) if cause.is_changed() => Some(SkipReason::Changing),
            EngineError::File(cause) if cause.is_gone() => Some(SkipReason::Gone),
            _ => None,
        }
    }

    /// Whether a place or the database could not be reached at all, rather than one file not be loaded.
    pub fn is_unreachable(&self) -> bool {
        match self {
            EngineError::Place { .. } | EngineError::PlaceLost { .. } => true,
            EngineError::File(cause) => {
                matches!(&**cause, PlaceError::Remote { trouble, .. } if trouble.is_of_server())
            }
            EngineError::Store(cause) => cause.is_unreachable(),
            _ => false,
        }
    }
}

impl From<StoreError> for EngineError {
    fn from(cause: StoreError) -> EngineError {
        EngineError::Store(Arc::new(cause))
    }
}

impl From<PlaceError> for EngineError {
    fn from(cause: PlaceError) -> EngineError {
        EngineError::File(Arc::new(cause))
    }
}

impl From<ResubmitProblem> for EngineError {
    fn from(problem: ResubmitProblem) -> EngineError {
        EngineError::Resubmit(problem)
    }
}

impl From<AgainProblem> for EngineError {
    fn from(problem: AgainProblem) -> EngineError {
        EngineError::Again(problem)
    }
}
