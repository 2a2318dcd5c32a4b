//! `hypodoke load`: all that is new, by the configuration or straight from the command line.

use std::path::Path;
use std::time::Duration;

use hypodoke_engine::batch::{LoadReport, RunOptions, run_job};
use hypodoke_engine::clock;
use hypodoke_engine::discover::{Discovered, NamedAs, NamedFiles, discover, table_name};
use hypodoke_engine::error::EngineError;
use hypodoke_engine::job::{Candidate, FeedFiles, Job};
use hypodoke_engine::receipt::Receipt;
use hypodoke_stores::Ledger;

use super::context::{Context, staging_of};
use super::named_place::{self, Named};
use crate::cli::LoadArguments;
use crate::connections;
use crate::exit::{self, Exit};
use crate::failure::Failure;
use crate::notifications;
use crate::render::{self, json, receipt, receipt_json};
use crate::settings::notify::NotifySettings;
use crate::settings::{DEFAULT_DATABASE, Settings, internal_files};
use crate::window::window;

/// Runs the command.
pub fn run(arguments: &LoadArguments, context: &Context) -> Result<Exit, Failure> {
    let settings = if arguments.database.into.is_some() { None } else { context.settings()? };
    let done = load(arguments, settings.as_ref(), context);
    // What ended it before there was a receipt is told all the same.
    if let (Err(failure), Some(settings)) = (&done, &settings)
        && failure.exit != Exit::Usage
    {
        for trouble in notifications::of_failure(settings, failure) {
            context.complain(&trouble);
        }
    }
    done
}

fn load(arguments: &LoadArguments, settings: Option<&Settings>, context: &Context) -> Result<Exit, Failure> {
    let (job, mut found, _named) = match settings {
        Some(settings) => by_configuration(arguments, settings)?,
        None => by_name(arguments)?,
    };
    let window = window(arguments.modified.as_deref(), arguments.since.as_deref(), clock::now())?;
    for feed in &mut found.feeds {
        feed.files.retain(|file| window.contains(file));
    }
    if settings.is_none() && arguments.database.into.is_none() {
        context.remark(&format!("no database was named: loading into {DEFAULT_DATABASE}"));
    }
    let mut store = connections::tables(&job.staging)?;
    let listener = context.listener();
    let connect = || connections::tables(&job.staging);
    let options = RunOptions::new(listener.as_ref()).connecting(&connect);
    let report = run_job(&job, &found, store.as_mut(), options)?;
    drop(listener);
    let people = settings.map_or(&[][..], |settings| &settings.notify);
    finish(store.ledger(), report, people, context)
}

/// Prints the receipt of a load, and tells people.
fn finish(
    ledger: &mut dyn Ledger,
    report: LoadReport,
    people: &[NotifySettings],
    context: &Context,
) -> Result<Exit, Failure> {
    let LoadReport { receipt, broken_off, errors, .. } = report;
    if context.json {
        json::print(&receipt_json::document(&receipt))?;
    } else {
        render::print(&receipt::text(&receipt, context.detail(), context.screen));
    }
    let is_unreachable = errors.iter().any(EngineError::is_unreachable);
    let failures: Vec<Failure> = errors.into_iter().map(Failure::from).collect();
    failures.iter().for_each(|failure| context.complain(failure));
    notify(ledger, people, &receipt, &failures, context);
    let exit = exit::of_receipt(&receipt);
    match broken_off {
        Some(error) => Err(error.into()),
        None if failures.is_empty() => Ok(exit),
        None if is_unreachable => Ok(Exit::Unreachable),
        None => Ok(exit.max(Exit::Failed)),
    }
}

/// Tells people what came of a load. That nobody could be told never fails it.
fn notify(
    ledger: &mut dyn Ledger,
    people: &[NotifySettings],
    receipt: &Receipt,
    failures: &[Failure],
    context: &Context,
) {
    let mut news = notifications::of_receipt(receipt);
    news.extend(failures.iter().map(notifications::of_trouble));
    let told = notifications::note(ledger, people, &news, Some(receipt))
        .and_then(|()| notifications::deliver(ledger, people, Duration::ZERO));
    let failures = told.unwrap_or_else(|error| vec![Failure::from(error)]);
    failures.iter().for_each(|failure| context.complain(failure));
}

/// What is to be loaded, and what keeps files at hand that are fetched.
type Wanted = (Job, Discovered, Named);

/// What the configuration wants loaded, and the files that are there for it.
fn by_configuration(arguments: &LoadArguments, settings: &Settings) -> Result<Wanted, Failure> {
    if let Some(table) = &arguments.table {
        let what = format!("--table {table} goes with files, not with the feeds of a configuration");
        return Err(Failure::usage(what).advise("set `table` in the feed, or load files with --into"));
    }
    let names: Vec<String> = arguments.what.iter().map(|path| path.to_string_lossy().into_owned()).collect();
    settings.feeds_named(&names).map_err(|failure| {
        if arguments.what.iter().any(|path| path.exists() || named_place::is_address(path)) {
            failure.advise("to load a file without the configuration, say where with --into")
        } else {
            failure
        }
    })?;
    let mut job = settings.job();
    arguments.reading.over_job(&mut job)?;
    let mut found = discover(&job, &names)?;
    if !names.is_empty() {
        found.unmatched.clear();
    }
    Ok((job, found, Named::default()))
}

/// The files and folders on the command line.
fn by_name(arguments: &LoadArguments) -> Result<Wanted, Failure> {
    if arguments.what.is_empty() {
        return Err(Failure::usage("there is nothing to load: no hypodoke.toml here, and no file was named")
            .advise("name a file: hypodoke load movements.csv, or write a configuration"));
    }
    let job = Job::new(staging_of(&arguments.database)?);
    let internal = internal_files(Some(&job.staging), Vec::new());
    let named = named_place::find(&arguments.what, NamedAs::WholePath, &internal, None)?;
    let NamedFiles { files, errors } = named.files.clone();
    let mut found = Discovered { errors, ..Discovered::default() };
    for file in files {
        add(&mut found.feeds, file, arguments)?;
    }
    Ok((job, found, named))
}

fn add(feeds: &mut Vec<FeedFiles>, file: Candidate, arguments: &LoadArguments) -> Result<(), Failure> {
    let table = arguments.table.clone().unwrap_or_else(|| match file.seen.is_local() {
        true => table_name(&file.seen.file),
        false => table_name(Path::new(&file.container().arrival.path)),
    });
    if let Some(feed) = feeds.iter_mut().find(|known| known.feed.table == table) {
        feed.files.push(file);
        return Ok(());
    }
    let feed = arguments.reading.plain_feed(table)?;
    feeds.push(FeedFiles { feed, files: vec![file], again: false });
    Ok(())
}
