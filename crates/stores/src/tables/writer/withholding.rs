//! Keys of rejected rows withheld from what vanishes with a full delivery.

use hypodoke_core::cast::Rows;
use hypodoke_core::names::Lineage;

use super::FileWriter;
use super::rejected_keys::{RejectedKeys, key_columns, keys_of, stage_of_rejects};
use crate::error::StoreError;
use crate::load_plan::Vanished;
use crate::sql::quote;
use crate::tables::load_target::LoadTarget;
use crate::tables::rebuild::{StagedRows, TableRows};

/// How many bytes of keys are held before they are staged.
const STAGED_AT: usize = 4 << 20;

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
