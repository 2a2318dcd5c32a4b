//! The difference brought into the tables: what is to go and what is to come is staged beside them.

use hypodoke_core::names::{FILE_COLUMN, LINE_COLUMN};

use super::arena::Arena;
use super::change::Rebuilt;
use super::key_rows::{Differences, KeyRows};
use super::table::TableRows;
use super::target::{RebuildTarget, StagedRows};
use crate::error::StoreError;
use crate::sql::{SqlDialect, quote};
use crate::tables::versions::TableRow;

/// What became of a table.
#[derive(Clone, Copy, Debug, Default)]
pub struct Applied {
    /// Rows taken out.
    pub deleted: u64,
    /// Keys that somebody else has changed.
    pub touched: u64,
    /// What was to become of their rows, and did not.
    pub left: Rebuilt,
}

/// The stages of one table and of what hangs on its rows.
pub struct Stage {
    extra: &'static [&'static str],
}

const TAKEN: &str = "hd_taken";
/// How many rows are sent at a time.
const SENT: usize = 8192;

/// The stage of what is to come.
pub const ADDED: &str = "hd_added";
const TOUCHED: &str = "hd_touched";

/// The stage of what hangs on the rows of another.
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
fn record_columns() -> [String; 2] {
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

impl Stage {
    /// Makes the stages.
    pub fn make(
        target: &mut dyn RebuildTarget,
        main: &TableRows<'_>,
        parts: &[TableRows<'_>],
        extra: &'static [&'static str],
    ) -> Result<Stage, StoreError> {
        let key = key_of(main);
        for stage in [TAKEN, ADDED] {
            target.make_stage(stage, &main.plan.table, &columns(main, extra), &key)?;
            for (at, part) in parts.iter().enumerate() {
                let of_part = of_part(stage, at);
                target.make_stage(&of_part, &part.plan.table, &columns(part, &[]), &record_columns())?;
            }
        }
        Ok(Stage { extra })
    }

    /// Puts rows of some keys into the stages.
    pub fn fill(
        &self,
        target: &mut dyn RebuildTarget,
        (main, parts): (&TableRows<'_>, &[TableRows<'_>]),
        key_rows: &KeyRows,
        differences: &Differences,
    ) -> Result<(), StoreError> {
        let origin =
            |row: &TableRow| (key_rows.main.files.get(row.row).copied(), key_rows.main.rows.line(row.row));
        let sides = [
            (TAKEN, &differences.taken, &differences.added),
            (ADDED, &differences.added, &differences.taken),
        ];
        for (stage, rows, others) in sides {
            let mut staged = Arena::default();
            for row in rows {
                if staged.len() >= SENT {
                    self.send(target, (stage, main, self.extra), &std::mem::take(&mut staged))?;
                }
                let more: Vec<Option<i64>> = match self.extra.len() {
                    0 => Vec::new(),
                    1 => vec![row.to],
                    _ => vec![row.from, row.to],
                };
                staged.push_row(&key_rows.main, row.row, &more, target.moment_cell());
            }
            self.send(target, (stage, main, self.extra), &staged)?;
            // What only holds from or until another moment keeps what hangs on it.
            let moved: std::collections::HashSet<_> = others.iter().map(origin).collect();
            for (at, (part, (arena, by_record))) in parts.iter().zip(&key_rows.children.tables).enumerate() {
                let mut staged = Arena::default();
                for row in rows.iter().filter(|row| !moved.contains(&origin(row))) {
                    let (file, line) = origin(row);
                    let children = by_record.get(&(file.unwrap_or_default(), line));
                    if staged.len() >= SENT {
                        self.send(target, (&of_part(stage, at), part, &[]), &std::mem::take(&mut staged))?;
                    }
                    for child in children.into_iter().flatten() {
                        staged.push_row(arena, *child, &[], target.moment_cell());
                    }
                }
                self.send(target, (&of_part(stage, at), part, &[]), &staged)?;
            }
        }
        Ok(())
    }

    fn send(
        &self,
        target: &mut dyn RebuildTarget,
        (stage, table, extra): (&str, &TableRows<'_>, &[&str]),
        staged: &Arena,
    ) -> Result<(), StoreError> {
        if staged.len() == 0 {
            return Ok(());
        }
        let (columns, lineage) = (columns(table, extra), table.plan.lineage);
        let (rows, files) = (&staged.rows, staged.files.as_slice());
        target.fill_stage(&StagedRows { stage, columns: &columns, lineage, rows, files, table })
    }

    /// Brings the difference into the tables, but for keys that somebody else has changed. `by` is the file
    /// that brings it, `replaced` the one whose rows are taken out.
    pub fn apply(
        &self,
        target: &mut dyn RebuildTarget,
        (main, parts): (&TableRows<'_>, &[TableRows<'_>]),
        (by, replaced): (i64, Option<i64>),
    ) -> Result<Applied, StoreError> {
        let (key, lineage) = (key_of(main), record_columns());
        for stage in [TAKEN, ADDED] {
            target.index_stage(stage, &key)?;
            for at in 0..parts.len() {
                target.index_stage(&of_part(stage, at), &lineage)?;
            }
        }
        let touched = self.find_touched(target, main, parts, &key)?;
        let mut left = Rebuilt::default();
        if touched > 0 {
            left = left_rows(target, main, &key, (by, replaced))?;
            self.leave_touched(target, parts, &key)?;
        }
        let mut deleted = 0;
        for (at, part) in parts.iter().enumerate() {
            self.take_out(target, part, &of_part(TAKEN, at), &self.children_match(part))?;
        }
        let main_match = self.main_match(target.dialect(), main, &key);
        deleted += self.take_out(target, main, TAKEN, &main_match)?;
        self.put_in(target, main, ADDED, self.extra)?;
        for (at, part) in parts.iter().enumerate() {
            self.put_in(target, part, &of_part(ADDED, at), &[])?;
        }
        let dropping = target.dialect().drop_stage(TOUCHED);
        target.statement(&dropping)?;
        self.drop_all(target, parts.len())?;
        Ok(Applied { deleted, touched, left })
    }

    /// Drops the stages.
    pub fn drop_all(&self, target: &mut dyn RebuildTarget, parts: usize) -> Result<(), StoreError> {
        for stage in [TAKEN, ADDED] {
            let dialect = target.dialect();
            target.statement(&dialect.drop_stage(stage))?;
            for at in 0..parts {
                target.statement(&dialect.drop_stage(&of_part(stage, at)))?;
            }
        }
        Ok(())
    }

    /// That a row of a table `t` is the one of the stage `s`: by its key, and in all it says.
    fn main_match(&self, dialect: &SqlDialect, main: &TableRows<'_>, key: &[String]) -> String {
        let rest: Vec<String> = compared(main, self.extra).filter(|name| !key.contains(name)).collect();
        format!("{} AND {}", pairs(key, "t", "s"), same(dialect, &rest, "t", "s"))
    }

    fn children_match(&self, part: &TableRows<'_>) -> String {
        let lineage: Vec<String> = part.plan.lineage.columns().iter().map(|name| quote(name)).collect();
        pairs(&lineage, "t", "s")
    }

    /// The keys whose rows are not what the files had said; how many.
    fn find_touched(
        &self,
        target: &mut dyn RebuildTarget,
        main: &TableRows<'_>,
        parts: &[TableRows<'_>],
        key: &[String],
    ) -> Result<u64, StoreError> {
        let table = target.table_sql(&main.plan.table);
        let keys =
            |alias: &str| key.iter().map(|name| format!("{alias}.{name}")).collect::<Vec<_>>().join(", ");
        target.make_stage(TOUCHED, &main.plan.table, key, key)?;
        let own = key.join(", ");
        let current = match self.extra {
            [_, to] => format!(" AND t.{to} IS NULL AND s.{to} IS NULL"),
            _ => String::new(),
        };
        target.statement(&format!(
            "INSERT INTO {TOUCHED} ({own}) SELECT DISTINCT {} FROM {TAKEN} s LEFT JOIN {table} t ON {} WHERE {}",
            keys("s"),
            self.main_match(target.dialect(), main, key),
            is_absent("t", key),
        ))?;
        target.statement(&format!(
            "INSERT INTO {TOUCHED} ({own}) SELECT DISTINCT {} FROM {ADDED} s JOIN {table} t ON {}{current}
             LEFT JOIN {TAKEN} d ON {} WHERE {}",
            keys("s"),
            pairs(key, "t", "s"),
            pairs(key, "d", "s"),
            is_absent("d", key),
        ))?;
        for (at, part) in parts.iter().enumerate() {
            let table = target.table_sql(&part.plan.table);
            let stage = of_part(TAKEN, at);
            let rest: Vec<String> = compared(part, &[]).collect();
            target.statement(&format!(
                "INSERT INTO {TOUCHED} ({own}) SELECT DISTINCT {} FROM {TAKEN} m WHERE EXISTS (SELECT 1 FROM {stage} s
                 WHERE s.{FILE_COLUMN} = m.{FILE_COLUMN} AND s.{LINE_COLUMN} = m.{LINE_COLUMN} AND NOT EXISTS
                 (SELECT 1 FROM {table} t WHERE {} AND {}))",
                keys("m"),
                self.children_match(part),
                same(target.dialect(), &rest, "t", "s"),
            ))?;
        }
        // One may be touched in several ways.
        let sql = format!("SELECT count(*) FROM (SELECT DISTINCT {} FROM {TOUCHED} d) k", keys("d"));
        count(target, &sql)
    }

    /// Takes touched keys out of the stages.
    fn leave_touched(
        &self,
        target: &mut dyn RebuildTarget,
        parts: &[TableRows<'_>],
        key: &[String],
    ) -> Result<(), StoreError> {
        for stage in [TAKEN, ADDED] {
            let is_touched = format!("EXISTS (SELECT 1 FROM {TOUCHED} d WHERE {})", pairs(key, "d", "m"));
            for at in 0..parts.len() {
                let part = of_part(stage, at);
                target.statement(&format!(
                    "DELETE FROM {part} WHERE EXISTS (SELECT 1 FROM {stage} m WHERE m.{FILE_COLUMN} = {part}.{FILE_COLUMN}
                     AND m.{LINE_COLUMN} = {part}.{LINE_COLUMN} AND {is_touched})"
                ))?;
            }
            target.statement(&format!(
                "DELETE FROM {stage} WHERE EXISTS (SELECT 1 FROM {TOUCHED} d WHERE {})",
                pairs(key, "d", stage)
            ))?;
        }
        Ok(())
    }

    fn take_out(
        &self,
        target: &mut dyn RebuildTarget,
        table: &TableRows<'_>,
        stage: &str,
        condition: &str,
    ) -> Result<u64, StoreError> {
        let sql = target.delete_matching(table, stage, condition);
        target.statement(&sql)
    }

    fn put_in(
        &self,
        target: &mut dyn RebuildTarget,
        table: &TableRows<'_>,
        stage: &str,
        extra: &[&str],
    ) -> Result<u64, StoreError> {
        let columns = columns(table, extra).join(", ");
        let into = target.table_sql(&table.plan.table);
        target.statement(&format!("INSERT INTO {into} ({columns}) SELECT {columns} FROM {stage}"))
    }
}

