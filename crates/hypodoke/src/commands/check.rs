//! `hypodoke check`: is the configuration right, can everything be reached, are the rights there,
//! and what would the next load do?

use hypodoke_places::sftp::Session;
use hypodoke_places::{PlaceError, RemoteTrouble};
use hypodoke_stores::{Mode, Store};
use serde::Serialize;

use super::{Context, asked};
use crate::cli::{CheckArguments, ReadingArguments};
use crate::engine::Delivery;
use crate::engine::forecast::{self, Forecast};
use crate::engine::task::Task;
use crate::exit::Exit;
use crate::failure::Failure;
use crate::render::{self, Tone, count, json};
use crate::settings::Settings;
use crate::settings::reader::suggest;

/// The version of the check's JSON.
///
/// 1: database, places, grants, feeds.
/// 2: what to do about the error of each.
const CHECK_JSON_VERSION: u32 = 2;

/// What was checked.
#[derive(Serialize)]
struct Document {
    version: u32,
    database: DatabaseLine,
    places: Vec<PlaceLine>,
    /// The statements that would give the rights that are missing.
    grants: Vec<String>,
    feeds: Vec<FeedLine>,
}

#[derive(Serialize)]
struct DatabaseLine {
    address: String,
    version: Option<String>,
    user: Option<String>,
    schema: Option<String>,
    error: Option<String>,
    /// What to do about it.
    advice: Option<String>,
}

#[derive(Serialize)]
struct PlaceLine {
    name: String,
    folder: String,
    files: u64,
    error: Option<String>,
    /// What to do about it.
    advice: Option<String>,
}

#[derive(Serialize)]
struct FeedLine {
    name: String,
    table: String,
    mode: &'static str,
    files: u64,
    new: u64,
    /// What the table is not good for.
    limits: Vec<String>,
    /// The SQL that the next load would run to make or change tables.
    ddl: Vec<String>,
    error: Option<String>,
    /// What to do about it.
    advice: Option<String>,
}

/// Runs the command.
pub fn run(arguments: &CheckArguments, context: &Context) -> Result<Exit, Failure> {
    let Some(settings) = context.settings()? else {
        return Err(Failure::usage("there is nothing to check: no hypodoke.toml here")
            .advise("write one by hypodoke draft, or name it with --config"));
    };
    if let Some(place) = &arguments.trust {
        return trust(place, arguments.yes, &settings, context);
    }
    let mut exit = Exit::Done;
    let places: Vec<PlaceLine> = settings
        .places
        .iter()
        .map(|place| {
            let folder = place.place.shown();
            match place.place.list() {
                Ok(found) => PlaceLine {
                    name: place.name.clone(),
                    folder,
                    files: found.seen.len() as u64,
                    error: None,
                    advice: None,
                },
                Err(error) => {
                    exit = exit.max(Exit::Unreachable);
                    let Failure { message, advice, .. } = Failure::of_place(&place.name, error);
                    let error = Some(message);
                    PlaceLine { name: place.name.clone(), folder, files: 0, error, advice }
                }
            }
        })
        .collect();
    let mut database = DatabaseLine {
        address: settings.store.to_string(),
        version: None,
        user: None,
        schema: None,
        error: None,
        advice: None,
    };
    let (mut grants, mut feeds) = (Vec::new(), Vec::new());
    let deliveries = match Task::of(&settings, &arguments.feeds, &ReadingArguments::default()) {
        Ok(task) => task.deliveries,
        Err(failure) if failure.exit == Exit::Unreachable => Vec::new(),
        Err(failure) => return Err(failure),
    };
    match hypodoke_stores::open(&settings.store).map_err(Failure::from) {
        Err(failure) => {
            exit = exit.max(failure.exit);
            (database.error, database.advice) = (Some(failure.message), failure.advice);
        }
        Ok(mut store) => {
            let about = store.about()?;
            (database.version, database.user, database.schema) =
                (Some(about.version), about.user, about.schema);
            let tables: Vec<(String, Mode)> =
                deliveries.iter().map(|delivery| (delivery.feed.table.clone(), delivery.feed.mode)).collect();
            grants = store.missing_rights(&tables)?;
            if !grants.is_empty() {
                exit = exit.max(Exit::Failed);
            }
            for delivery in &deliveries {
                let line = feed_line(store.as_mut(), delivery, arguments.ddl);
                if line.error.is_some() {
                    exit = exit.max(Exit::Failed);
                }
                feeds.push(line);
            }
        }
    }
    let document = Document { version: CHECK_JSON_VERSION, database, places, grants, feeds };
    if context.json {
        json::print(&document);
    } else if arguments.ddl {
        render::print(&ddl_text(&document));
    } else {
        render::print(&text(&document, context));
    }
    Ok(exit)
}

