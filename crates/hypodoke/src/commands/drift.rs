//! `hypodoke drift`: what changed in the files of a feed, and what was done about it.

use std::collections::HashMap;
use std::path::{Path, PathBuf};

use hypodoke_core::drift::{Difference, between};
use hypodoke_core::layout::Layout;
use hypodoke_stores::{DriftEntry, FileEntry, FileQuery, LayoutEntry, Store};
use serde::Serialize;

use super::Context;
use crate::cli::DriftArguments;
use crate::engine::batch::rfc3339;
use crate::engine::by_hand::{self, Known};
use crate::engine::differ::Written;
use crate::engine::look::{Way, look};
use crate::engine::own::Own;
use crate::engine::prior::Prior;
use crate::engine::{Candidate, Feed};
use crate::exit::Exit;
use crate::failure::Failure;
use crate::render::{self, json};
use crate::settings::reader::suggest;

/// The version of the JSON of drift.
///
/// 1: tables, each with its versions and changes; or, of two layouts, their columns.
const DRIFT_JSON_VERSION: u32 = 1;

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
    pub changes: Vec<Told>,
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
pub struct Told {
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
    /// The version of the layout that came of it.
    pub version: Option<i64>,
    /// How many files had it, one after another.
    pub files: u64,
}

#[derive(Serialize)]
struct DriftDocument<'a> {
    version: u32,
    tables: &'a [History],
}

#[derive(Serialize)]
struct BetweenDocument<'a> {
    version: u32,
    first: &'a str,
    second: &'a str,
    written: Vec<String>,
    columns: &'a [Difference],
}

/// Runs the command.
pub fn run(arguments: &DriftArguments, context: &Context) -> Result<Exit, Failure> {
    if let [first, second] = &arguments.between[..] {
        return side_by_side(arguments, first, second, context);
    }
    let mut store = context.ledger(&arguments.database)?;
    let histories = histories(store.as_mut(), arguments.feed.as_deref())?;
    if context.json {
        json::print(&DriftDocument { version: DRIFT_JSON_VERSION, tables: &histories });
    } else {
        render::print(&render::drift::timeline(&histories, context.screen));
    }
    Ok(Exit::Done)
}

/// The files of a ledger, by their numbers.
fn files_of(store: &mut dyn Store) -> Result<HashMap<i64, FileEntry>, Failure> {
    Ok(store.files(&FileQuery::default())?.into_iter().map(|entry| (entry.file, entry)).collect())
}

