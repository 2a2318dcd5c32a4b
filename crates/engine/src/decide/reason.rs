//! The reasons to hold, fail or skip a file, as data.

use hypodoke_core::drift::{HeldChange, Remedy};
use hypodoke_core::types::Type;
use hypodoke_stores::{Mode, Takes};
use serde::ser::{Serialize, SerializeStruct, Serializer};

use super::violation::Violation;

/// Why a file is held.
#[derive(Clone, Debug, PartialEq)]
#[non_exhaustive]
pub enum HoldReason {
    /// A change that the feed's policy does not let through.
    Change(HeldChange),
    /// Files of the feed had a header, and this one has none.
    HeaderGone,
    /// Files of the feed had no header, and this one has one.
    HeaderAppeared,
    /// Without a header, it has another number of columns.
    OtherWidth {
        /// Its columns.
        now: usize,
        /// The columns of the file before.
        before: usize,
    },
    /// Without a header, two or more columns hold other kinds of values than before.
    ColumnsChangedPlaces(Vec<String>),
    /// A sheet is gone and one with the same columns is new.
    RenamedPart {
        /// The one that is gone.
        gone: String,
        /// The new one.
        new: String,
    },
    /// A sheet or a list that the tables know nothing of.
    NewPart {
        /// Its path.
        path: String,
        /// It was an object until now, with columns in the main table.
        was_object: bool,
    },
    /// A sheet is missing that files before it had.
    MissingSheet {
        /// The sheet.
        path: String,
    },
    /// More keys of the table are not in it than may be: it may be half a file.
    Vanished {
        /// How many.
        vanished: u64,
        /// How many there are.
        there: u64,
    },
    /// Its content has changed since it was loaded.
    ChangedFile,
    /// There is nothing in it.
    Empty,
    /// It hardly has a column of the table: it may be a file of another feed.
    OtherLayout {
        /// How many columns of the files before it has.
        common: usize,
        /// How many those have.
        columns: usize,
        /// A table that its columns are those of.
        nearest: Option<String>,
    },
    /// It does not meet an expectation of the feed.
    Unmet(Violation),
}

impl HoldReason {
    /// What a person can decide about it, the likeliest first.
    pub fn remedies(&self) -> Vec<Remedy> {
        match self {
            HoldReason::Change(change) => change.remedies(),
            HoldReason::RenamedPart { gone, new } => {
                vec![Remedy::Rename(gone.clone(), new.clone()), Remedy::LoadAnyway]
            }
            HoldReason::Empty => vec![Remedy::Discard],
            HoldReason::OtherLayout { .. } => vec![Remedy::Discard, Remedy::LoadAnyway],
            HoldReason::Vanished { .. } | HoldReason::ChangedFile => {
                vec![Remedy::LoadAnyway, Remedy::Discard]
            }
            HoldReason::HeaderGone
            | HoldReason::HeaderAppeared
            | HoldReason::OtherWidth { .. }
            | HoldReason::ColumnsChangedPlaces(_)
            | HoldReason::NewPart { .. }
            | HoldReason::MissingSheet { .. }
            | HoldReason::Unmet(_) => vec![Remedy::LoadAnyway],
        }
    }
}

impl Serialize for HoldReason {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        let reason = self.reason();
        let mut hold = serializer.serialize_struct("Hold", 3)?;
        hold.serialize_field("code", &reason.code)?;
        hold.serialize_field("facts", &reason.facts)?;
        hold.serialize_field("ways", &self.remedies())?;
        hold.end()
    }
}

/// Why there is nothing to load of a file.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum SkipReason {
    /// The ledger knows it as it is.
    Known,
    /// Its content is loaded already.
    SameContent {
        /// The batch that loaded it.
        batch: i64,
        /// The path it was loaded from, where that is another.
        path: Option<String>,
    },
    /// It has changed since it was loaded, and the feed leaves such files as they were loaded.
    ChangeIgnored,
    /// Another process loaded it meanwhile.
    LoadedMeanwhile,
    /// Another process is loading it, or files of its table.
    InUse,
    /// It changed while it was read.
    Changing,
    /// It was listed, and was not there any more when its turn came.
    Gone,
    /// Other files of its delivery are not all there yet.
    DeliveryWaits,
    /// There is nothing in it.
    Empty,
}

/// Why a file, readable as it is, cannot be loaded.
#[derive(Clone, Debug, PartialEq)]
#[non_exhaustive]
pub enum FailReason {
    /// A table of its own would have a name that is the ledger's.
    ReservedTable {
        /// The table.
        table: String,
    },
    /// It does not meet expectations that fail a file.
    Unmet(Vec<Violation>),
    /// It has changed, and the table cannot tell the rows of the first version.
    RowsNotFound {
        /// The table.
        table: String,
    },
    /// It has more columns than a table may have.
    TooManyColumns {
        /// Its columns.
        columns: usize,
        /// The most that a table holds, lineage columns included.
        most: usize,
        /// The database.
        database: String,
    },
    /// Its content changed while it was read.
    ChangedWhileRead,
    /// Its columns are matched by their place, and it has another number of them.
    OtherWidth {
        /// Its columns.
        now: usize,
        /// The columns of the file before.
        before: usize,
    },
    /// The mode tells rows apart by a key, which rows of nested lists have not.
    KeyOfList {
        /// The mode.
        mode: Mode,
        /// The list.
        path: String,
    },
    /// It lacks the column that the feed's order or validity goes by.
    NoColumnFor {
        /// The column.
        column: String,
        /// The columns there are.
        there: Vec<String>,
    },
    /// The column that says from when on a row holds tells no moment.
    NoMoment {
        /// The column.
        column: String,
        /// Its type.
        ty: Type,
    },
    /// It lacks a sheet or a list that has a key of its own.
    NoPart {
        /// The sheet or list.
        path: String,
        /// Those there are.
        there: Vec<String>,
    },
    /// It lacks a column of the key.
    NoKeyColumn {
        /// The column.
        column: String,
        /// The columns there are.
        there: Vec<String>,
    },
    /// It does not fit a table that somebody else made.
    OtherColumns {
        /// The table.
        table: String,
        /// Columns of the file that the table lacks.
        unknown: Vec<String>,
        /// Columns that the table requires and the file lacks.
        required: Vec<String>,
        /// Those of the unknown that come from its name.
        of_name: Vec<String>,
    },
    /// What stands in the table's place takes no rows in this way.
    TakesNoRows {
        /// The table.
        table: String,
        /// How it takes rows.
        takes: Takes,
    },
    /// A rule of the feed does not fit the columns.
    Constraint(ConstraintProblem),
    /// The tables do not offer what the feed asks for.
    NotOffered {
        /// What that is, in words: `the mode "history"`.
        what: String,
        /// The database.
        database: String,
    },
    /// Another file of the same delivery failed or is held.
    OtherOfDelivery,
    /// A library failed in a way it must not.
    Panicked(String),
}

/// A rule of a feed that does not fit the columns it is about.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum ConstraintProblem {
    /// A text of the rule is not of the column's type.
    OtherType {
        /// Why, in the words of the type.
        why: String,
        /// The column.
        column: String,
    },
    /// A text that rows are kept by is not of its column's type.
    OtherTypeOfKept {
        /// Why, in the words of the type.
        why: String,
        /// The column.
        column: String,
    },
    /// Rows are kept by a column that the file lacks.
    NoKeptColumn {
        /// The column.
        column: String,
    },
}
