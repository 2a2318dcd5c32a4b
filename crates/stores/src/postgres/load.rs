//! Files loaded into PostgreSQL: table changes, rows by binary COPY, rejects and the ledger's entry in one
//! transaction.

use std::ops::Range;

use hypodoke_core::cast::Rows;
use hypodoke_core::names::Lineage;

use super::bulk::BulkWriter;
use super::bulk_loads::BulkLoads;
use super::connection::PostgresStore;
use super::copy::CopyForm;
use super::tables;
use super::unstorable::refuse_unstorable;
use crate::error::StoreError;
use crate::load_plan::Counts;
use crate::load_plan::{LoadPlan, Mode, TablePlan};
use crate::sql::moment_text;
use crate::tables::link::LedgerLink;
use crate::tables::load_target::{LoadTarget, RowsOfFile, Sent};
use crate::tables::merge::Merge;
use crate::tables::target_table::TargetTable;
use crate::tables::{Capabilities, Writer};

impl LoadTarget for PostgresStore {
    type Form = CopyForm;

    fn link(&self) -> &LedgerLink {
        &self.link
    }

    fn link_mut(&mut self) -> &mut LedgerLink {
        &mut self.link
    }

    fn promises(&self) -> Capabilities {
        Capabilities {
            ledger_with_rows: true,
            table_changes_with_rows: true,
            groups: true,
            many_writers: true,
            modes: Mode::ALL,
            takes_nul: false,
            most_columns: 1600,
        }
    }

    fn is_shortened(&self, plan: &LoadPlan) -> bool {
        self.goes_short(plan)
    }

    fn begin_shortened<'a>(
        &'a mut self,
        plan: &'a LoadPlan,
    ) -> Result<Option<Box<dyn Writer + 'a>>, StoreError> {
        Ok(Some(Box::new(BulkWriter::begin(self, plan)?)))
    }

    fn before_load(&mut self, _: &LoadPlan) -> Result<(), StoreError> {
        self.settle_bulk()
    }

    fn group_began(&mut self) {
        self.bulk = Some(BulkLoads::default());
    }

    fn finish_group(&mut self) -> Result<(), StoreError> {
        self.finish_bulk()
    }

    fn after_group(&mut self, _: bool) -> Result<(), StoreError> {
        self.bulk = None;
        self.check_usable()
    }

    fn try_lock_files(&mut self, keys: &[String]) -> Result<Vec<bool>, StoreError> {
        self.try_locks(keys)
    }

    fn lock_file(&mut self, key: &str, waits: bool) -> Result<bool, StoreError> {
        self.lock_one_file(key, waits)
    }

    fn lock_order(&mut self, table: &str) -> Result<(), StoreError> {
        self.lock_table_order(table)
    }

    fn claimed(&mut self, files: usize) -> Result<(), StoreError> {
        if !self.link.is_elsewhere() {
            self.may_draw()?;
        }
        if let Some(bulk) = &mut self.bulk {
            bulk.wants_numbers(files);
        }
        Ok(())
    }

    fn target_table(
        &mut self,
        table: &TablePlan,
        _: i64,
        stage: Option<String>,
    ) -> Result<TargetTable<CopyForm>, StoreError> {
        self.ready_table(table, stage)
    }

    fn lineage_of(&mut self, table: &str) -> Result<Option<Lineage>, StoreError> {
        let found = self.run(tables::read(&self.client, &self.schema, table))?;
        Ok(found.map(|found| found.lineage))
    }

    fn send(
        &mut self,
        at: usize,
        target: &mut TargetTable<CopyForm>,
        rows: RowsOfFile<'_>,
        range: Range<usize>,
    ) -> Result<Sent, StoreError> {
        self.copy_rows(at, target, rows, range)
    }

    fn end_sending(&mut self) -> Result<Option<(usize, u64)>, StoreError> {
        self.close_copy()
    }

    fn give_up_sending(&mut self) {
        // A COPY that is dropped unfinished is refused by the server, as it should be.
        self.copying = None;
    }

    fn run_statements(&mut self, statements: &str) -> Result<(), StoreError> {
        let done = self.runtime.block_on(self.client.batch_execute(statements));
        done.map_err(|error| self.fail(&error))
    }

    fn restore_session(&mut self) -> Result<(), StoreError> {
        self.reset_session()
    }

    fn give_up_connection(&mut self) {
        self.is_unusable = true;
    }

    fn merge_table(
        &mut self,
        merge: &Merge,
        table: &TablePlan,
        staged: &TargetTable<CopyForm>,
        moment: &str,
    ) -> Result<Counts, StoreError> {
        self.merge_staged(merge, table, staged.sent, moment)
    }

    fn moment_literal(&self, micros: i64) -> String {
        format!("timestamptz '{}'", moment_text(micros))
    }

    fn refuse_unstorable(&self, rows: &mut Rows) {
        refuse_unstorable(rows);
    }
}
