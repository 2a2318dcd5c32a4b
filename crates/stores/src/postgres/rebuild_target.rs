//! Tables of PostgreSQL rebuilt from what is kept of their files.

use std::pin::pin;

use bytes::{BufMut, Bytes, BytesMut};
use futures_util::SinkExt;
use hypodoke_core::cast::Cell;
use tokio_postgres::CopyInSink;

use super::connection::PostgresStore;
use super::copy::{HEADER, RowOrigin, TRAILER, Wire, put_row};
use super::session::row_of;
use super::tables;
use crate::error::StoreError;
use crate::sql::{Misread, SqlConnection, SqlRow};
use crate::tables::rebuild::{Loosely, Moments, RebuildTarget, StagedRows, TableRows};

/// How much is put together before it is handed to the connection, in bytes.
const CHUNK: usize = 64 * 1024;

/// The columns of a table that do not compare the bytes of texts: each with its collation where that takes texts for one
/// whose bytes differ; others take blanks at the end for nothing.
const LOOSE: &str = "
SELECT a.attname::text,
       CASE WHEN NOT c.collisdeterministic THEN quote_ident(n.nspname) || '.' || quote_ident(c.collname) END
FROM pg_attribute a JOIN pg_type t ON t.oid = a.atttypid
LEFT JOIN pg_collation c ON c.oid = a.attcollation LEFT JOIN pg_namespace n ON n.oid = c.collnamespace
WHERE a.attrelid = to_regclass($1) AND a.attname = ANY ($2)
  AND (t.typname = 'bpchar' OR NOT c.collisdeterministic)";

impl RebuildTarget for PostgresStore {
    fn ledger(&mut self) -> &mut dyn SqlConnection {
        if self.link.is_elsewhere() {
            return self.link.other();
        }
        self
    }

    fn table_sql(&self, table: &str) -> String {
        self.qualified(table)
    }

    fn statement(&mut self, sql: &str) -> Result<u64, StoreError> {
        self.run(self.client.execute(sql, &[]))
    }

    fn moment_entries(&mut self, sql: &str) -> Result<Vec<SqlRow>, StoreError> {
        let rows = self.run(self.client.query(sql, &[]))?;
        let rows: Result<Vec<SqlRow>, Misread> = rows.iter().map(row_of).collect();
        rows.map_err(|misread| StoreError::Damaged { shown: self.shown.clone(), what: misread.0 })
    }

    fn make_ready(&mut self, _: &TableRows<'_>) -> Result<(), StoreError> {
        // It joins by hash.
        Ok(())
    }

    fn make_stage(
        &mut self,
        stage: &str,
        table: &str,
        columns: &[String],
        _: &[String],
    ) -> Result<(), StoreError> {
        let (list, from) = (columns.join(", "), self.qualified(table));
        let sql =
            format!("CREATE TEMP TABLE {stage} ON COMMIT DROP AS SELECT {list} FROM {from} WITH NO DATA");
        self.run(self.client.batch_execute(&sql))
    }

    fn index_stage(&mut self, stage: &str, _: &[String]) -> Result<(), StoreError> {
        // Its planner joins by hash where it knows how much there is.
        self.run(self.client.batch_execute(&format!("ANALYZE {stage}")))
    }

    fn fill_stage(&mut self, staged: &StagedRows<'_>) -> Result<(), StoreError> {
        let StagedRows { stage, columns, lineage, rows, files, table } = staged;
        let found = self.run(tables::read(&self.client, &self.schema, &table.plan.table))?;
        let changed = || StoreError::Changed { table: table.plan.table.clone() };
        let found = found.ok_or_else(changed)?;
        let wire =
            |(name, _): &(String, _)| found.column(name).and_then(|native| native.wire).ok_or_else(changed);
        let mut wires: Vec<Wire> = table.columns.iter().map(wire).collect::<Result<_, _>>()?;
        wires.resize(rows.width, Wire::Timestamp);
        let sql = format!("COPY {stage} ({}) FROM STDIN (FORMAT binary)", columns.join(", "));
        let sink: CopyInSink<Bytes> = self.run(self.client.copy_in(&sql))?;
        let sent = self.runtime.block_on(async {
            let mut sink = pin!(sink);
            let mut buffer = BytesMut::with_capacity(CHUNK + 4096);
            buffer.put_slice(HEADER);
            for (index, file) in files.iter().enumerate() {
                let origin = RowOrigin { file: *file, lineage: *lineage, sequence: None };
                put_row(&mut buffer, rows, index, &wires, origin);
                if buffer.len() >= CHUNK {
                    sink.feed(buffer.split().freeze()).await?;
                    buffer.reserve(CHUNK + 4096);
                }
            }
            buffer.put_i16(TRAILER);
            sink.feed(buffer.split().freeze()).await?;
            sink.as_mut().finish().await
        });
        sent.map(drop).map_err(|error| self.fail(&error))
    }

    fn delete_matching(&self, table: &TableRows<'_>, stage: &str, condition: &str) -> String {
        let table = self.qualified(&table.plan.table);
        format!("DELETE FROM {table} t USING {stage} s WHERE {condition}")
    }

    fn compared_loosely(
        &mut self,
        table: &str,
        columns: &[String],
    ) -> Result<Vec<Option<Loosely>>, StoreError> {
        let (qualified, columns) = (self.qualified(table), columns.to_vec());
        let rows = self.run(self.client.query(LOOSE, &[&qualified, &columns]))?;
        let loosely = |name: &String| {
            let row = rows.iter().find(|row| row.get::<_, String>(0) == *name)?;
            Some(match row.get::<_, Option<String>>(1) {
                // No function gives the form itself; two texts that are the same have the same hash.
                Some(collation) => {
                    let hash =
                        |seed: u8| format!("hashtextextended({{}}::text COLLATE {collation}, {seed})::text");
                    Loosely::Asked(format!("{} || ' ' || {}", hash(0), hash(1)))
                }
                None => Loosely::BlanksAtEnd,
            })
        };
        Ok(columns.iter().map(loosely).collect())
    }

    fn moment_cell(&self) -> Moments {
        |micros, _| Cell::TimestampTz(micros)
    }
}
