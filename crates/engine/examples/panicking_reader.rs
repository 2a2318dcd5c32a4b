//! Three files, and a reader that panics over the second: the others are loaded.

use std::cell::RefCell;
use std::error::Error;

use hypodoke_engine::prelude::*;

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
    let job = Job::builder("sqlite:quillane.db")
        .relative_to(harbour.path())
        .place(Place::folder("quay", harbour.path()))
        .feed("quay", "?.csv", Feed::new("berths"))
        .build()?;
    let mut store = open(&job.staging)?;
    let report = load_new(&job, store.as_mut(), RunOptions::new(&Panicking))?;
    for line in &report.receipt.files {
        let why: Vec<String> = line.reasons.iter().map(ToString::to_string).collect();
        println!("{}: {:?} {}", line.path, line.outcome, why.join("; "));
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
