//! What the ledger is asked.

use std::collections::BTreeMap;

use hypodoke_core::arrival::Arrival;
use hypodoke_core::layout::Layout;
use hypodoke_core::outcome::{Outcome, Reason};

use hypodoke_core::cast::Misfitting;
use hypodoke_core::drift::Cause;

use super::{
    BatchEntry, DecisionEntry, DriftEntry, FileEntry, FileQuery, LayoutEntry, PartEntry, RejectEntry,
    RowsLoaded,
};
use crate::error::StoreError;
use crate::load_plan::Counts;
use crate::load_plan::LoadRules;
use crate::load_plan::file_order::FileOrder;
use crate::sql::{Misread, SqlConnection, SqlRow, SqlValue};

const FILE_COLUMNS: &str =
    "file, batch, place, path, bytes, modified_at, content_hash, feed, table_name, kind, outcome,
  rows_read, rows_loaded, rows_rejected, rows_left_out, began_at, ended_at, message, replaced_by,
  rows_inserted, rows_updated, rows_unchanged, rows_deleted, shape, version_token, ordered_by, ordered_at,
  first_file, effective_at, delivery, rules, rows_kept, figures, reasons";

/// Entries that say what is in the tables, or that a file is not to be loaded as it is.
const CURRENT: &str =
    "outcome IN ('loaded', 'superseded', 'same', 'held', 'discarded', 'retracted') AND replaced_by IS NULL";

/// How many arrivals are asked for in one statement.
const TOGETHER: usize = 20;

fn file_of(row: &SqlRow) -> Result<FileEntry, Misread> {
    let outcome = row.text(10)?;
    let file = row.integer(0)?;
    let known = Outcome::from_word(&outcome);
    Ok(FileEntry {
        file,
        batch: row.integer(1)?,
        arrival: Arrival {
            place: row.text(2)?,
            path: row.text(3)?,
            bytes: row.count(4)?,
            modified: row.moment(5)?,
            token: row.optional_text(24)?,
        },
        hash: row.optional_text(6)?,
        feed: row.optional_text(7)?,
        table: row.optional_text(8)?,
        kind: row.optional_text(9)?,
        outcome: known
            .ok_or_else(|| Misread(format!("the outcome `{outcome}` of file {file} is not known")))?,
        read: row.count(11)?,
        loaded: row.count(12)?,
        rejected: row.count(13)?,
        left_out: row.count(14)?,
        began: row.moment(15)?,
        ended: row.optional_moment(16)?.unwrap_or(0),
        message: row.optional_text(17)?,
        replaced_by: row.optional_integer(18)?,
        counts: Counts {
            inserted: row.count(19)?,
            updated: row.count(20)?,
            unchanged: row.count(21)?,
            deleted: row.count(22)?,
            // The file's message tells of the others.
            ..Counts::default()
        },
        shape: row.optional_text(23)?,
        order: order_of(row, 25)?,
        rules: rules_of(row, 30)?,
        rows_kept: row.integer(31)? != 0,
        figures: row.optional_text(32)?,
        reasons: reasons_of(row, 33)?,
    })
}

/// Where a file stands, of the columns that say so from one on.
pub fn order_of(row: &SqlRow, at: usize) -> Result<FileOrder, Misread> {
    Ok(FileOrder {
        key: row.text(at)?,
        modified: row.optional_moment(at + 1)?.unwrap_or_default(),
        first: row.optional_integer(at + 2)?.unwrap_or_default(),
        effective: row.optional_moment(at + 3)?,
        delivery: row.optional_text(at + 4)?,
    })
}

fn reasons_of(row: &SqlRow, at: usize) -> Result<Vec<Reason>, Misread> {
    let text = row.optional_text(at)?;
    let reasons = text.map(|text| serde_json::from_str(&text)).transpose();
    Ok(reasons.map_err(|error| Misread(format!("the reasons of a file: {error}")))?.unwrap_or_default())
}

fn rules_of(row: &SqlRow, at: usize) -> Result<Option<LoadRules>, Misread> {
    let text = row.optional_text(at)?;
    let rules = text.map(|text| serde_json::from_str(&text));
    rules.transpose().map_err(|error| Misread(format!("the rules of a file: {error}")))
}

