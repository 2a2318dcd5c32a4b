//! `hypodoke settle`: decide about a file that is held.

use std::path::Path;

use hypodoke_core::event::{Outcome, Silent};
use hypodoke_stores::{DecisionEntry, FileEntry, Store};
use serde::Serialize;

use super::Context;
use crate::cli::SettleArguments;
use crate::engine::decision::Decision;
use crate::engine::file::{FileLoad, Trouble};
use crate::engine::find::Finder;
use crate::engine::ground::Ground;
use crate::engine::receipt::ReceiptLine;
use crate::engine::trial::Trial;
use crate::engine::{Candidate, Feed, clock, lines};
use crate::exit::Exit;
use crate::failure::{Failure, clean};
use crate::render::{self, json};
use crate::settings::Settings;
use crate::settings::lasting::{self, Lasting};

/// The version of the JSON of settling.
///
/// 1: held; or file, decision, effect, decided, lasting.
const SETTLE_JSON_VERSION: u32 = 1;

#[derive(Serialize)]
struct HeldDocument {
    version: u32,
    held: Vec<HeldLine>,
}

/// A file that is held.
#[derive(Clone, Debug, Serialize)]
pub struct HeldLine {
    /// Its path.
    pub path: String,
    /// Its feed.
    pub feed: Option<String>,
    /// Its table.
    pub table: Option<String>,
    /// The batch that met it first.
    pub batch: i64,
    /// Why, a line each.
    pub why: Vec<String>,
}

#[derive(Serialize)]
struct SettleDocument<'a> {
    version: u32,
    path: &'a str,
    decision: &'a Decision,
    effect: Option<&'a ReceiptLine>,
    decided: bool,
    lasting: Option<&'a str>,
}

/// Runs the command.
pub fn run(arguments: &SettleArguments, context: &Context) -> Result<Exit, Failure> {
    let mut store = context.ledger(&arguments.database)?;
    let held = held(store.as_mut())?;
    let Some(wanted) = &arguments.file else { return list(&held, context) };
    let entry = pick(&held, wanted)?;
    let decision = decision(arguments)?;
    if decision.is_empty() {
        list(std::slice::from_ref(entry), context)?;
        let what = format!("nothing is decided about {}", clean(&entry.arrival.path));
        return Err(Failure::usage(what).advise(
            "say what with --rename, --add-column, --ignore-column, --as-text, --load-anyway or --discard",
        ));
    }
    if decision.discard {
        return discard(store.as_mut(), entry, &decision, arguments, context);
    }
    let settings = if arguments.database.into.is_some() { None } else { context.settings()? };
    let settled = settle(store.as_mut(), settings, context.config.as_deref(), entry, decision, arguments)?;
    if context.json {
        json::print(&SettleDocument {
            version: SETTLE_JSON_VERSION,
            path: &entry.arrival.path,
            decision: &settled.decision,
            effect: Some(&settled.effect),
            decided: settled.decided,
            lasting: settled.diff.as_deref(),
        });
    } else {
        render::print(&render::settle::settled(&settled, context.screen));
    }
    Ok(Exit::Done)
}

/// A decision with its effect.
pub struct Settled {
    /// The decision.
    pub decision: Decision,
    /// What the next load would do.
    pub effect: ReceiptLine,
    /// Whether it was written down.
    pub decided: bool,
    /// The lasting part of it, as a change of the configuration.
    pub diff: Option<String>,
    /// Whether that was made.
    pub written: bool,
    /// Whether the file came by a feed of the configuration.
    pub has_feed: bool,
}

/// The file that is held under this path, settled as the arguments say.
pub fn by_arguments(
    store: &mut dyn Store,
    settings: Settings,
    config: &Path,
    arguments: &SettleArguments,
) -> Result<Settled, Failure> {
    let held = held(store)?;
    let entry = pick(&held, arguments.file.as_deref().unwrap_or_default())?;
    settle(store, Some(settings), Some(config), entry, decision(arguments)?, arguments)
}

