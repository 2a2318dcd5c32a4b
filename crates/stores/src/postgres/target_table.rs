//! A table that is ready to take rows.

use hypodoke_core::names::Lineage;

use super::copy::Wire;

/// A table of the plan, ready to take rows.
pub struct TargetTable {
    pub(in crate::postgres) sql: String,
    /// Its columns in the order of the cells, and ours behind them.
    pub(in crate::postgres) columns: Vec<String>,
    pub(in crate::postgres) wires: Vec<Wire>,
    /// Rows go to the stage first, and are numbered there.
    pub(in crate::postgres) staged: bool,
    pub(in crate::postgres) sent: u64,
    /// How many of these the server did not put in: a trigger of the table left them out, or put
    /// them elsewhere.
    pub(in crate::postgres) missing: u64,
}

impl TargetTable {
    /// Whether it takes rows of these columns.
    pub fn is_of<'c>(&self, columns: impl Iterator<Item = &'c str>, lineage: Lineage) -> bool {
        let all = columns.chain(lineage.columns().iter().copied());
        self.columns.iter().map(String::as_str).eq(all)
    }
}
