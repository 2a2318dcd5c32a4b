//! One file going into SQLite: table changes, rows, rejects and the ledger's entry in one
//! transaction.

use std::path::Path;

use hypodoke_core::cast::Rows;
use hypodoke_core::names::{FILE_COLUMN, Lineage};
use rusqlite::{Connection, Result};

use super::bulk::{BulkInsert, Stepped};
use super::known_tables::KnownTables;
use super::session::{SqliteSession, fail};
use super::tables::{self, alter, create_sql};
use crate::carry::{self, Carried};
use crate::course::{self, Course, Placed};
use crate::error::StoreError;
use crate::kept::Packer;
use crate::ledger::{kept, read, write};
use crate::merge::{Counts, Merge, SEQUENCE, stage_of};
use crate::mode::Mode;
use crate::plan::{FileSummary, Finished, LoadPlan, TablePlan};
use crate::rebuild::RebuildTarget;
use crate::sink::Writer;
use crate::sql::{SQLITE, Scope, SqlConnection, moment_text, quote};

/// A file being loaded. Dropped, it rolls everything back.
pub struct SqliteWriter<'a> {
    // Before the transaction, so that the statements are gone when that is rolled back; one for
    // each table of the plan, none for a virtual one.
    inserts: Vec<Option<BulkInsert<'a>>>,
    connection: &'a Connection,
    committed: bool,
    plan: &'a LoadPlan,
    path: &'a Path,
    file: i64,
    scope: Scope,
    deleted: u64,
    /// Per table, how many rows were sent.
    sent: Vec<u64>,
    /// Per table, how many of these a trigger left out.
    by_trigger: Vec<u64>,
    /// Where the file stands, and the course that its rows take.
    placed: Placed,
    /// What keeps the rows, where they are.
    packer: Option<Packer>,
    /// The first of the blocks that are kept of it now.
    since: i64,
    /// What became of the corrected rows of the version before.
    carried: Carried,
    /// How many keys there were before a full delivery, and whether too many of them are gone.
    there: u64,
    too_many: bool,
}

/// Whether rows of a table come to a stage first.
fn is_staged(table: &TablePlan) -> bool {
    table.mode.has_key() && !table.is_virtual
}

fn merge_of(table: &TablePlan, stage: &str) -> Merge {
    let columns: Vec<String> = table.layout.columns.iter().map(|column| column.name.clone()).collect();
    Merge::new(
        &SQLITE,
        quote(&table.table),
        stage,
        &columns,
        table.lineage.columns(),
        &table.key,
        &table.of_file,
    )
}

