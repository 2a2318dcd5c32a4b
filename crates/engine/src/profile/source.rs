//! Opening a candidate: place, compression and format put together.

use std::fs::File;
use std::io::{Cursor, Read};
use std::path::Path;
use std::sync::Arc;

use hypodoke_formats::bytes::archive::{Archive, holds_workbook, is_archive};
use hypodoke_formats::bytes::{Compression, ExpansionLimit};
use hypodoke_formats::{ByteSource, FormatOptions, ReadError, RecordReader, TableHead};
use hypodoke_places::{Fetched, Meter, MeteredFile, PlaceError, open, open_inside};

use super::FileProfile;
use crate::error::EngineError;
use crate::event::{Event, Listener};
use crate::job::{Candidate, Feed};

/// A file open for reading: its records, and the meter that will know its content.
pub struct Source<'a> {
    /// Its records.
    pub reader: Box<dyn RecordReader + 'a>,
    /// What it is known by.
    identity: Identity,
    /// Keeps a file of a server at hand as long as it is read.
    _fetched: Option<Fetched>,
    /// How it is compressed.
    pub compression: Option<&'static str>,
    /// It is something else than its name says.
    pub remark: Option<String>,
    parts: Vec<String>,
    /// Rows of nested lists have these parts too: each snapshot of them is kept.
    children_have_parts: bool,
}

/// What a file's content is known by.
enum Identity {
    /// Found out while it is read.
    Metered(Meter),
    /// Known of an earlier reading.
    Known(String),
}

impl<'a> Source<'a> {
    /// A file that was read before, its records kept.
    pub fn cached(file: &Candidate, feed: &Feed, profile: &mut FileProfile) -> Option<Source<'a>> {
        let (records, hash) = (profile.kept.take()?, profile.hash.clone()?);
        Some(Source {
            reader: Box::new(records),
            identity: Identity::Known(hash),
            _fetched: None,
            compression: profile.compression,
            remark: profile.remark.clone(),
            parts: file.part_names(),
            children_have_parts: feed.appends_children,
        })
    }

    /// The hash of its content, once all of it is read.
    pub fn hash(&self) -> Result<String, EngineError> {
        match &self.identity {
            Identity::Metered(meter) => Ok(meter.finish()?.0),
            Identity::Known(hash) => Ok(hash.clone()),
        }
    }

    /// Opens a candidate. `hashed` says whether its content is hashed on the way; `known` are
    /// tables whose columns keep their places where the file tells none beforehand.
    pub fn open(
        file: &Candidate,
        feed: &Feed,
        hashed: bool,
        known: &[TableHead],
        listener: &'a dyn Listener,
    ) -> Result<Source<'a>, EngineError> {
        let failed = |error: ReadError| EngineError::reading(&file.shown, error);
        let limit = limit(&feed.format_options);
        let fetched = file.seen.fetched()?;
        let opened = opened(file, hashed, limit)?;
        let meter = opened.meter();
        let mut opened = Reporting { inner: opened, path: file.shown.as_str().into(), listener };
        let mut head = Vec::with_capacity(16);
        (&mut opened).take(16).read_to_end(&mut head).map_err(|error| failed(ReadError::from_io(error)))?;
        let compression = Compression::of(&head);
        let zipped = is_archive(&head) && file.member.is_none() && !is_workbook(file)?;
        let reader: Box<dyn Read + Send + 'a> = if zipped {
            only_member(&fetched, limit).map_err(failed)?
        } else {
            let whole = Cursor::new(head).chain(opened);
            match compression {
                Some(compression) => compression.expand(whole, limit).map_err(failed)?,
                None => Box::new(whole),
            }
        };
        let mut bytes = ByteSource::of_stream(reader);
        if compression.is_none() && !zipped && file.member.is_none() {
            bytes = bytes.stored_in(fetched.to_path_buf());
        }
        let opened = hypodoke_formats::open(bytes, &file.seen.arrival.path, &feed.format_options, known)
            .map_err(failed)?;
        let compression = match compression {
            Some(compression) => Some(compression.word()),
            None => (zipped || file.member.is_some()).then_some("zip"),
        };
        let identity = Identity::Metered(meter);
        let parts = file.part_names();
        let (reader, remark) = (opened.reader, opened.remark);
        let children_have_parts = feed.appends_children;
        Ok(Source {
            reader,
            identity,
            _fetched: Some(fetched),
            compression,
            remark,
            parts,
            children_have_parts,
        })
    }

    /// What the file is, in a few words: `text, semicolon, windows-1252`.
    pub fn kind(&self) -> String {
        let mut kind = self.reader.kind();
        if let Some(compression) = self.compression {
            kind.push_str(", ");
            kind.push_str(compression);
        }
        kind
    }

    /// The names of a table's columns: those of the file, a blank one named by its number; then,
    /// unless it is a child that comes and goes with its records, the named parts of the file's path.
    pub fn header(&self, table: usize) -> Vec<String> {
        let Some(head) = self.reader.tables().get(table) else { return Vec::new() };
        let mut names = header(head, &self.parts);
        if head.is_child && self.children_have_parts {
            names.extend(self.parts.iter().cloned());
        }
        names
    }

    /// What there is to say of the file once it is read.
    pub fn notes(&self) -> Vec<String> {
        self.remark.iter().cloned().chain(self.reader.notes()).collect()
    }
}

