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
use hypodoke_formats::text::TextShape;

use crate::engine::look::{Looked, look_at_all};
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
    /// How its text is written.
    pub shape: TextShape,
    /// Its encoding.
    pub encoding: String,
    /// How it is compressed.
    pub compression: Option<&'static str>,
    /// The file in a few words.
    pub kind: String,
    /// The hash of its content, where another file is as large.
    pub hash: Option<String>,
    /// Its records.
    pub rows: u64,
    /// Its columns.
    pub columns: Vec<ColumnReport>,
    /// The whole evidence, where it was asked to be kept.
    pub evidence: Option<TableEvidence>,
}

impl Found {
    /// The type of each column, by its name.
    pub fn types(&self) -> impl Iterator<Item = (&str, Type)> {
        self.columns.iter().map(|column| (column.name.as_str(), column.ty))
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
    let columns = reports(&looked);
    Found {
        encoding: looked.encoding.to_owned(),
        compression: looked.compression,
        kind: looked.kind,
        hash: looked.hash,
        rows: looked.evidence.rows,
        columns,
        shape: looked.shape,
        evidence: keep_evidence.then_some(looked.evidence),
    }
}

/// The reports of a file's columns.
pub fn reports(looked: &Looked) -> Vec<ColumnReport> {
    let columns = looked.layout.columns.iter().zip(&looked.evidence.columns).zip(&looked.decisions);
    columns
        .map(|((column, evidence), decision)| {
            ColumnReport::of(&column.name, &column.source, evidence, decision)
        })
        .collect()
}
