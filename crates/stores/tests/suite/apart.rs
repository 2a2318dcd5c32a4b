//! Rows and ledger committed apart, and calls from other threads.

use hypodoke_core::types::Type;
use hypodoke_stores::{Staging, StoreError, StoreUrl};
use hypodoke_testkit::{Database, Mariadb, MariadbDatabase, Server};
use rstest::rstest;
use tempfile::TempDir;

use crate::kit::Kind::{self, Mysql, Postgres, PostgresMysql, Sqlite, SqlitePostgres};
use crate::kit::{address, layout, load, loaded, next, plan, rows, staging, summary};

/// Rows that the tables refuse only when they are committed: the entry is committed by then, and is taken back.
#[rstest]
fn what_the_tables_refuse_to_commit_is_taken_out_of_a_ledger_elsewhere(
    #[values(true, false)] in_group: bool,
    #[values(true, false)] replaces: bool,
) {
    let folder = TempDir::new().expect("a folder");
    let database = Server::shared().database();
    let tables = StoreUrl::parse(&database.url, folder.path()).expect("an address");
    let staging = Staging::new(tables).with_ledger(address(Sqlite, &folder));
    let mut store = hypodoke_stores::open(&staging).expect("a store");
    store.prepare().expect("a ledger");
    assert!(!store.capabilities().ledger_with_rows);
    let made = layout(&[("id", Type::Integer)]);
    let first = plan(store.as_mut(), "first.csv", made.clone(), Vec::new());
    load(store.as_mut(), &first, &[&["1"], &["2"]]);
    let before = next(store.as_mut(), "a.csv", &made);
    let replaced = load(store.as_mut(), &before, &[&["3"], &["x"]]);
    database.query("ALTER TABLE movements ADD UNIQUE (id) DEFERRABLE INITIALLY DEFERRED");
    let mut refused = next(store.as_mut(), if replaces { "a.csv" } else { "b.csv" }, &made);
    refused.replaces = replaces.then_some(replaced);
    refused.known_until = None;
    refused.arrival.bytes = 8;
    if in_group {
        store.begin_group().expect("begun");
    }
    let mut writer = store.begin(&refused).expect("begun").expect("not loaded yet");
    let sent = writer.write(0, &mut rows(&made, &[&["2"], &["y"]])).expect("rows");
    let done = writer.commit(&summary(&made, sent)).map(drop);
    let done = if in_group { done.and_then(|()| store.end_group(true)) } else { done };
    assert!(matches!(done.err(), Some(StoreError::RowRefused { .. })));
    // Everything is as if it had never begun, and the next load goes on.
    assert_eq!(loaded(store.as_mut()), ["a.csv", "first.csv"]);
    assert_eq!(store.ledger().rejects(replaced, 9).expect("rejects").len(), 1);
    let given = store.ledger().rows_loaded("movements").expect("rows");
    assert_eq!((given.files, given.rows, given.inserted), (2, 3, 3));
    store.recover().expect("nothing to settle");
    refused.arrival.path = "c.csv".into();
    refused.replaces = None;
    load(store.as_mut(), &refused, &[&["9"]]);
    assert_eq!(loaded(store.as_mut()), ["a.csv", "c.csv", "first.csv"]);
    assert_eq!(database.query("SELECT id FROM movements ORDER BY id"), ["1", "2", "3", "9"]);
}

/// A database of tables that is asked behind the store's back.
enum TablesDatabase {
    File(&'static str),
    Postgres(Database),
    Mysql(MariadbDatabase),
}

impl TablesDatabase {
    fn new(kind: Kind) -> TablesDatabase {
        match kind {
            Postgres => TablesDatabase::Postgres(Server::shared().database()),
            Mysql => TablesDatabase::Mysql(Mariadb::shared().database()),
            _ => TablesDatabase::File("tables.db"),
        }
    }

    fn address(&self, folder: &TempDir) -> StoreUrl {
        let url = match self {
            TablesDatabase::File(name) => format!("sqlite:{name}"),
            TablesDatabase::Postgres(database) => database.url.clone(),
            TablesDatabase::Mysql(database) => database.url.clone(),
        };
        StoreUrl::parse(&url, folder.path()).expect("an address")
    }

