//! A batch on several connections side by side.

use std::collections::HashMap;
use std::sync::Mutex;
use std::sync::atomic::{AtomicUsize, Ordering};

use hypodoke_stores::StoreError;

use super::{Batch, Look, Pending};
use crate::engine::ground::Ground;
use crate::engine::means::Connections;
use crate::engine::receipt::ReceiptLine;
use crate::engine::{Candidate, Feed};

/// A piece of work, by its number: what it came to, and how it ended.
type Work<'w, T> = dyn Fn(&mut Batch<'_>, usize) -> (Option<T>, Result<(), StoreError>) + Sync + 'w;

impl Batch<'_> {
    /// Each feed on a connection of its own, as many at a time as there may be.
    pub(super) fn load_side_by_side(
        &mut self,
        pending: &[Pending<'_>],
        more: &Connections<'_>,
    ) -> Result<(), StoreError> {
        let work = |other: &mut Batch<'_>, at: usize| {
            let done = other.load_delivery(&pending[at]);
            let lines = std::mem::take(&mut other.lines);
            (Some((lines, std::mem::take(&mut other.conflicts))), done)
        };
        let (done, ended) = self.share(pending.len(), more, &work);
        for (lines, conflicts) in done {
            self.lines.extend(lines);
            self.conflicts.extend(conflicts);
        }
        ended
    }

    /// Does so many pieces of work on several connections, and gives what each came to, in order;
    /// also of those that were done before a connection broke.
    fn share<T: Send>(
        &self,
        pieces: usize,
        more: &Connections<'_>,
        work: &Work<'_, T>,
    ) -> (Vec<T>, Result<(), StoreError>) {
        let next = AtomicUsize::new(0);
        let done: Mutex<Vec<(usize, T)>> = Mutex::default();
        let (known, listener, number, again) = (&self.known, self.listener, self.number, self.again);
        let (stop, away) = (self.stop, self.away);
        let run = || -> Result<(), StoreError> {
            let mut store = (more.open)()?;
            store.open_ledger()?;
            let known = known.clone();
            let (lines, conflicts) = (Vec::new(), Vec::new());
            let mut batch = Batch {
                store: store.as_mut(),
                more: None,
                known,
                listener,
                stop,
                away,
                number,
                lines,
                conflicts,
                again,
            };
            loop {
                let at = next.fetch_add(1, Ordering::Relaxed);
                if at >= pieces || stop.is_wanted() {
                    return Ok(());
                }
                let (came, ended) = work(&mut batch, at);
                if let Some(came) = came {
                    done.lock().unwrap_or_else(|poisoned| poisoned.into_inner()).push((at, came));
                }
                ended?;
            }
        };
        let ended = std::thread::scope(|scope| {
            let workers: Vec<_> = (0..more.most.min(pieces)).map(|_| scope.spawn(run)).collect();
            let ends: Vec<_> = workers
                .into_iter()
                .map(|worker| worker.join().unwrap_or_else(|panic| std::panic::resume_unwind(panic)))
                .collect();
            ends.into_iter().collect::<Result<Vec<()>, StoreError>>()
        });
        let mut done = done.into_inner().unwrap_or_else(|poisoned| poisoned.into_inner());
        done.sort_by_key(|(at, _)| *at);
        (done.into_iter().map(|(_, came)| came).collect(), ended.map(|_| ()))
    }

    /// The files of one feed on several connections. The first makes the table; those of one size
    /// with another may be the same content twice, and are loaded one after another.
    pub(super) fn load_shared(
        &mut self,
        feed: &Feed,
        files: &[&Candidate],
        mut looks: Vec<Look>,
        mut ground: Ground,
        more: &Connections<'_>,
    ) -> Result<(), StoreError> {
        let mut lines: Vec<Option<ReceiptLine>> = files.iter().map(|_| None).collect();
        let mut sizes: HashMap<u64, u32> = HashMap::new();
        files.iter().for_each(|file| *sizes.entry(file.seen.arrival.bytes).or_default() += 1);
        let mut rest = Vec::new();
        for at in 0..files.len() {
            if self.stop.is_wanted() {
                break;
            }
            if self.away.leaves(files[at]) {
                continue;
            }
            let bytes = files[at].seen.arrival.bytes;
            let twin = sizes[&bytes] > 1 || self.known.has_size(bytes);
            if ground.is_new() || twin && !self.known.claims_content(files[at], &feed.table) {
                let look = looks[at].take();
                lines[at] = Some(self.load_one(feed, files[at], &mut ground, look, false)?);
            } else {
                rest.push((at, Mutex::new(looks[at].take())));
            }
        }
        let work = |other: &mut Batch<'_>, piece: usize| {
            let (at, look) = &rest[piece];
            if other.away.leaves(files[*at]) {
                return (None, Ok(()));
            }
            let look = look.lock().unwrap_or_else(|poisoned| poisoned.into_inner()).take();
            let mut own = ground.clone();
            match other.load_one(feed, files[*at], &mut own, look, false) {
                Ok(line) => (Some((*at, line)), Ok(())),
                Err(error) => (None, Err(error)),
            }
        };
        let (done, ended) = self.share(rest.len(), more, &work);
        for (at, line) in done {
            lines[at] = Some(line);
        }
        self.lines.extend(lines.into_iter().flatten());
        ended
    }
}
