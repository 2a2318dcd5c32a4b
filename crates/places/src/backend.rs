//! What a place has to be able to do, wherever its files are.

use std::fmt;
use std::path::{Path, PathBuf};

use hypodoke_core::arrival::Arrival;

use crate::error::{PlaceError, RemoteTrouble};

/// What was found in a place.
#[derive(Debug, Default)]
pub struct Listed {
    /// The files, in the order of their paths, each with where it can be opened as it is; those of
    /// which there is no such path have to be fetched first.
    pub files: Vec<(Arrival, Option<PathBuf>)>,
    /// What could not be listed; the rest was.
    pub errors: Vec<PlaceError>,
    /// How many requests to a server it took, where those are counted.
    pub requests: u64,
    /// How many of the files end where their connection ends, and nothing tells whether it was cut off.
    pub open_ended: u64,
}

/// What is to be listed.
pub struct ListRequest<'l> {
    /// The name of the place, for its arrivals.
    pub place: &'l str,
    /// Which files are looked at, by their paths and when they were modified, in microseconds since 1970.
    /// The others are left out as soon as they are met, so that they take no memory.
    pub wanted: &'l (dyn Fn(&str, i64) -> bool + Sync),
    /// Only what may be new since all was listed is asked for, where a place can tell.
    pub is_recent: bool,
    /// Only the file of this path is listed, or what is in the folder of this path; all where it is empty.
    pub beneath: &'l str,
}

impl ListRequest<'_> {
    /// Whether something that is wanted may be in a folder.
    pub fn may_be_in(&self, folder: &str) -> bool {
        is_in(folder, self.beneath) || is_in(self.beneath, folder)
    }
}

/// Whether a path is that of a file or a folder, or in it.
pub(crate) fn is_in(path: &str, folder: &str) -> bool {
    let rest = path.strip_prefix(folder);
    folder.is_empty() || rest.is_some_and(|rest| rest.is_empty() || rest.starts_with('/'))
}

/// Where files are: a folder, a server, a bucket, or behind links.
///
/// A file's version is its size, its time and the token of its arrival, whatever of these the place
/// keeps: what was listed is what is fetched, or the fetch fails.
pub trait Backend: fmt::Debug + Send + Sync {
    /// Where it is, for people, without secrets.
    fn shown(&self) -> String;

    /// Where the file of this path is, for people, without secrets.
    fn shown_file(&self, path: &str) -> String {
        format!("{}/{path}", self.shown().trim_end_matches('/'))
    }

    /// Lists the files there are.
    fn list(&self, request: &ListRequest<'_>) -> Result<Listed, PlaceError>;

    /// Whether it can list what may be new without listing all.
    fn lists_recent(&self) -> bool {
        false
    }

    /// Reads a small file into memory; `None` where the place has no quick way to do so.
    fn read(&self, arrival: &Arrival) -> Option<Result<Vec<u8>, RemoteTrouble>> {
        let _ = arrival;
        None
    }

    /// Moves a file within the place; `false` if the name is taken. `local` is where it can be opened.
    fn relocate(&self, arrival: &Arrival, local: &Path, to: &str) -> Result<bool, PlaceError>;

    /// Fetches a file to a file of this machine, from where an earlier attempt broke off. What is there
    /// beforehand is of this version; `is_left_over` says that another run left it, of which only whole
    /// lots of [`DURABLE`](crate::spool::DURABLE) bytes are sure to be on the disk.
    fn fetch(&self, arrival: &Arrival, to: &Path, is_left_over: bool) -> Result<(), RemoteTrouble>;

    /// The folder whose changes the system gives notice of, if there is one.
    fn watched_folder(&self) -> Option<&Path> {
        None
    }

    /// What shows that the other side is who it should be, where a person has to confirm that once.
    fn identity(&self) -> Option<&dyn Identity> {
        None
    }
}

/// The other side of a connection, which shows a key.
pub trait Identity {
    /// The key that it shows now.
    fn shown_key(&self) -> Result<ShownKey, RemoteTrouble>;

    /// Adds a key to those that are known; gives the file that they are in.
    fn trust(&self, key: &ShownKey) -> Result<PathBuf, RemoteTrouble>;
}

/// A key that the other side shows.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ShownKey {
    /// Its kind.
    pub algorithm: String,
    /// Its fingerprint.
    pub fingerprint: String,
    /// The key itself, as it is kept among those that are known.
    pub text: String,
}
