//! Files loaded in one transaction: each can be undone by itself, and what came of them is told once they
//! are committed. Whatever goes wrong with the database, the transaction is given up, and its files are
//! loaded again one by one.

use std::collections::HashMap;
use std::time::{Duration, Instant};

use hypodoke_core::outcome::Outcome;
use hypodoke_stores::{Claim, Claimed, Mode, StoreError};

use super::file::{Began, of_path};
use super::retry::{RetryPolicy, with_retry};
use super::state::{Batch, Ended, FileInBatch, PendingFeed, Profiled};
use crate::error::EngineError;
use crate::event::Event;
use crate::job::Candidate;
use crate::load::NotLoaded;
use crate::outcome::FileOutcome;
use crate::plan::TargetState;

/// A file of more bytes than this is loaded by itself.
const LARGE_FILE: u64 = 4 << 20;

/// A group has no more bytes than this, so that a database in a file holds it in memory until it is committed,
/// and can be read meanwhile …
const MOST_BYTES: u64 = 8 << 20;

/// … and no more files.
const MOST_FILES: usize = 1000;

/// The files of the transaction that is open, if one is.
#[derive(Default)]
pub struct Group<'f> {
    began: Option<Instant>,
    bytes: u64,
    files: usize,
    feeds: Vec<FeedInGroup<'f>>,
    /// What became of the claims of files that were not begun yet, by their positions.
    claims: HashMap<(usize, usize), Claimed>,
    /// A transaction could not be begun: files are loaded by themselves until one is loaded, so that a
    /// database that is locked is waited for once a file.
    is_refused: bool,
}

/// The files of one feed in a group.
struct FeedInGroup<'f> {
    /// The number of the feed in the batch.
    number: usize,
    /// What its tables were before the first of them.
    before: TargetState,
    files: Vec<FileInGroup<'f>>,
}

/// A file in a group.
struct FileInGroup<'f> {
    one: FileInBatch<'f>,
    position: (usize, usize),
    /// What came of it; `None` if it was interrupted by an error of the database.
    ended: Option<Ended>,
}

impl<'f> Group<'f> {
    /// Whether it is time to commit.
    fn is_due(&self, commit_every: Duration) -> bool {
        self.files >= MOST_FILES || self.bytes >= MOST_BYTES || self.time_left(commit_every).is_zero()
    }

    fn time_left(&self, commit_every: Duration) -> Duration {
        commit_every.saturating_sub(self.began.map_or(Duration::ZERO, |began| began.elapsed()))
    }

    /// Adds a file; of the first of a feed with what the tables were `before` it.
    fn add(&mut self, file: FileInGroup<'f>, before: Option<TargetState>) {
        let number = file.position.0;
        self.bytes += file.one.file.seen.arrival.bytes;
        self.files += 1;
        if let Some(before) = before {
            self.feeds.push(FeedInGroup { number, before, files: Vec::new() });
        }
        if let Some(feed) = self.feeds.last_mut() {
            feed.files.push(file);
        }
    }

    fn has_feed(&self, number: usize) -> bool {
        self.feeds.last().is_some_and(|feed| feed.number == number)
    }
}