fn settle(
    store: &mut dyn Store,
    settings: Option<Settings>,
    config: Option<&Path>,
    entry: &FileEntry,
    decision: Decision,
    arguments: &SettleArguments,
) -> Result<Settled, Failure> {
    let (feed, file) = as_it_was(entry, Finder::new(settings).find(entry)?)?;
    let effect = effect(store, &feed, &file, &decision)?;
    let rules = lasting::of(&decision, &feed, Ground::of(store, &feed)?.main.layout());
    let proposal = match (&feed.name, rules.is_empty()) {
        (Some(name), false) => Some(Lasting::propose(config, name, &rules)?),
        _ => None,
    };
    if !arguments.dry_run {
        note(store, entry, &decision, arguments.why.clone())?;
        if let Some(proposal) = proposal.as_ref().filter(|_| arguments.write) {
            proposal.write()?;
        }
    }
    Ok(Settled {
        decision,
        effect,
        decided: !arguments.dry_run,
        diff: proposal.as_ref().map(Lasting::diff),
        written: arguments.write,
        has_feed: feed.name.is_some(),
    })
}

/// The files that are held now, the oldest first.
pub fn held(store: &mut dyn Store) -> Result<Vec<FileEntry>, Failure> {
    let mut newest: Vec<FileEntry> = Vec::new();
    for entry in store.loaded_files()? {
        let same = |known: &FileEntry| {
            known.arrival.path == entry.arrival.path
                && known.arrival.place == entry.arrival.place
                && known.table == entry.table
        };
        newest.retain(|known| !same(known));
        newest.push(entry);
    }
    newest.retain(|entry| entry.outcome == Outcome::Held);
    Ok(newest)
}

fn list(held: &[FileEntry], context: &Context) -> Result<Exit, Failure> {
    let line = |entry: &FileEntry| HeldLine {
        path: entry.arrival.path.clone(),
        feed: entry.feed.clone(),
        table: entry.table.clone(),
        batch: entry.batch,
        why: entry.message.as_deref().unwrap_or_default().lines().map(str::to_owned).collect(),
    };
    let lines: Vec<HeldLine> = held.iter().map(line).collect();
    if context.json {
        json::print(&HeldDocument { version: SETTLE_JSON_VERSION, held: lines });
    } else {
        render::print(&render::settle::held(&lines, context.screen));
    }
    Ok(if held.is_empty() { Exit::Done } else { Exit::Wanting })
}

/// The held file that is meant: by its path, or the end of it.
fn pick<'a>(held: &'a [FileEntry], wanted: &str) -> Result<&'a FileEntry, Failure> {
    let whole = std::path::Path::new(wanted).canonicalize().ok();
    let whole = whole.as_ref().map(|path| hypodoke_places::path_text(path.as_os_str()));
    let exactly = |entry: &&FileEntry| {
        entry.arrival.path == wanted || whole.as_deref() == Some(entry.arrival.path.as_str())
    };
    let ends = |entry: &&FileEntry| entry.arrival.path.ends_with(&format!("/{wanted}"));
    let mut found: Vec<&FileEntry> = held.iter().filter(exactly).collect();
    if found.is_empty() {
        found = held.iter().filter(ends).collect();
    }
    match found[..] {
        [one] => Ok(one),
        [] => {
            let there: Vec<String> = held.iter().map(|entry| clean(&entry.arrival.path)).collect();
            let there = if there.is_empty() { "nothing".to_owned() } else { there.join(", ") };
            let what = format!("no file `{}` is held; held is {there}", clean(wanted));
            Err(Failure::usage(what)
                .advise("`hypodoke load` says what became of it; a load that fits needs no decision"))
        }
        _ => {
            let there: Vec<String> = found.iter().map(|entry| clean(&entry.arrival.path)).collect();
            Err(Failure::usage(format!("`{}` may be any of {}", clean(wanted), there.join(", ")))
                .advise("name more of its path"))
        }
    }
}

fn decision(arguments: &SettleArguments) -> Result<Decision, Failure> {
    let pair = |text: &String| {
        let (old, new) =
            text.split_once('=').filter(|(old, new)| !old.is_empty() && !new.is_empty()).ok_or_else(
                || Failure::usage(format!("--rename {text}: write the old name, =, and the new one")),
            )?;
        Ok((old.to_owned(), new.to_owned()))
    };
    Ok(Decision {
        rename: arguments.rename.iter().map(pair).collect::<Result<_, Failure>>()?,
        add_column: arguments.add_column.clone(),
        ignore_column: arguments.ignore_column.clone(),
        as_text: arguments.as_text.clone(),
        load_anyway: arguments.load_anyway,
        discard: arguments.discard,
    })
}

