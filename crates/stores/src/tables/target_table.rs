//! A table that is ready to take rows.

use hypodoke_core::names::Lineage;

/// A table of a plan, ready to take rows; `F` is how rows are sent to it.
pub struct TargetTable<F> {
    /// How rows are sent to it.
    pub form: F,
    /// Its columns in the order of the cells, and ours behind them.
    pub columns: Vec<String>,
    /// Rows go to the stage first, and are numbered there.
    pub staged: bool,
    /// How many rows were sent.
    pub sent: u64,
    /// How many of these the server did not put in: a trigger of the table left them out, or put
    /// them elsewhere; or a later row of the same key took their place in the stage.
    pub missing: u64,
}

impl<F> TargetTable<F> {
    /// Whether it takes rows of these columns.
    pub fn is_of<'c>(&self, columns: impl Iterator<Item = &'c str>, lineage: Lineage) -> bool {
        let all = columns.chain(lineage.columns().iter().copied());
        self.columns.iter().map(String::as_str).eq(all)
    }
}
