//! Workbooks, and files that pass for them: sheets whose tables are found and read as a person
//! sees them.
//!
//! `book` opens the container, whichever it is, and hands out cells; `cell` writes what a
//! cell shows; `region` finds where on a sheet the table stands; `reader` puts its rows
//! into batches of records.

mod account;
mod book;
mod cell;
mod facts;
mod html;
mod markup;
mod plain_numbers;
mod range;
mod reader;
mod region;
mod rows;
mod sheets;
mod walk;

pub use book::{Book, is_workbook};
pub use html::{looks_like_html, tables as html_tables};
pub use markup::{looks_like_sheet_markup, sheets as markup_sheets};
pub use range::CellRange;
pub use reader::WorkbookReader;

use crate::text::TableOptions;

/// Which sheets are read.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum SheetPick {
    /// All that are not hidden.
    All,
    /// These, by name or by a pattern with `*`. A hidden sheet has to be named in full.
    Named(Vec<String>),
}

/// What becomes of cells that hold an error, such as `#N/A`.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum ErrorCells {
    /// They are null, and counted.
    #[default]
    Null,
    /// Their rows are rejects.
    Reject,
}

/// What the user says of a workbook; the rest is found.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct WorkbookOptions {
    /// Which sheets are read. Unsaid, those that are not hidden and hold a table.
    pub sheets: Option<SheetPick>,
    /// All sheets go to one table, with a column that names the sheet.
    pub one_table: bool,
    /// Where the table stands: `B4:H200`, `B4` (from there on), a named range or a table.
    pub range: Option<String>,
    /// What becomes of cells that hold an error.
    pub errors: ErrorCells,
    /// The table's beginning, as far as it is said.
    pub table: TableOptions,
    /// A sheet has a table of its own even where it is the only one: other files of its kind have more.
    pub apart: bool,
}
