//! `hypodoke preview`: the first rows as they would be stored.

use hypodoke_engine::discover::NamedAs;
use hypodoke_engine::error::EngineError;
use hypodoke_engine::event::Silent;
use hypodoke_engine::inspect::{Preview, preview};
use hypodoke_engine::job::{Candidate, Feed};
use hypodoke_engine::plan::TargetState;
use hypodoke_engine::profile::FormatHints;
use hypodoke_places::Scope;
use serde::Serialize;

use super::context::Context;
use super::named_place::{self, Named};
use crate::cli::{DatabaseArguments, PreviewArguments};
use crate::exit::Exit;
use crate::failure::Failure;
use crate::render::{self, json};
use crate::settings::internal_files;

/// The version of the preview's JSON.
///
/// 1: path, columns, rows, rejects.
/// 2: a list of tables.
const PREVIEW_JSON_VERSION: u32 = 2;

#[derive(Serialize)]
struct Document<'a> {
    version: u32,
    path: &'a str,
    tables: Vec<TableLines<'a>>,
}

#[derive(Serialize)]
struct TableLines<'a> {
    path: &'a str,
    columns: Vec<ColumnLine<'a>>,
    rows: Vec<RowLine<'a>>,
}

#[derive(Serialize)]
struct ColumnLine<'a> {
    name: &'a str,
    #[serde(rename = "type")]
    ty: String,
}

#[derive(Serialize)]
struct RowLine<'a> {
    line: u64,
    values: Option<&'a [Option<String>]>,
    reject: Option<&'a str>,
}

/// Runs the command.
pub fn run(arguments: &PreviewArguments, context: &Context) -> Result<Exit, Failure> {
    let settings = named_place::settings_for(std::slice::from_ref(&arguments.what), context)?;
    let name = arguments.what.to_string_lossy();
    let is_feed =
        settings.as_ref().is_some_and(|settings| settings.feeds.iter().any(|feed| feed.name == name));
    let is_file = arguments.what.is_file();
    let mut named = Named::default();
    let (file, feed) = if !is_feed && (is_file || named_place::names(&arguments.what, settings.as_ref())) {
        let feed = arguments.reading.plain_feed(String::new())?;
        let internal = internal_files(None, Vec::new());
        let paths = std::slice::from_ref(&arguments.what);
        named = named_place::find(paths, NamedAs::PathInFolder, &internal, settings.as_ref())?;
        let newest = |file: &&Candidate| (file.seen.arrival.modified, file.seen.arrival.path.clone());
        let found = named.files.files.iter().max_by_key(newest).cloned();
        let none = || Failure::load(format!("{} holds no files", arguments.what.display()));
        (found.ok_or_else(none)?, feed)
    } else {
        newest_of_feed(arguments, context)?
    };
    let hints =
        || if !is_feed { FormatHints::default() } else { known_of(&feed, context).unwrap_or_default() };
    let previews = preview(&file, &feed, arguments.rows, hints, &Silent)?;
    if context.json {
        json::print(&document(&file.shown, &previews))?;
    } else {
        let tables = previews.iter().map(|table| render::preview::text(&file.shown, table, context.screen));
        render::print(&tables.collect::<Vec<_>>().join("\n"));
    }
    drop(named);
    Ok(Exit::Done)
}

/// How the feed's columns were written until now. Without a ledger that can be asked the file speaks
/// for itself.
fn known_of(feed: &Feed, context: &Context) -> Option<FormatHints> {
    let mut store = context.tables(&DatabaseArguments::default()).ok()?;
    TargetState::of(store.as_mut(), feed).ok().map(|target| target.hints())
}

fn newest_of_feed(arguments: &PreviewArguments, context: &Context) -> Result<(Candidate, Feed), Failure> {
    let name = hypodoke_places::path_text(arguments.what.as_os_str());
    let Some(settings) = context.settings()? else {
        return Err(Failure::load(format!("there is no file `{name}`"))
            .advise("name a file; or a feed, where there is a hypodoke.toml"));
    };
    let feed = settings.feeds_named(std::slice::from_ref(&name))?[0];
    let Some(place) = settings.places.iter().find(|place| place.name == feed.place) else {
        return Err(Failure::usage(format!("there is no place `{}`", feed.place)));
    };
    let listing = place.place.list(Scope::Usual).map_err(EngineError::from)?;
    let mut source = feed.source();
    let fitting =
        listing.seen.into_iter().filter_map(|seen| Some((source.parts_of(&seen.arrival.path)?, seen)));
    let Some((parts, seen)) =
        fitting.max_by_key(|(_, seen)| (seen.arrival.modified, seen.arrival.path.clone()))
    else {
        return Err(Failure::load(format!("feed `{name}` has no files: nothing fits {}", feed.files)));
    };
    arguments.reading.over_feed(&mut source.feed)?;
    Ok((Candidate { parts, ..Candidate::of(seen) }, source.feed))
}

fn document<'a>(path: &'a str, previews: &'a [Preview]) -> Document<'a> {
    Document { version: PREVIEW_JSON_VERSION, path, tables: previews.iter().map(table).collect() }
}

fn table(preview: &Preview) -> TableLines<'_> {
    let columns = preview.columns.iter().map(|(name, ty)| ColumnLine { name, ty: ty.to_string() }).collect();
    let rows = preview.rows.iter().map(|row| match &row.values {
        Ok(values) => RowLine { line: row.line, values: Some(values), reject: None },
        Err(reason) => RowLine { line: row.line, values: None, reject: Some(reason) },
    });
    TableLines { path: &preview.path, columns, rows: rows.collect() }
}
