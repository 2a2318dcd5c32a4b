//! The status: how every feed is doing, for whoever asks.

use std::collections::BTreeMap;
use std::sync::{Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant};

use jiff::Timestamp;
use prometheus_client::encoding::EncodeLabelSet;
use prometheus_client::encoding::text::encode;
use prometheus_client::metrics::counter::Counter;
use prometheus_client::metrics::family::Family;
use prometheus_client::metrics::gauge::Gauge;
use prometheus_client::registry::{Registry, Unit};
use serde::Serialize;

use hypodoke_engine::event::{Event, Listener};
use hypodoke_engine::receipt::ReceiptLine;

use crate::report::live::{Running, RunningLoad};

/// What a feed is at.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize)]
#[serde(rename_all = "snake_case")]
pub enum FeedState {
    /// Nothing was done yet.
    #[default]
    Starting,
    /// Its place or the database is looked at, or files are loaded.
    Loading,
    /// Waiting for files, or for the time.
    Waiting,
    /// Another process looks after it.
    StandingBy,
    /// Its place or the database is out of reach.
    OutOfReach,
}

impl FeedState {
    /// The state in words.
    fn words(self) -> &'static str {
        match self {
            FeedState::Starting => "starting",
            FeedState::Loading => "loading",
            FeedState::Waiting => "waiting for files",
            FeedState::StandingBy => "standing by: another watch looks after it",
            FeedState::OutOfReach => "out of reach",
        }
    }
}

#[derive(Clone, Debug, Hash, PartialEq, Eq, EncodeLabelSet)]
struct OfFeed {
    feed: String,
}

#[derive(Clone, Debug, Hash, PartialEq, Eq, EncodeLabelSet)]
struct OfOutcome {
    feed: String,
    outcome: &'static str,
}

/// One feed as health tells it.
#[derive(Clone, Debug, Default, Serialize)]
struct FeedStatus {
    state: FeedState,
    late: bool,
    last_round_at: Option<String>,
    last_loaded_at: Option<String>,
    #[serde(skip)]
    load: Option<LoadStatus>,
}

/// How far a load has come.
#[derive(Clone, Debug)]
struct LoadStatus {
    path: String,
    files: (u64, u64),
    bytes: (u64, u64),
    began: Instant,
}

/// How every feed is doing.
pub struct Status {
    feeds: Mutex<BTreeMap<String, FeedStatus>>,
    registry: Registry,
    files: Family<OfOutcome, Counter>,
    rows: Family<OfOutcome, Counter>,
    bytes: Family<OfFeed, Counter>,
    rounds: Family<OfFeed, Counter>,
    round_seconds: Family<OfFeed, Counter<f64, std::sync::atomic::AtomicU64>>,
    last_round: Family<OfFeed, Gauge>,
    last_loaded: Family<OfFeed, Gauge>,
    in_reach: Family<OfFeed, Gauge>,
    late: Family<OfFeed, Gauge>,
}

/// What health has to say.
#[derive(Serialize)]
struct Health<'a> {
    version: u32,
    healthy: bool,
    feeds: &'a BTreeMap<String, FeedStatus>,
}

/// The version of the health document.
///
/// 1: version, healthy, feeds.
const HEALTH_JSON_VERSION: u32 = 1;

impl Default for Status {
    fn default() -> Status {
        let mut registry = Registry::with_prefix("hypodoke");
        let status = |registry: &mut Registry| Status {
            feeds: Mutex::default(),
            files: registered(registry, "files", "Files by what became of them", None),
            rows: registered(registry, "rows", "Rows by what became of them", None),
            bytes: registered(registry, "loaded", "Bytes of the files loaded", Some(Unit::Bytes)),
            rounds: registered(registry, "rounds", "Looks at the place of a feed", None),
            round_seconds: registered(registry, "rounds_time", "Time that rounds took", Some(Unit::Seconds)),
            last_round: registered(
                registry,
                "last_round_timestamp",
                "When the last round ended",
                Some(Unit::Seconds),
            ),
            last_loaded: registered(
                registry,
                "last_loaded_timestamp",
                "When a file was last loaded",
                Some(Unit::Seconds),
            ),
            in_reach: registered(registry, "in_reach", "Whether place and database can be reached", None),
            late: registered(registry, "late", "Whether files that are due have not come", None),
            registry: Registry::default(),
        };
        let mut status = status(&mut registry);
        status.registry = registry;
        status
    }
}

fn registered<M>(registry: &mut Registry, name: &str, help: &str, unit: Option<Unit>) -> M
where
    M: prometheus_client::registry::Metric + Clone + Default,
{
    let metric = M::default();
    match unit {
        Some(unit) => registry.register_with_unit(name, help, unit, metric.clone()),
        None => registry.register(name, help, metric.clone()),
    }
    metric
}

