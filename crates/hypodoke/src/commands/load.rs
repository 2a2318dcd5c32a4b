//! `hypodoke load`: all that is new, by the configuration or straight from the command line.

use std::collections::HashSet;
use std::path::{Path, PathBuf};

use hypodoke_core::event::Outcome;
use hypodoke_places::{Place, PutAway, Seen};
use hypodoke_stores::{Store, StoreUrl};

use super::{Context, again};
use crate::cli::LoadArguments;
use crate::engine::archive::unfold;
use crate::engine::batch::{self, Connections, Ended};
use crate::engine::by_hand::{self, Known};
use crate::engine::expect::companion;
use crate::engine::naming::table_name;
use crate::engine::own::Own;
use crate::engine::receipt::{Receipt, ReceiptLine};
use crate::engine::{Candidate, Delivery, Feed, clock};
use crate::exit::Exit;
use crate::failure::Failure;
use crate::render::{self, json, receipt};
use crate::settings::{DEFAULT_DATABASE, FeedSettings, Settings};

/// Runs the command.
pub fn run(arguments: &LoadArguments, context: &Context) -> Result<Exit, Failure> {
    let settings = if arguments.database.into.is_some() { None } else { context.settings()? };
    let mut task = match settings {
        Some(settings) => by_configuration(arguments, &settings)?,
        None => named_files(arguments)?,
    };
    again::within(&mut task, arguments)?;
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
    /// Files that are still arriving.
    pub waiting: Vec<String>,
    /// The places whose files are put away once they are done with.
    put_away: Vec<(Place, PutAway)>,
    /// How many connections load side by side.
    pub connections: usize,
    /// What could not be looked at.
    troubles: Vec<Failure>,
    defaulted: bool,
}

/// Loads a task and prints its receipt.
fn finish(store: &mut dyn Store, task: &Task, context: &Context) -> Result<Exit, Failure> {
    let listener = context.listener();
    let open = || hypodoke_stores::open(&task.store);
    let connections = Connections { open: &open, most: task.connections };
    let more = Some(&connections).filter(|_| task.store.takes_many_writers() && task.connections > 1);
    let Ended { mut receipt, broken_off } =
        batch::run(store, more, &task.deliveries, task.unmatched.clone(), listener.as_ref())?;
    receipt.waiting.clone_from(&task.waiting);
    drop(listener);
    if context.json {
        json::print(&receipt);
    } else {
        render::print(&receipt::text(&receipt, context.screen));
    }
    let stuck = put_away(task, &receipt, broken_off.is_none());
    for trouble in task.troubles.iter().chain(&stuck) {
        context.complain(trouble);
    }
    match broken_off {
        Some(failure) => Err(failure),
        None if task.troubles.is_empty() && stuck.is_empty() => Ok(receipt.exit()),
        None => Ok(receipt.exit().max(Exit::Failed)),
    }
}

/// Moves files that are done with where their places want them; gives what could not be moved.
/// What is held stays where it is, and so does an archive some of whose files do. A file of which
/// the receipt says nothing was done with before, unless the batch broke off before its turn.
fn put_away(task: &Task, receipt: &Receipt, whole: bool) -> Vec<Failure> {
    let mut stuck = Vec::new();
    let day = jiff::Zoned::now().date().to_string();
    for (place, away) in &task.put_away {
        let mut moves: Vec<(&Candidate, bool, bool)> = Vec::new();
        for delivery in &task.deliveries {
            for file in delivery.files.iter().filter(|file| file.seen.arrival.place == place.name()) {
                let is_it = |line: &&ReceiptLine| line.path == file.shown && line.feed == delivery.feed.name;
                let outcome = receipt.files.iter().find(is_it).map(|line| line.outcome);
                let failed = outcome == Some(Outcome::Failed);
                let stays = outcome == Some(Outcome::Held) || outcome.is_none() && !whole;
                match moves.iter_mut().find(|(other, ..)| other.seen.file == file.seen.file) {
                    Some((_, bad, held)) => (*bad, *held) = (*bad || failed, *held || stays),
                    None => moves.push((file, failed, stays)),
                }
            }
        }
        for (file, failed, _) in moves.iter().filter(|(_, _, stays)| !stays) {
            let folder = if *failed { &away.failed } else { &away.done };
            let container = file.container();
            if let Err(error) = place.put_away(&container, folder, &day) {
                stuck.push(Failure::from(error));
            }
        }
    }
    stuck
}

/// As many connections as there are cores, and a few more: the server works while they wait.
fn usual_connections() -> usize {
    crate::engine::look::threads().clamp(2, 8)
}

