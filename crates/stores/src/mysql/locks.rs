//! Named locks: what only one session at a time may do. They end with the session, and so with its owner.

use mysql_async::Row;
use mysql_async::prelude::Queryable;

use super::connection::MysqlStore;
use crate::error::StoreError;

/// How long a lease outlives a machine that is gone, in seconds.
const LEASE_ENDS: u32 = 1800;

/// How many characters of a hash a name has: the server takes 64 in all.
const HASH: usize = 50;

impl MysqlStore {
    /// The name of a lock: it is one for the whole server, and has no more than 64 characters.
    pub(super) fn lock_name(&self, what: &str, of: &str) -> String {
        let key = format!("{}\0{what}\0{of}", self.address.database);
        let hash = blake3::hash(key.as_bytes()).to_hex();
        format!("hypodoke:{}", hash.get(..HASH).unwrap_or_default())
    }

    /// Waits for a lock that goes with the transaction.
    pub(super) fn wait_for_lock(&mut self, what: &str, of: &str) -> Result<(), StoreError> {
        let name = self.lock_name(what, of);
        if self.locks.contains(&name) {
            return Ok(());
        }
        if !self.get_lock(&name, self.wait_seconds())? {
            let why = format!("another process has the {what} in hand");
            return Err(StoreError::InUse { shown: self.shown.clone(), why });
        }
        self.locks.push(name);
        self.mark_claim(what, of)
    }

    /// Takes a lock that goes with the transaction; whether it was free.
    pub(super) fn try_lock(&mut self, what: &str, of: &str) -> Result<bool, StoreError> {
        let name = self.lock_name(what, of);
        if self.locks.contains(&name) {
            return Ok(true);
        }
        let is_free = self.get_lock(&name, 0)?;
        if is_free {
            self.locks.push(name);
        }
        Ok(is_free)
    }

    /// Takes locks that go with the transaction, at once; for each whether it was free.
    pub(super) fn try_locks(&mut self, what: &str, all: &[String]) -> Result<Vec<bool>, StoreError> {
        if all.is_empty() {
            return Ok(Vec::new());
        }
        let names: Vec<String> = all.iter().map(|of| self.lock_name(what, of)).collect();
        // The names are of letters, digits and a colon.
        let asked: Vec<String> = names.iter().map(|name| format!("GET_LOCK('{name}', 0)")).collect();
        let sql = format!("SELECT {}", asked.join(", "));
        let row: Option<Row> = self.with(async |conn| conn.query_first(sql).await)?;
        let is_free = |at: usize| {
            let value = row.as_ref().and_then(|row| row.get_opt::<Option<i64>, _>(at));
            value.and_then(Result::ok).flatten() == Some(1)
        };
        let free: Vec<bool> = (0..names.len()).map(is_free).collect();
        // One that is taken twice is let go of twice.
        let taken = names.into_iter().zip(&free).filter(|(_, is_free)| **is_free);
        self.locks.extend(taken.map(|(name, _)| name));
        Ok(free)
    }

    fn get_lock(&mut self, name: &str, seconds: u64) -> Result<bool, StoreError> {
        let rows = self.rows("SELECT GET_LOCK(?, ?)", vec![name.into(), seconds.into()])?;
        Ok(rows.first().and_then(|row: &Row| row.get::<Option<i64>, _>(0).flatten()) == Some(1))
    }

    /// Lets go of the locks that went with the transaction.
    pub(super) fn let_go(&mut self) -> Result<(), StoreError> {
        let locks = std::mem::take(&mut self.locks);
        if locks.is_empty() {
            return Ok(());
        }
        // The names are of letters, digits and a colon.
        let all: Vec<String> = locks.iter().map(|name| format!("RELEASE_LOCK('{name}')")).collect();
        self.run_script(&format!("DO {}", all.join(", ")))
    }

    /// Where several servers hold the same, a named lock is of one of them only: a row that is changed in the
    /// transaction keeps two of them from committing the same claim.
    pub(super) fn mark_claim(&mut self, what: &str, of: &str) -> Result<(), StoreError> {
        if !self.facts.is_cluster || what == "ledger" {
            return Ok(());
        }
        let name = self.lock_name(what, of);
        let sql =
            "INSERT INTO hd_claims (claim, times) VALUES (?, 1) ON DUPLICATE KEY UPDATE times = times + 1";
        self.rows(sql, vec![name.into()]).map(drop)
    }

    /// Takes what only one session may have; whether it was free. A machine that is gone is found out by the
    /// server within half an hour.
    pub fn lease(&mut self, name: &str) -> Result<bool, StoreError> {
        self.run_script(&format!("SET SESSION wait_timeout = {LEASE_ENDS}"))?;
        let name = self.lock_name("watch", name);
        self.get_lock(&name, 0)
    }
}
