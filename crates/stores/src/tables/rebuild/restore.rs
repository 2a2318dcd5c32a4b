//! Restores the rows of keys: deletes all rows that the table has for them, and inserts those that the files hold.
//!
//! A row that no file holds was changed or added by somebody else. Its key is left as it is, unless the caller asks to
//! overwrite such rows. A row that is missing, or is as an earlier file left it, is restored without asking.

use hypodoke_core::names::{FILE_COLUMN, LINE_COLUMN, VALID_FROM_COLUMN};

use super::stages::{
    ADDED, KEYS, KNOWN, columns, compared, count, count_keys, is_absent, key_list, key_of, main_match,
    of_part, pairs, record_columns, same,
};
use super::table::TableRows;
use super::target::RebuildTarget;
use crate::error::StoreError;

/// The stage of the records that the table's rows for these keys came from.
const RECORDS: &str = "hd_known_records";

/// The stage of the keys to overwrite.
const CHANGED: &str = "hd_changed";

/// How many rows and keys were restored.
#[derive(Clone, Copy, Debug, Default)]
pub struct Restored {
    /// Missing rows of the file that brings the change.
    pub own: u64,
    /// Missing rows of other files.
    pub of_others: u64,
    /// Keys that somebody else had changed, and that were overwritten.
    pub overwritten: u64,
}

/// The table to restore, and the tables of its nested lists.
pub type Tables<'t, 'p> = (&'t TableRows<'p>, &'t [TableRows<'p>]);

/// Makes the stages.
pub fn make(target: &mut dyn RebuildTarget, (main, parts): Tables<'_, '_>) -> Result<(), StoreError> {
    let key = key_of(main);
    target.make_stage(KNOWN, &main.plan.table, &columns(main, &[]), &key)?;
    target.make_stage(KEYS, &main.plan.table, &key, &key)?;
    if !parts.is_empty() {
        target.make_stage(RECORDS, &main.plan.table, &record_columns(), &record_columns())?;
    }
    for (at, part) in parts.iter().enumerate() {
        let stage = of_part(KNOWN, at);
        target.make_stage(&stage, &part.plan.table, &columns(part, &[]), &record_columns())?;
    }
    Ok(())
}

/// Indexes the stages, and fills the stage of the keys.
pub fn index(target: &mut dyn RebuildTarget, (main, parts): Tables<'_, '_>) -> Result<(), StoreError> {
    let key = key_of(main);
    target.index_stage(KNOWN, &key)?;
    for at in 0..parts.len() {
        target.index_stage(&of_part(KNOWN, at), &record_columns())?;
    }
    let own = key.join(", ");
    target.statement(&format!("INSERT INTO {KEYS} ({own}) SELECT DISTINCT {own} FROM {KNOWN}"))?;
    target.index_stage(KEYS, &key)
}

/// Adds to the stage `into` the keys for which the table has a row that no file holds: somebody else changed or added
/// it.
pub fn find_changed(
    target: &mut dyn RebuildTarget,
    (main, parts): Tables<'_, '_>,
    into: &str,
) -> Result<(), StoreError> {
    let key = key_of(main);
    let (own, table) = (key.join(", "), target.table_sql(&main.plan.table));
    target.statement(&format!(
        "INSERT INTO {into} ({own}) SELECT DISTINCT {} FROM {KEYS} k JOIN {table} t ON {} LEFT JOIN {KNOWN} s ON {}
         WHERE {}",
        key_list(&key, "k"),
        pairs(&key, "t", "k"),
        main_match(target.dialect(), main, &[]),
        is_absent("s", &key),
    ))?;
    for (at, part) in parts.iter().enumerate() {
        let (table, stage) = (target.table_sql(&part.plan.table), of_part(KNOWN, at));
        let rest: Vec<String> = compared(part, &[]).collect();
        target.statement(&format!(
            "INSERT INTO {into} ({own}) SELECT DISTINCT {} FROM {KNOWN} m JOIN {table} t ON {} LEFT JOIN {stage} s
             ON {} WHERE s.{FILE_COLUMN} IS NULL",
            key_list(&key, "m"),
            is_of_record("t", "m"),
            same(target.dialect(), &rest, "t", "s"),
        ))?;
    }
    Ok(())
}

