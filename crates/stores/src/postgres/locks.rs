//! Advisory locks: of files that are loaded, and of tables whose files are loaded in their order. They go with
//! the transaction, and so with its owner.

use super::connection::PostgresStore;
use crate::error::StoreError;

const LOCKS: &str = "SELECT pg_try_advisory_xact_lock(hashtextextended(key, 0))
  FROM unnest($1::text[]) WITH ORDINALITY AS c(key, at) ORDER BY at";

/// What a lock of a file is called.
fn of_file(key: &str) -> String {
    format!("hypodoke file {key}")
}

impl PostgresStore {
    /// Takes the locks of files that are free.
    pub(super) fn try_locks(&mut self, keys: &[String]) -> Result<Vec<bool>, StoreError> {
        self.settle_copy()?;
        let names: Vec<String> = keys.iter().map(|key| of_file(key)).collect();
        let locks = self.prepared(LOCKS)?;
        let rows = self.run(self.client.query(&locks, &[&names]))?;
        Ok(rows.iter().map(|row| row.get(0)).collect())
    }

    /// Takes the lock of a file, once it is free or if it is; whether it has it.
    pub(super) fn lock_one_file(&mut self, key: &str, waits: bool) -> Result<bool, StoreError> {
        let name = of_file(key);
        if waits {
            return self.wait_for(&name).map(|()| true);
        }
        self.settle_copy()?;
        let sql = "SELECT pg_try_advisory_xact_lock(hashtextextended($1, 0))";
        Ok(self.run(self.client.query_one(sql, &[&name]))?.get(0))
    }

    /// Waits until nobody else loads files into a table whose files are loaded in their order.
    pub(super) fn lock_table_order(&mut self, table: &str) -> Result<(), StoreError> {
        if self.link.group.as_ref().is_some_and(|group| group.in_order.contains(table)) {
            return Ok(());
        }
        self.settle_copy()?;
        self.wait_for(&format!("hypodoke order {}", self.qualified(table)))?;
        self.link.group.as_mut().map(|group| group.in_order.insert(table.to_owned()));
        Ok(())
    }

    fn wait_for(&self, key: &str) -> Result<(), StoreError> {
        let sql = "SELECT pg_advisory_xact_lock(hashtextextended($1, 0))::text";
        self.run(self.client.query_one(sql, &[&key])).map(drop)
    }
}
