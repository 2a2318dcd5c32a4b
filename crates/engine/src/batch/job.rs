//! A job: what was found for it, loaded and put away.

use hypodoke_stores::Store;

use super::context::{COMMIT_EVERY, Connections, LoadContext, StopSignal};
use super::put_away::PutAwayFiles;
use super::run::{NotTaken, run_batch};
use crate::discover::Discovered;
use crate::error::EngineError;
use crate::event::{All, Event, Listener};
use crate::job::Job;
use crate::profile::threads;
use crate::receipt::Receipt;
use crate::sources::Finder;

/// What came of a job.
pub struct LoadReport {
    /// The account of what was done.
    pub receipt: Receipt,
    /// What ended it before its time: the database became unreachable, or the ledger is damaged.
    pub broken_off: Option<EngineError>,
    /// What could not be listed, reached or put away.
    pub errors: Vec<EngineError>,
}

/// Loads the files that were found for a job, and puts away what is done with.
///
/// # Errors
///
/// The ledger cannot be read. What happens later is part of the report.
pub fn run_job(
    job: &Job,
    found: &Discovered,
    store: &mut dyn Store,
    listener: &dyn Listener,
    stop: &StopSignal,
) -> Result<LoadReport, EngineError> {
    let open = || hypodoke_stores::open(&job.store);
    let most = job.connections.unwrap_or_else(usual_connections);
    let more = Connections { open: &open, most };
    let connections = Some(&more).filter(|more| store.capabilities().many_writers && more.most > 1);
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
    };
    let not_taken = NotTaken { unmatched: found.unmatched.clone(), waiting: found.waiting.clone() };
    let ended = run_batch(store, context, &found.feeds, not_taken)?;
    let whole = ended.broken_off.is_none() && !stop.is_requested() && ended.unreachable.is_empty();
    let moved = moves.finish(store, whole);
    moved.iter().for_each(|error| listener.on(&Event::Failed { error: error.clone() }));
    let errors = found.errors.iter().cloned().chain(ended.unreachable).chain(moved).collect();
    Ok(LoadReport { receipt: ended.receipt, broken_off: ended.broken_off, errors })
}

/// As many connections as there are cores, and a few more: the server works while they wait.
fn usual_connections() -> usize {
    threads().clamp(2, 8)
}