/// See [`Source::header`].
pub fn header(head: &TableHead, parts: &[String]) -> Vec<String> {
    let name = |(at, name): (usize, &String)| {
        if name.is_empty() { format!("column_{}", at + 1) } else { name.clone() }
    };
    let own = head.names.iter().enumerate().map(name);
    if head.is_child { own.collect() } else { own.chain(parts.iter().cloned()).collect() }
}

fn is_workbook(file: &Candidate) -> Result<bool, EngineError> {
    let path = file.seen.fetched()?;
    let opened = File::open(&*path).map_err(|error| PlaceError::of(&*path, error))?;
    Ok(holds_workbook(opened, &file.seen.arrival.path))
}

/// Opens the file itself, or its member of an archive.
fn opened(file: &Candidate, hashed: bool, limit: ExpansionLimit) -> Result<MeteredFile, EngineError> {
    let path = file.seen.fetched()?;
    let container = file.container();
    // What is fetched is of the version that was listed, or is not fetched.
    let listed = Some(&container.arrival).filter(|_| container.is_local());
    let Some(member) = &file.member else { return Ok(open(&path, hashed, listed)?) };
    let read = member.archive.read(member.entry.index, limit);
    let reader = read.map_err(|error| EngineError::reading(&file.shown, error))?;
    Ok(open_inside(&path, hashed, listed, reader)?)
}

/// The hash of a candidate's content, read for nothing else.
pub fn content_hash(file: &Candidate) -> Result<String, EngineError> {
    let _fetched = file.seen.fetched()?;
    let mut opened = opened(file, true, ExpansionLimit::default())?;
    std::io::copy(&mut opened, &mut std::io::sink())
        .map_err(|error| EngineError::reading(&file.shown, ReadError::from_io(error)))?;
    Ok(opened.meter().finish()?.0)
}

/// The one file of an archive that was not unfolded.
fn only_member(file: &Path, limit: ExpansionLimit) -> Result<Box<dyn Read + Send>, ReadError> {
    let archive = Archive::open(file)?;
    match &archive.members()?[..] {
        [only] => archive.read(only.index, limit),
        [] => Err(ReadError::Empty),
        several => Err(ReadError::Archive(format!(
            "it has {} members; give it a name that ends in .zip",
            several.len()
        ))),
    }
}

fn limit(format_options: &FormatOptions) -> ExpansionLimit {
    let usual = ExpansionLimit::default();
    ExpansionLimit { ratio: format_options.text.max_expansion.unwrap_or(usual.ratio), ..usual }
}

/// Tells the listener how much was read.
struct Reporting<'a, R> {
    inner: R,
    path: Arc<str>,
    listener: &'a dyn Listener,
}

impl<R: Read> Read for Reporting<'_, R> {
    fn read(&mut self, buffer: &mut [u8]) -> std::io::Result<usize> {
        let count = self.inner.read(buffer)?;
        self.listener.on(&Event::Progress { path: self.path.clone(), bytes: count as u64 });
        Ok(count)
    }
}
