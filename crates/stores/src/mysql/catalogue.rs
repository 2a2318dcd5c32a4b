//! Tables looked up in the catalogue of a server.

use hypodoke_core::names::{Lineage, is_own};
use mysql_async::Row;

use super::connection::MysqlStore;
use super::native::{KEY_COLUMN, NativeColumn, NativeTable};
use super::types::{NativeType, plain_words};
use crate::error::StoreError;
use crate::sql::quote;
use crate::tables::catalog::{TableColumn, Takes};

const TABLE: &str = "SELECT ENGINE, TABLE_TYPE FROM information_schema.TABLES
  WHERE TABLE_SCHEMA = DATABASE() AND TABLE_NAME = ?";

const VIEW: &str = "SELECT IS_UPDATABLE FROM information_schema.VIEWS
  WHERE TABLE_SCHEMA = DATABASE() AND TABLE_NAME = ?";

const COLUMNS: &str = "SELECT COLUMN_NAME, DATA_TYPE, CONVERT(COLUMN_TYPE USING utf8mb4), CHARACTER_MAXIMUM_LENGTH,
    NUMERIC_PRECISION, NUMERIC_SCALE, DATETIME_PRECISION, CHARACTER_SET_NAME, IS_NULLABLE,
    COLUMN_DEFAULT IS NOT NULL, EXTRA
  FROM information_schema.COLUMNS WHERE TABLE_SCHEMA = DATABASE() AND TABLE_NAME = ? ORDER BY ORDINAL_POSITION";

const INDEXES: &str = "SELECT DISTINCT INDEX_NAME FROM information_schema.STATISTICS
  WHERE TABLE_SCHEMA = DATABASE() AND TABLE_NAME = ?";

const CHECKS: &str = "SELECT CONVERT(CHECK_CLAUSE USING utf8mb4) FROM information_schema.CHECK_CONSTRAINTS
  WHERE CONSTRAINT_SCHEMA = DATABASE() AND TABLE_NAME = ?";

impl MysqlStore {
    /// A table as it is, if it is: one that files of the group have gone into by now is as it was.
    pub(super) fn known_table(&mut self, name: &str) -> Result<Option<NativeTable>, StoreError> {
        if let Some(known) = self.group.as_ref().and_then(|group| group.tables.get(name)) {
            return Ok(Some(known.clone()));
        }
        self.read_table(name)
    }

    /// A table as it is, if it is.
    pub(super) fn read_table(&mut self, name: &str) -> Result<Option<NativeTable>, StoreError> {
        let of_table = || vec![mysql_async::Value::from(name)];
        let Some(table) = self.rows(TABLE, of_table())?.into_iter().next() else { return Ok(None) };
        let (engine, kind) = (text(&table, 0), text(&table, 1));
        let takes = if kind.as_deref() == Some("VIEW") { self.takes_of_view(name)? } else { Takes::Rows };
        let rows = self.rows(COLUMNS, of_table())?;
        let is_text = |row: &Row| text(row, 1).as_deref() == Some("longtext");
        let checks = match self.facts.tells_checks && rows.iter().any(is_text) {
            true => self.rows(CHECKS, of_table())?.iter().filter_map(|row| text(row, 0)).collect(),
            false => Vec::new(),
        };
        let (mut columns, mut own) = (Vec::new(), Vec::new());
        for row in &rows {
            let column = column_of(row, &checks);
            if is_own(&column.column.name) || column.column.name == KEY_COLUMN {
                own.push(column.column.name);
            } else {
                columns.push(column);
            }
        }
        let indexes = self.rows(INDEXES, of_table())?.iter().filter_map(|row| text(row, 0)).collect();
        let names: Vec<&str> = own.iter().map(String::as_str).collect();
        let lineage = Lineage::of(&names);
        Ok(Some(NativeTable { name: name.to_owned(), columns, own, lineage, takes, engine, indexes }))
    }
}

impl MysqlStore {
    fn takes_of_view(&mut self, name: &str) -> Result<Takes, StoreError> {
        let rows = self.rows(VIEW, vec![mysql_async::Value::from(name)])?;
        let is_updatable = rows.first().and_then(|row| text(row, 0)).as_deref() == Some("YES");
        Ok(if is_updatable { Takes::Rows } else { Takes::Nothing })
    }
}

fn text(row: &Row, at: usize) -> Option<String> {
    row.get_opt::<Option<String>, _>(at)?.ok().flatten()
}

fn number(row: &Row, at: usize) -> Option<u64> {
    row.get_opt::<Option<u64>, _>(at)?.ok().flatten()
}

fn column_of(row: &Row, checks: &[String]) -> NativeColumn {
    let name = text(row, 0).unwrap_or_default();
    let word = text(row, 1).unwrap_or_default().to_ascii_lowercase();
    let small = |at: usize| number(row, at).and_then(|number| u16::try_from(number).ok());
    // In the quotes of our sessions, or in the server's own.
    let checked =
        [quote(&name), format!("`{}`", name.replace('`', "``"))].map(|name| format!("json_valid({name})"));
    let is_checked = |check: &String| checked.iter().any(|checked| check.eq_ignore_ascii_case(checked));
    let native = NativeType {
        words: plain_words(&word, &text(row, 2).unwrap_or_default()),
        characters: number(row, 3),
        digits: (small(4), small(5)),
        fraction: number(row, 6).and_then(|number| u8::try_from(number).ok()),
        charset: text(row, 7),
        is_json: word == "longtext" && checks.iter().any(is_checked),
        word,
    };
    let extra = text(row, 10).unwrap_or_default().to_ascii_uppercase();
    let generated = extra.contains("GENERATED") && !extra.contains("DEFAULT_GENERATED");
    let filled = generated || number(row, 9) == Some(1) || extra.contains("AUTO_INCREMENT");
    NativeColumn {
        column: TableColumn {
            name,
            ty: native.understood(),
            required: text(row, 8).as_deref() == Some("NO"),
            filled,
            generated,
            limit: native.limit(),
        },
        native,
    }
}