impl<'a> SqliteWriter<'a> {
    fn new(connection: &'a Connection, path: &'a Path, plan: &'a LoadPlan, scope: Scope) -> SqliteWriter<'a> {
        SqliteWriter {
            inserts: Vec::new(),
            connection,
            committed: false,
            plan,
            path,
            file: 0,
            scope,
            deleted: 0,
            sent: vec![0; plan.tables.len()],
            by_trigger: vec![0; plan.tables.len()],
            placed: Placed::default(),
            packer: None,
            since: 0,
            carried: Carried::default(),
            there: 0,
            too_many: false,
        }
    }

    /// Begins; `None` if the ledger says by now that the file is loaded.
    pub fn begin(
        connection: &'a Connection,
        path: &'a Path,
        plan: &'a LoadPlan,
        mut known_tables: Option<&mut KnownTables>,
    ) -> std::result::Result<Option<SqliteWriter<'a>>, StoreError> {
        // The transaction is ended by hand, in `finish` or in `drop`: a guard could not live
        // beside what borrows from it.
        let scope = Scope::of_file(known_tables.is_some());
        SqliteSession { connection, path, in_transaction: true }.begin(scope)?;
        let mut writer = SqliteWriter::new(connection, path, plan, scope);
        if let Some(file) = plan.keeps_for {
            writer.file = file;
            writer.packer = Some(Packer::new(file, plan.tables.len(), 0));
            return Ok(Some(writer));
        }
        if write::is_loaded(&mut writer.session(), plan)? {
            return Ok(None);
        }
        writer.placed = course::place(&mut writer.session(), plan)?;
        let failed = |error| fail(path, error);
        let is_known = |table: &&TablePlan| known_tables.as_ref().is_some_and(|known| known.has(table));
        for table in plan.tables.iter().filter(|table| !plan.retracts && !is_known(table)) {
            write::check_layout(&mut writer.session(), table)?;
            writer.shape_table(table)?;
            course::mark_gone(&mut writer.session(), table)?;
        }
        if let Some(known) = known_tables.as_mut() {
            known.learn(plan);
        }
        writer.file = write::begin_file(&mut writer.session(), plan, &writer.placed.order)?;
        if writer.placed.keeps {
            writer.since = kept::next_block(&mut writer.session(), writer.file)?;
            writer.packer = Some(Packer::new(writer.file, plan.tables.len(), writer.since));
        }
        if let Some(replaced) = plan.replaces {
            writer.take_out(replaced)?;
        }
        if writer.placed.course == (Course::Direct { empties: true }) {
            writer.empty()?;
        }
        let is_direct = writer.is_direct();
        for (at, table) in plan.tables.iter().enumerate() {
            let is_filled = !table.is_virtual && (is_direct || table.mode == Mode::Append) && !plan.retracts;
            let insert = is_filled.then(|| writer.prepare(at, table)).transpose().map_err(failed)?;
            writer.inserts.push(insert);
        }
        writer.statements(&plan.sql_before, "sql_before")?;
        Ok(Some(writer))
    }

