//! `hypodoke settle`: decide about files that are held.

mod ask;
pub mod open;

use std::path::Path;

use hypodoke_core::layout::Layout;
use hypodoke_core::sanitize::clean;
use hypodoke_engine::decide::Settlement;
use hypodoke_engine::maintain::{
    Decider, Effect, as_it_was_held, discard as set_aside, note_settlement, settlement_effect,
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
use open::OpenFiles;

/// The version of the JSON of settling.
///
/// 1: held; or file, decision, effect, decided, lasting. Fields may be added without a new version.
const SETTLE_JSON_VERSION: u32 = 1;

#[derive(Serialize)]
struct HeldDocument {
    version: u32,
    held: Vec<HeldLine>,
    failed: Vec<HeldLine>,
}

/// Several files about which the same is decided.
#[derive(Serialize)]
struct SeveralDocument<'a> {
    version: u32,
    decision: &'a Settlement,
    decided: bool,
    files: Vec<SettledLine>,
}

#[derive(Serialize)]
struct SettledLine {
    path: String,
    rows_loaded: Option<u64>,
    rows_rejected: Option<u64>,
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

/// What is to be decided.
pub struct Wish {
    /// The decision.
    pub settlement: Settlement,
    /// Why, for the ledger.
    pub why: Option<String>,
    /// The lasting part of it is written into the configuration.
    pub write: bool,
    /// Nothing is decided: it is only shown.
    pub dry_run: bool,
}

/// Runs the command.
pub fn run(arguments: &SettleArguments, context: &Context) -> Result<Exit, Failure> {
    let mut store = context.ledger(&arguments.database)?;
    let settings = if arguments.database.into.is_some() { None } else { context.settings()? };
    let open = OpenFiles::of(store.as_mut())?;
    let wish = Wish {
        settlement: decision(arguments)?,
        why: arguments.why.clone(),
        write: arguments.write,
        dry_run: arguments.dry_run,
    };
    let is_named = !arguments.files.is_empty() || arguments.all;
    if !is_named && wish.settlement.is_empty() {
        let has_any = !open.held.is_empty() || !open.failed.is_empty();
        if has_any && !arguments.list && !context.json && ask_is_possible() {
            return ask::about_all(store.as_mut(), &open, settings.as_ref(), context);
        }
        return list(store.as_mut(), &open, settings.as_ref(), context);
    }
    let mut picked: Vec<&FileEntry> = if arguments.all { open.held.iter().collect() } else { Vec::new() };
    for wanted in &arguments.files {
        for entry in open.pick(wanted, settings.as_ref())? {
            if !picked.iter().any(|known| known.file == entry.file) {
                picked.push(entry);
            }
        }
    }
    if wish.settlement.is_empty() || picked.is_empty() {
        return undecided(store.as_mut(), picked, settings.as_ref(), context);
    }
    match picked[..] {
        [one] => settle_and_show(store.as_mut(), settings.as_ref(), one, &wish, context),
        _ => settle_several(store.as_mut(), settings.as_ref(), &picked, &wish, context),
    }
}

/// Nothing is said of what becomes of these files.
fn undecided(
    store: &mut dyn Store,
    picked: Vec<&FileEntry>,
    settings: Option<&Settings>,
    context: &Context,
) -> Result<Exit, Failure> {
    if picked.is_empty() {
        return Err(Failure::usage("nothing is held, so there is nothing to decide"));
    }
    let about = crate::render::paths::some(picked.iter().map(|entry| entry.arrival.path.as_str()), 3);
    let held = picked.into_iter().cloned().collect();
    list(store, &OpenFiles { held, failed: Vec::new() }, settings, context)?;
    Err(Failure::usage(format!("nothing is decided about {about}")).advise(
        "say what with --rename, --add-column, --ignore-column, --as-text, --load-anyway or --discard",
    ))
}

fn settle_and_show(
    store: &mut dyn Store,
    settings: Option<&Settings>,
    entry: &FileEntry,
    wish: &Wish,
    context: &Context,
) -> Result<Exit, Failure> {
    if wish.settlement.discard {
        discard(store, entry, wish)?;
        return show_discarded(entry, wish, context);
    }
    let settled = settle_one(store, settings, context.config.as_deref(), entry, wish)?;
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

/// Decides the same about several files; those that it does not fit stay as they are, and are told.
fn settle_several(
    store: &mut dyn Store,
    settings: Option<&Settings>,
    picked: &[&FileEntry],
    wish: &Wish,
    context: &Context,
) -> Result<Exit, Failure> {
    let (mut done, mut failures) = (Vec::new(), Vec::new());
    for (at, entry) in picked.iter().enumerate() {
        let wish = Wish {
            settlement: wish.settlement.clone(),
            why: wish.why.clone(),
            write: wish.write && at == 0,
            dry_run: wish.dry_run,
        };
        let settled = match wish.settlement.discard {
            true => discard(store, entry, &wish).map(|()| None),
            false => settle_one(store, settings, context.config.as_deref(), entry, &wish).map(Some),
        };
        match settled {
            Ok(settled) => done.push(((*entry).clone(), settled)),
            Err(failure) => failures.push(failure),
        }
    }
    if context.json {
        let line = |(entry, settled): &(FileEntry, Option<Settled>)| SettledLine {
            path: entry.arrival.path.clone(),
            rows_loaded: settled.as_ref().map(|settled| settled.effect.rows_loaded),
            rows_rejected: settled.as_ref().map(|settled| settled.effect.rows_rejected),
        };
        json::print(&SeveralDocument {
            version: SETTLE_JSON_VERSION,
            decision: &wish.settlement,
            decided: !wish.dry_run,
            files: done.iter().map(line).collect(),
        })?;
    } else if !done.is_empty() {
        render::print(&render::settle::several(
            &done,
            &wish.settlement,
            (wish.write, !wish.dry_run),
            context.screen,
        ));
    }
    failures.iter().for_each(|failure| context.complain(failure));
    Ok(if failures.is_empty() { Exit::Done } else { Exit::NeedsAttention })
}

/// The file that is held under this path, settled.
pub fn by_path(
    store: &mut dyn Store,
    settings: &Settings,
    config: &Path,
    path: &str,
    wish: &Wish,
) -> Result<Settled, Failure> {
    let open = OpenFiles::of(store)?;
    let picked = open.pick(path, Some(settings))?;
    let entry = picked.first().ok_or_else(|| Failure::usage(format!("`{path}` is not held")))?;
    settle_one(store, Some(settings), Some(config), entry, wish)
}

/// Settles one file.
///
/// # Errors
///
/// The decision does not fit it, or the file is not what it was.
pub fn settle_one(
    store: &mut dyn Store,
    settings: Option<&Settings>,
    config: Option<&Path>,
    entry: &FileEntry,
    wish: &Wish,
) -> Result<Settled, Failure> {
    let settlement = wish.settlement.clone();
    if settlement.discard {
        discard(store, entry, wish)?;
    }
    let mut finder = Finder::new(settings.map(Settings::job));
    let found = as_it_was_held(entry, finder.find(entry)?)?;
    let layout = TargetState::of(store, &found.feed)?.main.layout().cloned();
    names_are_there(&settlement, layout.as_ref())?;
    let effect = match settlement.discard {
        true => ReceiptLine { path: found.file.shown.clone(), ..ReceiptLine::default() },
        false => effect(store, &found, &settlement)?,
    };
    let feed = &found.feed;
    let rules = lasting::of(&settlement, feed, layout.as_ref());
    let proposal = match (&feed.name, rules.is_empty()) {
        (Some(name), false) => Some(Lasting::propose(config, name, &rules)?),
        _ => None,
    };
    if !wish.dry_run && !settlement.discard {
        note_settlement(store, entry, &settlement, decider(wish))?;
        if let Some(proposal) = proposal.as_ref().filter(|_| wish.write) {
            proposal.write()?;
        }
    }
    Ok(Settled {
        settlement,
        effect,
        decided: !wish.dry_run,
        diff: proposal.as_ref().map(Lasting::diff),
        written: wish.write,
        has_feed: feed.name.is_some(),
    })
}

fn ask_is_possible() -> bool {
    crate::ask::is_possible()
}

/// Who decides: whoever runs the command.
fn decider(wish: &Wish) -> Decider {
    let by = ["USER", "LOGNAME"].iter().find_map(|name| std::env::var(name).ok());
    Decider { by: by.unwrap_or_else(|| "unknown".to_owned()), why: wish.why.clone() }
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

/// What waits, group by group, with the command that fits.
fn list(
    store: &mut dyn Store,
    open: &OpenFiles,
    settings: Option<&Settings>,
    context: &Context,
) -> Result<Exit, Failure> {
    if context.json {
        let line = |entry: &FileEntry| HeldLine {
            path: entry.arrival.path.clone(),
            feed: entry.feed.clone(),
            table: entry.table.clone(),
            batch: entry.batch,
            why: entry.message.as_deref().unwrap_or_default().lines().map(str::to_owned).collect(),
        };
        let held = open.held.iter().map(line).collect();
        let failed = open.failed.iter().map(line).collect();
        json::print(&HeldDocument { version: SETTLE_JSON_VERSION, held, failed })?;
    } else {
        let groups = open.groups(store, settings);
        render::print(&render::settle::held(&groups, context.screen));
    }
    Ok(if open.held.is_empty() { Exit::Done } else { Exit::NeedsAttention })
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
fn discard(store: &mut dyn Store, entry: &FileEntry, wish: &Wish) -> Result<(), Failure> {
    if !wish.dry_run {
        set_aside(store, entry, &wish.settlement, decider(wish))?;
    }
    Ok(())
}

fn show_discarded(entry: &FileEntry, wish: &Wish, context: &Context) -> Result<Exit, Failure> {
    if context.json {
        json::print(&SettleDocument {
            version: SETTLE_JSON_VERSION,
            path: &entry.arrival.path,
            decision: &wish.settlement,
            effect: None,
            decided: !wish.dry_run,
            lasting: None,
        })?;
    } else {
        let path = crate::render::paths::shown(&entry.arrival.path);
        let text = if wish.dry_run { "would be discarded" } else { "is discarded" };
        render::print(&format!("{path} {text}: it is not loaded as long as it stays what it is\n"));
    }
    Ok(Exit::Done)
}
