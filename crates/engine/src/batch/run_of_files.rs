//! Files of a feed, one after another, shared with whoever loads the same list: what another process has in
//! hand is passed over, and what it has loaded is not loaded again.

use std::collections::VecDeque;
use std::time::Duration;

use hypodoke_stores::{Claimed, Mode};

use super::group::Group;
use super::state::{Batch, Ended, FileInBatch, PendingFeed, Profiled};
use crate::decide::SkipReason;
use crate::error::EngineError;
use crate::job::Candidate;
use crate::outcome::FileOutcome;
use crate::plan::TargetState;

/// So many files are claimed at a time.
const TOGETHER: usize = 64;

/// A file among those of a feed.
pub struct FileOfRun<'f> {
    /// Its place in the receipt, among the lines of its feed.
    pub at: usize,
    /// The file.
    pub file: &'f Candidate,
    /// Its profile, where it was profiled already.
    pub profiled: Profiled,
    /// It was on its way when its turn came, and files behind it went before it.
    pub is_postponed: bool,
}

/// How long a file that is on its way is waited for before others go first.
const PATIENCE: Duration = Duration::from_secs(2);

impl Batch<'_> {
    /// Loads files in their order; where rows are only added, and somebody else is about to load the next
    /// ones, it goes on from the other end. Gives back what others have in hand.
    ///
    /// # Errors
    ///
    /// The database is unreachable.
    pub fn load_run<'f>(
        &mut self,
        group: &mut Group<'f>,
        pending: &PendingFeed<'f>,
        mut files: VecDeque<FileOfRun<'f>>,
        target: &mut TargetState,
    ) -> Result<Vec<FileOfRun<'f>>, EngineError> {
        let may_turn = pending.feed.mode == Mode::Append;
        let (mut from_back, mut passed) = (false, 0);
        let mut taken = Vec::new();
        while !files.is_empty() && !self.is_stopped() {
            if may_turn && passed >= TOGETHER {
                (from_back, passed) = (!from_back, 0);
            }
            if may_turn && !from_back && postpone(&mut files) {
                continue;
            }
            let next: Vec<(usize, &Candidate)> = match from_back {
                true => files.iter().rev().take(TOGETHER).map(|file| (file.at, file.file)).collect(),
                false => files.iter().take(TOGETHER).map(|file| (file.at, file.file)).collect(),
            };
            let claimed = self.claim(group, pending, &next, target)?;
            let next = if from_back { files.pop_back() } else { files.pop_front() };
            let Some(next) = next.filter(|next| !self.unreachable.leaves(next.file)) else { continue };
            match claimed {
                Claimed::Ours => {
                    passed = 0;
                    let FileOfRun { at, file, profiled, .. } = next;
                    let one = FileInBatch { feed: pending.feed, file, again: pending.again };
                    self.load_file(group, (pending, at), one, target, profiled)?;
                }
                Claimed::Taken => {
                    passed += 1;
                    taken.push(next);
                }
                Claimed::Loaded => {
                    passed += 1;
                    self.let_go(next.file);
                    let one = FileInBatch { feed: pending.feed, file: next.file, again: pending.again };
                    let outcome = FileOutcome::Skipped(SkipReason::LoadedMeanwhile);
                    self.tell((pending.number, next.at), one, Ended { outcome, seconds: 0.0 });
                }
            }
        }
        Ok(taken)
    }

    /// Loads what others had in hand, unless they have loaded it by now: each file is waited for.
    ///
    /// # Errors
    ///
    /// The database is unreachable.
    pub fn load_taken<'f>(
        &mut self,
        group: &mut Group<'f>,
        pending: &PendingFeed<'f>,
        taken: Vec<FileOfRun<'f>>,
        target: &mut TargetState,
    ) -> Result<(), EngineError> {
        let mut taken = VecDeque::from(taken);
        while !taken.is_empty() && !self.is_stopped() {
            // By now they have most of them done.
            taken = self.load_run(group, pending, taken, target)?.into();
            self.commit(group, Some(target))?;
            // Once whoever has the first of them has committed, the others are asked for again.
            let Some(FileOfRun { at, file, profiled, .. }) = taken.pop_front() else { break };
            let one = FileInBatch { feed: pending.feed, file, again: pending.again };
            let ended = match self.in_use.contains(&pending.feed.table) {
                false => self.load_one(one, target, profiled)?,
                true => {
                    self.let_go(file);
                    Ended { outcome: FileOutcome::Skipped(SkipReason::InUse), seconds: 0.0 }
                }
            };
            self.tell((pending.number, at), one, ended);
        }
        Ok(())
    }
}

/// Puts the next file behind the others if it is still on its way, once; whether it was.
fn postpone(files: &mut VecDeque<FileOfRun<'_>>) -> bool {
    let is_late = files.len() > 1
        && files
            .front()
            .is_some_and(|next| !next.is_postponed && !next.file.container().is_at_hand(PATIENCE));
    if is_late && let Some(next) = files.pop_front() {
        files.push_back(FileOfRun { is_postponed: true, ..next });
    }
    is_late
}
