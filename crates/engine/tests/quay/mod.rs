//! A place and a database in memory, and a feed between them.

use std::sync::Arc;

use hypodoke_engine::prelude::*;
use hypodoke_testkit::{MemoryPlace, MemoryStore};
use tempfile::TempDir;

/// A place and a database in memory, and the spool between them.
pub struct Quay {
    pub place: MemoryPlace,
    pub store: MemoryStore,
    pub feed: Feed,
    spool: TempDir,
}

impl Quay {
    pub fn new() -> Quay {
        let spool = tempfile::tempdir().expect("a folder");
        let feed = Feed::new("berths");
        Quay { place: MemoryPlace::default(), store: MemoryStore::default(), feed, spool }
    }

    pub fn with(files: &[(&str, &str)]) -> Quay {
        let quay = Quay::new();
        files.iter().for_each(|(path, content)| quay.place.put(path, content));
        quay
    }

    pub fn job(&self) -> Job {
        let folder = self.spool.path().to_path_buf();
        let settings = SpoolSettings { folder: folder.clone(), limit: 1 << 20 };
        let place = Place::remote("quay", Arc::new(self.place.clone()), &settings);
        Job::builder("sqlite:unused.db")
            .relative_to(folder)
            .place(place)
            .feed("quay", "*.csv", self.feed.clone())
            .build()
            .expect("a job")
    }

    pub fn load_told(&mut self, listener: &dyn Listener) -> LoadReport {
        let job = self.job();
        load_new(&job, &mut self.store, RunOptions::new(listener)).expect("a report")
    }

    pub fn load(&mut self) -> LoadReport {
        self.load_told(&Silent)
    }

    pub fn rows(&self) -> Vec<String> {
        let mut rows = self.store.table_rows("berths");
        rows.sort();
        rows
    }
}
