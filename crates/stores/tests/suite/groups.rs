//! Several files in one transaction, and several connections at once.

use hypodoke_core::arrival::Arrival;
use hypodoke_core::types::Type;
use hypodoke_stores::{Claim, Claimed, FileEntry, FileQuery, LoadPlan, StoreError, StoreUrl, Tables};
use hypodoke_testkit::Server;
use rstest::rstest;
use tempfile::TempDir;

use crate::kit::Kind::{self, Mysql, Postgres, PostgresMysql, Sqlite, SqlitePostgres};
use crate::kit::{address, layout, load, next, plan, rows, store, summary, table};

fn claim(store: &mut dyn Tables, plans: &[&LoadPlan]) -> Vec<Claimed> {
    let claims: Vec<Claim<'_>> =
        plans.iter().map(|plan| Claim { arrival: &plan.arrival, known_until: 0 }).collect();
    store.claim("movements", false, &claims).expect("claimed")
}

/// An entry as it is told, whatever its number and batch.
fn told(store: &mut dyn Tables, path: &str) -> FileEntry {
    let entries = store.ledger().files(&FileQuery::default()).expect("entries");
    let entry = entries.into_iter().find(|entry| entry.arrival.path == path).expect("an entry");
    let arrival = Arrival { path: String::new(), ..entry.arrival };
    FileEntry { file: 0, batch: 0, arrival, ..entry }
}

#[rstest]
fn files_of_a_group_are_kept_together_and_each_is_undone_by_itself(
    #[values(Sqlite, Postgres, Mysql, SqlitePostgres, PostgresMysql)] kind: Kind,
    #[values(true, false)] is_kept: bool,
) {
    let folder = TempDir::new().expect("a folder");
    let mut store = store(kind, &folder);
    let made = layout(&[("id", Type::Integer), ("berth", Type::Text)]);
    let first = plan(store.as_mut(), "first.csv", made.clone(), Vec::new());
    load(store.as_mut(), &first, &[&["0", "N-00"]]);
    let plans: Vec<LoadPlan> =
        ["a.csv", "b.csv", "c.csv"].iter().map(|path| next(store.as_mut(), path, &made)).collect();
    store.begin_group().expect("begun");
    let all: Vec<&LoadPlan> = plans.iter().collect();
    assert_eq!(claim(store.as_mut(), &all), [Claimed::Ours; 3]);
    load(store.as_mut(), &plans[0], &[&["1", "N-01"], &["x", "N-02"]]);
    {
        let mut loader = store.begin(&plans[1]).expect("begun").expect("new");
        loader.write(0, &mut rows(&made, &[&["8", "N-08"]])).expect("rows");
    }
    load(store.as_mut(), &plans[2], &[&["3", "N-03"]]);
    store.end_group(is_kept).expect("ended");
    let numbers: Vec<String> = table(store.as_mut());
    let ids: Vec<&str> = numbers.iter().filter_map(|row| row.split('|').next()).collect();
    assert_eq!(ids, if is_kept { vec!["0", "1", "3"] } else { vec!["0"] });
    let entries = store.ledger().files(&FileQuery::default()).expect("entries");
    assert_eq!(entries.len(), ids.len());
    for entry in entries.iter().filter(|entry| entry.arrival.path != "first.csv") {
        let of_file = format!("|{}|", entry.file);
        assert_eq!(numbers.iter().filter(|row| row.contains(&of_file)).count() as u64, entry.loaded);
    }
    let rejected: usize =
        entries.iter().map(|entry| store.ledger().rejects(entry.file, 9).expect("rejects").len()).sum();
    assert_eq!(rejected, usize::from(is_kept));
}

/// What is written into the ledger is the same, by itself or in a group.
#[rstest]
fn a_file_in_a_group_is_recorded_as_one_by_itself(
    #[values(Sqlite, Postgres, Mysql, SqlitePostgres, PostgresMysql)] kind: Kind,
) {
    let folder = TempDir::new().expect("a folder");
    let mut store = store(kind, &folder);
    let made = layout(&[("id", Type::Integer), ("berth", Type::Text)]);
    let lines: &[&[&str]] = &[&["1", "N-01"], &["x", "N-02"], &["3", ""]];
    let first = plan(store.as_mut(), "first.csv", made.clone(), Vec::new());
    load(store.as_mut(), &first, lines);
    let by_itself = next(store.as_mut(), "a.csv", &made);
    load(store.as_mut(), &by_itself, lines);
    let in_group = next(store.as_mut(), "b.csv", &made);
    store.begin_group().expect("begun");
    assert_eq!(claim(store.as_mut(), &[&in_group]), [Claimed::Ours]);
    let file = load(store.as_mut(), &in_group, lines);
    store.end_group(true).expect("kept");
    assert_eq!(told(store.as_mut(), "a.csv"), told(store.as_mut(), "b.csv"));
    let rejects = store.ledger().rejects(file, 9).expect("rejects");
    assert_eq!((rejects.len(), rejects[0].line, rejects[0].raw.as_slice()), (1, 3, &b"xN-02"[..]));
    assert_eq!(store.ledger().layouts("movements").expect("layouts").len(), 1);
}

