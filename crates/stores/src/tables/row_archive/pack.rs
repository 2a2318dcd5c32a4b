//! Rows on their way into the ledger.

use std::collections::HashSet;

use hypodoke_core::cast::packed::PackedColumns;
use hypodoke_core::cast::{Rows, packed};
use hypodoke_core::names::Lineage;

use super::{BLOCK, LEVEL, WRITTEN_AT, rejected_keys_of};
use crate::error::StoreError;
use crate::load_plan::Mode;
use crate::load_plan::TablePlan;
use crate::sql::{SqlConnection, SqlValue};

/// What a block holds, of a table by its place in the plan.
#[derive(Clone, Copy)]
enum Content {
    Rows(usize),
    RejectedKeys(usize),
}

/// A block that is ready to be written.
struct Ready {
    content: Content,
    rows: u64,
    bytes: Vec<u8>,
}

/// The block that is being filled, of one table.
#[derive(Default)]
struct Open {
    bytes: Vec<u8>,
    rows: u64,
}

/// Packs the rows of one file.
pub struct Packer {
    file: i64,
    open: Vec<Open>,
    /// The keys of rejected rows, of each table.
    open_keys: Vec<Open>,
    ready: Vec<Ready>,
    held: usize,
    next: i64,
}

impl Packer {
    /// A packer for the rows of a file that go to so many tables; its blocks are numbered from `next`.
    pub fn new(file: i64, tables: usize, next: i64) -> Packer {
        let open = || std::iter::repeat_with(Open::default).take(tables).collect();
        Packer { file, open: open(), open_keys: open(), ready: Vec::new(), held: 0, next }
    }

    /// Takes rows in, but those that the database refused.
    pub fn add(&mut self, table: usize, plan: &TablePlan, rows: &Rows) -> Result<(), StoreError> {
        // Rows that are only added are found by their lineage.
        let is_kept = plan.mode != Mode::Append;
        let Some(open) = self.open.get_mut(table).filter(|_| is_kept) else { return Ok(()) };
        let is_child = plan.lineage == Lineage::Children;
        let refused: HashSet<u32> = rows.rejects.iter().map(|reject| reject.record).collect();
        for index in 0..rows.len() {
            if !refused.is_empty() && rows.kept.get(index).is_some_and(|record| refused.contains(record)) {
                continue;
            }
            if open.bytes.is_empty() {
                let columns = plan.layout.columns.iter().map(|column| (column.name.clone(), column.ty()));
                packed::begin(&columns.collect(), &mut open.bytes);
            }
            packed::put_row(rows, index, is_child, &mut open.bytes);
            open.rows += 1;
            if open.bytes.len() >= BLOCK {
                self.held += close(open, Content::Rows(table), &mut self.ready)?;
            }
        }
        Ok(())
    }

    /// Takes the keys of rejected rows in; `rows` has the columns of the key only.
    pub fn add_rejected_keys(
        &mut self,
        table: usize,
        columns: &PackedColumns,
        rows: &Rows,
    ) -> Result<(), StoreError> {
        let Some(open) = self.open_keys.get_mut(table) else { return Ok(()) };
        for index in 0..rows.len() {
            if open.bytes.is_empty() {
                packed::begin(columns, &mut open.bytes);
            }
            packed::put_row(rows, index, false, &mut open.bytes);
            open.rows += 1;
            if open.bytes.len() >= BLOCK {
                self.held += close(open, Content::RejectedKeys(table), &mut self.ready)?;
            }
        }
        Ok(())
    }

    /// Whether enough is held to be written.
    pub fn is_full(&self) -> bool {
        self.held >= WRITTEN_AT
    }

    /// Writes what is ready.
    pub fn write(
        &mut self,
        connection: &mut dyn SqlConnection,
        tables: &[TablePlan],
    ) -> Result<(), StoreError> {
        let sql = r#"INSERT INTO hd_kept_rows (file, table_name, block, "rows", packed) VALUES (?1, ?2, ?3, ?4, ?5)"#;
        self.held = 0;
        for Ready { content, rows, bytes } in self.ready.drain(..) {
            let (Content::Rows(at) | Content::RejectedKeys(at)) = content;
            let Some(table) = tables.get(at) else { continue };
            let name = match content {
                Content::Rows(_) => table.table.clone(),
                Content::RejectedKeys(_) => rejected_keys_of(&table.table),
            };
            let parameters = [
                SqlValue::Integer(self.file),
                SqlValue::from(&name),
                SqlValue::Integer(self.next),
                SqlValue::from(rows),
                SqlValue::Bytes(bytes),
            ];
            connection.execute(sql, &parameters)?;
            self.next += 1;
        }
        Ok(())
    }

    /// Writes all that is left: the keys of rejected rows behind all rows, so that rows of later blocks are
    /// corrected ones.
    pub fn finish(
        &mut self,
        connection: &mut dyn SqlConnection,
        tables: &[TablePlan],
    ) -> Result<(), StoreError> {
        for (table, open) in self.open.iter_mut().enumerate().filter(|(_, open)| open.rows > 0) {
            close(open, Content::Rows(table), &mut self.ready)?;
        }
        for (table, open) in self.open_keys.iter_mut().enumerate().filter(|(_, open)| open.rows > 0) {
            close(open, Content::RejectedKeys(table), &mut self.ready)?;
        }
        self.write(connection, tables)
    }
}

/// Compresses a block; gives its size.
fn close(open: &mut Open, content: Content, ready: &mut Vec<Ready>) -> Result<usize, StoreError> {
    let bytes = zstd::bulk::compress(&open.bytes, LEVEL).map_err(|error| StoreError::Refused {
        shown: "the rows of a file".to_owned(),
        why: format!("they cannot be compressed: {error}"),
    })?;
    let size = bytes.len();
    ready.push(Ready { content, rows: open.rows, bytes });
    open.bytes.clear();
    open.rows = 0;
    Ok(size)
}
