//! Rows of several files in memory: those of some keys, with what hangs on them.

use std::hash::{BuildHasher, RandomState};
use std::ops::Range;

use hypodoke_core::cast::packed::{PackedColumns, PackedRow, put_cell, widen};
use hypodoke_core::cast::{Cell, Rows};
use hypodoke_core::names::Lineage;
use hypodoke_core::types::Type;

use super::table::TableRows;
use super::target::Moments;
use crate::error::StoreError;
use crate::load_plan::TablePlan;
use crate::sql::{Misread, SqlConnection};
use crate::tables::row_archive::{ALL_BLOCKS, Next, Unpacked, for_each_row};

/// The rows of one table in memory.
#[derive(Default)]
pub struct Arena {
    /// The rows; each has as many cells as the table has columns.
    pub rows: Rows,
    /// For each row, its file's number in the ledger.
    pub files: Vec<i64>,
    scratch: Rows,
}

/// Which rows of a file are taken up.
pub struct Wanted<'w> {
    /// The file in the ledger, and the blocks of its rows.
    pub file: i64,
    /// See `file`.
    pub blocks: Range<i64>,
    /// Says whether a row is taken up: its key, and its line.
    pub takes: &'w mut dyn FnMut(&[u8], u64) -> bool,
    /// How many bytes may be held in all.
    pub most: usize,
}

impl Arena {
    /// How many rows there are.
    pub fn len(&self) -> usize {
        self.files.len()
    }

    /// How many bytes of memory they take, or so.
    pub fn held(&self) -> usize {
        self.rows.cells.len() * size_of::<Cell>() + self.rows.records.bytes.len()
    }

    /// Takes up rows of a file; gives the keys of those that were, in their order. Where they are more than
    /// may be held, the rest is left, and more is held than that.
    pub fn take(
        &mut self,
        connection: &mut dyn SqlConnection,
        table: &TableRows<'_>,
        wanted: Wanted<'_>,
    ) -> Result<Vec<Box<[u8]>>, StoreError> {
        let Wanted { file, blocks, takes, most } = wanted;
        let mut taken = Vec::new();
        let forms = table.forms.borrow();
        let (mut key, mut cells) = (Vec::new(), Vec::new());
        let mut places: Option<(PackedColumns, Vec<Option<usize>>)> = None;
        let mut scratch = std::mem::take(&mut self.scratch);
        let shown = connection.shown();
        let from = (file, table.plan.table.as_str(), table.is_child());
        for_each_row(connection, from, blocks, &mut scratch, &mut |unpacked: Unpacked<'_>| {
            if places.as_ref().is_none_or(|(known, _)| known != unpacked.columns) {
                places = Some((unpacked.columns.clone(), places_in(table, unpacked.columns)));
            }
            let Some((_, places)) = &places else { return Ok(Next::Enough) };
            let damaged = || {
                let what = format!("a row of file {file} that its table's types do not hold");
                StoreError::Damaged { shown: shown.clone(), what }
            };
            key.clear();
            for (part, at) in table.key.iter().enumerate() {
                let cell = cell_now(table, places, (unpacked.cells, *at), unpacked.rows);
                forms.put(part, cell.ok_or_else(damaged)?, unpacked.rows, &mut key);
            }
            if takes(&key, unpacked.row.line) {
                cells.clear();
                for at in 0..table.columns.len() {
                    let cell = cell_now(table, places, (unpacked.cells, at), unpacked.rows);
                    cells.push(cell.ok_or_else(damaged)?);
                }
                self.push(&cells, unpacked.rows, unpacked.row, file);
                taken.push(key.clone().into_boxed_slice());
            }
            Ok(if self.held() > most { Next::Enough } else { Next::Row })
        })?;
        self.scratch = scratch;
        Ok(taken)
    }

    /// Adds a row of a file with the cells of other rows.
    pub fn push(&mut self, cells: &[Cell], from: &Rows, row: PackedRow, file: i64) {
        for cell in cells {
            let copied = copy(*cell, from, &mut self.rows);
            self.rows.cells.push(copied);
        }
        self.rows.width = cells.len();
        self.rows.kept.push(self.files.len() as u32);
        self.rows.records.end_child(0..0, row.line, row.link);
        self.files.push(file);
    }

    /// Adds a row of another arena, with cells behind its own.
    pub fn push_row(&mut self, from: &Arena, row: usize, more: &[Option<i64>], moment: Moments) {
        for at in 0..from.rows.width {
            let cell = from.cell(row, at);
            let copied = copy(cell, &from.rows, &mut self.rows);
            self.rows.cells.push(copied);
        }
        for value in more {
            let cell = value.map_or(Cell::Null, |micros| moment(micros, &mut self.rows));
            self.rows.cells.push(cell);
        }
        self.rows.width = from.rows.width + more.len();
        self.rows.kept.push(self.files.len() as u32);
        self.rows.records.end_child(0..0, from.rows.line(row), from.rows.link(row));
        self.files.push(from.files.get(row).copied().unwrap_or_default());
    }

    /// A cell of a row.
    pub fn cell(&self, row: usize, column: usize) -> Cell {
        self.rows.row(row).get(column).copied().unwrap_or(Cell::Null)
    }

    /// Whether two rows say the same, besides their keys and what only tells of their files.
    pub fn is_same(&self, table: &TableRows<'_>, a: usize, b: usize) -> bool {
        let (mut left, mut right) = (Vec::new(), Vec::new());
        for at in &table.compared {
            put_cell(self.cell(a, *at), &self.rows, &mut left);
            put_cell(self.cell(b, *at), &self.rows, &mut right);
        }
        left == right
    }
}

