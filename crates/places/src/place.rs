//! A place, wherever its files are.

use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::Duration;

use hypodoke_core::arrival::Arrival;
use hypodoke_core::pattern::Pattern;

use crate::backend::{Backend, Identity, ListRequest, Listed, is_in};
use crate::error::PlaceError;
use crate::folder::Folder;
use crate::seen::{Listing, Seen, SpooledFile};
use crate::spool::{Spool, SpoolSettings};
use crate::version::SECOND;

/// Names that files bear while they are still being written.
const UNFINISHED: [&str; 4] = [".part", ".tmp", ".filepart", ".partial"];

/// Systems keep the time of a change no finer than this, in microseconds, whatever digits they give.
const TICK: i64 = 20_000;

/// A modified time so far ahead is that of a clock gone wrong, in microseconds.
const CLOCK_GONE_WRONG: i64 = 3_600_000_000;

/// A place: a name, what is behind it, and a spool where its files have to be fetched.
#[derive(Clone, Debug)]
pub struct Place {
    name: String,
    backend: Arc<dyn Backend>,
    spool: Option<Arc<Spool>>,
    /// Files that are never looked at.
    ignored: Arc<[Pattern]>,
    /// Only files modified within so long are looked at.
    within: Option<Duration>,
    /// Only the file of this path is looked at, or what is in the folder of this path.
    beneath: Arc<str>,
}

/// How much of a place is listed.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Scope {
    /// What the place is said to look at.
    #[default]
    Usual,
    /// Files of any time, whatever is said of how far back the place looks.
    AnyTime,
    /// What may be new since all of it was listed, where the place can tell.
    Recent,
}

impl Place {
    /// A folder of this machine.
    ///
    /// ```
    /// use hypodoke_places::{Place, Scope};
    ///
    /// let folder = tempfile::tempdir()?;
    /// std::fs::write(folder.path().join("berths.csv"), "berth\nN1\n")?;
    /// let place = Place::folder("quay", folder.path());
    /// let listing = place.list(Scope::Usual).expect("the folder is there");
    /// assert_eq!(listing.seen[0].arrival.path, "berths.csv");
    /// # Ok::<(), std::io::Error>(())
    /// ```
    pub fn folder(name: &str, folder: impl Into<PathBuf>) -> Place {
        Place::of(name, Arc::new(Folder::new(folder.into())), None)
    }

    /// A place whose files are fetched to a spool before they are read.
    pub fn remote(name: &str, backend: Arc<dyn Backend>, settings: &SpoolSettings) -> Place {
        let spool = Spool::new(backend.clone(), name, settings);
        Place::of(name, backend, Some(spool))
    }

    fn of(name: &str, backend: Arc<dyn Backend>, spool: Option<Arc<Spool>>) -> Place {
        let (name, ignored, beneath) = (name.to_owned(), Arc::from([]), Arc::from(""));
        Place { name, backend, spool, ignored, within: None, beneath }
    }

    /// The same, without files whose paths fit one of these patterns: they are never looked at.
    #[must_use]
    pub fn ignoring(self, patterns: Vec<Pattern>) -> Place {
        Place { ignored: patterns.into(), ..self }
    }

    /// The same, without files that were last modified longer ago than this.
    #[must_use]
    pub fn modified_within(self, within: Duration) -> Place {
        Place { within: Some(within), ..self }
    }

    /// The same, with nothing but the file of this path, or what is in the folder of this path.
    #[must_use]
    pub fn narrowed_to(self, path: &str) -> Place {
        Place { beneath: path.trim_matches('/').into(), ..self }
    }

    /// Whether it can list what may be new without listing all.
    pub fn lists_recent(&self) -> bool {
        self.backend.lists_recent()
    }

    /// Its name.
    pub fn name(&self) -> &str {
        &self.name
    }

    /// Where it is, for people.
    pub fn shown(&self) -> String {
        self.backend.shown()
    }

    /// Where the file of this path is, for people.
    pub fn shown_file(&self, path: &str) -> String {
        self.backend.shown_file(path)
    }

    /// The folder whose changes the system gives notice of, if there is one.
    pub fn watched_folder(&self) -> Option<&Path> {
        self.backend.watched_folder()
    }

    /// What shows that the other side is who it should be, where a person has to confirm that once.
    pub fn identity(&self) -> Option<&dyn Identity> {
        self.backend.identity()
    }

