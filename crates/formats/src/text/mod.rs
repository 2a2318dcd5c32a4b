//! Delimited text: its dialect, its records and where its table begins and ends.

pub mod detect;
pub mod dialect;
mod fixed;
mod reader;
mod scan;
pub mod table;
pub mod tokenise;

pub use detect::DialectWishes;
pub use dialect::{Delimiter, Dialect, Escape};
pub use fixed::FixedField;
pub use reader::{DEFAULT_RECORD_LIMIT, TextReader, TextShape, TextWishes};
pub use table::TableWishes;
