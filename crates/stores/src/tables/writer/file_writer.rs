//! A file being loaded, as far as it has come.

use hypodoke_core::cast::Rows;
use hypodoke_core::names::FILE_COLUMN;

use crate::error::StoreError;
use crate::failpoint::failpoint;
use crate::ledger::intents::{self, EntryCounts, Undo};
use crate::ledger::{files_in_force, read, write};
use crate::load_plan::{Counts, FileSummary, Finished, LoadPlan, Mode};
use crate::sql::Scope;
use crate::tables::corrections::{self, Carried};
use crate::tables::load_target::{LoadTarget, RowsOfFile};
use crate::tables::merge::stage_of;
use crate::tables::placement::{self, Placed, Route};
use crate::tables::row_archive::Packer;
use crate::tables::target_table::TargetTable;
use crate::tables::{Writer, claims, commit};

/// A file being loaded. Dropped, it rolls everything back.
pub struct FileWriter<'a, T: LoadTarget> {
    pub(super) store: &'a mut T,
    pub(super) plan: &'a LoadPlan,
    pub(super) file: i64,
    pub(super) targets: Vec<Option<TargetTable<T::Form>>>,
    /// The table that rows are on their way to.
    sending_to: Option<usize>,
    pub(super) deleted: u64,
    scope: Scope,
    done: bool,
    /// Where the file stands, and the route that its rows take.
    pub(super) placed: Placed,
    /// What keeps the rows, where they are kept.
    packer: Option<Packer>,
    /// The first of the blocks that are kept of it now.
    since: i64,
    /// What became of the corrected rows of the version before.
    carried: Carried,
    /// The counts of the entry before, where the load resubmits rejects of it.
    counts_before: Option<EntryCounts>,
    /// How many keys there were in the table in hand, and in all, before a full delivery.
    pub(super) there_before: u64,
    pub(super) there: u64,
    /// Too many of them are gone.
    pub(super) too_many: bool,
}

impl<'a, T: LoadTarget> FileWriter<'a, T> {
    /// Begins; `None` if the ledger says by now that the file is loaded.
    pub fn begin(store: &'a mut T, plan: &'a LoadPlan) -> Result<Option<FileWriter<'a, T>>, StoreError> {
        let scope = Scope::of_file(store.is_shared());
        refuse_statements(store, plan)?;
        store.before_load(plan)?;
        commit::begin(store, scope)?;
        failpoint!("load.begun");
        let mut writer = FileWriter {
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
            counts_before: None,
            there_before: 0,
            there: 0,
            too_many: false,
        };
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

    /// Whether rows go straight into their tables.
    pub(super) fn is_direct(&self) -> bool {
        matches!(self.placed.route, Route::Direct { .. })
    }