/// What changed in the tables of all feeds, or of one.
pub fn histories(store: &mut dyn Store, wanted: Option<&str>) -> Result<Vec<History>, Failure> {
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
    if let Some(wanted) = wanted {
        let all: Vec<String> =
            tables.iter().flat_map(|(table, feed)| [Some(table.clone()), feed.clone()]).flatten().collect();
        tables.retain(|(table, feed)| table == wanted || feed.as_deref() == Some(wanted));
        if tables.is_empty() {
            let names: Vec<&str> = all.iter().map(String::as_str).collect();
            let what = format!("the ledger knows no feed or table `{wanted}`");
            return Err(suggest(Failure::usage(what), wanted, &names));
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
fn told(own: &[&DriftEntry], layouts: &[LayoutEntry], files: &HashMap<i64, FileEntry>) -> Vec<Told> {
    let mut told: Vec<Told> = Vec::new();
    for entry in own {
        let Some(file) = files.get(&entry.file) else { continue };
        let is_same = |known: &&mut Told| {
            known.column == entry.column
                && known.change == entry.change
                && known.action == entry.action
                && known.to == entry.to
        };
        // Only what makes no difference to the table comes again and again.
        let repeats = !matches!(entry.action.as_str(), "added" | "widened" | "held");
        if let Some(known) = told.iter_mut().rev().find(is_same).filter(|_| repeats) {
            known.files += 1;
            continue;
        }
        let alters = matches!(entry.action.as_str(), "added" | "widened");
        let version = layouts.iter().find(|layout| layout.file == entry.file).map(|layout| layout.version);
        told.push(Told {
            at: rfc3339(file.began),
            path: file.arrival.path.clone(),
            column: entry.column.clone(),
            change: entry.change.clone(),
            from: entry.from.clone(),
            to: entry.to.clone(),
            action: entry.action.clone(),
            version: version.filter(|_| alters),
            files: 1,
        });
    }
    told
}

/// Two files, or two versions of a layout.
fn side_by_side(
    arguments: &DriftArguments,
    first: &str,
    second: &str,
    context: &Context,
) -> Result<Exit, Failure> {
    let (one, other, written) = match (&arguments.feed, first.parse::<i64>(), second.parse::<i64>()) {
        (Some(feed), Ok(a), Ok(b)) => {
            let mut store = context.ledger(&arguments.database)?;
            let table = table_of(store.as_mut(), feed)?;
            let layouts = store.layouts(&table)?;
            let version = |wanted: i64| {
                layouts
                    .iter()
                    .find(|entry| entry.version == wanted)
                    .map(|entry| entry.layout.clone())
                    .ok_or_else(|| {
                        let newest = layouts.last().map_or(0, |entry| entry.version);
                        Failure::usage(format!(
                            "`{table}` has no version {wanted} of its layout; the newest is {newest}"
                        ))
                    })
            };
            (version(a)?, version(b)?, Vec::new())
        }
        (None, Ok(_), Ok(_)) if !Path::new(first).exists() => {
            let what = "versions are those of a feed's layout: hypodoke drift FEED --between 1 2";
            return Err(Failure::usage(what));
        }
        _ => {
            let (one, how) = looked(arguments, first, context)?;
            let (other, now) = looked(arguments, second, context)?;
            let written = now.drift_from(&how).iter().map(|drift| drift.words()).collect();
            (one, other, written)
        }
    };
    let columns = between(&one, &other);
    if context.json {
        let version = DRIFT_JSON_VERSION;
        json::print(&BetweenDocument { version, first, second, written, columns: &columns });
    } else {
        render::print(&render::drift::between((first, second), &columns, &written, context.screen));
    }
    Ok(Exit::Done)
}

fn table_of(store: &mut dyn Store, feed: &str) -> Result<String, Failure> {
    let files = store.files(&FileQuery::default())?;
    let found = files
        .into_iter()
        .find(|entry| entry.feed.as_deref() == Some(feed) || entry.table.as_deref() == Some(feed));
    found
        .and_then(|entry| entry.table)
        .ok_or_else(|| Failure::usage(format!("the ledger knows no feed or table `{feed}`")))
}

/// The layout of a file, as a look at all its values finds it, and how it is written.
fn looked(arguments: &DriftArguments, path: &str, context: &Context) -> Result<(Layout, Written), Failure> {
    let mut troubles = Vec::new();
    let found =
        by_hand::candidates(&[PathBuf::from(path)], Known::ByWholePath, &Own::of(None), &mut troubles)?;
    let [file]: [Candidate; 1] = found.try_into().map_err(|found: Vec<Candidate>| {
        Failure::usage(format!("`{path}` holds {} files; name two files", found.len()))
    })?;
    let wishes = arguments.reading.over(Default::default())?;
    let feed = Feed::plain("file".to_owned(), wishes, arguments.reading.rules(&[])?);
    let looked = look(&file, &feed, Way::alone(), &Prior::default(), context.listener().as_ref())?;
    let written = Written::of(&looked.shape, looked.encoding, &looked.heads());
    // The columns of sheets and lists stand with their paths before them.
    let mut layout = Layout::default();
    for table in looked.real_tables() {
        for column in &table.layout.columns {
            let mut column = column.clone();
            if !table.head.path.is_empty() {
                column.source = format!("{}.{}", table.head.path, column.source);
                column.name = format!("{}.{}", table.head.path, column.name);
            }
            layout.columns.push(column);
        }
    }
    Ok((layout, written))
}