/// Counts the keys that [`find_changed`] finds.
pub fn count_changed(target: &mut dyn RebuildTarget, tables: Tables<'_, '_>) -> Result<u64, StoreError> {
    let (key, table) = (key_of(tables.0), &tables.0.plan.table);
    target.make_stage(CHANGED, table, &key, &key)?;
    find_changed(target, tables, CHANGED)?;
    let changed = count_keys(target, &key, CHANGED)?;
    let dropping = target.dialect().drop_stage(CHANGED);
    target.statement(&dropping)?;
    Ok(changed)
}

/// Counts the rows to insert that the table lacks. `by` is the file that brings the change.
pub fn count_missing(
    target: &mut dyn RebuildTarget,
    main: &TableRows<'_>,
    extra: &[&str],
    by: i64,
) -> Result<Restored, StoreError> {
    let (key, table) = (key_of(main), target.table_sql(&main.plan.table));
    let version = match extra.contains(&VALID_FROM_COLUMN) {
        true => format!(" AND t.{VALID_FROM_COLUMN} = s.{VALID_FROM_COLUMN}"),
        false => String::new(),
    };
    let missing = format!(
        "SELECT count(*) FROM {ADDED} s JOIN {KEYS} k ON {} LEFT JOIN {table} t ON {}{version} WHERE {}",
        pairs(&key, "k", "s"),
        pairs(&key, "t", "s"),
        is_absent("t", &key),
    );
    let all = count(target, &missing)?;
    let of_others = match main.plan.lineage.is_kept() {
        true => count(target, &format!("{missing} AND s.{FILE_COLUMN} <> {by}"))?,
        false => 0,
    };
    Ok(Restored { own: all.saturating_sub(of_others), of_others, overwritten: 0 })
}

/// Deletes all rows for the keys, with their nested lists; returns how many rows of the main table that is.
pub fn take_out(target: &mut dyn RebuildTarget, (main, parts): Tables<'_, '_>) -> Result<u64, StoreError> {
    let key = key_of(main);
    if !parts.is_empty() {
        let (own, table) = (record_columns().join(", "), target.table_sql(&main.plan.table));
        target.statement(&format!(
            "INSERT INTO {RECORDS} ({own}) SELECT t.{FILE_COLUMN}, t.{LINE_COLUMN} FROM {KEYS} k JOIN {table} t ON {}",
            pairs(&key, "t", "k")
        ))?;
        target.index_stage(RECORDS, &record_columns())?;
    }
    for part in parts {
        for stage in [KNOWN, RECORDS] {
            let sql = target.delete_matching(part, stage, &is_of_record("t", "s"));
            target.statement(&sql)?;
        }
    }
    let sql = target.delete_matching(main, KEYS, &pairs(&key, "t", "s"));
    target.statement(&sql)
}

/// Drops the stages.
pub fn drop_all(target: &mut dyn RebuildTarget, parts: usize) -> Result<(), StoreError> {
    let dialect = target.dialect();
    let all = [KNOWN, KEYS].into_iter().chain((parts > 0).then_some(RECORDS)).map(str::to_owned);
    for stage in all.chain((0..parts).map(|at| of_part(KNOWN, at))) {
        target.statement(&dialect.drop_stage(&stage))?;
    }
    Ok(())
}

/// The condition that a row of a nested list belongs to a record.
fn is_of_record(row: &str, record: &str) -> String {
    format!("{row}.{FILE_COLUMN} = {record}.{FILE_COLUMN} AND {row}.{LINE_COLUMN} = {record}.{LINE_COLUMN}")
}
