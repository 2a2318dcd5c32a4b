//! `hypodoke check`: is the configuration right, can everything be reached, are the rights there,
//! and what would the next load do?

mod night;

use hypodoke_core::count;
use hypodoke_engine::decide::FailReason;
use hypodoke_engine::discover::discover;
use hypodoke_engine::error::EngineError;
use hypodoke_engine::inspect::{Forecast, forecast};
use hypodoke_engine::job::{FeedFiles, Job};
use hypodoke_engine::lost_tables::{TableLoss, fewer_rows, table_loss};
use hypodoke_places::{PlaceError, RemoteTrouble, Scope, Seen};
use hypodoke_stores::{Mode, ServerSetting, Tables};
use jiff::Timestamp;
use serde::Serialize;

use night::NightLine;

use super::context::{Context, asked};
use crate::cli::CheckArguments;
use crate::connections;
use crate::exit::Exit;
use crate::failure::Failure;
use crate::render::receipt::{missing_advice, missing_words};
use crate::render::{self, Tone, json};
use crate::settings::reader::suggest;
use crate::settings::{PlaceSettings, Settings};

/// The version of the check's JSON.
///
/// 1: database, places, grants, feeds.
/// 2: what to do about the error of each. Fields may be added without a new version.
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
    /// What the night will need besides.
    night: Vec<NightLine>,
}

#[derive(Default, Serialize)]
struct DatabaseLine {
    address: String,
    version: Option<String>,
    user: Option<String>,
    schema: Option<String>,
    #[serde(skip)]
    clock: Option<i64>,
    #[serde(skip)]
    settings: Vec<ServerSetting>,
    error: Option<String>,
    /// What to do about it.
    advice: Option<String>,
}

#[derive(Serialize)]
struct PlaceLine {
    name: String,
    folder: String,
    files: u64,
    /// How many requests listing them takes, where those are counted.
    requests: Option<u64>,
    /// How many files end where their connection ends, and nothing tells whether it was cut off.
    open_ended: u64,
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
    /// What somebody has done to the table.
    missing: Option<TableLoss>,
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
    let wanted = settings.feeds_named(&arguments.feeds)?;
    let job = settings.job();
    let (places, seen, places_exit) = place_lines(&settings);
    let feeds = match discover(&job, &arguments.feeds) {
        Ok(found) => found.feeds,
        Err(error) if error.is_unreachable() => Vec::new(),
        Err(error) => return Err(error.into()),
    };
    let (database, grants, feeds, exit) = database_lines(&job, &settings, &feeds, arguments.ddl)?;
    let mut night = night::disks(&settings);
    night.extend(night::clocks(database.clock));
    night.extend(database.settings.iter().map(night::server));
    night.extend(night::files(&wanted, &job, &seen));
    night.extend(night::schedules(&wanted, Timestamp::now()));
    night.extend(night::people(&settings, arguments.notify));
    let night_exit = if night.iter().any(|line| line.is_error) { Exit::Failed } else { Exit::Done };
    let exit = exit.max(places_exit).max(night_exit);
    let document = Document { version: CHECK_JSON_VERSION, database, places, grants, feeds, night };
    if context.json {
        json::print(&document)?;
    } else if arguments.ddl {
        render::print(&ddl_text(&document));
    } else {
        render::print(&text(&document, context));
    }
    Ok(exit)
}

/// What is at each place, and how the process ends by it.
fn place_lines(settings: &Settings) -> (Vec<PlaceLine>, Vec<Seen>, Exit) {
    let (mut exit, mut seen) = (Exit::Done, Vec::new());
    let line = |place: &PlaceSettings| {
        let (name, folder) = (place.name.clone(), place.place.shown());
        match place.place.list(Scope::Usual) {
            Ok(found) => {
                let files = found.seen.len() as u64;
                let requests = Some(found.requests).filter(|requests| *requests > 0);
                seen.extend(found.seen);
                let open_ended = found.open_ended;
                PlaceLine { name, folder, files, requests, open_ended, error: None, advice: None }
            }
            Err(error) => {
                exit = exit.max(Exit::Unreachable);
                let Failure { message, advice, .. } = EngineError::listing(&name, error).into();
                let error = Some(message);
                PlaceLine { name, folder, files: 0, requests: None, open_ended: 0, error, advice }
            }
        }
    };
    let lines = settings.places.iter().map(line).collect();
    (lines, seen, exit)
}

