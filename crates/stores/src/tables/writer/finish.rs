//! The end of a load: its rows brought into the tables, and its entry written.

use hypodoke_core::cast::Rows;

use super::FileWriter;
use crate::error::StoreError;
use crate::failpoint::failpoint;
use crate::ledger::corrections;
use crate::ledger::files_in_force;
use crate::ledger::intents::Undo;
use crate::ledger::write::{self, LoadedCounts};
use crate::load_plan::{FileSummary, Finished, Mode};
use crate::tables::load_target::LoadTarget;
use crate::tables::placement::{self, KeptFile, Route};
use crate::tables::{Writer, commit};

impl<T: LoadTarget> Writer for FileWriter<'_, T> {
    fn write(&mut self, table: usize, rows: &mut Rows) -> Result<u64, StoreError> {
        self.store.refuse_unstorable(rows);
        self.insert_rows(table, rows)
    }

    fn commit(mut self: Box<Self>, summary: &FileSummary) -> Result<Finished, StoreError> {
        self.end_sending()?;
        if self.plan.keeps_for.is_some() {
            return self.finish_keeping();
        }
        let mut undo = self.undo(summary);
        let mut finished = self.bring_in(summary, &mut undo)?;
        let carried = corrections::carry(self.store.ledger(), self.plan, self.file, summary)?;
        (finished.counts.carried, finished.counts.uncorrected) = (carried.kept, carried.lost);
        // What the user's own statements may see of the ledger is what it will say.
        let mut later = self.store.link_mut().group.as_mut().map(|group| std::mem::take(&mut group.layouts));
        let loaded = LoadedCounts { file: self.file, summary, counts: &finished.counts };
        let ended = write::end_file(self.store.ledger(), self.plan, loaded, later.as_mut());
        if let (Some(group), Some(layouts)) = (&mut self.store.link_mut().group, later) {
            group.layouts = layouts;
        }
        ended?;
        failpoint!("load.ended");
        self.store.keep_changes(self.plan)?;
        self.statements(&self.plan.sql_after, "sql_after")?;
        commit::commit_load(self.store, self.scope, self.file, undo)?;
        self.done = true;
        self.restore_session();
        Ok(finished)
    }
}

impl<T: LoadTarget> Drop for FileWriter<'_, T> {
    fn drop(&mut self) {
        if self.done {
            return;
        }
        // If a connection is gone, the database undoes it by itself.
        self.store.give_up_sending();
        let _ = commit::rollback(self.store, self.scope);
        self.restore_session();
        self.store.undo_changes(self.plan);
    }
}

impl<T: LoadTarget> FileWriter<'_, T> {
    /// Keeps the rows, and does nothing else with them.
    fn finish_keeping(&mut self) -> Result<Finished, StoreError> {
        if let Some(packer) = &mut self.packer {
            packer.finish(self.store.archive(), &self.plan.tables)?;
        }
        files_in_force::set_kept(self.store.ledger(), self.file)?;
        commit::commit_ledger_only(self.store, self.scope)?;
        self.done = true;
        Ok(Finished { file: self.file, ..Finished::default() })
    }

    /// Brings the rows into the tables, whichever route they took. Files that it supersedes, or does not any
    /// more, are put down in `undo`.
    fn bring_in(&mut self, summary: &FileSummary, undo: &mut Undo) -> Result<Finished, StoreError> {
        let (plan, file) = (self.plan, self.file);
        if let Some(packer) = &mut self.packer {
            packer.finish(self.store.archive(), &plan.tables)?;
            files_in_force::set_kept(self.store.ledger(), file)?;
            failpoint!("load.kept");
        }
        if let Some(key) = &summary.order {
            self.placed.order.key.clone_from(key);
            files_in_force::set_order(self.store.ledger(), file, &self.placed.order)?;
        }
        let is_known = summary.order.is_none() || !self.is_direct();
        if !is_known && !placement::still_direct(self.store.ledger(), plan, file, &self.placed.order)? {
            self.drop_stages()?;
            self.placed.route = Route::Archive;
        }
        let finished = match self.placed.route {
            Route::Direct { .. } => Finished { file, counts: self.merge()?, ..Finished::default() },
            Route::Archive => {
                let kept = KeptFile { file, since: self.since };
                placement::rebuild_tables(self.store, plan, kept, summary, &mut undo.outcomes)?
            }
        };
        failpoint!("load.merged");
        if self.too_many {
            let (table, vanished) = (plan.table().to_owned(), finished.counts.vanished);
            return Err(StoreError::TooManyVanished { table, vanished, there: self.there });
        }
        Ok(finished)
    }

    /// What takes the entry back, as far as it is known before the rows are brought in.
    fn undo(&self, summary: &FileSummary) -> Undo {
        let forgets = self.plan.replaces.filter(|_| self.plan.mode() != Mode::Append);
        Undo {
            is_new: self.plan.resubmits.is_none(),
            outcomes: Vec::new(),
            corrected: summary.resubmitted.iter().map(|corrected| corrected.reject).collect(),
            counts: self.counts_before,
            since: self.since,
            forgets: forgets.into_iter().collect(),
        }
    }
}
