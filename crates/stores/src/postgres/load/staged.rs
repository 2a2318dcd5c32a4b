//! Staged rows brought into their table by key.

use hypodoke_core::names::{FILE_COLUMN, Lineage};
use tokio_postgres::error::SqlState;

use super::merge_of;
use super::writer::PostgresWriter;
use crate::error::StoreError;
use crate::fold::Vanished;
use crate::merge::{Counts, Merge, stage_of};
use crate::mode::Mode;
use crate::plan::TablePlan;
use crate::postgres::connection::PostgresStore;
use crate::sql::{Scope, SqlConnection, moment_text};

impl PostgresWriter<'_> {
    /// Brings staged rows into their table.
    pub(super) fn merge(&mut self) -> Result<Counts, StoreError> {
        let mut all = Counts { deleted: self.deleted, ..Counts::default() };
        for (at, table) in self.plan.tables.iter().enumerate() {
            let Some(target) = &self.targets[at] else { continue };
            if !target.staged {
                if table.lineage != Lineage::Children {
                    let by_trigger = self.left_out(table, target.sent, target.missing)?;
                    all.inserted += target.sent - by_trigger;
                    all.left_out += by_trigger;
                    all.by_trigger += by_trigger;
                }
                continue;
            }
            let sent = target.sent;
            let mut counts = self.merge_table(at, table, sent)?;
            counts.vanished = self.let_vanish(at, table)?;
            all.vanished += counts.vanished;
            all.inserted += counts.inserted;
            all.updated += counts.updated;
            all.unchanged += counts.unchanged;
            all.left_out += counts.left_out;
        }
        self.drop_stages()?;
        Ok(all)
    }

    /// Lets keys vanish that a full delivery does not hold.
    fn let_vanish(&mut self, at: usize, table: &TablePlan) -> Result<u64, StoreError> {
        let merge = self.merge_of(at, table);
        let Some(sql) = merge.vanish(&self.moment()) else { return Ok(0) };
        let vanished = self.execute(&sql)?;
        self.too_many |= self.plan.rules.is_too_many(vanished, self.there_before);
        self.there += self.there_before;
        Ok(vanished)
    }

    fn merge_of(&self, at: usize, table: &TablePlan) -> Merge {
        let qualified = self.store.qualified(&table.table);
        merge_of(&qualified, table, &stage_of(at)).of_full_delivery(self.plan.rules.vanished)
    }

    /// From when on the rows of the file hold, as a literal.
    fn moment(&self) -> String {
        format!("timestamptz '{}'", moment_text(self.placed.order.effective.unwrap_or(self.plan.began)))
    }

    pub(super) fn drop_stages(&mut self) -> Result<(), StoreError> {
        let staged = self.targets.iter().enumerate();
        let staged = staged.filter(|(_, target)| target.as_ref().is_some_and(|target| target.staged));
        let all: Vec<String> = staged.map(|(at, _)| stage_of(at)).collect();
        all.iter().try_for_each(|stage| self.execute(&format!("DROP TABLE {stage}")).map(drop))
    }

    /// How many of the rows that the server did not put in are not in the table: a trigger may have
    /// put them into one that belongs to it.
    fn left_out(&self, table: &TablePlan, sent: u64, missing: u64) -> Result<u64, StoreError> {
        if missing == 0 || !table.lineage.is_kept() || self.plan.resubmits.is_some() {
            return Ok(missing);
        }
        let qualified = self.store.qualified(&table.table);
        let sql = format!("SELECT count(*) FROM {qualified} WHERE {FILE_COLUMN} = $1");
        let there: i64 = self.store.run(self.store.client.query_one(&sql, &[&self.file]))?.get(0);
        Ok(sent.saturating_sub(there.unsigned_abs()))
    }

    fn merge_table(&mut self, at: usize, table: &TablePlan, sent: u64) -> Result<Counts, StoreError> {
        let qualified = self.store.qualified(&table.table);
        let merge = self.merge_of(at, table);
        self.there_before = match merge.count_there() {
            Some(sql) => {
                let row = self.store.run(self.store.client.query_one(&sql, &[]))?;
                row.get::<_, i64>(0).unsigned_abs()
            }
            None => 0,
        };
        let is_marked = self.plan.rules.vanished == Vanished::Mark;
        if table.mode == Mode::Upsert && !is_marked && self.has_key_index(&qualified, table)? {
            return self.upsert(&merge, sent);
        }
        let doubles = self.execute(&merge.drop_doubles())?;
        let staged = sent.saturating_sub(doubles);
        self.know_size(&qualified, table)?;
        self.execute(&format!("ANALYZE {}", merge.stage()))?;
        let began = self.moment();
        Ok(match table.mode {
            Mode::InsertNew => {
                let inserted = self.execute(&merge.insert_new())?;
                Counts { inserted, left_out: doubles + staged.saturating_sub(inserted), ..Counts::default() }
            }
            Mode::History => {
                let updated = self.execute(&merge.end_versions(&began))?;
                let added = self.execute(&merge.begin_versions(&began))?;
                let (inserted, unchanged) = (added.saturating_sub(updated), staged.saturating_sub(added));
                Counts { inserted, updated, unchanged, left_out: doubles, ..Counts::default() }
            }
            _ => {
                let updated = self.execute(&merge.update())?;
                let inserted = self.execute(&merge.insert_new())?;
                // A table of others may hold a key more than once: more rows are updated then than were sent.
                let unchanged = staged.saturating_sub(updated + inserted);
                Counts { inserted, updated, unchanged, left_out: doubles, ..Counts::default() }
            }
        })
    }

    /// By the unique index on the key. Only if the server finds a key twice are doubles looked for.
    fn upsert(&mut self, merge: &Merge, sent: u64) -> Result<Counts, StoreError> {
        self.store.begin(Scope::Merge)?;
        let sql = upsert_by_index(merge);
        let run = |store: &PostgresStore| store.runtime.block_on(store.client.query_one(&sql, &[]));
        let mut doubles = 0;
        let row = match run(self.store) {
            Err(error) if error.code() == Some(&SqlState::CARDINALITY_VIOLATION) => {
                self.store.rollback(Scope::Merge)?;
                doubles = self.execute(&merge.drop_doubles())?;
                run(self.store).map_err(|error| self.store.fail(&error))?
            }
            other => other.map_err(|error| self.store.fail(&error))?,
        };
        let (inserted, written) = (row.get::<_, i64>(0) as u64, row.get::<_, i64>(1) as u64);
        Ok(Counts {
            inserted,
            updated: written - inserted,
            unchanged: sent.saturating_sub(doubles + written),
            left_out: doubles,
            ..Counts::default()
        })
    }

    /// Lets the server know how a table of ours has grown since it last knew: of one that it knows nothing
    /// of, it takes nearly all versions to be over.
    fn know_size(&self, qualified: &str, table: &TablePlan) -> Result<(), StoreError> {
        if !table.keeps_layout {
            return Ok(());
        }
        let sql = "SELECT pg_relation_size(oid) / 8192 > 2 * relpages + 8 FROM pg_class WHERE oid = to_regclass($1)";
        let row = self.store.run(self.store.client.query_opt(sql, &[&qualified]))?;
        if row.is_some_and(|row| row.get::<_, bool>(0)) {
            self.execute(&format!("ANALYZE {qualified}"))?;
        }
        Ok(())
    }

    /// Whether a unique index is just on the key: ours, or one that somebody else made.
    fn has_key_index(&self, qualified: &str, table: &TablePlan) -> Result<bool, StoreError> {
        // A table in partitions does not tell which of its rows are new.
        let sql =
            "SELECT count(*) > 0 FROM pg_index i JOIN pg_class c ON c.oid = i.indrelid AND c.relkind = 'r'
             WHERE i.indrelid = to_regclass($1) AND i.indisunique
             AND i.indpred IS NULL AND i.indexprs IS NULL AND i.indisvalid
             AND (SELECT array_agg(a.attname::text ORDER BY a.attname::text) FROM pg_attribute a
                  WHERE a.attrelid = i.indrelid AND a.attnum = ANY (i.indkey[0:i.indnkeyatts - 1])) = $2";
        let mut key = table.key.clone();
        key.sort();
        let row = self.store.run(self.store.client.query_one(sql, &[&qualified, &key]))?;
        Ok(row.get(0))
    }
}

/// Rows updated and added at once, where a unique index tells what is there; gives one row with how
/// many were added, and how many were written in all. A row that was added has no older version.
fn upsert_by_index(merge: &Merge) -> String {
    let columns = merge.columns().join(", ");
    let sets: Vec<String> = merge.columns().iter().map(|name| format!("{name} = excluded.{name}")).collect();
    format!(
        "WITH done AS (INSERT INTO {table} AS t ({columns}) SELECT {columns} FROM {stage} ON CONFLICT ({key}) DO UPDATE SET {sets} WHERE {differs} RETURNING (xmax = 0) AS fresh)
         SELECT count(*) FILTER (WHERE fresh), count(*) FROM done",
        table = merge.table(),
        stage = merge.stage(),
        key = merge.key().join(", "),
        sets = sets.join(", "),
        differs = merge.differs("t", "excluded"),
    )
}
