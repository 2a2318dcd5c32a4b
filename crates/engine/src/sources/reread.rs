//! A file of the ledger read once more, by the rules it was loaded by.

use hypodoke_core::arrival::Arrival;
use hypodoke_core::outcome::Reason;
use hypodoke_stores::{DecisionEntry, FileEntry, FileQuery, Tables};

use super::dry_run::DryRunStore;
use super::find::{Finder, FoundFile};
use crate::decide::{HoldReason, Settlement};
use crate::discover::settlement_of;
use crate::error::EngineError;
use crate::event::Listener;
use crate::file_format::FileFormat;
use crate::load::{FileRequest, Loaded, NotLoaded, load_file};
use crate::plan::TargetState;

/// Casts a file once more as it was loaded, into a store that changes no table; or the reasons why that cannot be.
///
/// # Errors
///
/// The database does not answer, or the ledger is damaged.
pub fn read_again(
    mut store: DryRunStore<'_>,
    entry: &FileEntry,
    found: &FoundFile,
    settlement: Option<&Settlement>,
    listener: &dyn Listener,
) -> Result<Result<Loaded, Vec<Reason>>, EngineError> {
    let FoundFile { feed, file } = found;
    let mut target = TargetState::of(&mut store, feed)?;
    let mut feed = match settlement {
        Some(settlement) => settlement.applied(feed, target.main.layout()),
        None => feed.clone(),
    };
    // What was taken in then is no question now.
    feed.policy = feed.policy.letting_all_through();
    feed.expect = Default::default();
    target.last_format =
        FileFormat::of_entry(entry).map_err(|why| EngineError::ledger("format", &entry.arrival.path, why))?;
    let request = FileRequest { sum_all: true, ..FileRequest::of(&feed, file, 0, listener) };
    Ok(match load_file(&mut store, &request, &mut target, None) {
        Ok(loaded) => Ok(loaded),
        Err(NotLoaded::Skipped(reason)) => Err(vec![reason.reason()]),
        Err(NotLoaded::Failed(error)) => Err(error.reasons()),
        Err(NotLoaded::Held(held)) => Err(held.reasons.iter().map(HoldReason::reason).collect()),
        Err(NotLoaded::Store(error)) => return Err(error.into()),
    })
}

/// Keeps the rows of files of a table in the ledger that are not kept there, as far as their sources are
/// as they were and no reject of theirs was corrected, which stands in no source.
///
/// # Errors
///
/// A place cannot be listed, or the database does not answer.
pub fn keep_rows(
    store: &mut dyn Tables,
    finder: &mut Finder,
    table: &str,
    listener: &dyn Listener,
) -> Result<(), EngineError> {
    let query = FileQuery { table: Some(table.to_owned()), ..FileQuery::default() };
    let mut entries = store.ledger().files(&query)?;
    entries.retain(|entry| entry.outcome.counts() && entry.replaced_by.is_none() && !entry.rows_kept);
    let decisions = store.ledger().decisions()?;
    for entry in &entries {
        let rejects = store.ledger().rejects(entry.file, usize::MAX >> 1)?;
        let is_corrected = rejects.iter().any(|reject| reject.corrected.is_some());
        let is_as_it_was = |found: &FoundFile| found.file.seen.arrival.looks_like(&entry.arrival);
        let found = finder.find(entry)?.filter(is_as_it_was);
        let Some(found) = found.filter(|_| !is_corrected) else { continue };
        let is_of_it = |decision: &&DecisionEntry| {
            let of = |arrival: &Arrival| (arrival.place.clone(), arrival.path.clone());
            decision.table == table
                && of(&decision.arrival) == of(&entry.arrival)
                && decision.arrival.looks_like(&entry.arrival)
        };
        let settlement = decisions.iter().rfind(is_of_it).map(settlement_of).transpose()?;
        let keeping = DryRunStore::keeping(store, entry.file);
        // What cannot be read as it was is still not kept, which is found out by whoever needs it.
        let _ = read_again(keeping, entry, &found, settlement.as_ref(), listener)?;
    }
    Ok(())
}
