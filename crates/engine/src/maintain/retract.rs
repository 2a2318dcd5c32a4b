//! Rows of files taken out of their tables again.

use hypodoke_core::layout::Layout;
use hypodoke_stores::{
    FileEntry, FileOrder, FileSummary, Finished, LoadPlan, LoadRules, Mode, Restore, TablePlan, TableRules,
    Tables, Vanished,
};

use crate::clock;
use crate::error::{AgainProblem, EngineError};
use crate::job::Feed;
use crate::plan::{TableState, TargetState, table_plans};

/// Whether the rows of a file can be found in its feed's table.
///
/// # Errors
///
/// The table's rows do not lead back to files, or the database does not answer.
pub fn check_retractable(store: &mut dyn Tables, feed: &Feed, entry: &FileEntry) -> Result<(), EngineError> {
    let target = TargetState::of(store, feed)?;
    let by_key = rules_of(feed, entry).mode != Mode::Append && entry.rows_kept;
    if !target.main.lineage(false).is_kept() && target.parts.is_empty() && !by_key {
        let (path, table) = (entry.arrival.path.clone(), feed.table.clone());
        return Err(AgainProblem::NoLineage { path, table }.into());
    }
    Ok(())
}

/// How the tables of a file follow from their files: as it was when it was loaded, else as its feed says.
pub fn rules_of(feed: &Feed, entry: &FileEntry) -> LoadRules {
    entry.rules.clone().unwrap_or_else(|| LoadRules { mode: feed.mode, ..LoadRules::default() })
}

/// Takes the rows of one file out, in one transaction with its new entry; gives what became of its
/// tables. `batch` is the batch that does it, `why` a reason for the ledger.
///
/// # Errors
///
/// Another process works on the file, what its tables would be without it is not known any more, or the
/// database does not answer.
pub fn retract(
    store: &mut dyn Tables,
    feed: &Feed,
    entry: &FileEntry,
    batch: i64,
    why: Option<String>,
) -> Result<Finished, EngineError> {
    let target = TargetState::of(store, feed)?;
    let rules = rules_of(feed, entry);
    let tables = if rules.tables.is_empty() {
        vec![whole_table(store, feed, &target)?]
    } else {
        planned_tables(store, feed, &target, &rules)?
    };
    let plan = LoadPlan {
        batch,
        known_until: None,
        arrival: entry.arrival.clone(),
        feed: entry.feed.clone(),
        tables,
        replaces: Some(entry.file),
        kind: entry.kind.clone().unwrap_or_default(),
        began: clock::now(),
        order: FileOrder::default(),
        rules,
        sql_before: Vec::new(),
        sql_after: Vec::new(),
        careful: false,
        shape: entry.shape.clone(),
        resubmits: None,
        keeps_for: None,
        restore: Restore::Nothing,
        retracts: true,
    };
    let in_use = || EngineError::from(AgainProblem::InUse { path: entry.arrival.path.clone() });
    let loader = store.begin(&plan)?.ok_or_else(in_use)?;
    let summary = FileSummary {
        hash: entry.hash.clone().unwrap_or_default(),
        message: Some(why.unwrap_or_else(|| "its rows were taken out".to_owned())),
        ended: clock::now(),
        ..FileSummary::default()
    };
    Ok(loader.commit(&summary)?)
}

/// The main table of a file that was loaded before it was recorded how its tables follow from it.
fn whole_table(store: &mut dyn Tables, feed: &Feed, target: &TargetState) -> Result<TablePlan, EngineError> {
    let rules = TableRules { table: feed.table.clone(), mode: feed.mode, ..TableRules::default() };
    let mut plan = table_plan(&rules, &target.main, false);
    plan.is_virtual = store.table(&feed.table)?.is_none();
    Ok(plan)
}

/// The tables that the file filled, as they are now, and behind them those that others of its feed have
/// filled.
pub fn planned_tables(
    store: &mut dyn Tables,
    feed: &Feed,
    target: &TargetState,
    rules: &LoadRules,
) -> Result<Vec<TablePlan>, EngineError> {
    let marks = rules.vanished == Vanished::Mark;
    let mut tables = Vec::new();
    for table in &rules.tables {
        let state = TableState::of(store, &table.table)?;
        tables.push(table_plan(table, &state, marks));
    }
    let feed = Feed { mode: rules.mode, vanished: rules.vanished, ..feed.clone() };
    for more in table_plans(&feed, target, &[]) {
        if !tables.iter().any(|table| table.table == more.table) {
            tables.push(more);
        }
    }
    Ok(tables)
}

fn table_plan(rules: &TableRules, state: &TableState, marks_gone: bool) -> TablePlan {
    let TableRules { table, path, mode, key, of_file, is_virtual } = rules.clone();
    let (layout, keeps_layout) = match state {
        TableState::Managed { layout, .. } => (layout.clone(), true),
        // Of what somebody else made, what files filled is known by their rows.
        _ => (Layout::default(), false),
    };
    TablePlan {
        table,
        path,
        layout,
        based_on: None,
        changes: Vec::new(),
        drift: Vec::new(),
        lineage: state.lineage(false),
        keeps_layout,
        is_virtual,
        mode,
        key,
        of_file,
        marks_gone: marks_gone && mode == Mode::Upsert,
    }
}
