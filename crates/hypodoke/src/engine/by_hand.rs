//! Files and folders named on the command line.

use std::path::{Path, PathBuf};

use hypodoke_places::{Seen, list, look_at, path_text};

use super::Candidate;
use super::archive::unfold;
use super::own::Own;
use crate::failure::Failure;

/// The name under which the ledger keeps files that no place was configured for.
pub const PLACE: &str = "(by hand)";

/// What a file is known by.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Known {
    /// Its whole path, so that it is the same file from wherever it is named.
    ByWholePath,
    /// Its path in the folder that was named.
    ByPathInFolder,
}

/// The files named, and those in the folders named but for Hypodoke's own. What could not be looked at goes to
/// `troubles`; a path that is not there is an error.
pub fn candidates(
    paths: &[PathBuf],
    known: Known,
    own: &Own,
    troubles: &mut Vec<Failure>,
) -> Result<Vec<Candidate>, Failure> {
    let mut found = Vec::new();
    for path in paths {
        if path.is_dir() {
            found.extend(in_folder(path, known, own, troubles)?);
        } else {
            let mut seen = look_at(PLACE, path)?;
            if known == Known::ByPathInFolder {
                seen.arrival.path = path_text(path.file_name().unwrap_or(path.as_os_str()));
            }
            found.extend(unfold(candidate(seen, path.clone(), known))?);
        }
    }
    Ok(found)
}

fn in_folder(
    path: &Path,
    known: Known,
    own: &Own,
    troubles: &mut Vec<Failure>,
) -> Result<Vec<Candidate>, Failure> {
    let mut listing = list(PLACE, path)?;
    listing.seen.retain(|seen| !own.holds(&seen.file));
    troubles.extend(listing.errors.into_iter().map(Failure::from));
    if listing.seen.is_empty() {
        let what = format!("the folder `{}` holds no files", path.display());
        return Err(Failure::load(what).advise("name a folder that does, or the files themselves"));
    }
    let mut found = Vec::new();
    for seen in listing.seen {
        let shown = seen.file.clone();
        match unfold(candidate(seen, shown, known)) {
            Ok(files) => found.extend(files),
            // A bad archive does not keep the others out.
            Err(failure) => troubles.push(failure),
        }
    }
    Ok(found)
}

fn candidate(mut seen: Seen, shown: PathBuf, known: Known) -> Candidate {
    if known == Known::ByWholePath {
        let whole = seen.file.canonicalize().unwrap_or_else(|_| seen.file.clone());
        seen.arrival.path = path_text(whole.as_os_str());
    }
    Candidate { shown: path_text(shown.as_os_str()), ..Candidate::of(seen) }
}
