//! Rows on their way out of the ledger.

use std::ops::Range;

use hypodoke_core::cast::Rows;
use hypodoke_core::cast::packed::{Block, PackedColumns, PackedRow};

use super::LARGEST;
use crate::error::StoreError;
use crate::sql::{Misread, SqlConnection, SqlValue};

/// A row as it was loaded: its cells stand at the end of `rows`.
pub struct Unpacked<'u> {
    /// The columns it had.
    pub columns: &'u PackedColumns,
    /// Its line, and how it hangs on its parent.
    pub row: PackedRow,
    /// Where its cells begin in `rows`.
    pub cells: usize,
    /// The rows at hand: of each, what is put behind it is forgotten with it.
    pub rows: &'u mut Rows,
}

/// What comes after a row.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Next {
    /// The next one.
    Row,
    /// Nothing.
    Enough,
}

/// All blocks of a file.
pub const ALL_BLOCKS: Range<i64> = 0..i64::MAX;

/// The numbers of the blocks of a file's table, in order: those in a range.
pub fn blocks_of(
    connection: &mut dyn SqlConnection,
    file: i64,
    table: &str,
    range: &Range<i64>,
) -> Result<Vec<i64>, StoreError> {
    let sql = "SELECT block FROM hd_kept_rows WHERE file = ?1 AND table_name = ?2 ORDER BY block";
    let blocks = connection.entries(sql, &[file.into(), table.into()], |row| row.integer(0))?;
    Ok(blocks.into_iter().filter(|block| range.contains(block)).collect())
}

/// Hands the kept rows of a file's table over one after another: those of the blocks in a range.
pub fn for_each_row(
    connection: &mut dyn SqlConnection,
    (file, table, is_child): (i64, &str, bool),
    range: Range<i64>,
    rows: &mut Rows,
    work: &mut dyn FnMut(Unpacked<'_>) -> Result<Next, StoreError>,
) -> Result<(), StoreError> {
    let of_table = [SqlValue::Integer(file), SqlValue::from(table)];
    let blocks = blocks_of(connection, file, table, &range)?;
    let sql = "SELECT packed FROM hd_kept_rows WHERE file = ?1 AND table_name = ?2 AND block = ?3";
    for number in blocks {
        let [file_value, table_value] = of_table.clone();
        let parameters = [file_value, table_value, SqlValue::Integer(number)];
        let packed = connection.entries(sql, &parameters, |row| row.bytes(0))?;
        for bytes in packed {
            let damaged = || Misread(format!("block {number} of the rows of file {file}"));
            let bytes = zstd::bulk::decompress(&bytes, LARGEST).map_err(|_| connection.damaged(damaged()))?;
            let mut block = Block::open(&bytes, is_child).map_err(|_| connection.damaged(damaged()))?;
            loop {
                let (cells, texts, wide) = (rows.cells.len(), rows.records.bytes.len(), rows.wide.len());
                let row = match block.next(rows) {
                    Ok(Some(row)) => row,
                    Ok(None) => break,
                    Err(_) => return Err(connection.damaged(damaged())),
                };
                let columns = &block.columns;
                let next = work(Unpacked { columns, row, cells, rows })?;
                rows.cells.truncate(cells);
                rows.records.bytes.truncate(texts);
                rows.wide.truncate(wide);
                if next == Next::Enough {
                    return Ok(());
                }
            }
        }
    }
    Ok(())
}