    /// The files there are. A file that was written just now could be written once more and look the
    /// same, for a second where times are kept to the second, as on many servers: until it could not,
    /// this waits.
    pub fn list(&self, scope: Scope) -> Result<Listing, PlaceError> {
        let found = self.list_now(scope)?;
        match found.seen.iter().filter_map(|seen| unsettled(&seen.arrival, now())).max() {
            Some(wait) => {
                std::thread::sleep(wait);
                self.list_now(scope)
            }
            None => Ok(found),
        }
    }

    /// The files there are now, whether or not one of them could still change unseen.
    pub fn list_now(&self, scope: Scope) -> Result<Listing, PlaceError> {
        let within = self.within.filter(|_| scope != Scope::AnyTime);
        let since = within.map_or(i64::MIN, |within| now().saturating_sub(micros(within)));
        let wanted = |path: &str, modified: i64| {
            modified >= since
                && is_in(path, &self.beneath)
                && !self.ignored.iter().any(|pattern| pattern.matches(path).is_some())
        };
        let is_recent = scope == Scope::Recent;
        let request = ListRequest { place: &self.name, wanted: &wanted, is_recent, beneath: &self.beneath };
        let found = self.backend.list(&request)?;
        if let Some(spool) = self.spool.as_ref().filter(|_| !is_recent && self.beneath.is_empty()) {
            spool.clean(found.files.iter().map(|(arrival, _)| arrival));
        }
        let seen = |(arrival, local): (Arrival, Option<PathBuf>)| match (local, &self.spool) {
            (Some(file), _) => Seen { arrival, file, spooled: None },
            (None, Some(spool)) => {
                let file = spool.local(&arrival);
                Seen { spooled: Some(SpooledFile::new(spool.clone(), arrival.clone())), arrival, file }
            }
            (None, None) => Seen { file: PathBuf::from(&arrival.path), arrival, spooled: None },
        };
        let Listed { files, errors, requests, open_ended } = found;
        Ok(Listing { seen: files.into_iter().map(seen).collect(), errors, requests, open_ended })
    }

    /// Moves a file within the place; `false` if the name is taken.
    pub(crate) fn relocate(&self, seen: &Seen, to: &str) -> Result<bool, PlaceError> {
        self.backend.relocate(&seen.arrival, &seen.file, to)
    }
}

/// How long until a change of the file is one of its time too; `None` if it is by now, if a token
/// tells its versions apart, or if the clock there is so far ahead that waiting does not help.
fn unsettled(arrival: &Arrival, now: i64) -> Option<Duration> {
    if arrival.token.is_some() {
        return None;
    }
    let step = if arrival.modified % SECOND == 0 { SECOND } else { TICK };
    let left = arrival.modified.saturating_add(2 * step).saturating_sub(now);
    (left > 0 && left <= 3 * step).then(|| Duration::from_micros(left.unsigned_abs()))
}

fn micros(duration: Duration) -> i64 {
    i64::try_from(duration.as_micros()).unwrap_or(i64::MAX)
}

/// Microseconds since 1970.
fn now() -> i64 {
    let since = std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH).unwrap_or_default();
    i64::try_from(since.as_micros()).unwrap_or(i64::MAX)
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
///
/// ```
/// use hypodoke_places::beside;
///
/// assert_eq!(beside("north/berths.csv", "{file}.md5"), "north/berths.csv.md5");
/// ```
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
        let arrival = Arrival { place: "quay".into(), path: path.into(), bytes: 1, modified, token: None };
        Seen::local(arrival, PathBuf::from(path))
    }

    const NOW: i64 = 10_000_000_000_000;

    #[rstest]
    #[case::long_ago(NOW - 60 * SECOND, None)]
    #[case::this_second(NOW, Some(2000))]
    #[case::a_second_ago(NOW - SECOND, Some(1000))]
    #[case::two_ago(NOW - 2 * SECOND, None)]
    #[case::clock_a_little_ahead(NOW + SECOND, Some(3000))]
    #[case::clock_far_ahead(NOW + 2 * SECOND, None)]
    #[case::finer_time(NOW - 1, Some(39))]
    #[case::finer_time_a_tick_ago(NOW - 40_001, None)]
    fn a_file_of_this_second_may_change_unseen(#[case] modified: i64, #[case] millis: Option<u64>) {
        let wait = unsettled(&seen("a.csv", modified).arrival, NOW);
        assert_eq!(wait.map(|wait| wait.as_millis()), millis.map(u128::from));
    }

    #[test]
    fn a_file_with_a_token_cannot_change_unseen() {
        let arrival = Arrival { token: Some("v1".into()), ..seen("a.csv", NOW).arrival };
        assert_eq!(unsettled(&arrival, NOW), None);
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
