//! What is written into the ledger.

use hypodoke_core::arrival::Arrival;
use hypodoke_core::cast::Reject;
use hypodoke_core::drift::Drift;
use hypodoke_core::layout::Layout;
use hypodoke_core::outcome::{Outcome, Reason};
use hypodoke_core::reconcile::join;

use super::joined_layouts::{JoinedLayout, join_layout};
use super::read::read_layout;
use super::schema::PROGRAM;
use super::{DecisionEntry, FileEntry, corrections};
use crate::error::StoreError;
use crate::load_plan::Counts;
use crate::load_plan::file_order::FileOrder;
use crate::load_plan::{FileSummary, LoadPlan, PartSummary, TablePlan};
use crate::sql::{SqlConnection, SqlValue, in_transaction};

/// Whether a version of a file is loaded, except by one entry; and how many entries there are of the file that
/// are newer than one.
pub const LOADED_AND_NEWER: &str = "SELECT
       CAST(coalesce(sum(CASE WHEN outcome IN ('loaded', 'superseded') AND replaced_by IS NULL AND file <> ?6
         AND bytes = ?3 AND modified_at = ?4 AND (?7 = '' OR coalesce(version_token, ?7) = ?7)
         THEN 1 ELSE 0 END), 0) AS {whole}),
       CAST(coalesce(sum(CASE WHEN file > ?8 AND outcome IN ('loaded', 'superseded', 'retracted', 'discarded')
         THEN 1 ELSE 0 END), 0) AS {whole})
     FROM hd_files WHERE place = ?1 AND path = ?2 AND table_name = ?5";

/// Begins a batch and gives its number.
pub fn begin_batch(connection: &mut dyn SqlConnection, at: i64) -> Result<i64, StoreError> {
    let sql = "INSERT INTO hd_batches (began_at, program) VALUES (?1, ?2)";
    in_transaction(connection, |connection| {
        connection.insert(sql, "batch", &[SqlValue::Moment(at), SqlValue::from(PROGRAM)])
    })
}

/// Records that a batch is over.
pub fn end_batch(connection: &mut dyn SqlConnection, batch: i64, at: i64) -> Result<(), StoreError> {
    let sql = "UPDATE hd_batches SET ended_at = ?2 WHERE batch = ?1";
    in_transaction(connection, |connection| {
        connection.execute(sql, &[SqlValue::Integer(batch), SqlValue::Moment(at)]).map(drop)
    })
}

/// Adds an entry, whatever became of the file, and gives its number.
pub fn add_file(connection: &mut dyn SqlConnection, entry: &FileEntry) -> Result<i64, StoreError> {
    let mut parameters = file_parameters(connection, entry)?.to_vec();
    let mut names = "";
    if let Some(number) = connection.drawn_number() {
        parameters.push(SqlValue::Integer(number));
        names = ", file";
    }
    let marks = marks(parameters.len());
    let sql = format!("INSERT INTO hd_files ({FILE_COLUMNS}{names}) VALUES ({marks})");
    connection.insert(&sql, "file", &parameters)
}

/// The columns of an entry that are known when it is begun, in the order of [`file_parameters`].
pub const FILE_COLUMNS: &str = "batch, place, path, bytes, modified_at, content_hash, feed, table_name, kind,
   outcome, rows_read, rows_loaded, rows_rejected, rows_left_out, began_at, ended_at, message, shape,
   version_token, ordered_by, ordered_at, first_file, effective_at, delivery, rules, rows_kept, figures, reasons,
   has_parts";

/// The marks of so many parameters, as a list.
pub fn marks(parameters: usize) -> String {
    (1..=parameters).map(|at| format!("?{at}")).collect::<Vec<_>>().join(", ")
}