/// What the database says of itself and of the feeds' tables.
type DatabaseLines = (DatabaseLine, Vec<String>, Vec<FeedLine>, Exit);

fn database_lines(
    job: &Job,
    settings: &Settings,
    feeds: &[FeedFiles],
    ddl: bool,
) -> Result<DatabaseLines, Failure> {
    let mut database = DatabaseLine { address: job.staging.to_string(), ..DatabaseLine::default() };
    let mut store = match connections::tables(&job.staging).map_err(Failure::from) {
        Ok(store) => store,
        Err(Failure { message, advice, exit }) => {
            (database.error, database.advice) = (Some(message), advice);
            return Ok((database, Vec::new(), Vec::new(), exit));
        }
    };
    let about = store.about()?;
    (database.version, database.user, database.schema) = (Some(about.version), about.user, about.schema);
    (database.clock, database.settings) = (about.clock, about.settings);
    let tables: Vec<(String, Mode)> =
        feeds.iter().map(|files| (files.feed.table.clone(), files.feed.mode)).collect();
    let grants = store.missing_rights(&tables)?;
    let key_at = |files: &FeedFiles| {
        let feed = settings.feeds.iter().find(|feed| Some(&feed.name) == files.feed.name.as_ref());
        feed.and_then(|feed| feed.key_at.as_deref())
    };
    let lines: Vec<FeedLine> =
        feeds.iter().map(|files| feed_line(store.as_mut(), files, key_at(files), ddl)).collect();
    let is_good = grants.is_empty() && lines.iter().all(|line| line.error.is_none());
    let is_whole = lines.iter().all(|line| line.missing.is_none());
    let exit = match (is_good, is_whole) {
        (true, true) => Exit::Done,
        (true, false) => Exit::NeedsAttention,
        (false, _) => Exit::Failed,
    };
    Ok((database, grants, lines, exit))
}

