//! Loads a file into a database that only counts: what reading, evidence and casting take, without a store.

use std::path::PathBuf;

use hypodoke_engine::batch::{LoadContext, NotTaken, run_batch};
use hypodoke_engine::discover::{NamedAs, named_files, table_name};
use hypodoke_engine::event::Silent;
use hypodoke_engine::job::{Feed, FeedFiles, InternalFiles};
use hypodoke_testkit::MemoryStore;

fn main() -> Result<(), Box<dyn std::error::Error>> {
    let paths: Vec<PathBuf> = std::env::args_os().skip(1).map(PathBuf::from).collect();
    let internal = InternalFiles::new(Vec::new(), Vec::new(), Vec::new());
    let found = named_files(&paths, NamedAs::WholePath, &internal)?;
    let mut store = MemoryStore { counts_only: true, ..MemoryStore::default() };
    for file in found.files {
        let feed = Feed { table: table_name(&file.seen.file), ..Feed::default() };
        let feeds = [FeedFiles { feed, files: vec![file], again: false }];
        let end = run_batch(&mut store, LoadContext::single(&Silent), &feeds, NotTaken::default())?;
        println!("{} rows of {} files", end.receipt.totals.rows_loaded, end.receipt.totals.files_loaded);
    }
    Ok(())
}
