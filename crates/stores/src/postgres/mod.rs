//! PostgreSQL: a staging database on a server.

mod bulk;
mod connect;
mod connection;
mod copy;
mod copying;
mod figures;
mod group;
mod load;
mod open_copy;
mod open_group;
mod rebuild_target;
mod rights;
mod session;
mod staged;
mod tables;
mod target;

use hypodoke_core::types::Type;

pub use connect::Address;
pub use connection::PostgresStore;

use crate::catalog::{About, Catalog, ColumnSample, FileFigures, MOST_SAMPLED, SampleRows, TableShape};
use crate::error::StoreError;
use crate::load::SqlWriter;
use crate::mode::Mode;
use crate::plan::{LoadPlan, LoadRules, TablePlan};
use crate::rebuild::{self, Comparison};
use crate::sink::{Capabilities, Claim, Claimed, Sink, Writer};
use crate::sql::{Scope, SqlConnection, quote};

impl Sink for PostgresStore {
    fn capabilities(&self) -> Capabilities {
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

    fn begin_load<'a>(&'a mut self, plan: &'a LoadPlan) -> Result<Option<Box<dyn Writer + 'a>>, StoreError> {
        if self.goes_short(plan) {
            return Ok(Some(Box::new(bulk::BulkWriter::begin(self, plan)?)));
        }
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
        // What was staged goes with it.
        self.rollback(Scope::Whole)?;
        compared
    }

    fn reconnect(&mut self) -> Result<(), StoreError> {
        let (address, schema) = (self.address.clone(), self.wanted_schema.clone());
        let ledger_seen = self.ledger_seen;
        *self = PostgresStore::open(&address, schema.as_deref(), self.wait)?;
        self.ledger_seen = ledger_seen;
        Ok(())
    }
}

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
        self.run(rights::missing(&self.client, &self.schema, &self.user, tables))
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
