//! A file being loaded, as far as it has come.

use super::rejected_keys::RejectedKeys;
use crate::error::StoreError;
use crate::ledger::intents::EntryCounts;
use crate::load_plan::LoadPlan;
use crate::sql::Scope;
use crate::tables::load_target::LoadTarget;
use crate::tables::placement::{Placed, Route};
use crate::tables::row_archive::Packer;
use crate::tables::target_table::TargetTable;

/// A file being loaded. Dropped, it rolls everything back.
pub struct FileWriter<'a, T: LoadTarget> {
    pub(super) store: &'a mut T,
    pub(super) plan: &'a LoadPlan,
    pub(super) file: i64,
    pub(super) targets: Vec<Option<TargetTable<T::Form>>>,
    /// The table that rows are on their way to.
    pub(super) sending_to: Option<usize>,
    pub(super) deleted: u64,
    pub(super) scope: Scope,
    pub(super) done: bool,
    /// Where the file stands, and the route that its rows take.
    pub(super) placed: Placed,
    /// What keeps the rows, where they are kept.
    pub(super) packer: Option<Packer>,
    /// The first of the blocks that are kept of it now.
    pub(super) since: i64,
    /// The counts of the entry before, where the load resubmits rejects of it.
    pub(super) counts_before: Option<EntryCounts>,
    /// How many keys there were in the table in hand, and in all, before a full delivery.
    pub(super) there_before: u64,
    pub(super) there: u64,
    /// Too many of them are gone.
    pub(super) too_many: bool,
    /// The keys of rejected rows, of each table.
    pub(super) rejected_keys: Vec<RejectedKeys>,
}

impl<'a, T: LoadTarget> FileWriter<'a, T> {
    pub(super) fn new(store: &'a mut T, plan: &'a LoadPlan, scope: Scope) -> FileWriter<'a, T> {
        FileWriter {
            store,
            plan,
            file: 0,
            targets: Vec::new(),
            sending_to: None,
            deleted: 0,
            scope,
            done: false,
            placed: Placed::default(),
            packer: None,
            since: 0,
            counts_before: None,
            there_before: 0,
            there: 0,
            too_many: false,
            rejected_keys: Vec::new(),
        }
    }

    /// Whether rows go straight into their tables.
    pub(super) fn is_direct(&self) -> bool {
        matches!(self.placed.route, Route::Direct { .. })
    }

    /// Ends what is on its way, so that the connection takes other statements.
    pub(super) fn end_sending(&mut self) -> Result<(), StoreError> {
        self.sending_to = None;
        if let Some((at, missing)) = self.store.end_sending()?
            && let Some(Some(target)) = self.targets.get_mut(at)
        {
            target.missing += missing;
        }
        Ok(())
    }

    pub(super) fn write_kept(&mut self) -> Result<(), StoreError> {
        self.end_sending()?;
        match &mut self.packer {
            Some(packer) => packer.write(self.store.archive(), &self.plan.tables),
            None => Ok(()),
        }
    }

    /// Puts the session back as it was before statements of the user's own were run in it.
    pub(super) fn restore_session(&mut self) {
        let has_statements = !self.plan.sql_before.is_empty() || !self.plan.sql_after.is_empty();
        if has_statements && self.store.restore_session().is_err() {
            self.store.give_up_connection();
        }
    }

    pub(super) fn statements(
        &mut self,
        statements: &[String],
        setting: &'static str,
    ) -> Result<(), StoreError> {
        for statement in statements {
            let done = self.store.run_statements(statement);
            done.map_err(|error| error.in_statement(setting, statement))?;
        }
        Ok(())
    }
}
