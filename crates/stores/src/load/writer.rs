//! A file being loaded, as far as it has come.

use hypodoke_core::cast::Rows;
use hypodoke_core::names::FILE_COLUMN;

use super::{LoadTarget, RowsOfFile, TargetTable};
use crate::carry::{self, Carried};
use crate::course::{self, Course, Placed};
use crate::error::StoreError;
use crate::kept::Packer;
use crate::ledger::{kept, read, write};
use crate::merge::{Counts, stage_of};
use crate::mode::Mode;
use crate::plan::{FileSummary, Finished, LoadPlan};
use crate::sink::Writer;
use crate::sql::Scope;

/// A file being loaded. Dropped, it rolls everything back.
pub struct SqlWriter<'a, T: LoadTarget> {
    pub(super) store: &'a mut T,
    pub(super) plan: &'a LoadPlan,
    pub(super) file: i64,
    pub(super) targets: Vec<Option<TargetTable<T::Form>>>,
    /// The table that rows are on their way to.
    sending_to: Option<usize>,
    pub(super) deleted: u64,
    scope: Scope,
    done: bool,
    /// Where the file stands, and the course that its rows take.
    pub(super) placed: Placed,
    /// What keeps the rows, where they are.
    packer: Option<Packer>,
    /// The first of the blocks that are kept of it now.
    since: i64,
    /// What became of the corrected rows of the version before.
    carried: Carried,
    /// How many keys there were in the table in hand, and in all, before a full delivery.
    pub(super) there_before: u64,
    pub(super) there: u64,
    /// Too many of them are gone.
    pub(super) too_many: bool,
}

