//! The feeds of a batch, and the files of each in the order in which they are loaded.

use hypodoke_stores::Mode;

use super::delivery::Delivery;
use super::file::FileInBatch;
use super::retry::with_retry;
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
                Some(feed) => other.load_feed(feed),
                None => Ok(()),
            };
            return self.share(pending.len(), connections, &work);
        }
        for feed in pending {
            if self.is_stopped() {
                break;
            }
            self.load_feed(feed)?;
        }
        Ok(())
    }

    fn load_feed(&mut self, pending: &PendingFeed<'_>) -> Result<(), EngineError> {
        let PendingFeed { feed, new, .. } = pending;
        let mut target = with_retry(self.store, |store| TargetState::of(store, feed))?;
        let profiles = if target.is_new() {
            self.profile_first(pending, &mut target)?
        } else {
            new.iter().map(|_| None).collect()
        };
        let connections = self.context.connections.filter(|more| more.most > 1);
        if let Some(connections) =
            connections.filter(|_| feed.mode == Mode::Append && new.len() >= WORTH_SHARING)
        {
            return self.load_files_in_parallel(pending, profiles, target, connections);
        }
        let mut in_hand = InHand { target, profiles, lines: 0 };
        for unit in load_units(feed, new) {
            if self.is_stopped() {
                break;
            }
            // A delivery is not begun without all of its files.
            let files: Vec<&Candidate> = unit.files().iter().filter_map(|at| new.get(*at).copied()).collect();
            if files.iter().filter(|file| self.unreachable.leaves(file)).count() > 0 {
                continue;
            }
            self.load_unit(pending, &unit, files, &mut in_hand)?;
        }
        Ok(())
    }

    fn load_unit(
        &mut self,
        pending: &PendingFeed<'_>,
        unit: &LoadUnit,
        files: Vec<&Candidate>,
        in_hand: &mut InHand,
    ) -> Result<(), EngineError> {
        let PendingFeed { feed, again, number, .. } = pending;
        let take = |at: &usize| in_hand.profiles.get_mut(*at).and_then(Option::take);
        let mut profiles: Vec<Profiled> = unit.files().iter().map(take).collect();
        let lines = match (unit, &files[..]) {
            (LoadUnit::Single(_), [file]) => {
                let one = FileInBatch { feed, file, again: *again };
                vec![self.load_one(one, &mut in_hand.target, profiles.pop().flatten())?]
            }
            _ => {
                let delivery = Delivery { feed, files, again: *again };
                self.load_delivery(&delivery, profiles, &mut in_hand.target)?
            }
        };
        for line in lines {
            self.tell((*number, in_hand.next_line()), line);
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
