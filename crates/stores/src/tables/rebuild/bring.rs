//! Kept rows brought into tables as they are.

use hypodoke_core::names::Lineage;

use super::arena::{Arena, Wanted, columns_of};
use super::stages;
use super::table::TableRows;
use super::target::{RebuildTarget, StagedRows};
use crate::error::StoreError;
use crate::load_plan::TablePlan;
use crate::tables::row_archive::ALL_BLOCKS;

/// Brings the rows of files into tables that hold one delivery at a time, from what is kept of them;
/// gives how many went to others than those of nested lists.
pub fn bring_in(
    target: &mut dyn RebuildTarget,
    tables: &[TablePlan],
    files: &[i64],
) -> Result<u64, StoreError> {
    let mut all = 0;
    for plan in tables.iter().filter(|plan| !plan.is_virtual && !files.is_empty()) {
        let table = TableRows::of(plan, columns_of(target.archive(), plan, files)?);
        let columns = stages::columns(&table, &[]);
        let stage = target.table_sql(&plan.table);
        for file in files {
            let mut arena = Arena::default();
            arena.take(
                target.archive(),
                &table,
                Wanted { file: *file, blocks: ALL_BLOCKS, takes: &mut |_, _| true, most: usize::MAX },
            )?;
            if arena.len() > 0 {
                let (rows, files, lineage) = (&arena.rows, arena.files.as_slice(), plan.lineage);
                let rows =
                    StagedRows { stage: &stage, columns: &columns, lineage, rows, files, table: &table };
                target.fill_stage(&rows)?;
            }
            if plan.lineage != Lineage::Children {
                all += arena.len() as u64;
            }
        }
    }
    Ok(all)
}
