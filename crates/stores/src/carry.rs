//! Corrected rows of a file that is loaded again: what was put right stays right as long as the file is
//! the one it was.

use std::collections::HashSet;

use hypodoke_core::names::{FILE_COLUMN, LINE_COLUMN};

use crate::error::StoreError;
use crate::kept::Packer;
use crate::ledger::kept;
use crate::mode::Mode;
use crate::plan::{FileSummary, LoadPlan, TablePlan};
use crate::rebuild::{RebuildTarget, rows_at};
use crate::sql::{SqlConnection, SqlRow, SqlValue};

/// Where a record stands: its line, and what else says it.
type Place = (u64, Option<String>);

/// What became of the corrected rows of the version before.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Carried {
    /// So many came along.
    pub kept: u64,
    /// So many are gone: the file is another.
    pub lost: u64,
}

/// Where the records stand that were rejected, and corrected or not.
fn rejects(
    connection: &mut dyn SqlConnection,
    file: i64,
    is_corrected: bool,
) -> Result<HashSet<Place>, StoreError> {
    let corrected = if is_corrected { "AND mended_at IS NOT NULL" } else { "" };
    let sql = format!("SELECT line, place FROM hd_rejects WHERE file = ?1 {corrected}");
    let place = |row: &SqlRow| Ok((row.count(0)?, row.optional_text(1)?));
    Ok(connection.entries(&sql, &[SqlValue::Integer(file)], place)?.into_iter().collect())
}

/// The table of a plan that a record goes to: that of its sheet, else the main one.
fn table_of(tables: &[TablePlan], place: &Place) -> usize {
    let sheet = place.1.as_deref().and_then(|place| place.rsplit_once(", row "));
    let of_sheet = sheet.and_then(|(sheet, _)| tables.iter().position(|table| table.path == sheet));
    of_sheet.unwrap_or_default()
}

/// The lines of corrected rows of a file in one of its tables: they stay in it until it is known whether
/// the file is the one it was.
pub fn corrected_lines(
    connection: &mut dyn SqlConnection,
    plan: &LoadPlan,
    replaced: i64,
    table: &str,
) -> Result<Vec<u64>, StoreError> {
    if plan.retracts {
        return Ok(Vec::new());
    }
    let of_table = |place: &Place| {
        plan.tables.get(table_of(&plan.tables, place)).is_some_and(|plan| plan.table == table)
    };
    let corrected = rejects(connection, replaced, true)?;
    Ok(corrected.into_iter().filter(of_table).map(|(line, _)| line).collect())
}

/// The condition that a row is none of those at some lines.
pub fn but_at(lines: &[u64]) -> String {
    if lines.is_empty() { String::new() } else { format!(" AND {LINE_COLUMN} NOT IN ({})", list(lines)) }
}

/// The statement that takes all rows out of a table but the corrected ones of a file.
pub fn empty_but(
    connection: &mut dyn SqlConnection,
    plan: &LoadPlan,
    table: &str,
    name: &str,
) -> Result<String, StoreError> {
    let lines = match plan.replaces {
        Some(replaced) => corrected_lines(connection, plan, replaced, table)?,
        None => Vec::new(),
    };
    let replaced = plan.replaces.unwrap_or_default();
    Ok(match lines.is_empty() {
        true => format!("DELETE FROM {name}"),
        false => format!(
            "DELETE FROM {name} WHERE NOT ({FILE_COLUMN} = {replaced} AND {LINE_COLUMN} IN ({}))",
            list(&lines)
        ),
    })
}

fn list(lines: &[u64]) -> String {
    lines.iter().map(u64::to_string).collect::<Vec<_>>().join(", ")
}

/// Brings the corrected rows of the version before along, where the file is the one it was and its
/// records are rejected again. `is_direct` says whether its rows went straight into the tables.
pub fn carry_over(
    target: &mut dyn RebuildTarget,
    plan: &LoadPlan,
    file: i64,
    is_direct: bool,
    packer: Option<&mut Packer>,
    summary: &FileSummary,
) -> Result<Carried, StoreError> {
    let Some(replaced) = plan.replaces.filter(|_| !plan.retracts) else { return Ok(Carried::default()) };
    let corrected = rejects(target, replaced, true)?;
    if corrected.is_empty() {
        return Ok(Carried::default());
    }
    let is_same = kept::hash_of(target, replaced)?.as_deref() == Some(summary.hash.as_str());
    let again = if is_same { rejects(target, file, false)? } else { HashSet::new() };
    let carried: Vec<&Place> = corrected.iter().filter(|place| again.contains(place)).collect();
    let mut packer = packer;
    for (at, table) in plan.tables.iter().enumerate().filter(|(_, table)| !table.is_virtual) {
        let own = carried.iter().filter(|place| table_of(&plan.tables, place) == at);
        let lines: Vec<u64> = own.map(|(line, _)| *line).collect();
        if (is_direct || table.mode == Mode::Append) && table.lineage.is_kept() {
            let name = target.table_sql(&table.table);
            if !lines.is_empty() {
                target.statement(&format!(
                    "UPDATE {name} SET {FILE_COLUMN} = {file} WHERE {FILE_COLUMN} = {replaced} AND {LINE_COLUMN} IN ({})",
                    list(&lines)
                ))?;
            }
            target.statement(&format!("DELETE FROM {name} WHERE {FILE_COLUMN} = {replaced}"))?;
        }
        if let (Some(packer), false) = (packer.as_deref_mut(), lines.is_empty()) {
            packer.add(at, table, &rows_at(target, table, replaced, &lines)?)?;
        }
    }
    for (line, place) in &carried {
        let sql =
            "UPDATE hd_rejects SET mended_at = ?3 WHERE file = ?1 AND line = ?2 AND (place = ?4 OR ?4 = '')";
        let parameters = [
            SqlValue::Integer(file),
            SqlValue::from(*line),
            SqlValue::Moment(summary.ended),
            SqlValue::from(place.clone().unwrap_or_default()),
        ];
        target.execute(sql, &parameters)?;
    }
    let kept = carried.len() as u64;
    Ok(Carried { kept, lost: corrected.len() as u64 - kept })
}

/// Counts the corrected rows that came along among those loaded.
pub fn count(connection: &mut dyn SqlConnection, file: i64, carried: Carried) -> Result<(), StoreError> {
    if carried.kept == 0 {
        return Ok(());
    }
    let sql = "UPDATE hd_files SET rows_loaded = rows_loaded + ?2, rows_rejected = rows_rejected - ?2 WHERE file = ?1";
    connection.execute(sql, &[SqlValue::Integer(file), SqlValue::from(carried.kept)]).map(drop)
}
