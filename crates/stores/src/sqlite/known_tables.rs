//! Tables that are known to be as planned while a transaction has the database to itself.

use std::collections::HashMap;

use crate::load_plan::{LoadPlan, TablePlan};

/// Tables by their names, with the versions of their layouts.
#[derive(Debug, Default)]
pub struct KnownTables(HashMap<String, i64>);

impl KnownTables {
    /// Whether a table is as it is planned.
    pub fn has(&self, table: &TablePlan) -> bool {
        let known = self.0.get(&table.table).copied();
        table.changes.is_empty() && known.is_some() && known == table.based_on
    }

    /// Takes in that the tables of a plan are as planned. What a plan changes, or statements of the user's
    /// may have changed, is not known any more.
    pub fn learn(&mut self, plan: &LoadPlan) {
        let is_plain =
            |table: &TablePlan| table.changes.is_empty() && table.based_on.is_some_and(|at| at > 0);
        let has_statements = !plan.sql_before.is_empty() || !plan.sql_after.is_empty();
        if has_statements || plan.retracts || !plan.tables.iter().all(is_plain) {
            self.0.clear();
            return;
        }
        for table in &plan.tables {
            self.0.insert(table.table.clone(), table.based_on.unwrap_or_default());
        }
    }
}
