//! The SQL that makes tables in MySQL and MariaDB.

use hypodoke_core::layout::Column;
use hypodoke_core::names::{FILE_COLUMN, LINE_COLUMN, VALID_FROM_COLUMN};
use hypodoke_core::types::Type;

use super::facts::Facts;
use super::native::KEY_COLUMN;
use super::types::{declared, declared_in_key};
use crate::load_plan::Mode;
use crate::load_plan::{TablePlan, index_name};
use crate::sql::quote;

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
    let kind = if plan.mode == Mode::History { "INDEX" } else { "UNIQUE INDEX" };
    index(kind, "key", &key.join(", "))
}
