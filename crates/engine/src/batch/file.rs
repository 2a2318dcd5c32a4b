//! One file of a batch: decided by what the ledger knows of it, loaded, and recorded.

use std::time::Instant;

use hypodoke_core::outcome::{Outcome, has_code};
use hypodoke_stores::{FileEntry, FileQuery, LoadRules, Mode, Restore, StoreError};

use super::retry::{RetryPolicy, with_retry};
use super::state::{Batch, Ended, FileInBatch, Profiled};
use crate::clock;
use crate::decide::{
    ArrivalFacts, FileDecision, HELD_EMPTY, LedgerMatch, SKIPPED_EMPTY, SkipReason, Terms, Violation,
    on_arrival, on_digest, on_empty, on_vanished,
};
use crate::discover::{BY_HAND, KnownFiles};
use crate::error::EngineError;
use crate::event::Event;
use crate::job::{Candidate, Feed};
use crate::load::{FileRequest, HeldFile, NotLoaded, load_file};
use crate::outcome::{BegunIn, FileOutcome, LoadedFile};
use crate::plan::{TargetState, named_parts};
use crate::profile::{FileProfile, digest_facts};
use crate::sources::keep_rows;

/// When a file was begun.
#[derive(Clone, Copy)]
pub struct Began {
    instant: Instant,
    micros: i64,
}

impl Began {
    /// Now.
    pub fn now() -> Began {
        Began { instant: Instant::now(), micros: clock::now() }
    }

    /// How long ago that is.
    pub fn seconds(&self) -> f64 {
        self.instant.elapsed().as_secs_f64()
    }
}

/// Checks the digest that the sender states of a file; returns the mismatches that only warn.
///
/// # Errors
///
/// The file is not what its sender states, or cannot be read.
pub fn check_digest(file: &Candidate, feed: &Feed) -> Result<Vec<Violation>, NotLoaded> {
    let Some(facts) = digest_facts(file, &feed.expect)? else { return Ok(Vec::new()) };
    Ok(NotLoaded::by(on_digest(&feed.expect, facts), file, HeldFile::default)?.warnings)
}

