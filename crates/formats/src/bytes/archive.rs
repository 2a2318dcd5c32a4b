//! Zip archives: their members, each read as a file of its own. Nothing is unpacked to disk.

use std::fs::File;
use std::io::{self, Read, Write};
use std::sync::{Arc, Mutex};

use zip::ZipArchive;

use super::compression::{Compression, ExpansionLimit};
use crate::error::ReadError;

/// The most members of one archive that are looked at.
const MOST_MEMBERS: usize = 100_000;

/// A file in an archive.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ArchiveMember {
    /// Its number in the archive.
    pub index: usize,
    /// Its path in the archive.
    pub name: String,
    /// Its size when expanded, as the archive says.
    pub bytes: u64,
}

/// Whether these first bytes are those of a zip archive.
pub fn is_archive(head: &[u8]) -> bool {
    head.starts_with(b"PK\x03\x04") || head.starts_with(b"PK\x05\x06")
}

/// Whether an archive is that of a workbook, which is a file and no archive to those who made it.
/// Of one that is broken, its name has to tell.
pub fn holds_workbook(file: File, name: &str) -> bool {
    let named = || {
        let name = name.to_lowercase();
        [".xlsx", ".xlsm", ".xlsb", ".ods"].iter().any(|ending| name.ends_with(ending))
    };
    let Ok(archive) = ZipArchive::new(file) else { return named() };
    archive.index_for_name("[Content_Types].xml").is_some() || archive.index_for_name("content.xml").is_some()
}

fn broken(error: impl std::fmt::Display) -> ReadError {
    ReadError::Archive(error.to_string())
}

/// The files in an archive, folders and the system's own litter left out.
pub fn members(file: File) -> Result<Vec<ArchiveMember>, ReadError> {
    let mut archive = ZipArchive::new(file).map_err(broken)?;
    if archive.len() > MOST_MEMBERS {
        return Err(broken(format!("it has {} members, more than {MOST_MEMBERS}", archive.len())));
    }
    let mut found = Vec::new();
    for index in 0..archive.len() {
        let member = archive.by_index_raw(index).map_err(broken)?;
        let name = member.name().map_err(broken)?.into_owned();
        if member.is_dir() || name.starts_with("__MACOSX/") || name.ends_with(".DS_Store") {
            continue;
        }
        if member.enclosed_name().is_none() || name.contains('\\') && name.contains("..") {
            return Err(broken(format!(
                "the path of its member `{}` climbs out of its folder",
                name.escape_debug()
            )));
        }
        if member.encrypted() {
            return Err(ReadError::Locked { member: name });
        }
        found.push(ArchiveMember { index, name, bytes: member.size() });
    }
    Ok(found)
}

/// Reads one member. It is expanded on a thread of its own, which ends when the reader goes.
pub fn open(file: File, index: usize, limit: ExpansionLimit) -> Result<Box<dyn Read + Send>, ReadError> {
    let mut archive = ZipArchive::new(file).map_err(broken)?;
    let compressed = archive.by_index_raw(index).map_err(broken)?.compressed_size();
    let allowed = limit.free.max(compressed.saturating_mul(limit.ratio));
    let (reader, mut writer) = io::pipe().map_err(ReadError::Io)?;
    let failure: Arc<Mutex<Option<ReadError>>> = Arc::default();
    let failed = failure.clone();
    std::thread::spawn(move || {
        let result = copy(&mut archive, index, &mut writer, allowed, limit.ratio);
        // Set before the pipe closes, so that whoever sees its end sees the failure too.
        *failed.lock().unwrap_or_else(|poisoned| poisoned.into_inner()) = result.err();
        drop(writer);
    });
    let mut reader = MemberReader { reader, failure };
    let mut head = Vec::with_capacity(16);
    Read::by_ref(&mut reader).take(16).read_to_end(&mut head).map_err(ReadError::from_io)?;
    let compression = Compression::of(&head);
    let whole = io::Cursor::new(head).chain(reader);
    match compression {
        Some(compression) => compression.expand(whole, limit),
        None => Ok(Box::new(whole)),
    }
}

fn copy(
    archive: &mut ZipArchive<File>,
    index: usize,
    writer: &mut impl Write,
    allowed: u64,
    ratio: u64,
) -> Result<(), ReadError> {
    let mut member = archive.by_index(index).map_err(broken)?;
    let mut buffer = vec![0; 64 * 1024];
    let mut expanded = 0;
    loop {
        let count = member
            .read(&mut buffer)
            .map_err(|error| broken(format!("damaged after {expanded} bytes: {error}")))?;
        expanded += count as u64;
        if expanded > allowed {
            return Err(ReadError::Expansion { expanded, ratio });
        }
        // A closed pipe means that nobody wants more.
        if count == 0 || writer.write_all(&buffer[..count]).is_err() {
            return Ok(());
        }
    }
}

struct MemberReader {
    reader: io::PipeReader,
    failure: Arc<Mutex<Option<ReadError>>>,
}

impl Read for MemberReader {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        let count = self.reader.read(buffer)?;
        if count == 0
            && let Some(error) = self.failure.lock().unwrap_or_else(|poisoned| poisoned.into_inner()).take()
        {
            return Err(io::Error::other(error));
        }
        Ok(count)
    }
}