/// Shows the key of a server and adds it to those that are known, once somebody says so.
fn trust(name: &str, yes: bool, settings: &Settings, context: &Context) -> Result<Exit, Failure> {
    let names: Vec<&str> = settings.places.iter().map(|place| place.name.as_str()).collect();
    let Some(place) = settings.places.iter().find(|place| place.name == name) else {
        let what = format!("there is no place `{name}`; there are {}", names.join(", "));
        return Err(suggest(Failure::usage(what), name, &names));
    };
    let Some(address) = &place.address else {
        return Err(Failure::usage(format!("the place `{name}` is a folder, and has no key")));
    };
    let failed =
        |trouble: RemoteTrouble| Failure::from(PlaceError::Remote { shown: address.shown(), trouble });
    let key = Session::key_of(address).map_err(failed)?;
    let shown = format!("{} shows {} {}", address.shown(), key.algorithm(), key.fingerprint());
    if !yes && !asked(&format!("{shown}\nIs that what its owner says it is? [y/N] "))? {
        return Err(Failure::usage("nothing was added").advise("--yes adds it without asking"));
    }
    let file = hypodoke_places::sftp::learn(address, &key).map_err(failed)?;
    if context.json {
        json::print(&TrustDocument {
            version: CHECK_JSON_VERSION,
            place: name,
            algorithm: key.algorithm(),
            fingerprint: key.fingerprint(),
        });
    } else {
        render::print(&format!("{shown}\nadded to {}\n", file.display()));
    }
    Ok(Exit::Done)
}

#[derive(Serialize)]
struct TrustDocument<'a> {
    version: u32,
    place: &'a str,
    algorithm: String,
    fingerprint: String,
}

fn feed_line(store: &mut dyn Store, delivery: &Delivery, ddl: bool) -> FeedLine {
    let feed = &delivery.feed;
    let mut line = FeedLine {
        name: feed.name.clone().unwrap_or_default(),
        table: feed.table.clone(),
        mode: feed.mode.word(),
        files: delivery.files.len() as u64,
        new: 0,
        limits: Vec::new(),
        ddl: Vec::new(),
        error: None,
        advice: None,
    };
    match forecast::of(store, delivery, ddl) {
        Ok(Forecast { new, limits, ddl }) => (line.new, line.limits, line.ddl) = (new, limits, ddl),
        Err(failure) => (line.error, line.advice) = (Some(failure.message), failure.advice),
    }
    line
}

/// Statements alone, to be run by whoever may.
fn ddl_text(document: &Document) -> String {
    let mut out = String::new();
    for feed in &document.feeds {
        if let Some(error) = &feed.error {
            out.push_str(&format!("-- {}: {error}\n", feed.name));
        }
        for statement in &feed.ddl {
            out.push_str(&format!("{};\n", statement.trim_end_matches(';')));
        }
    }
    if out.is_empty() { "-- the next load would change no table\n".to_owned() } else { out }
}

fn text(document: &Document, context: &Context) -> String {
    let screen = context.screen;
    let good = |what: &str| format!("{} {what}\n", screen.paint(Tone::Good, "ok"));
    let bad = |what: &str| format!("{} {what}\n", screen.paint(Tone::Bad, "no"));
    let wrong = |what: &str, advice: &Option<String>| {
        let advice = advice.as_ref().map(|advice| format!("   → {advice}\n"));
        bad(what) + &advice.unwrap_or_default()
    };
    let mut out = String::new();
    let database = &document.database;
    match &database.error {
        Some(error) => out.push_str(&wrong(error, &database.advice)),
        None => {
            let mut about = vec![database.version.clone().unwrap_or_default()];
            about.extend(database.user.iter().map(|user| format!("as {user}")));
            about.extend(database.schema.iter().map(|schema| format!("schema {schema}")));
            out.push_str(&good(&format!("database {}: {}", database.address, about.join(", "))));
        }
    }
    for place in &document.places {
        out.push_str(&match &place.error {
            Some(error) => wrong(error, &place.advice),
            None => good(&format!("place {}: {} in {}", place.name, count::files(place.files), place.folder)),
        });
    }
    for feed in &document.feeds {
        match &feed.error {
            Some(error) => out.push_str(&wrong(&format!("feed {}: {error}", feed.name), &feed.advice)),
            None => {
                let files = count::files(feed.files);
                let new = if feed.new == 0 {
                    "none of them new".to_owned()
                } else {
                    format!("{} new", count::number(feed.new))
                };
                out.push_str(&good(&format!(
                    "feed {} → {} ({}): {files}, {new}",
                    feed.name, feed.table, feed.mode
                )));
            }
        }
        for limit in &feed.limits {
            out.push_str(&format!("   {} {limit}\n", screen.paint(Tone::Warning, "!")));
        }
    }
    if !document.grants.is_empty() {
        out.push_str(&bad("rights are missing; whoever may can give them:"));
        for grant in &document.grants {
            out.push_str(&format!("   {grant}\n"));
        }
    }
    out
}
