//! Rows of a batch of columns put into the tables that they make: column by column, and the items of lists
//! as rows of child tables.

use std::ops::Range;

use arrow_array::cast::AsArray;
use arrow_array::{Array, ArrayRef};
use arrow_buffer::NullBuffer;
use arrow_schema::{DataType, Fields};
use hypodoke_core::record::{Cell, Link, Records};

use super::json;
use super::lists::ListRanges;
use super::shape::{Node, Shape};
use super::values::{Filling, Rows, Told};
use crate::error::ReadError;

/// Puts rows into batches of records.
pub struct RowFiller<'f> {
    /// Which tables and columns there are.
    pub shape: &'f Shape,
    /// The records of each table.
    pub tables: &'f mut Vec<Records>,
    /// How many rows each child table has so far.
    pub counted: &'f mut [u64],
    /// What there is to tell of each column of each table.
    pub told: &'f mut [Vec<Told>],
    /// The longest text that is taken, in bytes.
    pub limit: usize,
}

/// Rows of one table.
struct TableRows<'r> {
    table: usize,
    /// The numbers that children know them by.
    numbers: &'r [u64],
    /// The records of the main table that they are part of.
    owners: &'r [u32],
    /// The lines of these.
    lines: &'r [u64],
}

impl RowFiller<'_> {
    /// Puts these rows of the columns in; `line` is the number of the first of them.
    ///
    /// # Errors
    ///
    /// A text is too long, or something is nested too deep.
    pub fn fill(
        &mut self,
        columns: &[ArrayRef],
        fields: &Fields,
        rows: Range<usize>,
        line: u64,
    ) -> Result<(), ReadError> {
        for (records, keys) in self.tables.iter_mut().zip(&self.shape.keys) {
            records.begin_declared(keys);
        }
        let chosen: Vec<usize> = rows.collect();
        let lines: Vec<u64> = (line..).take(chosen.len()).collect();
        let owners: Vec<u32> = (0..).take(chosen.len()).collect();
        let own = TableRows { table: 0, numbers: &lines, owners: &owners, lines: &lines };
        let shape = self.shape;
        for ((node, column), field) in shape.nodes.iter().zip(columns).zip(fields) {
            let rows = Rows { numbers: &chosen, mask: None };
            self.node(node, column.as_ref(), json::is_uuid(field), rows, &own)?;
        }
        if let Some(main) = self.tables.first_mut() {
            main.end_typed(lines.iter().copied());
        }
        Ok(())
    }

    fn node(
        &mut self,
        node: &Node,
        array: &dyn Array,
        is_uuid: bool,
        rows: Rows<'_>,
        own: &TableRows<'_>,
    ) -> Result<(), ReadError> {
        match node {
            Node::Value(at) => {
                let limit = self.limit;
                let Some((column, told)) = self.column(own.table, *at) else { return Ok(()) };
                Filling { column, told, limit, is_uuid }.fill(array, rows)
            }
            Node::Json(at) => self.json(*at, array, rows, own.table),
            Node::Struct(nodes) => {
                let values = array.as_struct();
                let mask = NullBuffer::union(rows.mask, values.nulls());
                let rows = Rows { mask: mask.as_ref(), ..rows };
                for ((node, column), field) in nodes.iter().zip(values.columns()).zip(values.fields()) {
                    self.node(node, column.as_ref(), json::is_uuid(field), rows, own)?;
                }
                Ok(())
            }
            Node::Rows { table, item } => self.items(*table, item, array, rows, own),
        }
    }

    /// A column of a table, and what is told of it.
    fn column(
        &mut self,
        table: usize,
        at: usize,
    ) -> Option<(hypodoke_core::record::TypedColumn<'_>, &mut Told)> {
        let column = self.tables.get_mut(table)?.fill_column(at)?;
        Some((column, self.told.get_mut(table)?.get_mut(at)?))
    }

    fn json(&mut self, at: usize, array: &dyn Array, rows: Rows<'_>, table: usize) -> Result<(), ReadError> {
        let limit = self.limit;
        let Some((column, told)) = self.column(table, at) else { return Ok(()) };
        for row in rows.numbers {
            let is_there = array.is_valid(*row) && rows.mask.is_none_or(|mask| mask.is_valid(*row));
            if !is_there {
                column.cells.push(Cell::Null);
                continue;
            }
            let start = column.bytes.len();
            let value = json::value(array, *row, limit, told)?;
            // Writing to memory does not fail.
            let _ = serde_json::to_writer(&mut *column.bytes, &value);
            column.cells.push(Cell::text(start..column.bytes.len()));
        }
        Ok(())
    }

    /// The items of lists, each a row of a child table.
    fn items(
        &mut self,
        table: usize,
        item: &Node,
        array: &dyn Array,
        rows: Rows<'_>,
        own: &TableRows<'_>,
    ) -> Result<(), ReadError> {
        let Some(ranges) = ListRanges::of(array) else { return Ok(()) };
        let mut places = Vec::new();
        let (mut links, mut lines) = (Vec::new(), Vec::new());
        let Some(counted) = self.counted.get_mut(table) else { return Ok(()) };
        for (at, row) in rows.numbers.iter().enumerate() {
            let is_there = array.is_valid(*row) && rows.mask.is_none_or(|mask| mask.is_valid(*row));
            let range = if is_there { ranges.range(*row) } else { 0..0 };
            let (owner, parent, line) = (own.owners[at], own.numbers[at], own.lines[at]);
            for (position, place) in (1..).zip(range) {
                *counted += 1;
                links.push(Link { owner, row: *counted, parent, position });
                lines.push(line);
                places.push(place);
            }
        }
        let numbers: Vec<u64> = links.iter().map(|link| link.row).collect();
        let owners: Vec<u32> = links.iter().map(|link| link.owner).collect();
        let of_child = TableRows { table, numbers: &numbers, owners: &owners, lines: &lines };
        let rows = Rows { numbers: &places, mask: None };
        match (array.data_type(), item) {
            // The entries of a map stand in two columns.
            (DataType::Map(_, _), Node::Struct(nodes)) => {
                let map = array.as_map();
                for (node, column) in nodes.iter().zip([map.keys(), map.values()]) {
                    self.node(node, column.as_ref(), false, rows, &of_child)?;
                }
            }
            _ => self.node(item, ranges.items(), false, rows, &of_child)?,
        }
        if let Some(records) = self.tables.get_mut(table) {
            records.end_typed_children(lines.iter().copied().zip(links));
        }
        Ok(())
    }
}

/// About how many bytes a row of these columns takes: of texts that many rows share, as if each had its
/// own.
pub fn bytes_of_row(columns: &[ArrayRef], rows: usize) -> usize {
    let shared = |array: &ArrayRef| -> usize {
        match array.data_type() {
            DataType::Utf8View => {
                array.as_string_view().views().iter().map(|view| *view as u32 as usize).sum()
            }
            DataType::BinaryView => {
                array.as_binary_view().views().iter().map(|view| *view as u32 as usize).sum()
            }
            DataType::Dictionary(_, _) => {
                let values = array.as_any_dictionary().values();
                values.get_array_memory_size() / values.len().max(1) * array.len()
            }
            _ => 0,
        }
    };
    let bytes: usize = columns.iter().map(|array| array.get_array_memory_size().max(shared(array))).sum();
    bytes / rows.max(1)
}