/// An entry as the parameters of the statement that adds it.
pub fn file_parameters(
    connection: &dyn SqlConnection,
    entry: &FileEntry,
) -> Result<[SqlValue; 29], StoreError> {
    let FileOrder { key, modified: ordered_at, first, effective, delivery } = &entry.order;
    let rules = entry.rules.as_ref().map(serde_json::to_string).transpose();
    let rules = rules.map_err(|error| StoreError::Refused {
        shown: connection.shown(),
        why: format!("the rules of a file cannot be written as JSON: {error}"),
    })?;
    let reasons = reasons_text(&entry.reasons);
    let Arrival { place, path, bytes, modified, token } = &entry.arrival;
    Ok([
        SqlValue::Integer(entry.batch),
        SqlValue::from(place),
        SqlValue::from(path),
        SqlValue::from(*bytes),
        SqlValue::Moment(*modified),
        SqlValue::from(&entry.hash),
        SqlValue::from(&entry.feed),
        SqlValue::from(&entry.table),
        SqlValue::from(&entry.kind),
        SqlValue::from(entry.outcome.word()),
        SqlValue::from(entry.read),
        SqlValue::from(entry.loaded),
        SqlValue::from(entry.rejected),
        SqlValue::from(entry.left_out),
        SqlValue::Moment(entry.began),
        SqlValue::Moment(entry.ended),
        SqlValue::from(&entry.message),
        SqlValue::from(&entry.shape),
        SqlValue::from(token),
        SqlValue::from(key),
        SqlValue::Moment(if *ordered_at == 0 { *modified } else { *ordered_at }),
        if *first == 0 { SqlValue::Null } else { SqlValue::Integer(*first) },
        effective.map_or(SqlValue::Null, SqlValue::Moment),
        SqlValue::from(delivery),
        SqlValue::from(&rules),
        SqlValue::Integer(entry.rows_kept.into()),
        SqlValue::from(&entry.figures),
        SqlValue::from(&reasons),
        SqlValue::Integer(entry.rules.as_ref().is_some_and(|rules| !rules.parts.is_empty()).into()),
    ])
}

/// Adds an entry of a file that is not loaded, with how it differs from its tables, by their names.
pub fn note_file(
    connection: &mut dyn SqlConnection,
    entry: &FileEntry,
    drift: &[(String, Drift)],
) -> Result<(), StoreError> {
    in_transaction(connection, |connection| {
        let file = add_file(connection, entry)?;
        drift
            .iter()
            .try_for_each(|(table, one)| add_drift(connection, file, table, std::slice::from_ref(one)))
    })
}

/// Records how a file differs from one of its tables.
pub fn add_drift(
    connection: &mut dyn SqlConnection,
    file: i64,
    table: &str,
    drift: &[Drift],
) -> Result<(), StoreError> {
    let sql = "INSERT INTO hd_drift
         (file, table_name, column_name, \"change\", from_type, to_type, action, line, value)
         VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9)";
    for one in drift {
        let (column, word, from, to) = one.change.parts();
        let parameters = [
            SqlValue::Integer(file),
            SqlValue::from(table),
            SqlValue::from(column),
            SqlValue::from(word),
            SqlValue::from(&from),
            SqlValue::from(&to),
            SqlValue::from(one.action.word()),
            one.cause.as_ref().map_or(SqlValue::Null, |cause| SqlValue::from(cause.line)),
            one.cause.as_ref().map_or(SqlValue::Null, |cause| SqlValue::from(&cause.value)),
        ];
        connection.execute(sql, &parameters)?;
    }
    Ok(())
}

/// Records that the files of a table before this one were read again.
pub fn end_reread(connection: &mut dyn SqlConnection, table: &str, newest: i64) -> Result<(), StoreError> {
    let sql = "UPDATE hd_drift SET action = 'widened' WHERE action = 'rereading' AND file <= ?2
         AND file IN (SELECT file FROM hd_files WHERE table_name = ?1)";
    connection.execute(sql, &[SqlValue::from(table), SqlValue::Integer(newest)]).map(drop)
}

/// Records what somebody decided.
pub fn note_decision(connection: &mut dyn SqlConnection, entry: &DecisionEntry) -> Result<(), StoreError> {
    let sql = "INSERT INTO hd_decisions
           (place, path, bytes, modified_at, table_name, decided, decided_by, decided_at, why, version_token)
         VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9, ?10)";
    let DecisionEntry { arrival, table, decision, by, at, why } = entry;
    let parameters = [
        SqlValue::from(&arrival.place),
        SqlValue::from(&arrival.path),
        SqlValue::from(arrival.bytes),
        SqlValue::Moment(arrival.modified),
        SqlValue::from(table),
        SqlValue::from(decision),
        SqlValue::from(by),
        SqlValue::Moment(*at),
        SqlValue::from(why),
        SqlValue::from(&arrival.token),
    ];
    in_transaction(connection, |connection| connection.execute(sql, &parameters).map(drop))
}

