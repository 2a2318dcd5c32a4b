//! The keys of a file's rejected rows: with a full delivery they have not vanished.

use hypodoke_core::cast::packed::{PackedColumns, PackedRow};
use hypodoke_core::cast::{Cell, RejectedRow, Rows};
use hypodoke_core::record::Link;

use crate::load_plan::TablePlan;
use crate::tables::rebuild::Arena;

/// The temporary table for the keys of rejected rows of a plan's table, by its place there.
pub fn stage_of_rejects(table: usize) -> String {
    format!("hd_stage_rejects_{table}")
}

/// The keys of a table's rejected rows.
#[derive(Default)]
pub struct RejectedKeys {
    /// Those that are not staged yet; their columns are those of the key.
    pub keys: Arena,
    /// Some are staged.
    pub is_staged: bool,
    /// The key of some rejected row cannot be read.
    pub is_unreadable: bool,
}

impl RejectedKeys {
    /// Adds the keys of rejected rows; null stands for one that cannot be read.
    pub fn add(&mut self, keys: &Rows, file: i64) {
        for index in 0..keys.len() {
            let row = PackedRow { line: keys.line(index), link: Link::default() };
            match keys.row(index).contains(&Cell::Null) {
                true => self.is_unreadable = true,
                false => self.keys.push(keys.row(index), keys, row, file),
            }
        }
    }
}

/// The columns of a key, by their places in a table's layout.
pub fn columns_at(plan: &TablePlan, places: &[usize]) -> PackedColumns {
    let columns = places.iter().filter_map(|at| plan.layout.columns.get(*at));
    columns.map(|column| (column.name.clone(), column.ty())).collect()
}

/// The keys of the rejected rows of a batch, each with its line: of those that were rejected before the batch was
/// sent, and of those that the database refused, whose rejects begin at `refused`.
pub fn keys_of(rows: &Rows, places: &[usize], refused: usize) -> Rows {
    let mut keys = Arena::default();
    let of_database = rows.rejects.iter().skip(refused);
    let of_database =
        of_database.map(|reject| RejectedRow { line: reject.line, record: Some(reject.record) });
    for RejectedRow { line, record } in rows.rejected.iter().copied().chain(of_database) {
        let cell = |at: &usize| rows.cells.get(record? as usize * rows.width + at).copied();
        let cells: Vec<Cell> = places.iter().map(|at| cell(at).unwrap_or(Cell::Null)).collect();
        keys.push(&cells, rows, PackedRow { line, link: Link::default() }, 0);
    }
    keys.rows
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::load_plan::Mode;
    use crate::testing::{plan, rows};

    #[test]
    fn keys_of_rejects_and_of_refused_rows_are_told_from_those_that_cannot_be_read() {
        let mut batch = rows(&[("1", "N1"), ("2", "N2"), ("3", "N3")]);
        batch.rejected =
            vec![RejectedRow { line: 2, record: Some(0) }, RejectedRow { line: 9, record: None }];
        let refused = batch.rejects.len();
        let reject = batch.refuse(2, None, "refused".into());
        batch.rejects.push(reject);
        let keys = keys_of(&batch, &[0], refused);
        let found: Vec<(u64, bool)> =
            (0..keys.len()).map(|at| (keys.line(at), keys.row(at).contains(&Cell::Null))).collect();
        assert_eq!(found, [(2, false), (9, true), (4, false)]);
        let mut rejected = RejectedKeys::default();
        rejected.add(&keys, 7);
        assert_eq!((rejected.keys.files.as_slice(), rejected.is_unreadable), ([7, 7].as_slice(), true));
        let plan = plan("a.csv", Mode::Upsert);
        assert_eq!(columns_at(&plan.tables[0], &[0]).len(), 1);
    }
}