/// The files whose rows are in a table now.
pub fn loaded_files(connection: &mut dyn SqlConnection) -> Result<Vec<FileEntry>, StoreError> {
    let sql = format!("SELECT {FILE_COLUMNS} FROM hd_files WHERE {CURRENT} ORDER BY file");
    connection.entries(&sql, &[], file_of)
}

/// The same, as far as it takes to tell what is known of a file.
pub fn known_files(connection: &mut dyn SqlConnection) -> Result<Vec<FileEntry>, StoreError> {
    // Most files have no named parts, and nothing else of their rules is asked for.
    let rules = "CASE WHEN rules IS NOT NULL AND has_parts = 0 THEN '{}' ELSE rules END";
    let columns = FILE_COLUMNS
        .replace("message,", "CASE WHEN outcome = 'held' THEN message END,")
        .replace("shape,", "CAST(NULL AS {text}),")
        .replace("kind,", "CAST(NULL AS {text}),")
        .replace("figures,", "CAST(NULL AS {text}),")
        .replace("rules,", &format!("{rules},"));
    connection.entries(&format!("SELECT {columns} FROM hd_files WHERE {CURRENT} ORDER BY file"), &[], file_of)
}

/// Those of them that may be these files: of the same place and path, or of the same size.
pub fn files_like(
    connection: &mut dyn SqlConnection,
    arrivals: &[&Arrival],
) -> Result<Vec<FileEntry>, StoreError> {
    let one =
        |at: usize| format!("place = ?{} AND path = ?{} OR bytes = ?{}", 3 * at + 1, 3 * at + 2, 3 * at + 3);
    let all: Vec<String> = (0..TOGETHER).map(one).collect();
    let sql = format!("SELECT {FILE_COLUMNS} FROM hd_files WHERE ({}) AND {CURRENT}", all.join(" OR "));
    let mut found = BTreeMap::new();
    for some in arrivals.chunks(TOGETHER) {
        // A statement has always as many parameters, so that it is prepared once.
        let filled = some.iter().chain(std::iter::repeat_n(&some[0], TOGETHER - some.len()));
        let parameters: Vec<SqlValue> = filled
            .flat_map(|a| [SqlValue::from(&a.place), SqlValue::from(&a.path), SqlValue::from(a.bytes)])
            .collect();
        for entry in connection.entries(&sql, &parameters, file_of)? {
            found.insert(entry.file, entry);
        }
    }
    Ok(found.into_values().collect())
}

/// The entries that a query asks for, the newest first.
pub fn files(connection: &mut dyn SqlConnection, query: &FileQuery) -> Result<Vec<FileEntry>, StoreError> {
    let FileQuery { batch, file, path, table, outcome, feed, since, most } = query;
    let mut parameters: Vec<SqlValue> = Vec::new();
    let mut conditions: Vec<String> = Vec::new();
    let mut condition = |test: &str, value: SqlValue| {
        if value != SqlValue::Null {
            parameters.push(value);
            conditions.push(format!("{test} ?{}", parameters.len()));
        }
    };
    condition("batch =", (*batch).into());
    condition("file =", (*file).into());
    if let Some((place, path)) = path {
        condition("place =", place.into());
        condition("path =", path.into());
    }
    condition("table_name =", table.into());
    condition(
        "outcome =",
        outcome.filter(|o| *o != Outcome::Loaded).map_or(SqlValue::Null, |o| o.word().into()),
    );
    condition("feed =", feed.into());
    condition("ended_at >=", since.map_or(SqlValue::Null, SqlValue::Moment));
    if *outcome == Some(Outcome::Loaded) {
        conditions.push("outcome IN ('loaded', 'superseded')".to_owned());
    }
    let only =
        if conditions.is_empty() { String::new() } else { format!("WHERE {}", conditions.join(" AND ")) };
    let limit = most.map(|most| format!("LIMIT {most}")).unwrap_or_default();
    let sql = format!("SELECT {FILE_COLUMNS} FROM hd_files {only} ORDER BY file DESC {limit}");
    connection.entries(&sql, &parameters, file_of)
}

