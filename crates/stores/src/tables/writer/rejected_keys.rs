//! The keys of a file's rejected rows: with a full delivery they have not vanished.

use hypodoke_core::cast::packed::PackedColumns;
use hypodoke_core::cast::{Cell, Rows};
use hypodoke_core::names::Lineage;
use hypodoke_core::record::Link;

use super::FileWriter;
use crate::error::StoreError;
use crate::load_plan::{TablePlan, Vanished};
use crate::sql::quote;
use crate::tables::load_target::LoadTarget;
use crate::tables::rebuild::{StagedRows, TableRows, copy_cell};

/// How many bytes of keys are held before they are staged.
const STAGED_AT: usize = 4 << 20;

/// The temporary table for the keys of rejected rows of a plan's table, by its place there.
pub fn stage_of_rejects(table: usize) -> String {
    format!("hd_stage_rejects_{table}")
}

/// The keys of a table's rejected rows.
#[derive(Default)]
pub struct RejectedKeys {
    /// Those that are not staged yet; their columns are those of the key.
    rows: Rows,
    /// Some are staged.
    pub is_staged: bool,
    /// How many rejected rows have a key that cannot be read.
    pub unreadable: u64,
}

impl RejectedKeys {
    /// Adds the keys of rejected rows; null stands for one that cannot be read.
    fn add(&mut self, keys: &Rows) {
        for index in 0..keys.len() {
            let cells = keys.row(index);
            match cells.contains(&Cell::Null) {
                true => self.unreadable += 1,
                false => push(&mut self.rows, cells, keys, keys.line(index)),
            }
        }
    }

    fn held(&self) -> usize {
        self.rows.cells.len() * size_of::<Cell>() + self.rows.records.bytes.len()
    }
}

impl<T: LoadTarget> FileWriter<'_, T> {
    /// Keeps the keys of rejected rows, where keys vanish that the file does not hold.
    pub(super) fn keep_rejected_keys(&mut self, table: usize, rows: &Rows) -> Result<(), StoreError> {
        let Some(plan) = self.plan.tables.get(table).filter(|plan| plan.mode.has_key() && !plan.is_part())
        else {
            return Ok(());
        };
        // What is still rejected of a row that was corrected is known from its file's own load.
        if self.plan.rules.vanished == Vanished::Keep || self.plan.resubmits.is_some() {
            return Ok(());
        }
        let columns = key_columns(plan);
        let keys = keys_of(plan, rows);
        if let Some(packer) = &mut self.packer {
            packer.add_rejected_keys(table, &columns, &keys)?;
        }
        let is_direct = self.is_direct();
        self.rejected_keys.resize_with(self.plan.tables.len(), RejectedKeys::default);
        if let Some(rejected) = self.rejected_keys.get_mut(table) {
            rejected.add(&keys);
            if !is_direct {
                rejected.rows = Rows::default();
            } else if rejected.held() > STAGED_AT {
                self.stage_rejected_keys(table)?;
            }
        }
        Ok(())
    }

    /// Puts the keys of rejected rows into their temporary table; gives its name where there are any.
    pub(super) fn stage_rejected_keys(&mut self, table: usize) -> Result<Option<String>, StoreError> {
        let (Some(plan), Some(rejected)) = (self.plan.tables.get(table), self.rejected_keys.get_mut(table))
        else {
            return Ok(None);
        };
        let (stage, columns) = (stage_of_rejects(table), key_columns(plan));
        let names: Vec<String> = columns.iter().map(|(name, _)| quote(name)).collect();
        if rejected.rows.is_empty() {
            return Ok(rejected.is_staged.then_some(stage));
        }
        if !std::mem::replace(&mut rejected.is_staged, true) {
            self.store.make_stage(&stage, &plan.table, &names, &names)?;
        }
        let rows = std::mem::take(&mut rejected.rows);
        let files = vec![self.file; rows.len()];
        let table = TableRows::of(plan, columns);
        let (lineage, columns) = (Lineage::None, names.as_slice());
        let staged =
            StagedRows { stage: &stage, columns, lineage, rows: &rows, files: &files, table: &table };
        self.store.fill_stage(&staged)?;
        Ok(Some(stage))
    }

    /// How many rejected rows have a key that cannot be read, in all tables.
    pub(super) fn unreadable_keys(&self) -> u64 {
        self.rejected_keys.iter().map(|rejected| rejected.unreadable).sum()
    }
}

/// The columns of a table's key, as far as its layout has them.
fn key_columns(plan: &TablePlan) -> PackedColumns {
    let column = |name: &String| plan.layout.columns.iter().find(|column| column.name == *name);
    plan.key.iter().filter_map(column).map(|column| (column.name.clone(), column.ty())).collect()
}

/// The keys of the rejected rows of a batch, each with its line.
fn keys_of(plan: &TablePlan, rows: &Rows) -> Rows {
    let place = |name: &String| plan.layout.columns.iter().position(|column| column.name == *name);
    let places: Vec<usize> = plan.key.iter().filter_map(place).collect();
    let mut keys = Rows::default();
    for reject in &rows.rejects {
        let begin = reject.record as usize * rows.width;
        let cell = |at: &usize| rows.cells.get(begin + at).copied().unwrap_or(Cell::Null);
        let cells: Vec<Cell> = places.iter().map(cell).collect();
        push(&mut keys, &cells, rows, reject.line);
    }
    keys
}

/// Adds a row with the cells of another.
fn push(to: &mut Rows, cells: &[Cell], from: &Rows, line: u64) {
    for cell in cells {
        let copied = copy_cell(*cell, from, to);
        to.cells.push(copied);
    }
    to.width = cells.len();
    to.kept.push(to.kept.len() as u32);
    to.records.end_child(0..0, line, Link::default());
}
