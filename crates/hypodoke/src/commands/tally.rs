//! `hypodoke tally`: do the figures of files, tables and ledger agree.

use hypodoke_core::outcome::Outcome;
use hypodoke_engine::maintain::{Agreement, TallyLine, TallyRun};
use hypodoke_engine::sources::Finder;
use hypodoke_stores::{FileEntry, FileQuery, Mode};
use serde::Serialize;

use super::context::Context;
use super::rejects::chosen;
use crate::cli::TallyArguments;
use crate::exit::Exit;
use crate::failure::Failure;
use crate::render::{self, json};
use crate::settings::Settings;
use crate::wording::reasons;

/// The version of the JSON of a tally.
///
/// 1: files, agree.
const TALLY_JSON_VERSION: u32 = 1;

#[derive(Serialize)]
struct TallyDocument<'a> {
    version: u32,
    agree: bool,
    files: &'a [TallyLine],
}

/// Runs the command.
pub fn run(arguments: &TallyArguments, context: &Context) -> Result<Exit, Failure> {
    let mut store = context.tables(&arguments.database)?;
    let settings = if arguments.database.into.is_some() { None } else { context.settings()? };
    let entries: Vec<FileEntry> = match arguments.of.as_deref() {
        Some(of) => chosen(store.ledger(), Some(of))?.2,
        None => {
            let query = FileQuery { outcome: Some(Outcome::Loaded), ..FileQuery::default() };
            store.ledger().files(&query)?.into_iter().rev().collect()
        }
    };
    let is_there = |entry: &FileEntry| entry.outcome.counts() && entry.replaced_by.is_none();
    let feeds = settings.iter().flat_map(|settings| &settings.feeds).collect::<Vec<_>>();
    let mode_of = |entry: &FileEntry| {
        let by_name = feeds.iter().find(|feed| Some(&feed.name) == entry.feed.as_ref());
        let found =
            by_name.or_else(|| feeds.iter().find(|feed| Some(&feed.feed.table) == entry.table.as_ref()));
        found.map_or(Mode::Append, |feed| feed.feed.mode)
    };
    let listener = context.listener();
    let finder = Finder::new(settings.as_ref().map(Settings::job));
    let mut run = TallyRun::new(store.as_mut(), finder, listener.as_ref(), arguments.quick)?;
    let mut lines = Vec::new();
    for entry in entries.iter().filter(|entry| is_there(entry)) {
        let mut line = run.tally(entry, mode_of(entry))?;
        if let Some(why) = reasons::of_file(&line.unread, &line.path) {
            line.remarks.push(format!("the source cannot be read as it was: {why}"));
        }
        lines.push(line);
    }
    let in_tables = run.rows_in_tables()?;
    drop(listener);
    let agree = lines.iter().all(|line| line.verdict != Agreement::Differs);
    if context.json {
        json::print(&TallyDocument { version: TALLY_JSON_VERSION, agree, files: &lines })?;
    } else {
        render::print(&render::tally::text(&lines, in_tables, context.screen));
    }
    Ok(if agree { Exit::Done } else { Exit::Failed })
}
