//! `hypodoke ledger`: which files, when, with what result.

use std::collections::HashSet;

use hypodoke_core::outcome::{Outcome, Reason, has_code};
use hypodoke_engine::clock::rfc3339;
use hypodoke_engine::inspect::last_of_each;
use hypodoke_stores::{FileEntry, FileQuery, Ledger};
use jiff::Timestamp;
use serde::Serialize;

use super::context::Context;
use crate::cli::{LedgerArguments, Status};
use crate::exit::Exit;
use crate::failure::Failure;
use crate::render::ledger::Morning;
use crate::render::{self, json};
use crate::schedule::{self, Lateness};
use crate::settings::Settings;
use crate::settings::reason_code::check_reason_code;
use crate::window;
use crate::wording::reasons;

/// The version of the ledger's JSON.
///
/// 1: database, files, late, held_before, wants_a_person. Fields may be added without a new version.
const LEDGER_JSON_VERSION: u32 = 1;

#[derive(Serialize)]
struct LedgerDocument {
    version: u32,
    database: String,
    files: Vec<FileLine>,
    late: Vec<LateLine>,
    /// Files held before the time that was asked for, and still.
    held_before: u64,
    wants_a_person: bool,
}

/// A feed whose files are due and have not come.
#[derive(Serialize)]
struct LateLine {
    feed: String,
    due_at: String,
}

/// An entry of the ledger as JSON.
#[derive(Serialize)]
struct FileLine {
    file: i64,
    batch: i64,
    place: String,
    path: String,
    bytes: u64,
    modified_at: String,
    content_hash: Option<String>,
    feed: Option<String>,
    table: Option<String>,
    kind: Option<String>,
    outcome: Outcome,
    rows_read: u64,
    rows_loaded: u64,
    rows_rejected: u64,
    rows_left_out: u64,
    began_at: String,
    ended_at: String,
    message: Option<String>,
    reasons: Vec<Reason>,
    replaced_by: Option<i64>,
}

impl From<FileEntry> for FileLine {
    fn from(entry: FileEntry) -> FileLine {
        FileLine {
            message: reasons::of_entry(&entry),
            file: entry.file,
            batch: entry.batch,
            place: entry.arrival.place,
            path: entry.arrival.path,
            bytes: entry.arrival.bytes,
            modified_at: rfc3339(entry.arrival.modified),
            content_hash: entry.hash,
            feed: entry.feed,
            table: entry.table,
            kind: entry.kind,
            outcome: entry.outcome,
            rows_read: entry.read,
            rows_loaded: entry.loaded,
            rows_rejected: entry.rejected,
            rows_left_out: entry.left_out,
            began_at: rfc3339(entry.began),
            ended_at: rfc3339(entry.ended),
            reasons: entry.reasons,
            replaced_by: entry.replaced_by,
        }
    }
}

/// How many entries are shown where nobody asks for any in particular.
const USUAL: usize = 50;

