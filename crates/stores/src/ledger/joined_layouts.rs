//! Layouts that files of a group found, joined until the group ends.

use hypodoke_core::layout::Layout;
use hypodoke_core::reconcile::join;

use crate::load_plan::{PartSummary, TablePlan};

/// The layout of a table, joined of those that files of a group found.
pub struct JoinedLayout {
    /// The table, by the plan of one of the files.
    pub table: TablePlan,
    /// The newest of the files.
    pub file: i64,
    /// Their layout.
    pub found: PartSummary,
}

/// Takes in the layout that a file found in a table, among those of the group.
pub fn join_layout(layouts: &mut Vec<JoinedLayout>, file: i64, table: &TablePlan, found: &PartSummary) {
    match layouts.iter_mut().find(|known| known.table.table == table.table) {
        Some(known) => known.add(file, found),
        None => {
            let table = TablePlan { drift: Vec::new(), layout: Layout::default(), ..table.clone() };
            layouts.push(JoinedLayout { table, file, found: found.clone() });
        }
    }
}

impl JoinedLayout {
    /// Takes in what another file found.
    pub fn add(&mut self, file: i64, found: &PartSummary) {
        self.file = self.file.max(file);
        if found.layout != self.found.layout {
            self.found.layout = join(&self.found.layout, &found.layout);
        }
    }
}