    /// The ledger's way to the connection, in this transaction.
    fn session(&self) -> SqliteSession<'a> {
        SqliteSession { connection: self.connection, path: self.path, in_transaction: true }
    }

    /// Whether rows go straight into their tables.
    fn is_direct(&self) -> bool {
        matches!(self.placed.course, Course::Direct { .. })
    }

    /// Takes all rows out of the tables that hold one delivery at a time.
    fn empty(&mut self) -> std::result::Result<(), StoreError> {
        for table in self.plan.tables.iter().filter(|table| table.mode == Mode::Replace && !table.is_virtual)
        {
            self.deleted += self.session().statement(&format!("DELETE FROM {}", quote(&table.table)))?;
        }
        Ok(())
    }

    fn statements(
        &self,
        statements: &[String],
        setting: &'static str,
    ) -> std::result::Result<(), StoreError> {
        for statement in statements {
            self.connection.execute_batch(statement).map_err(|error| StoreError::Statement {
                setting,
                statement: statement.clone(),
                why: error.to_string(),
            })?;
        }
        Ok(())
    }

    /// The table that rows brought in by key come to first.
    fn stage(&self, table: &TablePlan, stage: &str) -> Result<()> {
        let own =
            table.layout.columns.iter().map(|c| format!("{} {}", quote(&c.name), tables::declared(c.ty())));
        let lineage = table.lineage.columns().iter().map(|name| format!("{} INTEGER", quote(name)));
        let all: Vec<String> =
            std::iter::once(format!("{SEQUENCE} INTEGER PRIMARY KEY")).chain(own).chain(lineage).collect();
        self.connection.execute_batch(&format!("CREATE TEMP TABLE {stage} ({})", all.join(", ")))
    }

    /// Brings staged rows into their table.
    fn merge(&mut self) -> Result<Counts> {
        let mut all = Counts { deleted: self.deleted, ..Counts::default() };
        let figures = self.sent.iter().zip(&self.by_trigger);
        for (at, (table, (sent, by_trigger))) in self.plan.tables.iter().zip(figures).enumerate() {
            if table.is_virtual || self.plan.retracts {
                continue;
            }
            if !table.mode.has_key() {
                if table.lineage != Lineage::Children {
                    all.inserted += sent - by_trigger;
                    all.left_out += by_trigger;
                    all.by_trigger += by_trigger;
                }
                continue;
            }
            let merge = self.merge_of(at, table);
            let there = match merge.count_there() {
                Some(sql) => self.connection.query_row(&sql, [], |row| row.get::<_, i64>(0))?.unsigned_abs(),
                None => 0,
            };
            let mut counts = self.merge_table(&merge, table.mode, *sent)?;
            counts.vanished = self.let_vanish(&merge, at)?;
            self.too_many |= self.plan.rules.is_too_many(counts.vanished, there);
            self.there += there;
            all.inserted += counts.inserted;
            all.updated += counts.updated;
            all.unchanged += counts.unchanged;
            all.left_out += counts.left_out;
            all.vanished += counts.vanished;
        }
        self.drop_stages()?;
        Ok(all)
    }

    /// Lets keys vanish that a full delivery does not hold.
    fn let_vanish(&self, merge: &Merge, at: usize) -> Result<u64> {
        let Some(sql) = merge.vanish(&self.moment()) else { return Ok(0) };
        let (stage, key) = (stage_of(at), merge.key().join(", "));
        self.connection.execute_batch(&format!("CREATE INDEX temp.{stage}_key ON {stage} ({key})"))?;
        Ok(self.connection.execute(&sql, [])? as u64)
    }

    /// From when on the rows of the file hold, as a literal.
    fn moment(&self) -> String {
        format!("'{}'", moment_text(self.placed.order.effective.unwrap_or(self.plan.began)))
    }

    fn drop_stages(&self) -> Result<()> {
        let staged = self.plan.tables.iter().enumerate().filter(|(_, table)| is_staged(table));
        let mut stages = staged.map(|(at, _)| format!("DROP TABLE temp.{}", stage_of(at)));
        stages.try_for_each(|sql| self.connection.execute_batch(&sql))
    }

    fn merge_table(&self, merge: &Merge, mode: Mode, sent: u64) -> Result<Counts> {
        let run = |sql: &str| self.connection.execute(sql, []).map(|count| count as u64);
        let doubles = run(&merge.drop_doubles())?;
        let staged = sent.saturating_sub(doubles);
        Ok(match mode {
            Mode::InsertNew => {
                let inserted = run(&merge.insert_new())?;
                Counts { inserted, left_out: doubles + staged.saturating_sub(inserted), ..Counts::default() }
            }
            Mode::History => {
                let began = self.moment();
                let updated = run(&merge.end_versions(&began))?;
                let added = run(&merge.begin_versions(&began))?;
                Counts {
                    inserted: added.saturating_sub(updated),
                    updated,
                    unchanged: staged.saturating_sub(added),
                    left_out: doubles,
                    ..Counts::default()
                }
            }
            _ => {
                let updated = run(&merge.update())?;
                let inserted = run(&merge.insert_new())?;
                // A table of others may hold a key more than once: more rows are updated then than were sent.
                let unchanged = staged.saturating_sub(updated + inserted);
                Counts { inserted, updated, unchanged, left_out: doubles, ..Counts::default() }
            }
        })
    }

    fn merge_of(&self, at: usize, table: &TablePlan) -> Merge {
        merge_of(table, &stage_of(at)).of_full_delivery(self.plan.rules.vanished)
    }

    fn prepare(&self, at: usize, table: &TablePlan) -> Result<BulkInsert<'a>> {
        let names = table.layout.columns.iter().map(|column| quote(&column.name));
        let lineage = table.lineage.columns().iter().map(|name| quote(name));
        let all: Vec<String> = names.chain(lineage).collect();
        let marks = vec!["?"; all.len()].join(", ");
        let into = if table.mode.has_key() {
            let stage = stage_of(at);
            self.stage(table, &stage)?;
            format!("temp.{stage}")
        } else {
            quote(&table.table)
        };
        let sql = format!("INSERT INTO {into} ({}) VALUES ({marks})", all.join(", "));
        let guarded = !table.mode.has_key() && tables::has_triggers(self.connection, &table.table)?;
        let mut insert = BulkInsert::prepare(self.connection, &sql, table.layout.columns.len(), guarded)?;
        if table.lineage.is_kept() {
            insert.bind_file(table.layout.columns.len() + 1, self.file)?;
        }
        Ok(insert)
    }

    fn shape_table(&self, table: &TablePlan) -> std::result::Result<(), StoreError> {
        if table.is_virtual {
            return Ok(());
        }
        let failed = |error| fail(self.path, error);
        if tables::shape(self.connection, &table.table).map_err(failed)?.is_none() {
            self.connection.execute_batch(&create_sql(&table.table, table)).map_err(failed)?;
        } else if !table.keeps_layout {
            return Ok(());
        } else if !tables::is_as_planned(self.connection, table).map_err(failed)? {
            return Err(StoreError::Changed { table: table.table.clone() });
        } else if let Some(column) = tables::kept_from_change(self.connection, table).map_err(failed)? {
            let shown = self.path.display().to_string();
            let why = format!(
                "`{}` has to be written anew, and its column `{column}`, which is worked out by the database, cannot be taken along",
                table.table
            );
            return Err(StoreError::Refused { shown, why });
        } else {
            alter(self.connection, table).map_err(failed)?;
        }
        let mut indexes = table.indexes(&quote(&table.table)).into_iter();
        indexes.try_for_each(|index| self.connection.execute_batch(&index.sql)).map_err(failed)
    }

    /// Takes the rows of an earlier version of the file out, from every table it filled directly; from the
    /// others they go when these are rebuilt.
    fn take_out(&mut self, replaced: i64) -> std::result::Result<(), StoreError> {
        carry::set_aside(&mut self.session(), self.plan, replaced, self.is_direct())?;
        let main = self.plan.tables.first().filter(|main| !main.is_virtual);
        let main = main.map(|main| main.table.clone());
        let parts = read::parts(&mut self.session(), replaced)?.into_iter().map(|part| part.table);
        for table in main.into_iter().chain(parts) {
            if self.is_direct() || self.plan.appends_to(&table) {
                self.take_out_of(&table, replaced).map_err(|error| fail(self.path, error))?;
            }
        }
        write::replace_file(&mut self.session(), replaced, self.file)
    }

    fn take_out_of(&mut self, table: &str, replaced: i64) -> Result<()> {
        if tables::shape(self.connection, table)?.is_some_and(|shape| shape.lineage.is_kept()) {
            let sql = format!("DELETE FROM {} WHERE {} = ?1", quote(table), quote(FILE_COLUMN));
            self.deleted += self.connection.execute(&sql, [replaced])? as u64;
        }
        Ok(())
    }

    /// Keeps the rows, and does nothing else with them.
    fn finish_keeping(&mut self) -> std::result::Result<Finished, StoreError> {
        let mut session = self.session();
        if let Some(packer) = &mut self.packer {
            packer.finish(&mut session, &self.plan.tables)?;
        }
        kept::set_kept(&mut session, self.file)?;
        session.commit(self.scope)?;
        self.committed = true;
        Ok(Finished { file: self.file, ..Finished::default() })
    }

    /// Brings the rows into the tables, whichever course they took.
    fn bring_in(&mut self, summary: &FileSummary) -> std::result::Result<(Counts, bool), StoreError> {
        let mut session = self.session();
        let (is_direct, packer) = (self.is_direct(), self.packer.as_mut());
        self.carried = carry::carry_over(&mut session, self.plan, self.file, is_direct, packer, summary)?;
        self.deleted = self.deleted.saturating_sub(self.carried.rows);
        if let Some(packer) = &mut self.packer {
            packer.finish(&mut session, &self.plan.tables)?;
            kept::set_kept(&mut session, self.file)?;
        }
        if let Some(key) = &summary.order {
            self.placed.order.key.clone_from(key);
            kept::set_order(&mut session, self.file, &self.placed.order)?;
        }
        let is_known = summary.order.is_none() || !self.is_direct();
        if !is_known && !course::still_direct(&mut session, self.plan, self.file, &self.placed.order)? {
            self.drop_stages().map_err(|error| fail(self.path, error))?;
            self.placed.course = Course::ByKept;
        }
        let (mut counts, superseded) = match self.placed.course {
            Course::Direct { .. } => (self.merge().map_err(|error| fail(self.path, error))?, false),
            Course::ByKept => {
                course::rebuild_tables(&mut session, self.plan, self.file, self.since, summary)?
            }
        };
        if self.too_many {
            let (table, vanished) = (self.plan.table().to_owned(), counts.vanished);
            return Err(StoreError::TooManyVanished { table, vanished, there: self.there });
        }
        if let Some(replaced) = self.plan.replaces.filter(|_| self.plan.mode() != Mode::Append) {
            kept::forget(&mut session, replaced)?;
        }
        (counts.carried, counts.uncorrected) = (self.carried.kept, self.carried.lost);
        Ok((counts, superseded))
    }

    fn insert_rows(&mut self, table: usize, rows: &mut Rows) -> Result<u64> {
        let mut loaded = 0;
        let mode = self.plan.tables.get(table).map_or(Mode::Append, |table| table.mode);
        if !self.is_direct() && mode != Mode::Append {
            loaded = rows.len() as u64;
        } else if let Some(insert) = &mut self.inserts[table] {
            let lineage = self.plan.tables[table].lineage;
            for index in 0..rows.len() {
                match insert.insert(rows, index, lineage)? {
                    Stepped::In => loaded += 1,
                    Stepped::LeftOut => {
                        loaded += 1;
                        self.by_trigger[table] += 1;
                    }
                    Stepped::Refused(words) => {
                        let reject = rows.refuse(index, None, format!("the table refused it: {words}"));
                        rows.rejects.push(reject);
                    }
                }
            }
        }
        self.sent[table] += loaded;
        Ok(loaded)
    }
}

