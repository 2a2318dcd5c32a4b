//! What is decided about one file, and what comes of it.

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
use hypodoke_stores::{FileEntry, Tables};

use super::open::OpenFiles;
use crate::failure::Failure;
use crate::render::settle::Settled;
use crate::settings::Settings;
use crate::settings::lasting::{self, Lasting};
use crate::settings::reader::suggest;
use crate::wording::{options, reasons};

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

/// The file that is held under this path, settled.
///
/// # Errors
///
/// None is, or the decision does not fit it.
pub fn by_path(
    store: &mut dyn Tables,
    settings: &Settings,
    config: &Path,
    path: &str,
    wish: &Wish,
) -> Result<Settled, Failure> {
    let open = OpenFiles::of(store.ledger())?;
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
    store: &mut dyn Tables,
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
        true => {
            let mut line = ReceiptLine::default();
            line.path.clone_from(&found.file.shown);
            line
        }
        false => effect(store, &found, &settlement)?,
    };
    let feed = &found.feed;
    let rules = lasting::of(&settlement, feed, layout.as_ref());
    let proposal = match (&feed.name, rules.is_empty()) {
        (Some(name), false) => Some(Lasting::propose(config, name, &rules)?),
        _ => None,
    };
    if !wish.dry_run && !settlement.discard {
        note_settlement(store.ledger(), entry, &settlement, decider(wish))?;
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

/// Who decides: whoever runs the command.
fn decider(wish: &Wish) -> Decider {
    let by = ["USER", "LOGNAME"].iter().find_map(|name| std::env::var(name).ok());
    Decider { by: by.unwrap_or_else(|| "unknown".to_owned()), why: wish.why.clone() }
}

/// What the next load would make of the file under the decision.
fn effect(
    store: &mut dyn Tables,
    found: &FoundFile,
    settlement: &Settlement,
) -> Result<ReceiptLine, Failure> {
    match settlement_effect(store, found, settlement)? {
        Effect::Loads(line) => Ok(*line),
        Effect::StillHeld(reasons) => {
            let why: Vec<String> = reasons.iter().map(reasons::of_hold).collect();
            let mut remedies = settlement.remedies();
            remedies.extend(reasons.iter().filter_map(|reason| reason.remedies().into_iter().next()));
            let what = format!("{} would still be held: {}", clean(&found.file.shown), why.join("; "));
            Err(Failure::usage(what).advise(format!("decide that too: {}", options(&remedies))))
        }
    }
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
///
/// # Errors
///
/// The database does not take it.
pub fn discard(store: &mut dyn Tables, entry: &FileEntry, wish: &Wish) -> Result<(), Failure> {
    if !wish.dry_run {
        set_aside(store.ledger(), entry, &wish.settlement, decider(wish))?;
    }
    Ok(())
}
