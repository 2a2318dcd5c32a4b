//! Records of a typed source: columns of values, each as the source has it.

use super::Cell;

/// The values of a batch, column by column.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct TypedColumns {
    columns: Vec<Vec<Cell>>,
    /// Mantissas too wide for a cell.
    pub wide: Vec<i128>,
}

impl TypedColumns {
    /// No values yet, of so many columns.
    pub fn new(width: usize) -> TypedColumns {
        TypedColumns { columns: vec![Vec::new(); width], wide: Vec::new() }
    }

    /// How many columns there are.
    pub fn width(&self) -> usize {
        self.columns.len()
    }

    /// The values of a column; none where there is no such column.
    pub fn column(&self, at: usize) -> &[Cell] {
        self.columns.get(at).map(Vec::as_slice).unwrap_or_default()
    }

    /// One value; `None` where there is no such column.
    pub fn get(&self, record: usize, column: usize) -> Option<Cell> {
        self.columns.get(column)?.get(record).copied()
    }

    /// Adds a value for each column; those that `row` does not reach are null.
    pub(super) fn push(&mut self, row: &[Cell]) {
        let cells = row.iter().copied().chain(std::iter::repeat(Cell::Null));
        self.columns.iter_mut().zip(cells).for_each(|(column, cell)| column.push(cell));
    }

    pub(super) fn clear(&mut self) {
        self.columns.iter_mut().for_each(Vec::clear);
        self.wide.clear();
    }

    pub(super) fn truncate(&mut self, keep: usize) {
        self.columns.iter_mut().for_each(|column| column.truncate(keep));
    }

    /// How many bytes of memory they hold.
    pub(super) fn held(&self) -> usize {
        let cells: usize = self.columns.iter().map(Vec::capacity).sum();
        cells * size_of::<Cell>() + self.wide.capacity() * size_of::<i128>()
    }
}
