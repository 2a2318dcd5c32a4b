//! `hypodoke replay` and `hypodoke retract`: load files again, or take their rows out again.

use hypodoke_core::count;
use hypodoke_core::outcome::Outcome;
use hypodoke_core::sanitize::clean;
use hypodoke_engine::batch::LoadContext;
use hypodoke_engine::batch::{NotTaken, run_batch};
use hypodoke_engine::clock;
use hypodoke_engine::error::EngineError;
use hypodoke_engine::event::Silent;
use hypodoke_engine::job::{Feed, FeedFiles};
use hypodoke_engine::maintain::{check_retractable, retract as take_out};
use hypodoke_engine::sources::{Finder, keep_rows, plan_replay};
use hypodoke_stores::{Counts, FileEntry, FileQuery, Finished, Restore, StoreError, Tables};
use serde::Serialize;

use super::context::{Context, asked};
use crate::cli::{ReplayArguments, RetractArguments};
use crate::exit::{self, Exit};
use crate::failure::Failure;
use crate::render::{self, json, receipt, receipt_json};
use crate::settings::Settings;
use crate::window::window;

/// The version of the JSON of what was taken out.
///
/// 1: files, rows. 2: restored, touched. 3: left_keys.
const RETRACT_JSON_VERSION: u32 = 3;

#[derive(Serialize)]
struct RetractDocument {
    version: u32,
    rows: u64,
    files: Vec<RetractLine>,
}

#[derive(Serialize)]
struct RetractLine {
    path: String,
    table: String,
    rows: u64,
    /// Rows of other files that are back in the table.
    restored: u64,
    /// Keys that somebody else has changed, left as they are.
    touched: u64,
    /// The first of these keys.
    left_keys: Vec<String>,
}

/// The files of the ledger that are meant, the oldest first: by batch, feed, table, or the end of
/// their paths.
fn meant(store: &mut dyn Tables, what: &[String], outcomes: &[Outcome]) -> Result<Vec<FileEntry>, Failure> {
    let mut newest: Vec<FileEntry> = store.ledger().files(&FileQuery::default())?;
    newest.retain(|entry| outcomes.contains(&entry.outcome) && entry.replaced_by.is_none());
    newest.reverse();
    let mut chosen: Vec<FileEntry> = Vec::new();
    for word in what {
        let batch = word.parse::<i64>().ok();
        let is_meant = |entry: &FileEntry| {
            Some(entry.batch) == batch
                || entry.feed.as_deref() == Some(word)
                || entry.table.as_deref() == Some(word)
                || entry.arrival.path == *word
                || entry.arrival.path.ends_with(&format!("/{word}"))
        };
        let found: Vec<&FileEntry> = newest.iter().filter(|entry| is_meant(entry)).collect();
        if found.is_empty() {
            let what = format!("the ledger knows no loaded file, batch, feed or table `{}`", clean(word));
            return Err(Failure::usage(what).advise("hypodoke ledger lists what there is"));
        }
        for entry in found {
            if !chosen.iter().any(|known| known.file == entry.file) {
                chosen.push(entry.clone());
            }
        }
    }
    Ok(chosen)
}

/// The files of the ledger that a replay is about, the oldest first.
fn entries(store: &mut dyn Tables, arguments: &ReplayArguments) -> Result<Vec<FileEntry>, Failure> {
    if !arguments.what.is_empty() {
        return meant(
            store,
            &arguments.what,
            &[Outcome::Loaded, Outcome::Superseded, Outcome::Retracted, Outcome::Discarded],
        );
    }
    let loaded = FileQuery { outcome: Some(Outcome::Loaded), ..FileQuery::default() };
    let mut all = store.ledger().files(&loaded)?;
    all.retain(|entry| entry.replaced_by.is_none());
    all.reverse();
    Ok(all)
}

/// Runs `replay`.
pub fn replay(arguments: &ReplayArguments, context: &Context) -> Result<Exit, Failure> {
    let window = window(arguments.modified.as_deref(), arguments.since.as_deref(), clock::now())?;
    if arguments.what.is_empty() && !window.is_limited() {
        return Err(Failure::usage("say what to load again").advise(
            "files, a batch or a feed; or a window, --modified 2026-03-02..2026-03-04 or --since 3d",
        ));
    }
    let mut store = context.tables(&arguments.database)?;
    let settings = if arguments.database.into.is_some() { None } else { context.settings()? };
    let entries = entries(store.as_mut(), arguments)?;
    let mut finder = Finder::new(settings.as_ref().map(Settings::job));
    let replay = plan_replay(&mut finder, &entries, window)?;
    for path in replay.gone.iter().filter(|_| !arguments.what.is_empty()) {
        context.remark(&format!("{}: it is not there any more, and stays as it was loaded", clean(path)));
    }
    if replay.files() == 0 {
        return Err(Failure::load("none of these files is there to be loaded again"));
    }
    if !arguments.yes && !asked(&question(&replay.feeds))? {
        return Err(Failure::usage("nothing was loaded").advise("--yes does it without asking"));
    }
    let listener = context.listener();
    let job = settings.as_ref().map(Settings::job);
    let sources = || Finder::new(job.clone());
    let restore = if arguments.overwrite { Restore::Everything } else { Restore::Missing };
    let load = LoadContext { sources: Some(&sources), restore, ..LoadContext::single(listener.as_ref()) };
    let ended = run_batch(store.as_mut(), load, &replay.feeds, NotTaken::default())?;
    drop(listener);
    if context.json {
        json::print(&receipt_json::document(&ended.receipt))?;
    } else {
        render::print(&receipt::text(&ended.receipt, context.detail(), context.screen));
    }
    match ended.broken_off {
        Some(error) => Err(error.into()),
        None => Ok(exit::of_receipt(&ended.receipt)),
    }
}

