//! Files loaded into SQLite: table changes, rows, rejects and the ledger's entry in one transaction, which has
//! the database to itself.

use std::ops::Range;

use hypodoke_core::names::Lineage;
use rusqlite::Result;

use super::bulk::{BulkInsert, Stepped};
use super::connection::{SqliteStore, data_version};
use super::known_tables::KnownTables;
use super::tables::{self, alter, create_sql};
use crate::error::StoreError;
use crate::load_plan::{Counts, LoadPlan, Mode, TablePlan};
use crate::sql::{SqlConnection, moment_text, quote};
use crate::tables::Capabilities;
use crate::tables::link::LedgerLink;
use crate::tables::load_target::{LoadTarget, RowsOfFile, Sent};
use crate::tables::merge::{Merge, SEQUENCE};
use crate::tables::rebuild::RebuildTarget;
use crate::tables::target_table::TargetTable;

impl LoadTarget for SqliteStore {
    type Form = BulkInsert;

    const REFUSES_ROWS_ONE_BY_ONE: bool = true;

    fn link(&self) -> &LedgerLink {
        &self.link
    }

    fn link_mut(&mut self) -> &mut LedgerLink {
        &mut self.link
    }

    fn promises(&self) -> Capabilities {
        Capabilities {
            ledger_with_rows: true,
            table_changes_with_rows: true,
            groups: true,
            many_writers: false,
            modes: Mode::ALL,
            takes_nul: true,
            // SQLITE_MAX_COLUMN as SQLite is built here.
            most_columns: 2000,
        }
    }

    fn group_began(&mut self) {
        self.known_tables = KnownTables::default();
    }

    fn begin_reading(&mut self) -> std::result::Result<(), StoreError> {
        // Tables are only read: nobody who writes is waited for.
        self.script("BEGIN")
    }

    /// What is loaded by now was loaded before the transaction began.
    fn is_alone(&mut self) -> std::result::Result<bool, StoreError> {
        Ok(!self.link.is_elsewhere() && self.read(data_version)? == self.version_before)
    }

    fn try_lock_files(&mut self, keys: &[String]) -> std::result::Result<Vec<bool>, StoreError> {
        // The transaction has the database to itself.
        Ok(vec![true; keys.len()])
    }

    fn lock_file(&mut self, _: &str, _: bool) -> std::result::Result<bool, StoreError> {
        Ok(true)
    }

    fn lock_order(&mut self, _: &str) -> std::result::Result<(), StoreError> {
        Ok(())
    }

    fn knows_table(&self, table: &TablePlan) -> bool {
        self.is_shared && self.known_tables.has(table)
    }

    fn tables_are_ready(&mut self, plan: &LoadPlan) {
        if self.is_shared {
            self.known_tables.learn(plan);
        }
    }

    fn target_table(
        &mut self,
        table: &TablePlan,
        file: i64,
        stage: Option<String>,
    ) -> std::result::Result<TargetTable<BulkInsert>, StoreError> {
        if !self.knows_table(table) {
            self.shape_table(table)?;
        }
        let staged = stage.is_some();
        let form = self.prepare_insert(table, file, stage).map_err(|error| self.fail(error))?;
        let own = table.layout.columns.iter().map(|column| column.name.clone());
        let columns = own.chain(table.lineage.columns().iter().map(|name| (*name).to_owned())).collect();
        Ok(TargetTable { form, columns, staged, sent: 0, missing: 0 })
    }

    fn lineage_of(&mut self, table: &str) -> std::result::Result<Option<Lineage>, StoreError> {
        let found = self.read(|connection| tables::shape(connection, table))?;
        Ok(found.map(|shape| shape.lineage))
    }

    fn send(
        &mut self,
        _: usize,
        target: &mut TargetTable<BulkInsert>,
        of_file: RowsOfFile<'_>,
        range: Range<usize>,
    ) -> std::result::Result<Sent, StoreError> {
        let RowsOfFile { lineage, rows, .. } = of_file;
        let mut sent = Sent::default();
        for index in range {
            match target.form.insert(rows, index, lineage).map_err(|error| self.fail(error))? {
                Stepped::In => sent.taken += 1,
                Stepped::LeftOut => {
                    sent.taken += 1;
                    target.missing += 1;
                }
                Stepped::Refused(why) => sent.refused.push((index, why)),
            }
        }
        target.sent += sent.taken;
        Ok(sent)
    }

    fn run_statements(&mut self, statements: &str) -> std::result::Result<(), StoreError> {
        self.keep_pragmas()?;
        self.connection.execute_batch(statements).map_err(|error| self.fail(error))
    }