/// For each column of the table, where it stands in a block; widened ones are remembered.
pub fn places_in(table: &TableRows<'_>, packed: &PackedColumns) -> Vec<Option<usize>> {
    let place = |(at, (name, ty)): (usize, &(String, Type))| {
        let found = packed.iter().position(|(known, _)| known == name)?;
        if packed.get(found).is_some_and(|(_, had)| had != ty) {
            table.mark_widened(at);
        }
        Some(found)
    };
    table.columns.iter().enumerate().map(place).collect()
}

/// A cell of a row that was unpacked, as the table has it now; `None` where its type does not hold it. The
/// row's cells begin at the first number, and the second is the column.
pub fn cell_now(
    table: &TableRows<'_>,
    places: &[Option<usize>],
    (begin, at): (usize, usize),
    rows: &mut Rows,
) -> Option<Cell> {
    let place = places.get(at).copied().flatten();
    let cell = place.and_then(|place| rows.cells.get(begin + place).copied()).unwrap_or(Cell::Null);
    let (_, ty) = table.columns.get(at)?;
    if table.plan.keeps_layout { widen(cell, *ty, rows) } else { Some(cell) }
}

fn copy(cell: Cell, from: &Rows, to: &mut Rows) -> Cell {
    match cell {
        Cell::Text { start, len } => {
            let begin = to.records.bytes.len();
            to.records.bytes.extend_from_slice(from.bytes(start, len));
            Cell::text(begin..to.records.bytes.len())
        }
        Cell::Uuid { start } => {
            let begin = to.records.bytes.len() as u32;
            to.records.bytes.extend_from_slice(from.bytes(start, 36));
            Cell::Uuid { start: begin }
        }
        Cell::Wide { index, scale } => {
            to.wide.push(from.wide(index, scale).mantissa);
            Cell::Wide { index: to.wide.len() as u32 - 1, scale }
        }
        other => other,
    }
}

/// Keys by a number that is the same for all of one run.
#[derive(Default)]
pub struct KeyHash(RandomState);

impl KeyHash {
    /// The number of a key.
    pub fn of(&self, key: &[u8]) -> u64 {
        self.0.hash_one(key)
    }
}

/// The columns that files filled in a table that somebody else made.
pub fn columns_of(
    connection: &mut dyn SqlConnection,
    table: &TablePlan,
    files: &[i64],
) -> Result<PackedColumns, StoreError> {
    if !table.layout.columns.is_empty() {
        return Ok(table.layout.columns.iter().map(|c| (c.name.clone(), c.ty())).collect());
    }
    let mut columns = PackedColumns::new();
    for file in files {
        let mut rows = Rows::default();
        let mut seen = |unpacked: Unpacked<'_>| {
            for column in unpacked.columns {
                if !columns.iter().any(|(known, _)| *known == column.0) {
                    columns.push(column.clone());
                }
            }
            Ok(Next::Row)
        };
        let from = (*file, table.table.as_str(), table.lineage == Lineage::Children);
        for_each_row(connection, from, ALL_BLOCKS, &mut rows, &mut seen)?;
    }
    if columns.is_empty() {
        let what = format!("no row of `{}` is kept", table.table);
        return Err(connection.damaged(Misread(what)));
    }
    Ok(columns)
}
