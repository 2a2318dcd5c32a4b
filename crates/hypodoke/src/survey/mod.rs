//! Survey: what files are, one by one and grouped into layouts.

pub mod draft;
pub mod group;
pub mod key;
pub mod pattern;
pub mod warnings;

use std::collections::HashMap;
use std::sync::Mutex;

use hypodoke_core::event::{Event, Listener, Step};
use hypodoke_core::evidence::{ColumnReport, TableEvidence};
use hypodoke_core::types::Type;
use hypodoke_formats::Shape;

use crate::engine::look::{Looked, LookedTable, look_at_all};
use crate::engine::{Candidate, Feed};
use crate::failure::Failure;
use group::{Gathering, Group};

/// What was found of one file.
pub struct FileReport {
    /// Its path, as people know it.
    pub path: String,
    /// Its size.
    pub bytes: u64,
    /// When it was modified: microseconds since 1970.
    pub modified: i64,
    /// What it is; or why that could not be found out.
    pub found: Result<Found, Failure>,
    /// What is worth a look.
    pub warnings: Vec<String>,
}

/// What a file is.
pub struct Found {
    /// How it is written.
    pub shape: Shape,
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

impl Found {
    /// Its records, what is nested in them not counted.
    pub fn rows(&self) -> u64 {
        self.tables.iter().filter(|table| !table.is_child).map(|table| table.rows).sum()
    }

    /// The columns of all its tables.
    pub fn columns(&self) -> impl Iterator<Item = &ColumnReport> {
        self.tables.iter().flat_map(|table| &table.columns)
    }
}

/// What was found of all files.
pub struct Survey {
    /// The files, in the order they were named.
    pub files: Vec<FileReport>,
    /// Their layouts, the largest first.
    pub groups: Vec<Group>,
}

/// Looks at all files and groups them. `keep_evidence` keeps each file's own evidence, which
/// is only wise for few.
pub fn survey(files: &[Candidate], feed: &Feed, keep_evidence: bool, listener: &dyn Listener) -> Survey {
    let bytes = files.iter().map(|file| file.seen.arrival.bytes).sum();
    listener.on(Event::BatchBegan { files: files.len(), bytes, step: Step::Looking });
    let mut sizes: HashMap<u64, u32> = HashMap::new();
    files.iter().for_each(|file| *sizes.entry(file.seen.arrival.bytes).or_default() += 1);
    let gathering = Mutex::new(Gathering::default());
    let wanted: Vec<(&Candidate, &Feed)> = files.iter().map(|file| (file, feed)).collect();
    let reports = look_at_all(
        &wanted,
        |at| shared_size(files, &sizes, at),
        0,
        listener,
        |at, looked| {
            let arrival = &files[at].seen.arrival;
            let mut warnings = Vec::new();
            let found = looked.map(|looked| {
                warnings = warnings::of_file(&looked);
                gathering.lock().unwrap_or_else(|poisoned| poisoned.into_inner()).add(at, files, &looked);
                found(looked, keep_evidence)
            });
            FileReport {
                path: files[at].shown.clone(),
                bytes: arrival.bytes,
                modified: arrival.modified,
                found,
                warnings,
            }
        },
    );
    listener.on(Event::BatchEnded);
    let gathering = gathering.into_inner().unwrap_or_else(|poisoned| poisoned.into_inner());
    let groups = gathering.finish(&reports, files);
    Survey { files: reports, groups }
}

/// Only files of one size can have the same content.
fn shared_size(files: &[Candidate], sizes: &HashMap<u64, u32>, at: usize) -> bool {
    sizes.get(&files[at].seen.arrival.bytes).is_some_and(|count| *count > 1)
}

fn found(looked: Looked, keep_evidence: bool) -> Found {
    let skipped = usize::from(looked.is_virtual);
    let tables = looked.tables.into_iter().skip(skipped).map(|table| FoundTable {
        columns: reports(&table),
        path: table.head.path,
        rows_at: table.rows_at,
        is_child: table.head.is_child,
        rows: table.evidence.rows,
        evidence: keep_evidence.then_some(table.evidence),
    });
    Found {
        tables: tables.collect(),
        encoding: looked.encoding,
        compression: looked.compression,
        kind: looked.kind,
        hash: looked.hash,
        shape: looked.shape,
        footer: looked.footer,
    }
}

/// The reports of a table's columns.
pub fn reports(table: &LookedTable) -> Vec<ColumnReport> {
    let columns = table.layout.columns.iter().zip(&table.evidence.columns).zip(&table.decisions);
    columns
        .map(|((column, evidence), decision)| {
            ColumnReport::of(&column.name, &column.source, evidence, decision)
        })
        .collect()
}