/// Lists the entries.
pub fn list(arguments: &LedgerArguments, context: &Context) -> Result<Exit, Failure> {
    let settings = if arguments.database.into.is_some() { None } else { context.settings()? };
    if let (Some(feed), Some(settings)) = (&arguments.feed, &settings) {
        settings.feeds_named(std::slice::from_ref(feed))?;
    }
    if let Some(code) = &arguments.reason {
        check_reason_code(code, Failure::usage)?;
    }
    let now = Timestamp::now();
    let since = match (&arguments.since, arguments.today) {
        (Some(text), _) => Some(window::moment_since("since", text, now.as_microsecond())?),
        (None, true) => Some(window::midnight(now)),
        (None, false) => None,
    };
    let is_narrow = since.is_some()
        || arguments.feed.is_some()
        || arguments.status.is_some()
        || arguments.reason.is_some();
    let mut store = context.ledger(&arguments.database)?;
    let late = late_feeds(store.as_mut(), arguments, settings.as_ref(), now)?;
    let query = FileQuery {
        feed: arguments.feed.clone(),
        since,
        most: if is_narrow { None } else { Some(arguments.most.unwrap_or(USUAL)) },
        ..FileQuery::default()
    };
    let mut files = if arguments.late { Vec::new() } else { store.files(&query)? };
    let morning = morning(store.as_mut(), &files, late, &query)?;
    let last: HashSet<i64> = last_of_each(&files).iter().map(|entry| entry.file).collect();
    if let Some(status) = arguments.status {
        files.retain(|entry| is_of(entry, status, &last));
    }
    if let Some(code) = &arguments.reason {
        files.retain(|entry| has_code(&entry.reasons, code));
    }
    files.truncate(arguments.most.unwrap_or(usize::MAX));
    let answers = arguments.late || since.is_some();
    if context.json {
        let late = |late: &Lateness| LateLine { feed: late.feed().to_owned(), due_at: late.due_at() };
        json::print(&LedgerDocument {
            version: LEDGER_JSON_VERSION,
            database: store.ledger_shown(),
            files: files.into_iter().map(FileLine::from).collect(),
            late: morning.late.iter().map(late).collect(),
            held_before: morning.held_before,
            wants_a_person: exit_of(&morning) != Exit::Done,
        })?;
    } else {
        render::print(&render::ledger::files(&files, &last, &morning, arguments.late, context.screen));
    }
    Ok(if answers { exit_of(&morning) } else { Exit::Done })
}

/// What of the entries that a query gave, the newest first, needs attention.
fn morning(
    store: &mut dyn Ledger,
    files: &[FileEntry],
    late: Vec<Lateness>,
    query: &FileQuery,
) -> Result<Morning, Failure> {
    let last = last_of_each(files);
    let count = |outcome| last.iter().filter(|entry| entry.outcome == outcome).count() as u64;
    let (held, failed) = (count(Outcome::Held), count(Outcome::Failed));
    let held_before = match query.since {
        Some(since) => {
            let all = store.loaded_files()?;
            let is_asked = |entry: &FileEntry| query.feed.is_none() || entry.feed == query.feed;
            let newest: Vec<FileEntry> = all.into_iter().rev().filter(is_asked).collect();
            let is_old = |entry: &&&FileEntry| entry.outcome == Outcome::Held && entry.ended < since;
            last_of_each(&newest).iter().filter(is_old).count() as u64
        }
        None => 0,
    };
    Ok(Morning { held, failed, held_before, late })
}

/// How the process ends by it.
fn exit_of(morning: &Morning) -> Exit {
    match morning {
        Morning { failed: 1.., .. } => Exit::Failed,
        Morning { held: 0, held_before: 0, late, .. } if late.is_empty() => Exit::Done,
        _ => Exit::NeedsAttention,
    }
}

fn late_feeds(
    store: &mut dyn Ledger,
    arguments: &LedgerArguments,
    settings: Option<&Settings>,
    now: Timestamp,
) -> Result<Vec<Lateness>, Failure> {
    let Some(settings) = settings else {
        if arguments.late {
            let what = "which files are due is in the configuration, and there is none here";
            return Err(Failure::usage(what).advise("name it with --config"));
        }
        return Ok(Vec::new());
    };
    let is_wanted = |name: &str| arguments.feed.as_deref().is_none_or(|feed| feed == name);
    let mut all = schedule::late_feeds(store, settings.schedules(), now)?;
    all.retain(|late| is_wanted(late.feed()));
    Ok(all)
}

/// Whether that came of a file. Only what is so still is held, or has failed.
fn is_of(entry: &FileEntry, status: Status, last: &HashSet<i64>) -> bool {
    let is = |outcome| entry.outcome == outcome && entry.replaced_by.is_none();
    match status {
        Status::Loaded => entry.outcome.counts() && entry.replaced_by.is_none(),
        Status::Failed => is(Outcome::Failed) && last.contains(&entry.file),
        Status::Held => is(Outcome::Held) && last.contains(&entry.file),
        Status::Same => is(Outcome::Same),
        Status::Discarded => is(Outcome::Discarded),
        Status::Retracted => is(Outcome::Retracted),
        Status::Replaced => entry.replaced_by.is_some(),
        Status::Rejects => entry.rejected > 0,
    }
}
