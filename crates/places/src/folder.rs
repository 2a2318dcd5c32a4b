//! Folders of this machine.

use std::ffi::OsStr;
use std::fmt::Write as _;
use std::fs::{Metadata, OpenOptions};
use std::io::ErrorKind;
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};

use hypodoke_core::arrival::Arrival;
use rustix::fs::{CWD, RenameFlags, renameat_with};
use rustix::io::Errno;
use walkdir::WalkDir;

use crate::backend::{Backend, ListRequest, Listed};
use crate::error::{PlaceError, RemoteTrouble};
use crate::seen::Seen;
use crate::version::{modified, version};

/// A folder of this machine.
#[derive(Debug)]
pub struct Folder {
    root: PathBuf,
}

impl Folder {
    /// A folder, whether or not it is there.
    pub fn new(root: PathBuf) -> Folder {
        Folder { root }
    }
}

impl Backend for Folder {
    fn shown(&self) -> String {
        self.root.display().to_string()
    }

    /// Lists the files of the folder, those in its folders too. Hidden files (`.name`) are left
    /// out, and symbolic links are not followed.
    fn list(&self, request: &ListRequest<'_>) -> Result<Listed, PlaceError> {
        let mut listed = Listed::default();
        std::fs::read_dir(&self.root).map_err(|error| PlaceError::of(&self.root, error))?;
        let is_hidden = |name: &OsStr| name.as_encoded_bytes().first() == Some(&b'.');
        let walk = WalkDir::new(&self.root)
            .sort_by_file_name()
            .into_iter()
            .filter_entry(|entry| entry.depth() == 0 || !is_hidden(entry.file_name()));
        for entry in walk {
            match entry {
                Ok(entry) if entry.file_type().is_file() => match arrival(request.place, entry.path()) {
                    Ok(mut arrival) => {
                        arrival.path = path_within(&self.root, entry.path());
                        if (request.wanted)(&arrival.path, arrival.modified) {
                            listed.files.push((arrival, Some(entry.into_path())));
                        }
                    }
                    // Gone since its folder was listed: it was not there to be found.
                    Err(PlaceError::Missing { .. }) => {}
                    Err(error) => listed.errors.push(error),
                },
                Ok(_) => {}
                Err(error) => {
                    let path = error.path().unwrap_or(&self.root).to_path_buf();
                    let error =
                        error.into_io_error().unwrap_or_else(|| std::io::Error::other("a loop of links"));
                    listed.errors.push(PlaceError::of(path, error));
                }
            }
        }
        Ok(listed)
    }

    fn relocate(&self, arrival: &Arrival, local: &Path, to: &str) -> Result<bool, PlaceError> {
        // Where the name stays the same, it does so to the byte, whatever its encoding.
        let own = local.strip_prefix(&self.root).ok().filter(|_| to.ends_with(&arrival.path));
        let target = match (own, to.len().checked_sub(arrival.path.len())) {
            (Some(own), Some(folders)) => self.root.join(&to[..folders]).join(own),
            _ => self.root.join(to),
        };
        move_to(&target, local, arrival)
    }

    fn fetch(&self, _: &Arrival, _: &Path, _: bool) -> Result<(), RemoteTrouble> {
        Err(RemoteTrouble::Unread("it is a file of this machine and need not be fetched".to_owned()))
    }

    fn watched_folder(&self) -> Option<&Path> {
        Some(&self.root)
    }
}

/// A file's path in a folder, with `/` between its parts.
fn path_within(root: &Path, file: &Path) -> String {
    let inside = file.strip_prefix(root).unwrap_or(file);
    let parts: Vec<_> = inside.components().map(|part| path_text(part.as_os_str())).collect();
    parts.join("/")
}

/// What is known of a file, named by its own path.
fn arrival(place: &str, file: &Path) -> Result<Arrival, PlaceError> {
    let about = std::fs::metadata(file).map_err(|error| PlaceError::of(file, error))?;
    Ok(Arrival { place: place.to_owned(), path: path_text(file.as_os_str()), ..version(&about) })
}

/// One file of this machine, named by its own path.
pub fn look_at(place: &str, file: &Path) -> Result<Seen, PlaceError> {
    let about = std::fs::metadata(file).map_err(|error| PlaceError::of(file, error))?;
    if !about.is_file() && !about.is_dir() {
        // A pipe or a device would be waited for without end, and cannot be read twice.
        return Err(PlaceError::NoFile { path: file.to_path_buf() });
    }
    Ok(Seen::local(arrival(place, file)?, file.to_path_buf()))
}

/// Moves a file if it is of this version still; `false` if the name is taken.
fn move_to(target: &Path, file: &Path, wanted: &Arrival) -> Result<bool, PlaceError> {
    let failed = |error: std::io::Error| PlaceError::of(target, error);
    let changed = || PlaceError::Changed { path: file.to_path_buf() };
    let about = std::fs::symlink_metadata(file).map_err(|error| PlaceError::of(file, error))?;
    if !version(&about).looks_like(wanted) {
        return Err(changed());
    }
    if let Some(folder) = target.parent() {
        std::fs::create_dir_all(folder).map_err(failed)?;
    }
    match rename_free(file, target) {
        Ok(()) => {}
        Err(error) if error.kind() == ErrorKind::AlreadyExists => return Ok(false),
        Err(error) => return Err(PlaceError::of(file, error)),
    }
    // A rename is a change too, so that the time of the last change tells nothing here.
    let moved = std::fs::symlink_metadata(target).map_err(failed)?;
    let sign = |about: &Metadata| (about.dev(), about.ino(), about.len(), modified(about));
    if sign(&moved) == sign(&about) {
        return Ok(true);
    }
    // It was sent again between the two looks at it: the new version is an arrival, which goes back, but
    // not in the place of a version that is newer still.
    match rename_free(target, file) {
        Ok(()) => {}
        Err(error) if error.kind() == ErrorKind::AlreadyExists => {
            return Err(PlaceError::Replaced { path: file.to_path_buf(), kept: target.to_path_buf() });
        }
        Err(error) => return Err(failed(error)),
    }
    Err(changed())
}

