//! Corrected rows of a file that is loaded again: what was put right stays right as long as the file is
//! the one it was.

use std::collections::{BTreeSet, HashSet};

use hypodoke_core::names::{FILE_COLUMN, LINE_COLUMN};

use crate::error::StoreError;
use crate::ledger::files_in_force;
use crate::load_plan::Mode;
use crate::load_plan::{LoadPlan, TablePlan};
use crate::sql::{SqlConnection, SqlRow, SqlValue, quote};
use crate::tables::rebuild::{RebuildTarget, rows_at};
use crate::tables::row_archive::Packer;

/// Where a record stands.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
struct Place {
    line: u64,
    /// What else says it.
    place: Option<String>,
    sheet: Option<String>,
}

/// What became of the corrected rows of the version before.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Carried {
    /// So many came along.
    pub kept: u64,
    /// So many are gone: the file is another.
    pub lost: u64,
    /// So many rows they are in the tables that are filled directly.
    pub rows: u64,
}

/// Where the records stand that were rejected, and corrected or not.
fn rejects(
    connection: &mut dyn SqlConnection,
    file: i64,
    is_corrected: bool,
) -> Result<HashSet<Place>, StoreError> {
    let corrected = if is_corrected { "AND mended_at IS NOT NULL" } else { "" };
    let sql = format!("SELECT line, place, sheet FROM hd_rejects WHERE file = ?1 {corrected}");
    let place = |row: &SqlRow| {
        Ok(Place { line: row.count(0)?, place: row.optional_text(1)?, sheet: row.optional_text(2)? })
    };
    Ok(connection.entries(&sql, &[SqlValue::Integer(file)], place)?.into_iter().collect())
}

/// The lines of those records whose rows go to a table of the plan: to that of their sheet, else to the
/// main one. Records with lists in tables of their own are not corrected one by one.
fn lines_in<'p>(plan: &LoadPlan, at: usize, places: impl IntoIterator<Item = &'p Place>) -> Vec<u64> {
    let table_of = |place: &Place| {
        let sheet = place.sheet.as_deref();
        let of_sheet = sheet.and_then(|sheet| plan.tables.iter().position(|table| table.path == sheet));
        of_sheet.unwrap_or_default()
    };
    let goes_there = |place: &&Place| table_of(place) == at;
    let lines: BTreeSet<u64> = places.into_iter().filter(goes_there).map(|place| place.line).collect();
    lines.into_iter().collect()
}

fn at_lines(file: i64, lines: &[u64]) -> String {
    let lines: Vec<String> = lines.iter().map(u64::to_string).collect();
    format!("{FILE_COLUMN} = {file} AND {LINE_COLUMN} IN ({})", lines.join(", "))
}

/// The columns of a table as they stand in statements.
fn columns_of(table: &TablePlan) -> Vec<String> {
    let own = table.layout.columns.iter().map(|column| quote(&column.name));
    own.chain(table.lineage.columns().iter().map(|name| quote(name))).collect()
}

/// The table that holds corrected rows of a table while their file is loaded again.
fn aside(at: usize) -> String {
    format!("hd_corrected_{at}")
}

/// Whether rows of a table are put where they belong as they come.
fn is_filled_directly(table: &TablePlan, is_direct: bool) -> bool {
    (is_direct || table.mode == Mode::Append) && table.lineage.is_kept() && !table.is_virtual
}

/// Copies the corrected rows of the version before, which is about to go: whether they come along is known
/// when the whole file is read. Only the tables that are filled directly need it, the others have them kept.
pub fn set_aside(
    target: &mut dyn RebuildTarget,
    plan: &LoadPlan,
    replaced: i64,
    is_direct: bool,
) -> Result<(), StoreError> {
    let corrected = rejects(target.ledger(), replaced, true)?;
    for (at, table) in plan.tables.iter().enumerate() {
        let lines = lines_in(plan, at, &corrected);
        if lines.is_empty() || plan.retracts || !is_filled_directly(table, is_direct) {
            continue;
        }
        let (aside, columns) = (aside(at), columns_of(table));
        target.make_stage(&aside, &table.table, &columns, &[])?;
        let (name, list) = (target.table_sql(&table.table), columns.join(", "));
        let condition = at_lines(replaced, &lines);
        target.statement(&format!(
            "INSERT INTO {aside} ({list}) SELECT {list} FROM {name} WHERE {condition}"
        ))?;
    }
    Ok(())
}

