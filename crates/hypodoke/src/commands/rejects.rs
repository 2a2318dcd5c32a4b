//! `hypodoke rejects`: the rows that could not be loaded.

use hypodoke_stores::{FileEntry, FileQuery, RejectEntry};
use serde::Serialize;

use super::{Context, ledger};
use crate::cli::ReceiptArguments;
use crate::exit::Exit;
use crate::failure::Failure;
use crate::render::{self, count, json};

/// The version of the JSON of rejects.
///
/// 1: batch, rejects.
const REJECTS_JSON_VERSION: u32 = 1;

/// The most rejects of one file that are shown on a terminal.
const MOST_SHOWN: usize = 100;

#[derive(Serialize)]
struct RejectsDocument {
    version: u32,
    batch: i64,
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

/// Runs the command.
pub fn run(arguments: &ReceiptArguments, context: &Context) -> Result<Exit, Failure> {
    let mut store = context.ledger(&arguments.database)?;
    let batches = store.batches(usize::MAX >> 1)?;
    let batch = ledger::pick(&batches, arguments.batch)?.batch;
    let most = if context.json { usize::MAX >> 1 } else { MOST_SHOWN };
    let mut found: Vec<(FileEntry, Vec<RejectEntry>)> = Vec::new();
    for entry in store.files(&FileQuery { batch: Some(batch), ..FileQuery::default() })?.into_iter().rev() {
        if entry.rejected > 0 {
            let rejects = store.rejects(entry.file, most)?;
            found.push((entry, rejects));
        }
    }
    if context.json {
        let line = |(entry, rejects): (FileEntry, Vec<RejectEntry>)| {
            rejects.into_iter().map(move |reject| line_of(&entry, reject)).collect::<Vec<_>>()
        };
        let rejects = found.into_iter().flat_map(line).collect();
        json::print(&RejectsDocument { version: REJECTS_JSON_VERSION, batch, rejects });
        return Ok(Exit::Done);
    }
    let all: u64 = found.iter().map(|(entry, _)| entry.rejected).sum();
    if all == 0 {
        render::print(&format!("batch {batch} has no rejects\n"));
        return Ok(Exit::Done);
    }
    let shown: u64 = found.iter().map(|(_, rejects)| rejects.len() as u64).sum();
    let mut text = render::ledger::rejects(&found, context.screen);
    text.push_str(&format!("\nbatch {batch}: {} rejected", count::rows(all)));
    if shown < all {
        text.push_str(&format!(", {} shown; --json gives them all", count::number(shown)));
    }
    render::print(&(text + "\n"));
    Ok(Exit::Done)
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
