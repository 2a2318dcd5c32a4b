//! One file going into PostgreSQL: table changes, rows by binary COPY, rejects and the ledger's
//! entry in one transaction.

mod copying;
mod staged;
mod writer;

use hypodoke_core::cast::{Cell, Rows};
use hypodoke_core::names::{FILE_COLUMN, VALID_TO_COLUMN};

pub use writer::PostgresWriter;
use writer::TargetTable;

use super::connection::PostgresStore;
use super::copy::Wire;
use super::tables::{self, NativeTable};
use crate::error::StoreError;
use crate::ledger::{read, write};
use crate::merge::{Merge, Mode, SEQUENCE, STAGE, index_name};
use crate::plan::{FileSummary, Finished, LoadPlan, TablePlan};
use crate::sink::Writer;
use crate::sql::{Scope, SqlConnection, quote};

/// The SQL that makes the index on the key of a table of ours.
pub fn key_index(qualified: &str, table: &TablePlan) -> Option<String> {
    let wanted = table.mode.has_key() && table.keeps_layout;
    wanted.then(|| merge_of(qualified, table).index(&quote(&index_name(&table.table)), table.mode))
}

fn merge_of(qualified: &str, table: &TablePlan) -> Merge {
    let columns: Vec<String> = table.layout.columns.iter().map(|column| column.name.clone()).collect();
    Merge::new(qualified.to_owned(), &columns, table.lineage.columns(), &table.key, &table.of_file)
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
        };
        writer.claim()?;
        if write::is_loaded(writer.store, plan)? {
            return Ok(None);
        }
        writer.file = write::begin_file(writer.store, plan)?;
        for table in &plan.tables {
            let target = if table.is_virtual || plan.retracts { None } else { Some(writer.prepare(table)?) };
            writer.targets.push(target);
        }
        if let Some(replaced) = plan.replaces {
            writer.take_out(replaced)?;
        }
        if plan.first_of_delivery {
            writer.empty()?;
        }
        writer.statements(&plan.sql_before, "sql_before")?;
        Ok(Some(writer))
    }

    fn execute(&self, sql: &str) -> Result<u64, StoreError> {
        self.store.run(self.store.client.execute(sql, &[]))
    }

    /// Waits until nobody else loads this file. The lock goes with the transaction, and so with its owner.
    fn claim(&self) -> Result<(), StoreError> {
        let arrival = &self.plan.arrival;
        let client = &self.store.client;
        let key = format!("hypodoke file {}\0{}\0{}", arrival.place, arrival.path, self.plan.table());
        let key = key.replace('\0', "\u{1f}");
        let sql = "SELECT pg_advisory_xact_lock(hashtextextended($1, 0))::text";
        self.store.run(client.query_one(sql, &[&key])).map(drop)
    }

    /// Makes or changes a table, and its stage where rows go there first.
    fn prepare(&self, table: &TablePlan) -> Result<TargetTable, StoreError> {
        let store = &*self.store;
        let qualified = store.qualified(&table.table);
        let found = self.made(table, &qualified)?;
        if let Some(sql) = key_index(&qualified, table) {
            store.run(store.client.batch_execute(&sql))?;
        }
        let wires = self.wires(table, &found)?;
        let names = table.layout.columns.iter().map(|column| quote(&column.name));
        let names = names.chain(table.lineage.columns().iter().map(|name| quote(name)));
        let mut names: Vec<String> = names.collect();
        let staged = table.mode.has_key();
        let list = names.join(", ");
        let mut into = qualified.clone();
        if staged {
            self.execute(&format!(
                "CREATE TEMP TABLE {STAGE} ON COMMIT DROP AS SELECT {list}, 0::bigint AS {SEQUENCE} FROM {qualified} WITH NO DATA"
            ))?;
            names.push(SEQUENCE.to_owned());
            into = STAGE.to_owned();
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
            let sql = tables::create_sql(qualified, &table.layout, table.lineage, table.mode);
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
        let main = self.plan.tables.first().filter(|main| !main.is_virtual);
        let mode = main.map_or(Mode::Append, |main| main.mode);
        let main = main.map(|main| main.table.clone());
        let parts = read::parts(self.store, replaced)?;
        for table in main.into_iter().chain(parts.into_iter().map(|part| part.table)) {
            let qualified = self.store.qualified(&table);
            let found = self.store.run(tables::read(&self.store.client, &self.store.schema, &table))?;
            if found.is_some_and(|found| found.lineage.is_kept()) {
                let sql = format!("DELETE FROM {qualified} WHERE {FILE_COLUMN} = {replaced}");
                self.deleted += self.execute(&sql)?;
            }
            if mode == Mode::History {
                // The versions that it had ended are current again.
                self.execute(&format!(
                    "UPDATE {qualified} SET {VALID_TO_COLUMN} = NULL WHERE {VALID_TO_COLUMN} = (SELECT began_at FROM hd_files WHERE file = {replaced})"
                ))?;
            }
        }
        write::replace_file(self.store, replaced, self.file)
    }

    /// Takes all rows out of the tables that hold one delivery at a time.
    fn empty(&mut self) -> Result<(), StoreError> {
        for table in self.plan.tables.iter().filter(|table| table.mode == Mode::Replace && !table.is_virtual)
        {
            // Not TRUNCATE: readers see the old rows until this is committed.
            self.deleted += self.execute(&format!("DELETE FROM {}", self.store.qualified(&table.table)))?;
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
        let sent = if self.targets[table].is_none() {
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
        Ok(sent)
    }
}

impl Writer for PostgresWriter<'_> {
    fn rows(&mut self, table: usize, rows: &mut Rows) -> Result<u64, StoreError> {
        refuse_unstorable(rows);
        self.insert_rows(table, rows)
    }

    fn finish(mut self: Box<Self>, summary: &FileSummary) -> Result<Finished, StoreError> {
        self.close_copy()?;
        let counts = self.merge()?;
        self.statements(&self.plan.sql_after, "sql_after")?;
        write::end_file(self.store, self.plan, self.file, summary, &counts)?;
        self.store.commit(self.scope)?;
        self.done = true;
        Ok(Finished { file: self.file, counts })
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
