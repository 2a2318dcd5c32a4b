//! Tables in MySQL and MariaDB: what they are, and the SQL that makes them.

use hypodoke_core::layout::{Column, Layout};
use hypodoke_core::names::{FILE_COLUMN, LINE_COLUMN, Lineage, VALID_FROM_COLUMN, is_own};
use hypodoke_core::types::Type;
use mysql_async::Row;

use super::connection::MysqlStore;
use super::facts::Facts;
use super::types::{NativeType, declared, declared_in_key, plain_words};
use crate::catalog::{TableColumn, TableShape, Takes};
use crate::error::StoreError;
use crate::plan::{TablePlan, index_name};
use crate::sql::quote;

/// A column as the catalogue has it.
#[derive(Clone, Debug)]
pub struct NativeColumn {
    /// What it is to everybody.
    pub column: TableColumn,
    /// Its type.
    pub native: NativeType,
}

/// A table as the catalogue has it.
#[derive(Clone, Debug)]
pub struct NativeTable {
    /// Its name.
    pub name: String,
    /// Its columns, our own left out.
    pub columns: Vec<NativeColumn>,
    /// Our own columns that it has.
    pub own: Vec<String>,
    /// The lineage columns it has.
    pub lineage: Lineage,
    /// How rows get into it.
    pub takes: Takes,
    /// What keeps its rows; `None` for a view.
    pub engine: Option<String>,
    /// The names of its indexes.
    pub indexes: Vec<String>,
}

impl NativeTable {
    /// The table as others see it.
    pub fn shape(&self) -> TableShape {
        TableShape {
            name: self.name.clone(),
            columns: self.columns.iter().map(|column| column.column.clone()).collect(),
            lineage: self.lineage,
            takes: self.takes,
        }
    }

    /// Takes in what the ledger says of a table of ours: some types are declared alike.
    pub fn take_in(&mut self, layout: &Layout) {
        for column in &mut self.columns {
            let known = layout.columns.iter().find(|known| known.name == column.column.name);
            if let Some(ty) = known.map(Column::ty).filter(|ty| column.native.is(&declared(*ty))) {
                column.column.ty = ty;
                column.column.limit = None;
            }
        }
    }

    /// The column of that name. Names of columns are alike whatever their case.
    pub fn column(&self, name: &str) -> Option<&NativeColumn> {
        self.columns.iter().find(|column| column.column.name.to_lowercase() == name.to_lowercase())
    }

    /// Whether what it keeps can be undone.
    pub fn is_transactional(&self) -> bool {
        self.engine.as_ref().is_none_or(|engine| engine.eq_ignore_ascii_case("InnoDB"))
    }

    /// Whether all its texts are kept as UTF-8 of up to four bytes, and none is checked for what it says.
    pub fn takes_plain_bytes(&self) -> bool {
        self.columns.iter().all(|column| {
            let native = &column.native;
            native.word != "json"
                && native.charset.as_deref().is_none_or(|set| matches!(set, "utf8mb4" | "ascii"))
        })
    }
}

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

/// The column that numbers rows where the server takes no table without a primary key.
pub const KEY_COLUMN: &str = "hd_number";

/// How a column of a table of ours is declared.
pub fn column_words(plan: &TablePlan, column: &Column, ty: Type) -> String {
    if plan.key.contains(&column.name) && plan.mode.has_key() && !plan.is_part() {
        let is_text = |column: &&Column| matches!(column.ty(), Type::Text | Type::Unknown | Type::Json);
        let texts = plan.layout.columns.iter().filter(|c| plan.key.contains(&c.name)).filter(is_text).count();
        return declared_in_key(ty, texts);
    }
    declared(ty)
}

/// How a column is made: a UUID is of letters and digits only.
pub fn column_sql(plan: &TablePlan, column: &Column, ty: Type) -> String {
    let words = column_words(plan, column, ty);
    let set = if words == "char(36)" { " CHARACTER SET ascii COLLATE ascii_bin" } else { "" };
    format!("{} {words}{set}", quote(&column.name))
}

/// The SQL that makes a table.
pub fn create_sql(plan: &TablePlan, facts: &Facts) -> String {
    let mut parts: Vec<String> = Vec::new();
    if facts.wants_primary_key {
        let key = quote(KEY_COLUMN);
        parts.push(format!("{key} bigint unsigned NOT NULL AUTO_INCREMENT{} PRIMARY KEY", facts.invisible()));
    }
    parts.extend(plan.layout.columns.iter().map(|column| column_sql(plan, column, column.ty())));
    parts.extend(plan.lineage.columns().iter().map(|name| format!("{} bigint NOT NULL", quote(name))));
    parts.extend(plan.moments().iter().map(|name| moment_sql(name)));
    parts.extend(indexes(plan).iter().map(|index| index.sql.clone()));
    format!("CREATE TABLE {} (\n  {}\n){}", quote(&plan.table), parts.join(",\n  "), facts.table_options())
}

/// A column of ours that says since when or until when a row holds.
pub fn moment_sql(name: &str) -> String {
    let always = if name == VALID_FROM_COLUMN { " NOT NULL" } else { "" };
    format!("{} datetime(6){always}", quote(name))
}

/// An index as a part of a statement that makes or changes its table.
pub struct Index {
    /// Its name.
    pub name: String,
    /// The part.
    pub sql: String,
}

/// The indexes that a table of ours needs for its mode.
pub fn indexes(plan: &TablePlan) -> Vec<Index> {
    if !plan.keeps_layout || plan.is_virtual || !plan.mode.has_key() {
        return Vec::new();
    }
    let index = |kind: &str, what: &str, columns: &str| {
        let name = index_name(what, &plan.table);
        vec![Index { sql: format!("{kind} {} ({columns})", quote(&name)), name }]
    };
    if plan.is_part() {
        return index("INDEX", "rows", &format!("{FILE_COLUMN}, {LINE_COLUMN}"));
    }
    let key: Vec<String> = plan.key.iter().map(|name| quote(name)).collect();
    // A key has several versions, and an index cannot be on the current ones only.
    let kind = if plan.mode == crate::mode::Mode::History { "INDEX" } else { "UNIQUE INDEX" };
    index(kind, "key", &key.join(", "))
}
