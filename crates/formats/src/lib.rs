//! Readers: bytes in, records with positions out.
//!
//! [`bytes`] turns a file into text, whatever its compression and encoding; [`text`], [`json`],
//! [`workbook`] and, with the feature of that name, `columnar` find the tables in it and read their
//! records, each behind the one interface of [`reader`]. [`registry`] knows all formats and opens a file by what it is. Bytes come as a
//! stream; what has to be read at any place is had of it as [`bytes::SeekableBytes`].

pub mod bytes;
#[cfg(feature = "columnar")]
pub mod columnar;
mod dialect;
mod error;
mod facts;
mod foreign;
pub mod json;
mod other_formats;
pub mod reader;
pub mod registry;
pub mod text;
pub mod workbook;

pub use bytes::{ByteSource, SeekableBytes};
pub use error::ReadError;
pub use facts::{FormatFacts, FoundOption, FoundValue};
pub use other_formats::{Format, OtherFormats};
pub use reader::{RecordReader, TableHead};
pub use registry::{FormatOptions, OpenedFile, open};
