//! Rows of files that do not count any more: those that were replaced or retracted. A table holds none of them, unless
//! somebody has restored an older copy of it.

use std::collections::HashSet;

use hypodoke_core::outcome::Outcome;
use hypodoke_stores::{FileEntry, FileQuery, Mode, Tables};
use serde::Serialize;

use crate::error::EngineError;
use crate::job::Feed;

/// Rows of files that were replaced or retracted, deleted from a table.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize)]
pub struct StaleRows {
    /// The table.
    pub table: String,
    /// How many rows they were.
    pub rows: u64,
}

/// Whether a table holds no rows of a file, by its entry: it was replaced or retracted, or a newer delivery has taken its
/// place.
pub fn is_stale(entry: &FileEntry, mode: Mode) -> bool {
    let is_superseded = mode == Mode::Replace && entry.outcome == Outcome::Superseded;
    !entry.outcome.counts() || entry.replaced_by.is_some() || is_superseded
}

/// Deletes the rows of such files from the tables of a feed; if `wholly` names a batch, only where it has loaded all files
/// whose rows count.
///
/// # Errors
///
/// The database does not answer, or refuses.
pub fn delete_stale_rows(
    store: &mut dyn Tables,
    feed: &Feed,
    wholly: Option<i64>,
) -> Result<Vec<StaleRows>, EngineError> {
    let query = FileQuery { table: Some(feed.table.clone()), ..FileQuery::default() };
    let mut entries = store.ledger().files(&query)?;
    let is_old = |entry: &FileEntry| !is_stale(entry, feed.mode) && Some(entry.batch) != wholly;
    if wholly.is_some() && entries.iter().any(is_old) {
        return Ok(Vec::new());
    }
    entries.retain(|entry| is_stale(entry, feed.mode));
    let stale: HashSet<i64> = entries.iter().map(|entry| entry.file).collect();
    let mut deleted = Vec::new();
    if stale.is_empty() {
        return Ok(deleted);
    }
    let layout = store.ledger().layout(&feed.table)?;
    let parts = layout.into_iter().flat_map(|entry| entry.layout.parts).map(|part| part.table);
    for table in std::iter::once(feed.table.clone()).chain(parts) {
        if !store.table(&table)?.is_some_and(|shape| shape.lineage.is_kept()) {
            continue;
        }
        let there = store.file_figures(&table, &[])?;
        let files: Vec<i64> = there.iter().map(|one| one.file).filter(|file| stale.contains(file)).collect();
        if !files.is_empty() {
            let rows = store.delete_rows_of(&table, &files)?;
            deleted.push(StaleRows { table, rows });
        }
    }
    Ok(deleted)
}