impl<'a, T: LoadTarget> SqlWriter<'a, T> {
    /// Begins; `None` if the ledger says by now that the file is loaded.
    pub fn begin(store: &'a mut T, plan: &'a LoadPlan) -> Result<Option<SqlWriter<'a, T>>, StoreError> {
        let scope = Scope::of_file(store.is_in_transaction());
        refuse_statements(store, plan)?;
        store.before_load(plan)?;
        store.begin(scope)?;
        let mut writer = SqlWriter {
            store,
            plan,
            file: 0,
            targets: Vec::new(),
            sending_to: None,
            deleted: 0,
            scope,
            done: false,
            placed: Placed::default(),
            packer: None,
            since: 0,
            carried: Carried::default(),
            there_before: 0,
            there: 0,
            too_many: false,
        };
        // The order of the table first: whoever has it loads files one after another.
        if plan.mode() != Mode::Append {
            writer.store.lock_order(plan.table())?;
        }
        let is_known = writer.store.is_known(plan);
        if !is_known {
            writer.store.lock_file(plan)?;
        }
        if let Some(file) = plan.keeps_for {
            writer.file = file;
            writer.packer = Some(Packer::new(file, plan.tables.len(), 0));
            return Ok(Some(writer));
        }
        if !is_known && write::is_loaded(writer.store, plan)? {
            return Ok(None);
        }
        writer.placed = match is_known && plan.mode() == Mode::Append {
            true => course::place_new(plan),
            false => course::place(writer.store, plan)?,
        };
        writer.begin_tables()?;
        Ok(Some(writer))
    }

    /// Writes the entry, and makes the tables ready.
    fn begin_tables(&mut self) -> Result<(), StoreError> {
        let plan = self.plan;
        self.file = write::begin_file(self.store, plan, &self.placed.order)?;
        if self.placed.keeps {
            self.since = kept::next_block(self.store, self.file)?;
            self.packer = Some(Packer::new(self.file, plan.tables.len(), self.since));
        }
        for (at, table) in plan.tables.iter().enumerate() {
            let is_filled = !table.is_virtual && !plan.retracts;
            let stage = (table.mode.has_key() && self.is_direct()).then(|| stage_of(at));
            let target = if is_filled { Some(self.store.target_table(table, stage)?) } else { None };
            if !plan.retracts {
                write::check_layout(self.store, table)?;
            }
            course::mark_gone(self.store, table)?;
            self.targets.push(target);
        }
        if let Some(replaced) = plan.replaces {
            self.take_out(replaced)?;
        }
        if self.placed.course == (Course::Direct { empties: true }) {
            self.empty()?;
        }
        self.statements(&plan.sql_before, "sql_before")
    }

    /// Whether rows go straight into their tables.
    pub(super) fn is_direct(&self) -> bool {
        matches!(self.placed.course, Course::Direct { .. })
    }

    /// Takes the rows of an earlier version of the file out, from every table it filled.
    fn take_out(&mut self, replaced: i64) -> Result<(), StoreError> {
        let is_direct = self.is_direct();
        carry::set_aside(self.store, self.plan, replaced, is_direct)?;
        let main = self.plan.tables.first().filter(|main| !main.is_virtual);
        let main = main.map(|main| main.table.clone());
        let parts = read::parts(self.store, replaced)?;
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
        write::replace_file(self.store, replaced, self.file)
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

    fn statements(&mut self, statements: &[String], setting: &'static str) -> Result<(), StoreError> {
        for statement in statements {
            let done = self.store.run_statements(statement);
            done.map_err(|why| StoreError::Statement { setting, statement: statement.clone(), why })?;
        }
        Ok(())
    }

    fn insert_rows(&mut self, table: usize, rows: &mut Rows) -> Result<u64, StoreError> {
        let mode = self.plan.tables.get(table).map_or(Mode::Append, |table| table.mode);
        let sent = if !self.is_direct() && mode != Mode::Append {
            rows.len() as u64
        } else if self.targets[table].is_none() {
            0
        } else if self.plan.careful {
            self.send_carefully(table, rows)?
        } else {
            self.send(table, rows)?
        };
        if !rows.rejects.is_empty() {
            self.end_sending()?;
            write::add_rejects(self.store, self.plan, self.file, &rows.rejects)?;
        }
        if let (Some(packer), Some(plan)) = (&mut self.packer, self.plan.tables.get(table)) {
            packer.add(table, plan, rows)?;
            if packer.is_full() {
                self.write_kept()?;
            }
        }
        Ok(sent)
    }

    fn send(&mut self, table: usize, rows: &Rows) -> Result<u64, StoreError> {
        if self.sending_to.is_some_and(|at| at != table) {
            self.end_sending()?;
        }
        let lineage = self.plan.tables[table].lineage;
        let Some(target) = &mut self.targets[table] else { return Ok(0) };
        self.sending_to = Some(table);
        let of_file = RowsOfFile { file: self.file, lineage, rows };
        self.store.send(table, target, of_file, 0..rows.len())
    }

    /// Ends what is on its way, so that the connection takes other statements.
    pub(super) fn end_sending(&mut self) -> Result<(), StoreError> {
        self.sending_to = None;
        if let Some((at, missing)) = self.store.end_sending()?
            && let Some(target) = &mut self.targets[at]
        {
            target.missing += missing;
        }
        Ok(())
    }

    fn write_kept(&mut self) -> Result<(), StoreError> {
        self.end_sending()?;
        match &mut self.packer {
            Some(packer) => packer.write(self.store, &self.plan.tables),
            None => Ok(()),
        }
    }

    /// Keeps the rows, and does nothing else with them.
    fn finish_keeping(&mut self) -> Result<Finished, StoreError> {
        if let Some(packer) = &mut self.packer {
            packer.finish(self.store, &self.plan.tables)?;
        }
        kept::set_kept(self.store, self.file)?;
        self.store.commit(self.scope)?;
        self.done = true;
        Ok(Finished { file: self.file, ..Finished::default() })
    }

    /// Brings the rows into the tables, whichever course they took.
    fn bring_in(&mut self, summary: &FileSummary) -> Result<(Counts, bool), StoreError> {
        let (is_direct, packer) = (self.is_direct(), self.packer.as_mut());
        self.carried = carry::carry_over(self.store, self.plan, self.file, is_direct, packer, summary)?;
        self.deleted = self.deleted.saturating_sub(self.carried.rows);
        if let Some(packer) = &mut self.packer {
            packer.finish(self.store, &self.plan.tables)?;
            kept::set_kept(self.store, self.file)?;
        }
        if let Some(key) = &summary.order {
            self.placed.order.key.clone_from(key);
            kept::set_order(self.store, self.file, &self.placed.order)?;
        }
        let is_known = summary.order.is_none() || !self.is_direct();
        if !is_known && !course::still_direct(self.store, self.plan, self.file, &self.placed.order)? {
            self.drop_stages()?;
            self.placed.course = Course::ByKept;
        }
        let (mut counts, superseded) = match self.placed.course {
            Course::Direct { .. } => (self.merge()?, false),
            Course::ByKept => course::rebuild_tables(self.store, self.plan, self.file, self.since, summary)?,
        };
        if self.too_many {
            let (table, vanished) = (self.plan.table().to_owned(), counts.vanished);
            return Err(StoreError::TooManyVanished { table, vanished, there: self.there });
        }
        if let Some(replaced) = self.plan.replaces.filter(|_| self.plan.mode() != Mode::Append) {
            kept::forget(self.store, replaced)?;
        }
        (counts.carried, counts.uncorrected) = (self.carried.kept, self.carried.lost);
        Ok((counts, superseded))
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

impl<T: LoadTarget> Writer for SqlWriter<'_, T> {
    fn rows(&mut self, table: usize, rows: &mut Rows) -> Result<u64, StoreError> {
        self.store.refuse_unstorable(rows);
        self.insert_rows(table, rows)
    }

    fn finish(mut self: Box<Self>, summary: &FileSummary) -> Result<Finished, StoreError> {
        self.end_sending()?;
        if self.plan.keeps_for.is_some() {
            return self.finish_keeping();
        }
        let (counts, superseded) = self.bring_in(summary)?;
        // What the user's own statements may see of the ledger is what it will say.
        let mut later = self.store.take_layouts();
        let ended = write::end_file(self.store, self.plan, self.file, summary, &counts, later.as_mut());
        self.store.put_layouts(later);
        ended?;
        carry::count(self.store, self.file, self.carried)?;
        self.store.keep_changes(self.plan)?;
        self.statements(&self.plan.sql_after, "sql_after")?;
        self.store.commit(self.scope)?;
        self.done = true;
        Ok(Finished { file: self.file, counts, superseded })
    }
}

impl<T: LoadTarget> Drop for SqlWriter<'_, T> {
    fn drop(&mut self) {
        if self.done {
            return;
        }
        // If the connection is gone, the server undoes it by itself.
        self.store.give_up_sending();
        let _ = self.store.rollback(self.scope);
        self.store.undo_changes(self.plan);
    }
}
