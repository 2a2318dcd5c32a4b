//! A database in which tables are rebuilt.

use hypodoke_core::cast::{Cell, Rows};
use hypodoke_core::names::Lineage;

use super::key_forms::Loosely;
use super::table::TableRows;
use crate::error::StoreError;
use crate::sql::{SqlConnection, SqlRow};

/// Writes a moment as the database has it in a row.
pub type Moments = fn(i64, &mut Rows) -> Cell;

/// Rows for a temporary table.
pub struct StagedRows<'r> {
    /// The temporary table.
    pub stage: &'r str,
    /// The columns in the order of the cells, the lineage columns behind them, as in statements.
    pub columns: &'r [String],
    /// The lineage columns that it has.
    pub lineage: Lineage,
    /// The rows.
    pub rows: &'r Rows,
    /// For each row, its file's number in the ledger.
    pub files: &'r [i64],
    /// For each cell, whether it is a decimal that a table keeps as text, where that is told apart.
    pub table: &'r TableRows<'r>,
}

/// A database in which tables are rebuilt.
pub trait RebuildTarget: SqlConnection {
    /// The ledger that the loads of its tables are recorded in: here, or in another database.
    fn ledger(&mut self) -> &mut dyn SqlConnection;

    /// Where superseded rows are kept: with the ledger.
    fn archive(&mut self) -> &mut dyn SqlConnection {
        self.ledger()
    }

    /// A table's name in statements.
    fn table_sql(&self, table: &str) -> String;

    /// Runs a statement of the moment; gives how many rows it changed.
    fn statement(&mut self, sql: &str) -> Result<u64, StoreError>;

    /// The rows of a query of the moment.
    fn moment_entries(&mut self, sql: &str) -> Result<Vec<SqlRow>, StoreError>;

    /// Makes rows of a table of ours quick to find by key, where that takes more than it has.
    fn make_ready(&mut self, table: &TableRows<'_>) -> Result<(), StoreError>;

    /// Makes a temporary table with columns of a table, given as they stand in statements. Its rows will be
    /// found by those of `key`: some databases make its index now, others in [`RebuildTarget::index_stage`].
    fn make_stage(
        &mut self,
        stage: &str,
        table: &str,
        columns: &[String],
        key: &[String],
    ) -> Result<(), StoreError>;

    /// Makes rows of a temporary table quick to find by some columns.
    fn index_stage(&mut self, stage: &str, columns: &[String]) -> Result<(), StoreError>;

    /// Puts rows into a table, mostly a temporary one.
    fn fill_stage(&mut self, rows: &StagedRows<'_>) -> Result<(), StoreError>;

    /// The statement that takes out of a table what matches rows of a stage: `t` stands for the table
    /// in the condition, `s` for the stage.
    fn delete_matching(&self, table: &TableRows<'_>, stage: &str, condition: &str) -> String;

    /// How columns of a table compare texts, each where it does not compare their bytes.
    fn compared_loosely(
        &mut self,
        table: &str,
        columns: &[String],
    ) -> Result<Vec<Option<Loosely>>, StoreError>;

    /// A moment as a cell of a row.
    fn moment_cell(&self) -> Moments;
}
