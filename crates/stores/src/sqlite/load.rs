//! One file going into SQLite: table changes, rows, rejects and the ledger's entry in one
//! transaction.

use std::path::Path;

use hypodoke_core::cast::{Reject, Rows};
use hypodoke_core::names::{FILE_COLUMN, Lineage, VALID_TO_COLUMN, quote};
use rusqlite::{Connection, Result, params};

use super::bulk::{BulkInsert, Stepped};
use super::tables::{alter, create_sql, moment};
use super::{drift, fail, ledger, tables};
use crate::error::StoreError;
use crate::merge::{Counts, Merge, Mode, SEQUENCE, STAGE, index_name};
use crate::{FileSummary, Finished, LoadPlan, Loader, PartSummary, TablePlan};

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
    in_delivery: bool,
    deleted: u64,
    /// Per table, how many rows were sent.
    sent: Vec<u64>,
    /// Per table, how many of these a trigger left out.
    by_trigger: Vec<u64>,
}

/// The SQL that makes the index on the key of a table of ours.
pub fn key_index(table: &TablePlan) -> Option<String> {
    let wanted = table.mode.has_key() && table.keeps_layout;
    wanted.then(|| merge_of(table).index(&quote(&index_name(&table.table)), table.mode))
}

fn merge_of(table: &TablePlan) -> Merge {
    let columns: Vec<String> = table.layout.columns.iter().map(|column| column.name.clone()).collect();
    Merge::new(quote(&table.table), &columns, table.lineage.columns(), &table.key, &table.of_file)
}

