//! The files of one delivery: all of them are kept, or none.

use hypodoke_core::outcome::Outcome;
use hypodoke_stores::StoreError;

use super::file::Began;
use super::retry::{RetryPolicy, with_retry};
use super::state::{Batch, Ended, FileInBatch, Profiled};
use crate::decide::{FailReason, FileDecision, SkipReason, on_capabilities};
use crate::error::EngineError;
use crate::event::Event;
use crate::job::{Candidate, Feed};
use crate::load::NotLoaded;
use crate::outcome::FileOutcome;
use crate::plan::TargetState;

/// A delivery to load.
pub struct Delivery<'d> {
    /// Its feed.
    pub feed: &'d Feed,
    /// Its files, in the order in which they are loaded.
    pub files: Vec<&'d Candidate>,
    /// Its files are loaded whatever the ledger knows of them.
    pub again: bool,
}

/// What came of the files of a delivery.
struct Attempted {
    files: Vec<Ended>,
    /// One of them failed, is held or still arriving, and none was kept.
    failed: bool,
}

impl Batch<'_> {
    /// Loads a delivery. What fails for a reason that passes is waited for, and the whole of it begun
    /// again. Gives what became of its files, in their order.
    ///
    /// # Errors
    ///
    /// The database is unreachable.
    pub fn load_delivery(
        &mut self,
        delivery: &Delivery<'_>,
        mut profiles: Vec<Profiled>,
        target: &mut TargetState,
    ) -> Result<Vec<Ended>, EngineError> {
        let (offered, database) = (self.store.capabilities(), self.store.shown());
        if let FileDecision::Fail(reason) =
            on_capabilities(delivery.feed.mode, delivery.files.len(), &offered, &database)
        {
            return self.refuse(delivery, &reason);
        }
        let before = target.clone();
        let mut retry = RetryPolicy::default();
        let began = Began::now();
        let attempted = loop {
            let error = match self.attempt_delivery(delivery, profiles, target) {
                Err(NotLoaded::Store(error)) if retry.allows(&error) => error,
                Ok(attempted) => break attempted,
                Err(NotLoaded::Store(error)) if !error.is_unreachable() => {
                    let _ = self.store.end_group(false);
                    break match error {
                        StoreError::InUse { .. } => {
                            self.in_use.insert(delivery.feed.table.clone());
                            delivery.all_waiting()
                        }
                        error => delivery.all_failed(&error.into()),
                    };
                }
                Err(NotLoaded::Failed(error)) => return Err(error),
                Err(NotLoaded::Store(error)) => return Err(error.into()),
                Err(NotLoaded::Held(_) | NotLoaded::Skipped(_)) => return Ok(Vec::new()),
            };
            let undone = self.store.end_group(false);
            // What was learnt of its files was taken back with them.
            target.clone_from(&before);
            self.known.end_undoable(false);
            profiles = delivery.files.iter().map(|_| None).collect();
            retry.wait(&error);
            if matches!(error, StoreError::Lost { .. }) || undone.is_err() {
                retry.reconnect(self.store)?;
            }
            self.context.listener.on(&Event::Retrying { path: None, error: error.into() });
            for file in &delivery.files {
                self.learn_anew(file)?;
            }
            with_retry(self.store, |store| target.refresh(store, delivery.feed))?;
        };
        let Attempted { mut files, failed } = attempted;
        self.known.end_undoable(!failed);
        if failed {
            *target = before;
            self.keep_none(delivery, &mut files, began)?;
        }
        Ok(files)
    }

    /// Records the files of a delivery none of which is kept: those that could be loaded fail with the others,
    /// or wait for them.
    fn keep_none(
        &mut self,
        delivery: &Delivery<'_>,
        files: &mut [Ended],
        began: Began,
    ) -> Result<(), EngineError> {
        // It is tried again as a whole, once all of its files are there.
        let is_bad = |file: &Ended| matches!(file.outcome.status(), Outcome::Failed | Outcome::Held);
        let waits = !files.iter().any(is_bad);
        for (Ended { outcome, .. }, file) in files.iter_mut().zip(&delivery.files) {
            if outcome.status().counts() {
                *outcome = match waits {
                    true => FileOutcome::Skipped(SkipReason::DeliveryWaits),
                    false => {
                        let reason = FailReason::OtherOfDelivery;
                        FileOutcome::Failed(EngineError::unloadable(&file.shown, reason))
                    }
                };
            }
            self.record(outcome, delivery.one(file), began)?;
        }
        Ok(())
    }

    /// Records the files of a delivery that cannot be loaded at all.
    fn refuse(&mut self, delivery: &Delivery<'_>, reason: &FailReason) -> Result<Vec<Ended>, EngineError> {
        let began = Began::now();
        let mut files = Vec::with_capacity(delivery.files.len());
        for file in &delivery.files {
            let outcome = FileOutcome::Failed(EngineError::unloadable(&file.shown, reason.clone()));
            self.record(&outcome, delivery.one(file), began)?;
            files.push(Ended { outcome, seconds: 0.0 });
        }
        Ok(files)
    }

    /// Loads the files of a delivery in one transaction, which is kept if none of them failed.
    fn attempt_delivery(
        &mut self,
        delivery: &Delivery<'_>,
        profiles: Vec<Profiled>,
        target: &mut TargetState,
    ) -> Result<Attempted, NotLoaded> {
        self.store.begin_group()?;
        self.known.begin_undoable();
        let mut attempted = Attempted { files: Vec::new(), failed: false };
        for (file, profiled) in delivery.files.iter().zip(profiles) {
            let began = Began::now();
            let one = delivery.one(file);
            let result = match profiled {
                Some(Err(error)) => Err(NotLoaded::Failed(error)),
                Some(Ok(profile)) => self.load(one, target, Some(profile)),
                None => self.load(one, target, None),
            };
            if let Err(NotLoaded::Store(error)) = result {
                if error.is_unreachable() || error.is_transient() {
                    return Err(NotLoaded::Store(error));
                }
                attempted.add(FileOutcome::Failed(error.into()), began);
                continue;
            }
            let outcome = self.outcome_of(result, one)?;
            attempted.add(outcome, began);
        }
        self.store.end_group(!attempted.failed)?;
        Ok(attempted)
    }
}

impl Attempted {
    fn add(&mut self, outcome: FileOutcome, began: Began) {
        self.failed |= matches!(outcome.status(), Outcome::Failed | Outcome::Held | Outcome::Waiting);
        self.files.push(Ended { outcome, seconds: began.seconds() });
    }
}

impl<'d> Delivery<'d> {
    fn all_failed(&self, error: &EngineError) -> Attempted {
        let failed = |_| Ended { outcome: FileOutcome::Failed(error.clone()), seconds: 0.0 };
        Attempted { files: self.files.iter().map(failed).collect(), failed: true }
    }

    fn all_waiting(&self) -> Attempted {
        let waiting = |_| Ended { outcome: FileOutcome::Skipped(SkipReason::InUse), seconds: 0.0 };
        Attempted { files: self.files.iter().map(waiting).collect(), failed: true }
    }

    /// One of its files.
    pub fn one(&self, file: &'d Candidate) -> FileInBatch<'d> {
        FileInBatch { feed: self.feed, file, again: self.again }
    }
}