/// Whether the ledger says by now that the file of a plan is loaded. Corrected rejects are of a file
/// that is.
///
/// # Errors
///
/// Another version of the file was loaded meanwhile, or its rows were taken out: it has to be decided anew.
pub fn is_loaded(connection: &mut dyn SqlConnection, plan: &LoadPlan) -> Result<bool, StoreError> {
    if plan.resubmits.is_some() {
        return Ok(false);
    }
    let known_until = plan.known_until.unwrap_or(i64::MAX);
    match loaded_and_newer(connection, &plan.arrival, plan.table(), plan.replaces.unwrap_or(0), known_until)?
    {
        (loaded, _) if loaded > 0 => Ok(true),
        (_, newer) if newer > 0 => Err(StoreError::Changed { table: plan.table().to_owned() }),
        _ => Ok(false),
    }
}

/// See [`LOADED_AND_NEWER`]. No entry has the number 0.
fn loaded_and_newer(
    connection: &mut dyn SqlConnection,
    arrival: &Arrival,
    table: &str,
    but: i64,
    known_until: i64,
) -> Result<(i64, i64), StoreError> {
    let Arrival { place, path, bytes, modified, token } = arrival;
    let parameters = [
        SqlValue::from(place),
        SqlValue::from(path),
        SqlValue::from(*bytes),
        SqlValue::Moment(*modified),
        SqlValue::from(table),
        SqlValue::Integer(but),
        // Without a token, one with a token is not another.
        SqlValue::from(token.clone().unwrap_or_default()),
        SqlValue::Integer(known_until),
    ];
    let counts = |row: &crate::sql::SqlRow| Ok((row.integer(0)?, row.integer(1)?));
    Ok(connection.entries(LOADED_AND_NEWER, &parameters, counts)?.first().copied().unwrap_or_default())
}

/// The number of the entry that the rows of a plan belong to: a new one, or that of the file whose
/// corrected rejects they are.
pub fn begin_file(
    connection: &mut dyn SqlConnection,
    plan: &LoadPlan,
    order: &FileOrder,
) -> Result<i64, StoreError> {
    match plan.resubmits {
        Some(file) => Ok(file),
        None => add_file(connection, &FileEntry { order: order.clone(), ..entry_of(plan) }),
    }
}

/// The ledger's entry for the file as it is begun: its figures come when it ends.
pub fn entry_of(plan: &LoadPlan) -> FileEntry {
    FileEntry {
        file: 0,
        batch: plan.batch,
        arrival: plan.arrival.clone(),
        hash: None,
        feed: plan.feed.clone(),
        table: Some(plan.table().to_owned()),
        kind: Some(plan.kind.clone()),
        outcome: if plan.retracts { Outcome::Retracted } else { Outcome::Loaded },
        read: 0,
        loaded: 0,
        rejected: 0,
        left_out: 0,
        counts: Counts::default(),
        began: plan.began,
        ended: plan.began,
        message: None,
        reasons: Vec::new(),
        replaced_by: None,
        shape: plan.shape.clone(),
        order: plan.order.clone(),
        rules: Some(plan.rules.with_tables(&plan.tables)),
        rows_kept: false,
        figures: None,
    }
}

/// Records that the rows of one entry took the place of another's.
pub fn replace_file(connection: &mut dyn SqlConnection, replaced: i64, by: i64) -> Result<(), StoreError> {
    let sql = "UPDATE hd_files SET replaced_by = ?2 WHERE file = ?1";
    connection.execute(sql, &[SqlValue::Integer(replaced), SqlValue::Integer(by)]).map(drop)
}

/// Keeps rejects of a file. What is corrected and refused again stays the reject it is.
pub fn add_rejects(
    connection: &mut dyn SqlConnection,
    plan: &LoadPlan,
    file: i64,
    rejects: &[Reject],
) -> Result<(), StoreError> {
    if plan.resubmits.is_some() || plan.keeps_for.is_some() {
        return Ok(());
    }
    let all: Vec<Vec<SqlValue>> =
        rejects.iter().map(|reject| reject_parameters(file, reject).to_vec()).collect();
    connection.execute_all(ADD_REJECT, &all)
}

/// Adds a reject.
pub const ADD_REJECT: &str =
    "INSERT INTO hd_rejects (file, line, column_name, value, reason, raw, place, more, sheet)
     VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9)";

/// A reject of a file as the parameters of the statement that adds it.
pub fn reject_parameters(file: i64, reject: &Reject) -> [SqlValue; 9] {
    [
        SqlValue::Integer(file),
        SqlValue::from(reject.line),
        SqlValue::from(&reject.column),
        SqlValue::from(&reject.value),
        SqlValue::from(&reject.reason),
        SqlValue::Bytes(reject.raw.to_vec()),
        SqlValue::from(&reject.place),
        // Text and numbers are always JSON.
        match reject.more.is_empty() {
            true => SqlValue::Null,
            false => SqlValue::from(&serde_json::to_string(&reject.more).ok()),
        },
        SqlValue::from(&reject.sheet),
    ]
}

