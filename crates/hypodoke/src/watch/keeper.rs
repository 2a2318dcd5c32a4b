//! The keeper of one feed: a round looks at its place, loads what is new and says what came of it.

use std::time::Duration;

use hypodoke_core::event::Outcome;
use hypodoke_stores::{Lease, Mode};
use jiff::Timestamp;
use tracing::{debug, error, info, warn};

use super::board::{Board, State};
use super::later::Later;
use super::rota::{After, Bell};
use crate::cli::ReadingArguments;
use crate::engine::due;
use crate::engine::means::Stop;
use crate::engine::receipt::Receipt;
use crate::engine::task::{Done, Task};
use crate::exit::Exit;
use crate::failure::Failure;
use crate::render::log;
use crate::settings::{FeedSettings, PlaceSettings, Settings};
use crate::tell::{self, Event, Happening};

/// After a database or a place was out of reach, it is tried again after so long, then twice …
const FIRST_RETRY: Duration = Duration::from_secs(5);

/// … up to this.
const LONGEST_RETRY: Duration = Duration::from_secs(300);

/// Whether somebody has decided about what is held is asked so often.
const ASK_FOR_DECISIONS: Duration = Duration::from_secs(10);

/// Another process has the feed: it is asked for so often.
const STAND_BY: Duration = Duration::from_secs(5);

/// Looks after one feed.
pub struct Keeper<'a> {
    settings: &'a Settings,
    feed: &'a FeedSettings,
    board: &'a Board,
    stop: &'a Stop,
    /// Whether a file that no feed wants is one that was not told of yet.
    new_stranger: &'a (dyn Fn(&str) -> bool + Sync),
    /// Rung when there is something to tell.
    mail: &'a Bell,
    lease: Option<Lease>,
    later: Later,
    /// How many decisions the ledger had when it was last asked.
    decided: usize,
    /// What is out of reach since when, in words; it is told once.
    trouble: Option<String>,
    retry: Duration,
}

