//! The log: what happens, for programs and for whoever looks into it afterwards.
//!
//! Only what this program says of itself is logged, at any level: what libraries log may hold what
//! nobody is to read.

use std::path::Path;
use std::sync::Mutex;

use hypodoke_core::drift::Drift;
use hypodoke_core::outcome::Outcome;
use hypodoke_engine::event::{Event, Listener};
use hypodoke_places::private;
use tracing::{debug, error, info, trace, warn};
use tracing_subscriber::filter::{EnvFilter, LevelFilter, filter_fn};
use tracing_subscriber::fmt::MakeWriter;
use tracing_subscriber::prelude::*;

use crate::failure::Failure;
use crate::wording::reasons;
use hypodoke_engine::receipt::{Receipt, ReceiptLine};

/// The setting in the environment that says what is logged: a level (`error`, `warn`, `info`,
/// `debug`, `trace`), or more exactly by part.
pub const VARIABLE: &str = "HYPODOKE_LOG";

/// Where a log goes, and how.
#[derive(Clone, Copy, Debug, Default)]
pub struct LogPlan<'a> {
    /// Its file; standard error if unsaid.
    pub file: Option<&'a Path>,
    /// A line is a JSON object.
    pub json: bool,
    /// What is logged where the environment does not say; nothing if unsaid.
    pub level: Option<&'a str>,
    /// Standard error takes colour.
    pub color: bool,
}

/// Begins to log, if anybody wants a log.
pub fn begin(plan: LogPlan<'_>) -> Result<(), Failure> {
    let wanted = std::env::var(VARIABLE).ok().filter(|text| !text.is_empty());
    let Some(level) = wanted.as_deref().or(plan.level) else { return Ok(()) };
    let wrong = |why: String| {
        Failure::usage(format!("{VARIABLE}={level}: {why}"))
            .advise("write a level: error, warn, info, debug or trace")
    };
    let is_a_word = level.chars().all(|c| c.is_ascii_alphanumeric());
    if is_a_word && level.parse::<LevelFilter>().is_err() {
        return Err(wrong("that is not a level".to_owned()));
    }
    let filter = EnvFilter::try_new(level).map_err(|error| wrong(error.to_string()))?;
    match plan.file {
        Some(path) => {
            let open = private().append(true).create(true).open(path);
            let file = open.map_err(|error| {
                Failure::usage(format!("the log `{}` cannot be written: {error}", path.display()))
            })?;
            install(plan, filter, Mutex::new(file), false);
        }
        None => install(plan, filter, std::io::stderr, plan.color),
    }
    Ok(())
}

fn install<W>(plan: LogPlan<'_>, filter: EnvFilter, writer: W, color: bool)
where
    W: for<'w> MakeWriter<'w> + Send + Sync + 'static,
{
    let own = filter_fn(|data| data.target().starts_with("hypodoke"));
    let registry = tracing_subscriber::registry().with(filter);
    let layer = tracing_subscriber::fmt::layer().with_writer(writer).with_ansi(color).with_target(false);
    // A second log in one process is one too many, and the first stays.
    let _ = if plan.json {
        registry.with(layer.json().flatten_event(true).with_filter(own)).try_init()
    } else {
        registry.with(layer.with_filter(own)).try_init()
    };
}

/// Logs events.
pub struct Log;

/// Logs events besides telling somebody else.
pub struct Logged(pub Box<dyn Listener>);

impl Listener for Logged {
    fn on(&self, event: &Event) {
        Log.on(event);
        self.0.on(event);
    }
}

impl Listener for Log {
    fn on(&self, event: &Event) {
        match event {
            Event::BatchBegan { batch, files, bytes } => debug!(batch, files, bytes, "batch began"),
            Event::SurveyBegan { files, bytes } => debug!(files, bytes, "survey began"),
            Event::FileBegan { path, step, bytes } => debug!(path, ?step, bytes, "file began"),
            Event::Progress { path, bytes } => trace!(path = &**path, bytes, "read"),
            Event::Retrying { path, error } => {
                warn!(path = path.as_deref(), error = reasons::of_error(error), "trying again");
            }
            Event::FileEnded { batch, line, .. } => file_ended(*batch, line),
            Event::ConflictFound { conflict, .. } => {
                info!(table = conflict.table, column = conflict.column, joined = conflict.joined, "conflict");
            }
            Event::BatchEnded { receipt } => batch_ended(receipt),
            Event::SurveyEnded => debug!("survey ended"),
            // Whoever runs the batch is given the error too, and says it once.
            Event::Failed { error } => debug!(error = reasons::of_error(error), "failed"),
            _ => {}
        }
    }
}

/// To the millisecond: the rest is noise.
fn millis(seconds: f64) -> f64 {
    (seconds * 1e3).round() / 1e3
}

/// Logs what became of a file.
fn file_ended(batch: i64, line: &ReceiptLine) {
    let (path, feed, table) = (&line.path, line.feed.as_deref(), line.table.as_deref());
    let message = reasons::of_line(line);
    match line.outcome {
        Outcome::Failed => error!(batch, feed, path, table, message, "failed"),
        Outcome::Held => warn!(batch, feed, path, table, message, "held"),
        Outcome::Loaded | Outcome::Superseded => info!(
            batch,
            feed,
            path,
            table,
            rows_read = line.rows_read,
            rows_loaded = line.rows_loaded,
            rows_rejected = line.rows_rejected,
            rows_left_out = line.rows_left_out,
            seconds = millis(line.seconds),
            drift = drift_of(line),
            "loaded"
        ),
        other => info!(batch, feed, path, table, message, "{}", other.word()),
    }
}

/// What of a file is not as it was, in a line; nothing where all is.
fn drift_of(line: &ReceiptLine) -> Option<String> {
    let news: Vec<String> = line.changes.iter().filter(|drift| drift.is_news()).map(Drift::words).collect();
    (!news.is_empty()).then(|| news.join("; "))
}

/// Logs what came of a batch.
fn batch_ended(receipt: &Receipt) {
    let Some(batch) = receipt.batch else { return };
    let totals = &receipt.totals;
    info!(
        batch,
        files_loaded = totals.files_loaded,
        files_failed = totals.files_failed,
        files_held = totals.files_held,
        rows_loaded = totals.rows_loaded,
        rows_rejected = totals.rows_rejected,
        seconds = millis(receipt.seconds),
        "batch done"
    );
}