impl Batch<'_> {
    /// One file by itself, tried again where a reason passed, and recorded where it is not loaded.
    ///
    /// # Errors
    ///
    /// The database is unreachable.
    pub fn load_one(
        &mut self,
        one: FileInBatch<'_>,
        target: &mut TargetState,
        profiled: Profiled,
    ) -> Result<Ended, EngineError> {
        let began = Began::now();
        let result = match profiled {
            Some(Err(error)) => Err(NotLoaded::Failed(error)),
            Some(Ok(profile)) => self.load_with_retry(one, target, Some(profile)),
            None => self.load_with_retry(one, target, None),
        };
        self.close(one, result, began)
    }

    /// What became of a file, also of one that is not loaded. If its server is unreachable, the others of
    /// that place are left for later.
    ///
    /// # Errors
    ///
    /// The database is unreachable.
    pub fn outcome_of(
        &mut self,
        result: Result<FileOutcome, NotLoaded>,
        one: FileInBatch<'_>,
    ) -> Result<FileOutcome, EngineError> {
        let file = one.file;
        let result = match result {
            Err(NotLoaded::Failed(error)) if error.is_of_empty_file() => Err(self.of_empty(one, error)?),
            other => other,
        };
        match result {
            Ok(outcome) => Ok(outcome),
            Err(NotLoaded::Store(error)) if error.is_unreachable() => Err(error.into()),
            Err(NotLoaded::Failed(error @ EngineError::Store(_))) if error.is_unreachable() => Err(error),
            Err(NotLoaded::Store(StoreError::InUse { .. })) if file.seen.arrival.place != BY_HAND => {
                Ok(FileOutcome::Skipped(SkipReason::InUse))
            }
            Err(NotLoaded::Store(error)) => Ok(FileOutcome::Failed(error.into())),
            Err(NotLoaded::Failed(error)) => match left_for_later(file, Some(&error)) {
                Some(reason) => Ok(FileOutcome::Skipped(reason)),
                None => {
                    self.unreachable.learn(file, &error);
                    Ok(FileOutcome::Failed(error))
                }
            },
            Err(NotLoaded::Held(held)) => match left_for_later(file, None) {
                Some(reason) => Ok(FileOutcome::Skipped(reason)),
                None => Ok(FileOutcome::Held(held)),
            },
            Err(NotLoaded::Skipped(reason)) => Ok(FileOutcome::Skipped(reason)),
        }
    }

    /// What becomes of a file with nothing in it.
    fn of_empty(&mut self, one: FileInBatch<'_>, error: EngineError) -> Result<NotLoaded, EngineError> {
        let (feed, file) = (one.feed, one.file);
        let (table, outcome) = (Some(feed.table.clone()), Some(Outcome::Discarded));
        let query = FileQuery { table, outcome, ..FileQuery::default() };
        let is_empty = |entry: &FileEntry| {
            has_code(&entry.reasons, SKIPPED_EMPTY) || has_code(&entry.reasons, HELD_EMPTY)
        };
        let came_before =
            with_retry(self.store, |store| Ok(store.ledger().files(&query)?))?.iter().any(is_empty);
        let settlement = self.known.settlement(&file.seen.arrival, &feed.table);
        let waived = settlement.is_some_and(|settlement| settlement.load_anyway);
        let decision = on_empty(feed.empty_file, came_before, waived);
        Ok(match NotLoaded::by(decision, file, HeldFile::default) {
            Err(not_loaded) => not_loaded,
            Ok(_) => NotLoaded::Failed(error),
        })
    }

    fn close(
        &mut self,
        one: FileInBatch<'_>,
        result: Result<FileOutcome, NotLoaded>,
        began: Began,
    ) -> Result<Ended, EngineError> {
        let mut outcome = self.outcome_of(result, one)?;
        if outcome.status() == Outcome::Waiting {
            let query = of_path(one.file);
            let entries = with_retry(self.store, |store| Ok(store.ledger().files(&query)?))?;
            self.correct_waiting(&mut outcome, one, entries);
        }
        let seconds = began.seconds();
        self.record(&outcome, one, began)?;
        self.let_go(one.file);
        Ok(Ended { outcome, seconds })
    }

    /// Nobody reads the file any more.
    pub fn let_go(&self, file: &Candidate) {
        if file.member.is_none() {
            file.seen.release();
        }
    }

    /// Another process may have loaded a file that is not there any more, and put it away: so say these
    /// entries of the ledger then.
    pub fn correct_waiting(&self, outcome: &mut FileOutcome, one: FileInBatch<'_>, entries: Vec<FileEntry>) {
        let in_force = entries.into_iter().rev().filter(is_in_force).collect();
        if KnownFiles::of(in_force).is_known(&one.file.seen.arrival, &one.feed.table) {
            *outcome = FileOutcome::Skipped(SkipReason::LoadedMeanwhile);
        }
    }

    /// The entry of a file that is not loaded, and is to be recorded. One that is held day after day for the
    /// same reason is recorded once.
    pub fn entry_to_record(
        &self,
        outcome: &FileOutcome,
        one: FileInBatch<'_>,
        began: Began,
    ) -> Option<FileEntry> {
        let is_recorded = matches!(
            outcome,
            FileOutcome::Failed(_) | FileOutcome::Held(_) | FileOutcome::Skipped(SkipReason::Empty)
        );
        if !is_recorded {
            return None;
        }
        let entry = outcome.entry(one.feed, one.file, self.begun(began));
        let before = self.known.held(&one.file.seen.arrival, &one.feed.table);
        let is_recorded =
            entry.outcome == Outcome::Held && before.is_some_and(|b| b.reasons == entry.reasons);
        (!is_recorded).then_some(entry)
    }

    /// Records a file that is not loaded, if it is to be.
    ///
    /// # Errors
    ///
    /// The database is unreachable.
    pub fn record(
        &mut self,
        outcome: &FileOutcome,
        one: FileInBatch<'_>,
        began: Began,
    ) -> Result<(), EngineError> {
        let Some(entry) = self.entry_to_record(outcome, one, began) else { return Ok(()) };
        with_retry(self.store, |store| Ok(store.ledger().note_file(&entry, outcome.drift())?))
    }

    fn begun(&self, began: Began) -> BegunIn {
        BegunIn { batch: self.number, began: began.micros }
    }

    fn load_with_retry(
        &mut self,
        one: FileInBatch<'_>,
        target: &mut TargetState,
        mut profile: Option<FileProfile>,
    ) -> Result<FileOutcome, NotLoaded> {
        let mut retry = RetryPolicy::default();
        let mut kept = false;
        loop {
            let error = match self.load(one, target, profile.take()) {
                Err(NotLoaded::Store(StoreError::NotKept { table, files })) => {
                    // From their sources, where they are still there.
                    let Some(sources) = self.context.sources.filter(|_| !kept) else {
                        return Err(StoreError::NotKept { table, files }.into());
                    };
                    keep_rows(self.store, &mut sources(), &table, self.context.listener)?;
                    kept = true;
                    continue;
                }
                // One file of a table has waited long enough for all of them.
                Err(NotLoaded::Store(error @ StoreError::InUse { .. }))
                    if !retry.allows(&error) || self.in_use.contains(&one.feed.table) =>
                {
                    self.in_use.insert(one.feed.table.clone());
                    return Err(error.into());
                }
                Err(NotLoaded::Store(error)) if retry.allows(&error) => error,
                other => return other,
            };
            retry.wait(&error);
            if matches!(error, StoreError::Lost { .. }) {
                retry.reconnect(self.store)?;
            }
            let path = Some(one.file.shown.clone());
            self.context.listener.on(&Event::Retrying { path, error: error.into() });
            self.learn_anew(one.file)?;
            with_retry(self.store, |store| target.refresh(store, one.feed))?;
        }
    }

    /// Takes in what the ledger says of a file by now.
    ///
    /// # Errors
    ///
    /// The database does not answer.
    pub fn learn_anew(&mut self, file: &Candidate) -> Result<(), EngineError> {
        let query = of_path(file);
        let entries = with_retry(self.store, |store| Ok(store.ledger().files(&query)?))?;
        let in_force = entries.into_iter().rev().filter(is_in_force).collect();
        self.known.learn_newer(in_force, &file.seen.arrival);
        Ok(())
    }

    /// Loads a file, once.
    ///
    /// # Errors
    ///
    /// Why it is not loaded.
    pub fn load(
        &mut self,
        one: FileInBatch<'_>,
        target: &mut TargetState,
        profile: Option<FileProfile>,
    ) -> Result<FileOutcome, NotLoaded> {
        let file = one.file;
        let began = Began::now();
        let settlement = self.known.settlement(&file.seen.arrival, &one.feed.table);
        let settled = settlement.map(|settlement| settlement.applied(one.feed, target.main.layout()));
        let (feed, profile) = match &settled {
            // What was found before the decision was found by other rules.
            Some(feed) => (feed, None),
            None => (one.feed, profile),
        };
        let ledger = if one.again {
            self.known.matched_again(file, &feed.table)?
        } else {
            let hash = profile.as_ref().and_then(|profile| profile.hash.as_deref());
            self.known.matched(file, &feed.table, hash)?
        };
        let decision = on_arrival(&ArrivalFacts {
            path: &file.seen.arrival.path,
            ledger: &ledger,
            again: one.again,
            mode: feed.mode,
            same_content: feed.same_content,
            changed_file: feed.changed_file,
            waived: feed.expect.waived,
            table: &feed.table,
            has_lineage: target.main.lineage(false).is_kept() || !target.parts.is_empty(),
        });
        if let FileDecision::Skip(reason) = decision {
            // It may be loaded by this batch, just before the connection broke.
            if reason == SkipReason::Known && self.known.has_learnt(&file.seen.arrival, &feed.table) {
                return self.loaded_meanwhile(feed, file);
            }
            return self.skip(FileInBatch { feed, ..one }, reason, ledger, began);
        }
        let terms = NotLoaded::by(decision, file, HeldFile::default)?;
        self.load_on_terms(FileInBatch { feed, ..one }, &terms, target, profile, began)
    }

    fn load_on_terms(
        &mut self,
        one: FileInBatch<'_>,
        terms: &Terms,
        target: &mut TargetState,
        profile: Option<FileProfile>,
        began: Began,
    ) -> Result<FileOutcome, NotLoaded> {
        let FileInBatch { feed, file, .. } = one;
        let unchanged = one.again && self.known.is_known(&file.seen.arrival, &feed.table);
        // Files that are loaded in their order wait for one lock.
        if feed.mode != Mode::Append && self.in_use.contains(&feed.table) {
            return Err(NotLoaded::Skipped(SkipReason::InUse));
        }
        let warnings = check_digest(file, feed)?;
        let rows_before = self.known.rows_before(&feed.table);
        let request = FileRequest {
            replaces: terms.replaces,
            restore: if one.again { self.context.restore } else { Restore::Nothing },
            known_until: Some(self.known.newest(&file.seen.arrival, &feed.table)),
            began: began.micros,
            warnings,
            rows_before: &rows_before,
            ..FileRequest::of(feed, file, self.number, self.context.listener)
        };
        let loaded = match load_file(self.store, &request, target, profile) {
            Err(NotLoaded::Skipped(SkipReason::LoadedMeanwhile)) => return self.loaded_meanwhile(feed, file),
            loaded => loaded.map_err(held_if_too_many_vanished)?,
        };
        let outcome = FileOutcome::Loaded(Box::new(LoadedFile {
            loaded,
            replaced: terms.replaces.is_some(),
            again: unchanged,
            rejects_allowed: feed.expect.rejected_rows.is_some(),
        }));
        // A later file of this batch with the same path or content is decided by this entry.
        let rules = Some(LoadRules { parts: named_parts(file), ..LoadRules::default() });
        self.known.learn(FileEntry { rules, ..outcome.entry(feed, file, self.begun(began)) });
        Ok(outcome)
    }

    /// Skips a file, and records that where the ledger did not know it.
    fn skip(
        &mut self,
        one: FileInBatch<'_>,
        reason: SkipReason,
        ledger: LedgerMatch,
        began: Began,
    ) -> Result<FileOutcome, NotLoaded> {
        let is_noted = matches!(reason, SkipReason::SameContent { .. } | SkipReason::ChangeIgnored);
        let outcome = FileOutcome::Skipped(reason);
        if is_noted {
            let hash = match ledger {
                LedgerMatch::Same { hash, .. } => Some(hash),
                _ => None,
            };
            let is_same = hash.is_some();
            let entry = FileEntry { hash, ..outcome.entry(one.feed, one.file, self.begun(began)) };
            self.store.ledger().note_file(&entry, &[])?;
            if is_same {
                self.known.learn(entry);
            }
        }
        Ok(outcome)
    }

    /// The ledger says that a file is loaded: by another process, or by this one just before the
    /// connection broke, so that the answer was lost.
    fn loaded_meanwhile(&mut self, feed: &Feed, file: &Candidate) -> Result<FileOutcome, NotLoaded> {
        let is_own = |entry: &FileEntry| {
            entry.batch == self.number && entry.table.as_ref() == Some(&feed.table) && entry.outcome.counts()
        };
        let own = self.store.ledger().files(&of_path(file))?.into_iter().find(is_own);
        match own {
            Some(entry) => Ok(FileOutcome::Recorded(Box::new(entry))),
            None => Ok(FileOutcome::Skipped(SkipReason::LoadedMeanwhile)),
        }
    }
}

