//! A batch: every new file of every feed, loaded one by one, each in its own transaction; on
//! several connections side by side where the database takes that.

use std::collections::HashSet;
use std::sync::Arc;
use std::time::Instant;

use hypodoke_core::arrival::Arrival;
use hypodoke_core::spelling::temporal;
use hypodoke_stores::{FileEntry, Mode, Restore, Tables};

use super::collector::Collector;
use super::context::{LoadContext, Sources};
use super::retry::with_retry;
use super::state::{Batch, PendingFeed};
use super::unreachable::UnreachablePlaces;
use crate::clock;
use crate::discover::KnownFiles;
use crate::error::EngineError;
use crate::event::{All, Event};
use crate::job::{Candidate, FeedFiles};
use crate::lost_tables::TableLoss;
use crate::maintain::apply_corrections;
use crate::receipt::{RECEIPT_VERSION, Receipt, RefusedCorrection, Respelled};
use crate::sources::Finder;
use crate::stale_rows::{StaleRows, delete_stale_rows};

/// For how many days the rows of files are kept where nothing is said.
const KEPT_DAYS: u64 = 100;

/// So few files are asked for one by one.
const FEW: usize = 100;

/// A batch that is over.
pub struct BatchEnd {
    /// The account of what was done.
    pub receipt: Receipt,
    /// What ended it before its time: the database became unreachable, or the ledger is damaged.
    pub broken_off: Option<EngineError>,
    /// Places that became unreachable, whose files are left for later.
    pub unreachable: Vec<EngineError>,
}

/// Files that a batch does not load, for its receipt.
#[derive(Clone, Debug, Default)]
pub struct NotTaken {
    /// Files that no feed takes.
    pub unmatched: Vec<String>,
    /// Files that are still arriving.
    pub waiting: Vec<String>,
    /// Tables that somebody has dropped or emptied.
    pub missing: Vec<TableLoss>,
}

/// Loads all that is new. The last event is the receipt.
///
/// # Errors
///
/// The ledger cannot be read. What happens later is part of the end.
pub fn run_batch(
    store: &mut dyn Tables,
    context: LoadContext<'_>,
    feeds: &[FeedFiles],
    not_taken: NotTaken,
) -> Result<BatchEnd, EngineError> {
    let (began, began_at) = (Instant::now(), clock::now());
    let mut refused = finish_earlier(store, context.sources)?;
    let entries = if store.ledger().has_ledger()? { entries(store, feeds)? } else { Vec::new() };
    let decisions = if entries.is_empty() { Vec::new() } else { store.ledger().decisions()? };
    let known = KnownFiles::of(entries).settled(decisions)?;
    let missing = not_taken.missing;
    let (pending, known_count) = pending_feeds(&known, feeds);
    let unreachable = UnreachablePlaces::default();
    let collector = Collector::default();
    let all = All(vec![&collector, context.listener]);
    let database = store.shown();
    let (mut number, mut respelled) = (None, Vec::new());
    let mut broken_off = None;
    if !pending.is_empty() {
        let context = LoadContext { listener: &all, ..context };
        let mut batch =
            Batch { store, context, known, unreachable: &unreachable, number: 0, in_use: HashSet::new() };
        broken_off = match batch.load_all(&pending, feeds.len(), began_at, &mut number) {
            Ok((reread, corrections)) => {
                respelled = reread;
                refused.extend(corrections);
                None
            }
            Err(error) => Some(error),
        };
    }
    let stale = match number.filter(|_| broken_off.is_none()) {
        // The files are loaded: an error here must not lose their receipt.
        Some(batch) => stale_rows(store, feeds, context.restore, batch).unwrap_or_else(|error| {
            broken_off = Some(error);
            Vec::new()
        }),
        None => Vec::new(),
    };
    pending.iter().flat_map(|pending| &pending.new).for_each(|file| file.seen.release());
    let (files, conflicts) = collector.finish();
    let receipt = Receipt {
        version: RECEIPT_VERSION,
        batch: number,
        database,
        began_at: clock::rfc3339(began_at),
        seconds: began.elapsed().as_secs_f64(),
        totals: Receipt::total(&files),
        files,
        known: known_count,
        unmatched: not_taken.unmatched,
        waiting: not_taken.waiting,
        conflicts,
        respelled,
        stale,
        refused_corrections: refused,
        missing,
    };
    context.listener.on(&Event::BatchEnded { receipt: Arc::new(receipt.clone()) });
    let unreachable = unreachable.errors();
    for error in unreachable.iter().chain(&broken_off) {
        context.listener.on(&Event::Failed { error: error.clone() });
    }
    Ok(BatchEnd { receipt, broken_off, unreachable })
}

