//! What is asked of tables in SQLite: what a column holds, and what of each file is in them.

use hypodoke_core::names::FILE_COLUMN;
use hypodoke_core::types::Type;
use rusqlite::{Connection, Result, Row};

use super::decimals::REAL_DIGITS;
use crate::sql::quote;
use crate::tables::catalog::{ColumnSample, FileFigures};

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
    // Sums beyond 64 bits are told in two halves: what is above 32 bits, and what is below.
    let halves = |value: String| format!("sum({value} >> 32), sum({value} & 4294967295)");
    let sum = |(column, ty): &(String, Type)| match ty {
        Type::Integer => halves(quote(column)),
        Type::Decimal { precision, scale } if *precision <= REAL_DIGITS => {
            halves(format!("CAST(round({} * 1e{scale}) AS INTEGER)", quote(column)))
        }
        _ => "NULL, NULL".to_owned(),
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
            let half = |at: usize| row.get::<_, Option<i64>>(at).map(|half| i128::from(half.unwrap_or(0)));
            let (high, low) = (half(2 * at + 2)?, half(2 * at + 3)?);
            Ok(known(*ty).then(|| (high << 32) + low))
        };
        Ok(FileFigures {
            file: row.get(0)?,
            rows: row.get::<_, i64>(1)? as u64,
            sums: sums.iter().enumerate().map(total).collect::<Result<_>>()?,
        })
    };
    connection.prepare(&sql)?.query_map([], entry)?.collect()
}
