//! The rows of files as they were loaded, kept with the ledger: in blocks, packed and compressed. What a
//! table holds follows from them when a file is corrected, taken out, or comes late.

mod pack;
mod unpack;

pub use pack::Packer;
pub use unpack::{Next, Unpacked, for_each_row};

/// How strongly blocks are compressed: the quickest that is worth it.
const LEVEL: i32 = 1;

/// How large a block grows before it is compressed, in bytes.
const BLOCK: usize = 256 * 1024;

/// How much is kept in memory before it is written, in bytes.
const WRITTEN_AT: usize = 4 << 20;

/// The largest block that is read, in bytes: no record is larger.
const LARGEST: usize = 1 << 30;
