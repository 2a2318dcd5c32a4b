//! One file going into SQLite: table changes, rows, rejects and the ledger's entry in one
//! transaction.

use std::path::Path;

use hypodoke_core::cast::{Reject, Rows};
use hypodoke_core::event::Outcome;
use hypodoke_core::names::{FILE_COLUMN, quote};
use hypodoke_core::reconcile::Change;
use rusqlite::{Connection, Result, Transaction, TransactionBehavior, params};

use super::bulk::{BulkInsert, Stepped};
use super::tables::{alter, create_sql, moment};
use super::{fail, ledger, tables};
use crate::error::StoreError;
use crate::ledger::FileEntry;
use crate::{FileSummary, LoadPlan, Loader, PartSummary, TablePlan};

/// A file being loaded. Dropped, it rolls everything back.
pub struct SqliteLoader<'a> {
    // Before the transaction, so that the statements are gone when that is rolled back; one for
    // each table of the plan, none for a virtual one.
    inserts: Vec<Option<BulkInsert<'a>>>,
    connection: &'a Connection,
    committed: bool,
    plan: &'a LoadPlan,
    path: &'a Path,
    file: i64,
}

impl<'a> SqliteLoader<'a> {
    /// Begins; `None` if the ledger says by now that the file is loaded.
    pub fn begin(
        connection: &'a mut Connection,
        plan: &'a LoadPlan,
        path: &'a Path,
    ) -> Result<Option<SqliteLoader<'a>>> {
        let connection: &'a Connection = connection;
        // The transaction is ended by hand, in `finish` or in `drop`: a guard could not live
        // beside what borrows from it.
        std::mem::forget(Transaction::new_unchecked(connection, TransactionBehavior::Immediate)?);
        let mut loader =
            SqliteLoader { inserts: Vec::new(), connection, committed: false, plan, path, file: 0 };
        if loader.is_loaded_by_now()? {
            return Ok(None);
        }
        for table in &plan.tables {
            loader.shape_table(table)?;
        }
        loader.file = ledger::note_file(connection, &loader.entry())?;
        if let Some(replaced) = plan.replaces {
            loader.take_out(replaced)?;
        }
        for table in &plan.tables {
            let insert = if table.is_virtual { None } else { Some(loader.prepare(table)?) };
            loader.inserts.push(insert);
        }
        Ok(Some(loader))
    }

    fn prepare(&self, table: &TablePlan) -> Result<BulkInsert<'a>> {
        let names = table.layout.columns.iter().map(|column| quote(&column.name));
        let lineage = table.lineage.columns().iter().map(|name| quote(name));
        let all: Vec<String> = names.chain(lineage).collect();
        let marks = vec!["?"; all.len()].join(", ");
        let sql = format!("INSERT INTO {} ({}) VALUES ({marks})", quote(&table.table), all.join(", "));
        let texts = table.layout.columns.iter().map(|column| tables::is_text_decimal(column.ty())).collect();
        let mut insert = BulkInsert::prepare(self.connection, &sql, texts)?;
        if table.lineage.is_kept() {
            insert.bind_file(table.layout.columns.len() + 1, self.file)?;
        }
        Ok(insert)
    }

    fn is_loaded_by_now(&self) -> Result<bool> {
        let arrival = &self.plan.arrival;
        self.connection.query_row(
            "SELECT count(*) > 0 FROM hd_files WHERE place = ?1 AND path = ?2 AND bytes = ?3 AND modified_at = ?4
               AND table_name = ?6 AND outcome = 'loaded' AND replaced_by IS NULL AND file IS NOT ?5",
            params![arrival.place, arrival.path, arrival.bytes as i64, moment(arrival.modified), self.plan.replaces, self.plan.table()],
            |row| row.get(0),
        )
    }

    fn shape_table(&self, table: &TablePlan) -> Result<()> {
        if table.is_virtual {
            return Ok(());
        }
        if tables::shape(self.connection, &table.table)?.is_none() {
            return self.connection.execute_batch(&create_sql(&table.table, &table.layout, table.lineage));
        }
        alter(self.connection, &table.table, &table.layout, &table.changes, table.lineage)
    }

    fn entry(&self) -> FileEntry {
        let plan = self.plan;
        FileEntry {
            file: 0,
            batch: plan.batch,
            arrival: plan.arrival.clone(),
            hash: None,
            feed: plan.feed.clone(),
            table: Some(plan.table().to_owned()),
            kind: Some(plan.kind.clone()),
            outcome: Outcome::Loaded,
            read: 0,
            loaded: 0,
            rejected: 0,
            left_out: 0,
            began: plan.began,
            ended: plan.began,
            message: None,
            replaced_by: None,
        }
    }

    /// Takes the rows of an earlier version of the file out, from every table it filled.
    fn take_out(&self, replaced: i64) -> Result<()> {
        let main = self.plan.tables.first().filter(|main| !main.is_virtual).map(|main| main.table.clone());
        let parts = ledger::parts(self.connection, replaced)?.into_iter().map(|part| part.table);
        for table in main.into_iter().chain(parts) {
            if tables::shape(self.connection, &table)?.is_some_and(|shape| shape.lineage.is_kept()) {
                let sql = format!("DELETE FROM {} WHERE {} = ?1", quote(&table), quote(FILE_COLUMN));
                self.connection.execute(&sql, [replaced])?;
            }
        }
        self.connection
            .execute("UPDATE hd_files SET replaced_by = ?2 WHERE file = ?1", params![replaced, self.file])?;
        Ok(())
    }

    fn insert_rows(&mut self, table: usize, rows: &mut Rows) -> Result<u64> {
        let mut loaded = 0;
        if let Some(insert) = &mut self.inserts[table] {
            let lineage = self.plan.tables[table].lineage;
            for index in 0..rows.len() {
                match insert.insert(rows, index, lineage)? {
                    Stepped::In => loaded += 1,
                    Stepped::Refused(words) => {
                        let reject = rows.refuse(index, None, format!("the table refused it: {words}"));
                        rows.rejects.push(reject);
                    }
                }
            }
        }
        self.keep_rejects(&rows.rejects)?;
        Ok(loaded)
    }

    fn keep_rejects(&self, rejects: &[Reject]) -> Result<()> {
        if rejects.is_empty() {
            return Ok(());
        }
        let mut statement = self.connection.prepare_cached(
            "INSERT INTO hd_rejects (file, line, column_name, value, reason, raw, place) VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7)",
        )?;
        for reject in rejects {
            // Text where it is text; bytes that are none are kept as they are.
            let raw: &dyn rusqlite::ToSql = match std::str::from_utf8(&reject.raw) {
                Ok(text) => &text.to_owned(),
                Err(_) => &reject.raw.as_slice(),
            };
            statement.execute(params![
                self.file,
                reject.line as i64,
                reject.column,
                reject.value,
                reject.reason,
                raw,
                reject.place
            ])?;
        }
        Ok(())
    }

    fn close(&mut self, summary: &FileSummary) -> Result<()> {
        self.inserts.clear();
        self.connection.execute(
            "UPDATE hd_files SET content_hash = ?2, rows_read = ?3, rows_loaded = ?4, rows_rejected = ?5,
               rows_left_out = ?6, ended_at = ?7, message = ?8 WHERE file = ?1",
            params![
                self.file,
                summary.hash,
                summary.read as i64,
                summary.loaded as i64,
                summary.rejected as i64,
                summary.left_out as i64,
                moment(summary.ended),
                summary.message
            ],
        )?;
        for (at, (table, part)) in self.plan.tables.iter().zip(&summary.parts).enumerate() {
            if at > 0 {
                self.keep_part(table, part)?;
            }
            if table.keeps_layout {
                self.keep_layout(table, part)?;
            }
        }
        self.connection.execute_batch("COMMIT")?;
        self.committed = true;
        Ok(())
    }

    fn keep_part(&self, table: &TablePlan, part: &PartSummary) -> Result<()> {
        self.connection.execute(
            "INSERT INTO hd_parts (file, table_name, path, rows_read, rows_loaded) VALUES (?1, ?2, ?3, ?4, ?5)",
            params![self.file, table.table, table.path, part.read as i64, part.loaded as i64],
        )?;
        Ok(())
    }

    /// Writes a new version of the layout where the file made one, and what changed.
    fn keep_layout(&self, table: &TablePlan, part: &PartSummary) -> Result<()> {
        let text = serde_json::to_string(&part.layout).unwrap_or_default();
        let newest = rusqlite::OptionalExtension::optional(ledger::layout(self.connection, &table.table))?;
        let altered = table.changes.iter().any(|change| !matches!(change, Change::Missing { .. }));
        match newest {
            Some((version, before)) if !altered => {
                if before != text {
                    self.connection.execute(
                        "UPDATE hd_layouts SET layout = ?3 WHERE table_name = ?1 AND version = ?2",
                        params![table.table, version, text],
                    )?;
                }
            }
            newest => {
                let version = newest.map_or(1, |(version, _)| version + 1);
                self.connection.execute(
                    "INSERT INTO hd_layouts (table_name, version, file, layout) VALUES (?1, ?2, ?3, ?4)",
                    params![table.table, version, self.file, text],
                )?;
            }
        }
        let missing = part.missing.iter().map(|column| Change::Missing { column: column.clone() });
        let missing: Vec<Change> = missing.collect();
        for change in table.changes.iter().chain(&missing) {
            let (column, word, from, to) = match change {
                Change::Added { column, to } => (column, "added", None, Some(to.to_string())),
                Change::Widened { column, from, to } => {
                    (column, "widened", Some(from.to_string()), Some(to.to_string()))
                }
                Change::Missing { column } => (column, "missing", None, None),
            };
            self.connection.execute(
                "INSERT INTO hd_drift (file, table_name, column_name, change, from_type, to_type) VALUES (?1, ?2, ?3, ?4, ?5, ?6)",
                params![self.file, table.table, column, word, from, to],
            )?;
        }
        Ok(())
    }
}

impl Loader for SqliteLoader<'_> {
    fn rows(&mut self, table: usize, rows: &mut Rows) -> std::result::Result<u64, StoreError> {
        self.insert_rows(table, rows).map_err(|error| fail(self.path, error))
    }

    fn finish(mut self: Box<Self>, summary: &FileSummary) -> std::result::Result<i64, StoreError> {
        let path = self.path;
        self.close(summary).map_err(|error| fail(path, error))?;
        Ok(self.file)
    }
}

impl Drop for SqliteLoader<'_> {
    fn drop(&mut self) {
        self.inserts.clear();
        if !self.committed && !self.connection.is_autocommit() {
            // Nothing can be done about a failure here; SQLite undoes the transaction when the
            // file is next opened.
            let _ = self.connection.execute_batch("ROLLBACK");
        }
    }
}
