//! Files loaded into MySQL and MariaDB: rows, rejects and the ledger's entry in one transaction, what has to
//! be changed in tables before it.

use std::ops::Range;

use hypodoke_core::names::Lineage;

use super::connection::MysqlStore;
use super::group_tables::GroupTables;
use super::session::moment_text;
use super::statements;
use super::stream::Form;
use crate::error::StoreError;
use crate::load_plan::Counts;
use crate::load_plan::Mode;
use crate::load_plan::{LoadPlan, TablePlan};
use crate::tables::Capabilities;
use crate::tables::link::LedgerLink;
use crate::tables::load_target::{LoadTarget, RowsOfFile, Sent};
use crate::tables::merge::Merge;
use crate::tables::target_table::TargetTable;

/// The mode of SQL that statements of the user's own are written in: the server's.
const THEIR_MODE: &str = "SET SESSION sql_mode = @@GLOBAL.sql_mode";

/// A mark in the transaction, which is gone if a statement has ended it.
const MARK: &str = "hd_mark";

impl LoadTarget for MysqlStore {
    type Form = Form;

    fn link(&self) -> &LedgerLink {
        &self.link
    }

    fn link_mut(&mut self) -> &mut LedgerLink {
        &mut self.link
    }

    fn promises(&self) -> Capabilities {
        Capabilities {
            ledger_with_rows: true,
            table_changes_with_rows: false,
            groups: true,
            many_writers: true,
            modes: Mode::ALL,
            takes_nul: true,
            // InnoDB keeps 1,017, those of ours among them.
            most_columns: 1010,
        }
    }

    fn before_group(&mut self) -> Result<(), StoreError> {
        self.make_due_changes()
    }

    fn group_began(&mut self) {
        self.group = Some(GroupTables::default());
    }

    fn after_group(&mut self, is_kept: bool) -> Result<(), StoreError> {
        self.group = None;
        if is_kept {
            self.ahead.clear();
        }
        self.drop_unused();
        Ok(())
    }

    /// Where several servers hold the same, a claim is marked once more in the transaction.
    fn claims_suffice(&self) -> bool {
        !self.facts.is_cluster
    }

    fn try_lock_files(&mut self, keys: &[String]) -> Result<Vec<bool>, StoreError> {
        self.try_locks("file", keys)
    }

    fn lock_file(&mut self, key: &str, waits: bool) -> Result<bool, StoreError> {
        if waits {
            return self.wait_for_lock("file", key).map(|()| true);
        }
        let is_ours = self.try_lock("file", key)?;
        if is_ours {
            self.mark_claim("file", key)?;
        }
        Ok(is_ours)
    }

    fn before_load(&mut self, plan: &LoadPlan) -> Result<(), StoreError> {
        // In the same order everywhere, so that no two wait for each other.
        if plan.mode() != Mode::Append {
            self.wait_for_lock("order of the table", plan.table())?;
        }
        if self.group.is_none() {
            self.due.clear();
        }
        let made = self.make_changes(plan);
        if made.is_err() && self.group.is_none() {
            self.drop_unused();
        }
        made
    }

    fn lock_order(&mut self, table: &str) -> Result<(), StoreError> {
        self.wait_for_lock("order of the table", table)?;
        // The lock may be from before the transaction; the claim has to be in it.
        self.mark_claim("order of the table", table)
    }

    fn target_table(
        &mut self,
        table: &TablePlan,
        _: i64,
        stage: Option<String>,
    ) -> Result<TargetTable<Form>, StoreError> {
        self.ready_table(table, stage)
    }

    fn lineage_of(&mut self, table: &str) -> Result<Option<Lineage>, StoreError> {
        Ok(self.known_table(table)?.map(|found| found.lineage))
    }

    fn send(
        &mut self,
        at: usize,
        target: &mut TargetTable<Form>,
        rows: RowsOfFile<'_>,
        range: Range<usize>,
    ) -> Result<Sent, StoreError> {
        self.send_rows(at, target, rows, range)
    }

    fn send_checked(
        &mut self,
        _: usize,
        target: &mut TargetTable<Form>,
        rows: RowsOfFile<'_>,
        range: Range<usize>,
    ) -> Result<Sent, StoreError> {
        self.insert_rows(target, rows, range)
    }

    fn end_sending(&mut self) -> Result<Option<(usize, u64)>, StoreError> {
        self.end_stream()
    }