impl Status {
    fn lines(&self) -> MutexGuard<'_, BTreeMap<String, FeedStatus>> {
        self.feeds.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// These feeds are looked after from now on.
    pub fn begin<'a>(&self, feeds: impl Iterator<Item = &'a str>) {
        let mut lines = self.lines();
        let before = std::mem::take(&mut *lines);
        for feed in feeds {
            lines.insert(feed.to_owned(), before.get(feed).cloned().unwrap_or_default());
        }
    }

    /// What a feed is at from now on; gives what it was at.
    pub fn set(&self, feed: &str, state: FeedState) -> FeedState {
        let reached = match state {
            FeedState::Waiting => Some(1),
            FeedState::OutOfReach => Some(0),
            _ => None,
        };
        if let Some(reached) = reached {
            self.in_reach.get_or_create(&of(feed)).set(reached);
        }
        let mut lines = self.lines();
        lines.get_mut(feed).map_or(FeedState::default(), |line| std::mem::replace(&mut line.state, state))
    }

    /// Whether files of a feed are late.
    pub fn set_late(&self, feed: &str, late: bool) {
        self.late.get_or_create(&of(feed)).set(i64::from(late));
        if let Some(line) = self.lines().get_mut(feed) {
            line.late = late;
        }
    }

    /// A round is over.
    pub fn round_ended(&self, feed: &str, at: Timestamp, took: Duration) {
        self.rounds.get_or_create(&of(feed)).inc();
        self.round_seconds.get_or_create(&of(feed)).inc_by(took.as_secs_f64());
        self.last_round.get_or_create(&of(feed)).set(at.as_second());
        if let Some(line) = self.lines().get_mut(feed) {
            line.last_round_at = Some(second(at));
        }
    }

    /// What became of a file.
    fn count(&self, feed: &str, line: &ReceiptLine) {
        let outcome = |outcome| OfOutcome { feed: feed.to_owned(), outcome };
        self.files.get_or_create(&outcome(line.outcome.word())).inc();
        if !line.outcome.counts() {
            return;
        }
        self.rows.get_or_create(&outcome("loaded")).inc_by(line.rows_loaded);
        self.rows.get_or_create(&outcome("rejected")).inc_by(line.rows_rejected);
        self.rows.get_or_create(&outcome("left_out")).inc_by(line.rows_left_out);
        self.bytes.get_or_create(&of(feed)).inc_by(line.bytes);
        let now = Timestamp::now();
        self.last_loaded.get_or_create(&of(feed)).set(now.as_second());
        self.set_late(feed, false);
        if let Some(line) = self.lines().get_mut(feed) {
            line.last_loaded_at = Some(second(now));
        }
    }

    /// What every feed is at, and how far its load has come.
    pub fn running(&self) -> Vec<Running> {
        let line = |(feed, line): (&String, &FeedStatus)| Running {
            feed: feed.clone(),
            state: if line.late {
                format!("{}, late", line.state.words())
            } else {
                line.state.words().to_owned()
            },
            is_bad: line.late || line.state == FeedState::OutOfReach,
            load: line.load.as_ref().map(|load| RunningLoad {
                path: load.path.clone(),
                files: load.files,
                bytes: load.bytes,
                seconds: load.began.elapsed().as_secs_f64(),
            }),
        };
        self.lines().iter().map(line).collect()
    }

    /// Takes in how far a load has come.
    fn follow(&self, feed: &str, event: &Event) {
        let mut lines = self.lines();
        let Some(line) = lines.get_mut(feed) else { return };
        match event {
            Event::BatchBegan { files, bytes, .. } => {
                let (files, bytes) = ((0, *files as u64), (0, *bytes));
                line.load = Some(LoadStatus { path: String::new(), files, bytes, began: Instant::now() });
            }
            Event::BatchEnded { .. } => line.load = None,
            _ => {
                let Some(load) = &mut line.load else { return };
                match event {
                    Event::FileBegan { path, .. } => load.path.clone_from(path),
                    Event::Progress { bytes, .. } => load.bytes.0 += bytes,
                    Event::FileEnded { .. } => load.files.0 += 1,
                    _ => {}
                }
            }
        }
    }

    /// Whether all is well, and how each feed is doing, as JSON.
    pub fn health(&self) -> (bool, String) {
        let feeds = self.lines();
        let healthy = feeds.values().all(|line| line.state != FeedState::OutOfReach);
        let health = Health { version: HEALTH_JSON_VERSION, healthy, feeds: &feeds };
        (healthy, serde_json::to_string_pretty(&health).unwrap_or_default())
    }

    /// All figures in the text format of Prometheus.
    pub fn metrics(&self) -> String {
        let mut text = String::new();
        // Writing into a text does not fail.
        let _ = encode(&mut text, &self.registry);
        text
    }
}

/// Counts what becomes of the files of one feed.
pub struct FileCounter<'a> {
    /// Where it is counted.
    pub status: &'a Status,
    /// The feed.
    pub feed: &'a str,
}

impl Listener for FileCounter<'_> {
    fn on(&self, event: &Event) {
        self.status.follow(self.feed, event);
        if let Event::FileEnded { line, .. } = event {
            self.status.count(self.feed, line);
        }
    }
}

fn of(feed: &str) -> OfFeed {
    OfFeed { feed: feed.to_owned() }
}

fn second(at: Timestamp) -> String {
    Timestamp::from_second(at.as_second()).unwrap_or(at).to_string()
}
