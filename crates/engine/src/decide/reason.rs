//! The reasons to hold, fail or skip a file, as data. `Display` gives each in one sentence.

use std::fmt;

use hypodoke_core::count;
use hypodoke_core::drift::{HeldChange, Remedy};
use hypodoke_core::names::RESERVED;
use hypodoke_core::types::Type;
use hypodoke_stores::{Mode, Takes};
use serde::ser::{Serialize, SerializeStruct, Serializer};

use super::violation::Violation;

/// What is said of a file with nothing in it.
const EMPTY: &str = "it is empty";

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

impl fmt::Display for HoldReason {
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            HoldReason::Change(change) => change.fmt(out),
            HoldReason::HeaderGone => out.write_str(
                "its header is gone: the first line is a row, and columns can only be told by their place",
            ),
            HoldReason::HeaderAppeared => out.write_str(
                "it has a header, which the files before it had not: columns can only be told by their place",
            ),
            HoldReason::OtherWidth { now, before } => {
                write!(out, "{now} columns instead of {before}, and without a header nobody can say which")
            }
            HoldReason::ColumnsChangedPlaces(columns) => {
                let names: Vec<String> = columns.iter().map(|name| format!("`{name}`")).collect();
                write!(
                    out,
                    "{} hold other kinds of values than before, and without a header columns that changed places cannot be told",
                    names.join(" and ")
                )
            }
            HoldReason::RenamedPart { gone, new } => {
                write!(out, "`{gone}` is gone and `{new}` is new, with the same columns: probably a rename")
            }
            HoldReason::NewPart { path, was_object: true } => {
                write!(
                    out,
                    "`{path}` was an object until now and is a list here, which takes a table of its own"
                )
            }
            HoldReason::NewPart { path, was_object: false } => {
                write!(out, "`{path}` is new in it, and takes a table of its own")
            }
            HoldReason::MissingSheet { path } => {
                write!(out, "the sheet `{path}` is missing, which the files before it had")
            }
            HoldReason::Vanished { vanished, there } => {
                let (vanished, there) = (count::number(*vanished), count::number(*there));
                write!(out, "{vanished} of the {there} keys that the table holds are not in it")
            }
            HoldReason::ChangedFile => out.write_str("it has changed since it was loaded"),
            HoldReason::Empty => out.write_str(EMPTY),
            HoldReason::OtherLayout { common, columns, nearest } => {
                let share = if *common == 0 { "none".to_owned() } else { format!("only {common}") };
                write!(out, "it has {share} of the {columns} columns of the files before it")?;
                match nearest {
                    Some(table) => write!(out, "; they are those of `{table}`"),
                    None => out.write_str(": it may be of another feed"),
                }
            }
            HoldReason::Unmet(violation) => violation.fmt(out),
        }
    }
}

impl Serialize for HoldReason {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        let reason = self.reason();
        let mut hold = serializer.serialize_struct("Hold", 4)?;
        hold.serialize_field("code", &reason.code)?;
        hold.serialize_field("facts", &reason.facts)?;
        hold.serialize_field("why", &self.to_string())?;
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
    /// It changed while it was read.
    Changing,
    /// It was listed, and was not there any more when its turn came.
    Gone,
    /// Other files of its delivery are not all there yet.
    DeliveryWaits,
    /// There is nothing in it.
    Empty,
}