/// Shows the key of a server and adds it to those that are known, once somebody says so.
fn trust(name: &str, yes: bool, settings: &Settings, context: &Context) -> Result<Exit, Failure> {
    let names: Vec<&str> = settings.places.iter().map(|place| place.name.as_str()).collect();
    let Some(place) = settings.places.iter().find(|place| place.name == name) else {
        let what = format!("there is no place `{name}`; there are {}", names.join(", "));
        return Err(suggest(Failure::usage(what), name, &names));
    };
    let Some(identity) = place.place.identity() else {
        return Err(Failure::usage(format!("the place `{name}` is a folder, and has no key")));
    };
    let address = place.place.shown();
    let failed =
        |trouble: RemoteTrouble| Failure::from(PlaceError::Remote { shown: address.clone(), trouble });
    let key = identity.shown_key().map_err(failed)?;
    let shown = format!("{address} shows {} {}", key.algorithm, key.fingerprint);
    if !yes && !asked(&format!("{shown}\nIs that what its owner says it is? [y/N] "))? {
        return Err(Failure::usage("nothing was added").advise("--yes adds it without asking"));
    }
    let file = identity.trust(&key).map_err(failed)?;
    if context.json {
        json::print(&TrustDocument {
            version: CHECK_JSON_VERSION,
            place: name,
            algorithm: key.algorithm,
            fingerprint: key.fingerprint,
        })?;
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

fn feed_line(store: &mut dyn Tables, files: &FeedFiles, key_at: Option<&str>, ddl: bool) -> FeedLine {
    let feed = &files.feed;
    let mut line = FeedLine {
        name: feed.name.clone().unwrap_or_default(),
        table: feed.table.clone(),
        mode: feed.mode.word(),
        files: files.files.len() as u64,
        new: 0,
        limits: Vec::new(),
        missing: None,
        ddl: Vec::new(),
        error: None,
        advice: None,
    };
    if let Ok(true) = store.ledger().has_ledger() {
        let loss = table_loss(store, feed).and_then(|loss| match loss {
            Some(loss) => Ok(Some(loss)),
            None => fewer_rows(store, feed, u64::MAX),
        });
        line.missing = loss.ok().flatten();
    }
    let forecast = forecast(store, files, ddl);
    let is_of_key = matches!(&forecast, Err(EngineError::Unloadable { reason, .. }) if is_about_key(reason));
    match forecast.map_err(Failure::from) {
        Ok(Forecast { new, without_lineage, texts_among_numbers, ddl }) => {
            (line.new, line.ddl) = (new, ddl);
            let texts = texts_among_numbers.iter().map(|(table, column)| text_limit(table, column));
            line.limits = without_lineage.iter().map(|table| limit(table)).chain(texts).collect();
        }
        Err(failure) => {
            let at = key_at.filter(|_| is_of_key).map(|at| format!("{at}: ")).unwrap_or_default();
            (line.error, line.advice) = (Some(format!("{at}{}", failure.message)), failure.advice);
        }
    }
    line
}

/// Whether a reason is about the key of a feed.
fn is_about_key(reason: &FailReason) -> bool {
    matches!(
        reason,
        FailReason::NoKeyColumn { .. } | FailReason::KeyOfList { .. } | FailReason::NoPart { .. }
    )
}

/// What is not possible with a table that has no lineage columns.
fn limit(table: &str) -> String {
    format!(
        "`{table}` has no columns hd_file and hd_line: its rows do not lead back to their files, and a corrected file cannot take the place of the first"
    )
}

/// What is to be known of a column in which some numbers have more digits than the database's have.
fn text_limit(table: &str, column: &str) -> String {
    format!(
        "`{table}.{column}` has values of more than 15 digits, which SQLite can only keep as text: they compare and sort after all the others"
    )
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

/// What is said of a feed that nothing is wrong with.
fn feed_words(feed: &FeedLine) -> String {
    let files = count::files(feed.files);
    let new = match feed.new {
        0 => "none of them new".to_owned(),
        new => format!("{} new", count::number(new)),
    };
    format!("feed {} → {} ({}): {files}, {new}", feed.name, feed.table, feed.mode)
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
            None => {
                let requests = place.requests.map(|many| count::of(many, "request", "requests"));
                let requests = requests.map(|many| format!(", listed by {many}")).unwrap_or_default();
                let files = count::files(place.files);
                good(&format!("place {}: {files} in {}{requests}", place.name, place.folder))
            }
        });
        if place.open_ended > 0 {
            let files = count::files(place.open_ended);
            let what = format!(
                "the server does not state the length of {files}, over plain HTTP: a file that is cut off on the way looks whole"
            );
            let mark = screen.paint(Tone::Warning, "!");
            out.push_str(&format!(
                "   {mark} {what}\n     → use https, or ask the server's owner to state the length\n"
            ));
        }
    }
    for feed in &document.feeds {
        match &feed.error {
            Some(error) => out.push_str(&wrong(&format!("feed {}: {error}", feed.name), &feed.advice)),
            None => {
                out.push_str(&good(&feed_words(feed)));
            }
        }
        if let Some(missing) = &feed.missing {
            let what = screen.paint(Tone::Bad, &missing_words(missing));
            out.push_str(&format!("   ! {what}\n     → {}\n", missing_advice(missing)));
        }
        for limit in &feed.limits {
            out.push_str(&format!("   {} {limit}\n", screen.paint(Tone::Warning, "!")));
        }
    }
    document.night.iter().for_each(|line| out.push_str(&line.text(screen)));
    if !document.grants.is_empty() {
        out.push_str(&bad("rights are missing; whoever may can give them:"));
        for grant in &document.grants {
            out.push_str(&format!("   {grant}\n"));
        }
    }
    out
}