impl Writer for SqliteWriter<'_> {
    fn rows(&mut self, table: usize, rows: &mut Rows) -> std::result::Result<u64, StoreError> {
        let loaded = self.insert_rows(table, rows).map_err(|error| fail(self.path, error))?;
        let mut session = self.session();
        if let (Some(packer), Some(plan)) = (&mut self.packer, self.plan.tables.get(table)) {
            packer.add(table, plan, rows)?;
            if packer.is_full() {
                packer.write(&mut session, &self.plan.tables)?;
            }
        }
        write::add_rejects(&mut self.session(), self.plan, self.file, &rows.rejects)?;
        Ok(loaded)
    }

    fn finish(mut self: Box<Self>, summary: &FileSummary) -> std::result::Result<Finished, StoreError> {
        self.inserts.clear();
        if self.plan.keeps_for.is_some() {
            return self.finish_keeping();
        }
        let (counts, superseded) = self.bring_in(summary)?;
        let mut session = self.session();
        write::end_file(&mut session, self.plan, self.file, summary, &counts, None)?;
        carry::count(&mut session, self.file, self.carried)?;
        // What the user's own statements may see of the ledger is what it will say.
        self.statements(&self.plan.sql_after, "sql_after")?;
        session.commit(self.scope)?;
        self.committed = true;
        Ok(Finished { file: self.file, counts, superseded })
    }
}

impl Drop for SqliteWriter<'_> {
    fn drop(&mut self) {
        self.inserts.clear();
        if !self.committed && !self.connection.is_autocommit() {
            // Nothing can be done about a failure here; SQLite undoes the transaction when the
            // file is next opened.
            let _ = self.session().rollback(self.scope);
        }
    }
}