/// The batches, the newest first.
pub fn batches(connection: &mut dyn SqlConnection, most: usize) -> Result<Vec<BatchEntry>, StoreError> {
    let sql = "SELECT b.batch, b.began_at, b.ended_at,
           CAST(coalesce(sum(CASE WHEN f.outcome IN ('loaded', 'superseded') THEN 1 ELSE 0 END), 0) AS {whole}),
           CAST(coalesce(sum(CASE WHEN f.outcome = 'failed' THEN 1 ELSE 0 END), 0) AS {whole}),
           CAST(coalesce(sum(f.rows_loaded), 0) AS {whole}), CAST(coalesce(sum(f.rows_rejected), 0) AS {whole})
         FROM hd_batches b LEFT JOIN hd_files f USING (batch) GROUP BY b.batch ORDER BY b.batch DESC LIMIT ?1";
    let entry = |row: &SqlRow| {
        Ok(BatchEntry {
            batch: row.integer(0)?,
            began: row.moment(1)?,
            ended: row.optional_moment(2)?,
            loaded: row.count(3)?,
            failed: row.count(4)?,
            rows: row.count(5)?,
            rejected: row.count(6)?,
        })
    };
    connection.entries(sql, &[SqlValue::from(most as u64)], entry)
}

/// The tables besides its main one that a file filled.
pub fn parts(connection: &mut dyn SqlConnection, file: i64) -> Result<Vec<PartEntry>, StoreError> {
    let sql = "SELECT file, table_name, path, rows_read, rows_loaded FROM hd_parts WHERE file = ?1";
    let entry = |row: &SqlRow| {
        Ok(PartEntry {
            file: row.integer(0)?,
            table: row.text(1)?,
            path: row.text(2)?,
            read: row.count(3)?,
            loaded: row.count(4)?,
        })
    };
    connection.entries(sql, &[SqlValue::Integer(file)], entry)
}

/// The rejects of a file, in the order of its lines.
pub fn rejects(
    connection: &mut dyn SqlConnection,
    file: i64,
    most: usize,
) -> Result<Vec<RejectEntry>, StoreError> {
    let sql =
        "SELECT reject, file, line, column_name, value, reason, raw, place, mended_at, more, sheet FROM hd_rejects
         WHERE file = ?1 ORDER BY line, reject LIMIT ?2";
    let entry = |row: &SqlRow| {
        Ok(RejectEntry {
            reject: row.integer(0)?,
            file: row.integer(1)?,
            line: row.count(2)?,
            column: row.optional_text(3)?,
            value: row.optional_text(4)?,
            reason: row.text(5)?,
            raw: row.bytes(6)?,
            place: row.optional_text(7)?,
            corrected: row.optional_moment(8)?,
            more: more_of(row, 9)?,
            sheet: row.optional_text(10)?,
        })
    };
    connection.entries(sql, &[SqlValue::Integer(file), SqlValue::from(most as u64)], entry)
}

/// What else of a rejected row would not do.
fn more_of(row: &SqlRow, at: usize) -> Result<Vec<Misfitting>, Misread> {
    let text = row.optional_text(at)?;
    let more = text.map(|text| serde_json::from_str(&text)).transpose();
    Ok(more.map_err(|error| Misread(format!("the reasons of a reject: {error}")))?.unwrap_or_default())
}

/// The figures of the newest files of a table.
pub fn figures(
    connection: &mut dyn SqlConnection,
    table: &str,
    most: usize,
) -> Result<Vec<String>, StoreError> {
    let sql = "SELECT figures FROM hd_files WHERE table_name = ?1 AND outcome = 'loaded'
         AND replaced_by IS NULL AND figures IS NOT NULL ORDER BY file DESC LIMIT ?2";
    connection.entries(sql, &[SqlValue::from(table), SqlValue::from(most as u64)], |row| row.text(0))
}

fn layout_of(row: &SqlRow) -> Result<LayoutEntry, Misread> {
    let (version, text, file, table) = (row.integer(0)?, row.text(1)?, row.integer(2)?, row.text(3)?);
    Ok(LayoutEntry { version, layout: read_layout(&text, version, &table)?, file })
}

/// The layout that the ledger keeps as this text.
pub fn read_layout(text: &str, version: i64, table: &str) -> Result<Layout, Misread> {
    serde_json::from_str(text).map_err(|error| Misread(format!("layout {version} of `{table}`: {error}")))
}

/// The newest layout of a table.
pub fn layout(connection: &mut dyn SqlConnection, table: &str) -> Result<Option<LayoutEntry>, StoreError> {
    let sql = "SELECT version, layout, file, table_name FROM hd_layouts WHERE table_name = ?1
         ORDER BY version DESC LIMIT 1";
    Ok(connection.entries(sql, &[SqlValue::from(table)], layout_of)?.into_iter().next())
}

