//! `hypodoke replay` and `hypodoke retract`: load files again, or take their rows out again.

use hypodoke_core::event::Outcome;
use hypodoke_stores::{FileEntry, FileQuery, FileSummary, LoadPlan, Mode, Store, TablePlan};
use serde::Serialize;

use super::{Context, asked};
use crate::cli::{LoadArguments, ReplayArguments, RetractArguments};
use crate::engine::find::Finder;
use crate::engine::ground::Ground;
use crate::engine::means::Means;
use crate::engine::order::same_delivery;
use crate::engine::task::Task;
use crate::engine::window::Window;
use crate::engine::{Candidate, Delivery, Feed, batch, clock};
use crate::exit::Exit;
use crate::failure::{Failure, clean};
use crate::render::{self, count, json, receipt};
use crate::settings::Settings;

/// The version of the JSON of what was taken out.
///
/// 1: files, rows.
const RETRACT_JSON_VERSION: u32 = 1;

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
}

/// The files of the ledger that are meant, the oldest first: by batch, feed, table, or the end of
/// their paths.
fn meant(store: &mut dyn Store, what: &[String], outcomes: &[Outcome]) -> Result<Vec<FileEntry>, Failure> {
    let mut newest: Vec<FileEntry> = store.files(&FileQuery::default())?;
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

/// Runs `replay`.
pub fn replay(arguments: &ReplayArguments, context: &Context) -> Result<Exit, Failure> {
    let window = Window::of(arguments.modified.as_deref(), arguments.since.as_deref(), clock::now())?;
    if arguments.what.is_empty() && !window.is_any() {
        return Err(Failure::usage("say what to load again").advise(
            "files, a batch or a feed; or a window, --modified 2026-03-02..2026-03-04 or --since 3d",
        ));
    }
    let mut store = context.ledger(&arguments.database)?;
    let settings = if arguments.database.into.is_some() { None } else { context.settings()? };
    let entries = if arguments.what.is_empty() {
        let loaded = FileQuery { outcome: Some(Outcome::Loaded), ..FileQuery::default() };
        let mut all = store.files(&loaded)?;
        all.retain(|entry| entry.replaced_by.is_none());
        all.reverse();
        all
    } else {
        let settled = [Outcome::Loaded, Outcome::Retracted, Outcome::Discarded];
        meant(store.as_mut(), &arguments.what, &settled)?
    };
    let mut finder = Finder::new(settings.clone());
    let (mut deliveries, mut gone): (Vec<Delivery>, Vec<String>) = (Vec::new(), Vec::new());
    for entry in &entries {
        let Some((feed, file)) = finder.find(entry)? else {
            gone.push(entry.arrival.path.clone());
            continue;
        };
        let is_there = |delivery: &Delivery| {
            delivery.feed.table == feed.table && delivery.files.iter().any(|known| known.seen == file.seen)
        };
        if !window.holds(&file) || deliveries.iter().any(is_there) {
            continue;
        }
        if feed.mode == Mode::Replace {
            holds_it_still(store.as_mut(), &mut finder, &feed, &file)?;
        }
        match deliveries.iter_mut().find(|delivery| delivery.feed.table == feed.table) {
            Some(delivery) => delivery.files.push(file),
            None => deliveries.push(Delivery { feed, files: vec![file], again: true }),
        }
    }
    for path in gone.iter().filter(|_| !arguments.what.is_empty()) {
        context.remark(&format!("{}: it is not there any more, and stays as it was loaded", clean(path)));
    }
    let files: u64 = deliveries.iter().map(|delivery| delivery.files.len() as u64).sum();
    if files == 0 {
        return Err(Failure::load("none of these files is there to be loaded again"));
    }
    let list: Vec<String> = deliveries
        .iter()
        .flat_map(|delivery| {
            delivery.files.iter().map(|file| format!("  {} → {}", clean(&file.shown), delivery.feed.table))
        })
        .collect();
    let question = format!(
        "{}\n{} loaded again, in the place of the rows there are. Go on? [y/N] ",
        shortened(&list),
        count::files(files)
    );
    if !arguments.yes && !asked(&question)? {
        return Err(Failure::usage("nothing was loaded").advise("--yes does it without asking"));
    }
    let listener = context.listener();
    let ended = batch::run(store.as_mut(), &Means::alone(listener.as_ref()), &deliveries, Vec::new())?;
    drop(listener);
    if context.json {
        json::print(&ended.receipt);
    } else {
        render::print(&receipt::text(&ended.receipt, context.screen));
    }
    ended.broken_off.map_or(Ok(ended.receipt.exit()), Err)
}

/// A table that holds one delivery at a time takes no file of an earlier one in beside it.
fn holds_it_still(
    store: &mut dyn Store,
    finder: &mut Finder,
    feed: &Feed,
    file: &Candidate,
) -> Result<(), Failure> {
    let (table, outcome) = (Some(feed.table.clone()), Some(Outcome::Loaded));
    let query = FileQuery { table, outcome, most: Some(1), ..FileQuery::default() };
    let Some(newest) = store.files(&query)?.into_iter().next() else { return Ok(()) };
    let is_it =
        newest.arrival.path == file.seen.arrival.path && newest.arrival.place == file.seen.arrival.place;
    let is_of_it = match finder.find(&newest)? {
        Some((_, other)) => same_delivery(feed, file, &other),
        None => false,
    };
    if is_it || is_of_it {
        return Ok(());
    }
    let what = format!(
        "{}: `{}` holds a newer delivery, that of {}",
        clean(&file.shown),
        feed.table,
        clean(&newest.arrival.path)
    );
    Err(Failure::usage(what).advise("nothing was loaded; `hypodoke retract` takes the newer one out first"))
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
    let mut store = context.ledger(&arguments.database)?;
    let settings = if arguments.database.into.is_some() { None } else { context.settings()? };
    let entries = meant(store.as_mut(), &arguments.what, &[Outcome::Loaded])?;
    let (mut list, mut warnings): (Vec<String>, Vec<String>) = (Vec::new(), Vec::new());
    for entry in &entries {
        let feed = feed_of(entry, settings.as_ref());
        let ground = Ground::of(store.as_mut(), &feed)?;
        if !ground.main.lineage(false).is_kept() && ground.parts.is_empty() {
            let what = format!(
                "`{}` has no lineage columns to find the rows of {} by",
                feed.table,
                clean(&entry.arrival.path)
            );
            return Err(Failure::load(what).advise("nothing was touched; take them out by hand"));
        }
        let warning = match feed.mode {
            Mode::Upsert => "rows that took the place of others go, and the others do not come back",
            Mode::Replace => "the table holds this delivery only, and will be empty of it",
            _ => "",
        };
        if !warning.is_empty() && !warnings.iter().any(|known| known.ends_with(warning)) {
            warnings.push(format!("mode `{}` of `{}`: {warning}", feed.mode.word(), feed.table));
        }
        let rows = count::rows(entry.loaded);
        list.push(format!("  {} from {}: {rows}", clean(&entry.arrival.path), feed.table));
    }
    let notes: String = warnings.iter().map(|warning| format!("{warning}\n")).collect();
    let question = format!("{}\n{notes}Take their rows out? [y/N] ", shortened(&list));
    if !arguments.yes && !asked(&question)? {
        return Err(Failure::usage("nothing was taken out").advise("--yes does it without asking"));
    }
    let number = store.begin_batch(clock::now())?;
    let mut lines = Vec::new();
    for entry in &entries {
        let feed = feed_of(entry, settings.as_ref());
        let rows = take_out(store.as_mut(), &feed, entry, number, arguments.why.clone())?;
        lines.push(RetractLine { path: entry.arrival.path.clone(), table: feed.table, rows });
    }
    store.end_batch(number, clock::now())?;
    let rows = lines.iter().map(|line| line.rows).sum();
    if context.json {
        json::print(&RetractDocument { version: RETRACT_JSON_VERSION, rows, files: lines });
        return Ok(Exit::Done);
    }
    for line in &lines {
        render::print(&format!(
            "{}: {} taken out of {}\n",
            clean(&line.path),
            count::rows(line.rows),
            line.table
        ));
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
        Some(settings) => settings.feed.clone(),
        None => Feed { table: entry.table.clone().unwrap_or_default(), ..Feed::default() },
    }
}

/// Takes the rows of one file out, in one transaction with its new entry; gives how many.
fn take_out(
    store: &mut dyn Store,
    feed: &Feed,
    entry: &FileEntry,
    number: i64,
    why: Option<String>,
) -> Result<u64, Failure> {
    let ground = Ground::of(store, feed)?;
    let is_virtual = store.table(&feed.table)?.is_none();
    let table = TablePlan {
        table: feed.table.clone(),
        path: String::new(),
        layout: ground.main.layout().cloned().unwrap_or_default(),
        changes: Vec::new(),
        drift: Vec::new(),
        lineage: ground.main.lineage(false),
        keeps_layout: false,
        is_virtual,
        mode: feed.mode,
        key: Vec::new(),
        of_file: Vec::new(),
    };
    let plan = LoadPlan {
        batch: number,
        arrival: entry.arrival.clone(),
        feed: entry.feed.clone(),
        tables: vec![table],
        replaces: Some(entry.file),
        kind: entry.kind.clone().unwrap_or_default(),
        began: clock::now(),
        first_of_delivery: false,
        sql_before: Vec::new(),
        sql_after: Vec::new(),
        careful: false,
        shape: entry.shape.clone(),
        mends: None,
        retracts: true,
    };
    let gone = || Failure::load(format!("{}: somebody else loads it just now", clean(&entry.arrival.path)));
    let loader = store.begin_load(&plan)?.ok_or_else(gone)?;
    let summary = FileSummary {
        hash: entry.hash.clone().unwrap_or_default(),
        message: Some(why.unwrap_or_else(|| "its rows were taken out".to_owned())),
        ended: clock::now(),
        ..FileSummary::default()
    };
    Ok(loader.finish(&summary)?.counts.deleted)
}

/// What a load takes in, without what lies outside a window.
pub fn within(task: &mut Task, arguments: &LoadArguments) -> Result<(), Failure> {
    let window = Window::of(arguments.modified.as_deref(), arguments.since.as_deref(), clock::now())?;
    for delivery in &mut task.deliveries {
        delivery.files.retain(|file| window.holds(file));
    }
    Ok(())
}