/// Counts what was staged of keys that somebody else has changed, as [`Differences::add`] counts it.
fn left_rows(
    target: &mut dyn RebuildTarget,
    main: &TableRows<'_>,
    key: &[String],
    (by, replaced): (i64, Option<i64>),
) -> Result<Rebuilt, StoreError> {
    if !main.plan.lineage.is_kept() {
        // Nothing tells the file's rows from those of others.
        return Ok(Rebuilt::default());
    }
    let has = |stage: &str, columns: &[String]| {
        format!("EXISTS (SELECT 1 FROM {stage} o WHERE {})", pairs(columns, "o", "s"))
    };
    let record = record_columns();
    let (is_moved, is_kept) = (has(TAKEN, &record), has(ADDED, &record));
    let replaced = replaced.map_or("FALSE".to_owned(), |file| format!("s.{FILE_COLUMN} = {file}"));
    let restored = left_in(target, ADDED, key, &format!("s.{FILE_COLUMN} <> {by} AND NOT {is_moved}"))?;
    let own = left_in(target, ADDED, key, &format!("s.{FILE_COLUMN} = {by} AND NOT {is_moved}"))?;
    let is_new = format!("s.{FILE_COLUMN} = {by} AND NOT {}", has(TAKEN, key));
    let inserted = left_in(target, ADDED, key, &is_new)?;
    let of_replaced = left_in(target, TAKEN, key, &format!("{replaced} AND NOT {is_kept}"))?;
    let is_gone = format!("NOT ({replaced}) AND NOT {}", has(ADDED, key));
    let of_others = left_in(target, TAKEN, key, &is_gone)?;
    let updated = own.saturating_sub(inserted);
    Ok(Rebuilt { inserted, updated, deleted: of_replaced + of_others, restored, ..Rebuilt::default() })
}

/// How many rows `s` of a stage have a touched key and meet a condition.
fn left_in(
    target: &mut dyn RebuildTarget,
    stage: &str,
    key: &[String],
    condition: &str,
) -> Result<u64, StoreError> {
    let sql = format!(
        "SELECT count(*) FROM {stage} s WHERE EXISTS (SELECT 1 FROM {TOUCHED} d WHERE {}) AND {condition}",
        pairs(key, "d", "s")
    );
    count(target, &sql)
}

/// The number that a query of the moment gives.
fn count(target: &mut dyn RebuildTarget, sql: &str) -> Result<u64, StoreError> {
    let counted = target.moment_entries(sql)?.first().map_or(Ok(0), |row| row.count(0));
    counted.map_err(|misread| StoreError::Damaged { shown: target.shown(), what: misread.0 })
}
