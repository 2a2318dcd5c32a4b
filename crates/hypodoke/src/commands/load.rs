//! `hypodoke load`: all that is new, by the configuration or straight from the command line.

use std::path::{Path, PathBuf};

use hypodoke_core::event::{Listener, Silent};
use hypodoke_core::names::Namer;
use hypodoke_places::{Seen, list, look_at};
use hypodoke_stores::{Store, StoreUrl};

use super::Context;
use crate::cli::LoadArguments;
use crate::engine::batch::{self, Ended};
use crate::engine::{Candidate, Delivery, Feed};
use crate::exit::Exit;
use crate::failure::Failure;
use crate::render::progress::Progress;
use crate::render::{self, json, receipt};
use crate::settings::{DEFAULT_DATABASE, Settings};

/// The name under which the ledger keeps files that no place was configured for. They are
/// known by their whole path.
const BY_HAND: &str = "(by hand)";

/// Runs the command.
pub fn run(arguments: &LoadArguments, context: &Context) -> Result<Exit, Failure> {
    let settings = if arguments.database.into.is_some() { None } else { context.settings()? };
    let task = match settings {
        Some(settings) => by_configuration(arguments, &settings)?,
        None => by_hand(arguments)?,
    };
    if task.defaulted {
        context.remark(&format!("no database was named: loading into {DEFAULT_DATABASE}"));
    }
    let mut store = hypodoke_stores::open(&task.store)?;
    finish(store.as_mut(), &task, context)
}

/// What is to be loaded, and into what.
pub struct Task {
    /// The database.
    pub store: StoreUrl,
    /// The feeds with their files.
    pub deliveries: Vec<Delivery>,
    /// Files that no feed wants.
    pub unmatched: Vec<String>,
    /// What could not be looked at.
    troubles: Vec<Failure>,
    defaulted: bool,
}

/// Loads a task and prints its receipt.
fn finish(store: &mut dyn Store, task: &Task, context: &Context) -> Result<Exit, Failure> {
    let progress = Progress::new();
    let listener: &dyn Listener = if context.screen.progress { &progress } else { &Silent };
    let Ended { receipt, broken_off } =
        batch::run(store, &task.deliveries, task.unmatched.clone(), listener)?;
    drop(progress);
    if context.json {
        json::print(&receipt);
    } else {
        render::print(&receipt::text(&receipt, context.screen));
    }
    for trouble in &task.troubles {
        context.complain(trouble);
    }
    match broken_off {
        Some(failure) => Err(failure),
        None if task.troubles.is_empty() => Ok(receipt.exit()),
        None => Ok(receipt.exit().max(Exit::Failed)),
    }
}

/// What the configuration wants loaded.
pub fn by_configuration(arguments: &LoadArguments, settings: &Settings) -> Result<Task, Failure> {
    if let Some(table) = &arguments.table {
        let what = format!("--table {table} goes with files, not with the feeds of a configuration");
        return Err(Failure::usage(what).advise("set `table` in the feed, or load files with --into"));
    }
    let names: Vec<String> = arguments.what.iter().map(|path| path.to_string_lossy().into_owned()).collect();
    let wanted = settings.feeds_named(&names).map_err(|failure| {
        if arguments.what.iter().any(|path| path.exists()) {
            failure.advise("to load a file without the configuration, say where with --into")
        } else {
            failure
        }
    })?;
    let mut task = Task {
        store: settings.store.clone(),
        deliveries: Vec::new(),
        unmatched: Vec::new(),
        troubles: Vec::new(),
        defaulted: false,
    };
    let mut deliveries: Vec<Delivery> =
        settings.feeds.iter().map(|feed| empty_delivery(feed, arguments)).collect::<Result<_, _>>()?;
    for place in &settings.places {
        let listing = match list(&place.name, &place.folder) {
            Ok(listing) => listing,
            Err(error) => {
                let failure = Failure::from(error);
                let message = format!("place `{}`: {}", place.name, failure.message);
                task.troubles.push(Failure { message, exit: Exit::Unreachable, ..failure });
                continue;
            }
        };
        task.troubles.extend(listing.errors.into_iter().map(Failure::from));
        for seen in listing.seen {
            // The first feed that fits takes the file.
            let taker = settings.feeds.iter().enumerate().filter(|(_, feed)| feed.place == place.name);
            let taker =
                taker.filter_map(|(at, feed)| Some((at, feed.files.matches(&seen.arrival.path)?))).next();
            match taker {
                Some((at, values)) => {
                    let parts = settings.feeds[at].files.parts().iter().cloned().zip(values).collect();
                    let shown = seen.arrival.path.clone();
                    deliveries[at].files.push(Candidate { seen, shown, parts });
                }
                None => task.unmatched.push(format!("{}/{}", place.name, seen.arrival.path)),
            }
        }
    }
    let is_wanted =
        |delivery: &Delivery| wanted.iter().any(|feed| delivery.feed.name.as_deref() == Some(&feed.name));
    task.deliveries = deliveries.into_iter().filter(is_wanted).collect();
    if !names.is_empty() {
        task.unmatched.clear();
    }
    if task.troubles.iter().any(|t| t.exit == Exit::Unreachable)
        && task.deliveries.iter().all(|d| d.files.is_empty())
    {
        return Err(task.troubles.remove(0));
    }
    Ok(task)
}

