//! Delimited text: its dialect, its records and where its table begins and ends.

pub mod detect;
mod fixed;
pub(crate) mod footer;
mod reader;
mod scan;
pub mod table;
pub mod tokenise;

pub use crate::dialect::{Delimiter, Dialect, Escape, Marks};
pub use crate::facts::TextFacts;
pub use detect::DialectOptions;
pub use fixed::FixedField;
pub use reader::{DEFAULT_RECORD_LIMIT, TextOptions, TextReader, record_limit};
pub use table::TableOptions;