/// What is asked before files are loaded again.
fn question(feeds: &[FeedFiles]) -> String {
    let of_feed = |files: &FeedFiles| {
        let table = files.feed.table.clone();
        let line = |shown: &str| format!("  {} → {table}", clean(shown));
        files.files.iter().map(|file| line(&file.shown)).collect::<Vec<_>>()
    };
    let list: Vec<String> = feeds.iter().flat_map(of_feed).collect();
    let files = count::files(list.len() as u64);
    format!("{}\n{files} loaded again, in the place of the rows there are. Go on? [y/N] ", shortened(&list))
}

fn shortened(list: &[String]) -> String {
    const MOST: usize = 12;
    let mut text = list.iter().take(MOST).cloned().collect::<Vec<_>>().join("\n");
    if list.len() > MOST {
        text.push_str(&format!("\n  and {} more", count::number((list.len() - MOST) as u64)));
    }
    text
}

/// Runs `retract`.
pub fn retract(arguments: &RetractArguments, context: &Context) -> Result<Exit, Failure> {
    let mut store = context.tables(&arguments.database)?;
    let settings = if arguments.database.into.is_some() { None } else { context.settings()? };
    let entries = meant(store.as_mut(), &arguments.what, &[Outcome::Loaded, Outcome::Superseded])?;
    let mut list: Vec<String> = Vec::new();
    for entry in &entries {
        let feed = feed_of(entry, settings.as_ref());
        check_retractable(store.as_mut(), &feed, entry)?;
        let rows = count::rows(entry.loaded);
        list.push(format!(
            "  {} from {}: {rows}",
            crate::render::paths::shown(&entry.arrival.path),
            feed.table
        ));
    }
    let question = format!("{}\nTake their rows out? [y/N] ", shortened(&list));
    if !arguments.yes && !asked(&question)? {
        return Err(Failure::usage("nothing was taken out").advise("--yes does it without asking"));
    }
    let number = store.ledger().begin_batch(clock::now())?;
    let mut lines = Vec::new();
    for entry in &entries {
        let feed = feed_of(entry, settings.as_ref());
        let mut taken = take_out(store.as_mut(), &feed, entry, number, arguments.why.clone());
        if matches!(&taken, Err(EngineError::Store(error)) if matches!(**error, StoreError::NotKept { .. })) {
            // From their sources, where they are still there.
            let mut finder = Finder::new(settings.as_ref().map(Settings::job));
            keep_rows(store.as_mut(), &mut finder, &feed.table, &Silent)?;
            taken = take_out(store.as_mut(), &feed, entry, number, arguments.why.clone());
        }
        let Finished { counts, left_keys, .. } = taken?;
        let Counts { deleted: rows, restored, touched, .. } = counts;
        let path = entry.arrival.path.clone();
        lines.push(RetractLine { path, table: feed.table, rows, restored, touched, left_keys });
    }
    store.ledger().end_batch(number, clock::now())?;
    let rows = lines.iter().map(|line| line.rows).sum();
    if context.json {
        json::print(&RetractDocument { version: RETRACT_JSON_VERSION, rows, files: lines })?;
        return Ok(Exit::Done);
    }
    for line in &lines {
        let mut text =
            format!("{}: {} taken out of {}", clean(&line.path), count::rows(line.rows), line.table);
        if line.restored > 0 {
            text.push_str(&format!(", {} of other files back in it", count::rows(line.restored)));
        }
        if line.touched > 0 {
            let keys = count::of(line.touched, "key", "keys");
            text.push_str(&format!("; {keys} changed by somebody else since, and left as they are"));
        }
        render::print(&(text + "\n"));
        for key in &line.left_keys {
            render::print(&format!("  left as it is: {}\n", clean(key)));
        }
    }
    let files = count::files(lines.len() as u64);
    render::print(&format!(
        "{files}, {}; they stay out until `hypodoke replay` loads them again\n",
        count::rows(rows)
    ));
    Ok(Exit::Done)
}

/// The feed of a file of the ledger, as far as this needs one.
fn feed_of(entry: &FileEntry, settings: Option<&Settings>) -> Feed {
    let named = settings.and_then(|settings| {
        settings.feeds.iter().find(|feed| Some(feed.name.as_str()) == entry.feed.as_deref())
    });
    match named {
        // Its table may be named by parts of the path.
        Some(settings) => settings.feed.clone().into_table(entry.table.as_deref().unwrap_or_default()),
        None => Feed::recorded(entry),
    }
}
