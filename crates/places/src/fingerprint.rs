//! Opening a file so that its content is hashed as it is read, and a change is noticed.

use std::fs::File;
use std::io::{self, Read};
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex};

use hypodoke_core::arrival::{Arrival, ContentHash};

use crate::error::PlaceError;
use crate::version::{is_as_listed, version};

/// A file that is being read.
pub struct MeteredFile {
    reader: Box<dyn Read + Send>,
    meter: Meter,
}

/// What is known of a file's content once it was read: shared with its reader.
#[derive(Clone)]
pub struct Meter {
    path: PathBuf,
    /// The version of the file when it was opened.
    begun: Arrival,
    /// The bytes read are those of the file, not of something in it.
    whole: bool,
    state: Arc<Mutex<State>>,
}

struct State {
    hasher: Option<blake3::Hasher>,
    read: u64,
}

/// Opens a file. `hashed` says whether its content is hashed on the way; `listed` is the version that it
/// has to be of.
///
/// ```
/// use std::io::Read;
///
/// let folder = tempfile::tempdir()?;
/// let path = folder.path().join("berths.csv");
/// std::fs::write(&path, "berth\nN1\n")?;
/// let mut file = hypodoke_places::open(&path, true, None).expect("it is there");
/// let meter = file.meter();
/// let mut text = String::new();
/// file.read_to_string(&mut text)?;
/// assert_eq!(meter.finish().expect("nobody changed it").0.len(), 64);
/// # Ok::<(), std::io::Error>(())
/// ```
pub fn open(path: &Path, hashed: bool, listed: Option<&Arrival>) -> Result<MeteredFile, PlaceError> {
    let file = File::open(path).map_err(|error| PlaceError::of(path, error))?;
    opened(path, file, |file| Box::new(file), Opening { hashed, listed, whole: true })
}

/// Opens something in a file, by a reader made of it: what is hashed is what that reader gives. `listed`
/// is the version that the file has to be of.
pub fn open_inside(
    path: &Path,
    hashed: bool,
    listed: Option<&Arrival>,
    reader: Box<dyn Read + Send>,
) -> Result<MeteredFile, PlaceError> {
    let file = File::open(path).map_err(|error| PlaceError::of(path, error))?;
    opened(path, file, |_| reader, Opening { hashed, listed, whole: false })
}

/// How a file is opened.
struct Opening<'a> {
    /// Its content is hashed as it is read.
    hashed: bool,
    /// What it has to be as, where it was listed.
    listed: Option<&'a Arrival>,
    /// All of it is read, and not a part.
    whole: bool,
}

fn opened(
    path: &Path,
    file: File,
    reader: impl FnOnce(File) -> Box<dyn Read + Send>,
    opening: Opening<'_>,
) -> Result<MeteredFile, PlaceError> {
    let Opening { hashed, listed, whole } = opening;
    let about = file.metadata().map_err(|error| PlaceError::of(path, error))?;
    if about.is_dir() {
        return Err(PlaceError::of(path, io::Error::from(io::ErrorKind::IsADirectory)));
    }
    let state = State { hasher: hashed.then(blake3::Hasher::new), read: 0 };
    let begun = version(&about);
    if listed.is_some_and(|listed| !is_as_listed(&about, listed)) {
        return Err(PlaceError::Changed { path: path.to_path_buf() });
    }
    let meter = Meter { path: path.to_path_buf(), begun, whole, state: Arc::new(Mutex::new(state)) };
    Ok(MeteredFile { reader: reader(file), meter })
}

impl MeteredFile {
    /// The meter that will know the content's hash.
    pub fn meter(&self) -> Meter {
        self.meter.clone()
    }
}

impl Read for MeteredFile {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        let count = self.reader.read(buffer)?;
        let mut state = self.meter.state.lock().unwrap_or_else(|poisoned| poisoned.into_inner());
        state.read += count as u64;
        if let Some(hasher) = &mut state.hasher {
            hasher.update(&buffer[..count]);
        }
        Ok(count)
    }
}

impl Meter {
    /// Hashes what was left unread, and gives the hash of the whole content: only if the file
    /// is still what it was when it was opened.
    pub fn finish(&self) -> Result<ContentHash, PlaceError> {
        let failed = |error| PlaceError::of(&self.path, error);
        let mut state = self.state.lock().unwrap_or_else(|poisoned| poisoned.into_inner());
        let mut hasher = state.hasher.take().unwrap_or_default();
        if self.whole && state.read < self.begun.bytes {
            let mut rest = File::open(&self.path).map_err(failed)?;
            io::Seek::seek(&mut rest, io::SeekFrom::Start(state.read)).map_err(failed)?;
            state.read += io::copy(&mut rest, &mut hasher).map_err(failed)?;
        }
        let about = std::fs::metadata(&self.path).map_err(failed)?;
        if !version(&about).looks_like(&self.begun) || self.whole && state.read != self.begun.bytes {
            return Err(PlaceError::Changed { path: self.path.clone() });
        }
        Ok(ContentHash(hasher.finalize().to_hex().to_string()))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_hash_is_of_all_the_content_however_little_was_read() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("a.csv");
        std::fs::write(&path, "quay,berth\n1,2\n").unwrap();
        let mut whole = open(&path, true, None).unwrap();
        io::copy(&mut whole, &mut io::sink()).unwrap();
        let part = open(&path, true, None).unwrap();
        assert_eq!(whole.meter().finish().unwrap(), part.meter().finish().unwrap());
    }

    #[test]
    fn a_change_is_noticed() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("a.csv");
        std::fs::write(&path, "1").unwrap();
        let mut opened = open(&path, true, None).unwrap();
        io::copy(&mut opened, &mut io::sink()).unwrap();
        std::fs::write(&path, "12").unwrap();
        assert!(matches!(opened.meter().finish(), Err(PlaceError::Changed { .. })));
    }

    #[test]
    fn another_version_than_was_listed_is_not_opened() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("a.csv");
        std::fs::write(&path, "1").unwrap();
        let listed = version(&std::fs::metadata(&path).unwrap());
        assert!(open(&path, true, Some(&listed)).is_ok());
        std::fs::write(&path, "12").unwrap();
        assert!(matches!(open(&path, true, Some(&listed)), Err(PlaceError::Changed { .. })));
    }
}
