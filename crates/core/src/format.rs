//! How the values of a column are written, and how it is known.

use serde::{Deserialize, Serialize};

use crate::spelling::{BoolWords, DateOrder, NullSet, NumberStyle};

/// How the values of a column are written.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Format {
    /// The spellings of null.
    pub nulls: NullSet,
    /// Decimal mark and grouping.
    pub number: NumberStyle,
    /// The order of day, month and year.
    pub date: DateOrder,
    /// The pair of truth words.
    pub truth: BoolWords,
    /// What stands between the numbers of a date whose order is not plain, where all have the same.
    #[serde(default)]
    pub date_mark: Option<u8>,
}

impl Default for Format {
    fn default() -> Self {
        Format {
            nulls: NullSet::ALL,
            number: NumberStyle::default(),
            date: DateOrder::default(),
            truth: BoolWords::default(),
            date_mark: None,
        }
    }
}

/// What it is known from how the values of a column are to be read.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Reading {
    /// The values show it, or there is nothing to show.
    #[default]
    Shown,
    /// They leave it open, and are read as those before them were.
    Kept,
    /// They leave it open, and it was guessed.
    Guessed,
}

impl Reading {
    pub(crate) fn is_shown(&self) -> bool {
        *self == Reading::Shown
    }
}
