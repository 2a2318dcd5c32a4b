//! What is asked of tables in MySQL and MariaDB: what a column holds, and what of each file is in them.

use hypodoke_core::names::FILE_COLUMN;
use hypodoke_core::types::Type;
use mysql_async::Row;
use mysql_async::prelude::Queryable;

use super::connection::MysqlStore;
use super::native::{KEY_COLUMN, NativeTable};
use crate::error::StoreError;
use crate::sql::quote;
use crate::tables::catalog::{ColumnSample, FileFigures, SampleRows};

/// How many rows of a table are gone through for the values of a column.
const LOOKED_AT: usize = 100_000;

impl MysqlStore {
    /// What a column holds.
    pub(super) fn sample_of(
        &mut self,
        table: &str,
        column: &str,
        most: usize,
    ) -> Result<ColumnSample, StoreError> {
        let found = self.finished_table(table)?;
        let ty = found.as_ref().and_then(|found| found.column(column)).map(|column| column.column.ty);
        let shown = |value: Option<String>| value.map(|text| shown_as(text, ty));
        let (table, column) = (quote(table), quote(column));
        // JSON has no least and greatest; its texts have.
        let value = if ty == Some(Type::Json) { format!("CAST({column} AS char)") } else { column.clone() };
        let sql = format!("SELECT min({value}), max({value}) FROM {table}");
        let mut ends = self.texts(&sql)?.into_iter().next().unwrap_or_default().into_iter();
        let (least, greatest) = (ends.next().flatten(), ends.next().flatten());
        let sql = format!(
            "SELECT DISTINCT {column} FROM (SELECT {column} FROM {table} WHERE {column} IS NOT NULL LIMIT {LOOKED_AT}) s LIMIT {most}"
        );
        let values = self.texts(&sql)?.into_iter().flatten().filter_map(shown).collect();
        Ok(ColumnSample { least: shown(least), greatest: shown(greatest), values })
    }

    /// What of each file is in a table.
    pub(super) fn figures_of(
        &mut self,
        table: &str,
        sums: &[(String, Type)],
    ) -> Result<Vec<FileFigures>, StoreError> {
        let is_summed = |ty: &Type| matches!(ty, Type::Integer | Type::Decimal { .. });
        let sum = |(column, ty): &(String, Type)| match is_summed(ty) {
            true => format!("coalesce(sum({}), 0)", quote(column)),
            false => "NULL".to_owned(),
        };
        let all: Vec<String> =
            [FILE_COLUMN.to_owned(), "count(*)".to_owned()].into_iter().chain(sums.iter().map(sum)).collect();
        let sql = format!("SELECT {} FROM {} GROUP BY {FILE_COLUMN}", all.join(", "), quote(table));
        let entry = |row: Vec<Option<String>>| {
            let mut values = row.into_iter();
            let mut number =
                || values.next().flatten().and_then(|text| text.parse::<i64>().ok()).unwrap_or_default();
            let (file, rows) = (number(), number().unsigned_abs());
            let sums = values.zip(sums).map(|(value, (_, ty))| units(value.as_deref()?, *ty)).collect();
            FileFigures { file, rows, sums }
        };
        Ok(self.texts(&sql)?.into_iter().map(entry).collect())
    }

    /// The first rows of a table, values as people read them.
    pub(super) fn first_rows_of(&mut self, table: &str, most: usize) -> Result<SampleRows, StoreError> {
        let Some(found) = self.finished_table(table)? else { return Ok(SampleRows::default()) };
        let sql = format!("SELECT * FROM {} LIMIT {most}", quote(table));
        let rows: Vec<Row> = self.with(async |conn| conn.query(sql.as_str()).await)?;
        let columns: Vec<String> = match rows.first() {
            Some(row) => row.columns_ref().iter().map(|column| column.name_str().into_owned()).collect(),
            None => names_of(&found),
        };
        let types: Vec<Option<Type>> =
            columns.iter().map(|name| found.column(name).map(|column| column.column.ty)).collect();
        let value = |row: &Row, at: usize| {
            let bytes = row.get_opt::<Option<Vec<u8>>, _>(at).and_then(Result::ok).flatten()?;
            Some(shown_as(String::from_utf8_lossy(&bytes).into_owned(), types.get(at).copied().flatten()))
        };
        let rows = rows.iter().map(|row| (0..columns.len()).map(|at| value(row, at)).collect()).collect();
        Ok(SampleRows { columns, rows })
    }
}

fn names_of(table: &NativeTable) -> Vec<String> {
    let own = table.own.iter().filter(|name| *name != KEY_COLUMN).cloned();
    table.columns.iter().map(|column| column.column.name.clone()).chain(own).collect()
}

/// A value as people read it.
fn shown_as(text: String, ty: Option<Type>) -> String {
    match ty {
        Some(Type::Boolean) if text == "1" => "true".to_owned(),
        Some(Type::Boolean) if text == "0" => "false".to_owned(),
        Some(Type::Time | Type::Timestamp) => without_zeros(&text).to_owned(),
        Some(Type::TimestampTz) => format!("{}+00", without_zeros(&text)),
        _ => text,
    }
}

/// A time of day without zeros that say nothing.
fn without_zeros(text: &str) -> &str {
    if text.contains('.') { text.trim_end_matches('0').trim_end_matches('.') } else { text }
}

/// A sum in units of the last digit of its column.
fn units(text: &str, ty: Type) -> Option<i128> {
    let scale = if let Type::Decimal { scale, .. } = ty { usize::from(scale) } else { 0 };
    let (whole, part) = text.split_once('.').unwrap_or((text, ""));
    // Digits behind those of the column's are cut off.
    let digits = format!("{whole}{part:0<scale$}");
    digits.get(..whole.len() + scale)?.parse().ok()
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case("12", 0, Some(12))]
    #[case("12.50", 2, Some(1250))]
    #[case("-0.5", 2, Some(-50))]
    #[case("0", 3, Some(0))]
    #[case("12.999", 2, Some(1299))]
    #[case("much", 2, None)]
    fn sums_are_in_units_of_the_last_digit(
        #[case] text: &str,
        #[case] scale: u16,
        #[case] expected: Option<i128>,
    ) {
        assert_eq!(units(text, Type::Decimal { precision: 9, scale }), expected);
    }
}
