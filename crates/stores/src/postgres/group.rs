//! Files loaded in one transaction, and claimed together: no two connections load one, nor does one wait
//! for what another has in hand.

use std::time::SystemTime;

use tokio_postgres::types::ToSql;

use super::connection::PostgresStore;
use super::open_group::OpenGroup;
use super::session::moment;
use crate::error::StoreError;
use crate::plan::LoadPlan;
use crate::sink::{Claim, Claimed};
use crate::sql::{Scope, SqlConnection};

const LOCKS: &str = "SELECT pg_try_advisory_xact_lock(hashtextextended(key, 0))
  FROM unnest($1::text[]) WITH ORDINALITY AS c(key, at) ORDER BY at";

/// Each file is looked up by its path: the index on tables would give all files of one. For each whether it
/// is loaded by now; whether there are newer entries of it than is known; and
/// whether it was taken out once.
const STATES: &str = "SELECT
       coalesce(bool_or(f.outcome IN ('loaded', 'superseded') AND f.replaced_by IS NULL AND f.bytes = c.bytes
         AND f.modified_at = c.modified AND (c.token = '' OR coalesce(f.version_token, c.token) = c.token)), false),
       coalesce(bool_or(f.outcome IN ('loaded', 'superseded', 'discarded') AND f.file > c.known), false),
       coalesce(bool_or(f.outcome = 'retracted'), false)
     FROM unnest($1::text[], $2::text[], $3::bigint[], $4::timestamptz[], $5::text[], $6::bigint[])
       WITH ORDINALITY AS c(place, path, bytes, modified, token, known, at)
     LEFT JOIN hd_files f ON f.place = c.place AND f.path = c.path AND f.table_name || '' = $7
     GROUP BY c.at ORDER BY c.at";

/// The key of the lock of a file that goes into a table.
fn file_key(place: &str, path: &str, table: &str) -> String {
    format!("hypodoke file {place}\u{1f}{path}\u{1f}{table}").replace('\0', "\u{1f}")
}

impl PostgresStore {
    /// See [`crate::sink::Sink::begin_group`].
    pub(super) fn open_group(&mut self) -> Result<(), StoreError> {
        self.begin(Scope::Whole)?;
        self.group = Some(OpenGroup::default());
        Ok(())
    }

    /// See [`crate::sink::Sink::end_group`].
    pub(super) fn close_group(&mut self, keep: bool) -> Result<(), StoreError> {
        if self.group.is_none() {
            let why = "the transaction of several files is not open any more".to_owned();
            return Err(StoreError::Lost { shown: self.shown.clone(), why });
        }
        let kept = if keep { self.finish_bulk() } else { Ok(()) };
        self.group = None;
        if self.is_unusable {
            let why = "a COPY was refused".to_owned();
            return Err(kept.err().unwrap_or(StoreError::Lost { shown: self.shown.clone(), why }));
        }
        if !keep {
            return self.rollback(Scope::Whole);
        }
        // The server answers a COMMIT of what it has given up already as if all were well.
        let kept = kept.and_then(|()| self.script("SELECT 1")).and_then(|()| self.commit(Scope::Whole));
        if kept.is_err() {
            let _ = self.rollback(Scope::Whole);
        }
        kept
    }

