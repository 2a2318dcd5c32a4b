//! Files loaded into PostgreSQL: table changes, rows by binary COPY, rejects and the ledger's entry in one
//! transaction.

use std::ops::Range;

use hypodoke_core::cast::{Cell, Rows};
use hypodoke_core::names::Lineage;

use super::connection::PostgresStore;
use super::copy::CopyForm;
use super::{connect, tables};
use crate::error::StoreError;
use crate::load::{LoadTarget, RowsOfFile, TargetTable};
use crate::merge::{Counts, Merge};
use crate::plan::{LoadPlan, TablePlan};
use crate::sql::moment_text;

impl LoadTarget for PostgresStore {
    type Form = CopyForm;

    fn before_load(&mut self, _: &LoadPlan) -> Result<(), StoreError> {
        self.settle_bulk()
    }

    fn is_known(&self, plan: &LoadPlan) -> bool {
        self.has_claimed(plan)
    }

    fn lock_file(&mut self, plan: &LoadPlan) -> Result<(), StoreError> {
        self.lock_one_file(plan)
    }

    fn lock_order(&mut self, table: &str) -> Result<(), StoreError> {
        self.lock_table_order(table)
    }

    fn target_table(
        &mut self,
        table: &TablePlan,
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
    ) -> Result<u64, StoreError> {
        self.copy_rows(at, target, rows, range)
    }

    fn send_checked(
        &mut self,
        at: usize,
        target: &mut TargetTable<CopyForm>,
        rows: RowsOfFile<'_>,
        range: Range<usize>,
    ) -> Result<u64, StoreError> {
        self.copy_rows(at, target, rows, range)
    }

    fn end_sending(&mut self) -> Result<Option<(usize, u64)>, StoreError> {
        self.close_copy()
    }

    fn give_up_sending(&mut self) {
        // A COPY that is dropped unfinished is refused by the server, as it should be.
        self.copying = None;
    }

    fn refused_statement(&self, _: &str, _: bool) -> Option<String> {
        None
    }

    fn run_statements(&mut self, statements: &str) -> Result<(), String> {
        let done = self.runtime.block_on(self.client.batch_execute(statements));
        done.map_err(|error| connect::words(&error))
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

    fn keep_changes(&mut self, _: &LoadPlan) -> Result<(), StoreError> {
        Ok(())
    }

    fn undo_changes(&mut self, _: &LoadPlan) {
        // They were undone with the rest of the transaction.
    }
}

/// JSON may spell a NUL, which the server keeps in no text.
pub fn refuse_unstorable(rows: &mut Rows) {
    if memchr::memmem::find(&rows.records.bytes, b"\\u0000").is_none() {
        return;
    }
    let holds = |cell: &Cell| match cell {
        Cell::Text { start, len } => {
            let bytes = rows.bytes(*start, *len);
            matches!(bytes.first(), Some(b'{' | b'[' | b'"'))
                && memchr::memmem::find(bytes, b"\\u0000").is_some()
        }
        _ => false,
    };
    let bad: Vec<usize> = (0..rows.len()).filter(|index| rows.row(*index).iter().any(holds)).collect();
    for index in bad.into_iter().rev() {
        let reject =
            rows.refuse(index, None, "JSON that spells a NUL, which the server cannot keep".to_owned());
        rows.rejects.push(reject);
        rows.kept.remove(index);
    }
}