/// Deletes rows of files that do not count any more from the tables of feeds whose files were loaded again. In a mode with
/// a key they may be rows that somebody else has changed: they are left, unless these are overwritten and all files of
/// the table were loaded again.
fn stale_rows(
    store: &mut dyn Tables,
    feeds: &[FeedFiles],
    restore: Restore,
    batch: i64,
) -> Result<Vec<StaleRows>, EngineError> {
    let mut all = Vec::new();
    let is_meant =
        |files: &&FeedFiles| files.again && (!files.feed.mode.has_key() || restore == Restore::Everything);
    for FeedFiles { feed, .. } in feeds.iter().filter(is_meant) {
        let wholly = feed.mode.has_key().then_some(batch);
        all.extend(with_retry(store, |store| delete_stale_rows(store, feed, wholly))?);
    }
    Ok(all)
}

/// Completes or undoes what an earlier batch left unfinished.
fn finish_earlier(
    store: &mut dyn Tables,
    sources: Option<&Sources<'_>>,
) -> Result<Vec<RefusedCorrection>, EngineError> {
    if !store.ledger().has_ledger()? {
        return Ok(Vec::new());
    }
    store.recover()?;
    correct(store, sources)
}

/// Applies the corrections of files that were loaded again.
fn correct(
    store: &mut dyn Tables,
    sources: Option<&Sources<'_>>,
) -> Result<Vec<RefusedCorrection>, EngineError> {
    let finder = sources.map_or_else(|| Finder::new(None), |sources| sources());
    with_retry(store, |store| apply_corrections(store, &|entry| finder.feed_of(entry)))
}

/// The feeds that have new files, and how many files are known.
fn pending_feeds<'a>(known: &KnownFiles, feeds: &'a [FeedFiles]) -> (Vec<PendingFeed<'a>>, u64) {
    let (mut pending, mut known_count) = (Vec::new(), 0);
    for (number, FeedFiles { feed, files, again }) in feeds.iter().enumerate() {
        let is_old = |file: &&Candidate| !again && known.is_known(&file.seen.arrival, &feed.table);
        let (old, new): (Vec<_>, Vec<_>) = files.iter().partition(is_old);
        known_count += old.len() as u64;
        hypodoke_places::dismiss(old.iter().map(|file| &file.seen));
        if !new.is_empty() {
            pending.push(PendingFeed { number, feed, new, again: *again });
        }
    }
    hypodoke_places::expect(pending.iter().flat_map(|pending| &pending.new).map(|file| &file.seen));
    (pending, known_count)
}

/// What the ledger has to say of these files. Of few files it is asked for what may be them; what
/// is usual is known by all that came before.
fn entries(store: &mut dyn Tables, feeds: &[FeedFiles]) -> Result<Vec<FileEntry>, EngineError> {
    let arrivals: Vec<&Arrival> =
        feeds.iter().flat_map(|feed| &feed.files).map(|file| &file.seen.arrival).collect();
    let by_all = feeds.iter().any(|files| files.feed.expect.usual_rows.is_some());
    let all = arrivals.len() > FEW || by_all;
    Ok(if all { store.ledger().known_files()? } else { store.ledger().files_like(&arrivals)? })
}

impl Batch<'_> {
    /// Forgets rows of files that were kept long enough.
    fn forget_rows(&mut self, pending: &[PendingFeed<'_>]) -> Result<(), EngineError> {
        for feed in pending.iter().map(|pending| pending.feed).filter(|feed| feed.mode != Mode::Append) {
            let days = i64::try_from(feed.keep_superseded.unwrap_or(KEPT_DAYS)).unwrap_or(i64::MAX);
            let before = clock::now().saturating_sub(days.saturating_mul(temporal::DAY));
            with_retry(self.store, |store| Ok(store.ledger().forget_rows(&feed.table, before)?))?;
        }
        Ok(())
    }

    fn load_all(
        &mut self,
        pending: &[PendingFeed<'_>],
        feeds: usize,
        at: i64,
        number: &mut Option<i64>,
    ) -> Result<(Vec<Respelled>, Vec<RefusedCorrection>), EngineError> {
        self.number = with_retry(self.store, |store| {
            store.prepare()?;
            Ok(store.ledger().begin_batch(at)?)
        })?;
        *number = Some(self.number);
        let files = pending.iter().map(|pending| pending.new.len()).sum();
        let bytes = pending.iter().flat_map(|feed| &feed.new).map(|file| file.seen.arrival.bytes).sum();
        self.context.listener.on(&Event::BatchBegan { batch: self.number, files, bytes });
        self.load_feeds(pending)?;
        let respelled = self.respell(feeds)?;
        self.forget_rows(pending)?;
        let refused = correct(self.store, self.context.sources)?;
        let number = self.number;
        with_retry(self.store, |store| Ok(store.ledger().end_batch(number, clock::now())?))?;
        Ok((respelled, refused))
    }
}