fn empty_delivery(
    feed: &crate::settings::FeedSettings,
    arguments: &LoadArguments,
) -> Result<Delivery, Failure> {
    let feed = Feed {
        name: Some(feed.name.clone()),
        table: feed.table.clone(),
        rules: feed.rules.clone(),
        namer: feed.namer,
        wishes: arguments.reading.over(feed.wishes.clone())?,
    };
    Ok(Delivery { feed, files: Vec::new() })
}

/// The files and folders on the command line.
fn by_hand(arguments: &LoadArguments) -> Result<Task, Failure> {
    if arguments.what.is_empty() {
        return Err(Failure::usage("there is nothing to load: no hypodoke.toml here, and no file was named")
            .advise("name a file: hypodoke load movements.csv, or write a configuration"));
    }
    let defaulted = arguments.database.into.is_none();
    let url = arguments.database.into.as_deref().unwrap_or(DEFAULT_DATABASE);
    let mut task = Task {
        store: StoreUrl::parse(url, Path::new(""))?,
        deliveries: Vec::new(),
        unmatched: Vec::new(),
        troubles: Vec::new(),
        defaulted,
    };
    for path in &arguments.what {
        for candidate in candidates(path, &mut task.troubles)? {
            add(&mut task.deliveries, candidate, arguments)?;
        }
    }
    Ok(task)
}

/// A file, or the files of a folder.
fn candidates(path: &Path, troubles: &mut Vec<Failure>) -> Result<Vec<Candidate>, Failure> {
    if !path.is_dir() {
        let seen = look_at(BY_HAND, path)?;
        return Ok(vec![candidate(seen, path.to_path_buf())]);
    }
    let listing = list(BY_HAND, path)?;
    troubles.extend(listing.errors.into_iter().map(Failure::from));
    if listing.seen.is_empty() {
        let what = format!("the folder `{}` holds no files", path.display());
        return Err(Failure::load(what).advise("name a folder that does, or the files themselves"));
    }
    Ok(listing
        .seen
        .into_iter()
        .map(|seen| {
            let shown = seen.file.clone();
            candidate(seen, shown)
        })
        .collect())
}

fn candidate(mut seen: Seen, shown: PathBuf) -> Candidate {
    // Known by its whole path, so that it is the same file from wherever it is named.
    let whole = seen.file.canonicalize().unwrap_or_else(|_| seen.file.clone());
    seen.arrival.path = whole.to_string_lossy().into_owned();
    Candidate { seen, shown: shown.to_string_lossy().into_owned(), parts: Vec::new() }
}

fn add(deliveries: &mut Vec<Delivery>, file: Candidate, arguments: &LoadArguments) -> Result<(), Failure> {
    let namer = Namer::default();
    let table = match &arguments.table {
        Some(table) => table.clone(),
        None => table_name(&file.seen.file, namer),
    };
    if let Some(delivery) = deliveries.iter_mut().find(|delivery| delivery.feed.table == table) {
        delivery.files.push(file);
        return Ok(());
    }
    let wishes = arguments.reading.over(Default::default())?;
    let feed = Feed { name: None, table, rules: Vec::new(), namer, wishes };
    deliveries.push(Delivery { feed, files: vec![file] });
    Ok(())
}

/// The table a file goes to: its name without endings, and without dates and long numbers, so
/// that the files of several days go to one table.
fn table_name(file: &Path, namer: Namer) -> String {
    let name = file.file_name().map(|name| name.to_string_lossy().into_owned()).unwrap_or_default();
    let stem = name.split('.').find(|part| !part.is_empty()).unwrap_or("data");
    let words: Vec<&str> = stem.split(['_', '-', ' ']).filter(|word| !word.is_empty()).collect();
    let figures = |word: &&str| word.chars().all(|c| c.is_ascii_digit());
    let undated: Vec<&str> = words.iter().copied().filter(|word| !figures(word)).collect();
    let base = if undated.is_empty() { stem.to_owned() } else { undated.join("_") };
    let trimmed = base.trim_end_matches(|c: char| c.is_ascii_digit());
    let base = if base.len() - trimmed.len() >= 6 && !trimmed.is_empty() { trimmed.to_owned() } else { base };
    match namer.name(&base) {
        name if name.is_empty() => "data".to_owned(),
        // The ledger's own names are spoken for.
        name if name.starts_with("hd_") => format!("t_{name}"),
        name => name,
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case("movements.csv", "movements")]
    #[case("in/Berth Movements.csv.gz", "berth_movements")]
    #[case("movements_20260302.csv", "movements")]
    #[case("movements20260302.csv", "movements")]
    #[case("movements_2026-03-02_north.csv", "movements_north")]
    #[case("2026-03-02.csv", "_2026_03_02")]
    #[case("quay2.csv", "quay2")]
    #[case(".csv", "csv")]
    #[case("hd_files.csv", "t_hd_files")]
    fn tables_are_named_after_files(#[case] file: &str, #[case] table: &str) {
        assert_eq!(table_name(Path::new(file), Namer::default()), table);
    }
}
