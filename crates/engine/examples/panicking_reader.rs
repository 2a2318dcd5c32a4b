//! Three files, and a reader that panics over the second: the others are loaded.

use std::cell::RefCell;
use std::error::Error;

use hypodoke_core::outcome::Outcome;
use hypodoke_core::pattern::Pattern;
use hypodoke_engine::batch::{RunOptions, run_job};
use hypodoke_engine::discover::discover;
use hypodoke_engine::event::{Event, Listener};
use hypodoke_engine::job::{Feed, FeedSource, Job, PlaceSource};
use hypodoke_places::{Completeness, Place};
use hypodoke_stores::StoreUrl;

thread_local! {
    static READING: RefCell<String> = const { RefCell::new(String::new()) };
}

/// Panics while the second file is read, as a reader with a fault would.
struct Panicking;

impl Listener for Panicking {
    fn on(&self, event: &Event) {
        match event {
            Event::FileBegan { path, .. } => READING.set(path.clone()),
            Event::Progress { .. } => {
                assert!(!READING.with_borrow(|path| path.ends_with("b.csv")), "index out of bounds");
            }
            _ => {}
        }
    }
}

fn main() -> Result<(), Box<dyn Error>> {
    let harbour = tempfile::tempdir()?;
    for (at, name) in ["a.csv", "b.csv", "c.csv"].into_iter().enumerate() {
        std::fs::write(harbour.path().join(name), format!("berth,draught\nN{at},7.5\n"))?;
    }
    let mut job = Job::new(StoreUrl::parse("sqlite:quillane.db", harbour.path())?);
    job.places.push(PlaceSource {
        place: Place::folder("quay", harbour.path()),
        completeness: Completeness::default(),
        put_away: None,
    });
    job.feeds.push(FeedSource {
        modified_within: None,
        place: "quay".into(),
        files: Pattern::parse("*.csv")?,
        feed: Feed { name: Some("berths".into()), table: "berths".into(), ..Feed::default() },
    });
    let found = discover(&job, &[])?;
    let mut store = hypodoke_stores::open(&job.staging)?;
    let report = run_job(&job, &found, store.as_mut(), RunOptions::new(&Panicking))?;
    for line in &report.receipt.files {
        println!("{}: {:?} {}", line.path, line.outcome, line.message.as_deref().unwrap_or_default());
    }
    let outcomes: Vec<Outcome> = report.receipt.files.iter().map(|line| line.outcome).collect();
    assert_eq!(outcomes, [Outcome::Loaded, Outcome::Failed, Outcome::Loaded]);
    assert_eq!(store.count_rows("berths")?, 2);
    Ok(())
}

#[test]
fn it_runs() {
    main().expect("the example runs");
}
