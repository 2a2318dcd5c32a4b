//! What is reported of one file.

use hypodoke_core::evidence::{ColumnReport, TableEvidence};
use hypodoke_core::types::Type;
use hypodoke_formats::FormatFacts;

use crate::error::EngineError;
use crate::profile::TableProfile;

/// What was found of one file.
pub struct FileReport {
    /// Its path, as people know it.
    pub path: String,
    /// Its size.
    pub bytes: u64,
    /// When it was modified: microseconds since 1970.
    pub modified: i64,
    /// What it is; or why that could not be found out.
    pub found: Result<FoundFormat, EngineError>,
    /// What is worth a look.
    pub warnings: Vec<String>,
}

/// What a file is.
pub struct FoundFormat {
    /// How it is written.
    pub facts: FormatFacts,
    /// Its encoding, where it has one.
    pub encoding: Option<&'static str>,
    /// How it is compressed.
    pub compression: Option<&'static str>,
    /// The file in a few words.
    pub kind: String,
    /// The hash of its content, where another file is as large.
    pub hash: Option<String>,
    /// Its tables.
    pub tables: Vec<FoundTable>,
    /// Lines after the table that were left out.
    pub footer: Vec<String>,
}

/// One table of a file.
pub struct FoundTable {
    /// Where in the file it stands; empty for its main table.
    pub path: String,
    /// Where its rows are, in words of the format.
    pub rows_at: Option<String>,
    /// Its rows are parts of the main table's records.
    pub is_child: bool,
    /// Its records.
    pub rows: u64,
    /// Its columns.
    pub columns: Vec<ColumnReport>,
    /// The whole evidence, where it was asked to be kept.
    pub evidence: Option<TableEvidence>,
}

impl FoundTable {
    /// The type of each column, by its name.
    pub fn types(&self) -> impl Iterator<Item = (&str, Type)> {
        self.columns.iter().map(|column| (column.name.as_str(), column.ty))
    }
}

impl FoundFormat {
    /// Its records, what is nested in them not counted.
    pub fn rows(&self) -> u64 {
        self.tables.iter().filter(|table| !table.is_child).map(|table| table.rows).sum()
    }

    /// The columns of all its tables.
    pub fn columns(&self) -> impl Iterator<Item = &ColumnReport> {
        self.tables.iter().flat_map(|table| &table.columns)
    }
}

/// The reports of a table's columns.
pub fn column_reports(table: &TableProfile) -> Vec<ColumnReport> {
    let columns = table.layout.columns.iter().zip(&table.evidence.columns).zip(&table.decisions);
    columns
        .map(|((column, evidence), decision)| {
            ColumnReport::of(&column.name, &column.source, evidence, decision)
        })
        .collect()
}
