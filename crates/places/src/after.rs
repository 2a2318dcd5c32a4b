//! What becomes of files once they are done with: left as they are, or put away.

use crate::error::PlaceError;
use crate::place::Place;
use crate::seen::Seen;

/// How often another name is tried where one is taken.
const MOST_NAMES: usize = 10_000;

/// Where files go that are done with, by their folders in the place.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct PutAway {
    /// Files that were loaded.
    pub done: String,
    /// Files that could not be.
    pub failed: String,
}

impl PutAway {
    /// Whether a path in the place is one that was put away.
    ///
    /// ```
    /// use hypodoke_places::PutAway;
    ///
    /// let away = PutAway { done: "done".into(), failed: "failed".into() };
    /// assert!(away.holds("done/2026-03-02/berths.csv"));
    /// assert!(!away.holds("berths.csv"));
    /// ```
    pub fn holds(&self, path: &str) -> bool {
        [&self.done, &self.failed]
            .into_iter()
            .any(|folder| path.strip_prefix(folder.as_str()).is_some_and(|rest| rest.starts_with('/')))
    }

    /// The paths that a file may have had before it was put away under this one: its own, and where
    /// it bears a number, that without it. None for a file that was not put away.
    pub fn origins(&self, path: &str) -> Vec<String> {
        let inside = |folder: &String| path.strip_prefix(folder.as_str())?.strip_prefix('/');
        let behind_its_day = |rest: &str| rest.split_once('/').map(|(_, own)| own.to_owned());
        let own = [&self.done, &self.failed].into_iter().find_map(inside).and_then(behind_its_day);
        own.into_iter().flat_map(|own| [unnumbered(&own), Some(own)]).flatten().collect()
    }
}

impl Place {
    /// Moves a file into a folder of the place, `folder/DAY/…`, under its own path; where that is
    /// taken, under a numbered one. Gives the path it has now.
    pub fn put_away(&self, seen: &Seen, folder: &str, day: &str) -> Result<String, PlaceError> {
        let path = &seen.arrival.path;
        let mut trouble = None;
        for number in 1..=MOST_NAMES {
            let target = format!("{folder}/{day}/{}", numbered(path, number));
            match self.relocate(seen, &target) {
                Ok(true) => return Ok(target),
                Ok(false) => {}
                Err(error) => {
                    trouble = Some(error);
                    break;
                }
            }
        }
        Err(trouble.unwrap_or_else(|| PlaceError::Missing { path: seen.file.clone() }))
    }
}

/// `a/b.csv`, `a/b-2.csv`, …
fn numbered(path: &str, number: usize) -> String {
    if number == 1 {
        return path.to_owned();
    }
    let (folder, name) = path.rsplit_once('/').map_or(("", path), |(folder, name)| (folder, name));
    let (stem, ending) = name.split_once('.').map_or((name, String::new()), |(s, e)| (s, format!(".{e}")));
    let slash = if folder.is_empty() { "" } else { "/" };
    format!("{folder}{slash}{stem}-{number}{ending}")
}

/// `a/b.csv` of `a/b-2.csv`; `None` for a name that has no number.
fn unnumbered(path: &str) -> Option<String> {
    let name = path.rfind('/').map_or(0, |at| at + 1);
    let stem = path[name..].find('.').map_or(path.len(), |at| name + at);
    let dash = name + path[name..stem].rfind('-')?;
    let number = &path[dash + 1..stem];
    let own = format!("{}{}", &path[..dash], &path[stem..]);
    // Only a number that would have been given.
    (numbered(&own, number.parse().ok().filter(|number| *number > 1)?) == path).then_some(own)
}

#[cfg(test)]
mod tests {
    use std::path::PathBuf;

    use rstest::rstest;

    use super::*;

    #[test]
    fn files_are_put_away_and_none_is_written_over() {
        let root = tempfile::tempdir().expect("a folder");
        let place = Place::folder("quay", root.path());
        let mut found = Vec::new();
        for content in ["first", "second", "third"] {
            let file = root.path().join("a.csv");
            std::fs::write(&file, content).expect("a file");
            let mut seen = crate::look_at("quay", &file).expect("a file");
            seen.arrival.path = "a.csv".into();
            found.push(place.put_away(&seen, "done", "2026-03-02").expect("moved"));
        }
        assert_eq!(found, ["done/2026-03-02/a.csv", "done/2026-03-02/a-2.csv", "done/2026-03-02/a-3.csv"]);
        let read = |path: &str| std::fs::read_to_string(root.path().join(path)).expect("a file");
        assert_eq!(found.iter().map(|path| read(path)).collect::<Vec<_>>(), ["first", "second", "third"]);
        assert!(!PathBuf::from(root.path()).join("a.csv").exists());
    }

    #[rstest]
    #[case::own("done/2026-03-02/a.csv", &["a.csv"])]
    #[case::of_a_folder("bad/files/2026-03-02/mole/a.csv", &["mole/a.csv"])]
    #[case::numbered("done/2026-03-02/mole/a-2.csv.gz", &["mole/a.csv.gz", "mole/a-2.csv.gz"])]
    #[case::no_number_of_ours("done/2026-03-02/a-02.csv", &["a-02.csv"])]
    #[case::a_date("done/2026-03-02/a_2026-03-02.csv", &["a_2026-03-02.csv"])]
    #[case::of_no_day("done/a.csv", &[])]
    #[case::never_put_away("mole/a.csv", &[])]
    fn what_was_put_away_is_known_by_its_own_name(#[case] path: &str, #[case] origins: &[&str]) {
        let folders = PutAway { done: "done".into(), failed: "bad/files".into() };
        assert_eq!(folders.origins(path), origins);
    }

    #[test]
    fn what_was_put_away_is_told_from_what_lands() {
        let folders = PutAway { done: "done".into(), failed: "bad/files".into() };
        assert!(folders.holds("done/2026-03-02/a.csv") && folders.holds("bad/files/x"));
        assert!(!folders.holds("donets.csv") && !folders.holds("bad/other"));
    }
}
