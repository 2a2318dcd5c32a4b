//! Files loaded again, in the place of the rows there are.

use hypodoke_core::outcome::Outcome;
use hypodoke_stores::{FileEntry, FileQuery, Mode, Store};

use super::find::{Finder, FoundFile};
use crate::discover::{Window, same_delivery};
use crate::error::{AgainProblem, EngineError};
use crate::job::FeedFiles;

/// What a replay would load.
#[derive(Clone, Debug, Default)]
pub struct Replay {
    /// The feeds, with the files that are loaded again.
    pub feeds: Vec<FeedFiles>,
    /// Files that are not there any more.
    pub gone: Vec<String>,
}

impl Replay {
    /// How many files are loaded again.
    pub fn files(&self) -> usize {
        self.feeds.iter().map(|feed| feed.files.len()).sum()
    }
}

/// Finds the files of entries, as far as they were modified within a window.
///
/// # Errors
///
/// A place cannot be listed, or a table holds a newer delivery than that of a file.
pub fn plan_replay(
    store: &mut dyn Store,
    finder: &mut Finder,
    entries: &[FileEntry],
    window: Window,
) -> Result<Replay, EngineError> {
    let mut replay = Replay::default();
    for entry in entries {
        let Some(found) = finder.find(entry)? else {
            replay.gone.push(entry.arrival.path.clone());
            continue;
        };
        let is_there = |known: &FeedFiles| {
            known.feed.table == found.feed.table
                && known.files.iter().any(|file| file.seen == found.file.seen)
        };
        if !window.contains(&found.file) || replay.feeds.iter().any(is_there) {
            continue;
        }
        if found.feed.mode == Mode::Replace {
            check_delivery(store, finder, &found)?;
        }
        let FoundFile { feed, file } = found;
        match replay.feeds.iter_mut().find(|known| known.feed.table == feed.table) {
            Some(known) => known.files.push(file),
            None => replay.feeds.push(FeedFiles { feed, files: vec![file], again: true }),
        }
    }
    Ok(replay)
}

/// A table that holds one delivery at a time takes no file of an earlier one in beside it.
fn check_delivery(store: &mut dyn Store, finder: &mut Finder, found: &FoundFile) -> Result<(), EngineError> {
    let (table, outcome) = (Some(found.feed.table.clone()), Some(Outcome::Loaded));
    let query = FileQuery { table, outcome, most: Some(1), ..FileQuery::default() };
    let Some(newest) = store.files(&query)?.into_iter().next() else { return Ok(()) };
    let arrival = &found.file.seen.arrival;
    let is_it = newest.arrival.path == arrival.path && newest.arrival.place == arrival.place;
    let other = finder.find(&newest)?;
    if is_it || other.is_some_and(|other| same_delivery(&found.feed, &found.file, &other.file)) {
        return Ok(());
    }
    let (path, table) = (found.file.shown.clone(), found.feed.table.clone());
    Err(AgainProblem::NewerDelivery { path, table, newer: newest.arrival.path }.into())
}
