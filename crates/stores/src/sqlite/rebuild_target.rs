//! Tables of SQLite rebuilt from what is kept of their files.

use hypodoke_core::cast::{Cell, Rows};

use super::bulk::{BulkInsert, Stepped};
use super::connection::SqliteStore;
use crate::error::StoreError;
use crate::sql::{SqlConnection, SqlRow, moment_text, quote, unquote};
use crate::tables::rebuild::{Loosely, Moments, RebuildTarget, StagedRows, TableRows};

impl RebuildTarget for SqliteStore {
    fn ledger(&mut self) -> &mut dyn SqlConnection {
        if self.link.is_elsewhere() {
            return self.link.other();
        }
        self
    }

    fn table_sql(&self, table: &str) -> String {
        quote(table)
    }

    fn statement(&mut self, sql: &str) -> Result<u64, StoreError> {
        self.connection.execute(sql, []).map(|count| count as u64).map_err(|error| self.fail(error))
    }

    fn moment_entries(&mut self, sql: &str) -> Result<Vec<SqlRow>, StoreError> {
        self.query(sql, &[])
    }

    fn make_ready(&mut self, table: &TableRows<'_>) -> Result<(), StoreError> {
        // Without it a table of versions would be gone through once for every statement: its other index
        // has current ones only. From the first change on that is not in order it has this one too.
        match table.plan.version_index(&quote(&table.plan.table)) {
            Some(index) => self.script(&index.sql),
            None => Ok(()),
        }
    }

    fn make_stage(
        &mut self,
        stage: &str,
        table: &str,
        columns: &[String],
        _: &[String],
    ) -> Result<(), StoreError> {
        let is_loose = columns.iter().any(|column| self.collation(table, &unquote(column)).is_some());
        let sql = match is_loose {
            // It compares as the table does.
            true => {
                let columns: Vec<String> = columns.iter().map(|column| self.like(table, column)).collect();
                format!("CREATE TEMP TABLE {stage} ({})", columns.join(", "))
            }
            false => {
                let list = columns.join(", ");
                format!("CREATE TEMP TABLE {stage} AS SELECT {list} FROM {} WHERE FALSE", quote(table))
            }
        };
        self.connection.execute_batch(&sql).map_err(|error| self.fail(error))
    }

    fn index_stage(&mut self, stage: &str, columns: &[String]) -> Result<(), StoreError> {
        let list = columns.join(", ");
        let sql = format!("CREATE INDEX temp.{stage}_index ON {stage} ({list})");
        self.connection.execute_batch(&sql).map_err(|error| self.fail(error))
    }

    fn fill_stage(&mut self, staged: &StagedRows<'_>) -> Result<(), StoreError> {
        self.insert_staged(staged).map_err(|error| self.fail(error))
    }

    fn delete_matching(&self, table: &TableRows<'_>, stage: &str, condition: &str) -> String {
        let (is_ours, table) = (table.plan.keeps_layout, quote(&table.plan.table));
        if !is_ours {
            // It may be a view, or have no row numbers.
            return format!(
                "DELETE FROM {table} AS t WHERE EXISTS (SELECT 1 FROM {stage} s WHERE {condition})"
            );
        }
        format!(
            "DELETE FROM {table} WHERE rowid IN (SELECT t.rowid FROM {stage} s JOIN {table} t ON {condition})"
        )
    }

    fn compared_loosely(
        &mut self,
        table: &str,
        columns: &[String],
    ) -> Result<Vec<Option<Loosely>>, StoreError> {
        let loosely = |column: &String| match self.collation(table, column).as_deref() {
            Some("NOCASE") => Some(Loosely::Case),
            Some("RTRIM") => Some(Loosely::BlanksAtEnd),
            _ => None,
        };
        Ok(columns.iter().map(loosely).collect())
    }

    fn moment_cell(&self) -> Moments {
        |micros, rows: &mut Rows| {
            let start = rows.records.bytes.len();
            rows.records.bytes.extend_from_slice(moment_text(micros).as_bytes());
            Cell::text(start..rows.records.bytes.len())
        }
    }
}

impl SqliteStore {
    /// The collation of a column, where it is not the one that compares bytes. A view has none of its own.
    pub(super) fn collation(&self, table: &str, column: &str) -> Option<String> {
        let (_, collation, ..) = self.connection.column_metadata(None, table, column).ok()?;
        Some(collation?.to_str().ok()?.to_ascii_uppercase()).filter(|name| name != "BINARY")
    }

    /// A column of a table, given as it stands in statements, as another table declares it to be alike.
    fn like(&self, table: &str, column: &str) -> String {
        let name = unquote(column);
        let found = self.connection.column_metadata(None, table, &*name).ok();
        let declared = found.and_then(|(declared, ..)| declared?.to_str().ok()).unwrap_or_default();
        let collation = self.collation(table, &name).map(|name| format!(" COLLATE {}", quote(&name)));
        format!("{column} {declared}{}", collation.unwrap_or_default())
    }

    fn insert_staged(&self, staged: &StagedRows<'_>) -> rusqlite::Result<()> {
        let StagedRows { stage, columns, lineage, rows, files, .. } = staged;
        let marks = vec!["?"; columns.len()].join(", ");
        let sql = format!("INSERT INTO {stage} ({}) VALUES ({marks})", columns.join(", "));
        let mut insert = BulkInsert::prepare(&self.connection, &sql, columns.len(), false)?;
        for (index, file) in files.iter().enumerate() {
            if lineage.is_kept() {
                insert.bind_file(rows.width + 1, *file)?;
            }
            if let Stepped::Refused(why) = insert.insert(rows, index, *lineage)? {
                let code = rusqlite::ffi::Error::new(rusqlite::ffi::SQLITE_CONSTRAINT);
                return Err(rusqlite::Error::SqliteFailure(code, Some(why)));
            }
        }
        Ok(())
    }
}