    fn run(&self, folder: &TempDir, sql: &str) {
        match self {
            TablesDatabase::File(name) => rusqlite::Connection::open(folder.path().join(name))
                .and_then(|database| database.execute_batch(sql))
                .expect("statements"),
            TablesDatabase::Postgres(database) => drop(database.query(sql)),
            TablesDatabase::Mysql(database) => drop(database.query(sql)),
        }
    }
}

/// A load that dies between its two commits leaves an intent: by what the tables say, it is done or was nothing.
#[rstest]
#[case::rows_are_in(true, &["a.csv", "first.csv"])]
#[case::rows_are_not_in(false, &["first.csv"])]
fn an_intent_is_settled_by_what_the_tables_say(
    #[values(Sqlite, Postgres, Mysql)] kind: Kind,
    #[case] is_committed: bool,
    #[case] expected: &[&str],
) {
    let folder = TempDir::new().expect("a folder");
    let ledger = StoreUrl::parse("sqlite:apart.db", folder.path()).expect("an address");
    let tables = TablesDatabase::new(kind);
    let staging = Staging::new(tables.address(&folder)).with_ledger(ledger);
    let mut store = hypodoke_stores::open(&staging).expect("a store");
    store.prepare().expect("a ledger");
    let made = layout(&[("id", Type::Integer)]);
    let first = plan(store.as_mut(), "first.csv", made.clone(), Vec::new());
    load(store.as_mut(), &first, &[&["1"]]);
    let plan = next(store.as_mut(), "a.csv", &made);
    let file = load(store.as_mut(), &plan, &[&["2"], &["x"]]);
    // As a death before the third step leaves it; without the rows, as one before the second does.
    let ledger = TablesDatabase::File("apart.db");
    ledger.run(&folder, &format!("INSERT INTO hd_intents VALUES ({file}, 'mine', '{{\"is_new\":true}}')"));
    if is_committed {
        tables.run(&folder, &format!("INSERT INTO hd_commits (load_token, file) VALUES ('mine', {file})"));
    }
    drop(store);
    let mut store = hypodoke_stores::open(&staging).expect("a store");
    store.recover().expect("settled");
    assert_eq!(loaded(store.as_mut()), expected);
    let rejects = store.ledger().rejects(file, 9).expect("rejects").len();
    assert_eq!(rejects, usize::from(is_committed));
    store.recover().expect("nothing is left");
    assert_eq!(loaded(store.as_mut()), expected);
}

/// What an asynchronous program calls from.
#[derive(Clone, Copy, Debug)]
enum Caller {
    Task,
    TaskOfSeveralThreads,
    ThreadForBlockingWork,
}

/// Calls block, and may be made from asynchronous code all the same.
#[rstest]
fn an_asynchronous_program_may_load(
    #[values(Sqlite, Postgres, Mysql, SqlitePostgres, PostgresMysql)] kind: Kind,
    #[values(Caller::Task, Caller::TaskOfSeveralThreads, Caller::ThreadForBlockingWork)] caller: Caller,
) {
    let folder = TempDir::new().expect("a folder");
    let staging = staging(kind, &folder);
    let mut runtime = match caller {
        Caller::TaskOfSeveralThreads => tokio::runtime::Builder::new_multi_thread(),
        Caller::Task | Caller::ThreadForBlockingWork => tokio::runtime::Builder::new_current_thread(),
    };
    let runtime = runtime.enable_all().build().expect("a runtime");
    let work = move || {
        let mut store = hypodoke_stores::open(&staging).expect("a store");
        store.prepare().expect("a ledger");
        let rows: Vec<String> = (0..5000).map(|row| row.to_string()).collect();
        let rows: Vec<[&str; 1]> = rows.iter().map(|row| [row.as_str()]).collect();
        let rows: Vec<&[&str]> = rows.iter().map(|row| row.as_slice()).collect();
        for (at, name) in ["a.csv", "b.csv"].into_iter().enumerate() {
            let plan = plan(store.as_mut(), name, layout(&[("id", Type::Integer)]), Vec::new());
            load(store.as_mut(), &plan, &rows[at..]);
        }
        store.count_rows("movements").expect("a count")
    };
    let task = runtime.spawn(async move {
        match caller {
            Caller::ThreadForBlockingWork => tokio::task::spawn_blocking(work).await.expect("no panic"),
            Caller::Task | Caller::TaskOfSeveralThreads => work(),
        }
    });
    assert_eq!(runtime.block_on(task).expect("no panic"), 9999);
}