/// What the ledger has of a file.
pub fn of_path(file: &Candidate) -> FileQuery {
    let arrival = &file.seen.arrival;
    FileQuery { path: Some((arrival.place.clone(), arrival.path.clone())), ..FileQuery::default() }
}

/// Whether an entry says what is known of its file now: not one that failed, nor one whose rows were replaced.
fn is_in_force(entry: &FileEntry) -> bool {
    let is_known = entry.outcome != Outcome::Failed && entry.outcome != Outcome::Known;
    is_known && entry.replaced_by.is_none()
}

/// Why a file that is not loaded is left for later, if what there is of it is not what was listed. Who named
/// it by hand wants to know now.
fn left_for_later(file: &Candidate, error: Option<&EngineError>) -> Option<SkipReason> {
    if file.seen.arrival.place == BY_HAND {
        return None;
    }
    let now = || file.container().check().err().map(EngineError::from);
    error.and_then(EngineError::leaves_for_later).or_else(|| now()?.leaves_for_later())
}

/// A full delivery that would let too many keys vanish waits for a person.
fn held_if_too_many_vanished(why: NotLoaded) -> NotLoaded {
    match why {
        NotLoaded::Store(StoreError::TooManyVanished { vanished, there, .. }) => {
            let reasons = vec![on_vanished(vanished, there)];
            NotLoaded::Held(Box::new(HeldFile { reasons, ..HeldFile::default() }))
        }
        other => other,
    }
}
