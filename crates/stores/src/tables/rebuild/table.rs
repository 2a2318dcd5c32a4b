//! A table that is rebuilt, as far as its rows are concerned.

use std::cell::RefCell;
use std::collections::BTreeSet;

use hypodoke_core::cast::packed::PackedColumns;
use hypodoke_core::names::Lineage;
use hypodoke_core::types::Type;

use super::key_forms::KeyForms;
use crate::load_plan::TablePlan;
use crate::sql::quote;

/// A table whose rows are rebuilt, as far as its rows are concerned.
pub struct TableRows<'p> {
    /// Its plan.
    pub plan: &'p TablePlan,
    /// The columns its rows have: of a table of ours its layout's, of another those that files filled.
    pub columns: PackedColumns,
    /// Where the columns of the key stand.
    pub key: Vec<usize>,
    /// Where the columns stand that make a row differ.
    pub compared: Vec<usize>,
    /// Columns whose type was another when some row was kept: the database may have spelled their values
    /// otherwise when it changed, and they say nothing of whether somebody else has changed a row.
    widened: RefCell<BTreeSet<String>>,
    /// How the texts of its key are compared.
    pub forms: RefCell<KeyForms>,
}

impl<'p> TableRows<'p> {
    /// The rows of a table with these columns.
    pub fn of(plan: &'p TablePlan, columns: PackedColumns) -> TableRows<'p> {
        let at = |name: &String| columns.iter().position(|(known, _)| known == name);
        let key: Vec<usize> = plan.key.iter().filter_map(at).collect();
        let is_compared = |(at, (name, _)): (usize, &(String, Type))| {
            (!key.contains(&at) && !plan.of_file.contains(name)).then_some(at)
        };
        let compared = columns.iter().enumerate().filter_map(is_compared).collect();
        TableRows { plan, columns, key, compared, widened: RefCell::default(), forms: RefCell::default() }
    }

    /// Remembers that a column was of another type.
    pub fn mark_widened(&self, at: usize) {
        if let Some((name, _)) = self.columns.get(at) {
            self.widened.borrow_mut().insert(quote(name));
        }
    }

    /// Whether a column, as it stands in statements, was always of its type.
    pub fn is_as_it_was(&self, quoted: &String) -> bool {
        !self.widened.borrow().contains(quoted)
    }

    /// Whether its rows are those of a nested list.
    pub fn is_child(&self) -> bool {
        self.plan.lineage == Lineage::Children
    }

    /// Where a column of this name stands.
    pub fn column(&self, name: &str) -> Option<usize> {
        self.columns.iter().position(|(known, _)| known == name)
    }
}