/// The version of a file that takes the place of another.
#[derive(Clone, Copy, Debug)]
pub struct NewVersion<'a> {
    /// Its number.
    pub file: i64,
    /// The hash of its content.
    pub hash: &'a str,
    /// When its load ended: microseconds since 1970.
    pub ended: i64,
    /// Its rows went straight into the tables.
    pub is_direct: bool,
}

/// Brings the corrected rows of the version before along, where the file is the one it was and its
/// records are rejected again.
pub fn carry_over(
    target: &mut dyn RebuildTarget,
    plan: &LoadPlan,
    version: NewVersion<'_>,
    mut packer: Option<&mut Packer>,
) -> Result<Carried, StoreError> {
    let NewVersion { file, hash, ended, is_direct } = version;
    let Some(replaced) = plan.replaces.filter(|_| !plan.retracts) else { return Ok(Carried::default()) };
    let corrected = rejects(target.ledger(), replaced, true)?;
    if corrected.is_empty() {
        return Ok(Carried::default());
    }
    let is_same = files_in_force::hash_of(target.ledger(), replaced)?.as_deref() == Some(hash);
    let again = if is_same { rejects(target.ledger(), file, false)? } else { HashSet::new() };
    let carried: Vec<&Place> = corrected.iter().filter(|place| again.contains(place)).collect();
    let mut all =
        Carried { kept: carried.len() as u64, lost: (corrected.len() - carried.len()) as u64, rows: 0 };
    for (at, table) in plan.tables.iter().enumerate().filter(|(_, table)| !table.is_virtual) {
        let lines = lines_in(plan, at, carried.iter().copied());
        if is_filled_directly(table, is_direct) && !lines_in(plan, at, &corrected).is_empty() {
            all.rows += bring_back(target, at, table, (replaced, file), &lines)?;
        }
        if let (Some(packer), false) = (packer.as_deref_mut(), lines.is_empty()) {
            packer.add(at, table, &rows_at(target, table, replaced, &lines)?)?;
        }
    }
    carried.iter().try_for_each(|place| set_corrected(target.ledger(), file, place, ended))?;
    Ok(all)
}

/// Puts rows that were set aside back into their table, as those of the new version; gives how many.
fn bring_back(
    target: &mut dyn RebuildTarget,
    at: usize,
    table: &TablePlan,
    (replaced, file): (i64, i64),
    lines: &[u64],
) -> Result<u64, StoreError> {
    let (aside, name) = (aside(at), target.table_sql(&table.table));
    let mut rows = 0;
    if !lines.is_empty() {
        let (condition, columns) = (at_lines(replaced, lines), columns_of(table));
        let own = quote(FILE_COLUMN);
        let value = |column: &String| if *column == own { file.to_string() } else { column.clone() };
        let values: Vec<String> = columns.iter().map(value).collect();
        rows = target.statement(&format!(
            "INSERT INTO {name} ({}) SELECT {} FROM {aside} WHERE {condition}",
            columns.join(", "),
            values.join(", ")
        ))?;
    }
    let dropping = target.dialect().drop_stage(&aside);
    target.statement(&dropping)?;
    Ok(rows)
}

/// Marks a reject as corrected.
fn set_corrected(
    ledger: &mut dyn SqlConnection,
    file: i64,
    Place { line, place, .. }: &Place,
    moment: i64,
) -> Result<(), StoreError> {
    let sql =
        "UPDATE hd_rejects SET mended_at = ?3 WHERE file = ?1 AND line = ?2 AND (place = ?4 OR ?4 = '')";
    let parameters = [
        SqlValue::Integer(file),
        SqlValue::from(*line),
        SqlValue::Moment(moment),
        SqlValue::from(place.clone().unwrap_or_default()),
    ];
    ledger.execute(sql, &parameters).map(drop)
}

/// Counts the corrected rows that came along among those loaded.
pub fn count(connection: &mut dyn SqlConnection, file: i64, carried: Carried) -> Result<(), StoreError> {
    if carried.kept == 0 {
        return Ok(());
    }
    let sql = "UPDATE hd_files SET rows_loaded = rows_loaded + ?2, rows_rejected = rows_rejected - ?2 WHERE file = ?1";
    connection.execute(sql, &[SqlValue::Integer(file), SqlValue::from(carried.kept)]).map(drop)
}
