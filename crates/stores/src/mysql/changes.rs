//! Changes of tables, which the server commits by themselves: they are written into the ledger, made, and
//! only then the transaction begins that holds a file's rows. A load that dies between leaves an emptier or a
//! wider table, which the next load knows of and goes on with.

use hypodoke_core::drift::Change;
use hypodoke_core::types::Type;

use super::connection::MysqlStore;
use super::lacks::{Lack, Pending, is_new, lack_of, lacks_moments, spelled};
use super::native::NativeTable;
use super::tables::create_sql;
use crate::error::StoreError;
use crate::failpoint::failpoint;
use crate::ledger::write;
use crate::load_plan::{LoadPlan, TablePlan};
use crate::sql::{SqlConnection, SqlValue, quote};
use crate::tables::load_target::LoadTarget;
use crate::tables::rebuild::RebuildTarget;

impl MysqlStore {
    /// Makes the tables of a plan what they are to be. No rows of them are on their way.
    pub(super) fn make_changes(&mut self, plan: &LoadPlan) -> Result<(), StoreError> {
        if plan.keeps_for.is_some() {
            return Ok(());
        }
        for table in plan.tables.iter().filter(|table| !table.is_virtual) {
            let known = self.group.as_ref().and_then(|group| group.tables.get(&table.table));
            let found = match known {
                Some(known) => Some(known.clone()),
                None => self.read_table(&table.table)?,
            };
            if let Some(found) = found.as_ref().filter(|found| !found.is_transactional()) {
                return Err(self.keeps_no_transactions(found));
            }
            let is_wanted = match (plan.retracts, &found) {
                _ if !table.keeps_layout => false,
                (true, Some(found)) => lacks_moments(table, found),
                (true, None) => false,
                // Where the ledger will say something new of the table, others wait for it.
                _ => {
                    !table.changes.is_empty()
                        || is_new(table)
                        || lack_of(table, found.as_ref(), &[], &self.ahead) != Lack::Nothing
                }
            };
            if is_wanted {
                self.change_locked(table, !plan.retracts)?;
            }
        }
        Ok(())
    }

    /// Makes the changes that were put off.
    pub(super) fn make_due_changes(&mut self) -> Result<(), StoreError> {
        for table in std::mem::take(&mut self.due) {
            // It may rest on what an earlier file of the group makes of the layout, which is not in the ledger yet.
            match self.change_locked(&table, false) {
                // It is planned anew.
                Err(StoreError::Changed { .. }) => {}
                Err(error) => return Err(error),
                Ok(()) => self.ahead.push(table),
            }
        }
        Ok(())
    }

    /// Makes a change, once nobody else does. The lock is held until the file's transaction is over: by then
    /// the ledger says what the table is. `checks_layout` says whether it must be the layout that the plan is based on.
    fn change_locked(&mut self, table: &TablePlan, checks_layout: bool) -> Result<(), StoreError> {
        self.wait_for_lock("table", &table.table)?;
        // Whoever had the lock before may have made the ledger say something else.
        if checks_layout {
            write::check_layout(self.ledger(), table)?;
        }
        let pending = self.pending_changes(&table.table)?;
        let found = self.read_table(&table.table)?;
        let lack = lack_of(table, found.as_ref(), &pending, &self.ahead);
        if lack == Lack::Nothing {
            return Ok(());
        }
        if lack == Lack::Changed {
            return Err(StoreError::Changed { table: table.table.clone() });
        }
        let is_in_group = self.group.is_some();
        if self.group.as_ref().is_some_and(|group| group.is_dirty) {
            // What the group holds would be committed with the change, or be waited for by it: it is made
            // before the next transaction, and the group is loaded again.
            self.due.push(table.clone());
            return Err(StoreError::Changed { table: table.table.clone() });
        }
        if is_in_group {
            // Nothing is in it, and its claims stay.
            self.run_script("COMMIT")?;
        }
        let done = self.change(table, lack, pending.is_empty());
        if is_in_group {
            self.run_script("START TRANSACTION")?;
        }
        if let Some(group) = &mut self.group {
            group.is_dirty = false;
            group.tables.clear();
        }
        done
    }

    /// Writes a change down and makes it. `is_first` says that no other of the table is pending.
    fn change(&mut self, table: &TablePlan, lack: Lack, is_first: bool) -> Result<(), StoreError> {
        let (name, create) = (quote(&table.table), create_sql(table, &self.facts));
        let (noted, sql) = match lack {
            Lack::Nothing | Lack::Changed => return Ok(()),
            Lack::Table => (vec![(String::new(), String::new())], create),
            // Rows in it are somebody's, and it is theirs by now.
            Lack::TableAnew if self.count_of(&table.table, 1)? > 0 => {
                return Err(StoreError::Changed { table: table.table.clone() });
            }
            Lack::TableAnew => (Vec::new(), format!("DROP TABLE {name}; {create}")),
            Lack::Parts(parts, columns) => {
                (columns, format!("ALTER TABLE {name}\n  {}", parts.join(",\n  ")))
            }
        };
        self.note_changes(&table.table, &noted)?;
        failpoint!("table_change.noted");
        let made = self.run_script(&sql).map_err(of_table);
        failpoint!("table_change.made");
        match &made {
            Ok(()) if sql.contains("CREATE TABLE") => self.made.push(table.table.clone()),
            // A statement that is refused has changed nothing.
            Err(StoreError::Refused { .. } | StoreError::Denied { .. }) if is_first => {
                self.forget_changes(&table.table)?;
            }
            _ => {}
        }
        made
    }