    fn restore_session(&mut self) -> std::result::Result<(), StoreError> {
        self.restore_pragmas()
    }

    fn merge_table(
        &mut self,
        merge: &Merge,
        table: &TablePlan,
        staged: &TargetTable<BulkInsert>,
        moment: &str,
    ) -> std::result::Result<Counts, StoreError> {
        let doubles = self.statement(&merge.drop_doubles())?;
        let rows = staged.sent.saturating_sub(doubles);
        Ok(match table.mode {
            Mode::InsertNew => {
                let inserted = self.statement(&merge.insert_new())?;
                Counts { inserted, left_out: doubles + rows.saturating_sub(inserted), ..Counts::default() }
            }
            Mode::History => {
                let updated = self.statement(&merge.end_versions(moment))?;
                let added = self.statement(&merge.begin_versions(moment))?;
                let (inserted, unchanged) = (added.saturating_sub(updated), rows.saturating_sub(added));
                Counts { inserted, updated, unchanged, left_out: doubles, ..Counts::default() }
            }
            _ => {
                let updated = self.statement(&merge.update())?;
                let inserted = self.statement(&merge.insert_new())?;
                // A table of others may hold a key more than once: more rows are updated then than were sent.
                let unchanged = rows.saturating_sub(updated + inserted);
                Counts { inserted, updated, unchanged, left_out: doubles, ..Counts::default() }
            }
        })
    }

    fn moment_literal(&self, micros: i64) -> String {
        format!("'{}'", moment_text(micros))
    }
}

impl SqliteStore {
    /// Prepares the INSERT of a table, or of the stage that its rows come to first.
    fn prepare_insert(&self, table: &TablePlan, file: i64, stage: Option<String>) -> Result<BulkInsert> {
        let names = table.layout.columns.iter().map(|column| quote(&column.name));
        let lineage = table.lineage.columns().iter().map(|name| quote(name));
        let all: Vec<String> = names.chain(lineage).collect();
        let marks = vec!["?"; all.len()].join(", ");
        let guarded = stage.is_none() && tables::has_triggers(&self.connection, &table.table)?;
        let into = match stage {
            Some(stage) => {
                self.make_merge_stage(table, &stage)?;
                format!("temp.{stage}")
            }
            None => quote(&table.table),
        };
        let sql = format!("INSERT INTO {into} ({}) VALUES ({marks})", all.join(", "));
        let mut insert = BulkInsert::prepare(&self.connection, &sql, table.layout.columns.len(), guarded)?;
        if table.lineage.is_kept() {
            insert.bind_file(table.layout.columns.len() + 1, file)?;
        }
        Ok(insert)
    }

    /// The table that rows brought in by key come to first.
    fn make_merge_stage(&self, table: &TablePlan, stage: &str) -> Result<()> {
        // Texts are told apart as the table tells them apart.
        let collation = |name: &str| {
            let found = self.collation(&table.table, name);
            found.map_or_else(String::new, |found| format!(" COLLATE {}", quote(&found)))
        };
        let own = table.layout.columns.iter().map(|column| {
            format!("{} {}{}", quote(&column.name), tables::declared(column.ty()), collation(&column.name))
        });
        let lineage = table.lineage.columns().iter().map(|name| format!("{} INTEGER", quote(name)));
        let all: Vec<String> =
            std::iter::once(format!("{SEQUENCE} INTEGER PRIMARY KEY")).chain(own).chain(lineage).collect();
        self.connection.execute_batch(&format!("CREATE TEMP TABLE {stage} ({})", all.join(", ")))
    }

    /// Makes a table what its plan says.
    fn shape_table(&self, table: &TablePlan) -> std::result::Result<(), StoreError> {
        if self.read(|connection| tables::shape(connection, &table.table))?.is_none() {
            self.read(|connection| connection.execute_batch(&create_sql(&table.table, table)))?;
        } else if !table.keeps_layout {
            return Ok(());
        } else if !self.read(|connection| tables::is_as_planned(connection, table))? {
            return Err(StoreError::Changed { table: table.table.clone() });
        } else if let Some(column) = self.read(|connection| tables::kept_from_change(connection, table))? {
            let shown = self.path.display().to_string();
            let why = format!(
                "`{}` has to be written anew, and its column `{column}`, which is worked out by the database, cannot be taken along",
                table.table
            );
            return Err(StoreError::Refused { shown, why });
        } else {
            self.read(|connection| alter(connection, table))?;
        }
        let indexes = table.indexes(&quote(&table.table));
        indexes.iter().try_for_each(|index| self.read(|connection| connection.execute_batch(&index.sql)))
    }
}
