//! Rows of files taken out of their tables again.

use hypodoke_stores::{FileEntry, FileSummary, LoadPlan, Store, TablePlan};

use crate::clock;
use crate::error::{AgainProblem, EngineError};
use crate::job::Feed;
use crate::plan::TargetState;

/// Whether the rows of a file can be found in its feed's table.
///
/// # Errors
///
/// The table's rows do not lead back to files, or the database does not answer.
pub fn check_retractable(store: &mut dyn Store, feed: &Feed, entry: &FileEntry) -> Result<(), EngineError> {
    let target = TargetState::of(store, feed)?;
    if !target.main.lineage(false).is_kept() && target.parts.is_empty() {
        let (path, table) = (entry.arrival.path.clone(), feed.table.clone());
        return Err(AgainProblem::NoLineage { path, table }.into());
    }
    Ok(())
}

/// Takes the rows of one file out, in one transaction with its new entry; gives how many. `batch` is
/// the batch that does it, `why` a reason for the ledger.
///
/// # Errors
///
/// Another process works on the file, or the database does not answer.
pub fn retract(
    store: &mut dyn Store,
    feed: &Feed,
    entry: &FileEntry,
    batch: i64,
    why: Option<String>,
) -> Result<u64, EngineError> {
    let target = TargetState::of(store, feed)?;
    let is_virtual = store.table(&feed.table)?.is_none();
    let table = TablePlan {
        table: feed.table.clone(),
        path: String::new(),
        layout: target.main.layout().cloned().unwrap_or_default(),
        changes: Vec::new(),
        drift: Vec::new(),
        lineage: target.main.lineage(false),
        keeps_layout: false,
        is_virtual,
        mode: feed.mode,
        key: Vec::new(),
        of_file: Vec::new(),
    };
    let plan = LoadPlan {
        batch,
        arrival: entry.arrival.clone(),
        feed: entry.feed.clone(),
        tables: vec![table],
        replaces: Some(entry.file),
        kind: entry.kind.clone().unwrap_or_default(),
        began: clock::now(),
        first_of_delivery: false,
        sql_before: Vec::new(),
        sql_after: Vec::new(),
        careful: false,
        shape: entry.shape.clone(),
        resubmits: None,
        retracts: true,
    };
    let in_use = || EngineError::from(AgainProblem::InUse { path: entry.arrival.path.clone() });
    let loader = store.begin_load(&plan)?.ok_or_else(in_use)?;
    let summary = FileSummary {
        hash: entry.hash.clone().unwrap_or_default(),
        message: Some(why.unwrap_or_else(|| "its rows were taken out".to_owned())),
        ended: clock::now(),
        ..FileSummary::default()
    };
    Ok(loader.finish(&summary)?.counts.deleted)
}
