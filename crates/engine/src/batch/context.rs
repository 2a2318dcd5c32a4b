//! What a batch has to work with: connections, a listener, and a way to be stopped.

use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Duration;

use hypodoke_stores::{Restore, StoreError, Tables};

use crate::event::Listener;
use crate::sources::Finder;

/// After so long what is loaded is committed, where nothing else is said.
pub const COMMIT_EVERY: Duration = Duration::from_millis(500);

/// Opens one more connection to the tables of a job.
pub type Connect<'a> = dyn Fn() -> Result<Box<dyn Tables>, StoreError> + Sync + 'a;

/// How a job is run.
#[derive(Clone, Copy)]
#[non_exhaustive]
pub struct RunOptions<'a> {
    /// The listener that events go to.
    pub listener: &'a dyn Listener,
    /// What stops it.
    pub stop: &'a StopSignal,
    /// Opens more connections, so that several files are loaded at a time; without it, there is one.
    pub connect: Option<&'a Connect<'a>>,
}

impl<'a> RunOptions<'a> {
    /// One connection, and nobody who stops the job.
    pub fn new(listener: &'a dyn Listener) -> RunOptions<'a> {
        RunOptions { listener, stop: StopSignal::never(), connect: None }
    }

    /// The same, stopped by a signal.
    pub fn stopped_by(self, stop: &'a StopSignal) -> RunOptions<'a> {
        RunOptions { stop, ..self }
    }

    /// The same with more connections.
    pub fn connecting(self, connect: &'a Connect<'a>) -> RunOptions<'a> {
        RunOptions { connect: Some(connect), ..self }
    }
}

/// More connections to the database.
pub struct Connections<'a> {
    /// Opens one more.
    pub open: &'a Connect<'a>,
    /// How many there may be in all.
    pub most: usize,
}

/// What a batch has to work with.
#[derive(Clone, Copy)]
pub struct LoadContext<'a> {
    /// More connections, where the database takes that.
    pub connections: Option<&'a Connections<'a>>,
    /// The listener that events go to.
    pub listener: &'a dyn Listener,
    /// Whether to go on.
    pub stop: &'a StopSignal,
    /// Finds files that were loaded before, where they have to be read again.
    pub sources: Option<&'a Sources<'a>>,
    /// After so long what is loaded is committed; at no time at all, each file is by itself.
    pub commit_every: Duration,
    /// How a file that is loaded again treats rows of its keys that differ from the files.
    pub restore: Restore,
}

/// Makes a finder of files that were loaded before.
pub type Sources<'a> = dyn Fn() -> Finder + Sync + 'a;

impl<'a> LoadContext<'a> {
    /// One connection, and nobody who stops the batch.
    pub fn single(listener: &'a dyn Listener) -> LoadContext<'a> {
        let stop = StopSignal::never();
        LoadContext {
            connections: None,
            listener,
            stop,
            sources: None,
            commit_every: COMMIT_EVERY,
            restore: Restore::Missing,
        }
    }
}

/// A request to stop: the file in hand is finished, and the next is not begun.
#[derive(Debug, Default)]
pub struct StopSignal(AtomicBool);

impl StopSignal {
    /// One that nobody gives.
    fn never() -> &'static StopSignal {
        static NEVER: StopSignal = StopSignal(AtomicBool::new(false));
        &NEVER
    }

    /// Asks to stop.
    ///
    /// ```
    /// use hypodoke_engine::batch::StopSignal;
    ///
    /// let stop = StopSignal::default();
    /// stop.request();
    /// assert!(stop.is_requested());
    /// ```
    pub fn request(&self) {
        self.0.store(true, Ordering::Relaxed);
    }

    /// Whether somebody has asked to stop.
    pub fn is_requested(&self) -> bool {
        self.0.load(Ordering::Relaxed)
    }
}
