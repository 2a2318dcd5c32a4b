//! Tables that somebody has dropped or emptied since files were loaded into them.

use hypodoke_core::outcome::Outcome;
use hypodoke_stores::{FileQuery, Mode, RowsLoaded, StoreError, Tables, Vanished, newest_delivery};
use serde::Serialize;

use crate::job::{Feed, MissingTable};

/// A table that is not what the ledger says.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct TableLoss {
    /// The table.
    pub table: String,
    /// The feed whose files it holds.
    pub feed: Option<String>,
    /// How many files are loaded into it, by the ledger.
    pub files: u64,
    /// How many rows they gave it.
    pub rows: u64,
    /// How many rows it has; `None` where it is gone.
    pub rows_now: Option<u64>,
}

/// Whether the table of a feed is gone or empty and should not be.
///
/// # Errors
///
/// The database does not answer.
pub fn table_loss(store: &mut dyn Tables, feed: &Feed) -> Result<Option<TableLoss>, StoreError> {
    if feed.missing_table == MissingTable::Ignore {
        return Ok(None);
    }
    let Some(layout) = store.ledger().layout(&feed.table)? else { return Ok(None) };
    // A main table that only names its parts is not there.
    let table = match layout.layout.columns.is_empty() {
        true => layout.layout.parts.first().map(|part| part.table.clone()),
        false => Some(feed.table.clone()),
    };
    let Some(table) = table else { return Ok(None) };
    let rows_now = match store.table(&table)? {
        None => None,
        Some(_) if is_emptied_by_files(store, feed)? => return Ok(None),
        Some(_) if !store.first_rows(&table, 1)?.rows.is_empty() => return Ok(None),
        Some(_) => Some(0),
    };
    let RowsLoaded { files, rows, .. } = store.ledger().rows_loaded(&feed.table)?;
    let (table, feed) = (table, feed.name.clone());
    Ok((rows > 0).then_some(TableLoss { table, feed, files, rows, rows_now }))
}

/// Whether a table has fewer rows than the ledger says; they are counted if these are no more than `most`. In a mode with
/// a key, the ledger says how many keys came with the files that are loaded.
///
/// # Errors
///
/// The database does not answer.
pub fn fewer_rows(store: &mut dyn Tables, feed: &Feed, most: u64) -> Result<Option<TableLoss>, StoreError> {
    // Files may have taken keys out of a table that follows full deliveries.
    if feed.missing_table == MissingTable::Ignore || feed.vanished == Vanished::Delete {
        return Ok(None);
    }
    let Some(entry) = store.ledger().layout(&feed.table)? else { return Ok(None) };
    // The ledger counts the rows of lists with keys of their own, and the versions that one file has of a key, with the
    // keys of the table.
    let is_keyed_apart = !entry.layout.parts.is_empty() || feed.valid_from.is_some();
    if entry.layout.columns.is_empty() || feed.mode.has_key() && is_keyed_apart {
        return Ok(None);
    }
    let (files, rows) = rows_expected(store, feed)?;
    if rows > most || store.table(&feed.table)?.is_none() {
        return Ok(None);
    }
    // Where keys are only closed, every version stays.
    let now = match feed.mode == Mode::History && feed.vanished == Vanished::Keep {
        true => store.count_current_rows(&feed.table)?,
        false => store.count_rows(&feed.table)?,
    };
    let (table, feed) = (feed.table.clone(), feed.name.clone());
    Ok((now < rows).then_some(TableLoss { table, feed, files, rows, rows_now: Some(now) }))
}

/// How many rows a table has at least, by the files that are loaded into it, and how many files these are.
fn rows_expected(store: &mut dyn Tables, feed: &Feed) -> Result<(u64, u64), StoreError> {
    if feed.mode == Mode::Replace {
        let (table, outcome) = (Some(feed.table.clone()), Some(Outcome::Loaded));
        let mut entries = store.ledger().files(&FileQuery { table, outcome, ..FileQuery::default() })?;
        entries.retain(|entry| entry.replaced_by.is_none());
        let newest = newest_delivery(&entries);
        let rows =
            entries.iter().filter(|entry| newest.contains(&entry.file)).map(|entry| entry.loaded).sum();
        return Ok((newest.len() as u64, rows));
    }
    let RowsLoaded { files, rows, inserted } = store.ledger().rows_loaded(&feed.table)?;
    Ok((files, if feed.mode.has_key() { inserted } else { rows }))
}

/// Whether files of the feed may have left its table empty.
fn is_emptied_by_files(store: &mut dyn Tables, feed: &Feed) -> Result<bool, StoreError> {
    match feed.mode {
        Mode::Replace => {
            let (table, outcome) = (Some(feed.table.clone()), Some(Outcome::Loaded));
            let newest =
                store.ledger().files(&FileQuery { table, outcome, most: Some(1), ..FileQuery::default() })?;
            Ok(newest.first().is_none_or(|entry| entry.loaded == 0))
        }
        _ => Ok(feed.vanished == Vanished::Delete),
    }
}
