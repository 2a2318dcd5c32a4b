//! One file going into PostgreSQL: table changes, rows by binary COPY, rejects and the ledger's
//! entry in one transaction.

mod copying;
mod staged;
mod target;
mod writer;

use hypodoke_core::cast::{Cell, Rows};
use hypodoke_core::names::FILE_COLUMN;

pub use writer::PostgresWriter;

use super::connection::PostgresStore;
use super::tables;
use super::target_table::TargetTable;
use crate::carry::{self, Carried};
use crate::course::{self, Course, Placed};
use crate::error::StoreError;
use crate::kept::Packer;
use crate::ledger::{kept, read, write};
use crate::merge::{Counts, Merge, stage_of};
use crate::mode::Mode;
use crate::plan::{FileSummary, Finished, LoadPlan, TablePlan};
use crate::sink::Writer;
use crate::sql::{Scope, SqlConnection};

fn merge_of(qualified: &str, table: &TablePlan, stage: &str) -> Merge {
    let columns: Vec<String> = table.layout.columns.iter().map(|column| column.name.clone()).collect();
    Merge::new(qualified.to_owned(), stage, &columns, table.lineage.columns(), &table.key, &table.of_file)
}

impl<'a> PostgresWriter<'a> {
    /// Begins; `None` if the ledger says by now that the file is loaded.
    pub fn begin(
        store: &'a mut PostgresStore,
        plan: &'a LoadPlan,
    ) -> Result<Option<PostgresWriter<'a>>, StoreError> {
        let scope = Scope::of_file(store.group.is_some());
        store.settle_bulk()?;
        store.begin(scope)?;
        let mut writer = PostgresWriter {
            store,
            plan,
            file: 0,
            targets: Vec::new(),
            copying: None,
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
        if !writer.store.has_claimed(plan) {
            writer.store.lock_file(plan)?;
        }
        if let Some(file) = plan.keeps_for {
            writer.file = file;
            writer.packer = Some(Packer::new(file, plan.tables.len(), 0));
            return Ok(Some(writer));
        }
        if write::is_loaded(writer.store, plan)? {
            return Ok(None);
        }
        writer.placed = course::place(writer.store, plan)?;
        writer.file = write::begin_file(writer.store, plan, &writer.placed.order)?;
        if writer.placed.keeps {
            writer.since = kept::next_block(writer.store, writer.file)?;
            writer.packer = Some(Packer::new(writer.file, plan.tables.len(), writer.since));
        }
        for (at, table) in plan.tables.iter().enumerate() {
            let target =
                if table.is_virtual || plan.retracts { None } else { Some(writer.target_table(at, table)?) };
            if !plan.retracts {
                write::check_layout(writer.store, table)?;
            }
            course::mark_gone(writer.store, table)?;
            writer.targets.push(target);
        }
        if let Some(replaced) = plan.replaces {
            writer.take_out(replaced)?;
        }
        if writer.placed.course == (Course::Direct { empties: true }) {
            writer.empty()?;
        }
        writer.statements(&plan.sql_before, "sql_before")?;
        Ok(Some(writer))
    }

    fn execute(&self, sql: &str) -> Result<u64, StoreError> {
        self.store.run(self.store.client.execute(sql, &[]))
    }

    /// Makes or changes a table, and its stage where rows go there first.
    fn target_table(&self, at: usize, table: &TablePlan) -> Result<TargetTable, StoreError> {
        let stage = (table.mode.has_key() && self.is_direct()).then(|| stage_of(at));
        self.store.target_table(table, stage)
    }

    /// Whether rows go straight into their tables.
    fn is_direct(&self) -> bool {
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
            let qualified = self.store.qualified(&table);
            let found = self.store.run(tables::read(&self.store.client, &self.store.schema, &table))?;
            if found.is_some_and(|found| found.lineage.is_kept()) {
                let sql = format!("DELETE FROM {qualified} WHERE {FILE_COLUMN} = {replaced}");
                self.deleted += self.execute(&sql)?;
            }
        }
        write::replace_file(self.store, replaced, self.file)
    }

    /// Takes all rows out of the tables that hold one delivery at a time.
    fn empty(&mut self) -> Result<(), StoreError> {
        for table in self.plan.tables.iter().filter(|table| table.mode == Mode::Replace && !table.is_virtual)
        {
            // Not TRUNCATE: readers see the old rows until this is committed.
            let name = self.store.qualified(&table.table);
            self.deleted += self.execute(&format!("DELETE FROM {name}"))?;
        }
        Ok(())
    }

    fn statements(&self, statements: &[String], setting: &'static str) -> Result<(), StoreError> {
        for statement in statements {
            let done = self.store.runtime.block_on(self.store.client.batch_execute(statement));
            done.map_err(|error| StoreError::Statement {
                setting,
                statement: statement.clone(),
                why: super::connect::words(&error),
            })?;
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
            self.send(table, rows, 0..rows.len())?
        };
        if !rows.rejects.is_empty() {
            self.close_copy()?;
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

    fn write_kept(&mut self) -> Result<(), StoreError> {
        self.close_copy()?;
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

impl Writer for PostgresWriter<'_> {
    fn rows(&mut self, table: usize, rows: &mut Rows) -> Result<u64, StoreError> {
        refuse_unstorable(rows);
        self.insert_rows(table, rows)
    }

    fn finish(mut self: Box<Self>, summary: &FileSummary) -> Result<Finished, StoreError> {
        self.close_copy()?;
        if self.plan.keeps_for.is_some() {
            return self.finish_keeping();
        }
        let (counts, superseded) = self.bring_in(summary)?;
        self.statements(&self.plan.sql_after, "sql_after")?;
        write::end_file(self.store, self.plan, self.file, summary, &counts)?;
        carry::count(self.store, self.file, self.carried)?;
        self.store.commit(self.scope)?;
        self.done = true;
        Ok(Finished { file: self.file, counts, superseded })
    }
}

/// JSON may spell a NUL, which the server keeps in no text.
pub fn refuse_unstorable(rows: &mut Rows) {
    if memchr::memmem::find(&rows.records.bytes, b"\\u0000").is_none() {
        return;
    }
    let holds = |cell: &Cell| match cell {
        Cell::Text { start, len } => {
            let bytes = rows.bytes(*start, *len);
            matches!(bytes.first(), Some(b'{' | b'[' | b'"'))
                && memchr::memmem::find(bytes, b"\\u0000").is_some()
        }
        _ => false,
    };
    let bad: Vec<usize> = (0..rows.len()).filter(|index| rows.row(*index).iter().any(holds)).collect();
    for index in bad.into_iter().rev() {
        let reject =
            rows.refuse(index, None, "JSON that spells a NUL, which the server cannot keep".to_owned());
        rows.rejects.push(reject);
        rows.kept.remove(index);
    }
}

impl Drop for PostgresWriter<'_> {
    fn drop(&mut self) {
        if self.done {
            return;
        }
        // A COPY that is dropped unfinished is refused by the server, as it should be. If the
        // connection is gone, the server undoes the rest by itself.
        self.copying = None;
        let _ = self.store.rollback(self.scope);
    }
}
