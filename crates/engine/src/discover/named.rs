//! Files and folders that are named one by one, without a place.

use std::path::{Path, PathBuf};

use hypodoke_places::{Place, Scope, Seen, look_at, path_text};

use super::archive::unfold;
use crate::error::EngineError;
use crate::job::{Candidate, InternalFiles};

/// The name under which the ledger keeps files that no place was configured for.
pub const BY_HAND: &str = "(by hand)";

/// What a file is known by.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum NamedAs {
    /// Its whole path, so that it is the same file from wherever it is named.
    WholePath,
    /// Its path in the folder that was named.
    PathInFolder,
}

/// The files that were named, and those of the folders that were named.
#[derive(Clone, Debug, Default)]
pub struct NamedFiles {
    /// The files.
    pub files: Vec<Candidate>,
    /// What could not be listed or opened in the folders.
    pub errors: Vec<EngineError>,
}

/// Finds the files named, and those in the folders named but for internal ones.
///
/// # Errors
///
/// A path that is not there, a folder without files, an archive that was named and cannot be read.
pub fn named_files(
    paths: &[PathBuf],
    named: NamedAs,
    internal: &InternalFiles,
) -> Result<NamedFiles, EngineError> {
    let mut found = NamedFiles::default();
    for path in paths {
        if path.is_dir() {
            found.add_folder(path, named, internal)?;
        } else {
            let mut seen = look_at(BY_HAND, path)?;
            if named == NamedAs::PathInFolder {
                seen.arrival.path = path_text(path.file_name().unwrap_or(path.as_os_str()));
            }
            found.files.extend(unfold(candidate(seen, path.clone(), named))?);
        }
    }
    Ok(found)
}

/// The files of a place that was named on the spot.
///
/// # Errors
///
/// It cannot be listed, or there are no files.
pub fn files_of_place(place: &Place, named: NamedAs) -> Result<NamedFiles, EngineError> {
    let listing = place.list_now(Scope::Usual)?;
    let mut found = NamedFiles::default();
    found.errors.extend(listing.errors.into_iter().map(EngineError::from));
    if listing.seen.is_empty() && found.errors.is_empty() {
        return Err(EngineError::EmptyFolder { folder: place.shown().into() });
    }
    for mut seen in listing.seen {
        let shown = place.shown_file(&seen.arrival.path);
        if named == NamedAs::WholePath {
            (seen.arrival.place, seen.arrival.path) = (BY_HAND.to_owned(), shown.clone());
        }
        match unfold(Candidate { shown, ..Candidate::of(seen) }) {
            Ok(files) => found.files.extend(files),
            Err(error) => found.errors.push(error),
        }
    }
    Ok(found)
}

impl NamedFiles {
    /// Takes other files in.
    pub fn extend(&mut self, others: NamedFiles) {
        self.files.extend(others.files);
        self.errors.extend(others.errors);
    }

    fn add_folder(
        &mut self,
        folder: &Path,
        named: NamedAs,
        internal: &InternalFiles,
    ) -> Result<(), EngineError> {
        let mut listing = Place::folder(BY_HAND, folder).list_now(Scope::Usual)?;
        listing.seen.retain(|seen| !internal.contains(seen));
        self.errors.extend(listing.errors.into_iter().map(EngineError::from));
        if listing.seen.is_empty() {
            return Err(EngineError::EmptyFolder { folder: folder.to_path_buf() });
        }
        for seen in listing.seen {
            let shown = seen.file.clone();
            match unfold(candidate(seen, shown, named)) {
                Ok(files) => self.files.extend(files),
                // A bad archive does not keep the others out.
                Err(error) => self.errors.push(error),
            }
        }
        Ok(())
    }
}

fn candidate(mut seen: Seen, shown: PathBuf, named: NamedAs) -> Candidate {
    if named == NamedAs::WholePath {
        let whole = seen.file.canonicalize().unwrap_or_else(|_| seen.file.clone());
        seen.arrival.path = path_text(whole.as_os_str());
    }
    Candidate { shown: path_text(shown.as_os_str()), ..Candidate::of(seen) }
}
