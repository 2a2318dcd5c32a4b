//! A job: what was found for it, loaded and put away.

use std::borrow::Cow;

use hypodoke_core::outcome::Outcome;
use hypodoke_stores::{FileQuery, Restore, Tables};

use super::context::{COMMIT_EVERY, Connections, LoadContext, RunOptions};
use super::put_away::PutAwayFiles;
use super::run::{NotTaken, run_batch};
use crate::discover::{Discovered, Window, discover};
use crate::error::EngineError;
use crate::event::{All, Event};
use crate::job::{Candidate, FeedFiles, Job, MissingTable};
use crate::lost_tables::{TableLoss, fewer_rows, table_loss};
use crate::profile::threads;
use crate::receipt::Receipt;
use crate::sources::{Finder, plan_replay};

/// What came of a job.
#[non_exhaustive]
pub struct LoadReport {
    /// The account of what was done.
    pub receipt: Receipt,
    /// What ended it before its time: the database became unreachable, or the ledger is damaged.
    pub broken_off: Option<EngineError>,
    /// What could not be listed, reached or put away.
    pub errors: Vec<EngineError>,
}

/// Finds what is new in the places of a job, loads it, and puts away what is done with.
///
/// # Errors
///
/// The ledger cannot be read. What happens later is part of the report.
pub fn load_new(
    job: &Job,
    tables: &mut dyn Tables,
    options: RunOptions<'_>,
) -> Result<LoadReport, EngineError> {
    run_job(job, &discover(job, &[])?, tables, options)
}

/// Loads the files that were found for a job, and puts away what is done with.
///
/// # Errors
///
/// The ledger cannot be read. What happens later is part of the report.
pub fn run_job(
    job: &Job,
    found: &Discovered,
    store: &mut dyn Tables,
    options: RunOptions<'_>,
) -> Result<LoadReport, EngineError> {
    let RunOptions { listener, stop, connect } = options;
    let most = job.connections.unwrap_or_else(usual_connections);
    let more = connect.map(|open| Connections { open, most });
    let connections = more.as_ref().filter(|more| store.capabilities().many_writers && more.most > 1);
    found.errors.iter().for_each(|error| listener.on(&Event::Failed { error: error.clone() }));
    let sources = || Finder::new(Some(job.clone()));
    let moves = PutAwayFiles::new(found);
    let both = All(vec![listener, &moves]);
    let context = LoadContext {
        connections,
        listener: &both,
        stop,
        sources: Some(&sources),
        commit_every: job.commit_every.unwrap_or(COMMIT_EVERY),
        restore: Restore::Missing,
    };
    let (unmatched, waiting) = (found.unmatched.clone(), found.waiting.clone());
    let (missing, feeds) = with_lost_tables(store, &found.feeds, &sources)?;
    let ended = run_batch(store, context, &feeds, NotTaken { unmatched, waiting, missing })?;
    let whole = ended.broken_off.is_none() && !stop.is_requested() && ended.unreachable.is_empty();
    let moved = moves.finish(store.ledger(), whole);
    moved.iter().for_each(|error| listener.on(&Event::Failed { error: error.clone() }));
    let errors = found.errors.iter().cloned().chain(ended.unreachable).chain(moved).collect();
    Ok(LoadReport { receipt: ended.receipt, broken_off: ended.broken_off, errors })
}

/// Tables of up to so many rows are counted before each load: that takes some milliseconds.
const MOST_COUNTED: u64 = 250_000;

/// The tables of these feeds that somebody has dropped or emptied, or that lack rows; and the feeds, in which the files of such a
/// table are loaded again where its feed says so.
fn with_lost_tables<'f>(
    store: &mut dyn Tables,
    feeds: &'f [FeedFiles],
    sources: &dyn Fn() -> Finder,
) -> Result<(Vec<TableLoss>, Cow<'f, [FeedFiles]>), EngineError> {
    let (mut missing, mut all) = (Vec::new(), Cow::Borrowed(feeds));
    if !store.ledger().has_ledger()? {
        return Ok((missing, all));
    }
    for (at, FeedFiles { feed, .. }) in feeds.iter().enumerate() {
        let loss = match table_loss(store, feed)? {
            Some(loss) => Some(loss),
            None => fewer_rows(store, feed, MOST_COUNTED)?,
        };
        let Some(loss) = loss else { continue };
        if feed.missing_table == MissingTable::Replay {
            let (table, outcome) = (Some(feed.table.clone()), Some(Outcome::Loaded));
            let mut entries = store.ledger().files(&FileQuery { table, outcome, ..FileQuery::default() })?;
            entries.retain(|entry| entry.replaced_by.is_none());
            let replay = plan_replay(&mut sources(), &entries, Window::default())?;
            let again = replay.feeds.into_iter().flat_map(|feed| feed.files);
            if let Some(files) = all.to_mut().get_mut(at) {
                let is_there =
                    |file: &Candidate, known: &[Candidate]| known.iter().any(|k| k.seen == file.seen);
                for file in again {
                    if !is_there(&file, &files.files) {
                        files.files.push(file);
                    }
                }
                files.files.sort_by(|a, b| a.seen.arrival.path.cmp(&b.seen.arrival.path));
                files.again = true;
            }
        }
        missing.push(loss);
    }
    Ok((missing, all))
}

/// As many connections as there are cores, and a few more: the server works while they wait.
fn usual_connections() -> usize {
    threads().clamp(2, 8)
}