impl<'a> SqliteLoader<'a> {
    /// Begins; `None` if the ledger says by now that the file is loaded.
    pub fn begin(
        connection: &'a mut Connection,
        plan: &'a LoadPlan,
        path: &'a Path,
        in_delivery: bool,
    ) -> std::result::Result<Option<SqliteLoader<'a>>, StoreError> {
        let connection: &'a Connection = connection;
        let Some(loader) =
            SqliteLoader::open(connection, plan, path, in_delivery).map_err(|error| fail(path, error))?
        else {
            return Ok(None);
        };
        loader.statements(&plan.sql_before, "sql_before")?;
        Ok(Some(loader))
    }

    fn open(
        connection: &'a Connection,
        plan: &'a LoadPlan,
        path: &'a Path,
        in_delivery: bool,
    ) -> Result<Option<SqliteLoader<'a>>> {
        // The transaction is ended by hand, in `finish` or in `drop`: a guard could not live
        // beside what borrows from it.
        connection.execute_batch(if in_delivery { "SAVEPOINT hd_file" } else { "BEGIN IMMEDIATE" })?;
        let mut loader = SqliteLoader {
            inserts: Vec::new(),
            connection,
            committed: false,
            plan,
            path,
            file: 0,
            in_delivery,
            deleted: 0,
            sent: vec![0; plan.tables.len()],
            by_trigger: vec![0; plan.tables.len()],
        };
        if plan.mends.is_none() && loader.is_loaded_by_now()? {
            return Ok(None);
        }
        for table in plan.tables.iter().filter(|_| !plan.retracts) {
            loader.shape_table(table)?;
        }
        loader.file = match plan.mends {
            Some(file) => file,
            None => ledger::note_file(connection, &plan.entry())?,
        };
        if let Some(replaced) = plan.replaces {
            loader.take_out(replaced)?;
        }
        if plan.first_of_delivery {
            loader.empty()?;
        }
        for table in &plan.tables {
            let insert = if table.is_virtual || plan.retracts { None } else { Some(loader.prepare(table)?) };
            loader.inserts.push(insert);
        }
        Ok(Some(loader))
    }

    /// Takes all rows out of the tables that hold one delivery at a time.
    fn empty(&mut self) -> Result<()> {
        for table in self.plan.tables.iter().filter(|table| table.mode == Mode::Replace && !table.is_virtual)
        {
            self.deleted +=
                self.connection.execute(&format!("DELETE FROM {}", quote(&table.table)), [])? as u64;
        }
        Ok(())
    }

    fn statements(
        &self,
        statements: &[String],
        setting: &'static str,
    ) -> std::result::Result<(), StoreError> {
        for statement in statements {
            self.connection.execute_batch(statement).map_err(|error| StoreError::Statement {
                setting,
                statement: statement.clone(),
                why: error.to_string(),
            })?;
        }
        Ok(())
    }

    /// The table that rows brought in by key come to first.
    fn stage(&self, table: &TablePlan) -> Result<()> {
        let own =
            table.layout.columns.iter().map(|c| format!("{} {}", quote(&c.name), tables::declared(c.ty())));
        let lineage = table.lineage.columns().iter().map(|name| format!("{} INTEGER", quote(name)));
        let all: Vec<String> =
            std::iter::once(format!("{SEQUENCE} INTEGER PRIMARY KEY")).chain(own).chain(lineage).collect();
        self.connection.execute_batch(&format!("CREATE TEMP TABLE {STAGE} ({})", all.join(", ")))
    }

    /// Brings staged rows into their table.
    fn merge(&mut self) -> Result<Counts> {
        let mut all = Counts { deleted: self.deleted, ..Counts::default() };
        for ((table, sent), by_trigger) in self.plan.tables.iter().zip(&self.sent).zip(&self.by_trigger) {
            if table.is_virtual || self.plan.retracts {
                continue;
            }
            if !table.mode.has_key() {
                if table.lineage != Lineage::Children {
                    all.inserted += sent - by_trigger;
                    all.left_out += by_trigger;
                    all.by_trigger += by_trigger;
                }
                continue;
            }
            let counts = self.merge_table(table, *sent)?;
            all.inserted += counts.inserted;
            all.updated += counts.updated;
            all.unchanged += counts.unchanged;
            all.left_out += counts.left_out;
            self.connection.execute_batch(&format!("DROP TABLE temp.{STAGE}"))?;
        }
        Ok(all)
    }

    fn merge_table(&self, table: &TablePlan, sent: u64) -> Result<Counts> {
        let merge = merge_of(table);
        let run = |sql: &str| self.connection.execute(sql, []).map(|count| count as u64);
        let doubles = run(&merge.drop_doubles())?;
        let staged = sent - doubles;
        Ok(match table.mode {
            Mode::InsertNew => {
                let inserted = run(&merge.insert_new())?;
                Counts { inserted, left_out: doubles + staged - inserted, ..Counts::default() }
            }
            Mode::History => {
                let began = format!("'{}'", moment(self.plan.began));
                let updated = run(&merge.end_versions(&began))?;
                let added = run(&merge.begin_versions(&began))?;
                Counts {
                    inserted: added - updated,
                    updated,
                    unchanged: staged - added,
                    left_out: doubles,
                    ..Counts::default()
                }
            }
            _ => {
                let updated = run(&merge.update())?;
                let inserted = run(&merge.insert_new())?;
                let unchanged = staged - updated - inserted;
                Counts { inserted, updated, unchanged, left_out: doubles, ..Counts::default() }
            }
        })
    }

    fn prepare(&self, table: &TablePlan) -> Result<BulkInsert<'a>> {
        let names = table.layout.columns.iter().map(|column| quote(&column.name));
        let lineage = table.lineage.columns().iter().map(|name| quote(name));
        let all: Vec<String> = names.chain(lineage).collect();
        let marks = vec!["?"; all.len()].join(", ");
        let into = if table.mode.has_key() {
            self.stage(table)?;
            format!("temp.{STAGE}")
        } else {
            quote(&table.table)
        };
        let sql = format!("INSERT INTO {into} ({}) VALUES ({marks})", all.join(", "));
        let texts = table.layout.columns.iter().map(|column| tables::is_text_decimal(column.ty())).collect();
        let guarded = !table.mode.has_key() && tables::has_triggers(self.connection, &table.table)?;
        let mut insert = BulkInsert::prepare(self.connection, &sql, texts, guarded)?;
        if table.lineage.is_kept() {
            insert.bind_file(table.layout.columns.len() + 1, self.file)?;
        }
        Ok(insert)
    }

    fn is_loaded_by_now(&self) -> Result<bool> {
        let arrival = &self.plan.arrival;
        self.connection.query_row(
            ledger::LOADED_BY_NOW,
            params![
                arrival.place,
                arrival.path,
                arrival.bytes as i64,
                moment(arrival.modified),
                self.plan.replaces,
                self.plan.table()
            ],
            |row| row.get(0),
        )
    }

    fn shape_table(&self, table: &TablePlan) -> Result<()> {
        if table.is_virtual {
            return Ok(());
        }
        if tables::shape(self.connection, &table.table)?.is_none() {
            self.connection.execute_batch(&create_sql(
                &table.table,
                &table.layout,
                table.lineage,
                table.mode,
            ))?;
        } else {
            alter(self.connection, table)?;
        }
        key_index(table).map_or(Ok(()), |sql| self.connection.execute_batch(&sql))
    }

    /// Takes the rows of an earlier version of the file out, from every table it filled.
    fn take_out(&mut self, replaced: i64) -> Result<()> {
        let main = self.plan.tables.first().filter(|main| !main.is_virtual);
        let mode = main.map_or(Mode::Append, |main| main.mode);
        let main = main.map(|main| main.table.clone());
        let parts = ledger::parts(self.connection, replaced)?.into_iter().map(|part| part.table);
        for table in main.into_iter().chain(parts) {
            if tables::shape(self.connection, &table)?.is_some_and(|shape| shape.lineage.is_kept()) {
                let sql = format!("DELETE FROM {} WHERE {} = ?1", quote(&table), quote(FILE_COLUMN));
                self.deleted += self.connection.execute(&sql, [replaced])? as u64;
            }
            if mode == Mode::History {
                // The versions that it had ended are current again.
                let sql = format!(
                    "UPDATE {} SET {VALID_TO_COLUMN} = NULL WHERE {VALID_TO_COLUMN} = (SELECT began_at FROM hd_files WHERE file = ?1)",
                    quote(&table)
                );
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
                    Stepped::LeftOut => {
                        loaded += 1;
                        self.by_trigger[table] += 1;
                    }
                    Stepped::Refused(words) => {
                        let reject = rows.refuse(index, None, format!("the table refused it: {words}"));
                        rows.rejects.push(reject);
                    }
                }
            }
        }
        self.sent[table] += loaded;
        self.keep_rejects(&rows.rejects)?;
        Ok(loaded)
    }

    fn keep_rejects(&self, rejects: &[Reject]) -> Result<()> {
        // What is mended and still will not do stays the reject it is.
        if rejects.is_empty() || self.plan.mends.is_some() {
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

    fn close(&mut self, summary: &FileSummary, counts: Counts) -> Result<()> {
        if self.plan.mends.is_some() {
            self.mend(summary, counts)?;
            return self.end();
        }
        let loaded = summary.loaded - counts.left_out.min(summary.loaded);
        self.connection.execute(
            "UPDATE hd_files SET content_hash = ?2, rows_read = ?3, rows_loaded = ?4, rows_rejected = ?5,
               rows_left_out = ?6, ended_at = ?7, message = ?8, rows_inserted = ?9, rows_updated = ?10,
               rows_unchanged = ?11, rows_deleted = ?12 WHERE file = ?1",
            params![
                self.file,
                summary.hash,
                summary.read as i64,
                loaded as i64,
                summary.rejected as i64,
                (summary.left_out + counts.left_out) as i64,
                moment(summary.ended),
                summary.message_with(&counts),
                counts.inserted as i64,
                counts.updated as i64,
                counts.unchanged as i64,
                counts.deleted as i64,
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
        self.end()
    }

    fn end(&mut self) -> Result<()> {
        self.connection.execute_batch(if self.in_delivery { "RELEASE hd_file" } else { "COMMIT" })?;
        self.committed = true;
        Ok(())
    }

    /// Rejects that are none any more count as loaded rows of their file.
    fn mend(&self, summary: &FileSummary, counts: Counts) -> Result<()> {
        let mut statement =
            self.connection.prepare_cached("UPDATE hd_rejects SET mended_at = ?2 WHERE reject = ?1")?;
        for reject in &summary.mended {
            statement.execute(params![reject, moment(summary.ended)])?;
        }
        let left_out = counts.left_out.min(summary.loaded);
        self.connection.execute(
            "UPDATE hd_files SET rows_loaded = rows_loaded + ?2, rows_rejected = rows_rejected - ?3,
               rows_left_out = rows_left_out + ?4, rows_inserted = rows_inserted + ?5,
               rows_updated = rows_updated + ?6, rows_unchanged = rows_unchanged + ?7 WHERE file = ?1",
            params![
                self.file,
                (summary.loaded - left_out) as i64,
                summary.mended.len() as i64,
                left_out as i64,
                counts.inserted as i64,
                counts.updated as i64,
                counts.unchanged as i64,
            ],
        )?;
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
        let altered = !table.changes.is_empty();
        match newest {
            Some((version, before, _)) if !altered => {
                if before != text {
                    self.connection.execute(
                        "UPDATE hd_layouts SET layout = ?3 WHERE table_name = ?1 AND version = ?2",
                        params![table.table, version, text],
                    )?;
                }
            }
            newest => {
                let version = newest.map_or(1, |(version, ..)| version + 1);
                self.connection.execute(
                    "INSERT INTO hd_layouts (table_name, version, file, layout) VALUES (?1, ?2, ?3, ?4)",
                    params![table.table, version, self.file, text],
                )?;
            }
        }
        drift::note(self.connection, self.file, &table.table, &table.drift)
    }
}

impl Loader for SqliteLoader<'_> {
    fn rows(&mut self, table: usize, rows: &mut Rows) -> std::result::Result<u64, StoreError> {
        self.insert_rows(table, rows).map_err(|error| fail(self.path, error))
    }

    fn finish(mut self: Box<Self>, summary: &FileSummary) -> std::result::Result<Finished, StoreError> {
        let path = self.path;
        self.inserts.clear();
        let counts = self.merge().map_err(|error| fail(path, error))?;
        self.statements(&self.plan.sql_after, "sql_after")?;
        self.close(summary, counts).map_err(|error| fail(path, error))?;
        Ok(Finished { file: self.file, counts })
    }
}

impl Drop for SqliteLoader<'_> {
    fn drop(&mut self) {
        self.inserts.clear();
        if !self.committed && !self.connection.is_autocommit() {
            // Nothing can be done about a failure here; SQLite undoes the transaction when the
            // file is next opened.
            let undo = if self.in_delivery { "ROLLBACK TO hd_file; RELEASE hd_file" } else { "ROLLBACK" };
            let _ = self.connection.execute_batch(undo);
        }
    }
}
