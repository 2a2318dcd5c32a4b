//! Readers: bytes in, records with positions out.
//!
//! [`bytes`] turns a file into text, whatever its compression and encoding; [`text`] finds
//! the dialect and the table in it and reads its records. Nothing here opens files: readers
//! take anything that implements [`std::io::Read`].

pub mod bytes;
mod error;
pub mod text;

pub use error::ReadError;