    fn give_up_sending(&mut self) {
        self.give_up_stream();
    }

    fn refused_statement(&self, statements: &str, is_before: bool) -> Option<String> {
        let ending = statements::ending(statements, is_before)?;
        Some(format!(
            "`{ending}` may commit the rows of a file before they are all in: here, statements that make or change tables do"
        ))
    }

    fn run_statements(&mut self, statements: &str) -> Result<(), StoreError> {
        let own_mode = format!("SET SESSION sql_mode = '{}'", super::connection::SQL_MODE);
        let run = |store: &mut MysqlStore| -> Result<(), StoreError> {
            store.run_script(&format!("SAVEPOINT {MARK}; {THEIR_MODE}"))?;
            store.run_script(statements)
        };
        let done = run(self);
        let restored = self.run_script(&own_mode);
        done.and(restored)?;
        self.run_script(&format!("RELEASE SAVEPOINT {MARK}")).map_err(|error| match error {
            StoreError::Refused { shown, .. } => {
                let why = "it ends the transaction that the file's rows are loaded in, as statements that make or change tables do here".to_owned();
                StoreError::Refused { shown, why }
            }
            other => other,
        })
    }

    fn restore_session(&mut self) -> Result<(), StoreError> {
        self.set_session()
    }

    fn give_up_connection(&mut self) {
        self.conn = None;
    }

    fn merge_table(
        &mut self,
        merge: &Merge,
        table: &TablePlan,
        staged: &TargetTable<Form>,
        moment: &str,
    ) -> Result<Counts, StoreError> {
        let doubles = if staged.form.replaces { staged.missing } else { self.drop_doubles(merge)? };
        let rows = staged.sent.saturating_sub(doubles);
        let mut run = |sql: &str| self.run(sql);
        Ok(match table.mode {
            Mode::InsertNew => {
                let inserted = run(&merge.insert_new())?;
                Counts { inserted, left_out: doubles + rows.saturating_sub(inserted), ..Counts::default() }
            }
            Mode::History => {
                let updated = run(&merge.end_versions(moment))?;
                let added = run(&merge.begin_versions(moment))?;
                let (inserted, unchanged) = (added.saturating_sub(updated), rows.saturating_sub(added));
                Counts { inserted, updated, unchanged, left_out: doubles, ..Counts::default() }
            }
            _ => {
                let updated = run(&merge.update())?;
                // Where each of them has changed the one row of its key, none is new.
                let may_be_new = updated < rows || !table.keeps_layout;
                let inserted = if may_be_new { run(&merge.insert_new())? } else { 0 };
                // A table of others may hold a key more than once: more rows are updated then than were sent.
                let unchanged = rows.saturating_sub(updated + inserted);
                Counts { inserted, updated, unchanged, left_out: doubles, ..Counts::default() }
            }
        })
    }

    fn moment_literal(&self, micros: i64) -> String {
        format!("'{}'", moment_text(micros))
    }

    fn keep_changes(&mut self, plan: &LoadPlan) -> Result<(), StoreError> {
        self.confirm_changes(plan)
    }

    fn undo_changes(&mut self, _: &LoadPlan) {
        // Those of a group when it ends. Columns that were added or widened stay, and the next load goes on with
        // them.
        if self.group.is_none() {
            self.drop_unused();
        }
    }
}

impl MysqlStore {
    /// Takes out of a stage what a later row of the same key takes the place of: found in a table of its own,
    /// since a statement opens a temporary table only once.
    fn drop_doubles(&mut self, merge: &Merge) -> Result<u64, StoreError> {
        let (stage, key, number) = (merge.stage(), merge.key().join(", "), crate::tables::merge::SEQUENCE);
        let last = "hd_last";
        self.run_script(&format!(
            "DROP TEMPORARY TABLE IF EXISTS {last};
             CREATE TEMPORARY TABLE {last} (last_row bigint NOT NULL PRIMARY KEY) AS SELECT max({number}) AS last_row FROM {stage} GROUP BY {key}"
        ))?;
        let doubles = self.run(&format!(
            "DELETE s FROM {stage} AS s LEFT JOIN {last} AS l ON l.last_row = s.{number} WHERE l.last_row IS NULL"
        ))?;
        self.run_script(&format!("DROP TEMPORARY TABLE {last}"))?;
        Ok(doubles)
    }
}
