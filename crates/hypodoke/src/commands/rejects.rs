//! `hypodoke rejects`: the rows that could not be loaded, and their way back.

use std::path::Path;

use hypodoke_core::count;
use hypodoke_core::outcome::Outcome;
use hypodoke_core::sanitize::clean;
use hypodoke_engine::maintain::{
    ExportedReject, RejectGroup, export as to_csv, exported, reject_groups, resubmit,
};
use hypodoke_engine::sources::Finder;
use hypodoke_places::private;
use hypodoke_stores::{FileEntry, FileQuery, Ledger, RejectEntry, Tables};
use serde::Serialize;

use super::context::Context;
use super::receipt;
use crate::cli::RejectsArguments;
use crate::exit::Exit;
use crate::failure::Failure;
use crate::render::{self, json};
use crate::settings::Settings;
use crate::settings::reader::suggest;

/// The version of the JSON of rejects.
///
/// 1: batch, rejects.
const REJECTS_JSON_VERSION: u32 = 1;

/// The most rejects of one file that are shown on a terminal.
const MOST_SHOWN: usize = 100;

#[derive(Serialize)]
struct RejectsDocument<'a> {
    version: u32,
    batch: Option<i64>,
    reasons: &'a [RejectGroup],
    rejects: Vec<RejectLine>,
}

#[derive(Serialize)]
struct RejectLine {
    reject: i64,
    path: String,
    line: u64,
    place: Option<String>,
    column: Option<String>,
    value: Option<String>,
    reason: String,
    raw: String,
}

#[derive(Serialize)]
struct TakenDocument {
    version: u32,
    rows_read: u64,
    rows_loaded: u64,
    columns_left_out: Vec<String>,
    refused: Vec<Refused>,
}

#[derive(Serialize)]
struct Refused {
    reject: i64,
    reason: String,
}

/// Files with their rejects.
type Found = Vec<(FileEntry, Vec<RejectEntry>)>;

/// Runs the command.
pub fn run(arguments: &RejectsArguments, context: &Context) -> Result<Exit, Failure> {
    if let Some(path) = &arguments.take {
        let mut store = context.tables(&arguments.database)?;
        return take(store.as_mut(), path, arguments, context);
    }
    let mut store = context.ledger(&arguments.database)?;
    let (title, batch, entries) = chosen(store.as_mut(), arguments.of.as_deref())?;
    let mut found: Found = Vec::new();
    for entry in entries.into_iter().filter(|entry| entry.rejected > 0) {
        let mut rejects = store.rejects(entry.file, usize::MAX >> 1)?;
        rejects.retain(|reject| reject.corrected.is_none());
        found.push((entry, rejects));
    }
    if let Some(path) = &arguments.export {
        return export(found, (path, arguments.for_spreadsheet), &title, context);
    }
    let groups = reject_groups(&found);
    if context.json {
        let line = |(entry, rejects): (FileEntry, Vec<RejectEntry>)| {
            rejects.into_iter().map(move |reject| line_of(&entry, reject)).collect::<Vec<_>>()
        };
        let rejects = found.into_iter().flat_map(line).collect();
        json::print(&RejectsDocument { version: REJECTS_JSON_VERSION, batch, reasons: &groups, rejects })?;
        return Ok(Exit::Done);
    }
    let all: u64 = found.iter().map(|(_, rejects)| rejects.len() as u64).sum();
    if all == 0 {
        render::print(&format!("{title} has no rejects\n"));
        return Ok(Exit::Done);
    }
    let mut text = if arguments.each {
        found.iter_mut().for_each(|(_, rejects)| rejects.truncate(MOST_SHOWN));
        render::ledger::rejects(&found, context.screen)
    } else {
        render::ledger::reasons(&groups, context.screen)
    };
    text.push_str(&format!("\n{title}: {} rejected", count::rows(all)));
    let shown: u64 = found.iter().map(|(_, rejects)| rejects.len() as u64).sum();
    if shown < all {
        text.push_str(&format!(", {} shown; --json gives them all", count::number(shown)));
    }
    if !arguments.each {
        text.push_str("\n  → --each shows every row, --export FILE writes them to be corrected");
    }
    render::print(&(text + "\n"));
    Ok(Exit::Done)
}

