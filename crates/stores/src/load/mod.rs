//! One file going into a database on a server: rows in bulk, rejects and the ledger's entry in one
//! transaction. What is peculiar to a server is its [`LoadTarget`].

mod careful;
mod merging;
mod target_table;
mod writer;

use std::ops::Range;

use hypodoke_core::cast::Rows;
use hypodoke_core::names::Lineage;

pub use target_table::TargetTable;
pub use writer::SqlWriter;

use crate::error::StoreError;
use crate::ledger::joined::JoinedLayout;
use crate::merge::{Counts, Merge};
use crate::plan::{LoadPlan, TablePlan};
use crate::rebuild::RebuildTarget;

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

/// A server that files are loaded into.
pub trait LoadTarget: RebuildTarget {
    /// How rows are sent to a table.
    type Form;

    /// Does what cannot be done in the transaction of a file, before it begins.
    fn before_load(&mut self, plan: &LoadPlan) -> Result<(), StoreError>;

    /// Whether all that the ledger knows of the file of a plan was asked for when it was claimed: it is loaded
    /// by nobody else, and nothing of it was loaded or taken out before.
    fn is_known(&self, plan: &LoadPlan) -> bool;

    /// Waits until nobody else loads the file of a plan.
    fn lock_file(&mut self, plan: &LoadPlan) -> Result<(), StoreError>;

    /// Waits until nobody else loads files into a table whose files are loaded in their order.
    fn lock_order(&mut self, table: &str) -> Result<(), StoreError>;

    /// Makes a table of a plan ready to take rows, and its stage where they go there first.
    fn target_table(
        &mut self,
        table: &TablePlan,
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
    ) -> Result<u64, StoreError>;

    /// Sends rows that may be refused: each statement says so by itself.
    fn send_checked(
        &mut self,
        at: usize,
        target: &mut TargetTable<Self::Form>,
        rows: RowsOfFile<'_>,
        range: Range<usize>,
    ) -> Result<u64, StoreError>;

    /// Ends what is on its way: rows of the table at some place in the plan. Gives that place, and how many
    /// of its rows the server did not put in.
    ///
    /// # Errors
    ///
    /// The server has refused some of them.
    fn end_sending(&mut self) -> Result<Option<(usize, u64)>, StoreError>;

    /// Gives up what is on its way.
    fn give_up_sending(&mut self);

    /// Why statements of the user's own cannot be run at all: looked at before the transaction begins.
    fn refused_statement(&self, statements: &str, is_before: bool) -> Option<String>;

    /// Runs statements of the user's own; why they cannot be run, in the database's words.
    fn run_statements(&mut self, statements: &str) -> Result<(), String>;

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

    /// The layouts that files of the group that is open have found, where they are kept when it ends. They are
    /// put back at once.
    fn take_layouts(&mut self) -> Option<Vec<JoinedLayout>> {
        None
    }

    /// See [`LoadTarget::take_layouts`].
    fn put_layouts(&mut self, _: Option<Vec<JoinedLayout>>) {}

    /// Takes out of the rows what no text of the server's holds, and rejects it.
    fn refuse_unstorable(&self, rows: &mut Rows);

    /// Called in the transaction of a file, before it is committed: the changes of its tables stay.
    fn keep_changes(&mut self, plan: &LoadPlan) -> Result<(), StoreError>;

    /// Called when a file that was begun is not loaded, and its transaction undone.
    fn undo_changes(&mut self, plan: &LoadPlan);
}
