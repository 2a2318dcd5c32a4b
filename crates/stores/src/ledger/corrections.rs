//! The corrections of rejects, with the values that a person gave. They outlive the rows in the tables: when the same
//! content is loaded again, its corrections are copied to the new rejects, and applied once the file is loaded.

use std::collections::HashMap;

use crate::error::StoreError;
use crate::load_plan::{CorrectedReject, FileSummary, LoadPlan};
use crate::sql::{SqlConnection, SqlRow, SqlValue};

/// A correction that is not applied yet.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct PendingCorrection {
    /// The number of the file that its reject is of.
    pub file: i64,
    /// The batch that loaded the file.
    pub batch: i64,
    /// The number of the reject.
    pub reject: i64,
    /// The values by the names of their columns, as JSON.
    pub values: String,
}

/// How many corrections of earlier loads of a file were copied.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Carried {
    /// Corrections that were copied, and are pending.
    pub kept: u64,
    /// Corrections that were not: the content of the file changed.
    pub lost: u64,
}

/// Where a record stands: its line, what else says it, and its sheet.
type Place = (u64, Option<String>, Option<String>);

/// Keeps the values that a person gave for a reject.
pub fn keep(
    connection: &mut dyn SqlConnection,
    CorrectedReject { reject, values }: &CorrectedReject,
    at: i64,
) -> Result<(), StoreError> {
    let parameters = [SqlValue::Integer(*reject), SqlValue::from(values), SqlValue::Moment(at)];
    let known = "SELECT 1 FROM hd_corrections WHERE reject = ?1";
    let sql = match connection.query(known, &[SqlValue::Integer(*reject)])?.is_empty() {
        true => "INSERT INTO hd_corrections (reject, row_values, made_at) VALUES (?1, ?2, ?3)",
        false => "UPDATE hd_corrections SET row_values = ?2, made_at = ?3, refused = NULL WHERE reject = ?1",
    };
    connection.execute(sql, &parameters).map(drop)
}

/// The pending corrections of files whose rows count.
pub fn pending(connection: &mut dyn SqlConnection) -> Result<Vec<PendingCorrection>, StoreError> {
    let sql = "SELECT f.file, f.batch, c.reject, c.row_values FROM hd_corrections c
         JOIN hd_rejects r ON r.reject = c.reject JOIN hd_files f ON f.file = r.file
         WHERE c.refused IS NULL AND r.mended_at IS NULL AND f.replaced_by IS NULL
           AND f.outcome IN ('loaded', 'superseded') ORDER BY f.file, c.reject";
    let entry = |row: &SqlRow| {
        Ok(PendingCorrection {
            file: row.integer(0)?,
            batch: row.integer(1)?,
            reject: row.integer(2)?,
            values: row.text(3)?,
        })
    };
    connection.entries(sql, &[], entry)
}

/// Records why a correction does not fit: its reject is open. Returns whether the correction was still pending.
pub fn refuse(connection: &mut dyn SqlConnection, reject: i64, why: &str) -> Result<bool, StoreError> {
    let sql = "UPDATE hd_corrections SET refused = ?2 WHERE reject = ?1 AND refused IS NULL
         AND EXISTS (SELECT 1 FROM hd_rejects r WHERE r.reject = hd_corrections.reject AND r.mended_at IS NULL)";
    Ok(connection.execute(sql, &[SqlValue::Integer(reject), SqlValue::from(why)])? > 0)
}

/// Copies the corrections of earlier loads of the same content to the rejects of a file that is loaded again.
pub fn carry(
    connection: &mut dyn SqlConnection,
    plan: &LoadPlan,
    file: i64,
    summary: &FileSummary,
) -> Result<Carried, StoreError> {
    let is_known = plan.replaces.is_some() || plan.known_until.is_some_and(|newest| newest > 0);
    if !is_known || plan.retracts || plan.resubmits.is_some() {
        return Ok(Carried::default());
    }
    let corrected = match plan.replaces {
        Some(replaced) => corrected_of(connection, replaced)?,
        None => 0,
    };
    let known = if summary.rejected > 0 {
        of_content(connection, plan, &summary.hash, file)?
    } else {
        HashMap::new()
    };
    let mut kept = 0;
    if !known.is_empty() {
        let rejects = "SELECT reject, line, place, sheet FROM hd_rejects WHERE file = ?1";
        let place = |row: &SqlRow| Ok((row.integer(0)?, place_of(row, 1)?));
        for (reject, place) in connection.entries(rejects, &[SqlValue::Integer(file)], place)? {
            if let Some(values) = known.get(&place) {
                keep(connection, &CorrectedReject { reject, values: values.clone() }, summary.ended)?;
                kept += 1;
            }
        }
    }
    Ok(Carried { kept, lost: corrected.saturating_sub(kept) })
}

fn place_of(row: &SqlRow, at: usize) -> Result<Place, crate::sql::Misread> {
    Ok((row.count(at)?, row.optional_text(at + 1)?, row.optional_text(at + 2)?))
}

/// How many rejects of a file are corrected.
fn corrected_of(connection: &mut dyn SqlConnection, file: i64) -> Result<u64, StoreError> {
    let sql = "SELECT count(*) FROM hd_rejects WHERE file = ?1 AND mended_at IS NOT NULL";
    let counted = connection.entries(sql, &[SqlValue::Integer(file)], |row| row.count(0))?;
    Ok(counted.first().copied().unwrap_or_default())
}

/// The corrections of earlier loads of this content into this table, by where their records stand: of several of one
/// record the last.
fn of_content(
    connection: &mut dyn SqlConnection,
    plan: &LoadPlan,
    hash: &str,
    file: i64,
) -> Result<HashMap<Place, String>, StoreError> {
    let sql = "SELECT r.line, r.place, r.sheet, c.row_values FROM hd_corrections c
         JOIN hd_rejects r ON r.reject = c.reject JOIN hd_files f ON f.file = r.file
         WHERE f.place = ?1 AND f.path = ?2 AND f.table_name = ?3 AND f.content_hash = ?4 AND f.file < ?5
           AND c.refused IS NULL ORDER BY f.file, c.reject";
    let parameters = [
        SqlValue::from(&plan.arrival.place),
        SqlValue::from(&plan.arrival.path),
        SqlValue::from(plan.table()),
        SqlValue::from(hash),
        SqlValue::Integer(file),
    ];
    let entry = |row: &SqlRow| Ok((place_of(row, 0)?, row.text(3)?));
    Ok(connection.entries(sql, &parameters, entry)?.into_iter().collect())
}
