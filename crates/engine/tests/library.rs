//! The engine as a library: a place and a database in memory, and no process.

mod quay;

use std::cell::RefCell;
use std::sync::Mutex;

use hypodoke_core::outcome::Outcome;
use hypodoke_engine::batch::{LoadReport, RunOptions, run_job};
use hypodoke_engine::discover::discover;
use hypodoke_engine::event::{Event, Listener, Silent};
use quay::Quay;
use rstest::rstest;

fn outcomes(report: &LoadReport) -> Vec<(&str, Outcome)> {
    report.receipt.files.iter().map(|line| (line.path.as_str(), line.outcome)).collect()
}

#[test]
fn all_rows_of_a_place_come_to_the_table_and_the_same_again_changes_nothing() {
    let mut quay =
        Quay::with(&[("a.csv", "berth,draught\nN1,7.5\nN2,\n"), ("b.csv", "berth,draught\nS1,6\n")]);
    let report = quay.load();
    assert_eq!((report.receipt.totals.files_loaded, report.receipt.totals.rows_loaded), (2, 3));
    assert_eq!(quay.rows(), ["N1,7.5", "N2,", "S1,6.0"]);
    let again = quay.load();
    assert_eq!((again.receipt.totals.files_loaded, again.receipt.batch), (0, None));
    assert_eq!(quay.store.files.len(), 2);
}

#[test]
fn a_version_of_the_same_size_and_time_is_told_by_its_token() {
    let mut quay = Quay::with(&[("a.csv", "berth,draught\nN1,7.5\n")]);
    quay.load();
    quay.place.put("a.csv", "berth,draught\nN1,8.5\n");
    let report = quay.load();
    assert!(report.receipt.files.iter().all(|line| line.replaced), "{:?}", report.receipt.files);
    assert_eq!(quay.rows(), ["N1,8.5"]);
    assert_eq!(quay.store.files[0].replaced_by, Some(2));
    assert_eq!(quay.store.files[1].arrival.token.as_deref(), Some("v2"));
}

/// Panics while a file is read, as a reader with a fault would.
struct Panicking(&'static str);

thread_local! {
    static READING: RefCell<String> = const { RefCell::new(String::new()) };
}

impl Listener for Panicking {
    fn on(&self, event: &Event) {
        match event {
            Event::FileBegan { path, .. } => READING.set(path.clone()),
            Event::Progress { .. } => {
                assert!(!READING.with_borrow(|path| path.ends_with(self.0)), "index out of bounds");
            }
            _ => {}
        }
    }
}

#[rstest]
#[case::first("a.csv", &["N2,6.0", "N3,5.0"])]
#[case::between("b.csv", &["N1,7.5", "N3,5.0"])]
#[case::last("c.csv", &["N1,7.5", "N2,6.0"])]
fn a_reader_that_panics_costs_its_file_and_no_other(#[case] path: &'static str, #[case] rows: &[&str]) {
    let files = [
        ("a.csv", "berth,draught\nN1,7.5\n"),
        ("b.csv", "berth,draught\nN2,6.0\n"),
        ("c.csv", "berth,draught\nN3,5.0\n"),
    ];
    let mut quay = Quay::with(&files);
    let report = quay.load_told(&Panicking(path));
    assert_eq!((report.receipt.totals.files_loaded, report.receipt.totals.files_failed), (2, 1));
    let failed =
        report.receipt.files.iter().find(|line| line.outcome == Outcome::Failed).expect("one failed");
    assert!(failed.path.ends_with(path));
    let [reason] = failed.reasons.as_slice() else { panic!("{:?}", failed.reasons) };
    assert!(reason.is("failed.panicked"), "{reason}");
    assert!(
        reason.facts["what"].as_str().is_some_and(|what| what.contains("index out of bounds")),
        "{reason}"
    );
    assert_eq!(quay.rows(), rows);
    // Nothing of it is in the way of the next load.
    quay.load();
    assert_eq!(quay.rows(), ["N1,7.5", "N2,6.0", "N3,5.0"]);
}

#[test]
fn a_commit_that_is_lost_with_its_connection_is_done_again_once() {
    let mut quay = Quay::with(&[("a.csv", "berth,draught\nN1,7.5\n")]);
    quay.store.lost_commits = 1;
    let report = quay.load();
    assert_eq!(outcomes(&report).iter().filter(|(_, outcome)| *outcome == Outcome::Loaded).count(), 1);
    assert_eq!(quay.rows(), ["N1,7.5"]);
    assert_eq!(quay.store.reconnected, 1);
}

#[test]
fn a_file_that_is_gone_before_it_is_fetched_costs_no_other() {
    let mut quay = Quay::with(&[("a.csv", "berth,draught\nN1,7.5\n"), ("b.csv", "berth,draught\nS1,6.5\n")]);
    let job = quay.job();
    let found = discover(&job, &[]).expect("files");
    quay.place.remove("a.csv");
    let report = run_job(&job, &found, &mut quay.store, RunOptions::new(&Silent)).expect("a report");
    assert_eq!(report.receipt.totals.files_loaded, 1);
    assert_eq!(quay.rows(), ["S1,6.5"]);
}

#[rstest]
#[case(&["a.csv", "b.csv", "c.csv"])]
#[case(&["c.csv", "b.csv", "a.csv"])]
#[case(&["b.csv", "c.csv", "a.csv"])]
fn one_layout_comes_of_files_in_any_order_of_arrival(#[case] order: &[&str]) {
    let content = |path: &str| match path {
        "a.csv" => "berth,draught\nN1,7\n",
        "b.csv" => "berth,draught\nN2,6.25\n",
        _ => "berth,draught\nN3,120.5\n",
    };
    let mut quay = Quay::new();
    for path in order {
        quay.place.put(path, content(path));
        quay.load();
    }
    let layout =
        hypodoke_stores::Ledger::layout(&mut quay.store, "berths").expect("a ledger").expect("a layout");
    let types: Vec<String> = layout.layout.columns.iter().map(|column| column.ty().to_string()).collect();
    assert_eq!(types, ["text", "decimal(5,2)"]);
}

/// Keeps the events in a word each.
#[derive(Default)]
struct Told(Mutex<Vec<&'static str>>);

impl Listener for Told {
    fn on(&self, event: &Event) {
        let word = match event {
            Event::BatchBegan { .. } => "began",
            Event::FileEnded { .. } => "file",
            Event::BatchEnded { .. } => "ended",
            _ => return,
        };
        self.0.lock().expect("the events").push(word);
    }
}

#[test]
fn a_batch_is_told_from_its_beginning_to_its_end() {
    let mut quay = Quay::with(&[("a.csv", "berth\nN1\n"), ("b.csv", "berth\nN2\n")]);
    let told = Told::default();
    quay.load_told(&told);
    assert_eq!(*told.0.lock().expect("the events"), ["began", "file", "file", "ended"]);
}

#[test]
fn an_error_says_what_caused_it() {
    let mut quay = Quay::with(&[("a.csv", "")]);
    quay.feed.empty_file = hypodoke_engine::job::EmptyFile::Fail;
    let report = quay.load();
    let error = report.receipt.files[0].error.clone().expect("it failed");
    let cause = std::error::Error::source(&error).expect("a cause");
    assert_eq!(cause.to_string(), "the file is empty");
    assert_eq!(report.receipt.files[0].reasons[0].code, "failed.empty");
}
