//! The start of a load: its number, its place in the order of files, and its tables made ready.

use hypodoke_core::names::FILE_COLUMN;

use super::FileWriter;
use crate::error::StoreError;
use crate::failpoint::failpoint;
use crate::ledger::{files_in_force, intents, read, write};
use crate::load_plan::{LoadPlan, Mode};
use crate::sql::Scope;
use crate::tables::load_target::LoadTarget;
use crate::tables::merge::stage_of;
use crate::tables::placement::{self, Route};
use crate::tables::row_archive::Packer;
use crate::tables::{claims, commit};

impl<'a, T: LoadTarget> FileWriter<'a, T> {
    /// Begins; `None` if the ledger says by now that the file is loaded.
    pub fn begin(store: &'a mut T, plan: &'a LoadPlan) -> Result<Option<FileWriter<'a, T>>, StoreError> {
        let scope = Scope::of_file(store.is_shared());
        refuse_statements(store, plan)?;
        store.before_load(plan)?;
        commit::begin(store, scope)?;
        failpoint!("load.begun");
        let mut writer = FileWriter::new(store, plan, scope);
        // The order of the table first: whoever has it loads files one after another.
        if plan.mode() != Mode::Append {
            writer.store.lock_order(plan.table())?;
        }
        let is_known =
            writer.store.claims_suffice() && claims::is_claimed(writer.store.link().group.as_ref(), plan);
        if !is_known {
            claims::lock_file(writer.store, plan)?;
        }
        commit::settle_intents(writer.store, Some(plan.table()))?;
        if let Some(file) = plan.keeps_for {
            writer.file = file;
            writer.packer = Some(Packer::new(file, plan.tables.len(), 0));
            return Ok(Some(writer));
        }
        if !is_known && claims::is_loaded(writer.store, plan)? {
            return Ok(None);
        }
        writer.placed = match is_known && plan.mode() == Mode::Append {
            true => placement::place_new(plan),
            false => placement::place(writer.store.ledger(), plan)?,
        };
        writer.begin_tables()?;
        Ok(Some(writer))
    }

    /// Writes the entry, and makes the tables ready.
    fn begin_tables(&mut self) -> Result<(), StoreError> {
        let plan = self.plan;
        if let Some(file) = plan.resubmits {
            self.counts_before = intents::counts_of(self.store.ledger(), file)?;
        }
        self.file = write::begin_file(self.store.ledger(), plan, &self.placed.order)?;
        failpoint!("load.entry");
        if self.placed.keeps {
            self.since = files_in_force::next_block(self.store.archive(), self.file)?;
            self.packer = Some(Packer::new(self.file, plan.tables.len(), self.since));
        }
        for (at, table) in plan.tables.iter().enumerate() {
            let is_filled = !table.is_virtual && !plan.retracts;
            let stage = (table.mode.has_key() && self.is_direct()).then(|| stage_of(at));
            let is_known = self.store.knows_table(table);
            let file = self.file;
            let target = if is_filled { Some(self.store.target_table(table, file, stage)?) } else { None };
            if !plan.retracts && !is_known {
                write::check_layout(self.store.ledger(), table)?;
            }
            if !is_known {
                placement::mark_gone(self.store, table)?;
            }
            self.targets.push(target);
        }
        self.store.tables_are_ready(plan);
        failpoint!("load.tables");
        if let Some(replaced) = plan.replaces {
            self.take_out(replaced)?;
        }
        if self.placed.route == (Route::Direct { empties: true }) {
            self.empty()?;
        }
        failpoint!("load.emptied");
        self.statements(&plan.sql_before, "sql_before")
    }

    /// Takes the rows of an earlier version of the file out, from every table it filled directly; from the
    /// others they go when these are rebuilt.
    fn take_out(&mut self, replaced: i64) -> Result<(), StoreError> {
        let main = self.plan.tables.first().filter(|main| !main.is_virtual);
        let main = main.map(|main| main.table.clone());
        let parts = read::parts(self.store.ledger(), replaced)?;
        for table in main.into_iter().chain(parts.into_iter().map(|part| part.table)) {
            if !self.is_direct() && !self.plan.appends_to(&table) {
                continue;
            }
            if self.store.lineage_of(&table)?.is_some_and(|lineage| lineage.is_kept()) {
                let name = self.store.table_sql(&table);
                let sql = format!("DELETE FROM {name} WHERE {FILE_COLUMN} = {replaced}");
                self.deleted += self.store.statement(&sql)?;
            }
        }
        write::replace_file(self.store.ledger(), replaced, self.file)
    }

    /// Takes all rows out of the tables that hold one delivery at a time.
    fn empty(&mut self) -> Result<(), StoreError> {
        for table in self.plan.tables.iter().filter(|table| table.mode == Mode::Replace && !table.is_virtual)
        {
            // Not TRUNCATE: readers see the old rows until this is committed.
            let name = self.store.table_sql(&table.table);
            self.deleted += self.store.statement(&format!("DELETE FROM {name}"))?;
        }
        Ok(())
    }
}

/// Refuses statements of the user's own that cannot be part of a load.
fn refuse_statements<T: LoadTarget>(store: &T, plan: &LoadPlan) -> Result<(), StoreError> {
    let before = plan.sql_before.iter().map(|statement| (statement, "sql_before"));
    let after = plan.sql_after.iter().map(|statement| (statement, "sql_after"));
    for (statement, setting) in before.chain(after) {
        if let Some(why) = store.refused_statement(statement, setting == "sql_before") {
            return Err(StoreError::Statement { setting, statement: statement.clone(), why });
        }
    }
    Ok(())
}
