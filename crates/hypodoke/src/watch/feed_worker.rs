//! The worker of one feed: a round looks at its place, loads what is new and says what came of it.

use std::time::{Duration, Instant};

use hypodoke_core::outcome::Outcome;
use hypodoke_engine::batch::StopSignal;
use hypodoke_engine::batch::{LoadReport, RunOptions, run_job};
use hypodoke_engine::discover::{Discovered, discover};
use hypodoke_engine::error::EngineError;
use hypodoke_engine::event::All;
use hypodoke_engine::job::Job;
use hypodoke_engine::receipt::Receipt;
use hypodoke_places::Scope;
use hypodoke_stores::{Lease, Mode, StoreError};
use jiff::Timestamp;
use tracing::{debug, error, info, warn};

use super::outages::Outages;
use super::retries::Retries;
use super::scheduler::{After, Wakeup};
use super::status::{FeedState, FileCounter, Status};
use crate::connections::{self, KeptConnections};
use crate::exit::LoadInHand;
use crate::failure::Failure;
use crate::notifications::{self, Notification};
use crate::render::log;
use crate::schedule::{Due, lateness};
use crate::settings::{FeedSettings, PlaceSettings, Settings};

/// After a database or a place was out of reach, it is tried again after so long, then twice …
const FIRST_RETRY: Duration = Duration::from_secs(5);

/// … up to this.
const LONGEST_RETRY: Duration = Duration::from_secs(300);

/// Whether somebody has decided about what is held is asked so often.
const ASK_FOR_DECISIONS: Duration = Duration::from_secs(10);

/// Of a place that can list what may be new by itself, all is listed so often.
const LIST_ALL: Duration = Duration::from_secs(3600);

/// Another process has the feed: it is asked for so often.
const STAND_BY: Duration = Duration::from_secs(5);

/// Looks after one feed.
pub struct FeedWorker<'a> {
    settings: &'a Settings,
    feed: &'a FeedSettings,
    status: &'a Status,
    stop: &'a StopSignal,
    /// Whether a file that no feed wants is one that was not told of yet.
    new_stranger: &'a (dyn Fn(&str) -> bool + Sync),
    /// Rung when there is something to tell.
    mail: &'a Wakeup,
    outages: &'a Outages,
    lease: Option<Lease>,
    connections: KeptConnections,
    retries: Retries,
    /// How many decisions the ledger had when it was last asked.
    decided: usize,
    /// When all of the place was listed last.
    listed_all: Option<Instant>,
    /// How many requests a listing took when it was told.
    told_requests: Option<u64>,
    /// What is out of reach since when, in words; it is told once.
    trouble: Option<String>,
    retry: Duration,
}

/// What the workers of all feeds share.
pub struct WorkerContext<'a> {
    /// The configuration.
    pub settings: &'a Settings,
    /// Where it is told how the feed does.
    pub status: &'a Status,
    /// Whether to stop.
    pub stop: &'a StopSignal,
    /// Whether a file that no feed wants was not told of yet.
    pub new_stranger: &'a (dyn Fn(&str) -> bool + Sync),
    /// Rung when there is something to tell.
    pub mail: &'a Wakeup,
    /// What is out of reach.
    pub outages: &'a Outages,
}

