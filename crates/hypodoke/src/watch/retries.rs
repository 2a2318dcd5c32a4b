//! Files that were looked at already: those that are settled, and those that are to be tried again
//! later.

use std::collections::HashMap;
use std::time::Duration;

use hypodoke_core::arrival::Arrival;
use hypodoke_engine::job::Candidate;
use jiff::Timestamp;

use crate::schedule::signed;

/// A file that could not be loaded, or is held, is tried again after so long, then twice as long …
const FIRST: Duration = Duration::from_secs(60);

/// … up to this.
const LONGEST: Duration = Duration::from_secs(3600);

#[derive(Clone)]
struct Retry {
    /// The file as it was then.
    arrival: Arrival,
    next: Timestamp,
    wait: Duration,
    /// It is held: somebody may decide about it at any time.
    held: bool,
}

/// What is remembered of a feed's files between two rounds.
#[derive(Default)]
pub struct Retries {
    /// Files that are done with, as they were then.
    settled: HashMap<String, Arrival>,
    retries: HashMap<String, Retry>,
}

impl Retries {
    /// Whether a file is done with as it is.
    fn is_settled(&self, file: &Candidate) -> bool {
        self.settled.get(&file.shown).is_some_and(|known| file.seen.arrival.looks_like(known))
    }

    /// When a file, as it is now, is tried again.
    fn retry(&self, file: &Candidate) -> Option<&Retry> {
        self.retries.get(&file.shown).filter(|retry| file.seen.arrival.looks_like(&retry.arrival))
    }

    /// Whether any file is to be tried again.
    pub fn has_any(&self) -> bool {
        !self.retries.is_empty()
    }

    /// Whether there is anything to be done about a file now.
    pub fn is_due(&self, file: &Candidate, now: Timestamp) -> bool {
        if self.is_settled(file) {
            return false;
        }
        let retry = self.retry(file);
        retry.is_none_or(|retry| retry.next <= now)
    }

    /// Whether a file is one that has to wait for its next retry.
    pub fn waits(&self, file: &Candidate, now: Timestamp) -> bool {
        !self.is_settled(file) && !self.is_due(file, now)
    }

    /// A file is done with as it is.
    pub fn settle(&mut self, file: &Candidate) {
        self.retries.remove(&file.shown);
        self.settled.insert(file.shown.clone(), file.seen.arrival.clone());
    }

    /// A file is to be tried again; one that is held also when somebody has decided.
    pub fn put_off(&mut self, file: &Candidate, held: bool, now: Timestamp) {
        let before = self.retry(file);
        let wait = before.map_or(FIRST, |retry| (retry.wait * 2).min(LONGEST));
        let next = now.checked_add(signed(wait)).unwrap_or(Timestamp::MAX);
        self.settled.remove(&file.shown);
        let arrival = file.seen.arrival.clone();
        self.retries.insert(file.shown.clone(), Retry { arrival, next, wait, held });
    }

    /// Whether any file is held.
    pub fn has_held(&self) -> bool {
        self.retries.values().any(|retry| retry.held)
    }

    /// Somebody has decided: what is held is tried again now.
    pub fn wake_held(&mut self) {
        self.retries.values_mut().filter(|retry| retry.held).for_each(|retry| retry.next = Timestamp::MIN);
    }

    /// Forgets files that are not there any more.
    pub fn keep_only<'f>(&mut self, there: impl Iterator<Item = &'f Candidate> + Clone) {
        if self.settled.len() + self.retries.len() > there.clone().count() {
            let names: std::collections::HashSet<&str> = there.map(|file| file.shown.as_str()).collect();
            self.settled.retain(|name, _| names.contains(name.as_str()));
            self.retries.retain(|name, _| names.contains(name.as_str()));
        }
    }

    /// How long until the next retry.
    pub fn next_trial(&self, now: Timestamp) -> Option<Duration> {
        let next = self.retries.values().map(|retry| retry.next).min()?;
        Some(Duration::try_from(now.duration_until(next)).unwrap_or_default())
    }
}

#[cfg(test)]
mod tests {
    use std::path::PathBuf;

    use hypodoke_core::arrival::Arrival;
    use hypodoke_places::Seen;

    use super::*;

    fn file(bytes: u64) -> Candidate {
        let arrival = Arrival { place: "quay".into(), path: "a.csv".into(), bytes, modified: 7, token: None };
        let seen = Seen::local(arrival, PathBuf::from("a.csv"));
        Candidate::of(seen)
    }

    fn at(seconds: i64) -> Timestamp {
        Timestamp::from_second(seconds).expect("a moment")
    }

    #[test]
    fn what_failed_is_tried_again_ever_more_rarely_and_at_once_when_it_changes() {
        let mut later = Retries::default();
        assert!(later.is_due(&file(1), at(0)));
        later.put_off(&file(1), false, at(0));
        assert!(
            !later.is_due(&file(1), at(59))
                && later.is_due(&file(1), at(60))
                && later.is_due(&file(2), at(1))
        );
        assert_eq!(later.next_trial(at(0)), Some(FIRST));
        later.put_off(&file(1), true, at(60));
        assert!(!later.is_due(&file(1), at(179)) && later.is_due(&file(1), at(180)));
        (0..9).for_each(|_| later.put_off(&file(1), true, at(180)));
        assert_eq!(later.next_trial(at(180)), Some(LONGEST));
        assert!(later.has_held());
        later.wake_held();
        assert!(later.is_due(&file(1), at(181)));
        later.settle(&file(1));
        assert!(!later.is_due(&file(1), at(99_999)) && later.is_due(&file(2), at(99_999)));
        later.keep_only(std::iter::empty());
        assert!(later.is_due(&file(1), at(99_999)));
    }
}
