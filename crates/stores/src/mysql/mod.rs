//! MySQL and MariaDB: a staging database on a server whose changes of tables are no part of a transaction.

mod address;
mod catalogue;
mod changes;
mod connect;
mod connection;
mod errors;
mod facts;
mod figures;
mod group_tables;
mod lacks;
mod load;
mod locks;
mod native;
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

use crate::error::StoreError;
use crate::load_plan::{LoadPlan, Mode};
use crate::sql::SqlConnection;
use crate::tables::catalog::{
    About, Catalog, ColumnSample, FileFigures, MOST_SAMPLED, SampleRows, TableShape,
};
use crate::tables::pairing;

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
        pairing::missing_rights(self, tables)
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
