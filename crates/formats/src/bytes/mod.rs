//! From the bytes of a file to text in UTF-8: compression and encodings, by content.

pub mod archive;
mod code_page;
pub mod compression;
pub mod encoding;
pub mod source;

pub use compression::{Compression, ExpansionLimit};
pub use encoding::{Encoding, Utf8Source};
pub use source::{ByteSource, SeekableBytes};
