//! The feeds of a batch, and the files of each in the order in which they are loaded.

use std::collections::VecDeque;

use hypodoke_stores::Mode;

use super::delivery::Delivery;
use super::group::Group;
use super::retry::with_retry;
use super::run_of_files::FileOfRun;
use super::state::{Batch, PendingFeed, Profiled};
use crate::discover::{LoadUnit, load_units};
use crate::error::EngineError;
use crate::job::Candidate;
use crate::plan::TargetState;

/// A feed's files are only loaded side by side if there are at least so many.
const WORTH_SHARING: usize = 8;

/// A feed that is being loaded: what its tables are, the profiles of its files, and how many lines of
/// the receipt it has.
struct InHand {
    target: TargetState,
    profiles: Vec<Profiled>,
    lines: usize,
}

impl Batch<'_> {
    /// Loads all feeds: each on a connection of its own where there are more, one after another where
    /// there is one.
    ///
    /// # Errors
    ///
    /// The database is unreachable.
    pub fn load_feeds(&mut self, pending: &[PendingFeed<'_>]) -> Result<(), EngineError> {
        if let Some(connections) = self.context.connections.filter(|more| more.most > 1 && pending.len() > 1)
        {
            let work = |other: &mut Batch<'_>, at: usize| match pending.get(at) {
                Some(feed) => other.in_groups(|other, group| other.load_feed(feed, group)),
                None => Ok(()),
            };
            return self.share(pending.len(), connections, &work);
        }
        self.in_groups(|batch, group| {
            for feed in pending {
                if batch.is_stopped() {
                    break;
                }
                batch.load_feed(feed, group)?;
            }
            Ok(())
        })
    }

    fn load_feed<'f>(&mut self, pending: &PendingFeed<'f>, group: &mut Group<'f>) -> Result<(), EngineError> {
        let PendingFeed { feed, new, .. } = pending;
        // Where others load too, they wait for no more than the files of one feed.
        if self.store.capabilities().many_writers {
            self.commit(group, None)?;
        }
        let mut target = with_retry(self.store, |store| TargetState::of(store, feed))?;
        let profiles = if target.is_new() {
            // Nobody waits for the transaction while files are profiled.
            self.commit(group, None)?;
            self.profile_first(pending, &mut target)?
        } else {
            new.iter().map(|_| None).collect()
        };
        let connections = self.context.connections.filter(|more| more.most > 1);
        if let Some(connections) =
            connections.filter(|_| feed.mode == Mode::Append && new.len() >= WORTH_SHARING)
        {
            return self.load_files_in_parallel(pending, group, profiles, target, connections);
        }
        let mut in_hand = InHand { target, profiles, lines: 0 };
        let mut run = VecDeque::new();
        for unit in load_units(feed, new) {
            let files: Vec<&'f Candidate> =
                unit.files().iter().filter_map(|at| new.get(*at).copied()).collect();
            if let (LoadUnit::Single(at), [file]) = (&unit, &files[..]) {
                let profiled = in_hand.profiles.get_mut(*at).and_then(Option::take);
                run.push_back(FileOfRun { at: in_hand.next_line(), file, profiled, is_postponed: false });
                continue;
            }
            // A delivery is not begun without all of its files.
            let is_away = |file: &&&Candidate| self.unreachable.leaves(file);
            if self.is_stopped() || files.iter().filter(is_away).count() > 0 {
                continue;
            }
            self.commit(group, Some(&mut in_hand.target))?;
            self.load_delivery_of(pending, &unit, files, &mut in_hand)?;
        }
        let taken = self.load_run(group, pending, run, &mut in_hand.target)?;
        self.load_taken(group, pending, taken, &mut in_hand.target)
    }

    fn load_delivery_of(
        &mut self,
        pending: &PendingFeed<'_>,
        unit: &LoadUnit,
        files: Vec<&Candidate>,
        in_hand: &mut InHand,
    ) -> Result<(), EngineError> {
        let PendingFeed { feed, again, number, .. } = pending;
        let take = |at: &usize| in_hand.profiles.get_mut(*at).and_then(Option::take);
        let profiles: Vec<Profiled> = unit.files().iter().map(take).collect();
        let delivery = Delivery { feed, files, again: *again };
        let ended = self.load_delivery(&delivery, profiles, &mut in_hand.target)?;
        for (file, ended) in delivery.files.iter().zip(ended) {
            self.tell((*number, in_hand.next_line()), delivery.one(file), ended);
        }
        Ok(())
    }
}

impl InHand {
    fn next_line(&mut self) -> usize {
        self.lines += 1;
        self.lines - 1
    }
}
