//! `hypodoke drift`: what changed in the files of a feed, and what was done about it.

use std::path::{Path, PathBuf};

use hypodoke_core::drift::{Difference, between};
use hypodoke_core::layout::Layout;
use hypodoke_engine::discover::{NamedAs, named_files};
use hypodoke_engine::file_format::FileFormat;
use hypodoke_engine::inspect::{History, histories};
use hypodoke_engine::job::Candidate;
use hypodoke_engine::profile::{FormatHints, ProfileOptions, profile_file};
use hypodoke_stores::{FileQuery, Ledger};
use serde::Serialize;

use super::context::Context;
use crate::cli::DriftArguments;
use crate::exit::Exit;
use crate::failure::Failure;
use crate::render::{self, json};
use crate::settings::internal_files;
use crate::settings::reader::suggest;

/// The version of the JSON of drift.
///
/// 1: tables, each with its versions and changes; or, of two layouts, their columns.
const DRIFT_JSON_VERSION: u32 = 1;

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
    let histories = histories_of(store.as_mut(), arguments.feed.as_deref())?;
    if context.json {
        json::print(&DriftDocument { version: DRIFT_JSON_VERSION, tables: &histories })?;
    } else {
        render::print(&render::drift::timeline(&histories, context.screen));
    }
    Ok(Exit::Done)
}

/// The histories of all tables, or of those of a feed or table.
fn histories_of(store: &mut dyn Ledger, wanted: Option<&str>) -> Result<Vec<History>, Failure> {
    let all = histories(store)?;
    let Some(wanted) = wanted else { return Ok(all) };
    let is_wanted = |history: &&History| history.table == wanted || history.feed.as_deref() == Some(wanted);
    let found: Vec<History> = all.iter().filter(is_wanted).cloned().collect();
    if found.is_empty() {
        let names: Vec<&str> =
            all.iter().flat_map(|one| [Some(one.table.as_str()), one.feed.as_deref()]).flatten().collect();
        let what = format!("the ledger knows no feed or table `{wanted}`");
        return Err(suggest(Failure::usage(what), wanted, &names));
    }
    Ok(found)
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
            let (one, how) = profiled(arguments, first, context)?;
            let (other, now) = profiled(arguments, second, context)?;
            let written = now.drift_from(&how).iter().map(|drift| drift.words()).collect();
            (one, other, written)
        }
    };
    let columns = between(&one, &other);
    if context.json {
        let version = DRIFT_JSON_VERSION;
        json::print(&BetweenDocument { version, first, second, written, columns: &columns })?;
    } else {
        render::print(&render::drift::between((first, second), &columns, &written, context.screen));
    }
    Ok(Exit::Done)
}

fn table_of(store: &mut dyn Ledger, feed: &str) -> Result<String, Failure> {
    let files = store.files(&FileQuery::default())?;
    let found = files
        .into_iter()
        .find(|entry| entry.feed.as_deref() == Some(feed) || entry.table.as_deref() == Some(feed));
    found
        .and_then(|entry| entry.table)
        .ok_or_else(|| Failure::usage(format!("the ledger knows no feed or table `{feed}`")))
}

/// The layout of a file by all its values, and how it is written.
fn profiled(
    arguments: &DriftArguments,
    path: &str,
    context: &Context,
) -> Result<(Layout, FileFormat), Failure> {
    let internal = internal_files(None, Vec::new());
    let found = named_files(&[PathBuf::from(path)], NamedAs::WholePath, &internal)?.files;
    let [file]: [Candidate; 1] = found.try_into().map_err(|found: Vec<Candidate>| {
        Failure::usage(format!("`{path}` holds {} files; name two files", found.len()))
    })?;
    let feed = arguments.reading.plain_feed("file".to_owned())?;
    let (whole, hints, listener) = (ProfileOptions::whole(), FormatHints::default(), context.listener());
    let profile = profile_file(&file, &feed, whole, &hints, listener.as_ref())?;
    let format = FileFormat::of(&profile.facts, profile.encoding, &profile.heads());
    // The columns of sheets and lists stand with their paths before them.
    let mut layout = Layout::default();
    for table in profile.real_tables() {
        for column in &table.layout.columns {
            let mut column = column.clone();
            if !table.head.path.is_empty() {
                column.source = format!("{}.{}", table.head.path, column.source);
                column.name = format!("{}.{}", table.head.path, column.name);
            }
            layout.columns.push(column);
        }
    }
    Ok((layout, format))
}
