//! PostgreSQL: a staging database on a server.

mod bulk;
mod bulk_loads;
mod connect;
mod connection;
mod copy;
mod copying;
mod figures;
mod load;
mod locks;
mod open_copy;
mod rebuild_target;
mod rights;
mod session;
mod staged;
mod tables;
mod target;
mod unstorable;

use hypodoke_core::types::Type;

pub use connect::Address;
pub use connection::PostgresStore;

use crate::error::StoreError;
use crate::load_plan::{LoadPlan, Mode};
use crate::sql::quote;
use crate::tables::catalog::{
    About, Catalog, ColumnSample, FileFigures, MOST_SAMPLED, SampleRows, TableShape,
};
use crate::tables::pairing;

impl Catalog for PostgresStore {
    fn shown(&self) -> String {
        self.shown.clone()
    }

    fn table(&mut self, name: &str) -> Result<Option<TableShape>, StoreError> {
        self.settle_copy()?;
        let found = self.run(tables::read(&self.client, &self.schema, name))?;
        Ok(found.map(|table| table.shape()))
    }

    fn ddl(&mut self, plan: &LoadPlan) -> Result<Vec<String>, StoreError> {
        let mut statements = Vec::new();
        for table in plan.tables.iter().filter(|table| !table.is_virtual) {
            let qualified = self.qualified(&table.table);
            let found = self.run(tables::read(&self.client, &self.schema, &table.table))?;
            match found {
                None => {
                    statements.push(tables::create_sql(&qualified, table));
                    statements.extend(table.indexes(&qualified).into_iter().map(|index| index.sql));
                }
                Some(_) => statements.extend(tables::alter_sql(&qualified, table)),
            }
        }
        Ok(statements)
    }

    fn about(&mut self) -> Result<About, StoreError> {
        let sql = "SELECT current_setting('server_version'),
             CAST(extract(epoch FROM clock_timestamp()) * 1000000 AS bigint)";
        let row = self.run(self.client.query_one(sql, &[]))?;
        let version: String = row.get(0);
        Ok(About {
            version: format!("PostgreSQL {}", version.split_whitespace().next().unwrap_or_default()),
            user: Some(self.user.clone()),
            schema: Some(self.schema.clone()),
            clock: row.try_get(1).ok(),
            settings: Vec::new(),
        })
    }

    fn missing_rights(&mut self, tables: &[(String, Mode)]) -> Result<Vec<String>, StoreError> {
        pairing::missing_rights(self, tables)
    }

    fn column_sample(&mut self, table: &str, column: &str) -> Result<ColumnSample, StoreError> {
        self.run(figures::sample(&self.client, &self.qualified(table), column, MOST_SAMPLED))
    }

    fn file_figures(&mut self, table: &str, sums: &[(String, Type)]) -> Result<Vec<FileFigures>, StoreError> {
        self.run(figures::figures(&self.client, &self.qualified(table), sums))
    }

    fn count_rows(&mut self, table: &str) -> Result<u64, StoreError> {
        let sql = format!("SELECT count(*) FROM {}", self.qualified(table));
        let row = self.run(self.client.query_one(&sql, &[]))?;
        Ok(row.get::<_, i64>(0) as u64)
    }

    fn first_rows(&mut self, table: &str, most: usize) -> Result<SampleRows, StoreError> {
        let qualified = self.qualified(table);
        let names = self.run(self.client.query(
            "SELECT attname::text FROM pg_attribute WHERE attrelid = to_regclass($1) AND attnum > 0 AND NOT attisdropped ORDER BY attnum",
            &[&qualified],
        ))?;
        let columns: Vec<String> = names.iter().map(|row| row.get(0)).collect();
        let list: Vec<String> = columns.iter().map(|name| format!("{}::text", quote(name))).collect();
        let sql = format!("SELECT {} FROM {qualified} LIMIT {most}", list.join(", "));
        let found = self.run(self.client.query(&sql, &[]))?;
        let rows = found.iter().map(|row| (0..columns.len()).map(|at| row.get(at)).collect()).collect();
        Ok(SampleRows { columns, rows })
    }
}