    fn forget_changes(&mut self, table: &str) -> Result<(), StoreError> {
        let sql = "DELETE FROM hd_table_changes WHERE table_name = ?1";
        self.execute(sql, &[SqlValue::from(table)]).map(drop)
    }

    /// The changes of a table that were written down and belong to no load that was finished.
    fn pending_changes(&mut self, table: &str) -> Result<Vec<Pending>, StoreError> {
        let sql = "SELECT column_name, to_type FROM hd_table_changes WHERE table_name = ?1";
        let connection: &mut dyn SqlConnection = self;
        connection.entries(sql, &[SqlValue::from(table)], |row| {
            Ok(Pending { column: row.text(0)?, to: row.text(1)? })
        })
    }

    /// A table as loads have left it that came to their end: what others have changed in it is not there yet.
    pub(super) fn finished_table(&mut self, name: &str) -> Result<Option<NativeTable>, StoreError> {
        let Some(mut found) = self.read_table(name)? else { return Ok(None) };
        if !found.lineage.is_kept() || !self.records().has_ledger()? {
            return Ok(Some(found));
        }
        let layout = self.records().layout(name)?.map(|entry| entry.layout);
        let pending = self.pending_changes(name)?;
        let is_made = pending.iter().any(|change| change.column.is_empty());
        match layout {
            None if is_made && self.count_of(name, 1)? == 0 => return Ok(None),
            None => {}
            Some(layout) => {
                let is_pending = |name: &str| pending.iter().any(|change| change.column == name);
                found.columns.retain(|column| {
                    let name = &column.column.name;
                    layout.columns.iter().any(|known| known.name == *name) || !is_pending(name)
                });
                found.take_in(&layout);
            }
        }
        Ok(Some(found))
    }

    /// Drops tables that were made for files none of which was loaded. What cannot be dropped now is known to
    /// be no table yet, and the next load goes on with it.
    pub(super) fn drop_unused(&mut self) {
        for table in std::mem::take(&mut self.made) {
            let _ = self.drop_if_unused(&table);
        }
        let _ = self.let_go();
    }

    fn drop_if_unused(&mut self, table: &str) -> Result<(), StoreError> {
        if !self.try_lock("table", table)?
            || self.records().layout(table)?.is_some()
            || self.count_of(table, 1)? > 0
        {
            return Ok(());
        }
        if self.pending_changes(table)?.iter().any(|change| change.column.is_empty()) {
            self.run_script(&format!("DROP TABLE {}", quote(table)))?;
            self.forget_changes(table)?;
        }
        Ok(())
    }

    fn note_changes(&mut self, table: &str, columns: &[(String, String)]) -> Result<(), StoreError> {
        let sql = "INSERT INTO hd_table_changes (table_name, column_name, to_type, made_at) VALUES (?1, ?2, ?3, ?4)";
        let now = std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH);
        let now = now.map_or(0, |now| i64::try_from(now.as_micros()).unwrap_or(i64::MAX));
        for (column, to) in columns {
            let parameters =
                [SqlValue::from(table), SqlValue::from(column), SqlValue::from(to), SqlValue::Moment(now)];
            self.execute(sql, &parameters)?;
        }
        Ok(())
    }

    /// Takes the changes of a plan's tables out of those that are pending, in the transaction of its rows.
    pub(super) fn confirm_changes(&mut self, plan: &LoadPlan) -> Result<(), StoreError> {
        for table in plan.tables.iter().filter(|table| table.keeps_layout && !table.is_virtual) {
            let name = self.lock_name("table", &table.table);
            // Only who has made some, or might, has the lock.
            if self.locks.contains(&name) {
                self.forget_changes(&table.table)?;
                self.made.retain(|made| *made != table.table);
            }
        }
        Ok(())
    }

    /// Writes values of columns that became texts as they are spelled elsewhere, in the transaction of the
    /// rows: until then, the columns can become what they were.
    pub(super) fn respell(&mut self, table: &TablePlan) -> Result<(), StoreError> {
        let name = quote(&table.table);
        for change in &table.changes {
            let Change::Widened { column, from, to: Type::Text } = change else { continue };
            let column = quote(column);
            if let Some(spelled) = spelled(&column, *from) {
                self.run(&format!("UPDATE {name} SET {column} = {spelled} WHERE {column} IS NOT NULL"))?;
            }
        }
        Ok(())
    }

    fn keeps_no_transactions(&self, table: &NativeTable) -> StoreError {
        let (name, engine) = (quote(&table.name), table.engine.clone().unwrap_or_default());
        let why = format!(
            "the table {name} is kept by {engine}, which undoes nothing: a load that fails would leave half a file in it; ALTER TABLE {name} ENGINE=InnoDB makes it one that files can be loaded into"
        );
        StoreError::Refused { shown: self.shown.clone(), why }
    }
}

/// An error that is about a table, and about no row.
fn of_table(error: StoreError) -> StoreError {
    match error {
        StoreError::RowRefused { shown, why } => StoreError::Refused { shown, why },
        other => other,
    }
}
