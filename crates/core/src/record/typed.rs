//! Records of a typed source: columns of values, each as the source has it.

use std::ops::Range;
use std::sync::Arc;

use super::Cell;

/// The values of a batch, column by column.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct TypedColumns {
    columns: Vec<Vec<Cell>>,
    /// Mantissas too wide for a cell.
    pub wide: Vec<i128>,
    /// Texts that stand in the file where the value is null, such as errors: record, column, text, in
    /// the order of the records.
    shown: Vec<(usize, usize, Cell)>,
    /// Where the file itself says what its columns are: under which keys the value of each stands in a
    /// record that is shown as JSON, from the outermost on.
    keys: Option<Arc<[Vec<String>]>>,
}

/// A column of typed values that is being filled, all of its batch at once.
pub struct TypedColumn<'r> {
    /// The values so far.
    pub cells: &'r mut Vec<Cell>,
    /// The bytes that texts point into.
    pub bytes: &'r mut Vec<u8>,
    /// Mantissas too wide for a cell.
    pub wide: &'r mut Vec<i128>,
}

impl TypedColumns {
    /// No values yet, of so many columns.
    pub fn new(width: usize) -> TypedColumns {
        TypedColumns { columns: vec![Vec::new(); width], ..TypedColumns::default() }
    }

    /// No values yet, of columns whose types the file declares. `keys` say where each stands in a record
    /// that is shown as JSON.
    pub fn declared(keys: Arc<[Vec<String>]>) -> TypedColumns {
        TypedColumns { keys: Some(keys.clone()), ..TypedColumns::new(keys.len()) }
    }

    /// Whether the file declares its types: its texts are texts, whatever they say.
    pub fn is_declared(&self) -> bool {
        self.keys.is_some()
    }

    /// A record as a JSON object; `None` where the columns have no keys.
    pub(super) fn json(&self, record: usize, bytes: &[u8]) -> Option<Vec<u8>> {
        let keys = self.keys.as_ref()?;
        let mut object = serde_json::Map::new();
        for (column, keys) in keys.iter().enumerate() {
            let value = self.get(record, column).unwrap_or(Cell::Null).json(bytes, &self.wide);
            put(&mut object, keys, value);
        }
        serde_json::to_vec(&object).ok()
    }

    /// One column, to be filled; `None` where there is no such column.
    pub(super) fn fill<'r>(&'r mut self, at: usize, bytes: &'r mut Vec<u8>) -> Option<TypedColumn<'r>> {
        Some(TypedColumn { cells: self.columns.get_mut(at)?, bytes, wide: &mut self.wide })
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
        self.shown.clear();
    }

    /// Says what stands in the file where the newest record has null in a column.
    pub(super) fn show(&mut self, column: usize, text: Cell) {
        let newest = self.column(column).len().checked_sub(1);
        self.shown.extend(newest.map(|record| (record, column, text)));
    }

    /// What stands in the file: the value, or the text in whose place there is null.
    pub fn shown(&self, record: usize, column: usize) -> Cell {
        let first = self.shown.partition_point(|(at, _, _)| *at < record);
        let mut own = self.shown.iter().skip(first).take_while(|(at, _, _)| *at == record);
        let text = own.find(|(_, of, _)| *of == column);
        text.map_or_else(|| self.get(record, column).unwrap_or(Cell::Null), |(_, _, text)| *text)
    }

    pub(super) fn truncate(&mut self, keep: usize) {
        self.columns.iter_mut().for_each(|column| column.truncate(keep));
        self.shown.retain(|(record, _, _)| *record < keep);
    }

    /// The values of some records alone.
    pub(super) fn portion(&self, records: Range<usize>) -> TypedColumns {
        let of = |column: &Vec<Cell>| column.get(records.clone()).unwrap_or_default().to_vec();
        let own = self.shown.iter().filter(|(record, _, _)| records.contains(record));
        TypedColumns {
            columns: self.columns.iter().map(of).collect(),
            wide: self.wide.clone(),
            shown: own.map(|(record, column, text)| (record - records.start, *column, *text)).collect(),
            keys: self.keys.clone(),
        }
    }

    /// How many bytes of memory they hold.
    pub(super) fn held(&self) -> usize {
        let cells: usize = self.columns.iter().map(Vec::capacity).sum();
        cells * size_of::<Cell>() + self.wide.capacity() * size_of::<i128>()
    }
}

/// Puts a value under keys, one object in another.
fn put(object: &mut serde_json::Map<String, serde_json::Value>, keys: &[String], value: serde_json::Value) {
    match keys {
        [] => {}
        [key] => {
            object.insert(key.clone(), value);
        }
        [key, inner @ ..] => {
            let within = object.entry(key.clone()).or_insert_with(|| serde_json::Map::new().into());
            if let Some(within) = within.as_object_mut() {
                put(within, inner, value);
            }
        }
    }
}
