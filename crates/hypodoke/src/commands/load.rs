//! `hypodoke load`: all that is new, by the configuration or straight from the command line.

use std::path::Path;
use std::time::Duration;

use hypodoke_stores::{Store, StoreUrl};

use super::{Context, again};
use crate::cli::LoadArguments;
use crate::engine::by_hand::{self, Known};
use crate::engine::means::Stop;
use crate::engine::naming::table_name;
use crate::engine::own::Own;
use crate::engine::receipt::Receipt;
use crate::engine::task::{Done, Task};
use crate::engine::{Candidate, Delivery, Feed};
use crate::exit::Exit;
use crate::failure::Failure;
use crate::render::{self, json, log, receipt};
use crate::settings::notify::NotifySettings;
use crate::settings::{DEFAULT_DATABASE, Settings};
use crate::tell;

/// Runs the command.
pub fn run(arguments: &LoadArguments, context: &Context) -> Result<Exit, Failure> {
    let settings = if arguments.database.into.is_some() { None } else { context.settings()? };
    let done = load(arguments, settings.as_ref(), context);
    // What ended it before there was a receipt is told all the same.
    if let (Err(failure), Some(settings)) = (&done, &settings)
        && failure.exit != Exit::Usage
    {
        for trouble in tell::of_failure(settings, failure) {
            context.complain(&trouble);
        }
    }
    done
}

fn load(arguments: &LoadArguments, settings: Option<&Settings>, context: &Context) -> Result<Exit, Failure> {
    let mut task = match settings {
        Some(settings) => by_configuration(arguments, settings)?,
        None => named_files(arguments)?,
    };
    again::within(&mut task, arguments)?;
    if settings.is_none() && arguments.database.into.is_none() {
        context.remark(&format!("no database was named: loading into {DEFAULT_DATABASE}"));
    }
    let mut store = hypodoke_stores::open(&task.store)?;
    let people = settings.map_or(&[][..], |settings| &settings.notify);
    finish(store.as_mut(), &task, people, context)
}

/// Loads a task and prints its receipt.
fn finish(
    store: &mut dyn Store,
    task: &Task,
    people: &[NotifySettings],
    context: &Context,
) -> Result<Exit, Failure> {
    let listener = context.listener();
    let Done { receipt, broken_off, troubles } = task.run(store, listener.as_ref(), &Stop::never())?;
    drop(listener);
    if context.json {
        json::print(&receipt);
    } else {
        render::print(&receipt::text(&receipt, context.screen));
    }
    for trouble in &troubles {
        context.complain(trouble);
    }
    log::receipt(&receipt);
    tell_people(store, people, &receipt, &troubles, context);
    match broken_off {
        Some(failure) => Err(failure),
        None if troubles.is_empty() => Ok(receipt.exit()),
        None if troubles.iter().any(|trouble| trouble.exit == Exit::Unreachable) => Ok(Exit::Unreachable),
        None => Ok(receipt.exit().max(Exit::Failed)),
    }
}

/// Tells people what came of a load. That nobody could be told never fails it.
fn tell_people(
    store: &mut dyn Store,
    people: &[NotifySettings],
    receipt: &Receipt,
    troubles: &[Failure],
    context: &Context,
) {
    let mut happenings = tell::of_receipt(receipt);
    happenings.extend(troubles.iter().map(tell::of_trouble));
    let told = tell::note(store, people, &happenings, Some(receipt))
        .and_then(|()| tell::deliver(store, people, Duration::ZERO));
    let failures = told.unwrap_or_else(|error| vec![Failure::from(error)]);
    for failure in failures {
        context.complain(&failure);
    }
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
fn by_configuration(arguments: &LoadArguments, settings: &Settings) -> Result<Task, Failure> {
    if let Some(table) = &arguments.table {
        let what = format!("--table {table} goes with files, not with the feeds of a configuration");
        return Err(Failure::usage(what).advise("set `table` in the feed, or load files with --into"));
    }
    let names: Vec<String> = arguments.what.iter().map(|path| path.to_string_lossy().into_owned()).collect();
    settings.feeds_named(&names).map_err(|failure| {
        if arguments.what.iter().any(|path| path.exists()) {
            failure.advise("to load a file without the configuration, say where with --into")
        } else {
            failure
        }
    })?;
    let mut task = Task::of(settings, &names, &arguments.reading)?;
    if !names.is_empty() {
        task.unmatched.clear();
    }
    Ok(task)
}

/// The files and folders on the command line.
fn named_files(arguments: &LoadArguments) -> Result<Task, Failure> {
    if arguments.what.is_empty() {
        return Err(Failure::usage("there is nothing to load: no hypodoke.toml here, and no file was named")
            .advise("name a file: hypodoke load movements.csv, or write a configuration"));
    }
    let url = arguments.database.into.as_deref().unwrap_or(DEFAULT_DATABASE);
    let mut task = Task::new(database(url)?, None);
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
