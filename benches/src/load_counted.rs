//! Loads files into a database that only counts: what reading, evidence and casting take, without a store.
//! usage: load-counted [--integer COLUMN] FILE …

use std::path::PathBuf;

use hypodoke_core::layout::ColumnRule;
use hypodoke_core::types::Type;
use hypodoke_engine::batch::{LoadContext, NotTaken, run_batch};
use hypodoke_engine::discover::{NamedAs, named_files, table_name};
use hypodoke_engine::event::Silent;
use hypodoke_engine::job::{Feed, FeedFiles, InternalFiles};
use hypodoke_testkit::MemoryStore;

fn main() -> Result<(), Box<dyn std::error::Error>> {
    let mut arguments: Vec<String> = std::env::args().skip(1).collect();
    let mut rules = Vec::new();
    if arguments.first().is_some_and(|first| first == "--integer") && arguments.len() > 2 {
        let source = arguments.drain(..2).nth(1).unwrap_or_default();
        rules.push(ColumnRule { source, ty: Some(Type::Integer), ..ColumnRule::default() });
    }
    let paths: Vec<PathBuf> = arguments.into_iter().map(PathBuf::from).collect();
    let internal = InternalFiles::new(Vec::new(), Vec::new(), Vec::new());
    let found = named_files(&paths, NamedAs::WholePath, &internal)?;
    let mut store = MemoryStore::default();
    store.counts_only = true;
    for file in found.files {
        let table = table_name(&file.seen.file);
        let feed = Feed::plain(table, Default::default(), rules.clone());
        let feeds = [FeedFiles { feed, files: vec![file], again: false }];
        let end = run_batch(&mut store, LoadContext::single(&Silent), &feeds, NotTaken::default())?;
        println!("{} rows of {} files", end.receipt.totals.rows_loaded, end.receipt.totals.files_loaded);
    }
    Ok(())
}
