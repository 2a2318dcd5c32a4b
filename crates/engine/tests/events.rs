//! What a program hears of a batch, and that the receipt says the same.

mod quay;

use std::collections::HashMap;
use std::sync::Mutex;

use hypodoke_engine::prelude::*;
use hypodoke_places::SpoolSettings;
use hypodoke_places::sftp::{SftpAddress, SftpBackend};
use hypodoke_testkit::{Database, Server, Sshd, set_modified};
use quay::Quay;
use rstest::rstest;

/// Keeps all events.
#[derive(Default)]
struct Kept(Mutex<Vec<Event>>);

impl Listener for Kept {
    fn on(&self, event: &Event) {
        self.0.lock().expect("no panic").push(event.clone());
    }
}

impl Kept {
    fn events(&self) -> Vec<Event> {
        self.0.lock().expect("no panic").clone()
    }
}

const GOOD: &str = "berth,draught\nN1,7.5\nN2,6\n";

fn harbour() -> Quay {
    // The second file cannot be read, and the third has columns of its own.
    Quay::with(&[("a.csv", GOOD), ("b.csv", "PAR1\0\0PAR1"), ("c.csv", "captain,ship\nnobody,none\n")])
}

#[test]
fn each_file_begins_once_and_ends_once_by_its_name() {
    let mut quay = harbour();
    let kept = Kept::default();
    quay.load_told(&kept);
    let mut ended: HashMap<String, usize> = HashMap::new();
    for event in kept.events() {
        if let Event::FileEnded { line, .. } = event {
            *ended.entry(line.path.clone()).or_default() += 1;
        }
    }
    let mut names: Vec<&String> = ended.keys().collect();
    names.sort();
    assert_eq!(names, ["a.csv", "b.csv", "c.csv"]);
    assert!(ended.values().all(|times| *times == 1), "{ended:?}");
    // What could not be loaded is tried again, and what was loaded stays as it is.
    assert_eq!(quay.load().receipt.totals.rows_loaded, 0);
    assert_eq!(quay.rows(), [",,nobody,", "N1,7.5,,", "N2,6.0,,"]);
}

#[test]
fn what_is_read_is_told_by_the_file_that_it_is_of() {
    let mut quay = Quay::with(&[("a.csv", GOOD), ("d.csv", "berth,draught\nS1,5\n")]);
    let kept = Kept::default();
    quay.load_told(&kept);
    let mut read: HashMap<String, u64> = HashMap::new();
    for event in kept.events() {
        if let Event::Progress { path, bytes, .. } = event {
            *read.entry(path.to_string()).or_default() += bytes;
        }
    }
    // A file may be read twice, for its evidence and for its rows, and never less than once.
    assert!(read["a.csv"] >= GOOD.len() as u64, "{read:?}");
    assert_eq!(read["a.csv"] % GOOD.len() as u64, 0, "{read:?}");
    assert!(read["d.csv"] >= 19 && read.len() == 2, "{read:?}");
}

#[test]
fn the_receipt_is_what_was_told() {
    let mut quay = harbour();
    let kept = Kept::default();
    let report = quay.load_told(&kept);
    let told = |event: &Event| match event {
        Event::FileEnded { line, .. } => Some((line.path.clone(), line.outcome, line.rows_loaded)),
        _ => None,
    };
    let mut all: Vec<_> = kept.events().iter().filter_map(told).collect();
    all.sort_by(|a, b| a.0.cmp(&b.0));
    let own = report.receipt.files.iter().map(|line| (line.path.clone(), line.outcome, line.rows_loaded));
    assert_eq!(all, own.collect::<Vec<_>>());
    let ends: Vec<_> =
        kept.events().into_iter().filter(|event| matches!(event, Event::BatchEnded { .. })).collect();
    assert!(matches!(&ends[..], [Event::BatchEnded { receipt }] if receipt.totals == report.receipt.totals));
}

