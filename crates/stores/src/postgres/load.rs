//! One file going into PostgreSQL: table changes, rows by binary COPY, rejects and the ledger's
//! entry in one transaction.

mod copying;
mod staged;

use copying::Copying;
use hypodoke_core::cast::{Cell, Reject, Rows};
use hypodoke_core::names::{FILE_COLUMN, VALID_TO_COLUMN, quote};

use super::copy::Wire;
use super::ledger::{self, moment};
use super::{PostgresStore, drift, tables};
use crate::error::StoreError;
use crate::merge::{Counts, Merge, Mode, SEQUENCE, STAGE, index_name};
use crate::{FileSummary, Finished, LoadPlan, Loader, PartSummary, TablePlan};

/// A table of the plan, ready to take rows.
struct Target {
    sql: String,
    wires: Vec<Wire>,
    /// Rows go to the stage first, and are numbered there.
    staged: bool,
    sent: u64,
    /// How many of these the server did not put in: a trigger of the table left them out, or put
    /// them elsewhere.
    missing: u64,
}

/// A file being loaded. Dropped, it rolls everything back.
pub struct PostgresLoader<'a> {
    store: &'a mut PostgresStore,
    plan: &'a LoadPlan,
    file: i64,
    targets: Vec<Option<Target>>,
    copying: Option<Copying>,
    deleted: u64,
    done: bool,
}

/// The SQL that makes the index on the key of a table of ours.
pub fn key_index(qualified: &str, table: &TablePlan) -> Option<String> {
    let wanted = table.mode.has_key() && table.keeps_layout;
    wanted.then(|| merge_of(qualified, table).index(&quote(&index_name(&table.table)), table.mode))
}

fn merge_of(qualified: &str, table: &TablePlan) -> Merge {
    let columns: Vec<String> = table.layout.columns.iter().map(|column| column.name.clone()).collect();
    Merge::new(qualified.to_owned(), &columns, table.lineage.columns(), &table.key, &table.of_file)
}

