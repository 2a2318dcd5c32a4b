//! `hypodoke settle`: decide about files that are held.

mod ask;
pub mod decide;
pub mod open;

use hypodoke_engine::decide::Settlement;
use hypodoke_stores::{FileEntry, Tables};
use serde::Serialize;

use super::context::Context;
use crate::cli::SettleArguments;
use crate::exit::Exit;
use crate::failure::Failure;
use crate::render::receipt_json::{self, LineDocument};
use crate::render::settle::{HeldLine, Settled};
use crate::render::{self, json};
use crate::settings::Settings;
use crate::wording::reasons;
use decide::{Wish, discard, settle_one};
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

/// Runs the command.
pub fn run(arguments: &SettleArguments, context: &Context) -> Result<Exit, Failure> {
    let mut store = context.tables(&arguments.database)?;
    let settings = if arguments.database.into.is_some() { None } else { context.settings()? };
    let open = OpenFiles::of(store.ledger())?;
    let wish = Wish {
        settlement: decision(arguments)?,
        why: arguments.why.clone(),
        write: arguments.write,
        dry_run: arguments.dry_run,
    };
    let is_named = !arguments.files.is_empty() || arguments.all;
    if !is_named && wish.settlement.is_empty() {
        let has_any = !open.held.is_empty() || !open.failed.is_empty();
        if has_any && !arguments.list && !context.json && crate::ask::is_possible() {
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
    store: &mut dyn Tables,
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
    store: &mut dyn Tables,
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
    store: &mut dyn Tables,
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

/// What waits, group by group, with the command that fits.
fn list(
    store: &mut dyn Tables,
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
            why: reasons::lines_of_entry(entry),
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