/// What the files that are loaded into a table gave it.
pub fn rows_loaded(connection: &mut dyn SqlConnection, table: &str) -> Result<RowsLoaded, StoreError> {
    // Rows of a load that is not committed yet are not in the table.
    let sql = "SELECT CAST(count(*) AS {whole}), CAST(coalesce(sum(rows_loaded), 0) AS {whole}),
         CAST(coalesce(sum(rows_inserted), 0) AS {whole}) FROM hd_files f
         WHERE table_name = ?1 AND outcome = 'loaded' AND replaced_by IS NULL
         AND NOT EXISTS (SELECT 1 FROM hd_intents i WHERE i.file = f.file)";
    let read =
        |row: &SqlRow| Ok(RowsLoaded { files: row.count(0)?, rows: row.count(1)?, inserted: row.count(2)? });
    Ok(connection.entries(sql, &[SqlValue::from(table)], read)?.into_iter().next().unwrap_or_default())
}

/// The newest layout of each table.
pub fn newest_layouts(connection: &mut dyn SqlConnection) -> Result<Vec<(String, Layout)>, StoreError> {
    let sql = "SELECT version, layout, file, table_name FROM hd_layouts l WHERE version =
         (SELECT max(version) FROM hd_layouts m WHERE m.table_name = l.table_name) ORDER BY table_name";
    connection.entries(sql, &[], |row| Ok((row.text(3)?, layout_of(row)?.layout)))
}

/// The versions of a table's layout, the oldest first.
pub fn layouts(connection: &mut dyn SqlConnection, table: &str) -> Result<Vec<LayoutEntry>, StoreError> {
    let sql =
        "SELECT version, layout, file, table_name FROM hd_layouts WHERE table_name = ?1 ORDER BY version";
    connection.entries(sql, &[SqlValue::from(table)], layout_of)
}

/// All drift, in the order it came.
pub fn drift(connection: &mut dyn SqlConnection) -> Result<Vec<DriftEntry>, StoreError> {
    let sql = "SELECT file, table_name, column_name, \"change\", from_type, to_type, action, line, value
         FROM hd_drift
         ORDER BY drift";
    let entry = |row: &SqlRow| {
        Ok(DriftEntry {
            file: row.integer(0)?,
            table: row.text(1)?,
            column: row.text(2)?,
            change: row.text(3)?,
            from: row.optional_text(4)?,
            to: row.optional_text(5)?,
            action: row.text(6)?,
            cause: cause_of(row, 7)?,
        })
    };
    connection.entries(sql, &[], entry)
}

fn cause_of(row: &SqlRow, at: usize) -> Result<Option<Cause>, Misread> {
    let (line, value) = (row.optional_integer(at)?, row.optional_text(at + 1)?);
    Ok(line.zip(value).map(|(line, value)| Cause { line: line.unsigned_abs(), value }))
}

/// The tables a column of which was spelled anew, each with the newest file for which that was.
pub fn rereads(connection: &mut dyn SqlConnection) -> Result<Vec<(String, i64)>, StoreError> {
    let sql = "SELECT f.table_name, max(d.file) FROM hd_drift d JOIN hd_files f ON f.file = d.file
         WHERE d.action = 'rereading' GROUP BY f.table_name ORDER BY f.table_name";
    connection.entries(sql, &[], |row| Ok((row.text(0)?, row.integer(1)?)))
}

/// All decisions, the oldest first.
pub fn decisions(connection: &mut dyn SqlConnection) -> Result<Vec<DecisionEntry>, StoreError> {
    let sql = "SELECT place, path, bytes, modified_at, table_name, decided, decided_by, decided_at, why,
           version_token FROM hd_decisions ORDER BY decision";
    let entry = |row: &SqlRow| {
        Ok(DecisionEntry {
            arrival: Arrival {
                place: row.text(0)?,
                path: row.text(1)?,
                bytes: row.count(2)?,
                modified: row.moment(3)?,
                token: row.optional_text(9)?,
            },
            table: row.text(4)?,
            decision: row.text(5)?,
            by: row.text(6)?,
            at: row.moment(7)?,
            why: row.optional_text(8)?,
        })
    };
    connection.entries(sql, &[], entry)
}
