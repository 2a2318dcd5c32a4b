//! Figures of what a file's columns hold, taken as it is cast, and what is unusual about them.
//!
//! A layout can stay the same while the data does not: a unit changes, a third of a column turns null, a
//! code list gains a word. [`ColumnFigures`] are taken of each column of each file in one pass, and kept in
//! the ledger as [`ColumnSummary`]; [`unusual()`] holds those of a file against those of the files before.

mod column;
mod summary;
mod unusual;
mod words;

pub use column::ColumnFigures;
pub use summary::{ColumnSummary, FileFigures, Spread};
pub use unusual::{
    ENOUGH_FILES, MOST_FILES, Unusual, UnusualFigure, far_fewer_rows, figure, percent, unusual,
};
pub use words::WordCounts;
