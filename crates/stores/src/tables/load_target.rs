//! A database that files are loaded into: what is peculiar to it, behind one trait.

use std::ops::Range;

use hypodoke_core::cast::Rows;
use hypodoke_core::names::Lineage;

use super::link::LedgerLink;
use super::merge::Merge;
use super::rebuild::RebuildTarget;
use super::target_table::TargetTable;
use super::{Capabilities, Writer};
use crate::error::StoreError;
use crate::ledger::Ledger;
use crate::load_plan::{Counts, LoadPlan, TablePlan};
use crate::sql::{Scope, SqlDatabase};

/// A file's rows on their way.
#[derive(Clone, Copy)]
pub struct RowsOfFile<'r> {
    /// The file's number in the ledger.
    pub file: i64,
    /// The lineage columns of the table.
    pub lineage: Lineage,
    /// The rows.
    pub rows: &'r Rows,
}

/// What became of rows that were sent.
#[derive(Debug, Default)]
pub struct Sent {
    /// How many were taken.
    pub taken: u64,
    /// Those that the database has refused one by one, with its reasons.
    pub refused: Vec<(usize, String)>,
}

/// A database that files are loaded into.
pub trait LoadTarget: RebuildTarget + SqlDatabase + Send {
    /// How rows are sent to a table.
    type Form;

    /// It says of each row whether it is refused, so that there is no need to send rows in small lots.
    const REFUSES_ROWS_ONE_BY_ONE: bool = false;

    /// What ties it to the ledger.
    fn link(&self) -> &LedgerLink;

    /// See [`LoadTarget::link`].
    fn link_mut(&mut self) -> &mut LedgerLink;

    /// The ledger that its loads are recorded in.
    fn records(&mut self) -> &mut dyn Ledger {
        if self.link().is_elsewhere() {
            return self.link_mut().other();
        }
        self
    }

    /// What it can promise, with a ledger of its own.
    fn promises(&self) -> Capabilities;

    /// Begins to load a file by a shorter way, where there is one for it.
    fn begin_shortened<'a>(
        &'a mut self,
        _plan: &'a LoadPlan,
    ) -> Result<Option<Box<dyn Writer + 'a>>, StoreError> {
        Ok(None)
    }

    /// Whether the file of a plan can be loaded by the shorter way.
    fn is_shortened(&self, _plan: &LoadPlan) -> bool {
        false
    }

    /// Does what cannot be done in the transaction of a file, before it begins.
    fn before_load(&mut self, _plan: &LoadPlan) -> Result<(), StoreError> {
        Ok(())
    }

    /// Does what cannot be done in the transaction of a group, before it begins.
    fn before_group(&mut self) -> Result<(), StoreError> {
        Ok(())
    }

    /// Called when a group has begun.
    fn group_began(&mut self) {}

    /// Sends what a group has put off.
    fn finish_group(&mut self) -> Result<(), StoreError> {
        Ok(())
    }

    /// Called when a group has ended, kept or not.
    ///
    /// # Errors
    ///
    /// The connection is of no use any more.
    fn after_group(&mut self, _is_kept: bool) -> Result<(), StoreError> {
        Ok(())
    }

    /// Begins a transaction that tables are only read in.
    fn begin_reading(&mut self) -> Result<(), StoreError> {
        self.begin(Scope::Whole)
    }

    /// Whether a transaction has the database to itself, and nobody else has written since it was opened.
    fn is_alone(&mut self) -> Result<bool, StoreError> {
        Ok(false)
    }

    /// Whether a claim is all it takes to load a file, or has to be marked in its transaction as well.
    fn claims_suffice(&self) -> bool {
        true
    }

    /// Takes the locks of files that are free, by the keys of their claims.
    fn try_lock_files(&mut self, keys: &[String]) -> Result<Vec<bool>, StoreError>;

    /// Takes the lock of a file, once it is free or if it is; whether it has it.
    fn lock_file(&mut self, key: &str, waits: bool) -> Result<bool, StoreError>;

    /// Waits until nobody else loads files into a table whose files are loaded in their order.
    fn lock_order(&mut self, table: &str) -> Result<(), StoreError>;

    /// Called when so many files were claimed.
    fn claimed(&mut self, _files: usize) -> Result<(), StoreError> {
        Ok(())
    }

    /// Whether a table is known to be as a plan says, since nobody else has changed it in this transaction.
    fn knows_table(&self, _table: &TablePlan) -> bool {
        false
    }

    /// Called when all tables of a plan are ready.
    fn tables_are_ready(&mut self, _plan: &LoadPlan) {}

    /// Makes a table of a plan ready to take rows, and its stage where they go there first.
    fn target_table(
        &mut self,
        table: &TablePlan,
        file: i64,
        stage: Option<String>,
    ) -> Result<TargetTable<Self::Form>, StoreError>;

    /// The lineage columns that a table has, if it is there.
    fn lineage_of(&mut self, table: &str) -> Result<Option<Lineage>, StoreError>;

    /// Sends rows to a table: the one that is `at` this place in the plan.
    fn send(
        &mut self,
        at: usize,
        target: &mut TargetTable<Self::Form>,
        rows: RowsOfFile<'_>,
        range: Range<usize>,
    ) -> Result<Sent, StoreError>;

    /// Sends rows that may be refused: each statement says so by itself.
    fn send_checked(
        &mut self,
        at: usize,
        target: &mut TargetTable<Self::Form>,
        rows: RowsOfFile<'_>,
        range: Range<usize>,
    ) -> Result<Sent, StoreError> {
        self.send(at, target, rows, range)
    }

    /// Ends what is on its way: rows of the table at some place in the plan. Gives that place, and how many
    /// of its rows the server did not put in.
    ///
    /// # Errors
    ///
    /// The server has refused some of them.
    fn end_sending(&mut self) -> Result<Option<(usize, u64)>, StoreError> {
        Ok(None)
    }

    /// Gives up what is on its way.
    fn give_up_sending(&mut self) {}

    /// Why statements of the user's own cannot be run at all: looked at before the transaction begins.
    fn refused_statement(&self, _statements: &str, _is_before: bool) -> Option<String> {
        None
    }

    /// Runs statements of the user's own; why they cannot be run, in the database's words.
    fn run_statements(&mut self, statements: &str) -> Result<(), StoreError>;

    /// Puts back the settings of the session that statements of the user's own may have changed, once their
    /// file is a part of its transaction, or is undone.
    fn restore_session(&mut self) -> Result<(), StoreError>;

    /// Gives the connection up: whatever is asked of it next fails as lost, so that another takes its place.
    fn give_up_connection(&mut self) {}

    /// Brings staged rows into their table by key; `moment` is a literal for when they hold from.
    fn merge_table(
        &mut self,
        merge: &Merge,
        table: &TablePlan,
        staged: &TargetTable<Self::Form>,
        moment: &str,
    ) -> Result<Counts, StoreError>;

    /// A moment as a literal.
    fn moment_literal(&self, micros: i64) -> String;

    /// Takes out of the rows what no text of the server's holds, and rejects it.
    fn refuse_unstorable(&self, _rows: &mut Rows) {}

    /// Called in the transaction of a file, before it is committed: the changes of its tables stay.
    fn keep_changes(&mut self, _plan: &LoadPlan) -> Result<(), StoreError> {
        Ok(())
    }

    /// Called when a file that was begun is not loaded, and its transaction undone.
    fn undo_changes(&mut self, _plan: &LoadPlan) {}
}
