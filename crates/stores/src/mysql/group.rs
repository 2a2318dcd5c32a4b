//! Files loaded in one transaction, and claimed together: no two connections load one, nor does one wait for
//! what another has in hand.

use std::collections::HashSet;

use super::connection::MysqlStore;
use crate::error::StoreError;
use crate::ledger::write;
use crate::plan::LoadPlan;
use crate::sink::{Claim, Claimed};
use crate::sql::{Scope, SqlConnection};

/// The transaction of a group of files, as far as it has come.
#[derive(Default)]
pub struct OpenGroup {
    /// Something was written in it.
    pub(super) is_dirty: bool,
    /// The files that were claimed, by the names of their locks.
    claimed: HashSet<String>,
}

/// The key of the lock of a file that goes into a table.
fn file_key(place: &str, path: &str, table: &str) -> String {
    format!("{place}\u{1f}{path}\u{1f}{table}")
}

impl MysqlStore {
    /// See [`crate::sink::Sink::begin_group`].
    pub(super) fn open_group(&mut self) -> Result<(), StoreError> {
        self.make_due_changes()?;
        self.begin(Scope::Whole)?;
        self.group = Some(OpenGroup::default());
        Ok(())
    }

    /// See [`crate::sink::Sink::end_group`].
    pub(super) fn close_group(&mut self, keep: bool) -> Result<(), StoreError> {
        if self.group.take().is_none() {
            return Err(self.lost("the transaction of several files is not open any more"));
        }
        let ended = match keep {
            true => self.commit(Scope::Whole),
            false => self.rollback(Scope::Whole),
        };
        if keep && ended.is_err() {
            let _ = self.rollback(Scope::Whole);
        }
        self.drop_unused();
        ended
    }

    /// See [`crate::sink::Sink::claim`].
    pub(super) fn claim_files(
        &mut self,
        table: &str,
        in_order: bool,
        files: &[Claim<'_>],
    ) -> Result<Vec<Claimed>, StoreError> {
        if in_order {
            self.wait_for_lock("order of the table", table)?;
        }
        let mut all = Vec::with_capacity(files.len());
        for Claim { arrival, .. } in files {
            let key = file_key(&arrival.place, &arrival.path, table);
            let is_ours = self.try_lock("file", &key)?;
            let claimed = match write::is_in_table(self, arrival, table)? {
                true => Claimed::Loaded,
                false if is_ours => Claimed::Ours,
                false => Claimed::Taken,
            };
            if let (Claimed::Ours, Some(group)) = (claimed, &mut self.group) {
                group.claimed.insert(key);
            }
            all.push(claimed);
        }
        Ok(all)
    }

    /// Waits until nobody else loads the file of a plan. The lock goes with the transaction, and so with its
    /// owner.
    pub(super) fn lock_one_file(&mut self, plan: &LoadPlan) -> Result<(), StoreError> {
        let key = file_key(&plan.arrival.place, &plan.arrival.path, plan.table());
        let Some(group) = &self.group else { return self.wait_for_lock("file", &key) };
        // Whoever has others in hand does not wait: two would wait for each other.
        if !group.claimed.contains(&key) && !self.try_lock("file", &key)? {
            let why = "another process loads this file".to_owned();
            return Err(StoreError::Aborted { shown: self.shown.clone(), why });
        }
        self.mark_claim("file", &key)
    }
}