#[rstest]
fn a_group_that_is_over_cannot_be_kept(
    #[values(Sqlite, Postgres, Mysql, SqlitePostgres, PostgresMysql)] kind: Kind,
) {
    let folder = TempDir::new().expect("a folder");
    let mut store = store(kind, &folder);
    assert!(matches!(store.end_group(true).err(), Some(StoreError::Lost { .. })));
    store.begin_group().expect("begun");
    store.end_group(false).expect("given up");
    assert!(matches!(store.end_group(true).err(), Some(StoreError::Lost { .. })));
}

/// Two connections never have one file in hand, nor does one wait for what the other has.
#[test]
fn what_one_has_claimed_another_passes_over() {
    let folder = TempDir::new().expect("a folder");
    let url = address(Postgres, &folder);
    let open = || hypodoke_stores::open(&url.clone().into()).expect("a store");
    let (mut one, mut other) = (open(), open());
    one.prepare().expect("a ledger");
    let made = layout(&[("id", Type::Integer)]);
    let first = plan(one.as_mut(), "first.csv", made.clone(), Vec::new());
    load(one.as_mut(), &first, &[&["0"]]);
    let plans: Vec<LoadPlan> =
        ["a.csv", "b.csv", "c.csv"].iter().map(|path| next(one.as_mut(), path, &made)).collect();
    let [a, b, c] = &plans[..] else { panic!("three plans") };
    one.begin_group().expect("begun");
    other.begin_group().expect("begun");
    assert_eq!(claim(one.as_mut(), &[a, b]), [Claimed::Ours; 2]);
    assert_eq!(claim(other.as_mut(), &[b, c]), [Claimed::Taken, Claimed::Ours]);
    load(one.as_mut(), a, &[&["1"]]);
    one.end_group(true).expect("kept");
    assert_eq!(claim(other.as_mut(), &[a, b, c]), [Claimed::Loaded, Claimed::Ours, Claimed::Ours]);
    // Whoever has claims lets go of them when it dies.
    drop(other);
    let mut last = open();
    last.begin_group().expect("begun");
    while claim(last.as_mut(), &[b]) != [Claimed::Ours] {
        std::thread::yield_now();
    }
}

/// What the table refuses is found out when the group ends, and nothing of the group is kept then.
#[test]
fn a_table_that_refuses_a_row_spoils_its_group_and_none_after_it() {
    let folder = TempDir::new().expect("a folder");
    let database = Server::shared().database();
    let url = StoreUrl::parse(&database.url, folder.path()).expect("an address");
    let mut store = hypodoke_stores::open(&url.clone().into()).expect("a store");
    store.prepare().expect("a ledger");
    let made = layout(&[("id", Type::Integer)]);
    let first = plan(store.as_mut(), "first.csv", made.clone(), Vec::new());
    load(store.as_mut(), &first, &[&["0"]]);
    database.query("ALTER TABLE movements ADD CHECK (id < 100)");
    let plans: Vec<LoadPlan> = ["a.csv", "b.csv"].iter().map(|p| next(store.as_mut(), p, &made)).collect();
    store.begin_group().expect("begun");
    claim(store.as_mut(), &[&plans[0], &plans[1]]);
    load(store.as_mut(), &plans[0], &[&["1"]]);
    load(store.as_mut(), &plans[1], &[&["200"]]);
    assert!(matches!(store.end_group(true).err(), Some(StoreError::RowRefused { .. })));
    assert_eq!(table(store.as_mut()), ["0|1|2"]);
    // From then on each row is asked for, and the file fails by itself.
    store.begin_group().expect("begun");
    claim(store.as_mut(), &[&plans[0], &plans[1]]);
    load(store.as_mut(), &plans[0], &[&["1"]]);
    let mut loader = store.begin(&plans[1]).expect("begun").expect("new");
    let sent = loader.write(0, &mut rows(&made, &[&["200"]])).expect("sent");
    assert!(loader.commit(&summary(&made, sent)).is_err());
    store.end_group(true).expect("kept");
    assert_eq!(table(store.as_mut()).len(), 2);
}
