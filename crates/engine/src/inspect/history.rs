//! The history of tables: the versions of their layouts, and what files changed; and the newest entry
//! of each file.

use std::collections::{HashMap, HashSet};

use hypodoke_core::drift::Cause;
use hypodoke_stores::{DriftEntry, FileEntry, FileQuery, LayoutEntry, Ledger};
use serde::Serialize;

use crate::clock::rfc3339;
use crate::error::EngineError;

/// The history of one table.
#[derive(Clone, Debug, Serialize)]
pub struct History {
    /// The table.
    pub table: String,
    /// The feed that fills it.
    pub feed: Option<String>,
    /// Its layout's versions.
    pub versions: Vec<Version>,
    /// What its files brought, the same change of files in a row told once.
    pub changes: Vec<ToldChange>,
}

/// A version of a layout.
#[derive(Clone, Debug, Serialize)]
pub struct Version {
    /// Its number.
    pub version: i64,
    /// How many columns it has.
    pub columns: usize,
    /// The file that made it.
    pub path: String,
    /// When that was loaded.
    pub at: String,
}

/// A change.
#[derive(Clone, Debug, Serialize)]
pub struct ToldChange {
    /// When the first file with it was loaded, or held.
    pub at: String,
    /// That file.
    pub path: String,
    /// What changed: mostly a column.
    pub column: String,
    /// The change in a word.
    pub change: String,
    /// What was before.
    pub from: Option<String>,
    /// What is now.
    pub to: Option<String>,
    /// What was done, in a word.
    pub action: String,
    /// The value that forced it.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub cause: Option<Cause>,
    /// The version of the layout that came of it.
    pub version: Option<i64>,
    /// How many files had it, one after another.
    pub files: u64,
}

/// The files of a ledger, by their numbers.
fn files_of(store: &mut dyn Ledger) -> Result<HashMap<i64, FileEntry>, EngineError> {
    Ok(store.files(&FileQuery::default())?.into_iter().map(|entry| (entry.file, entry)).collect())
}

/// What changed in the tables that the ledger knows, in the order in which they were first filled.
///
/// # Errors
///
/// The ledger cannot be read.
pub fn histories(store: &mut dyn Ledger) -> Result<Vec<History>, EngineError> {
    let files = files_of(store)?;
    let mut tables: Vec<(String, Option<String>)> = Vec::new();
    let mut numbers: Vec<&i64> = files.keys().collect();
    numbers.sort_unstable();
    for number in numbers {
        let entry = &files[number];
        if let Some(table) = &entry.table
            && !tables.iter().any(|(known, _)| known == table)
        {
            tables.push((table.clone(), entry.feed.clone()));
        }
    }
    let drift = store.drift()?;
    for entry in &drift {
        if !tables.iter().any(|(known, _)| *known == entry.table) {
            let feed = files.get(&entry.file).and_then(|file| file.feed.clone());
            tables.push((entry.table.clone(), feed));
        }
    }
    let mut histories = Vec::new();
    for (table, feed) in tables {
        let layouts = store.layouts(&table)?;
        let own: Vec<&DriftEntry> = drift.iter().filter(|entry| entry.table == table).collect();
        let version = |entry: &LayoutEntry| {
            let file = files.get(&entry.file);
            Version {
                version: entry.version,
                columns: entry.layout.columns.len(),
                path: file.map(|file| file.arrival.path.clone()).unwrap_or_default(),
                at: file.map(|file| rfc3339(file.began)).unwrap_or_default(),
            }
        };
        let versions = layouts.iter().map(version).collect();
        histories.push(History { changes: told(&own, &layouts, &files), table, feed, versions });
    }
    Ok(histories)
}

/// Changes in the order they came; one that file after file has is told once.
fn told(own: &[&DriftEntry], layouts: &[LayoutEntry], files: &HashMap<i64, FileEntry>) -> Vec<ToldChange> {
    let mut told: Vec<ToldChange> = Vec::new();
    for entry in own {
        let Some(file) = files.get(&entry.file) else { continue };
        let is_same = |known: &&mut ToldChange| {
            known.column == entry.column
                && known.change == entry.change
                && known.action == entry.action
                && known.to == entry.to
        };
        // Only what makes no difference to the table comes again and again.
        let repeats = !matches!(entry.action.as_str(), "added" | "widened" | "rereading" | "held");
        if let Some(known) = told.iter_mut().rev().find(is_same).filter(|_| repeats) {
            known.files += 1;
            continue;
        }
        let alters = matches!(entry.action.as_str(), "added" | "widened" | "rereading");
        let version = layouts.iter().find(|layout| layout.file == entry.file).map(|layout| layout.version);
        told.push(ToldChange {
            at: rfc3339(file.began),
            path: file.arrival.path.clone(),
            column: entry.column.clone(),
            change: entry.change.clone(),
            from: entry.from.clone(),
            to: entry.to.clone(),
            action: entry.action.clone(),
            cause: entry.cause.clone(),
            version: version.filter(|_| alters),
            files: 1,
        });
    }
    told
}

/// The newest entry of each file, of entries with the newest first.
pub fn last_of_each(files: &[FileEntry]) -> Vec<&FileEntry> {
    let mut seen = HashSet::new();
    let key =
        |entry: &FileEntry| (entry.arrival.place.clone(), entry.arrival.path.clone(), entry.table.clone());
    files.iter().filter(|entry| seen.insert(key(entry))).collect()
}
