//! Where rows go: one file at a time, in one transaction with its entry in the ledger.

use hypodoke_core::cast::Rows;

use crate::error::StoreError;
use crate::mode::Mode;
use crate::plan::{FileSummary, Finished, LoadPlan, LoadRules, TablePlan};
use crate::rebuild::Comparison;

/// What a sink can promise. The engine relies on nothing else.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Capabilities {
    /// Rows and the file's entry in the ledger are committed together.
    pub ledger_with_rows: bool,
    /// Changes of a table are committed with the rows that need them.
    pub table_changes_with_rows: bool,
    /// Several files can be loaded in one transaction, each undone by itself.
    pub deliveries: bool,
    /// Several connections can load at the same time.
    pub many_writers: bool,
    /// The modes there are.
    pub modes: &'static [Mode],
    /// Its texts may hold NUL bytes.
    pub takes_nul: bool,
    /// How many columns a table may have, lineage columns included.
    pub most_columns: usize,
}

/// A database that rows are loaded into.
pub trait Sink {
    /// What it can promise.
    fn capabilities(&self) -> Capabilities;

    /// Begins to load a file. `None` if meanwhile somebody else loaded it.
    fn begin_load<'a>(&'a mut self, plan: &'a LoadPlan) -> Result<Option<Box<dyn Writer + 'a>>, StoreError>;

    /// Begins a delivery: files loaded from now on are kept all together, or none.
    fn begin_delivery(&mut self) -> Result<(), StoreError>;

    /// Ends a delivery: keeps its files, or takes them back.
    fn end_delivery(&mut self, keep: bool) -> Result<(), StoreError>;

    /// Holds the tables of a feed against what its files say, by the rows that are kept of them; `None`
    /// where they are not kept of all, are more than `most`, or have no key.
    fn compare(
        &mut self,
        tables: &[TablePlan],
        rules: &LoadRules,
        most: Option<u64>,
    ) -> Result<Option<Comparison>, StoreError>;

    /// Connects anew after the connection was lost.
    fn reconnect(&mut self) -> Result<(), StoreError>;
}

/// One file being loaded. Dropped before `finish`, it leaves nothing behind.
pub trait Writer {
    /// Takes a batch of rows in, and its rejects. Rows that the database will not have are
    /// added to the rejects; the rest is loaded. Gives how many were loaded.
    /// `table` is the table's place in the plan.
    fn rows(&mut self, table: usize, rows: &mut Rows) -> Result<u64, StoreError>;

    /// Commits the rows with the file's entry in the ledger. What the mode leaves out of the rows
    /// loaded is taken off them, here and in the ledger.
    fn finish(self: Box<Self>, summary: &FileSummary) -> Result<Finished, StoreError>;
}