/// The file, if it is there and what it was when it was held.
fn as_it_was(entry: &FileEntry, found: Option<(Feed, Candidate)>) -> Result<(Feed, Candidate), Failure> {
    let path = clean(&entry.arrival.path);
    let Some((feed, file)) = found else {
        let what = format!("{path} is not there any more, or no feed of the configuration takes it");
        return Err(Failure::load(what).advise("put it back, or decide to --discard it"));
    };
    if !file.seen.arrival.looks_like(&entry.arrival) {
        let what = format!("{path} has changed since it was held");
        return Err(Failure::load(what).advise("hypodoke load looks at it again"));
    }
    Ok((feed, file))
}

/// What the next load would make of the file under the decision.
fn effect(
    store: &mut dyn Store,
    feed: &Feed,
    file: &Candidate,
    decision: &Decision,
) -> Result<ReceiptLine, Failure> {
    let mut trial = Trial::on(store);
    let mut ground = Ground::of(&mut trial, feed)?;
    names_are_there(decision, ground.main.layout())?;
    let applied = decision.applied(feed, ground.main.layout());
    let load = FileLoad {
        store: &mut trial,
        feed: &applied,
        file,
        batch: 0,
        replaces: None,
        listener: &Silent,
        began: clock::now(),
        first_of_delivery: false,
        before: &[],
        said: Vec::new(),
        sum_all: false,
        by_place: None,
    };
    match load.run(&mut ground, None) {
        Ok(Some(loaded)) => Ok(lines::loaded_line(feed, file, &loaded, false)),
        Ok(None) => Err(Failure::load("somebody else loads it just now")),
        Err(Trouble::File(failure)) => Err(failure),
        Err(Trouble::Store(error)) => Err(error.into()),
        Err(Trouble::Held(held)) => {
            let why: Vec<&str> = held.holds.iter().map(|hold| hold.why.as_str()).collect();
            let rest = held.holds.iter().filter_map(|hold| hold.ways.first());
            let rest: Vec<String> = rest.map(crate::engine::decision::option).collect();
            let what = format!("{} would still be held: {}", file.shown, why.join("; "));
            Err(Failure::usage(what).advise(format!(
                "decide that too: {} {}",
                decision.words(),
                rest.join(" ")
            )))
        }
    }
}

/// A rename has to name a column that the table has.
fn names_are_there(
    decision: &Decision,
    table: Option<&hypodoke_core::layout::Layout>,
) -> Result<(), Failure> {
    let Some(table) = table else { return Ok(()) };
    let sources: Vec<&str> = table.columns.iter().map(|column| column.source.as_str()).collect();
    let parts = table.parts.iter().map(|part| part.path.as_str());
    let all: Vec<&str> = sources.iter().copied().chain(parts).collect();
    for (old, _) in &decision.rename {
        if table.find(old).is_none() && !all.contains(&old.as_str()) {
            let what = format!("--rename: the table has no `{old}`; it has {}", all.join(", "));
            return Err(crate::settings::reader::suggest(Failure::usage(what), old, &all));
        }
    }
    Ok(())
}

fn note(
    store: &mut dyn Store,
    entry: &FileEntry,
    decision: &Decision,
    why: Option<String>,
) -> Result<(), Failure> {
    let by = ["USER", "LOGNAME"].iter().find_map(|name| std::env::var(name).ok());
    store.note_decision(&DecisionEntry {
        arrival: entry.arrival.clone(),
        table: entry.table.clone().unwrap_or_default(),
        decision: serde_json::to_string(decision).unwrap_or_default(),
        by: by.unwrap_or_else(|| "unknown".to_owned()),
        at: clock::now(),
        why,
    })?;
    Ok(())
}

/// The file is known from now on, and never loaded as it is.
fn discard(
    store: &mut dyn Store,
    entry: &FileEntry,
    decision: &Decision,
    arguments: &SettleArguments,
    context: &Context,
) -> Result<Exit, Failure> {
    if !arguments.dry_run {
        note(store, entry, decision, arguments.why.clone())?;
        let now = clock::now();
        let message = arguments.why.clone().or_else(|| entry.message.clone());
        let discarded =
            FileEntry { outcome: Outcome::Discarded, began: now, ended: now, message, ..entry.clone() };
        store.note_file(&discarded, &[])?;
    }
    if context.json {
        json::print(&SettleDocument {
            version: SETTLE_JSON_VERSION,
            path: &entry.arrival.path,
            decision,
            effect: None,
            decided: !arguments.dry_run,
            lasting: None,
        });
    } else {
        let path = clean(&entry.arrival.path);
        let text = if arguments.dry_run { "would be discarded" } else { "is discarded" };
        render::print(&format!("{path} {text}: it is not loaded as long as it stays what it is\n"));
    }
    Ok(Exit::Done)
}
