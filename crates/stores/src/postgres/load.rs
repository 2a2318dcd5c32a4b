//! One file going into PostgreSQL: table changes, rows by binary COPY, rejects and the ledger's
//! entry in one transaction.

mod copying;
mod staged;
mod writer;

use hypodoke_core::cast::{Cell, Rows};
use hypodoke_core::names::FILE_COLUMN;

pub use writer::PostgresWriter;
use writer::TargetTable;

use super::connection::PostgresStore;
use super::copy::Wire;
use super::tables::{self, NativeTable};
use crate::carry::{self, Carried};
use crate::course::{self, Course, Placed};
use crate::error::StoreError;
use crate::kept::Packer;
use crate::ledger::{kept, read, write};
use crate::merge::{Counts, Merge, SEQUENCE, stage_of};
use crate::mode::Mode;
use crate::plan::{FileSummary, Finished, LoadPlan, TablePlan};
use crate::sink::Writer;
use crate::sql::{Scope, SqlConnection, quote};

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
        let scope = Scope::of_file(store.in_delivery);
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
        writer.claim()?;
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
                if table.is_virtual || plan.retracts { None } else { Some(writer.prepare(at, table)?) };
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

    /// Whether rows go straight into their tables.
    fn is_direct(&self) -> bool {
        matches!(self.placed.course, Course::Direct { .. })
    }

    /// Waits until nobody else loads this file, nor, where its order counts, another into its table. The
    /// locks go with the transaction, and so with their owner.
    fn claim(&self) -> Result<(), StoreError> {
        let arrival = &self.plan.arrival;
        let client = &self.store.client;
        let sql = "SELECT pg_advisory_xact_lock(hashtextextended($1, 0))::text";
        // That of the table first: whoever has it loads files one after another.
        if self.plan.mode() != Mode::Append {
            let key = format!("hypodoke order {}", self.store.qualified(self.plan.table()));
            self.store.run(client.query_one(sql, &[&key]))?;
        }
        let key = format!("hypodoke file {}\0{}\0{}", arrival.place, arrival.path, self.plan.table());
        let key = key.replace('\0', "\u{1f}");
        self.store.run(client.query_one(sql, &[&key])).map(drop)
    }

    /// Makes or changes a table, and its stage where rows go there first.
    fn prepare(&self, at: usize, table: &TablePlan) -> Result<TargetTable, StoreError> {
        let store = &*self.store;
        let qualified = store.qualified(&table.table);
        let found = self.made(table, &qualified)?;
        for index in table.indexes(&qualified) {
            // To ask for an index that is there takes the owner.
            let name = store.qualified(&index.name);
            let sql = "SELECT to_regclass($1) IS NULL";
            if store.run(store.client.query_one(sql, &[&name]))?.get(0) {
                store.run(store.client.batch_execute(&index.sql))?;
            }
        }
        let wires = self.wires(table, &found)?;
        let names = table.layout.columns.iter().map(|column| quote(&column.name));
        let names = names.chain(table.lineage.columns().iter().map(|name| quote(name)));
        let mut names: Vec<String> = names.collect();
        let staged = table.mode.has_key() && self.is_direct();
        let list = names.join(", ");
        let mut into = qualified.clone();
        if staged {
            let stage = stage_of(at);
            self.execute(&format!(
                "CREATE TEMP TABLE {stage} ON COMMIT DROP AS SELECT {list}, 0::bigint AS {SEQUENCE} FROM {qualified} WITH NO DATA"
            ))?;
            names.push(SEQUENCE.to_owned());
            into = stage;
        } else {
            // A COPY that is refused takes the connection with it: what it may be refused for, a
            // missing right or a lock, is asked for by a statement that does nothing.
            let nulls = vec!["NULL"; names.len()].join(", ");
            let asking = format!("EXPLAIN INSERT INTO {qualified} ({list}) SELECT {nulls} WHERE FALSE");
            store.run(store.client.batch_execute(&asking))?;
        }
        let sql = format!("COPY {into} ({}) FROM STDIN (FORMAT binary)", names.join(", "));
        Ok(TargetTable { sql, wires, staged, sent: 0, missing: 0 })
    }

    /// The table as it is once it is made or changed.
    fn made(&self, table: &TablePlan, qualified: &str) -> Result<NativeTable, StoreError> {
        let store = &*self.store;
        let read = || store.run(tables::read(&store.client, &store.schema, &table.table));
        let changed = || StoreError::Changed { table: table.table.clone() };
        let alter = tables::alter_sql(qualified, table);
        let Some(mut there) = read()? else {
            // Two loads may want to make it: the second finds it made, and is planned anew.
            let key = format!("hypodoke table {qualified}");
            let lock = "SELECT pg_advisory_xact_lock(hashtextextended($1, 0))::text";
            store.run(store.client.query_one(lock, &[&key]))?;
            if read()?.is_some() {
                return Err(changed());
            }
            let sql = tables::create_sql(qualified, table);
            store.run(store.client.batch_execute(&sql))?;
            return read()?.ok_or_else(changed);
        };
        if table.keeps_layout {
            // From here on nobody changes the table under the rows: they are sent in the form that
            // its columns have now.
            let mode = if alter.is_some() { "ACCESS EXCLUSIVE" } else { "ROW EXCLUSIVE" };
            self.execute(&format!("LOCK TABLE {qualified} IN {mode} MODE"))?;
            there = read()?.ok_or_else(changed)?;
            if !tables::is_as_planned(&there, table) {
                return Err(changed());
            }
            if let Some(sql) = alter {
                store.run(store.client.batch_execute(&sql))?;
                there = read()?.ok_or_else(changed)?;
            }
        }
        Ok(there)
    }

    /// The form in which the values of each column are sent.
    fn wires(&self, table: &TablePlan, found: &NativeTable) -> Result<Vec<Wire>, StoreError> {
        let wire = |name: &String| {
            let native = found.column(name);
            let native = native.ok_or_else(|| StoreError::Changed { table: table.table.clone() })?;
            native.wire.ok_or_else(|| {
                let (table, words) = (&table.table, &native.words);
                let why = format!("column `{name}` of `{table}` is of type {words}, which is not known here");
                StoreError::Refused { shown: self.store.shown.clone(), why }
            })
        };
        table.layout.columns.iter().map(|column| wire(&column.name)).collect()
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
fn refuse_unstorable(rows: &mut Rows) {
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
