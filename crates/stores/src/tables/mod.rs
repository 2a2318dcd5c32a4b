//! Tables that rows go into: one file at a time, and what keeps them in step with the ledger.

pub mod catalog;
pub mod claims;
pub mod commit;
pub mod link;
pub mod load_target;
pub mod merge;
pub mod pairing;
pub mod placement;
pub mod rebuild;
pub mod row_archive;
mod sql_tables;
pub mod target_table;
pub mod versions;
pub mod writer;

use hypodoke_core::arrival::Arrival;
use hypodoke_core::cast::Rows;

use catalog::Catalog;
use rebuild::Comparison;

use crate::error::StoreError;
use crate::ledger::Ledger;
use crate::load_plan::{FileSummary, Finished, LoadPlan, LoadRules, Mode, TablePlan};

/// What tables can promise. The engine relies on nothing else.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Capabilities {
    /// Rows and the file's entry in the ledger are committed together.
    pub ledger_with_rows: bool,
    /// Changes of a table are committed with the rows that need them.
    pub table_changes_with_rows: bool,
    /// Several files can be loaded in one transaction, each undone by itself.
    pub groups: bool,
    /// Several connections can load at the same time.
    pub many_writers: bool,
    /// The modes there are.
    pub modes: &'static [Mode],
    /// Its texts may hold NUL bytes.
    pub takes_nul: bool,
    /// How many columns a table may have, lineage columns included.
    pub most_columns: usize,
}

/// A file that is to be loaded in the group that is open.
#[derive(Clone, Copy, Debug)]
pub struct Claim<'a> {
    /// The file.
    pub arrival: &'a Arrival,
    /// The newest entry of it that is known, 0 where there is none: as in a [`LoadPlan`].
    pub known_until: i64,
}

/// What became of a claim.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Claimed {
    /// Nobody else loads the file before the group has ended.
    Ours,
    /// Somebody else is about to load it.
    Taken,
    /// It is loaded by now.
    Loaded,
}

/// Tables that rows are loaded into, and the ledger that their loads are recorded in.
pub trait Tables: Catalog + Send {
    /// The ledger that loads are recorded in: in the same database, or in another.
    fn ledger(&mut self) -> &mut dyn Ledger;

    /// What they can promise.
    fn capabilities(&self) -> Capabilities;

    /// Makes the ledger where it is missing, and what the tables need to be in step with it.
    ///
    /// # Errors
    ///
    /// They do not belong together, or the right to make a table is missing.
    fn prepare(&mut self) -> Result<(), StoreError>;

    /// Settles loads that did not come to their end, where rows and ledger are committed apart: those whose
    /// rows are in are done, the others are taken out of the ledger.
    fn recover(&mut self) -> Result<(), StoreError>;

    /// Begins to load a file. `None` if meanwhile somebody else loaded it.
    fn begin<'a>(&'a mut self, plan: &'a LoadPlan) -> Result<Option<Box<dyn Writer + 'a>>, StoreError>;

    /// Begins a group of files: what is loaded and recorded from now on is kept all together, or none of it.
    /// A file of it that fails is undone by itself.
    fn begin_group(&mut self) -> Result<(), StoreError>;

    /// Ends the group: keeps its files, or takes them back.
    ///
    /// # Errors
    ///
    /// The group is not kept, or the connection was lost before the answer came.
    fn end_group(&mut self, keep: bool) -> Result<(), StoreError>;

    /// Claims files of a table for the group that is open, so that no two processes load one, nor wait for
    /// each other. Where files are `in_order`, this waits until nobody else loads into the table.
    fn claim(
        &mut self,
        _table: &str,
        _in_order: bool,
        files: &[Claim<'_>],
    ) -> Result<Vec<Claimed>, StoreError> {
        Ok(vec![Claimed::Ours; files.len()])
    }

    /// Holds the tables of a feed against what its files say, by the rows that are kept of them; `None`
    /// where they are not kept of all, are more than `most`, or have no key.
    fn compare(
        &mut self,
        tables: &[TablePlan],
        rules: &LoadRules,
        most: Option<u64>,
    ) -> Result<Option<Comparison>, StoreError>;

    /// Deletes the rows of files from a table, which has the column that names the file; gives how many they were.
    fn delete_rows_of(&mut self, table: &str, files: &[i64]) -> Result<u64, StoreError>;

    /// How many rows of a table of versions hold now; of another table, how many there are.
    fn count_current_rows(&mut self, table: &str) -> Result<u64, StoreError> {
        self.count_rows(table)
    }

    /// Whether the connections may be used again after a while: they still stand, and lead where they led.
    fn is_alive(&mut self) -> bool {
        true
    }

    /// Connects anew after a connection was lost.
    fn reconnect(&mut self) -> Result<(), StoreError>;
}

/// One file being loaded. Dropped before [`Writer::commit`], it leaves nothing behind.
pub trait Writer {
    /// Takes a batch of rows in, and its rejects. Rows that the database will not have are
    /// added to the rejects; the rest is loaded. Gives how many were loaded.
    /// `table` is the table's place in the plan.
    fn write(&mut self, table: usize, rows: &mut Rows) -> Result<u64, StoreError>;

    /// Commits the rows with the file's entry in the ledger. What the mode leaves out of the rows
    /// loaded is taken off them, here and in the ledger.
    fn commit(self: Box<Self>, summary: &FileSummary) -> Result<Finished, StoreError>;
}
