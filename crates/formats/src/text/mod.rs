//! Delimited text: its dialect, its records and where its table begins and ends.

pub mod detect;
pub mod dialect;
mod facts;
mod fixed;
mod reader;
mod scan;
pub mod table;
pub mod tokenise;

pub use detect::DialectOptions;
pub use dialect::{Delimiter, Dialect, Escape};
pub use facts::TextFacts;
pub use fixed::FixedField;
pub use reader::{DEFAULT_RECORD_LIMIT, TextOptions, TextReader};
pub use table::TableOptions;