/// The files that are meant, the oldest first: those of a batch, or those of a feed or table whose
/// rows are in it.
pub fn chosen(
    store: &mut dyn Ledger,
    of: Option<&str>,
) -> Result<(String, Option<i64>, Vec<FileEntry>), Failure> {
    let number = of.map(|of| of.parse::<i64>().map_err(|_| of));
    if let Some(Err(name)) = number {
        let all = store.files(&FileQuery { outcome: Some(Outcome::Loaded), ..FileQuery::default() })?;
        let is_named =
            |entry: &FileEntry| entry.feed.as_deref() == Some(name) || entry.table.as_deref() == Some(name);
        if !all.iter().any(is_named) {
            let mut names: Vec<&str> = all
                .iter()
                .flat_map(|entry| [entry.feed.as_deref(), entry.table.as_deref()])
                .flatten()
                .collect();
            names.sort_unstable();
            names.dedup();
            let what =
                format!("the ledger knows no batch, feed or table `{name}`; there are {}", names.join(", "));
            return Err(suggest(Failure::usage(what), name, &names));
        }
        let wanted = all.into_iter().filter(|entry| is_named(entry) && entry.replaced_by.is_none()).rev();
        return Ok((format!("`{name}`"), None, wanted.collect()));
    }
    let batches = store.batches(usize::MAX >> 1)?;
    let batch = receipt::pick(&batches, number.and_then(Result::ok))?.batch;
    let files = store.files(&FileQuery { batch: Some(batch), ..FileQuery::default() })?;
    Ok((format!("batch {batch}"), Some(batch), files.into_iter().rev().collect()))
}

fn export(
    found: Found,
    (path, for_spreadsheet): (&Path, bool),
    title: &str,
    context: &Context,
) -> Result<Exit, Failure> {
    let mut all: Vec<ExportedReject> = Vec::new();
    for (entry, rejects) in found {
        all.extend(exported(&entry, rejects)?);
    }
    let text = to_csv(&all, for_spreadsheet)?;
    if path == Path::new("-") {
        let text = String::from_utf8_lossy(&text);
        // A terminal is shown what is safe; a file or a program gets the values as they are.
        let is_shown = std::io::IsTerminal::is_terminal(&std::io::stdout());
        let lines = text.lines().map(|line| clean(line) + "\n");
        render::print(&if is_shown { lines.collect() } else { text.into_owned() });
        return Ok(Exit::Done);
    }
    let made = private().write(true).create_new(true).open(path);
    let written = made.and_then(|mut file| std::io::Write::write_all(&mut file, &text));
    written.map_err(|error| {
        let failure = Failure::usage(format!("{} could not be written: {error}", path.display()));
        if error.kind() == std::io::ErrorKind::AlreadyExists {
            failure
                .advise("it may hold what somebody has corrected: name another file, or take it away first")
        } else {
            failure
        }
    })?;
    let rows = count::rows(all.len() as u64);
    if !context.json {
        let shown = path.display();
        render::print(&format!(
            "{title}: {rows} written to {shown}\n  → correct them, then: hypodoke rejects --take {shown}\n"
        ));
    }
    Ok(Exit::Done)
}

fn take(
    store: &mut dyn Tables,
    path: &Path,
    arguments: &RejectsArguments,
    context: &Context,
) -> Result<Exit, Failure> {
    let settings = if arguments.database.into.is_some() { None } else { context.settings()? };
    let finder = Finder::new(settings.as_ref().map(Settings::job));
    let taken = resubmit(store, path, &|entry| finder.feed_of(entry))?;
    let exit = if taken.refused.is_empty() { Exit::Done } else { Exit::NeedsAttention };
    if context.json {
        let refused = taken.refused.into_iter().map(|(reject, reason)| Refused { reject, reason }).collect();
        json::print(&TakenDocument {
            version: REJECTS_JSON_VERSION,
            rows_read: taken.read,
            rows_loaded: taken.loaded,
            columns_left_out: taken.left_out,
            refused,
        })?;
        return Ok(exit);
    }
    for name in &taken.left_out {
        render::print(&format!("column `{}` is left out: no reject has it\n", clean(name)));
    }
    for (reject, reason) in &taken.refused {
        render::print(&format!("reject {reject} is still rejected: {}\n", clean(reason)));
    }
    let still = match taken.refused.len() as u64 {
        0 => String::new(),
        some => format!(", {} still rejected", count::number(some)),
    };
    render::print(&format!(
        "{} taken: {} loaded{still}\n",
        count::rows(taken.read),
        count::number(taken.loaded)
    ));
    Ok(exit)
}

fn line_of(entry: &FileEntry, reject: RejectEntry) -> RejectLine {
    RejectLine {
        reject: reject.reject,
        path: entry.arrival.path.clone(),
        line: reject.line,
        place: reject.place,
        column: reject.column,
        value: reject.value,
        reason: reject.reason,
        raw: String::from_utf8_lossy(&reject.raw).into_owned(),
    }
}
