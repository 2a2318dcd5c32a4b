//! What is put away is what was loaded.

use std::path::{Path, PathBuf};

use hypodoke_engine::batch::run_job;
use hypodoke_engine::discover::discover;
use hypodoke_engine::prelude::*;
use hypodoke_testkit::MemoryStore;
use rstest::rstest;
use tempfile::TempDir;

/// Does something to the folder when a file of this name ends.
struct Meddler<F>(&'static str, F);

impl<F: Fn() + Send + Sync> Listener for Meddler<F> {
    fn on(&self, event: &Event) {
        if matches!(event, Event::FileEnded { line, .. } if line.path == self.0) {
            (self.1)();
        }
    }
}

fn job(folder: &Path) -> Job {
    let away = PutAway { done: "done".into(), failed: "failed".into() };
    let place = PlaceSource::from(Place::folder("quay", folder)).putting_away(Some(away));
    let job = Job::builder("sqlite:unused.db").relative_to(folder).place(place);
    job.feed("quay", "*.csv", Feed::new("berths")).build().expect("a job")
}

fn load(job: &Job, store: &mut MemoryStore, meddle: (&'static str, impl Fn() + Send + Sync)) -> LoadReport {
    let listener = Meddler(meddle.0, meddle.1);
    load_new(job, store, RunOptions::new(&listener)).expect("a report")
}

fn put_away(folder: &Path) -> Vec<String> {
    let mut found = Vec::new();
    for kind in ["done", "failed"] {
        let days = std::fs::read_dir(folder.join(kind)).into_iter().flatten().flatten();
        let files = days.flat_map(|day| std::fs::read_dir(day.path()).expect("a day").flatten());
        found.extend(files.map(|file| format!("{kind}/{}", file.file_name().to_string_lossy())));
    }
    found.sort();
    found
}

fn begun() -> (TempDir, PathBuf, MemoryStore) {
    let folder = tempfile::tempdir().expect("a folder");
    let file = folder.path().join("a.csv");
    std::fs::write(&file, "berth\nN1\n").expect("a file");
    std::fs::write(folder.path().join("b.csv"), "berth\nN2\n").expect("a file");
    (folder, file, MemoryStore::default())
}

/// The sender writes a file again just when it was loaded: what is put away is not what nobody has read.
#[rstest]
#[case::longer("a.csv", "berth\nN1\nN7\n")]
#[case::of_the_same_size("a.csv", "berth\nN9\n")]
#[case::while_another_is_loaded("b.csv", "berth\nN9\n")]
fn what_is_sent_again_meanwhile_is_not_put_away_unread(#[case] at: &'static str, #[case] content: &str) {
    let (folder, file, mut store) = begun();
    let job = job(folder.path());
    let send = || {
        // Under a private name first, as careful senders do.
        std::fs::write(folder.path().join("a.tmp"), content).expect("a file");
        std::fs::rename(folder.path().join("a.tmp"), &file).expect("a name");
    };
    let report = load(&job, &mut store, (at, send));
    assert!(report.errors.is_empty(), "{:?}", report.errors);
    assert_eq!(std::fs::read_to_string(&file).expect("a file"), content);
    let again = load(&job, &mut store, ("", || {}));
    assert_eq!(again.receipt.totals.files_loaded, 1, "{:?}", again.receipt.files);
    assert!(!file.exists());
    let mut rows = store.table_rows("berths");
    rows.dedup();
    assert!(content.lines().skip(1).all(|row| rows.iter().any(|known| known.contains(row))), "{rows:?}");
}

/// A file that another process has moved is no failure, and neither is one that is being written.
#[rstest]
#[case::moved(true)]
#[case::being_written(false)]
fn what_is_not_there_as_it_was_listed_is_left_for_later(#[case] is_moved: bool) {
    let (folder, _, mut store) = begun();
    let job = job(folder.path());
    let other = folder.path().join("b.csv");
    let meddle = || match is_moved {
        true => std::fs::remove_file(&other).expect("removed"),
        false => std::fs::write(&other, "berth\nN2\nN3").expect("a file"),
    };
    let found = discover(&job, &[]).expect("files");
    meddle();
    let silent = Meddler("", || {});
    let report = run_job(&job, &found, &mut store, RunOptions::new(&silent)).expect("a report");
    let outcomes: Vec<Outcome> = report.receipt.files.iter().map(|line| line.outcome).collect();
    assert_eq!(outcomes, [Outcome::Loaded, Outcome::Waiting]);
    assert_eq!(other.exists(), !is_moved);
    assert_eq!(put_away(folder.path()), ["done/a.csv"]);
    let again = load(&job, &mut store, ("", || {}));
    assert_eq!(again.receipt.totals.files_loaded, u64::from(!is_moved));
}
