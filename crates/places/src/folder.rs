//! Local folders.

use std::ffi::OsStr;
use std::fmt::Write as _;
use std::path::{Path, PathBuf};
use std::time::UNIX_EPOCH;

use hypodoke_core::arrival::Arrival;
use walkdir::WalkDir;

use crate::error::PlaceError;
use crate::place::RemoteFile;

/// A file seen, and where it can be opened.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Seen {
    /// What is known of it.
    pub arrival: Arrival,
    /// Where it is, or will be once it is fetched.
    pub file: PathBuf,
    /// Where it is fetched from, if it is on a server.
    pub remote: Option<RemoteFile>,
}

/// What a look at a place found.
#[derive(Debug, Default)]
pub struct Listing {
    /// The files, in the order of their paths.
    pub seen: Vec<Seen>,
    /// What could not be looked at; the rest was.
    pub errors: Vec<PlaceError>,
}

/// Lists the files of a folder, those in its folders too. Hidden files (`.name`) are left
/// out, and symbolic links are not followed.
pub fn list(place: &str, folder: &Path) -> Result<Listing, PlaceError> {
    let mut listing = Listing::default();
    std::fs::read_dir(folder).map_err(|error| PlaceError::of(folder, error))?;
    let hidden = |name: &OsStr| name.as_encoded_bytes().first() == Some(&b'.');
    let walk = WalkDir::new(folder)
        .sort_by_file_name()
        .into_iter()
        .filter_entry(|entry| entry.depth() == 0 || !hidden(entry.file_name()));
    for entry in walk {
        match entry {
            Ok(entry) if entry.file_type().is_file() => match look(place, folder, entry.path()) {
                Ok(seen) => listing.seen.push(seen),
                // Gone between the listing and the look: it was not there to be found.
                Err(PlaceError::Missing { .. }) => {}
                Err(error) => listing.errors.push(error),
            },
            Ok(_) => {}
            Err(error) => {
                let path = error.path().unwrap_or(folder).to_path_buf();
                let error = error.into_io_error().unwrap_or_else(|| std::io::Error::other("a loop of links"));
                listing.errors.push(PlaceError::of(path, error));
            }
        }
    }
    Ok(listing)
}

fn look(place: &str, folder: &Path, file: &Path) -> Result<Seen, PlaceError> {
    let mut seen = look_at(place, file)?;
    let inside = file.strip_prefix(folder).unwrap_or(file);
    let parts: Vec<_> = inside.components().map(|part| path_text(part.as_os_str())).collect();
    seen.arrival.path = parts.join("/");
    Ok(seen)
}

/// Looks at one file, named by its own path.
pub fn look_at(place: &str, file: &Path) -> Result<Seen, PlaceError> {
    let about = std::fs::metadata(file).map_err(|error| PlaceError::of(file, error))?;
    let path = path_text(file.as_os_str());
    let arrival = Arrival { place: place.to_owned(), path, bytes: about.len(), modified: modified(&about) };
    Ok(Seen { arrival, file: file.to_path_buf(), remote: None })
}

/// A name as text, no two alike: what is not in UTF-8 is written as U+FFFD and the two digits of each
/// byte.
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

/// Microseconds since 1970, as far as the file system keeps them.
pub(crate) fn modified(about: &std::fs::Metadata) -> i64 {
    let Ok(time) = about.modified() else { return 0 };
    match time.duration_since(UNIX_EPOCH) {
        Ok(after) => i64::try_from(after.as_micros()).unwrap_or(i64::MAX),
        Err(before) => i64::try_from(before.duration().as_micros()).map_or(i64::MIN, |micros| -micros),
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

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
        let listing = list("quay", folder.path()).unwrap();
        let paths: Vec<_> = listing.seen.iter().map(|seen| seen.arrival.path.as_str()).collect();
        assert_eq!(paths, ["a.csv", "b/x.csv", "c.csv"]);
        assert!(listing.errors.is_empty());
    }

    #[test]
    fn links_are_not_followed_out_of_the_place() {
        let (folder, other) = (tempfile::tempdir().unwrap(), tempfile::tempdir().unwrap());
        std::fs::write(other.path().join("secret.csv"), "1").unwrap();
        std::os::unix::fs::symlink(other.path(), folder.path().join("out")).unwrap();
        assert!(list("quay", folder.path()).unwrap().seen.is_empty());
    }

    #[test]
    fn a_missing_folder_is_said_to_be_missing() {
        let error = list("quay", Path::new("/nowhere/at/all")).unwrap_err();
        assert!(matches!(error, PlaceError::Missing { .. }));
    }
}
