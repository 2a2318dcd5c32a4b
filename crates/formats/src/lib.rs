//! Readers: bytes in, records with positions out.
//!
//! [`bytes`] turns a file into text, whatever its compression and encoding; [`text`], [`json`]
//! and [`workbook`] find the tables in it and read their records, each behind the one interface
//! of [`reader`]. Nothing here opens files: readers take anything that implements
//! [`std::io::Read`].

pub mod bytes;
mod error;
pub mod json;
mod open;
pub mod reader;
pub mod text;
pub mod workbook;

pub use error::ReadError;
pub use open::{Opened, Wishes, open};
pub use reader::{RecordReader, Shape, TableHead};