impl SkipReason {
    /// The reason in a sentence, where there is one to give.
    pub fn sentence(&self) -> Option<String> {
        Some(match self {
            SkipReason::Known => return None,
            SkipReason::SameContent { batch, path: None } => {
                format!("same content as loaded in batch {batch}")
            }
            SkipReason::SameContent { batch, path: Some(path) } => {
                format!("same content as {path}, loaded in batch {batch}")
            }
            SkipReason::ChangeIgnored => {
                "it has changed since it was loaded, which the feed ignores".to_owned()
            }
            SkipReason::Empty => EMPTY.to_owned(),
            SkipReason::LoadedMeanwhile => "another hypodoke loaded it meanwhile".to_owned(),
            SkipReason::Changing => "it changed while it was read, and is read again later".to_owned(),
            SkipReason::Gone => "it was there when the files were listed, and is not any more".to_owned(),
            SkipReason::DeliveryWaits => {
                "another file of its delivery is still arriving; the delivery is loaded later".to_owned()
            }
        })
    }
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

impl FailReason {
    /// The reason in a sentence that names the file.
    pub fn sentence(&self, path: &str) -> String {
        let list = |names: &[String]| names.iter().map(|n| format!("`{n}`")).collect::<Vec<_>>().join(", ");
        match self {
            FailReason::RowsNotFound { table } => {
                format!(
                    "{path} changed after it was loaded, and `{table}` has no lineage columns to find its rows by"
                )
            }
            FailReason::OtherColumns { table, unknown, required, .. } => {
                let mut parts = Vec::new();
                if !unknown.is_empty() {
                    parts.push(format!("the table has no {}", list(unknown)));
                }
                if !required.is_empty() {
                    parts.push(format!("the file has no {}, which the table requires", list(required)));
                }
                format!("{path} does not fit the table `{table}`: {}", parts.join("; "))
            }
            FailReason::TakesNoRows { .. } | FailReason::OtherOfDelivery => self.to_string(),
            reason => format!("{path}: {reason}"),
        }
    }
}

impl fmt::Display for FailReason {
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            FailReason::Unmet(violations) => {
                let all: Vec<String> = violations.iter().map(Violation::to_string).collect();
                out.write_str(&all.join("; "))
            }
            FailReason::ReservedTable { table } => {
                write!(
                    out,
                    "it would fill the table `{table}`, and names that begin with `{RESERVED}` are the ledger's"
                )
            }
            FailReason::RowsNotFound { .. } | FailReason::OtherColumns { .. } => {
                out.write_str(&self.sentence("the file"))
            }
            FailReason::TooManyColumns { columns, most, database } => {
                let (columns, most) = (count::number(*columns as u64), count::number(*most as u64));
                write!(out, "{columns} columns; a table of {database} holds {most}, lineage columns included")
            }
            FailReason::ChangedWhileRead => out.write_str("it changed while it was read"),
            FailReason::OtherWidth { now, before } => write!(
                out,
                "{now} columns, where the file before had {before}: they cannot be matched by their place"
            ),
            FailReason::KeyOfList { mode, path } => {
                let name = if path.is_empty() { "its rows".to_owned() } else { format!("`{path}`") };
                write!(out, "mode `{}` tells rows apart by a key, and there is none for {name}", mode.word())
            }
            FailReason::NoPart { path, there } => {
                let there = if there.is_empty() { "none".to_owned() } else { there.join(", ") };
                write!(out, "no sheet or list `{path}`, which has a key of its own; there are {there}")
            }
            FailReason::NoColumnFor { column, there } => write!(
                out,
                "no column `{column}`, which says in which order files are or from when on rows hold; there are {}",
                there.join(", ")
            ),
            FailReason::NoMoment { column, ty } => {
                write!(
                    out,
                    "`{column}` is {ty}, and says from when on a row holds: a date or a timestamp can"
                )
            }
            FailReason::NoKeyColumn { column, there } => {
                write!(out, "no column `{column}`, which is in the key; there are {}", there.join(", "))
            }
            FailReason::TakesNoRows { table, takes } => match takes {
                Takes::Statements => write!(
                    out,
                    "`{table}` is a view, and rows go into one in bulk only by an INSTEAD OF INSERT trigger"
                ),
                Takes::Rows | Takes::Nothing => write!(out, "`{table}` is a view that takes no rows"),
            },
            FailReason::Constraint(problem) => problem.fmt(out),
            FailReason::NotOffered { what, database } => write!(out, "{database} does not offer {what}"),
            FailReason::OtherOfDelivery => {
                out.write_str("not loaded: another file of the same delivery failed or is held")
            }
            FailReason::Panicked(what) => write!(out, "reading it failed unexpectedly: {what}"),
        }
    }
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

impl fmt::Display for ConstraintProblem {
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            ConstraintProblem::OtherType { why, column } => {
                write!(out, "{why}, which the column `{column}` is")
            }
            ConstraintProblem::OtherTypeOfKept { why, column } => {
                write!(out, "{why}, by which rows are kept, as `{column}` is")
            }
            ConstraintProblem::NoKeptColumn { column } => {
                write!(out, "rows are kept by the column `{column}`, which is not in it")
            }
        }
    }
}
