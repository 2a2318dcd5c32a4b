//! SQLite: a staging database in a file.

mod bulk;
mod connection;
mod decimals;
mod figures;
mod known_tables;
mod load;
mod rebuild_target;

mod tables;

use hypodoke_core::types::Type;

use crate::error::StoreError;
use crate::load_plan::{LoadPlan, Mode};
use crate::sql::quote;
use crate::tables::catalog::{
    About, Catalog, ColumnSample, FileFigures, MOST_SAMPLED, SampleRows, TableShape,
};
use crate::tables::pairing;
pub use connection::SqliteStore;
use connection::shown;

impl Catalog for SqliteStore {
    fn shown(&self) -> String {
        shown(&self.path)
    }

    fn table(&mut self, name: &str) -> Result<Option<TableShape>, StoreError> {
        self.read(|connection| tables::shape(connection, name))
    }

    fn ddl(&mut self, plan: &LoadPlan) -> Result<Vec<String>, StoreError> {
        let mut statements = Vec::new();
        for table in plan.tables.iter().filter(|table| !table.is_virtual) {
            match self.read(|connection| tables::shape(connection, &table.table))? {
                None => {
                    statements.push(tables::create_sql(&table.table, table));
                    let indexes = table.indexes(&quote(&table.table));
                    statements.extend(indexes.into_iter().map(|index| index.sql));
                }
                Some(_) => statements.extend(tables::alter_sql(table)),
            }
        }
        Ok(statements)
    }

    fn about(&mut self) -> Result<About, StoreError> {
        Ok(About {
            version: format!("SQLite {}", rusqlite::version()),
            user: None,
            schema: None,
            clock: None,
            settings: Vec::new(),
        })
    }

    fn missing_rights(&mut self, tables: &[(String, Mode)]) -> Result<Vec<String>, StoreError> {
        pairing::missing_rights(self, tables)
    }

    fn column_sample(&mut self, table: &str, column: &str) -> Result<ColumnSample, StoreError> {
        self.read(|connection| figures::sample(connection, table, column, MOST_SAMPLED))
    }

    fn file_figures(&mut self, table: &str, sums: &[(String, Type)]) -> Result<Vec<FileFigures>, StoreError> {
        self.read(|connection| figures::figures(connection, table, sums))
    }

    fn count_rows(&mut self, table: &str) -> Result<u64, StoreError> {
        let sql = format!("SELECT count(*) FROM {}", quote(table));
        self.read(|connection| connection.query_row(&sql, [], |row| row.get::<_, i64>(0)))
            .map(|count| count as u64)
    }

    fn texts_among_numbers(&mut self, table: &str) -> Result<Vec<String>, StoreError> {
        self.read(|connection| tables::texts_among_numbers(connection, table))
    }

    fn first_rows(&mut self, table: &str, most: usize) -> Result<SampleRows, StoreError> {
        self.read(|connection| tables::first_rows(connection, table, most))
    }
}
