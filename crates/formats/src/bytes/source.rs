//! The bytes of a file, from its beginning or at any place.

use std::fs::File;
use std::io::{self, BufReader, Cursor, Read, Seek, SeekFrom, Write};
use std::path::PathBuf;
use std::sync::Arc;

use crate::error::ReadError;

/// How much of a file is looked at to tell its format.
const HEAD: u64 = 4096;

/// How much of a file that is read at any place is held in memory; a larger one is read from the disk.
const IN_MEMORY: u64 = 32 << 20;

/// As much is in memory before anybody asks how much it is.
#[cfg(feature = "columnar")]
const FEW: u64 = 4 << 20;

/// The most that is unpacked for being read at any place, or held as one text.
pub const MOST_UNPACKED: u64 = 1 << 30;

/// The bytes of a file, unpacked.
pub struct ByteSource<'a> {
    stream: Box<dyn Read + Send + 'a>,
    /// Where the same bytes stand as a file of their own.
    file: Option<PathBuf>,
}

impl<'a> ByteSource<'a> {
    /// Bytes that come one after another.
    pub fn of_stream(stream: impl Read + Send + 'a) -> ByteSource<'a> {
        ByteSource { stream: Box::new(stream), file: None }
    }

    /// The same, where they stand as they are in a file of this machine.
    pub fn stored_in(self, file: PathBuf) -> ByteSource<'a> {
        ByteSource { file: Some(file), ..self }
    }

    /// The first bytes, which are read again afterwards.
    pub(crate) fn head(&mut self) -> Result<Vec<u8>, ReadError> {
        let mut head = Vec::new();
        Read::by_ref(&mut self.stream).take(HEAD).read_to_end(&mut head).map_err(ReadError::from_io)?;
        let rest = std::mem::replace(&mut self.stream, Box::new(io::empty()));
        self.stream = Box::new(Cursor::new(head.clone()).chain(rest));
        Ok(head)
    }

    /// The bytes, one after another.
    pub fn into_stream(self) -> Box<dyn Read + Send + 'a> {
        self.stream
    }

    /// The bytes, to be read at any place. All of them are read once for this, so that whoever
    /// measures the stream has seen them.
    pub fn into_seekable(self) -> Result<SeekableBytes, ReadError> {
        self.seekable(IN_MEMORY)
    }

    /// The same of bytes that are read in large pieces: they are held in memory only where they are few, or
    /// stand in no file.
    #[cfg(feature = "columnar")]
    pub(crate) fn into_pieces(self) -> Result<SeekableBytes, ReadError> {
        let in_memory = if self.file.is_some() { FEW } else { IN_MEMORY };
        self.seekable(in_memory)
    }

    fn seekable(self, in_memory: u64) -> Result<SeekableBytes, ReadError> {
        let mut stream = self.stream;
        let mut bytes = Vec::new();
        Read::by_ref(&mut stream).take(in_memory).read_to_end(&mut bytes).map_err(ReadError::from_io)?;
        if (bytes.len() as u64) < in_memory {
            return Ok(SeekableBytes::of(Stored::Memory(bytes.into())));
        }
        if let Some(path) = self.file {
            io::copy(&mut stream, &mut io::sink()).map_err(ReadError::from_io)?;
            return SeekableBytes::of_file(File::open(path).map_err(ReadError::from_io)?);
        }
        let mut file = tempfile::tempfile().map_err(ReadError::from_io)?;
        file.write_all(&bytes).map_err(ReadError::from_io)?;
        let rest = &mut stream.take(MOST_UNPACKED);
        let unpacked = io::copy(rest, &mut file).map_err(ReadError::from_io)?;
        if unpacked == MOST_UNPACKED {
            return Err(ReadError::TooLarge { limit: MOST_UNPACKED });
        }
        SeekableBytes::of_file(file)
    }
}

/// Bytes that are read at any place, by as many readers as there are clones.
#[derive(Clone, Debug)]
pub struct SeekableBytes {
    stored: Stored,
    length: u64,
    at: u64,
}

#[derive(Clone, Debug)]
enum Stored {
    Memory(Arc<[u8]>),
    File(Arc<File>),
}

