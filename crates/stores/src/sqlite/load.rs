//! One file going into SQLite: table changes, rows, rejects and the ledger's entry in one
//! transaction.

use std::path::Path;

use hypodoke_core::cast::Rows;
use hypodoke_core::names::{FILE_COLUMN, Lineage, VALID_TO_COLUMN};
use rusqlite::{Connection, Result};

use super::bulk::{BulkInsert, Stepped};
use super::session::{SqliteSession, fail};
use super::tables::{self, alter, create_sql};
use crate::error::StoreError;
use crate::ledger::{read, write};
use crate::merge::{Counts, Merge, Mode, SEQUENCE, STAGE, index_name};
use crate::plan::{FileSummary, Finished, LoadPlan, TablePlan};
use crate::sink::Writer;
use crate::sql::{Scope, SqlConnection, moment_text, quote};

/// A file being loaded. Dropped, it rolls everything back.
pub struct SqliteWriter<'a> {
    // Before the transaction, so that the statements are gone when that is rolled back; one for
    // each table of the plan, none for a virtual one.
    inserts: Vec<Option<BulkInsert<'a>>>,
    connection: &'a Connection,
    committed: bool,
    plan: &'a LoadPlan,
    path: &'a Path,
    file: i64,
    scope: Scope,
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

impl<'a> SqliteWriter<'a> {
    /// Begins; `None` if the ledger says by now that the file is loaded.
    pub fn begin(
        connection: &'a Connection,
        path: &'a Path,
        plan: &'a LoadPlan,
        in_delivery: bool,
    ) -> std::result::Result<Option<SqliteWriter<'a>>, StoreError> {
        // The transaction is ended by hand, in `finish` or in `drop`: a guard could not live
        // beside what borrows from it.
        let scope = Scope::of_file(in_delivery);
        SqliteSession { connection, path, in_transaction: true }.begin(scope)?;
        let mut writer = SqliteWriter {
            inserts: Vec::new(),
            connection,
            committed: false,
            plan,
            path,
            file: 0,
            scope,
            deleted: 0,
            sent: vec![0; plan.tables.len()],
            by_trigger: vec![0; plan.tables.len()],
        };
        if write::is_loaded(&mut writer.session(), plan)? {
            return Ok(None);
        }
        let failed = |error| fail(path, error);
        for table in plan.tables.iter().filter(|_| !plan.retracts) {
            writer.shape_table(table).map_err(failed)?;
        }
        writer.file = write::begin_file(&mut writer.session(), plan)?;
        if let Some(replaced) = plan.replaces {
            writer.take_out(replaced)?;
        }
        if plan.first_of_delivery {
            writer.empty().map_err(failed)?;
        }
        for table in &plan.tables {
            let is_filled = !table.is_virtual && !plan.retracts;
            let insert = is_filled.then(|| writer.prepare(table)).transpose().map_err(failed)?;
            writer.inserts.push(insert);
        }
        writer.statements(&plan.sql_before, "sql_before")?;
        Ok(Some(writer))
    }

    /// The ledger's way to the connection, in this transaction.
    fn session(&self) -> SqliteSession<'a> {
        SqliteSession { connection: self.connection, path: self.path, in_transaction: true }
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
                let began = format!("'{}'", moment_text(self.plan.began));
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
    fn take_out(&mut self, replaced: i64) -> std::result::Result<(), StoreError> {
        let main = self.plan.tables.first().filter(|main| !main.is_virtual);
        let mode = main.map_or(Mode::Append, |main| main.mode);
        let main = main.map(|main| main.table.clone());
        let parts = read::parts(&mut self.session(), replaced)?.into_iter().map(|part| part.table);
        for table in main.into_iter().chain(parts) {
            self.take_out_of(&table, mode, replaced).map_err(|error| fail(self.path, error))?;
        }
        write::replace_file(&mut self.session(), replaced, self.file)
    }

    fn take_out_of(&mut self, table: &str, mode: Mode, replaced: i64) -> Result<()> {
        if tables::shape(self.connection, table)?.is_some_and(|shape| shape.lineage.is_kept()) {
            let sql = format!("DELETE FROM {} WHERE {} = ?1", quote(table), quote(FILE_COLUMN));
            self.deleted += self.connection.execute(&sql, [replaced])? as u64;
        }
        if mode == Mode::History {
            // The versions that it had ended are current again.
            let sql = format!(
                "UPDATE {} SET {VALID_TO_COLUMN} = NULL WHERE {VALID_TO_COLUMN} = (SELECT began_at FROM hd_files WHERE file = ?1)",
                quote(table)
            );
            self.connection.execute(&sql, [replaced])?;
        }
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
        Ok(loaded)
    }
}

impl Writer for SqliteWriter<'_> {
    fn rows(&mut self, table: usize, rows: &mut Rows) -> std::result::Result<u64, StoreError> {
        let loaded = self.insert_rows(table, rows).map_err(|error| fail(self.path, error))?;
        write::add_rejects(&mut self.session(), self.plan, self.file, &rows.rejects)?;
        Ok(loaded)
    }

    fn finish(mut self: Box<Self>, summary: &FileSummary) -> std::result::Result<Finished, StoreError> {
        let path = self.path;
        self.inserts.clear();
        let counts = self.merge().map_err(|error| fail(path, error))?;
        self.statements(&self.plan.sql_after, "sql_after")?;
        let mut session = self.session();
        write::end_file(&mut session, self.plan, self.file, summary, &counts)?;
        session.commit(self.scope)?;
        self.committed = true;
        Ok(Finished { file: self.file, counts })
    }
}

impl Drop for SqliteWriter<'_> {
    fn drop(&mut self) {
        self.inserts.clear();
        if !self.committed && !self.connection.is_autocommit() {
            // Nothing can be done about a failure here; SQLite undoes the transaction when the
            // file is next opened.
            let _ = self.session().rollback(self.scope);
        }
    }
}
