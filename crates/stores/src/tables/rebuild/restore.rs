//! Keys whose rows are restored: all rows that the table has of them are taken out, and what the files say is put in.
//!
//! A row that no file ever said is one that somebody else has changed or made. Its key is left as it is, or
//! overwritten where that is asked for. A row that is missing is nobody's, and neither is one as an earlier file
//! left it: both are put right.

use hypodoke_core::names::{FILE_COLUMN, LINE_COLUMN, VALID_FROM_COLUMN};

use super::stages::{
    ADDED, KEYS, KNOWN, columns, compared, count, is_absent, key_of, of_part, pairs, record_columns, same,
};
use super::table::TableRows;
use super::target::RebuildTarget;
use crate::error::StoreError;

/// The records that the table's rows of these keys came from, whoever has put them there.
const RECORDS: &str = "hd_known_records";

/// Keys of them that somebody else has changed, where those are overwritten.
const CHANGED: &str = "hd_changed";

/// What came of keys whose rows are restored.
#[derive(Clone, Copy, Debug, Default)]
pub struct Restored {
    /// Rows of the file that brings the change that were missing.
    pub own: u64,
    /// Rows of other files that were missing.
    pub of_others: u64,
    /// Keys that somebody else had changed.
    pub overwritten: u64,
}

/// Tables that are restored: the main one, and those of what hangs on its rows.
pub type Tables<'t, 'p> = (&'t TableRows<'p>, &'t [TableRows<'p>]);

/// Makes the stages.
pub fn make(target: &mut dyn RebuildTarget, (main, parts): Tables<'_, '_>) -> Result<(), StoreError> {
    let key = key_of(main);
    target.make_stage(KNOWN, &main.plan.table, &columns(main, &[]), &key)?;
    target.make_stage(KEYS, &main.plan.table, &key, &key)?;
    target.make_stage(CHANGED, &main.plan.table, &key, &key)?;
    if !parts.is_empty() {
        target.make_stage(RECORDS, &main.plan.table, &record_columns(), &record_columns())?;
    }
    for (at, part) in parts.iter().enumerate() {
        let stage = of_part(KNOWN, at);
        target.make_stage(&stage, &part.plan.table, &columns(part, &[]), &record_columns())?;
    }
    Ok(())
}

/// Makes the rows of the stages quick to find, and puts the keys down.
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

/// Puts down the keys whose rows are none that files say or said: into `touched`, where they are left; else only
/// to be counted. Gives how many are counted.
pub fn find_changed(
    target: &mut dyn RebuildTarget,
    (main, parts): Tables<'_, '_>,
    touched: Option<&str>,
) -> Result<u64, StoreError> {
    let (key, into) = (key_of(main), touched.unwrap_or(CHANGED));
    let (own, table) = (key.join(", "), target.table_sql(&main.plan.table));
    let of = |alias: &str| key.iter().map(|name| format!("{alias}.{name}")).collect::<Vec<_>>().join(", ");
    let rest: Vec<String> = compared(main, &[]).filter(|name| !key.contains(name)).collect();
    target.statement(&format!(
        "INSERT INTO {into} ({own}) SELECT DISTINCT {} FROM {KEYS} k JOIN {table} t ON {} LEFT JOIN {KNOWN} s ON {} AND {}
         WHERE {}",
        of("k"),
        pairs(&key, "t", "k"),
        pairs(&key, "t", "s"),
        same(target.dialect(), &rest, "t", "s"),
        is_absent("s", &key),
    ))?;
    for (at, part) in parts.iter().enumerate() {
        let (table, stage) = (target.table_sql(&part.plan.table), of_part(KNOWN, at));
        let rest: Vec<String> = compared(part, &[]).collect();
        target.statement(&format!(
            "INSERT INTO {into} ({own}) SELECT DISTINCT {} FROM {KNOWN} m JOIN {table} t ON {} LEFT JOIN {stage} s
             ON {} WHERE s.{FILE_COLUMN} IS NULL",
            of("m"),
            is_of_record("t", "m"),
            same(target.dialect(), &rest, "t", "s"),
        ))?;
    }
    if touched.is_some() {
        return Ok(0);
    }
    count(target, &format!("SELECT count(*) FROM (SELECT DISTINCT {} FROM {CHANGED} d) k", of("d")))
}

/// Counts the rows that are to come and that the table lacks. `by` is the file that brings the change.
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

/// Takes out all that the tables have of the keys; gives how many rows of the main table that is.
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
    let all = [KNOWN, KEYS, CHANGED].into_iter().chain((parts > 0).then_some(RECORDS)).map(str::to_owned);
    for stage in all.chain((0..parts).map(|at| of_part(KNOWN, at))) {
        target.statement(&dialect.drop_stage(&stage))?;
    }
    Ok(())
}

/// That a row hangs on the record that another came from.
fn is_of_record(row: &str, record: &str) -> String {
    format!("{row}.{FILE_COLUMN} = {record}.{FILE_COLUMN} AND {row}.{LINE_COLUMN} = {record}.{LINE_COLUMN}")
}
