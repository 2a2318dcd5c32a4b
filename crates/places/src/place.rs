//! A place, wherever it is: a local folder or one on a server.

use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::Duration;

use hypodoke_core::arrival::Arrival;

use crate::error::PlaceError;
use crate::folder::{self, Listing, Seen};
use crate::sftp::{Pin, Remote};

/// Names that files bear while they are still being written.
const UNFINISHED: [&str; 4] = [".part", ".tmp", ".filepart", ".partial"];

/// In microseconds.
const SECOND: i64 = 1_000_000;

/// A modified time so far ahead is that of a clock gone wrong, in microseconds.
const CLOCK_GONE_WRONG: i64 = 3_600_000_000;

/// A place.
#[derive(Clone, Debug)]
pub enum Place {
    /// A local folder.
    Folder {
        /// The place's name.
        name: String,
        /// The folder.
        folder: PathBuf,
    },
    /// A folder on a server.
    Sftp {
        /// The place's name.
        name: String,
        /// The server.
        remote: Arc<Remote>,
    },
}

/// A file on a server, as it is fetched.
#[derive(Clone, Debug)]
pub struct RemoteFile {
    remote: Arc<Remote>,
    arrival: Arrival,
}

/// A file that can be opened as long as this is held.
#[derive(Debug)]
pub struct Fetched {
    path: PathBuf,
    _pin: Option<Pin>,
}

impl std::ops::Deref for Fetched {
    type Target = Path;

    fn deref(&self) -> &Path {
        &self.path
    }
}

impl PartialEq for RemoteFile {
    fn eq(&self, other: &RemoteFile) -> bool {
        Arc::ptr_eq(&self.remote, &other.remote) && self.arrival == other.arrival
    }
}

impl Eq for RemoteFile {}

impl Place {
    /// Its name.
    pub fn name(&self) -> &str {
        match self {
            Place::Folder { name, .. } | Place::Sftp { name, .. } => name,
        }
    }

    /// Where it is, for people.
    pub fn shown(&self) -> String {
        match self {
            Place::Folder { folder, .. } => folder.display().to_string(),
            Place::Sftp { remote, .. } => remote.shown(),
        }
    }

    /// The files there are. Where times are kept to the second, as on SFTP servers, a file that was
    /// written just now could be written once more and look the same: until it could not, this waits.
    pub fn list(&self) -> Result<Listing, PlaceError> {
        let found = self.list_now()?;
        match found.seen.iter().filter_map(|seen| unsettled(&seen.arrival, now())).max() {
            Some(wait) => {
                std::thread::sleep(wait);
                self.list_now()
            }
            None => Ok(found),
        }
    }

    fn list_now(&self) -> Result<Listing, PlaceError> {
        match self {
            Place::Folder { name, folder } => folder::list(name, folder),
            Place::Sftp { remote, .. } => {
                let found = remote.list()?;
                remote.clean(&found.arrivals);
                let seen = |arrival: Arrival| Seen {
                    file: remote.local(&arrival),
                    remote: Some(RemoteFile { remote: remote.clone(), arrival: arrival.clone() }),
                    arrival,
                };
                Ok(Listing { seen: found.arrivals.into_iter().map(seen).collect(), errors: found.errors })
            }
        }
    }
}

/// How long until a change of the file is one of its time too; `None` if it is by now, or if the
/// clock there is so far ahead that waiting does not help.
fn unsettled(arrival: &Arrival, now: i64) -> Option<Duration> {
    let to_the_second = arrival.modified % SECOND == 0;
    let left = arrival.modified + 2 * SECOND - now;
    (to_the_second && left > 0 && left <= 3 * SECOND).then(|| Duration::from_micros(left.unsigned_abs()))
}

/// Microseconds since 1970.
fn now() -> i64 {
    let since = std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH).unwrap_or_default();
    i64::try_from(since.as_micros()).unwrap_or(i64::MAX)
}

/// Says which files will be read, in which order, so that those on servers are fetched ahead.
pub fn expect<'a>(files: impl Iterator<Item = &'a Seen>) {
    by_server(files).into_iter().for_each(|(remote, queue)| remote.expect(queue));
}

/// Says which files will not be read: what a run that was cut off left of them in the spool may go.
pub fn dismiss<'a>(files: impl Iterator<Item = &'a Seen>) {
    by_server(files).into_iter().for_each(|(remote, files)| remote.dismiss(&files));
}

fn by_server<'a>(files: impl Iterator<Item = &'a Seen>) -> Vec<(Arc<Remote>, Vec<Arrival>)> {
    let mut queues: Vec<(Arc<Remote>, Vec<Arrival>)> = Vec::new();
    for file in files.filter_map(|seen| seen.remote.as_ref()) {
        match queues.iter_mut().find(|(remote, _)| Arc::ptr_eq(remote, &file.remote)) {
            Some((_, queue)) => queue.push(file.arrival.clone()),
            None => queues.push((file.remote.clone(), vec![file.arrival.clone()])),
        }
    }
    queues
}

impl Seen {
    /// The file where it can be opened: fetched first where it is on a server, and there as long
    /// as what is given is held.
    pub fn fetched(&self) -> Result<Fetched, PlaceError> {
        let pin = self.remote.as_ref().map(|file| file.remote.want(&file.arrival)).transpose()?;
        Ok(Fetched { path: self.file.clone(), _pin: pin })
    }

