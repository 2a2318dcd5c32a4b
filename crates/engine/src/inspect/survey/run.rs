//! All files profiled, and grouped into layouts.

use std::collections::HashMap;
use std::sync::{Mutex, PoisonError};

use super::group::{Gathering, Group};
use super::report::{FileReport, FoundFormat, FoundTable, column_reports};
use super::warnings;
use crate::event::{Event, Listener};
use crate::job::{Candidate, Feed};
use crate::profile::{FileProfile, profile_files};

/// What was found of all files.
pub struct Survey {
    /// The files, in the order they were named.
    pub files: Vec<FileReport>,
    /// Their layouts, the largest first.
    pub groups: Vec<Group>,
}

/// Profiles all files and groups them. `keep_evidence` keeps each file's own evidence, which
/// is only wise for few.
pub fn survey(files: &[Candidate], feed: &Feed, keep_evidence: bool, listener: &dyn Listener) -> Survey {
    let bytes = files.iter().map(|file| file.seen.arrival.bytes).sum();
    listener.on(&Event::SurveyBegan { files: files.len(), bytes });
    let mut sizes: HashMap<u64, u32> = HashMap::new();
    files.iter().for_each(|file| *sizes.entry(file.seen.arrival.bytes).or_default() += 1);
    let gathering = Mutex::new(Gathering::default());
    let wanted: Vec<(&Candidate, &Feed)> = files.iter().map(|file| (file, feed)).collect();
    let reports = profile_files(
        &wanted,
        |at| shared_size(files, &sizes, at),
        0,
        listener,
        |at, profile| {
            let arrival = &files[at].seen.arrival;
            let mut warnings = Vec::new();
            let found = profile.map(|profile| {
                warnings = warnings::of_file(&profile);
                gathering.lock().unwrap_or_else(PoisonError::into_inner).add(at, files, &profile);
                found(profile, keep_evidence)
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
    listener.on(&Event::SurveyEnded);
    let gathering = gathering.into_inner().unwrap_or_else(PoisonError::into_inner);
    let groups = gathering.finish(&reports, files);
    Survey { files: reports, groups }
}

/// Only files of one size can have the same content.
fn shared_size(files: &[Candidate], sizes: &HashMap<u64, u32>, at: usize) -> bool {
    sizes.get(&files[at].seen.arrival.bytes).is_some_and(|count| *count > 1)
}

fn found(profile: FileProfile, keep_evidence: bool) -> FoundFormat {
    let skipped = usize::from(profile.is_virtual);
    let tables = profile.tables.into_iter().skip(skipped).map(|table| FoundTable {
        columns: column_reports(&table),
        path: table.head.path,
        rows_at: table.rows_at,
        is_child: table.head.is_child,
        rows: table.evidence.rows,
        evidence: keep_evidence.then_some(table.evidence),
    });
    FoundFormat {
        tables: tables.collect(),
        encoding: profile.encoding,
        compression: profile.compression,
        kind: profile.kind,
        hash: profile.hash,
        facts: profile.facts,
        footer: profile.footer,
    }
}