/// Reasons as the ledger keeps them. Codes and facts can always be written as JSON.
fn reasons_text(reasons: &[Reason]) -> Option<String> {
    if reasons.is_empty() { None } else { serde_json::to_string(reasons).ok() }
}

/// A file whose rows are all in.
#[derive(Clone, Copy)]
pub struct LoadedCounts<'a> {
    /// Its number.
    pub file: i64,
    /// What was read of it.
    pub summary: &'a FileSummary,
    /// What became of its rows.
    pub counts: &'a Counts,
}

/// Records what came of a file whose rows are all in: its figures, parts, layouts and drift; or of
/// corrected rejects, that they are none any more. What the file found in tables that stay as they are is put
/// among those that are kept `later`, where a group does so: others who load into a table wait for whoever keeps
/// its layout.
pub fn end_file(
    connection: &mut dyn SqlConnection,
    plan: &LoadPlan,
    loaded: LoadedCounts<'_>,
    mut later: Option<&mut Vec<JoinedLayout>>,
) -> Result<(), StoreError> {
    let LoadedCounts { file, summary, counts } = loaded;
    if plan.resubmits.is_some() {
        return end_corrected(connection, file, summary, counts);
    }
    let sql = "UPDATE hd_files SET content_hash = ?2, rows_read = ?3, rows_loaded = ?4, rows_rejected = ?5,
           rows_left_out = ?6, ended_at = ?7, message = ?8, rows_inserted = ?9, rows_updated = ?10,
           rows_unchanged = ?11, rows_deleted = ?12, figures = ?13, reasons = ?14 WHERE file = ?1";
    let parameters = [
        SqlValue::Integer(file),
        SqlValue::from(&summary.hash),
        SqlValue::from(summary.read),
        SqlValue::from(summary.loaded - counts.left_out.min(summary.loaded)),
        SqlValue::from(summary.rejected),
        SqlValue::from(summary.left_out + counts.left_out),
        SqlValue::Moment(summary.ended),
        SqlValue::from(&summary.message_with(counts)),
        SqlValue::from(counts.inserted),
        SqlValue::from(counts.updated),
        SqlValue::from(counts.unchanged),
        SqlValue::from(counts.deleted),
        SqlValue::from(&summary.figures),
        SqlValue::from(&reasons_text(&summary.reasons)),
    ];
    connection.execute(sql, &parameters)?;
    for (at, (table, part)) in plan.tables.iter().zip(&summary.parts).enumerate() {
        if at > 0 {
            add_part(connection, file, table, part)?;
        }
        let is_as_it_was = table.changes.is_empty() && table.based_on.is_some_and(|version| version > 0);
        match later.as_deref_mut() {
            _ if !table.keeps_layout => {}
            Some(layouts) if is_as_it_was => {
                join_layout(layouts, file, table, part);
                add_drift(connection, file, &table.table, &table.drift)?;
            }
            _ => keep_layout(connection, file, table, part)?,
        }
        add_drift(connection, file, &table.table, &part.drift)?;
    }
    Ok(())
}

/// Rejects that are none any more count as loaded rows of their file.
fn end_corrected(
    connection: &mut dyn SqlConnection,
    file: i64,
    summary: &FileSummary,
    counts: &Counts,
) -> Result<(), StoreError> {
    // Somebody else may have corrected it meanwhile, or loaded another version of the file.
    let sql = "UPDATE hd_rejects SET mended_at = ?2 WHERE reject = ?1 AND mended_at IS NULL
       AND EXISTS (SELECT 1 FROM hd_files f WHERE f.file = hd_rejects.file AND f.replaced_by IS NULL)";
    for corrected in &summary.resubmitted {
        let reject = corrected.reject;
        let parameters = [SqlValue::Integer(reject), SqlValue::Moment(summary.ended)];
        if connection.execute(sql, &parameters)? != 1 {
            return Err(StoreError::RejectTaken { reject });
        }
        corrections::keep(connection, corrected, summary.ended)?;
    }
    let sql = "UPDATE hd_files SET rows_loaded = rows_loaded + ?2, rows_rejected = rows_rejected - ?3,
           rows_left_out = rows_left_out + ?4, rows_inserted = rows_inserted + ?5,
           rows_updated = rows_updated + ?6, rows_unchanged = rows_unchanged + ?7 WHERE file = ?1";
    let left_out = counts.left_out.min(summary.loaded);
    let parameters = [
        SqlValue::Integer(file),
        SqlValue::from(summary.loaded - left_out),
        SqlValue::from(summary.resubmitted.len() as u64),
        SqlValue::from(left_out),
        SqlValue::from(counts.inserted),
        SqlValue::from(counts.updated),
        SqlValue::from(counts.unchanged),
    ];
    connection.execute(sql, &parameters).map(drop)
}