    /// Takes the rows of an earlier version of the file out, from every table it filled directly; from the
    /// others they go when these are rebuilt.
    fn take_out(&mut self, replaced: i64) -> Result<(), StoreError> {
        let is_direct = self.is_direct();
        corrections::set_aside(self.store, self.plan, replaced, is_direct)?;
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
        } else if self.targets.get(table).is_none_or(Option::is_none) {
            0
        } else if self.plan.careful && !T::REFUSES_ROWS_ONE_BY_ONE {
            self.send_carefully(table, rows)?
        } else {
            self.send(table, rows)?
        };
        if !rows.rejects.is_empty() {
            self.end_sending()?;
            write::add_rejects(self.store.ledger(), self.plan, self.file, &rows.rejects)?;
            failpoint!("load.rejects");
        }
        if let (Some(packer), Some(plan)) = (&mut self.packer, self.plan.tables.get(table)) {
            packer.add(table, plan, rows)?;
            if packer.is_full() {
                self.write_kept()?;
            }
        }
        Ok(sent)
    }

    fn send(&mut self, table: usize, rows: &mut Rows) -> Result<u64, StoreError> {
        if self.sending_to.is_some_and(|at| at != table) {
            self.end_sending()?;
        }
        let (Some(plan), Some(Some(target))) = (self.plan.tables.get(table), self.targets.get_mut(table))
        else {
            return Ok(0);
        };
        self.sending_to = Some(table);
        let of_file = RowsOfFile { file: self.file, lineage: plan.lineage, rows };
        let sent = self.store.send(table, target, of_file, 0..rows.len())?;
        failpoint!("load.sent");
        for (index, why) in sent.refused {
            let reject = rows.refuse(index, None, format!("the table refused it: {why}"));
            rows.rejects.push(reject);
        }
        Ok(sent.taken)
    }

    /// Ends what is on its way, so that the connection takes other statements.
    pub(super) fn end_sending(&mut self) -> Result<(), StoreError> {
        self.sending_to = None;
        if let Some((at, missing)) = self.store.end_sending()?
            && let Some(Some(target)) = self.targets.get_mut(at)
        {
            target.missing += missing;
        }
        Ok(())
    }

    fn write_kept(&mut self) -> Result<(), StoreError> {
        self.end_sending()?;
        match &mut self.packer {
            Some(packer) => packer.write(self.store.archive(), &self.plan.tables),
            None => Ok(()),
        }
    }

    /// Keeps the rows, and does nothing else with them.
    fn finish_keeping(&mut self) -> Result<Finished, StoreError> {
        if let Some(packer) = &mut self.packer {
            packer.finish(self.store.archive(), &self.plan.tables)?;
        }
        files_in_force::set_kept(self.store.ledger(), self.file)?;
        commit::commit_ledger_only(self.store, self.scope)?;
        self.done = true;
        Ok(Finished { file: self.file, ..Finished::default() })
    }

    /// Brings the rows into the tables, whichever route they took. Files that it supersedes, or does not any
    /// more, are put down in `undo`.
    fn bring_in(&mut self, summary: &FileSummary, undo: &mut Undo) -> Result<(Counts, bool), StoreError> {
        let (is_direct, packer) = (self.is_direct(), self.packer.as_mut());
        let (plan, file) = (self.plan, self.file);
        self.carried = corrections::carry_over(self.store, plan, file, is_direct, packer, summary)?;
        self.deleted = self.deleted.saturating_sub(self.carried.rows);
        if let Some(packer) = &mut self.packer {
            packer.finish(self.store.archive(), &plan.tables)?;
            files_in_force::set_kept(self.store.ledger(), file)?;
            failpoint!("load.kept");
        }
        if let Some(key) = &summary.order {
            self.placed.order.key.clone_from(key);
            files_in_force::set_order(self.store.ledger(), file, &self.placed.order)?;
        }
        let is_known = summary.order.is_none() || !self.is_direct();
        if !is_known && !placement::still_direct(self.store.ledger(), plan, file, &self.placed.order)? {
            self.drop_stages()?;
            self.placed.route = Route::Archive;
        }
        let (mut counts, superseded) = match self.placed.route {
            Route::Direct { .. } => (self.merge()?, false),
            Route::Archive => {
                let since = self.since;
                placement::rebuild_tables(self.store, plan, file, since, summary, &mut undo.outcomes)?
            }
        };
        failpoint!("load.merged");
        if self.too_many {
            let (table, vanished) = (plan.table().to_owned(), counts.vanished);
            return Err(StoreError::TooManyVanished { table, vanished, there: self.there });
        }
        (counts.carried, counts.uncorrected) = (self.carried.kept, self.carried.lost);
        Ok((counts, superseded))
    }

    /// What takes the entry back, as far as it is known before the rows are brought in.
    fn undo(&self, summary: &FileSummary) -> Undo {
        let forgets = self.plan.replaces.filter(|_| self.plan.mode() != Mode::Append);
        Undo {
            is_new: self.plan.resubmits.is_none(),
            outcomes: Vec::new(),
            corrected: summary.resubmitted.clone(),
            counts: self.counts_before,
            since: self.since,
            forgets: forgets.into_iter().collect(),
        }
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

impl<T: LoadTarget> Writer for FileWriter<'_, T> {
    fn write(&mut self, table: usize, rows: &mut Rows) -> Result<u64, StoreError> {
        self.store.refuse_unstorable(rows);
        self.insert_rows(table, rows)
    }

    fn commit(mut self: Box<Self>, summary: &FileSummary) -> Result<Finished, StoreError> {
        self.end_sending()?;
        if self.plan.keeps_for.is_some() {
            return self.finish_keeping();
        }
        let mut undo = self.undo(summary);
        let (counts, superseded) = self.bring_in(summary, &mut undo)?;
        // What the user's own statements may see of the ledger is what it will say.
        let mut later = self.store.link_mut().group.as_mut().map(|group| std::mem::take(&mut group.layouts));
        let ended =
            write::end_file(self.store.ledger(), self.plan, self.file, summary, &counts, later.as_mut());
        if let (Some(group), Some(layouts)) = (&mut self.store.link_mut().group, later) {
            group.layouts = layouts;
        }
        ended?;
        failpoint!("load.ended");
        corrections::count(self.store.ledger(), self.file, self.carried)?;
        self.store.keep_changes(self.plan)?;
        self.statements(&self.plan.sql_after, "sql_after")?;
        commit::commit_load(self.store, self.scope, self.file, undo)?;
        self.done = true;
        Ok(Finished { file: self.file, counts, superseded })
    }
}

impl<T: LoadTarget> Drop for FileWriter<'_, T> {
    fn drop(&mut self) {
        if self.done {
            return;
        }
        // If a connection is gone, the database undoes it by itself.
        self.store.give_up_sending();
        let _ = commit::rollback(self.store, self.scope);
        self.store.undo_changes(self.plan);
    }
}
