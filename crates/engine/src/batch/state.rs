//! What a batch knows while it runs, on one connection.

use std::collections::HashSet;
use std::sync::Arc;

use hypodoke_stores::Tables;

use super::context::LoadContext;
use super::unreachable::UnreachablePlaces;
use crate::discover::KnownFiles;
use crate::error::EngineError;
use crate::event::Event;
use crate::job::{Candidate, Feed};
use crate::outcome::FileOutcome;
use crate::profile::FileProfile;

/// A feed with the files that are to be loaded.
pub struct PendingFeed<'a> {
    /// Its number in the batch.
    pub number: usize,
    /// The feed.
    pub feed: &'a Feed,
    /// The files that are to be loaded.
    pub new: Vec<&'a Candidate>,
    /// They are loaded whatever the ledger knows of them.
    pub again: bool,
}

/// One file to load in a batch.
#[derive(Clone, Copy)]
pub struct FileInBatch<'f> {
    /// Its feed.
    pub feed: &'f Feed,
    /// The file.
    pub file: &'f Candidate,
    /// It is loaded whatever the ledger knows of it.
    pub again: bool,
}

/// The profile of a file, where it was profiled already.
pub type Profiled = Option<Result<FileProfile, EngineError>>;

/// What became of a file, and how long it took.
pub struct Ended {
    /// What became of it.
    pub outcome: FileOutcome,
    /// Seconds.
    pub seconds: f64,
}

/// A batch on one connection.
pub struct Batch<'a> {
    /// The connection.
    pub store: &'a mut dyn Tables,
    /// What it has to work with. A connection among several has no more connections.
    pub context: LoadContext<'a>,
    /// What the ledger knows.
    pub known: KnownFiles,
    /// The places that are unreachable.
    pub unreachable: &'a UnreachablePlaces,
    /// Its number in the ledger.
    pub number: i64,
    /// Tables whose files another process has held for longer than this one waits: they are not waited for again.
    pub in_use: HashSet<String>,
}

impl Batch<'_> {
    /// Tells what became of a file. `position` is the number of its feed, and its own in the feed.
    pub fn tell(&self, position: (usize, usize), one: FileInBatch<'_>, ended: Ended) {
        let line = Arc::new(ended.outcome.line(one.feed, one.file, ended.seconds));
        self.context.listener.on(&Event::FileEnded { batch: self.number, position, line });
    }

    /// Whether somebody has asked to stop.
    pub fn is_stopped(&self) -> bool {
        self.context.stop.is_requested()
    }
}
