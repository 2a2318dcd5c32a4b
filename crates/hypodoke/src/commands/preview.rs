//! `hypodoke preview`: the first rows as they would be stored.

use hypodoke_core::event::Silent;
use serde::Serialize;

use super::Context;
use super::survey::anything;
use crate::cli::{DatabaseArguments, PreviewArguments};
use crate::engine::by_hand::{self, Known};
use crate::engine::ground::Ground;
use crate::engine::own::Own;
use crate::engine::preview::{Preview, preview};
use crate::engine::prior::Prior;
use crate::engine::{Candidate, Feed};
use crate::exit::Exit;
use crate::failure::Failure;
use crate::render::{self, json};

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
    let is_file = arguments.what.is_file();
    let (file, feed) = if is_file {
        let feed = anything(&arguments.reading)?;
        let mut found = by_hand::candidates(
            std::slice::from_ref(&arguments.what),
            Known::ByPathInFolder,
            &Own::of(None),
            &mut Vec::new(),
        )?;
        (found.remove(0), feed)
    } else {
        newest_of_feed(arguments, context)?
    };
    let prior = || if is_file { Prior::default() } else { known_of(&feed, context).unwrap_or_default() };
    let previews = preview(&file, &feed, arguments.rows, prior, &Silent)?;
    if context.json {
        json::print(&document(&file.shown, &previews));
    } else {
        let tables = previews.iter().map(|table| render::preview::text(&file.shown, table, context.screen));
        render::print(&tables.collect::<Vec<_>>().join("\n"));
    }
    Ok(Exit::Done)
}

/// How the feed's columns were written until now. Without a ledger that can be asked the file speaks
/// for itself.
fn known_of(feed: &Feed, context: &Context) -> Option<Prior> {
    let mut store = context.ledger(&DatabaseArguments::default()).ok()?;
    Ground::of(store.as_mut(), feed).ok().map(|ground| Prior::of(&ground))
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
    let listing = place.place.list()?;
    let fitting =
        listing.seen.into_iter().filter_map(|seen| Some((feed.files.matches(&seen.arrival.path)?, seen)));
    let Some((values, seen)) =
        fitting.max_by_key(|(_, seen)| (seen.arrival.modified, seen.arrival.path.clone()))
    else {
        return Err(Failure::load(format!("feed `{name}` has no files: nothing fits {}", feed.files)));
    };
    let parts = feed.files.parts().iter().cloned().zip(values).chain(feed.constants()).collect();
    let candidate = Candidate { parts, ..Candidate::of(seen) };
    Ok((candidate, feed.to_feed(&arguments.reading)?))
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
