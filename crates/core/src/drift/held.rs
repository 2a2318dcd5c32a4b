//! Changes that the policy does not let through until a person has decided.

use serde::{Deserialize, Serialize};

use super::Alike;
use crate::evidence::Example;
use crate::types::Type;

/// What a person can decide about a file that is held.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Remedy {
    /// One column is another under a new name: the old name, the new one.
    Rename(String, String),
    /// The table gets the column.
    AddColumn(String),
    /// The column is left out.
    IgnoreColumn(String),
    /// The table's column becomes text.
    AsText(String),
    /// The file is loaded whatever differs.
    LoadAnyway,
    /// The file is never loaded.
    Discard,
}

/// One change for which the policy holds a file.
#[derive(Clone, Debug, PartialEq)]
pub enum HeldChange {
    /// A column is gone and one that is like it is new.
    RenamedColumn {
        /// The name of the one that is gone, as the files before wrote it.
        gone: String,
        /// The name of the new one.
        new: String,
        /// How alike they are.
        alike: Alike,
    },
    /// The table has no such column.
    NewColumn {
        /// Its name in the file.
        column: String,
        /// Its type.
        ty: Type,
    },
    /// The file lacks a column of the table.
    MissingColumn {
        /// The name that the files before had for it.
        column: String,
    },
    /// The table's type does not hold all values.
    WiderType {
        /// The column's name in the file.
        column: String,
        /// The table's type.
        from: Type,
        /// The type that holds them.
        to: Type,
    },
    /// More values than may be are of another kind than the table's.
    OtherKind {
        /// The column's name in the file.
        column: String,
        /// The table's type.
        from: Type,
        /// How many are of another kind, of how many; `None` where all are.
        values: Option<(u64, u64)>,
        /// The first of them.
        first: Option<Example>,
    },
}

impl HeldChange {
    /// What can be decided about it, the likeliest first.
    pub fn remedies(&self) -> Vec<Remedy> {
        match self {
            HeldChange::RenamedColumn { gone, new, .. } => {
                vec![Remedy::Rename(gone.clone(), new.clone()), Remedy::AddColumn(new.clone())]
            }
            HeldChange::NewColumn { column, .. } => {
                vec![Remedy::AddColumn(column.clone()), Remedy::IgnoreColumn(column.clone())]
            }
            HeldChange::MissingColumn { .. } => vec![Remedy::LoadAnyway],
            HeldChange::WiderType { column, to: Type::Text, .. } => {
                vec![Remedy::AsText(column.clone()), Remedy::LoadAnyway]
            }
            HeldChange::OtherKind { column, values: None, .. } => vec![Remedy::AsText(column.clone())],
            HeldChange::OtherKind { column, .. } => {
                vec![Remedy::AsText(column.clone()), Remedy::LoadAnyway]
            }
            HeldChange::WiderType { .. } => vec![Remedy::LoadAnyway],
        }
    }
}
