//! The tables of every SQL database: one writer, one kind of claim and one way to commit for all of them.

use hypodoke_core::names::{FILE_COLUMN, VALID_TO_COLUMN};

use super::catalog::Catalog;
use super::load_target::LoadTarget;
use super::rebuild::{self, Comparison};
use super::writer::FileWriter;
use super::{Capabilities, Claim, Claimed, Tables, Writer, claims, commit, pairing};
use crate::error::StoreError;
use crate::ledger::Ledger;
use crate::load_plan::{LoadPlan, LoadRules, TablePlan};
use crate::sql::{Scope, SqlConnection, SqlDatabase, in_transaction};

/// How many files are named in one statement.
const AT_ONCE: usize = 500;

impl<T: LoadTarget + Catalog> Tables for T {
    fn ledger(&mut self) -> &mut dyn Ledger {
        self.records()
    }

    fn capabilities(&self) -> Capabilities {
        let own = self.promises();
        let Some(many_writers) = self.link().many_writers() else { return own };
        Capabilities { ledger_with_rows: false, many_writers: own.many_writers && many_writers, ..own }
    }

    fn prepare(&mut self) -> Result<(), StoreError> {
        pairing::make(self)
    }

    fn recover(&mut self) -> Result<(), StoreError> {
        commit::recover(self)
    }

    fn begin<'a>(&'a mut self, plan: &'a LoadPlan) -> Result<Option<Box<dyn Writer + 'a>>, StoreError> {
        if self.is_shortened(plan) {
            return self.begin_shortened(plan);
        }
        let writer = FileWriter::begin(self, plan)?;
        Ok(writer.map(|writer| Box::new(writer) as Box<dyn Writer + 'a>))
    }

    fn begin_group(&mut self) -> Result<(), StoreError> {
        commit::begin_group(self)
    }

    fn end_group(&mut self, keep: bool) -> Result<(), StoreError> {
        commit::end_group(self, keep)
    }

    fn claim(
        &mut self,
        table: &str,
        in_order: bool,
        files: &[Claim<'_>],
    ) -> Result<Vec<Claimed>, StoreError> {
        claims::claim(self, table, in_order, files)
    }

    fn compare(
        &mut self,
        tables: &[TablePlan],
        rules: &LoadRules,
        most: Option<u64>,
    ) -> Result<Option<Comparison>, StoreError> {
        self.begin_reading()?;
        let compared = rebuild::compare(self, tables, rules, most);
        // What was staged goes with it.
        self.rollback(Scope::Whole)?;
        compared
    }

    fn delete_rows_of(&mut self, table: &str, files: &[i64]) -> Result<u64, StoreError> {
        let table = self.table_sql(table);
        in_transaction(self, |store| {
            let mut deleted = 0;
            for files in files.chunks(AT_ONCE) {
                let files: Vec<String> = files.iter().map(i64::to_string).collect();
                let files = files.join(", ");
                deleted +=
                    store.execute(&format!("DELETE FROM {table} WHERE {FILE_COLUMN} IN ({files})"), &[])?;
            }
            Ok(deleted)
        })
    }

    fn count_current_rows(&mut self, table: &str) -> Result<u64, StoreError> {
        if self.has_column(table, VALID_TO_COLUMN)? != Some(true) {
            return self.count_rows(table);
        }
        let (table, shown) = (self.table_sql(table), SqlConnection::shown(self));
        let sql = format!("SELECT count(*) FROM {table} WHERE {VALID_TO_COLUMN} IS NULL");
        let counted = self.moment_entries(&sql)?.first().map_or(Ok(0), |row| row.count(0));
        counted.map_err(|misread| StoreError::Damaged { shown, what: misread.0 })
    }

    fn is_alive(&mut self) -> bool {
        SqlDatabase::is_alive(self) && self.link_mut().elsewhere().is_none_or(|ledger| ledger.is_alive())
    }

    fn reconnect(&mut self) -> Result<(), StoreError> {
        self.connect_anew()?;
        self.link_mut().group = None;
        self.share(false);
        if let Some(ledger) = self.link_mut().elsewhere() {
            ledger.reconnect_ledger()?;
            ledger.share(false);
        }
        self.recover()
    }
}
