//! The keys of rejected rows: a file that has such a row does not say that its key is gone.

use std::collections::{HashMap, HashSet};
use std::ops::Range;

use hypodoke_core::cast::packed::PackedColumns;
use hypodoke_core::cast::{Cell, Rows};

use super::arena::{cell_now, places_in};
use super::ask_forms::ask_forms;
use super::change::FileRows;
use super::table::TableRows;
use super::target::RebuildTarget;
use crate::error::StoreError;
use crate::sql::SqlConnection;
use crate::tables::row_archive::{ALL_BLOCKS, Next, blocks_of, for_each_row, rejected_keys_of};

/// The rejected rows of one file, as far as they concern which keys are gone.
#[derive(Debug, Default)]
pub struct RejectedRows {
    /// There are any.
    is_any: bool,
    /// The lines of those that were corrected.
    corrected: HashSet<u64>,
    /// The key of another cannot be read.
    pub is_unreadable: bool,
}

/// One rejected row.
struct RejectedRow<'k> {
    line: u64,
    /// Its key; `None` where that cannot be read.
    key: Option<&'k [u8]>,
}

impl RejectedRows {
    /// The rejected rows of a file in a table.
    pub fn of(
        connection: &mut dyn SqlConnection,
        table: &TableRows<'_>,
        rows: &FileRows,
    ) -> Result<RejectedRows, StoreError> {
        let file = rows.file.file;
        let Some(last) = last_block(connection, table, file)? else { return Ok(RejectedRows::default()) };
        let mut rejected = HashSet::new();
        for_each(connection, table, file, ALL_BLOCKS, &mut |row| rejected.extend([row.line]))?;
        // Rows of blocks behind those of the file's own load were corrected.
        let later = last + 1..rows.until.unwrap_or(i64::MAX);
        let mut corrected = HashSet::new();
        let from = (file, table.plan.table.as_str(), table.is_child());
        for_each_row(connection, from, later, &mut Rows::default(), &mut |unpacked| {
            corrected.extend(rejected.get(&unpacked.row.line));
            Ok(Next::Row)
        })?;
        let mut is_unreadable = false;
        for_each(connection, table, file, ALL_BLOCKS, &mut |row| {
            is_unreadable |= row.key.is_none() && !corrected.contains(&row.line);
        })?;
        Ok(RejectedRows { is_any: true, corrected, is_unreadable })
    }

    /// Hands over the keys of the rows of a file that were not corrected.
    pub fn for_each_key(
        &self,
        target: &mut dyn RebuildTarget,
        table: &TableRows<'_>,
        file: i64,
        work: &mut dyn FnMut(&[u8]),
    ) -> Result<(), StoreError> {
        if !self.is_any {
            return Ok(());
        }
        let mut of_row = |row: RejectedRow<'_>| {
            if let Some(key) = row.key.filter(|_| !self.corrected.contains(&row.line)) {
                work(key);
            }
        };
        if !table.forms.borrow().are_asked() {
            return for_each(target.archive(), table, file, ALL_BLOCKS, &mut of_row);
        }
        let name = rejected_keys_of(&table.plan.table);
        for block in blocks_of(target.archive(), file, &name, &ALL_BLOCKS)? {
            ask_forms(target, table, (file, &name, false), block)?;
            for_each(target.archive(), table, file, block..block.saturating_add(1), &mut of_row)?;
        }
        Ok(())
    }
}

/// The keys of rejected rows, each with the places of the files that hold it: before the change, and after it.
pub type KeysInRejects = HashMap<Box<[u8]>, (Vec<usize>, Vec<usize>)>;

/// The last block of the keys of a file's rejected rows.
fn last_block(
    connection: &mut dyn SqlConnection,
    table: &TableRows<'_>,
    file: i64,
) -> Result<Option<i64>, StoreError> {
    let sql = "SELECT max(block) FROM hd_kept_rows WHERE file = ?1 AND table_name = ?2";
    let name = rejected_keys_of(&table.plan.table);
    let found =
        connection.entries(sql, &[file.into(), name.as_str().into()], |row| row.optional_integer(0))?;
    Ok(found.into_iter().next().flatten())
}

fn for_each(
    connection: &mut dyn SqlConnection,
    table: &TableRows<'_>,
    file: i64,
    blocks: Range<i64>,
    work: &mut dyn FnMut(RejectedRow<'_>),
) -> Result<(), StoreError> {
    let name = rejected_keys_of(&table.plan.table);
    let (mut key, forms) = (Vec::new(), table.forms.borrow());
    let mut places: Option<(PackedColumns, Vec<Option<usize>>)> = None;
    for_each_row(connection, (file, &name, false), blocks, &mut Rows::default(), &mut |unpacked| {
        if places.as_ref().is_none_or(|(known, _)| known != unpacked.columns) {
            places = Some((unpacked.columns.clone(), places_in(table, unpacked.columns)));
        }
        let Some((_, places)) = &places else { return Ok(Next::Enough) };
        key.clear();
        let mut is_readable = true;
        for (part, at) in table.key.iter().enumerate() {
            // A value that the column's type does not hold any more is no key of its rows.
            let cell = cell_now(table, places, (unpacked.cells, *at), unpacked.rows).unwrap_or(Cell::Null);
            is_readable &= cell != Cell::Null;
            forms.put(part, cell, unpacked.rows, &mut key);
        }
        work(RejectedRow { line: unpacked.row.line, key: is_readable.then_some(key.as_slice()) });
        Ok(Next::Row)
    })
}