/// The receipt of a batch can be had again from the ledger.
#[test]
fn a_receipt_is_made_again_of_what_the_ledger_has() {
    let folder = tempfile::tempdir().expect("a folder");
    std::fs::create_dir(folder.path().join("in")).expect("a folder");
    std::fs::write(folder.path().join("in/a.csv"), GOOD).expect("a file");
    std::fs::write(folder.path().join("in/b.csv"), "PAR1\0\0PAR1").expect("a file");
    let job = Job::builder("sqlite:quillane.db")
        .relative_to(folder.path())
        .place(Place::folder("quay", folder.path().join("in")))
        .feed("quay", "*.csv", Feed::new("berths"))
        .build()
        .expect("a job");
    let mut tables = open(&job.staging).expect("tables");
    let told = load_new(&job, tables.as_mut(), RunOptions::new(&Silent)).expect("a report").receipt;
    let ledger = tables.ledger();
    let batch = ledger.batches(1).expect("batches").remove(0);
    let query = hypodoke_stores::FileQuery { batch: Some(batch.batch), ..Default::default() };
    let mut entries = ledger.files(&query).expect("entries");
    entries.sort_by(|a, b| a.arrival.path.cmp(&b.arrival.path));
    let lines = entries.iter().map(ReceiptLine::recorded).collect();
    let again = Receipt::recorded(&batch, ledger.ledger_shown(), lines);
    assert_eq!((again.batch, again.totals), (told.batch, told.totals));
    for (again, told) in again.files.iter().zip(&told.files) {
        assert_eq!((&again.path, again.outcome, &again.kind), (&told.path, told.outcome, &told.kind));
        assert_eq!((&again.notes, &again.reasons), (&told.notes, &told.reasons));
        assert_eq!((again.rows_read, again.counts, &again.feed), (told.rows_read, told.counts, &told.feed));
    }
}

/// Where an asynchronous program calls from.
#[derive(Clone, Copy, Debug)]
enum Runtime {
    OneThread,
    SeveralThreads,
}

/// A whole load, files from one server into another, within a task of an asynchronous program.
#[rstest]
fn a_task_may_load_from_a_server_into_a_server(
    #[values(Runtime::OneThread, Runtime::SeveralThreads)] runtime: Runtime,
) {
    let (sshd, database) = (Sshd::start(), Server::shared().database());
    std::fs::create_dir(sshd.path("out")).expect("a folder");
    for file in 0..12 {
        let path = sshd.path("out").join(format!("tide_{file:02}.csv"));
        std::fs::write(&path, format!("at,level\n{file},2.5\n{file},2.75\n")).expect("a file");
        set_modified(&path, 1_772_452_800);
    }
    let mut builder = match runtime {
        Runtime::OneThread => tokio::runtime::Builder::new_current_thread(),
        Runtime::SeveralThreads => tokio::runtime::Builder::new_multi_thread(),
    };
    let runtime = builder.enable_all().build().expect("a runtime");
    let rows = runtime.block_on(async { load_tides(&sshd, &database) });
    assert_eq!(rows, [24, 0]);
    assert_eq!(database.query("SELECT count(*), sum(level) FROM tides"), ["24|63.00"]);
}

/// Loads twice; how many rows each time.
fn load_tides(sshd: &Sshd, database: &Database) -> Vec<u64> {
    let spool = tempfile::tempdir().expect("a folder");
    let known = spool.path().join("known_hosts");
    std::fs::write(&known, sshd.known_host()).expect("a file");
    let mut address = SftpAddress::parse(&sshd.url(&sshd.path("out"))).expect("an address");
    address.key_file = Some(sshd.path("user_key"));
    address.known_hosts = Some(known);
    let settings = SpoolSettings { folder: spool.path().join("spool"), limit: 1 << 20 };
    let backend = std::sync::Arc::new(SftpBackend::new(address).expect("a backend"));
    let job = Job::builder(&database.url)
        .place(Place::remote("office", backend, &settings))
        .feed("office", "tide_*.csv", Feed::new("tides"))
        .build()
        .expect("a job");
    let mut tables = open(&job.staging).expect("tables");
    let mut load = || {
        let report = load_new(&job, tables.as_mut(), RunOptions::new(&Silent)).expect("a report");
        report.receipt.totals.rows_loaded
    };
    vec![load(), load()]
}