/// The database that an option names. A password does not belong on a command line.
pub fn database(url: &str) -> Result<StoreUrl, Failure> {
    let store = StoreUrl::parse(url, Path::new(""))?;
    if store.has_password() {
        let what = "the address on the command line holds a password, which others could read there";
        return Err(Failure::usage(what)
            .advise("give it in PGPASSWORD, in a password file, or in the configuration as ${NAME}"));
    }
    Ok(store)
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
        connections: settings.connections.unwrap_or_else(usual_connections),
        deliveries: Vec::new(),
        unmatched: Vec::new(),
        waiting: Vec::new(),
        put_away: Vec::new(),
        troubles: Vec::new(),
        defaulted: false,
    };
    let empty = |feed: &FeedSettings| {
        Ok(Delivery { feed: feed.to_feed(&arguments.reading)?, files: Vec::new(), again: false })
    };
    let mut deliveries: Vec<Delivery> = settings.feeds.iter().map(empty).collect::<Result<_, Failure>>()?;
    let own = Own::of(Some(&settings.store));
    let mut strangers: Vec<(String, PathBuf)> = Vec::new();
    for place in &settings.places {
        let listing = match place.place.list() {
            Ok(listing) => listing,
            Err(error) => {
                let failure = Failure::from(error);
                let message = format!("place `{}`: {}", place.name, failure.message);
                task.troubles.push(Failure { message, exit: Exit::Unreachable, ..failure });
                continue;
            }
        };
        task.troubles.extend(listing.errors.into_iter().map(Failure::from));
        let mut files = Vec::new();
        let (ready, waiting) = place.completeness.sort(listing.seen, clock::now());
        task.waiting.extend(waiting.iter().map(|seen| format!("{}/{}", place.name, seen.arrival.path)));
        let is_away =
            |seen: &Seen| place.put_away.as_ref().is_some_and(|away| away.holds(&seen.arrival.path));
        if let Some(away) = &place.put_away {
            task.put_away.push((place.place.clone(), away.clone()));
        }
        for seen in ready
            .into_iter()
            .filter(|seen| !is_away(seen))
            .filter(|seen| !own.holds(&seen.file) && !is_spooled(settings, seen))
        {
            let shown = seen.arrival.path.clone();
            match unfold(Candidate { seen, member: None, shown, parts: Vec::new() }) {
                Ok(found) => files.extend(found),
                Err(trouble) => task.troubles.push(trouble),
            }
        }
        for file in files {
            let seen = &file.seen;
            // The first feed that fits takes the file.
            let taker = settings.feeds.iter().enumerate().filter(|(_, feed)| feed.place == place.name);
            let taker =
                taker.filter_map(|(at, feed)| Some((at, feed.files.matches(&seen.arrival.path)?))).next();
            match taker {
                Some((at, values)) => {
                    let named = settings.feeds[at].files.parts().iter().cloned().zip(values);
                    let parts = named.chain(settings.feeds[at].constants()).collect();
                    deliveries[at].files.push(Candidate { parts, ..file });
                }
                None => {
                    let shown = format!("{}/{}", place.name, seen.arrival.path);
                    strangers.push((shown, seen.file.clone()));
                }
            }
        }
    }
    let companions: HashSet<PathBuf> = deliveries
        .iter()
        .filter_map(|delivery| Some((delivery, delivery.feed.expect.control_file.as_ref()?)))
        .flat_map(|(delivery, pattern)| {
            delivery.files.iter().map(|file| companion(&file.seen.file, pattern)).collect::<Vec<_>>()
        })
        .collect();
    let strangers = strangers.into_iter().filter(|(_, file)| !companions.contains(file));
    task.unmatched.extend(strangers.map(|(shown, _)| shown));
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

/// Whether a file of a folder is one that was fetched from a server.
fn is_spooled(settings: &Settings, seen: &Seen) -> bool {
    seen.remote.is_none() && settings.spool.holds(&seen.file)
}

/// The files and folders on the command line.
fn named_files(arguments: &LoadArguments) -> Result<Task, Failure> {
    if arguments.what.is_empty() {
        return Err(Failure::usage("there is nothing to load: no hypodoke.toml here, and no file was named")
            .advise("name a file: hypodoke load movements.csv, or write a configuration"));
    }
    let defaulted = arguments.database.into.is_none();
    let url = arguments.database.into.as_deref().unwrap_or(DEFAULT_DATABASE);
    let mut task = Task {
        store: database(url)?,
        connections: usual_connections(),
        deliveries: Vec::new(),
        unmatched: Vec::new(),
        waiting: Vec::new(),
        put_away: Vec::new(),
        troubles: Vec::new(),
        defaulted,
    };
    let own = Own::of(Some(&task.store));
    for candidate in by_hand::candidates(&arguments.what, Known::ByWholePath, &own, &mut task.troubles)? {
        add(&mut task.deliveries, candidate, arguments)?;
    }
    Ok(task)
}

fn add(deliveries: &mut Vec<Delivery>, file: Candidate, arguments: &LoadArguments) -> Result<(), Failure> {
    let table = match &arguments.table {
        Some(table) => table.clone(),
        None => table_name(&file.seen.file),
    };
    if let Some(delivery) = deliveries.iter_mut().find(|delivery| delivery.feed.table == table) {
        delivery.files.push(file);
        return Ok(());
    }
    let wishes = arguments.reading.over(Default::default())?;
    let feed = Feed::plain(table, wishes, arguments.reading.rules(&[])?);
    deliveries.push(Delivery { feed, files: vec![file], again: false });
    Ok(())
}
