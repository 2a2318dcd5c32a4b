//! Opening a candidate: place, compression and format put together.

use std::io::{Cursor, Read};

use hypodoke_core::event::{Event, Listener};
use hypodoke_core::pattern::{Part, PartValue};
use hypodoke_formats::ReadError;
use hypodoke_formats::bytes::{Compression, ExpansionLimit};
use hypodoke_formats::text::{TextReader, TextShape};
use hypodoke_places::{Meter, open};

use super::{Candidate, Feed};
use crate::failure::Failure;

/// A file open for reading: its records, and the meter that will know its content.
pub struct Source<'a> {
    /// Its records.
    pub reader: TextReader<'a>,
    /// Its content's hash, once read.
    pub meter: Meter,
    /// How it is compressed.
    pub compression: Option<Compression>,
    /// The names of its columns: those of the header, then the named parts of its path.
    pub header: Vec<String>,
}

impl<'a> Source<'a> {
    /// Opens a candidate. `hashed` says whether its content is hashed on the way.
    pub fn open(
        file: &Candidate,
        feed: &Feed,
        hashed: bool,
        listener: &'a dyn Listener,
    ) -> Result<Source<'a>, Failure> {
        let failed = |error: ReadError| Failure::reading(&file.shown, &error);
        let opened = open(&file.seen.file, hashed)?;
        let meter = opened.meter();
        let mut opened = Reporting { inner: opened, listener };
        let mut head = Vec::with_capacity(16);
        (&mut opened).take(16).read_to_end(&mut head).map_err(|error| failed(ReadError::from_io(error)))?;
        let compression = Compression::of(&head);
        let whole = Cursor::new(head).chain(opened);
        let reader: Box<dyn Read + Send + 'a> = match compression {
            Some(compression) => compression.expand(whole, ExpansionLimit::default()).map_err(failed)?,
            None => Box::new(whole),
        };
        let reader = TextReader::open(reader, &feed.wishes).map_err(failed)?;
        let header = header(reader.shape(), &file.parts);
        Ok(Source { reader, meter, compression, header })
    }

    /// What the file is, in a few words: `csv, semicolon, windows-1252`.
    pub fn kind(&self) -> String {
        let dialect = self.reader.shape().dialect;
        let mut kind = format!("text, {}, {}", dialect.delimiter, self.reader.encoding().name());
        if let Some(compression) = self.compression {
            kind.push_str(", ");
            kind.push_str(compression.word());
        }
        kind
    }
}

/// The names of the columns: a blank one is named by its number when names are made.
fn header(shape: &TextShape, parts: &[(Part, PartValue)]) -> Vec<String> {
    shape.names.iter().cloned().chain(parts.iter().map(|(part, _)| part.name.clone())).collect()
}

/// Tells the listener how much was read.
struct Reporting<'a, R> {
    inner: R,
    listener: &'a dyn Listener,
}

impl<R: Read> Read for Reporting<'_, R> {
    fn read(&mut self, buffer: &mut [u8]) -> std::io::Result<usize> {
        let count = self.inner.read(buffer)?;
        self.listener.on(Event::Progress { bytes: count as u64 });
        Ok(count)
    }
}