impl<'a> FeedWorker<'a> {
    /// Has not done anything yet.
    pub fn new(shared: WorkerContext<'a>, feed: &'a FeedSettings) -> FeedWorker<'a> {
        let WorkerContext { settings, status, stop, new_stranger, mail, outages } = shared;
        FeedWorker {
            settings,
            feed,
            status,
            stop,
            new_stranger,
            mail,
            outages,
            lease: None,
            connections: KeptConnections::new(&settings.staging),
            retries: Retries::default(),
            decided: 0,
            listed_all: None,
            told_requests: None,
            trouble: None,
            retry: FIRST_RETRY,
        }
    }

    /// A round: loads what is new.
    pub fn load(&mut self, now: Timestamp, settle: Duration) -> After {
        let name = &self.feed.name;
        match self.is_ours() {
            Ok(true) => {}
            Ok(false) => {
                if self.status.set(name, FeedState::StandingBy) != FeedState::StandingBy {
                    info!(feed = name, "another process watches this feed; standing by");
                }
                return After { again: Some(STAND_BY) };
            }
            Err(failure) => return self.out_of_reach(failure),
        }
        self.status.set(name, FeedState::Loading);
        let began = Instant::now();
        match self.round(now) {
            Ok(waiting) => {
                self.back_in_reach();
                self.status.round_ended(name, Timestamp::now(), began.elapsed());
                let next = self.retries.next_trial(now);
                let ask = self.retries.has_held().then_some(ASK_FOR_DECISIONS);
                let again = next.into_iter().chain(ask).min();
                let again = if waiting { Some(again.map_or(settle, |next| next.min(settle))) } else { again };
                After { again }
            }
            Err(failure) => self.out_of_reach(failure),
        }
    }

    /// Whether the feed is ours to look after: nobody else is at it.
    fn is_ours(&mut self) -> Result<bool, Failure> {
        if self.lease.as_mut().is_some_and(Lease::is_held) {
            return Ok(true);
        }
        self.lease = None;
        self.lease = Lease::take(self.settings.staging.ledger_url(), &self.feed.name)?;
        Ok(self.lease.is_some())
    }

    /// Loads what is new; whether files are still arriving.
    fn round(&mut self, now: Timestamp) -> Result<bool, Failure> {
        let mut job = self.settings.job();
        job.scope = self.scope();
        let mut found = discover(&job, std::slice::from_ref(&self.feed.name))?;
        if job.scope == Scope::Usual {
            self.listed_all = Some(Instant::now());
        }
        self.tell_requests(job.scope, found.requests);
        for path in std::mem::take(&mut found.unmatched) {
            if (self.new_stranger)(&path) {
                warn!(path, "no feed's `files` pattern fits this file");
            }
        }
        let waiting = !found.waiting.is_empty();
        if self.narrow(&mut found, job.scope, now)? {
            self.load_found(&job, &found, now)?;
        } else {
            self.without_errors(&found.errors)?;
        }
        Ok(waiting)
    }

    /// How much of the place is listed: all of it now and then, and as long as a file waits to be tried
    /// again, or files are looked at together; else what may be new.
    fn scope(&self) -> Scope {
        let place = self.settings.places.iter().find(|place| place.name == self.feed.place);
        let lists_recent = place.is_some_and(|place| place.place.lists_recent());
        let is_listed = self.listed_all.is_some_and(|at| at.elapsed() < LIST_ALL);
        let stand_alone = self.feed.feed.mode != Mode::Replace && self.feed.feed.delivery.is_none();
        match lists_recent && is_listed && stand_alone && !self.retries.has_any() {
            true => Scope::Recent,
            false => Scope::Usual,
        }
    }

    /// Says what a look at the place costs, where it is counted in requests, each time that this changes
    /// by much.
    fn tell_requests(&mut self, scope: Scope, requests: u64) {
        let told = self.told_requests.unwrap_or_default();
        if requests > 0 && (requests > 2 * told || 2 * requests < told) {
            let what = if scope == Scope::Recent { "what may be new" } else { "all of the place" };
            info!(feed = self.feed.name, requests, "listed {what}");
            self.told_requests = Some(requests);
        }
    }

    /// Leaves out what was looked at already; whether there is anything to do.
    fn narrow(&mut self, found: &mut Discovered, scope: Scope, now: Timestamp) -> Result<bool, Failure> {
        if scope != Scope::Recent {
            self.retries.keep_only(found.feeds.iter().flat_map(|feed| &feed.files));
        }
        if self.retries.has_held() {
            let decided = self.connections.ledger()?.decisions()?.len();
            if std::mem::replace(&mut self.decided, decided) != decided {
                self.retries.wake_held();
            }
        }
        // A feed has several tables where parts of its files' paths stand in their names.
        for files in &mut found.feeds {
            let is_any_due = files.files.iter().any(|file| self.retries.is_due(file, now));
            // Files of a delivery, and those that take one another's place, are looked at together.
            let stands_alone = files.feed.mode != Mode::Replace && files.feed.delivery.is_none();
            files.files.retain(|file| match stands_alone {
                true => self.retries.is_due(file, now),
                false => is_any_due && !self.retries.waits(file, now),
            });
        }
        let is_any_left = found.feeds.iter().any(|files| !files.files.is_empty());
        if !is_any_left {
            debug!(feed = self.feed.name, "nothing new");
        }
        Ok(is_any_left)
    }

    fn load_found(&mut self, job: &Job, found: &Discovered, now: Timestamp) -> Result<(), Failure> {
        let connect = || connections::tables(&self.settings.staging);
        let counts = FileCounter { status: self.status, feed: &self.feed.name };
        let listener = All(vec![&log::Log, &counts]);
        let in_hand = LoadInHand::begin();
        let options = RunOptions::new(&listener).stopped_by(self.stop).connecting(&connect);
        let report = run_job(job, found, self.connections.tables()?, options)?;
        drop(in_hand);
        self.remember(found, &report, now);
        let LoadReport { receipt, broken_off, errors, .. } = report;
        // What people are to be told of is never in the way of a load.
        let news = notifications::of_receipt(&receipt);
        match self.note(&news, Some(&receipt)) {
            Ok(()) => self.mail.wake(),
            Err(error) => warn!(error = %error, "what people are to be told could not be written down"),
        }
        match broken_off {
            Some(error) => Err(error.into()),
            None => self.without_errors(&errors),
        }
    }

    /// Writes down what people are to be told.
    fn note(&mut self, news: &[Notification], receipt: Option<&Receipt>) -> Result<(), StoreError> {
        notifications::note(self.connections.ledger()?, &self.settings.notify, news, receipt)
    }

    /// Whether files are late that are due at a moment; people are told.
    fn lateness(&mut self, due: Due) -> Result<bool, StoreError> {
        let ledger = self.connections.ledger()?;
        let late = lateness(ledger, &self.feed.name, &self.feed.schedule, due)?.if_late();
        if let Some(late) = &late {
            warn!(feed = self.feed.name, "{}", late.words());
            self.note(&[notifications::of_lateness(late)], None)?;
            self.mail.wake();
        }
        Ok(late.is_some())
    }

    /// What was done is done; what could not be reached is told.
    fn without_errors(&self, errors: &[EngineError]) -> Result<(), Failure> {
        for error in errors.iter().filter(|error| !error.is_unreachable()) {
            error!(feed = self.feed.name, error = %error, "trouble at the place");
        }
        match errors.iter().find(|error| error.is_unreachable()) {
            Some(error) => Err(error.clone().into()),
            None => Ok(()),
        }
    }

    /// Remembers what became of the files, so that the next round need not ask.
    fn remember(&mut self, found: &Discovered, report: &LoadReport, now: Timestamp) {
        let is_away = report.errors.iter().any(EngineError::is_unreachable);
        let whole = report.broken_off.is_none() && !is_away && !self.stop.is_requested();
        // What is put away may come again under its name, and be another file.
        let keeps = |place: &PlaceSettings| place.name == self.feed.place && place.put_away.is_none();
        let stays = self.settings.places.iter().any(keeps);
        let outcomes: std::collections::HashMap<&str, Outcome> =
            report.receipt.files.iter().map(|line| (line.path.as_str(), line.outcome)).collect();
        for file in found.feeds.iter().flat_map(|files| &files.files) {
            match outcomes.get(file.shown.as_str()) {
                Some(outcome @ (Outcome::Failed | Outcome::Held)) => {
                    self.retries.put_off(file, *outcome == Outcome::Held, now);
                }
                // It is another by now, or its delivery is not all there.
                Some(Outcome::Waiting) => {}
                Some(_) if stays => self.retries.settle(file),
                None if stays && whole => self.retries.settle(file),
                _ => {}
            }
        }
    }

    /// The database or the place is away: people are told once, until it is back.
    fn out_of_reach(&mut self, failure: Failure) -> After {
        let name = &self.feed.name;
        self.status.set(name, FeedState::OutOfReach);
        // The words may change while a server goes down; it is one outage all the same.
        if self.trouble.is_some() {
            debug!(feed = name, error = failure.message, "still unreachable");
        } else {
            error!(feed = name, error = failure.message, "out of reach");
            self.outages.away(name, &failure, Instant::now());
            self.mail.wake();
        }
        self.trouble = Some(failure.message);
        let again = Some(self.retry);
        self.retry = (self.retry * 2).min(LONGEST_RETRY);
        After { again }
    }

    fn back_in_reach(&mut self) {
        self.retry = FIRST_RETRY;
        self.status.set(&self.feed.name, FeedState::Waiting);
        if self.trouble.take().is_some() {
            info!(feed = self.feed.name, "back in reach");
            self.outages.back(&self.feed.name, Instant::now());
            self.mail.wake();
        }
    }

    /// Sees whether what should be there by now has come.
    pub fn ask_for_what_is_due(&mut self, now: Timestamp) -> After {
        let Some(due) = self.feed.schedule.due(now) else { return After::default() };
        if !matches!(self.is_ours(), Ok(true)) {
            return After::default();
        }
        match self.lateness(due) {
            Ok(late) => self.status.set_late(&self.feed.name, late),
            Err(error) => {
                warn!(feed = self.feed.name, error = %error, "whether files are late cannot be told")
            }
        }
        After::default()
    }
}
