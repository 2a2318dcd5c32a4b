//! Files loaded again, in the place of the rows there are.

use hypodoke_stores::FileEntry;

use super::find::{Finder, FoundFile};
use crate::discover::Window;
use crate::error::EngineError;
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
/// A place cannot be listed.
pub fn plan_replay(
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
        let FoundFile { feed, file } = found;
        match replay.feeds.iter_mut().find(|known| known.feed.table == feed.table) {
            Some(known) => known.files.push(file),
            None => replay.feeds.push(FeedFiles { feed, files: vec![file], again: true }),
        }
    }
    Ok(replay)
}