impl<'a> PostgresLoader<'a> {
    /// Begins; `None` if the ledger says by now that the file is loaded.
    pub fn begin(
        store: &'a mut PostgresStore,
        plan: &'a LoadPlan,
    ) -> Result<Option<PostgresLoader<'a>>, StoreError> {
        let begin = if store.in_delivery { "SAVEPOINT hd_file" } else { "BEGIN" };
        store.run(store.client.batch_execute(begin))?;
        let mut loader = PostgresLoader {
            store,
            plan,
            file: 0,
            targets: Vec::new(),
            copying: None,
            deleted: 0,
            done: false,
        };
        if !loader.claim()? {
            return Ok(None);
        }
        loader.file = match plan.mends {
            Some(file) => file,
            None => loader.store.run(ledger::note_file(&loader.store.client, &plan.entry()))?,
        };
        for table in &plan.tables {
            let target = if table.is_virtual || plan.retracts { None } else { Some(loader.prepare(table)?) };
            loader.targets.push(target);
        }
        if let Some(replaced) = plan.replaces {
            loader.take_out(replaced)?;
        }
        if plan.first_of_delivery {
            loader.empty()?;
        }
        loader.statements(&plan.sql_before, "sql_before")?;
        Ok(Some(loader))
    }

    fn execute(&self, sql: &str) -> Result<u64, StoreError> {
        self.store.run(self.store.client.execute(sql, &[]))
    }

    /// Waits until nobody else loads this file, and looks whether it is loaded by now. The lock goes
    /// with the transaction, and so with its owner.
    fn claim(&self) -> Result<bool, StoreError> {
        let arrival = &self.plan.arrival;
        let client = &self.store.client;
        let key = format!("hypodoke file {}\0{}\0{}", arrival.place, arrival.path, self.plan.table());
        let key = key.replace('\0', "\u{1f}");
        self.store.run(async {
            client.query_one("SELECT pg_advisory_xact_lock(hashtextextended($1, 0))::text", &[&key]).await?;
            let loaded = client
                .query_one(
                    "SELECT count(*) > 0 FROM hd_files WHERE place = $1 AND path = $2 AND bytes = $3 AND modified_at = $4
                       AND table_name = $5 AND outcome = 'loaded' AND replaced_by IS NULL AND file IS DISTINCT FROM $6",
                    &[
                        &arrival.place,
                        &arrival.path,
                        &(arrival.bytes as i64),
                        &moment(arrival.modified),
                        &self.plan.table(),
                        &self.plan.replaces,
                    ],
                )
                .await?;
            Ok(self.plan.mends.is_some() || !loaded.get::<_, bool>(0))
        })
    }

    /// Makes or changes a table, and its stage where rows go there first.
    fn prepare(&self, table: &TablePlan) -> Result<Target, StoreError> {
        let store = &*self.store;
        let qualified = store.qualified(&table.table);
        let read = || store.run(tables::read(&store.client, &store.schema, &table.table));
        let mut found = read()?;
        if found.is_some() && table.keeps_layout {
            // From here on nobody changes the table under the rows: they are sent in the form that
            // its columns have now.
            let mode = if tables::alter_sql(&qualified, table).is_some() {
                "ACCESS EXCLUSIVE"
            } else {
                "ROW EXCLUSIVE"
            };
            self.execute(&format!("LOCK TABLE {qualified} IN {mode} MODE"))?;
            found = read()?;
        }
        let changed = || StoreError::Changed { table: table.table.clone() };
        match &found {
            None => {
                // Two loads may want to make it: the second finds it made, and is planned anew.
                let key = format!("hypodoke table {qualified}");
                store.run(
                    store
                        .client
                        .query_one("SELECT pg_advisory_xact_lock(hashtextextended($1, 0))::text", &[&key]),
                )?;
                if read()?.is_some() {
                    return Err(changed());
                }
                store.run(store.client.batch_execute(&tables::create_sql(
                    &qualified,
                    &table.layout,
                    table.lineage,
                    table.mode,
                )))?;
                found = read()?;
            }
            Some(there) if table.keeps_layout => {
                if !tables::is_as_planned(there, table) {
                    return Err(changed());
                }
                if let Some(sql) = tables::alter_sql(&qualified, table) {
                    store.run(store.client.batch_execute(&sql))?;
                    found = read()?;
                }
            }
            Some(_) => {}
        }
        let found = found.ok_or_else(changed)?;
        if let Some(sql) = key_index(&qualified, table) {
            store.run(store.client.batch_execute(&sql))?;
        }
        let mut wires = Vec::new();
        for column in &table.layout.columns {
            let native = found.column(&column.name).ok_or_else(changed)?;
            let wire = native.wire.ok_or_else(|| StoreError::Refused {
                shown: store.shown.clone(),
                why: format!(
                    "column `{}` of `{}` is of type {}, which is not known here",
                    column.name, table.table, native.words
                ),
            })?;
            wires.push(wire);
        }
        let names = table.layout.columns.iter().map(|column| quote(&column.name));
        let names = names.chain(table.lineage.columns().iter().map(|name| quote(name)));
        let mut names: Vec<String> = names.collect();
        let staged = table.mode.has_key();
        if !staged {
            // A COPY that is refused takes the connection with it: what it may be refused for, a
            // missing right or a lock, is asked for by a statement that does nothing.
            let (list, nulls) = (names.join(", "), vec!["NULL"; names.len()].join(", "));
            let asking = format!("EXPLAIN INSERT INTO {qualified} ({list}) SELECT {nulls} WHERE FALSE");
            store.run(store.client.batch_execute(&asking))?;
        }
        let mut into = qualified.clone();
        if staged {
            let list = names.join(", ");
            self.execute(&format!(
                "CREATE TEMP TABLE {STAGE} ON COMMIT DROP AS SELECT {list}, 0::bigint AS {SEQUENCE} FROM {qualified} WITH NO DATA"
            ))?;
            names.push(SEQUENCE.to_owned());
            into = STAGE.to_owned();
        }
        let sql = format!("COPY {into} ({}) FROM STDIN (FORMAT binary)", names.join(", "));
        Ok(Target { sql, wires, staged, sent: 0, missing: 0 })
    }

    /// Takes the rows of an earlier version of the file out, from every table it filled.
    fn take_out(&mut self, replaced: i64) -> Result<(), StoreError> {
        let main = self.plan.tables.first().filter(|main| !main.is_virtual);
        let mode = main.map_or(Mode::Append, |main| main.mode);
        let main = main.map(|main| main.table.clone());
        let parts = self.store.run(ledger::parts(&self.store.client, replaced))?;
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
        self.execute(&format!("UPDATE hd_files SET replaced_by = {} WHERE file = {replaced}", self.file))?;
        Ok(())
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
            self.keep_rejects(&rows.rejects)?;
        }
        Ok(sent)
    }

    fn keep_rejects(&self, rejects: &[Reject]) -> Result<(), StoreError> {
        // What is mended and still will not do stays the reject it is.
        if self.plan.mends.is_some() {
            return Ok(());
        }
        let client = &self.store.client;
        self.store.run(async {
            let sql = "INSERT INTO hd_rejects (file, line, column_name, value, reason, raw, place) VALUES ($1, $2, $3, $4, $5, $6, $7)";
            let statement = client.prepare(sql).await?;
            for reject in rejects {
                // A text of the server's holds no NUL.
                let value = reject.value.as_ref().map(|value| value.replace('\0', "\u{fffd}"));
                let line = reject.line as i64;
                let parameters: [&(dyn tokio_postgres::types::ToSql + Sync); 7] =
                    [&self.file, &line, &reject.column, &value, &reject.reason, &reject.raw, &reject.place];
                client.execute(&statement, &parameters).await?;
            }
            Ok(())
        })
    }

    fn close(&mut self, summary: &FileSummary) -> Result<Counts, StoreError> {
        self.close_copy()?;
        let counts = self.merge()?;
        self.statements(&self.plan.sql_after, "sql_after")?;
        if self.plan.mends.is_some() {
            self.mend(summary, counts)?;
            self.end()?;
            return Ok(counts);
        }
        let client = &self.store.client;
        let loaded = summary.loaded - counts.left_out.min(summary.loaded);
        self.store.run(client.execute(
            "UPDATE hd_files SET content_hash = $2, rows_read = $3, rows_loaded = $4, rows_rejected = $5,
               rows_left_out = $6, ended_at = $7, message = $8, rows_inserted = $9, rows_updated = $10,
               rows_unchanged = $11, rows_deleted = $12 WHERE file = $1",
            &[
                &self.file,
                &summary.hash,
                &(summary.read as i64),
                &(loaded as i64),
                &(summary.rejected as i64),
                &((summary.left_out + counts.left_out) as i64),
                &moment(summary.ended),
                &summary.message_with(&counts),
                &(counts.inserted as i64),
                &(counts.updated as i64),
                &(counts.unchanged as i64),
                &(counts.deleted as i64),
            ],
        ))?;
        for (at, (table, part)) in self.plan.tables.iter().zip(&summary.parts).enumerate() {
            if at > 0 {
                self.store.run(client.execute(
                    "INSERT INTO hd_parts (file, table_name, path, rows_read, rows_loaded) VALUES ($1, $2, $3, $4, $5)",
                    &[&self.file, &table.table, &table.path, &(part.read as i64), &(part.loaded as i64)],
                ))?;
            }
            if table.keeps_layout {
                self.keep_layout(table, part)?;
            }
        }
        self.end()?;
        Ok(counts)
    }

    fn end(&mut self) -> Result<(), StoreError> {
        self.execute(if self.store.in_delivery { "RELEASE SAVEPOINT hd_file" } else { "COMMIT" })?;
        self.done = true;
        Ok(())
    }

    /// Rejects that are none any more count as loaded rows of their file.
    fn mend(&self, summary: &FileSummary, counts: Counts) -> Result<(), StoreError> {
        let client = &self.store.client;
        let sql = "UPDATE hd_rejects SET mended_at = $2 WHERE reject = ANY ($1)";
        self.store.run(client.execute(sql, &[&summary.mended, &moment(summary.ended)]))?;
        let left_out = counts.left_out.min(summary.loaded);
        let sql = "UPDATE hd_files SET rows_loaded = rows_loaded + $2, rows_rejected = rows_rejected - $3,
               rows_left_out = rows_left_out + $4, rows_inserted = rows_inserted + $5,
               rows_updated = rows_updated + $6, rows_unchanged = rows_unchanged + $7 WHERE file = $1";
        self.store.run(client.execute(
            sql,
            &[
                &self.file,
                &((summary.loaded - left_out) as i64),
                &(summary.mended.len() as i64),
                &(left_out as i64),
                &(counts.inserted as i64),
                &(counts.updated as i64),
                &(counts.unchanged as i64),
            ],
        ))?;
        Ok(())
    }

    /// Writes a new version of the layout where the file made one, and what changed.
    fn keep_layout(&self, table: &TablePlan, part: &PartSummary) -> Result<(), StoreError> {
        let client = &self.store.client;
        let newest = self.store.run(ledger::lock_layout(client, &table.table))?;
        let text =
            crate::ledger::layout_text(&part.layout, newest.as_ref().map(|(_, before)| before.as_str()));
        let altered = !table.changes.is_empty();
        match newest {
            Some((version, before)) if !altered => {
                if before != text {
                    let sql = "UPDATE hd_layouts SET layout = $3 WHERE table_name = $1 AND version = $2";
                    self.store.run(client.execute(sql, &[&table.table, &version, &text]))?;
                }
            }
            newest => {
                let version = newest.map_or(1, |(version, _)| version + 1);
                let sql =
                    "INSERT INTO hd_layouts (table_name, version, file, layout) VALUES ($1, $2, $3, $4)";
                self.store.run(client.execute(sql, &[&table.table, &version, &self.file, &text]))?;
            }
        }
        self.store.run(drift::note(client, self.file, &table.table, &table.drift))
    }
}

impl Loader for PostgresLoader<'_> {
    fn rows(&mut self, table: usize, rows: &mut Rows) -> Result<u64, StoreError> {
        refuse_unstorable(rows);
        self.insert_rows(table, rows)
    }

    fn finish(mut self: Box<Self>, summary: &FileSummary) -> Result<Finished, StoreError> {
        let counts = self.close(summary)?;
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

impl Drop for PostgresLoader<'_> {
    fn drop(&mut self) {
        if self.done {
            return;
        }
        // A COPY that is dropped unfinished is refused by the server, as it should be. If the
        // connection is gone, the server undoes the rest by itself.
        self.copying = None;
        let undo = if self.store.in_delivery { "ROLLBACK TO SAVEPOINT hd_file" } else { "ROLLBACK" };
        let _ = self.store.runtime.block_on(self.store.client.batch_execute(undo));
    }
}
