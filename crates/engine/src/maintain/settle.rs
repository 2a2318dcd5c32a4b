//! Files that are held: which they are, what a decision would come to, and its entry in the ledger.

use std::collections::HashMap;

use hypodoke_core::outcome::Outcome;
use hypodoke_stores::{DecisionEntry, FileEntry, FileQuery, Ledger, Tables};

use crate::clock;
use crate::decide::{HoldReason, Settlement};
use crate::error::{AgainProblem, EngineError};
use crate::event::Silent;
use crate::load::{FileRequest, NotLoaded, load_file};
use crate::outcome::{FileOutcome, LoadedFile};
use crate::plan::TargetState;
use crate::receipt::ReceiptLine;
use crate::sources::DryRunStore;
use crate::sources::FoundFile;

/// Who decided, and why.
#[derive(Clone, Debug, Default)]
pub struct Decider {
    /// Who.
    pub by: String,
    /// Why, in their words.
    pub why: Option<String>,
}

/// What a decision would come to.
#[derive(Clone, Debug)]
pub enum Effect {
    /// The file would be loaded.
    Loads(Box<ReceiptLine>),
    /// It would still be held.
    StillHeld(Vec<HoldReason>),
}

/// The files that are held now, the oldest first.
///
/// # Errors
///
/// The ledger cannot be read.
pub fn held_files(store: &mut dyn Ledger) -> Result<Vec<FileEntry>, EngineError> {
    let mut newest: Vec<FileEntry> = Vec::new();
    for entry in store.loaded_files()? {
        let is_same = |known: &FileEntry| {
            known.arrival.path == entry.arrival.path
                && known.arrival.place == entry.arrival.place
                && known.table == entry.table
        };
        newest.retain(|known| !is_same(known));
        newest.push(entry);
    }
    newest.retain(|entry| entry.outcome == Outcome::Held);
    Ok(newest)
}

/// The files that failed and of which nothing came since, the oldest first.
///
/// # Errors
///
/// The ledger cannot be read.
pub fn failed_files(store: &mut dyn Ledger) -> Result<Vec<FileEntry>, EngineError> {
    let failed = store.files(&FileQuery { outcome: Some(Outcome::Failed), ..FileQuery::default() })?;
    if failed.is_empty() {
        return Ok(failed);
    }
    let key =
        |entry: &FileEntry| (entry.arrival.place.clone(), entry.arrival.path.clone(), entry.table.clone());
    let mut newest: HashMap<_, i64> = HashMap::new();
    for entry in store.loaded_files()? {
        let file = newest.entry(key(&entry)).or_default();
        *file = entry.file.max(*file);
    }
    let mut open: Vec<FileEntry> = Vec::new();
    for entry in failed {
        let known = newest.entry(key(&entry)).or_default();
        // Entries come newest first: of each file the last one counts.
        if *known < entry.file {
            *known = entry.file;
            open.push(entry);
        }
    }
    open.reverse();
    Ok(open)
}

/// The file of an entry, if it is there and what it was when it was held.
///
/// # Errors
///
/// It is gone, or has changed.
pub fn as_it_was_held(entry: &FileEntry, found: Option<FoundFile>) -> Result<FoundFile, EngineError> {
    let path = entry.arrival.path.clone();
    match found {
        None => Err(AgainProblem::Gone { path }.into()),
        Some(found) if !found.file.seen.arrival.looks_like(&entry.arrival) => {
            Err(AgainProblem::Changed { path }.into())
        }
        Some(found) => Ok(found),
    }
}

/// What the next load would make of the file under the decision.
///
/// # Errors
///
/// The file cannot be read or loaded even so.
pub fn settlement_effect(
    store: &mut dyn Tables,
    found: &FoundFile,
    settlement: &Settlement,
) -> Result<Effect, EngineError> {
    let FoundFile { feed, file } = found;
    let mut store = DryRunStore::on(store);
    let mut target = TargetState::of(&mut store, feed)?;
    let applied = settlement.applied(feed, target.main.layout());
    let request = FileRequest::of(&applied, file, 0, &Silent);
    match load_file(&mut store, &request, &mut target, None) {
        Ok(loaded) => {
            let rejects_allowed = feed.expect.rejected_rows.is_some();
            let loaded = LoadedFile { loaded, rejects_allowed, ..LoadedFile::default() };
            Ok(Effect::Loads(Box::new(FileOutcome::Loaded(Box::new(loaded)).line(feed, file, 0.0))))
        }
        Err(NotLoaded::Held(held)) => Ok(Effect::StillHeld(held.reasons)),
        Err(NotLoaded::Skipped(_)) => Err(AgainProblem::InUse { path: file.shown.clone() }.into()),
        Err(NotLoaded::Failed(error)) => Err(error),
        Err(NotLoaded::Store(error)) => Err(error.into()),
    }
}

/// Records a decision about the file of an entry.
///
/// # Errors
///
/// The database does not answer.
pub fn note_settlement(
    store: &mut dyn Ledger,
    entry: &FileEntry,
    settlement: &Settlement,
    decider: Decider,
) -> Result<(), EngineError> {
    let decision = settlement
        .to_json()
        .map_err(|why| EngineError::not_recorded("decision", &entry.arrival.path, why))?;
    let arrival = entry.arrival.clone();
    let table = entry.table.clone().unwrap_or_default();
    let Decider { by, why } = decider;
    store.note_decision(&DecisionEntry { arrival, table, decision, by, at: clock::now(), why })?;
    Ok(())
}

/// Discards the file of an entry: it is known from now on, and never loaded as it is.
///
/// # Errors
///
/// The database does not answer.
pub fn discard(
    store: &mut dyn Ledger,
    entry: &FileEntry,
    settlement: &Settlement,
    decider: Decider,
) -> Result<(), EngineError> {
    let message = decider.why.clone().or_else(|| entry.message.clone());
    note_settlement(store, entry, settlement, decider)?;
    let now = clock::now();
    let discarded =
        FileEntry { outcome: Outcome::Discarded, began: now, ended: now, message, ..entry.clone() };
    store.note_file(&discarded, &[])?;
    Ok(())
}
