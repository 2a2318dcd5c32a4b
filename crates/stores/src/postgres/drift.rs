//! What PostgreSQL's ledger holds of layouts, drift and decisions, and what is asked of its
//! tables for them.

use hypodoke_core::arrival::Arrival;
use hypodoke_core::drift::Drift;
use hypodoke_core::names::{FILE_COLUMN, quote};
use hypodoke_core::types::Type;
use tokio_postgres::{Client, Error, Row};

use super::ledger::{count, micros, moment};
use crate::ledger::{DecisionEntry, DriftEntry};
use crate::{ColumnSample, FileFigures};

/// Writes down how a file differs from one of its tables.
pub async fn note(client: &Client, file: i64, table: &str, drift: &[Drift]) -> Result<(), Error> {
    for one in drift {
        let (column, word, from, to) = one.change.parts();
        let sql = "INSERT INTO hd_drift (file, table_name, column_name, change, from_type, to_type, action)
             VALUES ($1, $2, $3, $4, $5, $6, $7)";
        client.execute(sql, &[&file, &table, &column, &word, &from, &to, &one.action.word()]).await?;
    }
    Ok(())
}

/// The versions of a table's layout, the oldest first: their number, text and file.
pub async fn layouts(client: &Client, table: &str) -> Result<Vec<(i64, String, i64)>, Error> {
    let sql = "SELECT version, layout, file FROM hd_layouts WHERE table_name = $1 ORDER BY version";
    let found = client.query(sql, &[&table]).await?;
    Ok(found.iter().map(|row| (row.get(0), row.get(1), row.get(2))).collect())
}

/// All drift, in the order it came.
pub async fn all(client: &Client) -> Result<Vec<DriftEntry>, Error> {
    let sql = "SELECT file, table_name, column_name, change, from_type, to_type, action FROM hd_drift ORDER BY drift";
    let entry = |row: &Row| DriftEntry {
        file: row.get(0),
        table: row.get(1),
        column: row.get(2),
        change: row.get(3),
        from: row.get(4),
        to: row.get(5),
        action: row.get(6),
    };
    Ok(client.query(sql, &[]).await?.iter().map(entry).collect())
}

/// All decisions, the oldest first.
pub async fn decisions(client: &Client) -> Result<Vec<DecisionEntry>, Error> {
    let sql = "SELECT place, path, bytes, modified_at, table_name, decided, decided_by, decided_at, why
         FROM hd_decisions ORDER BY decision";
    let entry = |row: &Row| DecisionEntry {
        arrival: Arrival {
            place: row.get(0),
            path: row.get(1),
            bytes: count(row, 2),
            modified: micros(row.get(3)),
        },
        table: row.get(4),
        decision: row.get(5),
        by: row.get(6),
        at: micros(row.get(7)),
        why: row.get(8),
    };
    Ok(client.query(sql, &[]).await?.iter().map(entry).collect())
}

/// Writes a decision down.
pub async fn note_decision(client: &Client, entry: &DecisionEntry) -> Result<(), Error> {
    let sql = "INSERT INTO hd_decisions
           (place, path, bytes, modified_at, table_name, decided, decided_by, decided_at, why)
         VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9)";
    let DecisionEntry { arrival, table, decision, by, at, why } = entry;
    let (bytes, modified, at) = (arrival.bytes as i64, moment(arrival.modified), moment(*at));
    client
        .execute(sql, &[&arrival.place, &arrival.path, &bytes, &modified, table, decision, by, &at, why])
        .await?;
    Ok(())
}

/// What a column holds.
pub async fn sample(client: &Client, table: &str, column: &str, most: usize) -> Result<ColumnSample, Error> {
    let column = quote(column);
    // Some types have no least and greatest (jsonb, boolean); their texts have.
    let sql = format!("SELECT pg_typeof({column})::text FROM {table} WHERE {column} IS NOT NULL LIMIT 1");
    let Some(row) = client.query_opt(&sql, &[]).await? else { return Ok(ColumnSample::default()) };
    let ordered = !matches!(row.get::<_, String>(0).as_str(), "jsonb" | "json" | "boolean" | "uuid");
    let value = if ordered { column.clone() } else { format!("{column}::text") };
    let sql = format!("SELECT min({value})::text, max({value})::text FROM {table}");
    let row = client.query_one(&sql, &[]).await?;
    let (least, greatest) = (row.get(0), row.get(1));
    let sql = format!(
        "SELECT DISTINCT {column}::text FROM (SELECT {column} FROM {table} WHERE {column} IS NOT NULL LIMIT 100000) s LIMIT {most}"
    );
    let values = client.query(&sql, &[]).await?.iter().map(|row| row.get(0)).collect();
    Ok(ColumnSample { least, greatest, values })
}

/// What of each file is in a table.
pub async fn figures(
    client: &Client,
    table: &str,
    sums: &[(String, Type)],
) -> Result<Vec<FileFigures>, Error> {
    let sum = |(column, ty): &(String, Type)| {
        let scale = match ty {
            Type::Integer => 0,
            Type::Decimal { scale, .. } => *scale,
            _ => return "NULL::text".to_owned(),
        };
        format!("trunc(coalesce(sum({}::numeric), 0) * 1e{scale}::numeric)::text", quote(column))
    };
    let all: Vec<String> = [format!("{FILE_COLUMN}::bigint"), "count(*)".to_owned()]
        .into_iter()
        .chain(sums.iter().map(sum))
        .collect();
    let sql = format!("SELECT {} FROM {table} GROUP BY {FILE_COLUMN}", all.join(", "));
    let entry = |row: &Row| FileFigures {
        file: row.get(0),
        rows: count(row, 1),
        sums: (0..sums.len())
            .map(|at| row.get::<_, Option<String>>(at + 2).and_then(|text| text.parse().ok()))
            .collect(),
    };
    Ok(client.query(&sql, &[]).await?.iter().map(entry).collect())
}
