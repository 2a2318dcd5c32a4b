//! From the bytes of a file to text in UTF-8: compression and encodings, by content.

pub mod archive;
pub mod compression;
pub mod encoding;

pub use compression::{Compression, ExpansionLimit};
pub use encoding::{Encoding, Utf8Source};
