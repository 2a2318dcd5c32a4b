//! A place and a database in memory, and a feed between them.

use std::sync::Arc;

use hypodoke_core::pattern::Pattern;
use hypodoke_engine::batch::{LoadReport, RunOptions, run_job};
use hypodoke_engine::discover::discover;
use hypodoke_engine::event::{Listener, Silent};
use hypodoke_engine::job::{Feed, FeedSource, Job, PlaceSource};
use hypodoke_places::{Completeness, Place, SpoolSettings};
use hypodoke_stores::StoreUrl;
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
        let feed = Feed { name: Some("berths".into()), table: "berths".into(), ..Feed::default() };
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
        let mut job = Job::new(StoreUrl::parse("sqlite:unused.db", &folder).expect("an address"));
        job.places.push(PlaceSource { place, completeness: Completeness::default(), put_away: None });
        job.feeds.push(FeedSource {
            place: "quay".into(),
            modified_within: None,
            files: Pattern::parse("*.csv").expect("a pattern"),
            feed: self.feed.clone(),
        });
        job
    }

    pub fn load_told(&mut self, listener: &dyn Listener) -> LoadReport {
        let job = self.job();
        let found = discover(&job, &[]).expect("files");
        run_job(&job, &found, &mut self.store, RunOptions::new(listener)).expect("a report")
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