/// Records what a file gave to a table besides its main one.
pub fn add_part(
    connection: &mut dyn SqlConnection,
    file: i64,
    table: &TablePlan,
    part: &PartSummary,
) -> Result<(), StoreError> {
    let sql =
        "INSERT INTO hd_parts (file, table_name, path, rows_read, rows_loaded) VALUES (?1, ?2, ?3, ?4, ?5)";
    let parameters = [
        SqlValue::Integer(file),
        SqlValue::from(&table.table),
        SqlValue::from(&table.path),
        SqlValue::from(part.read),
        SqlValue::from(part.loaded),
    ];
    connection.execute(sql, &parameters).map(drop)
}

/// Makes sure that the tables of a plan are those that it was made for: nobody has changed their layouts
/// meanwhile, or made the first. To be asked under the lock that keeps others from doing so later.
///
/// # Errors
///
/// They are others by now, and what was decided has to be decided anew.
pub fn check_layout(connection: &mut dyn SqlConnection, table: &TablePlan) -> Result<(), StoreError> {
    let Some(expected) = table.based_on.filter(|_| table.keeps_layout) else { return Ok(()) };
    let sql = "SELECT CAST(coalesce(max(version), 0) AS {whole}) FROM hd_layouts WHERE table_name = ?1";
    let found = connection.entries(sql, &[SqlValue::from(&table.table)], |row| row.integer(0))?;
    match found.first() {
        Some(version) if *version != expected => Err(StoreError::Changed { table: table.table.clone() }),
        _ => Ok(()),
    }
}

/// Keeps a new version of the layout where the file made one, and what changed.
pub fn keep_layout(
    connection: &mut dyn SqlConnection,
    file: i64,
    table: &TablePlan,
    part: &PartSummary,
) -> Result<(), StoreError> {
    let name = SqlValue::from(&table.table);
    let sql = format!(
        "SELECT version, layout FROM hd_layouts WHERE table_name = ?1 ORDER BY version DESC LIMIT 1{}",
        connection.dialect().for_update
    );
    let entry = |row: &crate::sql::SqlRow| Ok((row.integer(0)?, row.text(1)?));
    let newest = connection.entries(&sql, std::slice::from_ref(&name), entry)?.into_iter().next();
    let found = layout_text(connection, &part.layout, &table.table)?;
    let text = match &newest {
        // Most files tell nothing new.
        Some((_, before)) if *before == found => found,
        Some((version, before)) => {
            let kept = read_layout(before, *version, &table.table);
            let kept = kept.map_err(|misread| connection.damaged(misread))?;
            // What others that were loaded meanwhile have met is no less so for those who did not meet it.
            layout_text(connection, &join(&part.layout, &kept), &table.table)?
        }
        None => found,
    };
    match newest {
        Some((_, before)) if table.changes.is_empty() && before == text => {}
        Some((version, _)) if table.changes.is_empty() => {
            let sql = "UPDATE hd_layouts SET layout = ?3 WHERE table_name = ?1 AND version = ?2";
            connection.execute(sql, &[name, SqlValue::Integer(version), SqlValue::Text(text)])?;
        }
        newest => {
            let version = SqlValue::Integer(newest.map_or(1, |(version, _)| version + 1));
            let sql = "INSERT INTO hd_layouts (table_name, version, file, layout) VALUES (?1, ?2, ?3, ?4)";
            connection.execute(sql, &[name, version, SqlValue::Integer(file), SqlValue::Text(text)])?;
        }
    }
    add_drift(connection, file, &table.table, &table.drift)
}

fn layout_text(connection: &dyn SqlConnection, layout: &Layout, table: &str) -> Result<String, StoreError> {
    serde_json::to_string(layout).map_err(|error| StoreError::Refused {
        shown: connection.shown(),
        why: format!("the layout of `{table}` cannot be written as JSON: {error}"),
    })
}