impl Batch<'_> {
    /// Does work that loads files in groups. Whatever it leaves uncommitted is committed, or given up if it
    /// fails.
    ///
    /// # Errors
    ///
    /// The database is unreachable.
    pub fn in_groups<'f>(
        &mut self,
        work: impl FnOnce(&mut Self, &mut Group<'f>) -> Result<(), EngineError>,
    ) -> Result<(), EngineError> {
        let mut group = Group::default();
        let done = work(self, &mut group).and_then(|()| self.commit(&mut group, None));
        if done.is_err() {
            // What is recorded from now on is not to go with it.
            let _ = self.store.end_group(false);
            self.known.end_undoable(false);
        }
        done
    }

    /// Loads a file of a feed, in the transaction that is open or by itself, and tells what came of it once
    /// that is committed.
    ///
    /// # Errors
    ///
    /// The database is unreachable.
    pub fn load_file<'f>(
        &mut self,
        group: &mut Group<'f>,
        (pending, at): (&PendingFeed<'f>, usize),
        one: FileInBatch<'f>,
        target: &mut TargetState,
        profiled: Profiled,
    ) -> Result<(), EngineError> {
        let position = (pending.number, at);
        let is_large = one.file.seen.arrival.bytes > LARGE_FILE;
        if !self.groups_files() || is_large || group.is_refused {
            self.commit(group, Some(target))?;
            let ended = self.load_one(one, target, profiled)?;
            group.is_refused &= !ended.outcome.status().counts();
            self.tell(position, one, ended);
            return Ok(());
        }
        // Nobody waits for the transaction while a file is on its way.
        let left = group.time_left(self.context.commit_every);
        if group.began.is_some() && !one.file.container().is_at_hand(left) {
            self.commit(group, Some(target))?;
        }
        let before = (!group.has_feed(position.0)).then(|| target.clone());
        match self.load_in_group(group, one, target, profiled) {
            Ok(ended) => {
                group.add(FileInGroup { one, position, ended: Some(ended) }, before);
                match group.is_due(self.context.commit_every) {
                    true => self.commit(group, Some(target)),
                    false => Ok(()),
                }
            }
            Err(error) => {
                group.add(FileInGroup { one, position, ended: None }, before);
                self.load_singly(group, Some(target), error)
            }
        }
    }

    /// Claims the next files of a feed, so that no other process loads them before the group is committed;
    /// `files` are their positions and the files. Gives what became of the claim of the first.
    ///
    /// # Errors
    ///
    /// The database is unreachable.
    pub fn claim<'f>(
        &mut self,
        group: &mut Group<'f>,
        pending: &PendingFeed<'f>,
        files: &[(usize, &'f Candidate)],
        target: &mut TargetState,
    ) -> Result<Claimed, EngineError> {
        let Some((first, _)) = files.first() else { return Ok(Claimed::Ours) };
        if pending.again || group.is_refused || !self.groups_files() {
            return Ok(Claimed::Ours);
        }
        let number = pending.number;
        if let Some(claimed) = group.claims.remove(&(number, *first)) {
            return Ok(claimed);
        }
        let feed = pending.feed;
        let claim = |(_, file): &(usize, &'f Candidate)| {
            let arrival = &file.seen.arrival;
            Claim { arrival, known_until: self.known.newest(arrival, &feed.table) }
        };
        let claims: Vec<Claim<'_>> = files.iter().map(claim).collect();
        let opened = self.open(group);
        let claimed =
            opened.and_then(|()| Ok(self.store.claim(&feed.table, feed.mode != Mode::Append, &claims)?));
        match claimed {
            Ok(claimed) => {
                let positions = files.iter().map(|(at, _)| (number, *at));
                group.claims.extend(positions.zip(claimed));
                Ok(group.claims.remove(&(number, *first)).unwrap_or(Claimed::Ours))
            }
            Err(error) => {
                self.load_singly(group, Some(target), error)?;
                Ok(Claimed::Ours)
            }
        }
    }

    fn open(&mut self, group: &mut Group<'_>) -> Result<(), EngineError> {
        if group.began.is_none() {
            self.store.begin_group().inspect_err(|_| group.is_refused = true)?;
            self.known.begin_undoable();
            group.began = Some(Instant::now());
        }
        Ok(())
    }

    /// Whether files are loaded in groups.
    fn groups_files(&self) -> bool {
        !self.context.commit_every.is_zero() && self.store.capabilities().groups
    }

    fn load_in_group(
        &mut self,
        group: &mut Group<'_>,
        one: FileInBatch<'_>,
        target: &mut TargetState,
        profiled: Profiled,
    ) -> Result<Ended, EngineError> {
        self.open(group)?;
        let began = Began::now();
        let result = match profiled {
            Some(Err(error)) => Err(NotLoaded::Failed(error)),
            Some(Ok(profile)) => self.load(one, target, Some(profile)),
            None => self.load(one, target, None),
        };
        match result {
            Err(NotLoaded::Store(error)) => Err(error.into()),
            Err(NotLoaded::Failed(error @ EngineError::Store(_))) => Err(error),
            other => self.end_in_group(one, other, began),
        }
    }

    fn end_in_group(
        &mut self,
        one: FileInBatch<'_>,
        result: Result<FileOutcome, NotLoaded>,
        began: Began,
    ) -> Result<Ended, EngineError> {
        let mut outcome = self.outcome_of(result, one)?;
        if outcome.status() == Outcome::Waiting {
            let entries = self.store.ledger().files(&of_path(one.file))?;
            self.correct_waiting(&mut outcome, one, entries);
        }
        if let Some(entry) = self.entry_to_record(&outcome, one, began) {
            self.store.ledger().note_file(&entry, outcome.drift())?;
        }
        Ok(Ended { outcome, seconds: began.seconds() })
    }

    /// Commits the files of a group, and tells what came of them. `target` is what is known of the tables of
    /// the feed in hand.
    ///
    /// # Errors
    ///
    /// The database is unreachable.
    pub fn commit(
        &mut self,
        group: &mut Group<'_>,
        target: Option<&mut TargetState>,
    ) -> Result<(), EngineError> {
        if group.began.is_none() {
            return Ok(());
        }
        if let Err(error) = self.store.end_group(true) {
            return self.load_singly(group, target, error.into());
        }
        self.known.end_undoable(true);
        let done = std::mem::take(group);
        for FileInGroup { one, position, ended } in done.feeds.into_iter().flat_map(|feed| feed.files) {
            self.let_go(one.file);
            if let Some(ended) = ended {
                self.tell(position, one, ended);
            }
        }
        Ok(())
    }

    /// Gives the transaction up, and loads its files again, each by itself.
    fn load_singly(
        &mut self,
        group: &mut Group<'_>,
        mut target: Option<&mut TargetState>,
        error: EngineError,
    ) -> Result<(), EngineError> {
        let is = |what: fn(&StoreError) -> bool| matches!(&error, EngineError::Store(error) if what(error));
        let undone = self.store.end_group(false);
        self.known.end_undoable(false);
        if is(|error| matches!(error, StoreError::Lost { .. })) || undone.is_err() {
            RetryPolicy::default().reconnect(self.store)?;
        }
        if error.is_transient() && !is(|error| matches!(error, StoreError::Changed { .. })) {
            self.context.listener.on(&Event::Retrying { path: None, error });
        }
        let last = group.feeds.len().saturating_sub(1);
        let is_refused = group.is_refused;
        let given_up = std::mem::replace(group, Group { is_refused, ..Group::default() });
        for (number, feed) in given_up.feeds.into_iter().enumerate() {
            let mut own = feed.before;
            for (at, FileInGroup { one, position, .. }) in feed.files.into_iter().enumerate() {
                if at == 0 {
                    with_retry(self.store, |store| own.refresh(store, one.feed))?;
                }
                // It may be that only the answer to the commit was lost.
                self.learn_anew(one.file)?;
                let ended = self.load_one(one, &mut own, None)?;
                self.tell(position, one, ended);
            }
            if let Some(target) = target.as_deref_mut().filter(|_| number == last) {
                *target = own;
            }
        }
        Ok(())
    }
}