    /// See [`crate::sink::Sink::claim`].
    pub(super) fn claim_files(
        &mut self,
        table: &str,
        in_order: bool,
        files: &[Claim<'_>],
    ) -> Result<Vec<Claimed>, StoreError> {
        self.settle_copy()?;
        if in_order {
            self.lock_table_order(table)?;
        }
        let keys: Vec<String> =
            files.iter().map(|file| file_key(&file.arrival.place, &file.arrival.path, table)).collect();
        let (locks, states) = (self.prepared(LOCKS)?, self.prepared(STATES)?);
        let arrivals = || files.iter().map(|file| file.arrival);
        let places: Vec<&str> = arrivals().map(|arrival| arrival.place.as_str()).collect();
        let paths: Vec<&str> = arrivals().map(|arrival| arrival.path.as_str()).collect();
        let tokens: Vec<&str> =
            arrivals().map(|arrival| arrival.token.as_deref().unwrap_or_default()).collect();
        let bytes: Vec<i64> = arrivals().map(|arrival| arrival.bytes as i64).collect();
        let modified: Vec<SystemTime> = arrivals().map(|arrival| moment(arrival.modified)).collect();
        let known: Vec<i64> = files.iter().map(|file| file.known_until).collect();
        // The second is answered by what is committed once the locks are held.
        let asked = async {
            let keys: [&(dyn ToSql + Sync); 1] = [&keys];
            let locks = self.client.query(&locks, &keys);
            let parameters: [&(dyn ToSql + Sync); 7] =
                [&places, &paths, &bytes, &modified, &tokens, &known, &table];
            let states = self.client.query(&states, &parameters);
            futures_util::future::try_join(locks, states).await
        };
        let (locked, states) = self.run(asked)?;
        let mut claimed = Vec::with_capacity(files.len());
        for (((key, file), lock), state) in keys.into_iter().zip(files).zip(&locked).zip(&states) {
            let is_ours: bool = lock.get(0);
            let (is_loaded, has_newer, was_retracted): (bool, bool, bool) =
                (state.get(0), state.get(1), state.get(2));
            claimed.push(match (is_loaded, is_ours) {
                (true, _) => Claimed::Loaded,
                (false, false) => Claimed::Taken,
                (false, true) => {
                    let group = self.group.as_mut().filter(|_| !has_newer && !was_retracted);
                    group.map(|group| group.claimed.insert(key, file.known_until));
                    Claimed::Ours
                }
            });
        }
        self.may_draw()?;
        let ours = claimed.iter().filter(|claimed| **claimed == Claimed::Ours).count();
        if let Some(group) = &mut self.group {
            group.bulk.wants_numbers(ours);
        }
        Ok(claimed)
    }

    /// Whether nobody else loads the file of a plan, and all that is in the ledger of it is known: it was
    /// claimed.
    pub(super) fn has_claimed(&self, plan: &LoadPlan) -> bool {
        let key = file_key(&plan.arrival.place, &plan.arrival.path, plan.table());
        let known = self.group.as_ref().and_then(|group| group.claimed.get(&key));
        plan.replaces.is_none() && known.is_some_and(|known| plan.known_until == Some(*known))
    }

    /// Waits until nobody else loads the file of a plan. The lock goes with the transaction, and so with its
    /// owner.
    pub(super) fn lock_one_file(&mut self, plan: &LoadPlan) -> Result<(), StoreError> {
        let key = file_key(&plan.arrival.place, &plan.arrival.path, plan.table());
        if self.group.is_some() {
            // Whoever has others in hand does not wait: two would wait for each other.
            let sql = "SELECT pg_try_advisory_xact_lock(hashtextextended($1, 0))";
            if !self.run(self.client.query_one(sql, &[&key]))?.get::<_, bool>(0) {
                let why = "another process loads this file".to_owned();
                return Err(StoreError::Aborted { shown: self.shown.clone(), why });
            }
            return Ok(());
        }
        self.wait_for(&key)
    }

    /// Waits until nobody else loads files into a table whose files are loaded in their order.
    pub(super) fn lock_table_order(&mut self, table: &str) -> Result<(), StoreError> {
        if self.group.as_ref().is_some_and(|group| group.in_order.contains(table)) {
            return Ok(());
        }
        self.wait_for(&format!("hypodoke order {}", self.qualified(table)))?;
        self.group.as_mut().map(|group| group.in_order.insert(table.to_owned()));
        Ok(())
    }

    fn wait_for(&self, key: &str) -> Result<(), StoreError> {
        let sql = "SELECT pg_advisory_xact_lock(hashtextextended($1, 0))::text";
        self.run(self.client.query_one(sql, &[&key])).map(drop)
    }
}
