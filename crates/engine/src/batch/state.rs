//! What a batch knows while it runs, on one connection.

use std::sync::Arc;

use hypodoke_stores::Tables;

use super::context::LoadContext;
use super::unreachable::UnreachablePlaces;
use crate::discover::KnownFiles;
use crate::error::EngineError;
use crate::event::Event;
use crate::job::{Candidate, Feed};
use crate::profile::FileProfile;
use crate::receipt::ReceiptLine;

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

/// The profile of a file, where it was profiled already.
pub type Profiled = Option<Result<FileProfile, EngineError>>;

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
}

impl Batch<'_> {
    /// Tells what became of a file. `position` is the number of its feed, and its own in the feed.
    pub fn tell(&self, position: (usize, usize), line: ReceiptLine) {
        let line = Arc::new(line);
        self.context.listener.on(&Event::FileEnded { batch: self.number, position, line });
    }

    /// Whether somebody has asked to stop.
    pub fn is_stopped(&self) -> bool {
        self.context.stop.is_requested()
    }
}
