//! `hypodoke settle`: decide about a file that is held.

use std::path::Path;

use hypodoke_core::layout::Layout;
use hypodoke_core::sanitize::clean;
use hypodoke_engine::decide::Settlement;
use hypodoke_engine::maintain::{
    Decider, Effect, as_it_was_held, discard as set_aside, held_files, note_settlement, settlement_effect,
};
use hypodoke_engine::plan::TargetState;
use hypodoke_engine::receipt::ReceiptLine;
use hypodoke_engine::sources::{Finder, FoundFile};
use hypodoke_stores::{FileEntry, Store};
use serde::Serialize;

use super::context::Context;
use crate::cli::SettleArguments;
use crate::exit::Exit;
use crate::failure::Failure;
use crate::render::receipt_json::{self, LineDocument};
use crate::render::settle::{HeldLine, Settled};
use crate::render::{self, json};
use crate::settings::Settings;
use crate::settings::lasting::{self, Lasting};
use crate::settings::reader::suggest;
use crate::wording::options;

/// The version of the JSON of settling.
///
/// 1: held; or file, decision, effect, decided, lasting.
const SETTLE_JSON_VERSION: u32 = 1;

#[derive(Serialize)]
struct HeldDocument {
    version: u32,
    held: Vec<HeldLine>,
}

#[derive(Serialize)]
struct SettleDocument<'a> {
    version: u32,
    path: &'a str,
    decision: &'a Settlement,
    effect: Option<LineDocument<'a>>,
    decided: bool,
    lasting: Option<&'a str>,
}

/// Runs the command.
pub fn run(arguments: &SettleArguments, context: &Context) -> Result<Exit, Failure> {
    let mut store = context.ledger(&arguments.database)?;
    let held = held_files(store.as_mut())?;
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
    let settled = settle(store.as_mut(), settings, context.config.as_deref(), entry, arguments)?;
    if context.json {
        json::print(&SettleDocument {
            version: SETTLE_JSON_VERSION,
            path: &entry.arrival.path,
            decision: &settled.settlement,
            effect: Some(receipt_json::line(&settled.effect)),
            decided: settled.decided,
            lasting: settled.diff.as_deref(),
        })?;
    } else {
        render::print(&render::settle::settled(&settled, context.screen));
    }
    Ok(Exit::Done)
}

/// The file that is held under this path, settled as the arguments say.
pub fn by_arguments(
    store: &mut dyn Store,
    settings: Settings,
    config: &Path,
    arguments: &SettleArguments,
) -> Result<Settled, Failure> {
    let held = held_files(store)?;
    let entry = pick(&held, arguments.file.as_deref().unwrap_or_default())?;
    settle(store, Some(settings), Some(config), entry, arguments)
}

fn settle(
    store: &mut dyn Store,
    settings: Option<Settings>,
    config: Option<&Path>,
    entry: &FileEntry,
    arguments: &SettleArguments,
) -> Result<Settled, Failure> {
    let settlement = decision(arguments)?;
    let mut finder = Finder::new(settings.as_ref().map(Settings::job));
    let found = as_it_was_held(entry, finder.find(entry)?)?;
    let layout = TargetState::of(store, &found.feed)?.main.layout().cloned();
    names_are_there(&settlement, layout.as_ref())?;
    let effect = effect(store, &found, &settlement)?;
    let feed = &found.feed;
    let rules = lasting::of(&settlement, feed, layout.as_ref());
    let proposal = match (&feed.name, rules.is_empty()) {
        (Some(name), false) => Some(Lasting::propose(config, name, &rules)?),
        _ => None,
    };
    if !arguments.dry_run {
        note_settlement(store, entry, &settlement, decider(arguments))?;
        if let Some(proposal) = proposal.as_ref().filter(|_| arguments.write) {
            proposal.write()?;
        }
    }
    Ok(Settled {
        settlement,
        effect,
        decided: !arguments.dry_run,
        diff: proposal.as_ref().map(Lasting::diff),
        written: arguments.write,
        has_feed: feed.name.is_some(),
    })
}

