//! The temporary tables that stage the rows to delete and to insert, and SQL conditions on their rows.

use hypodoke_core::names::{FILE_COLUMN, LINE_COLUMN};

use super::table::TableRows;
use super::target::RebuildTarget;
use crate::error::StoreError;
use crate::sql::{SqlDialect, quote};

/// The stage of the rows to delete.
pub const TAKEN: &str = "hd_taken";

/// The stage of the rows to insert.
pub const ADDED: &str = "hd_added";

/// The keys that somebody else has changed.
pub const TOUCHED: &str = "hd_touched";

/// The stage of every row that a file holds, or held before the change, for the keys to restore.
pub const KNOWN: &str = "hd_known";

/// The keys to restore, each once.
pub const KEYS: &str = "hd_known_keys";

/// The stage of the nested lists of the rows of another stage.
pub fn of_part(stage: &str, at: usize) -> String {
    format!("{stage}_{at}")
}

/// The columns that are written, as in statements: those of files, those that say since when and until
/// when, and those of lineage.
pub fn columns(table: &TableRows<'_>, extra: &[&str]) -> Vec<String> {
    let own = table.columns.iter().map(|(name, _)| quote(name));
    let lineage = table.plan.lineage.columns().iter().map(|name| quote(name));
    own.chain(extra.iter().map(|name| quote(name))).chain(lineage).collect()
}

/// The columns by which a row is known to be what its file says.
pub fn compared<'t>(table: &'t TableRows<'_>, extra: &[&str]) -> impl Iterator<Item = String> + use<'t> {
    columns(table, extra).into_iter().filter(|name| table.is_as_it_was(name))
}

/// That a row joined from the left is not there: the columns of a key are never null.
pub fn is_absent(alias: &str, key: &[String]) -> String {
    key.first().map_or("FALSE".to_owned(), |name| format!("{alias}.{name} IS NULL"))
}

/// The columns of a table's key, as in statements.
pub fn key_of(table: &TableRows<'_>) -> Vec<String> {
    table.plan.key.iter().map(|name| quote(name)).collect()
}

/// The columns that say which record a row came from.
pub fn record_columns() -> [String; 2] {
    [FILE_COLUMN.to_owned(), LINE_COLUMN.to_owned()]
}

/// That columns of two rows are equal, none of which is null.
pub fn pairs(names: &[String], a: &str, b: &str) -> String {
    all_of(names.iter().map(|name| format!("{a}.{name} = {b}.{name}")))
}

/// That columns of two rows are alike, nulls too.
pub fn same(dialect: &SqlDialect, names: &[String], a: &str, b: &str) -> String {
    all_of(names.iter().map(|name| dialect.is_same(&format!("{a}.{name}"), &format!("{b}.{name}"))))
}

fn all_of(conditions: impl Iterator<Item = String>) -> String {
    let all: Vec<String> = conditions.collect();
    if all.is_empty() { "TRUE".to_owned() } else { all.join(" AND ") }
}

/// That a row of a table `t` is the one of the stage `s`: by its key, and in all it says.
pub fn main_match(dialect: &SqlDialect, main: &TableRows<'_>, extra: &[&str]) -> String {
    let key = key_of(main);
    let rest: Vec<String> = compared(main, extra).filter(|name| !key.contains(name)).collect();
    format!("{} AND {}", pairs(&key, "t", "s"), same(dialect, &rest, "t", "s"))
}

/// That a row of a nested list `t` is the one of the stage `s`.
pub fn children_match(part: &TableRows<'_>) -> String {
    let lineage: Vec<String> = part.plan.lineage.columns().iter().map(|name| quote(name)).collect();
    pairs(&lineage, "t", "s")
}

/// The columns of a key of one of several tables, as a list.
pub fn key_list(key: &[String], alias: &str) -> String {
    key.iter().map(|name| format!("{alias}.{name}")).collect::<Vec<_>>().join(", ")
}

/// How many keys a stage holds. Each may be in it several times.
pub fn count_keys(target: &mut dyn RebuildTarget, key: &[String], stage: &str) -> Result<u64, StoreError> {
    count(target, &format!("SELECT count(*) FROM (SELECT DISTINCT {} FROM {stage} d) k", key_list(key, "d")))
}

/// The number that a query returns.
pub fn count(target: &mut dyn RebuildTarget, sql: &str) -> Result<u64, StoreError> {
    let counted = target.moment_entries(sql)?.first().map_or(Ok(0), |row| row.count(0));
    counted.map_err(|misread| StoreError::Damaged { shown: target.shown(), what: misread.0 })
}
