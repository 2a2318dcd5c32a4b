//! Arrivals: files seen at a place.

use serde::{Deserialize, Serialize};

/// The content of a file as a BLAKE3 hash in 64 hexadecimal digits.
#[derive(Clone, Debug, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(transparent)]
pub struct ContentHash(pub String);

/// One file seen at a place.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Arrival {
    /// The name of its place.
    pub place: String,
    /// Its path in the place, with `/` between folders.
    pub path: String,
    /// Its size in bytes.
    pub bytes: u64,
    /// When it was last modified: microseconds since 1970-01-01T00:00:00Z.
    pub modified: i64,
}

impl Arrival {
    /// The last part of its path.
    pub fn file_name(&self) -> &str {
        self.path.rsplit('/').next().unwrap_or_default()
    }

    /// Whether a file seen earlier at the same path is this one, unchanged.
    pub fn looks_like(&self, earlier: &Arrival) -> bool {
        self.bytes == earlier.bytes && self.modified == earlier.modified
    }
}
