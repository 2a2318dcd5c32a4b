//! Keys of rejected rows withheld from what vanishes with a full delivery.

use hypodoke_core::cast::Rows;
use hypodoke_core::names::Lineage;

use super::FileWriter;
use super::rejected_keys::{RejectedKeys, columns_at, keys_of, stage_of_rejects};
use crate::error::StoreError;
use crate::sql::quote;
use crate::tables::load_target::LoadTarget;
use crate::tables::rebuild::{StagedRows, TableRows};

/// How many bytes of keys are held before they are staged.
const STAGED_AT: usize = 4 << 20;

impl<T: LoadTarget> FileWriter<'_, T> {
    /// Keeps the keys of rejected rows, where keys vanish that the file does not hold. Those that the database
    /// refused begin at `refused` among the rejects.
    pub(super) fn keep_rejected_keys(
        &mut self,
        table: usize,
        rows: &Rows,
        refused: usize,
    ) -> Result<(), StoreError> {
        let Some(plan) = self.plan.tables.get(table) else { return Ok(()) };
        let places = self.plan.vanishing_key(plan);
        // The keys of rows that are resubmitted are known from their file's own load.
        if places.is_empty() || self.plan.resubmits.is_some() {
            return Ok(());
        }
        let keys = keys_of(rows, &places, refused);
        if keys.is_empty() {
            return Ok(());
        }
        if let Some(packer) = &mut self.packer {
            packer.add_rejected_keys(table, &columns_at(plan, &places), &keys)?;
        }
        // A table that is rebuilt finds them in the archive.
        if !self.is_direct() {
            return Ok(());
        }
        self.rejected_keys.resize_with(self.plan.tables.len(), RejectedKeys::default);
        let Some(rejected) = self.rejected_keys.get_mut(table) else { return Ok(()) };
        rejected.add(&keys, self.file);
        if rejected.keys.held() > STAGED_AT {
            self.end_sending()?;
            self.stage_rejected_keys(table)?;
        }
        Ok(())
    }

    /// Puts the keys of rejected rows into their temporary table; gives its name where there are any.
    pub(super) fn stage_rejected_keys(&mut self, table: usize) -> Result<Option<String>, StoreError> {
        let (Some(plan), Some(rejected)) = (self.plan.tables.get(table), self.rejected_keys.get_mut(table))
        else {
            return Ok(None);
        };
        let stage = stage_of_rejects(table);
        let keys = std::mem::take(&mut rejected.keys);
        if keys.len() == 0 {
            return Ok(rejected.is_staged.then_some(stage));
        }
        let columns = columns_at(plan, &self.plan.vanishing_key(plan));
        let names: Vec<String> = columns.iter().map(|(name, _)| quote(name)).collect();
        if !std::mem::replace(&mut rejected.is_staged, true) {
            self.store.make_stage(&stage, &plan.table, &names, &names)?;
        }
        let staged = StagedRows {
            stage: &stage,
            columns: &names,
            lineage: Lineage::None,
            rows: &keys.rows,
            files: &keys.files,
            table: &TableRows::of(plan, columns),
        };
        self.store.fill_stage(&staged)?;
        Ok(Some(stage))
    }
}