impl SeekableBytes {
    fn of(stored: Stored) -> SeekableBytes {
        let length = match &stored {
            Stored::Memory(bytes) => bytes.len() as u64,
            Stored::File(_) => 0,
        };
        SeekableBytes { stored, length, at: 0 }
    }

    /// The bytes of a file.
    pub fn of_file(file: File) -> Result<SeekableBytes, ReadError> {
        let length = file.metadata().map_err(ReadError::from_io)?.len();
        Ok(SeekableBytes { stored: Stored::File(Arc::new(file)), length, at: 0 })
    }

    /// How many they are.
    pub fn length(&self) -> u64 {
        self.length
    }

    /// All of them, where they are in memory.
    #[cfg(feature = "columnar")]
    pub(crate) fn in_memory(&self) -> Option<Arc<[u8]>> {
        match &self.stored {
            Stored::Memory(bytes) => Some(bytes.clone()),
            Stored::File(_) => None,
        }
    }

    /// A reader of its own that begins at the first byte.
    pub fn reader(&self) -> BufReader<SeekableBytes> {
        BufReader::new(SeekableBytes { at: 0, ..self.clone() })
    }
}

impl From<Vec<u8>> for SeekableBytes {
    fn from(bytes: Vec<u8>) -> SeekableBytes {
        SeekableBytes::of(Stored::Memory(bytes.into()))
    }
}

impl Read for SeekableBytes {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        let count = match &self.stored {
            Stored::Memory(bytes) => {
                let from = usize::try_from(self.at).unwrap_or(usize::MAX).min(bytes.len());
                (&bytes[from..]).read(buffer)?
            }
            Stored::File(file) => read_at(file, buffer, self.at)?,
        };
        self.at += count as u64;
        Ok(count)
    }
}

impl Seek for SeekableBytes {
    fn seek(&mut self, to: SeekFrom) -> io::Result<u64> {
        let at = match to {
            SeekFrom::Start(at) => Some(at),
            SeekFrom::End(by) => self.length.checked_add_signed(by),
            SeekFrom::Current(by) => self.at.checked_add_signed(by),
        };
        self.at = at.ok_or_else(|| io::Error::from(io::ErrorKind::InvalidInput))?;
        Ok(self.at)
    }
}

#[cfg(unix)]
fn read_at(file: &File, buffer: &mut [u8], at: u64) -> io::Result<usize> {
    std::os::unix::fs::FileExt::read_at(file, buffer, at)
}

#[cfg(windows)]
fn read_at(file: &File, buffer: &mut [u8], at: u64) -> io::Result<usize> {
    std::os::windows::fs::FileExt::seek_read(file, buffer, at)
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    /// More than is held in memory.
    fn large() -> Vec<u8> {
        (0..IN_MEMORY + 100_000).map(|at| (at / 251) as u8).collect()
    }

    #[rstest]
    #[case::in_memory(vec![7; 5000], false)]
    #[case::unpacked_to_the_disk(large(), false)]
    #[case::stored_in_a_file(large(), true)]
    fn bytes_are_read_at_any_place_by_several(#[case] content: Vec<u8>, #[case] stored: bool) {
        let folder = tempfile::tempdir().expect("a folder");
        let path = folder.path().join("a.bin");
        std::fs::write(&path, &content).expect("a file");
        let mut source = ByteSource::of_stream(Cursor::new(content.clone()));
        if stored {
            source = source.stored_in(path);
        }
        assert_eq!(source.head().expect("a head"), content[..4096]);
        let bytes = source.into_seekable().expect("bytes");
        assert_eq!(bytes.length(), content.len() as u64);
        let (mut first, mut second) = (bytes.reader(), bytes.reader());
        let mut end = Vec::new();
        first.seek(SeekFrom::End(-10)).expect("a place");
        first.read_to_end(&mut end).expect("bytes");
        assert_eq!(end, content[content.len() - 10..]);
        let mut whole = Vec::new();
        second.read_to_end(&mut whole).expect("bytes");
        assert!(whole == content);
    }
}
