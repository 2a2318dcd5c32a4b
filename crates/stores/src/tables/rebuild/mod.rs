//! What a table holds, rebuilt for the keys that a change among its files concerns: one that
//! came late, was corrected, or is taken out.
//!
//! The rows of every file are kept in the ledger. What the files in force said before the change and
//! what they say now is folded key by key, and only the difference is written. A row that is not what
//! the files had said was changed by somebody else: it and its key are left as they are. A key that is not in
//! the table was changed by nobody: its rows come back. A load that restores writes all rows of its keys anew.

mod apply;
mod arena;
mod ask_forms;
mod bring;
mod change;
mod children;
mod compare;
mod group;
mod key_forms;
mod key_rows;
mod rejected_keys;
mod restore;
mod stages;
mod table;
mod target;
#[cfg(test)]
mod tests;
mod touched;

pub use arena::Arena;
pub use bring::bring_in;
pub use change::{Change, FileRows, Rebuilt};
pub use compare::{Comparison, RowOfFile, compare};
use group::Group;
pub use key_forms::Loosely;
pub use table::TableRows;
pub use target::{Moments, RebuildTarget, StagedRows};

use crate::error::StoreError;

/// Rebuilds the tables of a keyed mode.
pub fn rebuild(target: &mut dyn RebuildTarget, change: &Change<'_>) -> Result<Rebuilt, StoreError> {
    let mut all = Rebuilt::default();
    for (main, parts) in change.groups() {
        all.add(&Group::of(target, change, main, &parts)?.run(target)?);
    }
    Ok(all)
}
