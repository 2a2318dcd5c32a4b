//! Staged rows brought into their table by key.

use hypodoke_core::names::{FILE_COLUMN, Lineage};

use super::FileWriter;
use super::rejected_keys::stage_of_rejects;
use crate::error::StoreError;
use crate::load_plan::Counts;
use crate::load_plan::TablePlan;
use crate::tables::load_target::LoadTarget;
use crate::tables::merge::{Merge, MergeColumns, stage_of};

impl<T: LoadTarget> FileWriter<'_, T> {
    /// Brings staged rows into their table.
    pub(super) fn merge(&mut self) -> Result<Counts, StoreError> {
        let mut all = Counts { deleted: self.deleted, ..Counts::default() };
        for (at, table) in self.plan.tables.iter().enumerate() {
            let Some(target) = &self.targets[at] else { continue };
            if !target.staged {
                if table.lineage != Lineage::Children {
                    let (sent, missing) = (target.sent, target.missing);
                    let by_trigger = self.left_out(table, sent, missing)?;
                    all.inserted += sent - by_trigger;
                    all.left_out += by_trigger;
                    all.by_trigger += by_trigger;
                }
                continue;
            }
            let mut counts = self.merge_table(at, table)?;
            counts.vanished = self.let_vanish(at, table)?;
            all.vanished += counts.vanished;
            all.inserted += counts.inserted;
            all.updated += counts.updated;
            all.unchanged += counts.unchanged;
            all.left_out += counts.left_out;
        }
        self.drop_stages()?;
        Ok(all)
    }

    /// Lets keys vanish that a full delivery does not hold.
    fn let_vanish(&mut self, at: usize, table: &TablePlan) -> Result<u64, StoreError> {
        let merge = self.merge_of(at, table);
        if self.rejected_keys.get(at).is_some_and(|rejected| rejected.is_unreadable) {
            return Ok(0);
        }
        let in_rejects = self.stage_rejected_keys(at)?;
        let Some(sql) = merge.vanish(&self.moment(), in_rejects.as_deref()) else { return Ok(0) };
        if let Some(stage) = in_rejects {
            self.store.index_stage(&stage, merge.key())?;
        }
        self.store.index_stage(merge.stage(), merge.key())?;
        let vanished = self.store.statement(&sql)?;
        self.too_many |= self.plan.rules.is_too_many(vanished, self.there_before);
        self.there += self.there_before;
        Ok(vanished)
    }

    fn merge_of(&self, at: usize, table: &TablePlan) -> Merge {
        let columns: Vec<String> = table.layout.columns.iter().map(|column| column.name.clone()).collect();
        let (name, stage) = (self.store.table_sql(&table.table), stage_of(at));
        let TablePlan { lineage, key, of_file, .. } = table;
        let columns = MergeColumns { columns: &columns, lineage: lineage.columns(), key, of_file };
        let merge = Merge::new(self.store.dialect(), name, &stage, columns);
        merge.of_full_delivery(self.plan.rules.vanished)
    }

    /// From when on the rows of the file hold, as a literal.
    fn moment(&self) -> String {
        self.store.moment_literal(self.placed.order.effective.unwrap_or(self.plan.began))
    }

    pub(super) fn drop_stages(&mut self) -> Result<(), StoreError> {
        let staged = self.targets.iter().enumerate();
        let staged = staged.filter(|(_, target)| target.as_ref().is_some_and(|target| target.staged));
        let mut all: Vec<String> = staged.map(|(at, _)| stage_of(at)).collect();
        let rejected = self.rejected_keys.iter_mut().enumerate();
        all.extend(rejected.filter(|(_, keys)| keys.is_staged).map(|(at, _)| stage_of_rejects(at)));
        self.rejected_keys.iter_mut().for_each(|keys| keys.is_staged = false);
        let dialect = self.store.dialect();
        all.iter().try_for_each(|stage| self.store.statement(&dialect.drop_stage(stage)).map(drop))
    }

    /// How many of the rows that the server did not put in are not in the table: a trigger may have
    /// put them into one that belongs to it.
    fn left_out(&mut self, table: &TablePlan, sent: u64, missing: u64) -> Result<u64, StoreError> {
        if missing == 0 || !table.lineage.is_kept() || self.plan.resubmits.is_some() {
            return Ok(missing);
        }
        let name = self.store.table_sql(&table.table);
        let there =
            self.count(&format!("SELECT count(*) FROM {name} WHERE {FILE_COLUMN} = {}", self.file))?;
        Ok(sent.saturating_sub(there))
    }

    fn count(&mut self, sql: &str) -> Result<u64, StoreError> {
        let counted = self.store.moment_entries(sql)?.first().map_or(Ok(0), |row| row.count(0));
        counted.map_err(|misread| StoreError::Damaged { shown: self.store.shown(), what: misread.0 })
    }

    fn merge_table(&mut self, at: usize, table: &TablePlan) -> Result<Counts, StoreError> {
        let mut merge = self.merge_of(at, table);
        if !table.keeps_layout {
            let columns: Vec<String> =
                table.layout.columns.iter().map(|column| column.name.clone()).collect();
            let loosely = self.store.compared_loosely(&table.table, &columns)?;
            let loose = columns.iter().zip(&loosely).filter(|(_, loosely)| loosely.is_some());
            merge = merge.comparing_bytes(loose.map(|(name, _)| name.as_str()));
        }
        self.there_before = match merge.count_there() {
            Some(sql) => self.count(&sql)?,
            None => 0,
        };
        let moment = self.moment();
        let Some(target) = &self.targets[at] else { return Ok(Counts::default()) };
        self.store.merge_table(&merge, table, target, &moment)
    }
}
