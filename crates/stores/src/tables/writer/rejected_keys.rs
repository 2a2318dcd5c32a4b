//! The keys of a file's rejected rows: with a full delivery they have not vanished.

use hypodoke_core::cast::packed::PackedColumns;
use hypodoke_core::cast::{Cell, Rows};
use hypodoke_core::record::Link;

use crate::load_plan::TablePlan;
use crate::tables::rebuild::copy_cell;

/// The temporary table for the keys of rejected rows of a plan's table, by its place there.
pub fn stage_of_rejects(table: usize) -> String {
    format!("hd_stage_rejects_{table}")
}

/// The keys of a table's rejected rows.
#[derive(Default)]
pub struct RejectedKeys {
    /// Those that are not staged yet; their columns are those of the key.
    pub rows: Rows,
    /// Some are staged.
    pub is_staged: bool,
    /// How many rejected rows have a key that cannot be read.
    pub unreadable: u64,
}

impl RejectedKeys {
    /// Adds the keys of rejected rows; null stands for one that cannot be read.
    pub fn add(&mut self, keys: &Rows) {
        for index in 0..keys.len() {
            let cells = keys.row(index);
            match cells.contains(&Cell::Null) {
                true => self.unreadable += 1,
                false => push(&mut self.rows, cells, keys, keys.line(index)),
            }
        }
    }

    /// How many bytes of memory they take, or so.
    pub fn held(&self) -> usize {
        self.rows.cells.len() * size_of::<Cell>() + self.rows.records.bytes.len()
    }
}

/// The columns of a table's key, as far as its layout has them.
pub fn key_columns(plan: &TablePlan) -> PackedColumns {
    let column = |name: &String| plan.layout.columns.iter().find(|column| column.name == *name);
    plan.key.iter().filter_map(column).map(|column| (column.name.clone(), column.ty())).collect()
}

/// The keys of the rejected rows of a batch, each with its line.
pub fn keys_of(plan: &TablePlan, rows: &Rows) -> Rows {
    let place = |name: &String| plan.layout.columns.iter().position(|column| column.name == *name);
    let places: Vec<usize> = plan.key.iter().filter_map(place).collect();
    let mut keys = Rows::default();
    for reject in &rows.rejects {
        let begin = reject.record as usize * rows.width;
        let cell = |at: &usize| rows.cells.get(begin + at).copied().unwrap_or(Cell::Null);
        let cells: Vec<Cell> = places.iter().map(cell).collect();
        push(&mut keys, &cells, rows, reject.line);
    }
    keys
}

/// Adds a row with the cells of another.
fn push(to: &mut Rows, cells: &[Cell], from: &Rows, line: u64) {
    for cell in cells {
        let copied = copy_cell(*cell, from, to);
        to.cells.push(copied);
    }
    to.width = cells.len();
    to.kept.push(to.kept.len() as u32);
    to.records.end_child(0..0, line, Link::default());
}