/// Gives a file a name that nobody has: in one step where the system can, so that nothing is left of it when the
/// process is killed, and never in the place of another file.
fn rename_free(from: &Path, to: &Path) -> std::io::Result<()> {
    match renameat_with(CWD, from, CWD, to, RenameFlags::NOREPLACE) {
        Err(Errno::INVAL | Errno::NOSYS | Errno::NOTSUP) => {}
        done => return done.map_err(std::io::Error::from),
    }
    // A file system that cannot: the name is taken first.
    OpenOptions::new().write(true).create_new(true).open(to)?;
    std::fs::rename(from, to).inspect_err(|_| {
        let _ = std::fs::remove_file(to);
    })
}

/// A name as text, no two alike: what is not in UTF-8 is written as U+FFFD and the two digits of each
/// byte.
///
/// ```
/// use std::ffi::OsStr;
///
/// assert_eq!(hypodoke_places::path_text(OsStr::new("berths.csv")), "berths.csv");
/// ```
pub fn path_text(name: &OsStr) -> String {
    let mut text = String::with_capacity(name.len());
    let escape = |text: &mut String, bytes: &[u8]| {
        bytes.iter().for_each(|byte| {
            let _ = write!(text, "{}{byte:02X}", char::REPLACEMENT_CHARACTER);
        });
    };
    for chunk in name.as_encoded_bytes().utf8_chunks() {
        let mut parts = chunk.valid().split(char::REPLACEMENT_CHARACTER);
        text.extend(parts.next());
        for part in parts {
            // The sign itself, too, or a name that has it would be taken for another.
            escape(&mut text, "\u{fffd}".as_bytes());
            text.push_str(part);
        }
        escape(&mut text, chunk.invalid());
    }
    text
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    fn list(folder: &Path) -> Result<Listed, PlaceError> {
        let request = ListRequest { place: "quay", wanted: &|_, _| true, is_recent: false, beneath: "" };
        Folder::new(folder.to_path_buf()).list(&request)
    }

    #[rstest]
    #[case::plain(b"gauge_1.csv", "gauge_1.csv")]
    #[case::utf_8("m\u{f6}we.csv".as_bytes(), "m\u{f6}we.csv")]
    #[case::latin(b"m\xf6we.csv", "m\u{fffd}F6we.csv")]
    #[case::two(b"\xff\xfe", "\u{fffd}FF\u{fffd}FE")]
    #[case::the_sign_itself("\u{fffd}F6".as_bytes(), "\u{fffd}EF\u{fffd}BF\u{fffd}BDF6")]
    fn no_two_names_are_one_text(#[case] name: &[u8], #[case] text: &str) {
        use std::os::unix::ffi::OsStrExt;
        assert_eq!(path_text(OsStr::from_bytes(name)), text);
    }

    #[test]
    fn files_are_listed_in_order_with_their_folders() {
        let folder = tempfile::tempdir().unwrap();
        std::fs::create_dir(folder.path().join("b")).unwrap();
        for name in ["c.csv", "a.csv", "b/x.csv", ".hidden"] {
            std::fs::write(folder.path().join(name), "1").unwrap();
        }
        let listing = list(folder.path()).unwrap();
        let paths: Vec<_> = listing.files.iter().map(|(arrival, _)| arrival.path.as_str()).collect();
        assert_eq!(paths, ["a.csv", "b/x.csv", "c.csv"]);
        assert!(listing.errors.is_empty());
    }

    #[test]
    fn links_are_not_followed_out_of_the_place() {
        let (folder, other) = (tempfile::tempdir().unwrap(), tempfile::tempdir().unwrap());
        std::fs::write(other.path().join("secret.csv"), "1").unwrap();
        std::os::unix::fs::symlink(other.path(), folder.path().join("out")).unwrap();
        assert!(list(folder.path()).unwrap().files.is_empty());
    }

    #[test]
    fn a_missing_folder_is_said_to_be_missing() {
        let error = list(Path::new("/nowhere/at/all")).unwrap_err();
        assert!(matches!(error, PlaceError::Missing { .. }));
    }

    #[test]
    fn a_file_moves_in_one_step_and_takes_nobody_s_name() {
        let folder = tempfile::tempdir().unwrap();
        let (from, to) = (folder.path().join("a.csv"), folder.path().join("done/a.csv"));
        std::fs::write(&from, "1").unwrap();
        let seen = look_at("quay", &from).unwrap();
        assert!(move_to(&to, &from, &seen.arrival).unwrap());
        std::fs::write(&from, "22").unwrap();
        let newer = look_at("quay", &from).unwrap();
        assert!(!move_to(&to, &from, &newer.arrival).unwrap(), "the name is taken");
        assert_eq!(std::fs::read_to_string(&to).unwrap(), "1");
        let other = folder.path().join("done/b.csv");
        assert!(matches!(move_to(&other, &from, &seen.arrival), Err(PlaceError::Changed { .. })));
        assert!(from.exists() && !other.exists(), "nothing was touched");
    }
}
