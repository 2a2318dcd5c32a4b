//! What is asked of tables in PostgreSQL: what a column holds, and what of each file is in them.

use hypodoke_core::names::FILE_COLUMN;
use hypodoke_core::types::Type;
use tokio_postgres::{Client, Error, Row};

use crate::sql::quote;
use crate::tables::catalog::{ColumnSample, FileFigures};

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
        rows: row.get::<_, i64>(1).unsigned_abs(),
        sums: (0..sums.len())
            .map(|at| row.get::<_, Option<String>>(at + 2).and_then(|text| text.parse().ok()))
            .collect(),
    };
    Ok(client.query(&sql, &[]).await?.iter().map(entry).collect())
}
