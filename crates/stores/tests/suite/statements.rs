//! Statements of the user's own: what they change of the session is not there for the next file.

use hypodoke_core::types::Type;
use hypodoke_stores::{LoadPlan, StoreError, Tables};
use rstest::rstest;
use tempfile::TempDir;

use crate::kit::Kind::{self, Mysql, Postgres, PostgresMysql, Sqlite, SqlitePostgres};
use crate::kit::{layout, load, plan, rows, store, summary};

fn numbers(store: &mut dyn Tables, path: &str) -> LoadPlan {
    plan(store, path, layout(&[("id", Type::Integer)]), Vec::new())
}

fn load_number(store: &mut dyn Tables, path: &str, number: &str) {
    let plan = numbers(store, path);
    load(store, &plan, &[&[number]]);
}

/// A table that statements may write into, with one row.
fn make_seen(store: &mut dyn Tables) {
    let mut plan = plan(store, "seen.csv", layout(&[("value", Type::Text)]), Vec::new());
    plan.tables[0].table = "seen".into();
    load(store, &plan, &[&["at first"]]);
}

fn seen(store: &mut dyn Tables) -> Vec<String> {
    let sample = store.first_rows("seen", 9).expect("rows");
    let at = sample.columns.iter().position(|column| column == "value").expect("a column");
    sample.rows.iter().filter_map(|row| row[at].clone()).collect()
}

/// A statement that changes the session, one that tells how it is, and how it is to be.
fn change(kind: Kind) -> (&'static str, &'static str, &'static str) {
    match kind {
        Sqlite => (
            "PRAGMA recursive_triggers = 1",
            "(SELECT recursive_triggers FROM pragma_recursive_triggers)",
            "0",
        ),
        Postgres | SqlitePostgres => (
            "SET session_replication_role = replica",
            "current_setting('session_replication_role')",
            "origin",
        ),
        Mysql | PostgresMysql => ("SET SESSION foreign_key_checks = 0", "@@SESSION.foreign_key_checks", "1"),
    }
}

#[rstest]
fn what_a_statement_changes_of_the_session_ends_with_its_file(
    #[values(Sqlite, Postgres, Mysql, SqlitePostgres, PostgresMysql)] kind: Kind,
    #[values(true, false)] in_group: bool,
    #[values(true, false)] is_loaded: bool,
) {
    let folder = TempDir::new().expect("a folder");
    let mut store = store(kind, &folder);
    make_seen(store.as_mut());
    load_number(store.as_mut(), "first.csv", "0");
    let (changes, asks, expected) = change(kind);
    let probe = format!("INSERT INTO seen (value, hd_file, hd_line) SELECT {asks}, 0, 0");
    let mut changing = numbers(store.as_mut(), "a.csv");
    // It holds until its file is in.
    changing.sql_before = vec![changes.to_owned()];
    if is_loaded {
        changing.sql_after = vec![probe.clone()];
    }
    let mut asking = numbers(store.as_mut(), "b.csv");
    asking.sql_after = vec![probe];
    if in_group {
        store.begin_group().expect("a group");
    }
    if is_loaded {
        load(store.as_mut(), &changing, &[&["1"]]);
    } else {
        let mut writer = store.begin(&changing).expect("begun").expect("not loaded yet");
        writer.write(0, &mut rows(&changing.tables[0].layout, &[&["1"]])).expect("rows");
        drop(writer);
    }
    load(store.as_mut(), &asking, &[&["2"]]);
    if in_group {
        store.end_group(true).expect("kept");
    }
    let seen = seen(store.as_mut());
    assert_eq!(seen.len(), if is_loaded { 3 } else { 2 }, "{seen:?}");
    assert_eq!(seen.last().map(String::as_str), Some(expected), "{seen:?}");
    if is_loaded {
        assert_ne!(seen[1], expected, "it held while its file was loaded");
    }
    assert_eq!(store.count_rows("movements").expect("a count"), if is_loaded { 3 } else { 2 });
}

/// A deadlock leaves nothing of the server's own settings in the session: the file is loaded again, and the next
/// one, too.
#[rstest]
fn a_deadlock_at_a_statement_costs_one_more_try(
    #[values(Mysql, PostgresMysql)] kind: Kind,
    #[values(true, false)] in_group: bool,
) {
    let folder = TempDir::new().expect("a folder");
    let mut store = store(kind, &folder);
    load_number(store.as_mut(), "first.csv", "0");
    let mut plan = numbers(store.as_mut(), "a.csv");
    // As a server tells of one.
    plan.sql_after = vec!["SIGNAL SQLSTATE '40001' SET MYSQL_ERRNO = 1213".to_owned()];
    if in_group {
        store.begin_group().expect("a group");
    }
    let mut writer = store.begin(&plan).expect("begun").expect("not loaded yet");
    let loaded = writer.write(0, &mut rows(&plan.tables[0].layout, &[&["1"]])).expect("rows");
    let error = writer.commit(&summary(&plan.tables[0].layout, loaded)).expect_err("a deadlock");
    assert!(matches!(error, StoreError::Aborted { .. }), "{error}");
    if in_group && store.end_group(false).is_err() {
        store.reconnect().expect("connected");
    }
    plan.sql_after.clear();
    load(store.as_mut(), &plan, &[&["1"]]);
    load_number(store.as_mut(), "b.csv", "2");
    assert_eq!(store.count_rows("movements").expect("a count"), 3);
}
