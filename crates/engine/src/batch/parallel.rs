//! A batch on several connections side by side.

use std::collections::HashMap;
use std::sync::Mutex;
use std::sync::PoisonError;
use std::sync::atomic::{AtomicUsize, Ordering};

use super::context::{Connections, LoadContext};
use super::file::FileInBatch;
use super::state::{Batch, PendingFeed, Profiled};
use crate::error::EngineError;
use crate::plan::TargetState;

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
            store.open_ledger()?;
            let (store, known) = (store.as_mut(), known.clone());
            let mut batch = Batch { store, context, known, unreachable, number };
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
    pub fn load_files_in_parallel(
        &mut self,
        pending: &PendingFeed<'_>,
        mut profiles: Vec<Profiled>,
        mut target: TargetState,
        connections: &Connections<'_>,
    ) -> Result<(), EngineError> {
        let PendingFeed { feed, new: files, again, number, .. } = pending;
        let one = |file| FileInBatch { feed, file, again: *again };
        let mut sizes: HashMap<u64, u32> = HashMap::new();
        files.iter().for_each(|file| *sizes.entry(file.seen.arrival.bytes).or_default() += 1);
        let mut rest = Vec::new();
        for (at, file) in files.iter().enumerate() {
            if self.is_stopped() {
                break;
            }
            if self.unreachable.leaves(file) {
                continue;
            }
            let bytes = file.seen.arrival.bytes;
            let may_be_twin = sizes.get(&bytes).is_some_and(|many| *many > 1) || self.known.has_size(bytes);
            let profile = profiles.get_mut(at).and_then(Option::take);
            if target.is_new() || may_be_twin && !self.known.claim_content(file, &feed.table) {
                let line = self.load_one(one(file), &mut target, profile)?;
                self.tell((*number, at), line);
            } else {
                rest.push((at, *file, Mutex::new(profile)));
            }
        }
        let work = |other: &mut Batch<'_>, piece: usize| {
            let Some((at, file, profile)) = rest.get(piece) else { return Ok(()) };
            if other.unreachable.leaves(file) {
                return Ok(());
            }
            let profile = profile.lock().unwrap_or_else(PoisonError::into_inner).take();
            let mut own = target.clone();
            let line = other.load_one(one(file), &mut own, profile)?;
            other.tell((*number, *at), line);
            Ok(())
        };
        self.share(rest.len(), connections, &work)
    }
}
