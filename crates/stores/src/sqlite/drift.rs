//! What SQLite's ledger holds of layouts, drift and decisions, and what is asked of its tables
//! for them.

use hypodoke_core::drift::Drift;
use hypodoke_core::names::{FILE_COLUMN, quote};
use hypodoke_core::types::Type;
use rusqlite::{Connection, Result, Row, params};

use super::tables::{REAL_DIGITS, moment, read_moment};
use crate::ledger::{DecisionEntry, DriftEntry};
use crate::{ColumnSample, FileFigures};

/// Writes down how a file differs from one of its tables.
pub fn note(connection: &Connection, file: i64, table: &str, drift: &[Drift]) -> Result<()> {
    let mut statement = connection.prepare_cached(
        "INSERT INTO hd_drift (file, table_name, column_name, change, from_type, to_type, action)
         VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7)",
    )?;
    for one in drift {
        let (column, word, from, to) = one.change.parts();
        statement.execute(params![file, table, column, word, from, to, one.action.word()])?;
    }
    Ok(())
}

/// The versions of a table's layout, the oldest first: their number, text and file.
pub fn layouts(connection: &Connection, table: &str) -> Result<Vec<(i64, String, i64)>> {
    let sql = "SELECT version, layout, file FROM hd_layouts WHERE table_name = ?1 ORDER BY version";
    let entry = |row: &Row<'_>| Ok((row.get(0)?, row.get(1)?, row.get(2)?));
    connection.prepare_cached(sql)?.query_map([table], entry)?.collect()
}

/// All drift, in the order it came.
pub fn all(connection: &Connection) -> Result<Vec<DriftEntry>> {
    let sql = "SELECT file, table_name, column_name, change, from_type, to_type, action FROM hd_drift ORDER BY drift";
    let entry = |row: &Row<'_>| {
        Ok(DriftEntry {
            file: row.get(0)?,
            table: row.get(1)?,
            column: row.get(2)?,
            change: row.get(3)?,
            from: row.get(4)?,
            to: row.get(5)?,
            action: row.get(6)?,
        })
    };
    connection.prepare_cached(sql)?.query_map([], entry)?.collect()
}

/// All decisions, the oldest first.
pub fn decisions(connection: &Connection) -> Result<Vec<DecisionEntry>> {
    let sql = "SELECT place, path, bytes, modified_at, table_name, decided, decided_by, decided_at, why
         FROM hd_decisions ORDER BY decision";
    let entry = |row: &Row<'_>| {
        let arrival = hypodoke_core::arrival::Arrival {
            place: row.get(0)?,
            path: row.get(1)?,
            bytes: row.get::<_, i64>(2)? as u64,
            modified: read_moment(&row.get::<_, String>(3)?),
        };
        Ok(DecisionEntry {
            arrival,
            table: row.get(4)?,
            decision: row.get(5)?,
            by: row.get(6)?,
            at: read_moment(&row.get::<_, String>(7)?),
            why: row.get(8)?,
        })
    };
    connection.prepare_cached(sql)?.query_map([], entry)?.collect()
}

/// Writes a decision down.
pub fn note_decision(connection: &Connection, entry: &DecisionEntry) -> Result<()> {
    connection.execute(
        "INSERT INTO hd_decisions (place, path, bytes, modified_at, table_name, decided, decided_by, decided_at, why)
         VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9)",
        params![
            entry.arrival.place,
            entry.arrival.path,
            entry.arrival.bytes as i64,
            moment(entry.arrival.modified),
            entry.table,
            entry.decision,
            entry.by,
            moment(entry.at),
            entry.why,
        ],
    )?;
    Ok(())
}

/// What a column holds.
pub fn sample(connection: &Connection, table: &str, column: &str, most: usize) -> Result<ColumnSample> {
    let (table, column) = (quote(table), quote(column));
    let (least, greatest) = connection.query_row(
        &format!("SELECT CAST(min({column}) AS TEXT), CAST(max({column}) AS TEXT) FROM {table}"),
        [],
        |row| Ok((row.get(0)?, row.get(1)?)),
    )?;
    let sql = format!(
        "SELECT DISTINCT CAST({column} AS TEXT) FROM (SELECT {column} FROM {table} WHERE {column} IS NOT NULL
         ORDER BY rowid DESC LIMIT 100000) LIMIT {most}"
    );
    let values = connection.prepare(&sql)?.query_map([], |row| row.get(0))?.collect::<Result<_>>()?;
    Ok(ColumnSample { least, greatest, values })
}

/// What of each file is in a table.
pub fn figures(connection: &Connection, table: &str, sums: &[(String, Type)]) -> Result<Vec<FileFigures>> {
    // A decimal kept as a REAL is summed in units of its last digit, which are whole.
    let sum = |(column, ty): &(String, Type)| match ty {
        Type::Integer => format!("sum({})", quote(column)),
        Type::Decimal { precision, scale } if *precision <= REAL_DIGITS => {
            format!("sum(CAST(round({} * 1e{scale}) AS INTEGER))", quote(column))
        }
        _ => "NULL".to_owned(),
    };
    let all: Vec<String> =
        [FILE_COLUMN.to_owned(), "count(*)".to_owned()].into_iter().chain(sums.iter().map(sum)).collect();
    let sql = format!("SELECT {} FROM {} GROUP BY {FILE_COLUMN}", all.join(", "), quote(table));
    let known = |ty: Type| match ty {
        Type::Decimal { precision, .. } => precision <= REAL_DIGITS,
        ty => ty == Type::Integer,
    };
    let entry = |row: &Row<'_>| {
        let total = |(at, (_, ty)): (usize, &(String, Type))| {
            let value = row.get::<_, Option<i64>>(at + 2)?;
            Ok(known(*ty).then(|| i128::from(value.unwrap_or(0))))
        };
        Ok(FileFigures {
            file: row.get(0)?,
            rows: row.get::<_, i64>(1)? as u64,
            sums: sums.iter().enumerate().map(total).collect::<Result<_>>()?,
        })
    };
    connection.prepare(&sql)?.query_map([], entry)?.collect()
}