/// Who decides: whoever runs the command.
fn decider(arguments: &SettleArguments) -> Decider {
    let by = ["USER", "LOGNAME"].iter().find_map(|name| std::env::var(name).ok());
    Decider { by: by.unwrap_or_else(|| "unknown".to_owned()), why: arguments.why.clone() }
}

/// What the next load would make of the file under the decision.
fn effect(store: &mut dyn Store, found: &FoundFile, settlement: &Settlement) -> Result<ReceiptLine, Failure> {
    match settlement_effect(store, found, settlement)? {
        Effect::Loads(line) => Ok(*line),
        Effect::StillHeld(reasons) => {
            let why: Vec<String> = reasons.iter().map(ToString::to_string).collect();
            let mut remedies = settlement.remedies();
            remedies.extend(reasons.iter().filter_map(|reason| reason.remedies().into_iter().next()));
            let what = format!("{} would still be held: {}", clean(&found.file.shown), why.join("; "));
            Err(Failure::usage(what).advise(format!("decide that too: {}", options(&remedies))))
        }
    }
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
        json::print(&HeldDocument { version: SETTLE_JSON_VERSION, held: lines })?;
    } else {
        render::print(&render::settle::held(&lines, context.screen));
    }
    Ok(if held.is_empty() { Exit::Done } else { Exit::NeedsAttention })
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

fn decision(arguments: &SettleArguments) -> Result<Settlement, Failure> {
    let pair = |text: &String| {
        let (old, new) =
            text.split_once('=').filter(|(old, new)| !old.is_empty() && !new.is_empty()).ok_or_else(
                || Failure::usage(format!("--rename {text}: write the old name, =, and the new one")),
            )?;
        Ok((old.to_owned(), new.to_owned()))
    };
    Ok(Settlement {
        rename: arguments.rename.iter().map(pair).collect::<Result<_, Failure>>()?,
        add_column: arguments.add_column.clone(),
        ignore_column: arguments.ignore_column.clone(),
        as_text: arguments.as_text.clone(),
        load_anyway: arguments.load_anyway,
        discard: arguments.discard,
    })
}

/// A rename has to name a column that the table has.
fn names_are_there(decision: &Settlement, table: Option<&Layout>) -> Result<(), Failure> {
    let Some(table) = table else { return Ok(()) };
    let sources: Vec<&str> = table.columns.iter().map(|column| column.source.as_str()).collect();
    let parts = table.parts.iter().map(|part| part.path.as_str());
    let all: Vec<&str> = sources.iter().copied().chain(parts).collect();
    for (old, _) in &decision.rename {
        if table.find(old).is_none() && !all.contains(&old.as_str()) {
            let what = format!("--rename: the table has no `{old}`; it has {}", all.join(", "));
            return Err(suggest(Failure::usage(what), old, &all));
        }
    }
    Ok(())
}

/// The file is known from now on, and never loaded as it is.
fn discard(
    store: &mut dyn Store,
    entry: &FileEntry,
    decision: &Settlement,
    arguments: &SettleArguments,
    context: &Context,
) -> Result<Exit, Failure> {
    if !arguments.dry_run {
        set_aside(store, entry, decision, decider(arguments))?;
    }
    if context.json {
        json::print(&SettleDocument {
            version: SETTLE_JSON_VERSION,
            path: &entry.arrival.path,
            decision,
            effect: None,
            decided: !arguments.dry_run,
            lasting: None,
        })?;
    } else {
        let path = clean(&entry.arrival.path);
        let text = if arguments.dry_run { "would be discarded" } else { "is discarded" };
        render::print(&format!("{path} {text}: it is not loaded as long as it stays what it is\n"));
    }
    Ok(Exit::Done)
}
