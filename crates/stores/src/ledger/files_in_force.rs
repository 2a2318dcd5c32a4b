//! The files whose rows count, in their order, and the rows that are kept of them.

use hypodoke_core::outcome::Outcome;

use super::FileEntry;
use super::read::order_of;
use crate::error::StoreError;
use crate::load_plan::Mode;
use crate::load_plan::{FileInForce, FileOrder, file_order as order};
use crate::sql::{Misread, SqlConnection, SqlRow, SqlValue, in_transaction};

const COLUMNS: &str =
    "file, path, rows_kept, ordered_by, ordered_at, first_file, effective_at, delivery, rows_loaded FROM hd_files
   WHERE table_name = ?1 AND outcome IN ('loaded', 'superseded') AND replaced_by IS NULL";

fn file_of(row: &SqlRow) -> Result<FileInForce, Misread> {
    Ok(FileInForce {
        file: row.integer(0)?,
        path: row.text(1)?,
        is_kept: row.integer(2)? != 0,
        order: order_of(row, 3)?,
        rows: row.count(8)?,
    })
}

/// The files of the newest delivery, of entries of the ledger whose rows count.
pub fn newest_delivery_of(entries: &[FileEntry]) -> Vec<i64> {
    let of_entry = |entry: &FileEntry| FileInForce {
        file: entry.file,
        path: entry.arrival.path.clone(),
        order: entry.order.clone(),
        is_kept: entry.rows_kept,
        rows: entry.loaded,
    };
    let mut files: Vec<FileInForce> = entries.iter().map(of_entry).collect();
    order::sort(&mut files, Mode::Replace);
    order::newest_delivery(&files)
}

/// The files of a table whose rows count, in no order.
pub fn in_force(connection: &mut dyn SqlConnection, table: &str) -> Result<Vec<FileInForce>, StoreError> {
    connection.entries(&format!("SELECT {COLUMNS}"), &[SqlValue::from(table)], file_of)
}

/// The newest of them but for one.
pub fn newest(
    connection: &mut dyn SqlConnection,
    table: &str,
    but: i64,
) -> Result<Option<FileInForce>, StoreError> {
    let sql = format!(
        "SELECT {COLUMNS} AND file <> ?2 ORDER BY ordered_by DESC, ordered_at DESC, path DESC, file DESC LIMIT 1"
    );
    let parameters = [SqlValue::from(table), SqlValue::Integer(but)];
    Ok(connection.entries(&sql, &parameters, file_of)?.into_iter().next())
}

/// A file of the ledger, whether its rows count or not.
pub fn file(connection: &mut dyn SqlConnection, file: i64) -> Result<Option<FileInForce>, StoreError> {
    let sql = "SELECT file, path, rows_kept, ordered_by, ordered_at, first_file, effective_at, delivery, rows_loaded
       FROM hd_files WHERE file = ?1";
    Ok(connection.entries(sql, &[SqlValue::Integer(file)], file_of)?.into_iter().next())
}

/// Where a file stands that is in the ledger.
pub fn order_of_file(connection: &mut dyn SqlConnection, file: i64) -> Result<Option<FileOrder>, StoreError> {
    let sql =
        "SELECT ordered_by, ordered_at, first_file, effective_at, delivery FROM hd_files WHERE file = ?1";
    let found = connection.entries(sql, &[SqlValue::Integer(file)], |row| order_of(row, 0))?;
    Ok(found
        .into_iter()
        .next()
        .map(|order| FileOrder { first: if order.first == 0 { file } else { order.first }, ..order }))
}

/// The entry that took the rows of a file out which may come back now.
pub fn retracted(
    connection: &mut dyn SqlConnection,
    (place, path): (&str, &str),
    table: &str,
) -> Result<Option<i64>, StoreError> {
    let sql = "SELECT max(file) FROM hd_files WHERE place = ?1 AND path = ?2 AND table_name = ?3
       AND outcome = 'retracted' AND replaced_by IS NULL";
    let parameters = [SqlValue::from(place), SqlValue::from(path), SqlValue::from(table)];
    let found = connection.entries(sql, &parameters, |row| row.optional_integer(0))?;
    Ok(found.into_iter().next().flatten())
}

/// Records where a file stands, once its rows are known.
pub fn set_order(connection: &mut dyn SqlConnection, file: i64, order: &FileOrder) -> Result<(), StoreError> {
    let sql = "UPDATE hd_files SET ordered_by = ?2, effective_at = ?3 WHERE file = ?1";
    let effective = order.effective.map_or(SqlValue::Null, SqlValue::Moment);
    connection.execute(sql, &[SqlValue::Integer(file), SqlValue::from(&order.key), effective]).map(drop)
}

/// Records that the rows of a file are kept.
pub fn set_kept(connection: &mut dyn SqlConnection, file: i64) -> Result<(), StoreError> {
    let sql = "UPDATE hd_files SET rows_kept = 1 WHERE file = ?1";
    connection.execute(sql, &[SqlValue::Integer(file)]).map(drop)
}

/// Records which files of a table a newer delivery has superseded, and which not; gives those for which that
/// is new, with what they were before.
pub fn set_superseded(
    connection: &mut dyn SqlConnection,
    files: &[FileInForce],
    newest: &[i64],
) -> Result<Vec<(i64, String)>, StoreError> {
    let sql = "UPDATE hd_files SET outcome = ?2 WHERE file = ?1 AND outcome <> ?2";
    let (loaded, superseded) = (Outcome::Loaded.word(), Outcome::Superseded.word());
    let mut before = Vec::new();
    for file in files {
        let is_newest = newest.contains(&file.file);
        let (now, was) = if is_newest { (loaded, superseded) } else { (superseded, loaded) };
        let changed = connection.execute(sql, &[SqlValue::Integer(file.file), SqlValue::from(now)])?;
        if changed > 0 {
            before.push((file.file, was.to_owned()));
        }
    }
    Ok(before)
}

/// The number of the next block of a file.
pub fn next_block(connection: &mut dyn SqlConnection, file: i64) -> Result<i64, StoreError> {
    let sql = "SELECT max(block) FROM hd_kept_rows WHERE file = ?1";
    let found = connection.entries(sql, &[SqlValue::Integer(file)], |row| row.optional_integer(0))?;
    Ok(found.into_iter().next().flatten().map_or(0, |block| block + 1))
}

/// Forgets the rows of a file.
pub fn forget(connection: &mut dyn SqlConnection, file: i64) -> Result<(), StoreError> {
    connection.execute("DELETE FROM hd_kept_rows WHERE file = ?1", &[SqlValue::Integer(file)])?;
    connection
        .execute("UPDATE hd_files SET rows_kept = 0 WHERE file = ?1", &[SqlValue::Integer(file)])
        .map(drop)
}

/// Forgets the rows of files of a table that were loaded before a moment.
pub fn forget_before(connection: &mut dyn SqlConnection, table: &str, moment: i64) -> Result<(), StoreError> {
    let old = "SELECT file FROM hd_files WHERE table_name = ?1 AND rows_kept = 1 AND ended_at < ?2";
    let parameters = [SqlValue::from(table), SqlValue::Moment(moment)];
    in_transaction(connection, |connection| {
        for file in connection.entries(old, &parameters, |row| row.integer(0))? {
            forget(connection, file)?;
        }
        Ok(())
    })
}
