//! Staged rows brought into their table by key.

use tokio_postgres::error::SqlState;

use super::connection::PostgresStore;
use crate::error::StoreError;
use crate::load_plan::Counts;
use crate::load_plan::Mode;
use crate::load_plan::TablePlan;
use crate::sql::{Scope, SqlConnection};
use crate::tables::merge::Merge;
use crate::tables::rebuild::RebuildTarget;

impl PostgresStore {
    /// See [`crate::tables::load_target::LoadTarget::merge_table`].
    pub(super) fn merge_staged(
        &mut self,
        merge: &Merge,
        table: &TablePlan,
        sent: u64,
        began: &str,
    ) -> Result<Counts, StoreError> {
        let qualified = self.qualified(&table.table);
        if table.mode == Mode::Upsert && !merge.marks_gone() && self.has_key_index(&qualified, table)? {
            return self.upsert(merge, sent);
        }
        let doubles = self.statement(&merge.drop_doubles())?;
        let staged = sent.saturating_sub(doubles);
        self.know_size(&qualified, table)?;
        self.statement(&format!("ANALYZE {}", merge.stage()))?;
        Ok(match table.mode {
            Mode::InsertNew => {
                let inserted = self.statement(&merge.insert_new())?;
                Counts { inserted, left_out: doubles + staged.saturating_sub(inserted), ..Counts::default() }
            }
            Mode::History => {
                let updated = self.statement(&merge.end_versions(began))?;
                let added = self.statement(&merge.begin_versions(began))?;
                let (inserted, unchanged) = (added.saturating_sub(updated), staged.saturating_sub(added));
                Counts { inserted, updated, unchanged, left_out: doubles, ..Counts::default() }
            }
            _ => {
                let updated = self.statement(&merge.update())?;
                let inserted = self.statement(&merge.insert_new())?;
                // A table of others may hold a key more than once: more rows are updated then than were sent.
                let unchanged = staged.saturating_sub(updated + inserted);
                Counts { inserted, updated, unchanged, left_out: doubles, ..Counts::default() }
            }
        })
    }

    /// By the unique index on the key. Only if the server finds a key twice are doubles looked for.
    fn upsert(&mut self, merge: &Merge, sent: u64) -> Result<Counts, StoreError> {
        self.begin(Scope::Merge)?;
        let sql = upsert_by_index(merge);
        let run = |store: &PostgresStore| store.runtime.block_on(store.client.query_one(&sql, &[]));
        let mut doubles = 0;
        let row = match run(self) {
            Err(error) if error.code() == Some(&SqlState::CARDINALITY_VIOLATION) => {
                self.rollback(Scope::Merge)?;
                doubles = self.statement(&merge.drop_doubles())?;
                run(self).map_err(|error| self.fail(&error))?
            }
            other => other.map_err(|error| self.fail(&error))?,
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
    fn know_size(&mut self, qualified: &str, table: &TablePlan) -> Result<(), StoreError> {
        if !table.keeps_layout {
            return Ok(());
        }
        let sql = "SELECT pg_relation_size(oid) / 8192 > 2 * relpages + 8 FROM pg_class WHERE oid = to_regclass($1)";
        let row = self.run(self.client.query_opt(sql, &[&qualified]))?;
        if row.is_some_and(|row| row.get::<_, bool>(0)) {
            self.statement(&format!("ANALYZE {qualified}"))?;
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
        let row = self.run(self.client.query_one(sql, &[&qualified, &key]))?;
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
