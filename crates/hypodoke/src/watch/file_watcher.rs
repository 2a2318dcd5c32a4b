//! FileSystemWatcher at the places: notices of the file system that something arrived.

use std::path::PathBuf;
use std::sync::Arc;

use notify::{Event, EventKind, RecommendedWatcher, RecursiveMode, Watcher};

use super::scheduler::Wakeup;

/// Listens as long as it is held.
pub struct FileSystemWatcher {
    _watcher: RecommendedWatcher,
}

impl FileSystemWatcher {
    /// Rings a wakeup whenever something in a folder is made, written or moved in. An error where the
    /// file system gives no notices: the place is then only looked at from time to time.
    pub fn open(folder: PathBuf, wakeup: Arc<Wakeup>) -> Result<FileSystemWatcher, String> {
        let heard = move |event: notify::Result<Event>| match event {
            // What only was read has not arrived.
            Ok(Event { kind: EventKind::Access(_), .. }) => {}
            // Of an error the cause may be that notices were lost.
            _ => wakeup.wake(),
        };
        let mut watcher = notify::recommended_watcher(heard).map_err(|error| error.to_string())?;
        watcher.watch(&folder, RecursiveMode::Recursive).map_err(|error| error.to_string())?;
        Ok(FileSystemWatcher { _watcher: watcher })
    }
}
