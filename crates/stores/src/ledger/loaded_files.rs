//! Many files written into the ledger at once, when all is known of them.

use hypodoke_core::cast::Reject;
use hypodoke_core::drift::Drift;

use super::FileEntry;
use super::joined_layouts::JoinedLayout;
use super::write::{
    ADD_REJECT, FILE_COLUMNS, add_drift, add_part, file_parameters, keep_layout, marks, reject_parameters,
};
use crate::error::StoreError;
use crate::load_plan::{PartSummary, TablePlan};
use crate::sql::{SqlConnection, SqlValue};

/// A file whose rows are in, and which is not in the ledger yet.
pub struct LoadedFile {
    /// Its entry, with the number that it got.
    pub entry: FileEntry,
    /// Its rejects.
    pub rejects: Vec<Reject>,
    /// What it gave to the tables besides its main one.
    pub parts: Vec<(TablePlan, PartSummary)>,
    /// How it differs from its tables, by their names.
    pub drift: Vec<(String, Vec<Drift>)>,
}

/// Keeps layouts in the same order everywhere: who waits for a table's entry has none that another waits for.
pub fn keep_layouts(
    connection: &mut dyn SqlConnection,
    mut layouts: Vec<JoinedLayout>,
) -> Result<(), StoreError> {
    layouts.sort_by(|a, b| a.table.table.cmp(&b.table.table));
    layouts.iter().try_for_each(|joined| keep_layout(connection, joined.file, &joined.table, &joined.found))
}

/// Adds files with all that belongs to them, but for the layouts that they found.
pub fn add_loaded(connection: &mut dyn SqlConnection, files: &[LoadedFile]) -> Result<(), StoreError> {
    let mut entries = Vec::with_capacity(files.len());
    for LoadedFile { entry, .. } in files {
        let mut parameters = file_parameters(connection, entry)?.to_vec();
        let counts = &entry.counts;
        parameters.push(SqlValue::Integer(entry.file));
        let all = [counts.inserted, counts.updated, counts.unchanged, counts.deleted];
        parameters.extend(all.map(SqlValue::from));
        entries.push(parameters);
    }
    let marks = marks(entries.first().map_or(0, Vec::len));
    let sql = format!(
        "INSERT INTO hd_files ({FILE_COLUMNS}, file, rows_inserted, rows_updated, rows_unchanged, rows_deleted)
         VALUES ({marks})"
    );
    connection.execute_all(&sql, &entries)?;
    let rejects = files.iter().flat_map(|file| file.rejects.iter().map(|reject| (file.entry.file, reject)));
    let rejects: Vec<Vec<SqlValue>> =
        rejects.map(|(file, reject)| reject_parameters(file, reject).to_vec()).collect();
    connection.execute_all(ADD_REJECT, &rejects)?;
    for LoadedFile { entry, parts, drift, .. } in files {
        for (table, part) in parts {
            add_part(connection, entry.file, table, part)?;
        }
        for (table, drift) in drift {
            add_drift(connection, entry.file, table, drift)?;
        }
    }
    Ok(())
}
