//! Tables of MySQL and MariaDB rebuilt from what is kept of their files.

use hypodoke_core::cast::Cell;

use super::connection::MysqlStore;
use super::session::row_of;
use super::stage::wire_of;
use super::stream::Form;
use super::wire::Wire;
use crate::error::StoreError;
use crate::sql::{Misread, SqlConnection, SqlRow, quote};
use crate::tables::load_target::RowsOfFile;
use crate::tables::rebuild::{Loosely, Moments, RebuildTarget, StagedRows, TableRows};
use crate::tables::target_table::TargetTable;

const COLLATIONS: &str = "SELECT COLUMN_NAME, CHARACTER_SET_NAME, COLLATION_NAME
  FROM information_schema.COLUMNS WHERE TABLE_SCHEMA = DATABASE() AND TABLE_NAME = ?";

/// How a collation compares texts, where it does not compare their bytes.
fn loosely(charset: &str, collation: &str) -> Option<Loosely> {
    let is_padded = !collation.contains("_nopad_") && !collation.contains("_0900_");
    match collation {
        "binary" => None,
        bytes if bytes.ends_with("_bin") => is_padded.then_some(Loosely::BlanksAtEnd),
        _ => {
            let text = format!("CONVERT({{}} USING {charset})");
            let text = if is_padded { format!("RTRIM({text})") } else { text };
            Some(Loosely::Asked(format!("HEX(WEIGHT_STRING({text} COLLATE {collation}))")))
        }
    }
}

impl RebuildTarget for MysqlStore {
    fn ledger(&mut self) -> &mut dyn SqlConnection {
        if self.link.is_elsewhere() {
            return self.link.other();
        }
        self
    }

    fn table_sql(&self, table: &str) -> String {
        quote(table)
    }

    fn statement(&mut self, sql: &str) -> Result<u64, StoreError> {
        self.note_write();
        self.run(sql)
    }

    fn moment_entries(&mut self, sql: &str) -> Result<Vec<SqlRow>, StoreError> {
        let rows = self.with(async |conn| {
            use mysql_async::prelude::Queryable;
            conn.query(sql).await
        })?;
        let rows: Result<Vec<SqlRow>, Misread> = rows.into_iter().map(row_of).collect();
        rows.map_err(|misread| StoreError::Damaged { shown: self.shown.clone(), what: misread.0 })
    }

    fn make_ready(&mut self, _: &TableRows<'_>) -> Result<(), StoreError> {
        // The index on the key of a table of versions has all of them.
        Ok(())
    }

    fn make_stage(
        &mut self,
        stage: &str,
        table: &str,
        columns: &[String],
        key: &[String],
    ) -> Result<(), StoreError> {
        self.make_keyed_stage(stage, table, columns, key)
    }

    fn index_stage(&mut self, _: &str, _: &[String]) -> Result<(), StoreError> {
        // To make an index would end the transaction: the stage was made with it.
        Ok(())
    }

    fn fill_stage(&mut self, staged: &StagedRows<'_>) -> Result<(), StoreError> {
        let StagedRows { stage, columns, lineage, rows, files, table } = staged;
        let changed = || StoreError::Changed { table: table.plan.table.clone() };
        let found = self.known_table(&table.plan.table)?.ok_or_else(changed)?;
        let wire =
            |(name, _): &(String, _)| found.column(name).map(|c| wire_of(&c.native)).ok_or_else(changed);
        let mut wires: Vec<Wire> = table.columns.iter().map(wire).collect::<Result<_, _>>()?;
        wires.resize(rows.width, Wire::Moment);
        let form = Form::new(stage, columns, wires, false, found.takes_plain_bytes());
        let mut target = TargetTable { form, columns: Vec::new(), staged: false, sent: 0, missing: 0 };
        self.note_write();
        // Rows of one file after another: all of one have its number.
        let mut from = 0;
        while let Some(file) = files.get(from).copied() {
            let to = files
                .iter()
                .skip(from)
                .position(|other| *other != file)
                .map_or(files.len(), |many| from + many);
            self.send_rows(0, &mut target, RowsOfFile { file, lineage: *lineage, rows }, from..to)?;
            from = to;
        }
        self.end_stream().map(drop)
    }

    fn delete_matching(&self, table: &TableRows<'_>, stage: &str, condition: &str) -> String {
        let table = quote(&table.plan.table);
        format!("DELETE t FROM {table} t JOIN {stage} s ON {condition}")
    }

    fn compared_loosely(
        &mut self,
        table: &str,
        columns: &[String],
    ) -> Result<Vec<Option<Loosely>>, StoreError> {
        let rows = self.rows(COLLATIONS, vec![mysql_async::Value::from(table)])?;
        let text = |row: &mysql_async::Row, at: usize| row.get_opt::<Option<String>, _>(at)?.ok().flatten();
        let of = |name: &String| {
            let row = rows.iter().find(|row| text(row, 0).as_ref() == Some(name))?;
            loosely(&text(row, 1)?, &text(row, 2)?)
        };
        Ok(columns.iter().map(of).collect())
    }

    fn moment_cell(&self) -> Moments {
        |micros, _| Cell::TimestampTz(micros)
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case::bytes("binary", "binary", None)]
    #[case::without_padding("utf8mb4", "utf8mb4_nopad_bin", None)]
    #[case::of_mysql("utf8mb4", "utf8mb4_0900_bin", None)]
    #[case::padded("latin1", "latin1_bin", Some(Loosely::BlanksAtEnd))]
    #[case::general("utf8mb4", "utf8mb4_general_ci", Some(Loosely::Asked(
        "HEX(WEIGHT_STRING(RTRIM(CONVERT({} USING utf8mb4)) COLLATE utf8mb4_general_ci))".into()
    )))]
    #[case::without_padding_and_case("utf8mb4", "utf8mb4_0900_ai_ci", Some(Loosely::Asked(
        "HEX(WEIGHT_STRING(CONVERT({} USING utf8mb4) COLLATE utf8mb4_0900_ai_ci))".into()
    )))]
    fn a_collation_says_how_texts_compare(
        #[case] charset: &str,
        #[case] collation: &str,
        #[case] expected: Option<Loosely>,
    ) {
        assert_eq!(loosely(charset, collation), expected);
    }
}
