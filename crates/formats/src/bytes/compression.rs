//! Compressed files, told by their first bytes and read as what they hold.

use std::io::{self, Read};
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};

use crate::error::ReadError;

/// How a file is compressed.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, serde::Serialize, serde::Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Compression {
    /// RFC 1952.
    Gzip,
    /// RFC 8878.
    Zstd,
    /// bzip2.
    Bzip2,
    /// xz.
    Xz,
}

impl Compression {
    /// Tells a compression by the first bytes of a file.
    pub fn of(head: &[u8]) -> Option<Compression> {
        match head {
            [0x1F, 0x8B, 8, ..] => Some(Compression::Gzip),
            [0x28, 0xB5, 0x2F, 0xFD, ..] => Some(Compression::Zstd),
            [b'B', b'Z', b'h', b'1'..=b'9', 0x31, 0x41, 0x59, 0x26, 0x53, 0x59, ..] => {
                Some(Compression::Bzip2)
            }
            [0xFD, b'7', b'z', b'X', b'Z', 0, ..] => Some(Compression::Xz),
            _ => None,
        }
    }

    /// The usual short name.
    pub fn word(self) -> &'static str {
        match self {
            Compression::Gzip => "gzip",
            Compression::Zstd => "zstd",
            Compression::Bzip2 => "bzip2",
            Compression::Xz => "xz",
        }
    }

    /// Reads what the file holds, all members of it, up to a limit.
    pub fn expand<'a>(
        self,
        reader: impl Read + Send + 'a,
        limit: ExpansionLimit,
    ) -> Result<Box<dyn Read + Send + 'a>, ReadError> {
        let taken = Arc::new(AtomicU64::new(0));
        let reader = io::BufReader::with_capacity(1 << 16, Counting { reader, taken: taken.clone() });
        let inner: Box<dyn Read + Send + 'a> = match self {
            Compression::Gzip => Box::new(flate2::bufread::MultiGzDecoder::new(reader)),
            Compression::Zstd => Box::new(zstd::Decoder::with_buffer(reader).map_err(ReadError::Io)?),
            Compression::Bzip2 => Box::new(bzip2::bufread::MultiBzDecoder::new(reader)),
            Compression::Xz => Box::new(liblzma::bufread::XzDecoder::new_multi_decoder(reader)),
        };
        Ok(Box::new(Guarded { inner, taken, given: 0, limit, compression: self }))
    }
}

/// How far a compressed file may expand before it is taken for a trap.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct ExpansionLimit {
    /// Expanded bytes per compressed byte.
    pub ratio: u64,
    /// Expanded bytes that are never questioned.
    pub free: u64,
}

impl Default for ExpansionLimit {
    fn default() -> Self {
        ExpansionLimit { ratio: 200, free: 256 << 20 }
    }
}

struct Counting<R> {
    reader: R,
    taken: Arc<AtomicU64>,
}

impl<R: Read> Read for Counting<R> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        let count = self.reader.read(buffer)?;
        self.taken.fetch_add(count as u64, Ordering::Relaxed);
        Ok(count)
    }
}

struct Guarded<R> {
    inner: R,
    taken: Arc<AtomicU64>,
    given: u64,
    limit: ExpansionLimit,
    compression: Compression,
}

impl<R: Read> Read for Guarded<R> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        let count = self.inner.read(buffer).map_err(|error| {
            let broken = ReadError::Compressed {
                compression: self.compression.word(),
                expanded: self.given,
                error: error.to_string(),
            };
            if error.kind() == io::ErrorKind::Interrupted { error } else { io::Error::other(broken) }
        })?;
        self.given += count as u64;
        let allowed =
            self.limit.free.max(self.taken.load(Ordering::Relaxed).saturating_mul(self.limit.ratio));
        if self.given > allowed {
            return Err(io::Error::other(ReadError::Expansion {
                expanded: self.given,
                ratio: self.limit.ratio,
            }));
        }
        Ok(count)
    }
}
