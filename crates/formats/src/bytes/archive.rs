//! Zip archives: their members, each read as a file of its own. Nothing is unpacked to disk.

use std::fs::File;
use std::io::{self, Read, Seek, SeekFrom, Write};
use std::panic::{AssertUnwindSafe, catch_unwind};
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex};

use hypodoke_core::isolate::helping;
use zip::ZipArchive;

use super::compression::{Compression, ExpansionLimit};
use crate::error::ReadError;

/// A member up to this size, in bytes, is expanded at once.
const SMALL: u64 = 256 * 1024;

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

/// An archive whose directory was read, once for all of its members. It holds no file open: each member
/// that is read opens it anew.
#[derive(Clone, Debug)]
pub struct Archive(ZipArchive<Reopened>);

impl Archive {
    /// Reads the directory of an archive.
    ///
    /// # Errors
    ///
    /// It is no archive, has too many members, or two of one name: only one of them could be read.
    pub fn open(path: &Path) -> Result<Archive, ReadError> {
        let archive = ZipArchive::new(Reopened::new(path)).map_err(broken)?;
        if archive.len() > MOST_MEMBERS {
            return Err(broken(format!("it has {} members, more than {MOST_MEMBERS}", archive.len())));
        }
        if archive.has_duplicate_names() {
            return Err(broken("two of its members have the same name, so that one would hide the other"));
        }
        Ok(Archive(archive.clone()))
    }

    /// The files in it, folders and the system's own litter left out.
    ///
    /// # Errors
    ///
    /// A member's path leads out of the archive's folder, or a member is locked with a password.
    pub fn members(&self) -> Result<Vec<ArchiveMember>, ReadError> {
        let mut archive = self.0.clone();
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

    /// Reads one member. A large one is expanded on a thread of its own, which ends when the reader goes.
    ///
    /// # Errors
    ///
    /// There is no such member, or it is damaged at its beginning.
    pub fn read(&self, index: usize, limit: ExpansionLimit) -> Result<Box<dyn Read + Send>, ReadError> {
        let mut archive = self.0.clone();
        let (compressed, bytes) = {
            let member = archive.by_index_raw(index).map_err(broken)?;
            (member.compressed_size(), member.size())
        };
        let allowed = limit.free.max(compressed.saturating_mul(limit.ratio));
        if bytes <= SMALL {
            // The library ends a member that is larger than it says.
            let mut whole = Vec::with_capacity(bytes as usize);
            copy(&mut archive, index, &mut whole, allowed, limit.ratio)?;
            return match Compression::of(&whole) {
                Some(compression) => compression.expand(io::Cursor::new(whole), limit),
                None => Ok(Box::new(io::Cursor::new(whole))),
            };
        }
        let (reader, mut writer) = io::pipe().map_err(ReadError::Io)?;
        let failure: Arc<Mutex<Option<ReadError>>> = Arc::default();
        let failed = failure.clone();
        let expand = move || {
            let work = AssertUnwindSafe(|| copy(&mut archive, index, &mut writer, allowed, limit.ratio));
            let result =
                helping(|| catch_unwind(work)).unwrap_or_else(|_| Err(broken("its member is damaged")));
            // Set before the pipe closes, so that whoever sees its end sees the failure too.
            *failed.lock().unwrap_or_else(|poisoned| poisoned.into_inner()) = result.err();
            drop(writer);
        };
        std::thread::Builder::new().spawn(expand).map_err(ReadError::Io)?;
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
}

/// A file that is opened when it is first read; a copy opens it for itself.
#[derive(Debug)]
struct Reopened {
    path: PathBuf,
    file: Option<File>,
}

impl Reopened {
    fn new(path: &Path) -> Reopened {
        Reopened { path: path.to_path_buf(), file: None }
    }

    fn file(&mut self) -> io::Result<&mut File> {
        match &mut self.file {
            Some(file) => Ok(file),
            none => Ok(none.insert(File::open(&self.path)?)),
        }
    }
}

impl Clone for Reopened {
    fn clone(&self) -> Reopened {
        Reopened::new(&self.path)
    }
}

impl Read for Reopened {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        self.file()?.read(buffer)
    }
}

impl Seek for Reopened {
    fn seek(&mut self, to: SeekFrom) -> io::Result<u64> {
        self.file()?.seek(to)
    }
}

fn copy(
    archive: &mut ZipArchive<Reopened>,
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