impl<'a> Keeper<'a> {
    /// Has not done anything yet.
    pub fn new(
        settings: &'a Settings,
        feed: &'a FeedSettings,
        board: &'a Board,
        stop: &'a Stop,
        new_stranger: &'a (dyn Fn(&str) -> bool + Sync),
        mail: &'a Bell,
    ) -> Keeper<'a> {
        Keeper {
            settings,
            feed,
            board,
            stop,
            new_stranger,
            mail,
            lease: None,
            later: Later::default(),
            decided: 0,
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
                if self.board.set(name, State::StandingBy) != State::StandingBy {
                    info!(feed = name, "another process watches this feed; standing by");
                }
                return After { again: Some(STAND_BY) };
            }
            Err(failure) => return self.out_of_reach(failure),
        }
        self.board.set(name, State::Loading);
        let began = std::time::Instant::now();
        match self.round(now) {
            Ok(waiting) => {
                self.back_in_reach();
                self.board.round_ended(name, Timestamp::now(), began.elapsed());
                let next = self.later.next_trial(now);
                let ask = self.later.has_held().then_some(ASK_FOR_DECISIONS);
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
        self.lease = Lease::take(&self.settings.store, &self.feed.name)?;
        Ok(self.lease.is_some())
    }

    /// Loads what is new; whether files are still arriving.
    fn round(&mut self, now: Timestamp) -> Result<bool, Failure> {
        let names = [self.feed.name.clone()];
        let mut task = Task::of(self.settings, &names, &ReadingArguments::default())?;
        for path in std::mem::take(&mut task.unmatched) {
            if (self.new_stranger)(&path) {
                warn!(path, "no feed's `files` pattern fits this file");
            }
        }
        let waiting = !task.waiting.is_empty();
        let Some(delivery) = task.deliveries.first_mut() else { return Ok(waiting) };
        self.later.keep_only(&delivery.files);
        if self.later.has_held() {
            let decided = hypodoke_stores::open(&self.settings.store)?.decisions()?.len();
            if std::mem::replace(&mut self.decided, decided) != decided {
                self.later.wake_held();
            }
        }
        if !delivery.files.iter().any(|file| self.later.is_due(file, now)) {
            debug!(feed = self.feed.name, files = delivery.files.len(), "nothing new");
            return self.without_troubles(&task.troubles, waiting);
        }
        // Files of a delivery, and those that take one another's place, are looked at together.
        let stands_alone = delivery.feed.mode != Mode::Replace && delivery.feed.delivery.is_none();
        delivery.files.retain(|file| {
            if stands_alone { self.later.is_due(file, now) } else { !self.later.waits(file, now) }
        });
        let mut store = hypodoke_stores::open(&self.settings.store)?;
        let done = task.run(store.as_mut(), &log::Log, self.stop)?;
        self.remember(&task, &done, now);
        let Done { receipt, broken_off, troubles } = done;
        self.account(&receipt);
        // What people are to be told of is never in the way of a load.
        let noted =
            tell::note(store.as_mut(), &self.settings.notify, &tell::of_receipt(&receipt), Some(&receipt));
        match noted {
            Ok(()) => self.mail.ring(),
            Err(error) => warn!(error = %error, "what people are to be told could not be written down"),
        }
        if let Some(failure) = broken_off {
            return Err(failure);
        }
        self.without_troubles(&troubles, waiting)
    }

    /// What was done is done; what could not be reached is told.
    fn without_troubles(&self, troubles: &[Failure], waiting: bool) -> Result<bool, Failure> {
        for trouble in troubles.iter().filter(|trouble| trouble.exit != Exit::Unreachable) {
            error!(feed = self.feed.name, error = trouble.message, "trouble at the place");
        }
        match troubles.iter().find(|trouble| trouble.exit == Exit::Unreachable) {
            Some(trouble) => Err(trouble.clone()),
            None => Ok(waiting),
        }
    }

    /// Remembers what became of the files, so that the next round need not ask.
    fn remember(&mut self, task: &Task, done: &Done, now: Timestamp) {
        let is_away = done.troubles.iter().any(|trouble| trouble.exit == Exit::Unreachable);
        let whole = done.broken_off.is_none() && !is_away && !self.stop.is_wanted();
        // What is put away may come again under its name, and be another file.
        let keeps = |place: &PlaceSettings| place.name == self.feed.place && place.put_away.is_none();
        let stays = self.settings.places.iter().any(keeps);
        let outcomes: std::collections::HashMap<&str, Outcome> =
            done.receipt.files.iter().map(|line| (line.path.as_str(), line.outcome)).collect();
        for file in task.deliveries.iter().flat_map(|delivery| &delivery.files) {
            match outcomes.get(file.shown.as_str()) {
                Some(outcome @ (Outcome::Failed | Outcome::Held)) => {
                    self.later.put_off(file, *outcome == Outcome::Held, now);
                }
                Some(_) if stays => self.later.settle(file),
                None if stays && whole => self.later.settle(file),
                _ => {}
            }
        }
    }

    fn account(&self, receipt: &Receipt) {
        log::receipt(receipt);
        self.board.count(&self.feed.name, receipt);
    }

    /// The database or the place is away: people are told once, until it is back.
    fn out_of_reach(&mut self, failure: Failure) -> After {
        let name = &self.feed.name;
        self.board.set(name, State::OutOfReach);
        // The words may change while a server goes down; it is one outage all the same.
        if self.trouble.is_some() {
            debug!(feed = name, error = failure.message, "still unreachable");
        } else {
            error!(feed = name, error = failure.message, "out of reach");
            self.tell_of(&failure);
        }
        self.trouble = Some(failure.message);
        let again = Some(self.retry);
        self.retry = (self.retry * 2).min(LONGEST_RETRY);
        After { again }
    }

    fn back_in_reach(&mut self) {
        self.retry = FIRST_RETRY;
        self.board.set(&self.feed.name, State::Waiting);
        if self.trouble.take().is_some() {
            info!(feed = self.feed.name, "back in reach");
        }
    }

    fn tell_of(&self, failure: &Failure) {
        let happening = Happening {
            event: Event::Failure,
            // It may be back and away again: that is another time.
            key: format!("away {} {}", self.feed.name, Timestamp::now()),
            feed: Some(self.feed.name.clone()),
            path: None,
            what: failure.message.clone(),
            advice: failure.advice.clone(),
        };
        let written = hypodoke_stores::open(&self.settings.store).and_then(|mut store| {
            tell::note(store.as_mut(), &self.settings.notify, std::slice::from_ref(&happening), None)
        });
        match written {
            Ok(()) => self.mail.ring(),
            // The ledger itself is away.
            Err(_) => {
                let shown = self.settings.store.to_string();
                for trouble in tell::at_once(&self.settings.notify, &happening, &shown) {
                    warn!(error = trouble.message, "nobody was told");
                }
            }
        }
    }

    /// Sees whether what should be there by now has come.
    pub fn ask_for_what_is_due(&mut self, now: Timestamp) -> After {
        let Some(due) = self.feed.schedule.due(now) else { return After::default() };
        if !matches!(self.is_ours(), Ok(true)) {
            return After::default();
        }
        let late = hypodoke_stores::open(&self.settings.store).and_then(|mut store| {
            let late = due::of_feed(store.as_mut(), self.feed, due)?.if_late();
            if let Some(late) = &late {
                warn!(feed = self.feed.name, "{}", late.words());
                tell::note(store.as_mut(), &self.settings.notify, &[late.happening()], None)?;
                self.mail.ring();
            }
            Ok(late.is_some())
        });
        match late {
            Ok(late) => self.board.set_late(&self.feed.name, late),
            Err(error) => {
                warn!(feed = self.feed.name, error = %error, "whether files are late cannot be told")
            }
        }
        After::default()
    }
}