    /// Nobody reads it any more: what was fetched of it may go.
    pub fn release(&self) {
        if let Some(file) = &self.remote {
            file.remote.release(&file.arrival);
        }
    }
}

/// When a file counts as complete.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Completeness {
    /// It was not modified for so long.
    pub quiet_for: Option<Duration>,
    /// Another file stands beside it: its name, with `{file}` for the name of this one and `{stem}`
    /// for that without its ending.
    pub marker: Option<String>,
}

impl Completeness {
    /// Parts what is complete from what is still arriving. Markers are no arrivals.
    pub fn sort(&self, seen: Vec<Seen>, now: i64) -> (Vec<Seen>, Vec<Seen>) {
        let paths: std::collections::HashSet<String> =
            seen.iter().map(|seen| seen.arrival.path.clone()).collect();
        let markers: std::collections::HashSet<String> = match &self.marker {
            Some(pattern) => seen.iter().map(|seen| beside(&seen.arrival.path, pattern)).collect(),
            None => Default::default(),
        };
        let no_marker = |seen: &Seen| !markers.contains(&seen.arrival.path);
        seen.into_iter().filter(no_marker).partition(|seen| {
            let name = seen.arrival.path.to_lowercase();
            !UNFINISHED.iter().any(|ending| name.ends_with(ending))
                && self.is_quiet(&seen.arrival, now)
                && self
                    .marker
                    .as_ref()
                    .is_none_or(|marker| paths.contains(&beside(&seen.arrival.path, marker)))
        })
    }

    fn is_quiet(&self, arrival: &Arrival, now: i64) -> bool {
        let Some(quiet) = self.quiet_for else { return true };
        let age = now - arrival.modified;
        age >= i64::try_from(quiet.as_micros()).unwrap_or(i64::MAX) || age < -CLOCK_GONE_WRONG
    }
}

/// The path of a file that stands beside another.
pub fn beside(path: &str, pattern: &str) -> String {
    let (folder, name) = path.rsplit_once('/').map_or(("", path), |(folder, name)| (folder, name));
    let stem = name.split_once('.').map_or(name, |(stem, _)| stem);
    let other = pattern.replace("{file}", name).replace("{stem}", stem);
    if folder.is_empty() { other } else { format!("{folder}/{other}") }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    fn seen(path: &str, modified: i64) -> Seen {
        let arrival = Arrival { place: "quay".into(), path: path.into(), bytes: 1, modified };
        Seen { arrival, file: PathBuf::from(path), remote: None }
    }

    const NOW: i64 = 10_000_000_000_000;

    #[rstest]
    #[case::long_ago(NOW - 60 * SECOND, None)]
    #[case::this_second(NOW, Some(2000))]
    #[case::a_second_ago(NOW - SECOND, Some(1000))]
    #[case::two_ago(NOW - 2 * SECOND, None)]
    #[case::finer_than_seconds(NOW - 1, None)]
    #[case::clock_a_little_ahead(NOW + SECOND, Some(3000))]
    #[case::clock_far_ahead(NOW + 2 * SECOND, None)]
    fn a_file_of_this_second_may_change_unseen(#[case] modified: i64, #[case] millis: Option<u64>) {
        let wait = unsettled(&seen("a.csv", modified).arrival, NOW);
        assert_eq!(wait, millis.map(Duration::from_millis));
    }

    #[rstest]
    #[case::anything(Completeness::default(), "a.csv", NOW, true)]
    #[case::part(Completeness::default(), "a.csv.part", 0, false)]
    #[case::tmp(Completeness::default(), "a.TMP", 0, false)]
    #[case::quiet(Completeness { quiet_for: Some(Duration::from_secs(30)), marker: None }, "a.csv", NOW - 30_000_000, true)]
    #[case::growing(Completeness { quiet_for: Some(Duration::from_secs(30)), marker: None }, "a.csv", NOW - 29_000_000, false)]
    #[case::a_little_ahead(Completeness { quiet_for: Some(Duration::from_secs(30)), marker: None }, "a.csv", NOW + 5_000_000, false)]
    #[case::far_ahead(Completeness { quiet_for: Some(Duration::from_secs(30)), marker: None }, "a.csv", NOW + 2 * CLOCK_GONE_WRONG, true)]
    #[case::no_marker(Completeness { quiet_for: None, marker: Some("{file}.done".into()) }, "b.csv", 0, false)]
    #[case::marker(Completeness { quiet_for: None, marker: Some("{file}.done".into()) }, "in/c.csv", 0, true)]
    #[case::marker_of_stem(Completeness { quiet_for: None, marker: Some("{stem}.ok".into()) }, "in/c.csv.gz", 0, true)]
    fn files_are_complete_or_still_arriving(
        #[case] rule: Completeness,
        #[case] path: &str,
        #[case] modified: i64,
        #[case] complete: bool,
    ) {
        let all = vec![seen(path, modified), seen("in/c.csv.done", 0), seen("in/c.ok", 0)];
        let (ready, waiting) = rule.sort(all, NOW);
        assert_eq!(ready.iter().any(|seen| seen.arrival.path == path), complete);
        assert_eq!(waiting.iter().any(|seen| seen.arrival.path == path), !complete);
        if path == "in/c.csv" {
            assert!(ready.iter().chain(&waiting).all(|seen| seen.arrival.path != "in/c.csv.done"));
        }
    }
}
