//! Keys that somebody else has changed: they are found, counted and left as they are.

use hypodoke_core::names::{FILE_COLUMN, LINE_COLUMN};

use super::change::Rebuilt;
use super::restore;
use super::stages::{
    ADDED, KEYS, KNOWN, TAKEN, TOUCHED, children_match, compared, count, count_keys, is_absent, key_list,
    key_of, main_match, of_part, pairs, record_columns, same,
};
use super::table::TableRows;
use super::target::RebuildTarget;
use crate::error::StoreError;
use crate::load_plan::Restore;
use crate::sql::{Misread, SqlRow};

/// The staged change of a table and of its nested lists.
#[derive(Clone, Copy)]
pub struct Staged<'s, 'p> {
    /// The table.
    pub main: &'s TableRows<'p>,
    /// The tables of its nested lists.
    pub parts: &'s [TableRows<'p>],
    /// The columns of ours that say since when and until when a row holds.
    pub extra: &'static [&'static str],
    /// How rows that differ from the files are treated.
    pub restore: Restore,
}

/// The most keys that are named.
const MOST_NAMED: usize = 20;

impl Staged<'_, '_> {
    /// Finds the keys that somebody else has changed; returns how many there are.
    pub fn find_touched(&self, target: &mut dyn RebuildTarget) -> Result<u64, StoreError> {
        let Staged { main, parts, .. } = *self;
        let key = &key_of(main);
        let table = target.table_sql(&main.plan.table);
        let keys = |alias: &str| key_list(key, alias);
        target.make_stage(TOUCHED, &main.plan.table, key, key)?;
        let own = key.join(", ");
        let current = match self.extra {
            [_, to] => format!(" AND t.{to} IS NULL AND s.{to} IS NULL"),
            _ => String::new(),
        };
        // Nobody changed a key that the table has no row for.
        target.statement(&format!(
            "INSERT INTO {TOUCHED} ({own}) SELECT DISTINCT {} FROM {TAKEN} s LEFT JOIN {table} t ON {}
             JOIN {table} o ON {} WHERE {}",
            keys("s"),
            main_match(target.dialect(), main, self.extra),
            pairs(key, "o", "s"),
            is_absent("t", key),
        ))?;
        let (restored, is_not_restored) = match self.restore.is_wanted() {
            true => (
                format!(" LEFT JOIN {KEYS} k ON {}", pairs(key, "k", "s")),
                format!(" AND {}", is_absent("k", key)),
            ),
            false => Default::default(),
        };
        target.statement(&format!(
            "INSERT INTO {TOUCHED} ({own}) SELECT DISTINCT {} FROM {ADDED} s JOIN {table} t ON {}{current}
             LEFT JOIN {TAKEN} d ON {}{restored} WHERE {}{is_not_restored}",
            keys("s"),
            pairs(key, "t", "s"),
            pairs(key, "d", "s"),
            is_absent("d", key),
        ))?;
        for (at, part) in parts.iter().enumerate() {
            let (nested, stage) = (target.table_sql(&part.plan.table), of_part(TAKEN, at));
            let rest: Vec<String> = compared(part, &[]).collect();
            target.statement(&format!(
                "INSERT INTO {TOUCHED} ({own}) SELECT DISTINCT {} FROM {TAKEN} m JOIN {table} o ON {}
                 WHERE EXISTS (SELECT 1 FROM {stage} s
                 WHERE s.{FILE_COLUMN} = m.{FILE_COLUMN} AND s.{LINE_COLUMN} = m.{LINE_COLUMN} AND NOT EXISTS
                 (SELECT 1 FROM {nested} t WHERE {} AND {}))",
                keys("m"),
                pairs(key, "o", "m"),
                children_match(part),
                same(target.dialect(), &rest, "t", "s"),
            ))?;
        }
        if self.restore == Restore::Missing {
            restore::find_changed(target, (main, parts), TOUCHED)?;
        }
        count_keys(target, key, TOUCHED)
    }

    /// The first of the touched keys, each as its columns and their values: `id 2`.
    pub fn names(&self, target: &mut dyn RebuildTarget) -> Result<Vec<String>, StoreError> {
        let key = key_of(self.main);
        let texts: Vec<String> = key.iter().map(|name| target.dialect().as_text(name)).collect();
        let texts = texts.join(", ");
        let sql = format!("SELECT DISTINCT {texts} FROM {TOUCHED} ORDER BY {texts} LIMIT {MOST_NAMED}");
        let names = &self.main.plan.key;
        let named = |row: &SqlRow| -> Result<String, Misread> {
            let values = names.iter().enumerate().map(|(at, name)| Ok(format!("{name} {}", row.text(at)?)));
            Ok(values.collect::<Result<Vec<String>, Misread>>()?.join(", "))
        };
        let all: Result<Vec<String>, Misread> = target.moment_entries(&sql)?.iter().map(named).collect();
        all.map_err(|misread| StoreError::Damaged { shown: target.shown(), what: misread.0 })
    }

    /// Takes touched keys out of the stages.
    pub fn leave_touched(&self, target: &mut dyn RebuildTarget) -> Result<(), StoreError> {
        let (key, parts) = (&key_of(self.main), self.parts);
        let stages: &[&str] = if self.restore.is_wanted() { &[TAKEN, ADDED, KNOWN] } else { &[TAKEN, ADDED] };
        if self.restore.is_wanted() {
            let is_touched = format!("EXISTS (SELECT 1 FROM {TOUCHED} d WHERE {})", pairs(key, "d", KEYS));
            target.statement(&format!("DELETE FROM {KEYS} WHERE {is_touched}"))?;
        }
        for stage in stages {
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

    /// Counts what was staged of keys that somebody else has changed, as it was counted when it was staged.
    pub fn left_rows(
        &self,
        target: &mut dyn RebuildTarget,
        (by, replaced): (i64, Option<i64>),
    ) -> Result<Rebuilt, StoreError> {
        let (main, key) = (self.main, &key_of(self.main));
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
        let (mut is_back, mut is_new) =
            (format!("s.{FILE_COLUMN} <> {by} AND NOT {is_moved}"), has(TAKEN, key));
        if self.restore.is_wanted() {
            // Of keys that are restored all rows are staged, also those that stay.
            is_back.push_str(&format!(" AND NOT {}", has(KNOWN, key)));
            let of_others = format!("{} AND o.{FILE_COLUMN} <> {by}", pairs(key, "o", "s"));
            is_new.push_str(&format!(" OR EXISTS (SELECT 1 FROM {KNOWN} o WHERE {of_others})"));
        }
        let restored = left_in(target, ADDED, key, &is_back)?;
        let own = left_in(target, ADDED, key, &format!("s.{FILE_COLUMN} = {by} AND NOT {is_moved}"))?;
        let is_new = format!("s.{FILE_COLUMN} = {by} AND NOT ({is_new})");
        let inserted = left_in(target, ADDED, key, &is_new)?;
        let of_replaced = left_in(target, TAKEN, key, &format!("{replaced} AND NOT {is_kept}"))?;
        let is_gone = format!("NOT ({replaced}) AND NOT {}", has(ADDED, key));
        let of_others = left_in(target, TAKEN, key, &is_gone)?;
        let updated = own.saturating_sub(inserted);
        Ok(Rebuilt { inserted, updated, deleted: of_replaced + of_others, restored, ..Rebuilt::default() })
    }
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
