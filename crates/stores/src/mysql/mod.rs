//! MySQL and MariaDB: a staging database on a server whose changes of tables are no part of a transaction.

mod address;
mod catalogue;
mod changes;
mod connect;
mod connection;
mod errors;
mod facts;
mod figures;
mod group;
mod lacks;
mod load;
mod locks;
mod native;
mod open_group;
mod option_file;
mod rebuild_target;
mod rights;
mod sending;
mod session;
mod stage;
mod statements;
mod stream;
mod tables;
mod types;
mod wire;

use hypodoke_core::types::Type;

pub use address::Address;
pub use connection::MysqlStore;

use crate::catalog::{About, Catalog, ColumnSample, FileFigures, MOST_SAMPLED, SampleRows, TableShape};
use crate::error::StoreError;
use crate::load::SqlWriter;
use crate::mode::Mode;
use crate::plan::{LoadPlan, LoadRules, TablePlan};
use crate::rebuild::{self, Comparison};
use crate::sink::{Capabilities, Claim, Claimed, Sink, Writer};
use crate::sql::{Scope, SqlConnection};

impl Sink for MysqlStore {
    fn capabilities(&self) -> Capabilities {
        Capabilities {
            ledger_with_rows: true,
            table_changes_with_rows: false,
            groups: true,
            many_writers: true,
            modes: Mode::ALL,
            takes_nul: true,
            // InnoDB keeps 1,017, those of ours among them.
            most_columns: 1010,
        }
    }

    fn begin_load<'a>(&'a mut self, plan: &'a LoadPlan) -> Result<Option<Box<dyn Writer + 'a>>, StoreError> {
        let writer = SqlWriter::begin(self, plan)?;
        Ok(writer.map(|writer| Box::new(writer) as Box<dyn Writer + 'a>))
    }

    fn begin_group(&mut self) -> Result<(), StoreError> {
        self.open_group()
    }

    fn end_group(&mut self, keep: bool) -> Result<(), StoreError> {
        self.close_group(keep)
    }

    fn claim(
        &mut self,
        table: &str,
        in_order: bool,
        files: &[Claim<'_>],
    ) -> Result<Vec<Claimed>, StoreError> {
        self.claim_files(table, in_order, files)
    }

    fn compare(
        &mut self,
        tables: &[TablePlan],
        rules: &LoadRules,
        most: Option<u64>,
    ) -> Result<Option<Comparison>, StoreError> {
        self.begin(Scope::Whole)?;
        let compared = rebuild::compare(self, tables, rules, most);
        self.rollback(Scope::Whole)?;
        compared
    }

    fn reconnect(&mut self) -> Result<(), StoreError> {
        let (address, ledger_seen) = (self.address.clone(), self.ledger_seen);
        let due = std::mem::take(&mut self.due);
        // The locks of the old one go with it.
        self.conn = None;
        *self = MysqlStore::open(&address, self.wait)?;
        (self.ledger_seen, self.due) = (ledger_seen, due);
        Ok(())
    }
}

impl Catalog for MysqlStore {
    fn shown(&self) -> String {
        self.shown.clone()
    }

    fn table(&mut self, name: &str) -> Result<Option<TableShape>, StoreError> {
        Ok(self.finished_table(name)?.map(|found| found.shape()))
    }

    fn ddl(&mut self, plan: &LoadPlan) -> Result<Vec<String>, StoreError> {
        let mut statements = Vec::new();
        for table in plan.tables.iter().filter(|table| !table.is_virtual) {
            match self.table(&table.table)? {
                None => statements.push(tables::create_sql(table, &self.facts)),
                Some(_) => statements.extend(lacks::alter_sql(table)),
            }
        }
        Ok(statements)
    }

    fn about(&mut self) -> Result<About, StoreError> {
        let rows = self.query("SELECT CAST(UNIX_TIMESTAMP(NOW(6)) * 1000000 AS SIGNED)", &[])?;
        let version = self.facts.version.clone();
        let number = version.split('-').next().unwrap_or_default();
        let program = if version.contains("MariaDB") { "MariaDB" } else { "MySQL" };
        Ok(About {
            version: format!("{program} {number}"),
            user: Some(self.facts.account.clone()),
            schema: None,
            clock: rows.first().and_then(|row| row.integer(0).ok()),
            settings: self.facts.settings(),
        })
    }

    fn missing_rights(&mut self, tables: &[(String, Mode)]) -> Result<Vec<String>, StoreError> {
        self.missing_grants(tables)
    }

    fn column_sample(&mut self, table: &str, column: &str) -> Result<ColumnSample, StoreError> {
        self.sample_of(table, column, MOST_SAMPLED)
    }

    fn file_figures(&mut self, table: &str, sums: &[(String, Type)]) -> Result<Vec<FileFigures>, StoreError> {
        self.figures_of(table, sums)
    }

    fn count_rows(&mut self, table: &str) -> Result<u64, StoreError> {
        self.count_of(table, usize::MAX)
    }

    fn first_rows(&mut self, table: &str, most: usize) -> Result<SampleRows, StoreError> {
        self.first_rows_of(table, most)
    }
}
