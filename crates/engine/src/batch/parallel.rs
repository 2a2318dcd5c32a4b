//! A batch on several connections side by side.

use std::collections::HashSet;
use std::collections::{HashMap, VecDeque};
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Mutex, MutexGuard, PoisonError};

use super::context::{Connections, LoadContext};
use super::group::Group;
use super::run_of_files::FileOfRun;
use super::state::{Batch, FileInBatch, PendingFeed, Profiled};
use crate::error::EngineError;
use crate::plan::TargetState;

/// A connection takes no more files than this at a time.
const MOST_IN_PIECE: usize = 256;

/// A piece of work, by its number.
type Work<'w> = dyn Fn(&mut Batch<'_>, usize) -> Result<(), EngineError> + Sync + 'w;

impl Batch<'_> {
    /// Does so many pieces of work on several connections.
    ///
    /// # Errors
    ///
    /// The database became unreachable; pieces that were done before are done.
    pub fn share(
        &self,
        pieces: usize,
        connections: &Connections<'_>,
        work: &Work<'_>,
    ) -> Result<(), EngineError> {
        let next = AtomicUsize::new(0);
        let (known, unreachable, number) = (&self.known, self.unreachable, self.number);
        let context = LoadContext { connections: None, ..self.context };
        let run = || -> Result<(), EngineError> {
            let mut store = (connections.open)()?;
            store.ledger().open_ledger()?;
            let (store, known) = (store.as_mut(), known.clone());
            let mut batch = Batch { store, context, known, unreachable, number, in_use: HashSet::new() };
            loop {
                let at = next.fetch_add(1, Ordering::Relaxed);
                if at >= pieces || batch.is_stopped() {
                    return Ok(());
                }
                work(&mut batch, at)?;
            }
        };
        std::thread::scope(|scope| {
            let workers: Vec<_> = (0..connections.most.min(pieces)).map(|_| scope.spawn(run)).collect();
            let join = |worker: std::thread::ScopedJoinHandle<'_, Result<(), EngineError>>| {
                worker.join().unwrap_or_else(|panic| std::panic::resume_unwind(panic))
            };
            let ends: Vec<_> = workers.into_iter().map(join).collect();
            ends.into_iter().collect()
        })
    }

    /// The files of one feed on several connections. The first makes the table; those of one size
    /// with another may be the same content twice, and are loaded one after another.
    ///
    /// # Errors
    ///
    /// The database became unreachable.
    pub fn load_files_in_parallel<'f>(
        &mut self,
        pending: &PendingFeed<'f>,
        group: &mut Group<'f>,
        mut profiles: Vec<Profiled>,
        mut target: TargetState,
        connections: &Connections<'_>,
    ) -> Result<(), EngineError> {
        let PendingFeed { feed, new: files, again, number, .. } = pending;
        self.commit(group, Some(&mut target))?;
        let one = |file| FileInBatch { feed, file, again: *again };
        let mut sizes: HashMap<u64, u32> = HashMap::new();
        files.iter().for_each(|file| *sizes.entry(file.seen.arrival.bytes).or_default() += 1);
        let mut rest = VecDeque::new();
        for (at, file) in files.iter().enumerate() {
            if self.is_stopped() {
                break;
            }
            if self.unreachable.leaves(file) {
                continue;
            }
            let bytes = file.seen.arrival.bytes;
            let may_be_twin = sizes.get(&bytes).is_some_and(|many| *many > 1) || self.known.has_size(bytes);
            let profiled = profiles.get_mut(at).and_then(Option::take);
            let hash = match &profiled {
                Some(Ok(profile)) => profile.hash.as_deref(),
                _ => None,
            };
            let is_twin = may_be_twin && !self.known.claim_content(file, &feed.table, hash);
            if target.is_new() || is_twin {
                let ended = self.load_one(one(file), &mut target, profiled)?;
                self.tell((*number, at), one(file), ended);
            } else {
                rest.push_back(FileOfRun { at, file, profiled, is_postponed: false });
            }
        }
        let pieces = pieces(rest, connections.most);
        let taken = Mutex::new(Vec::new());
        let work = |other: &mut Batch<'_>, piece: usize| {
            let piece = pieces.get(piece).map(|piece| std::mem::take(&mut *locked(piece)));
            let mut own = target.clone();
            other.in_groups(|other, group| {
                let left = other.load_run(group, pending, piece.unwrap_or_default(), &mut own)?;
                locked(&taken).extend(left);
                Ok(())
            })
        };
        self.share(pieces.len(), connections, &work)?;
        self.load_taken(
            group,
            pending,
            taken.into_inner().unwrap_or_else(PoisonError::into_inner),
            &mut target,
        )
    }
}

/// A run of files that one of the connections takes.
type Piece<'f> = Mutex<VecDeque<FileOfRun<'f>>>;

/// Files in pieces: each connection takes several, one after another, so that all end at about the same time.
fn pieces(mut files: VecDeque<FileOfRun<'_>>, connections: usize) -> Vec<Piece<'_>> {
    let size = (files.len() / (4 * connections.max(1))).clamp(1, MOST_IN_PIECE);
    let mut pieces = Vec::new();
    while !files.is_empty() {
        let rest = files.split_off(size.min(files.len()));
        pieces.push(Mutex::new(std::mem::replace(&mut files, rest)));
    }
    pieces
}

fn locked<T>(mutex: &Mutex<T>) -> MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
}
