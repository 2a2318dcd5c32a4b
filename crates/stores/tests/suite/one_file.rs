//! One file at a time: its rows, its entry, and its layout.

use std::path::Path;
use std::sync::Barrier;

use hypodoke_core::drift::Change;
use hypodoke_core::names::MAX_NAME;
use hypodoke_core::outcome::Outcome;
use hypodoke_core::reconcile::reconcile;
use hypodoke_core::types::Type;
use hypodoke_stores::{FileQuery, FileSummary, LoadPlan, Mode, NoticeEntry, StoreError, StoreUrl};
use rstest::rstest;
use tempfile::TempDir;

use crate::kit::Kind::{self, Mysql, Postgres, PostgresMysql, Sqlite, SqlitePostgres};
use crate::kit::{NOON, address, alike, layout, load, plan, rows, store, summary, table};

const WIDE: Type = Type::Decimal { precision: 20, scale: 4 };
const MONEY: Type = Type::Decimal { precision: 6, scale: 2 };

#[rstest]
#[case(Type::Boolean, &["yes", "false"], &["true", "false"])]
#[case(Type::Integer, &["-9223372036854775808", "7"], &["-9223372036854775808", "7"])]
#[case(MONEY, &["0.10", "-1234.5", "7"], &["0.10", "-1234.50", "7.00"])]
#[case(WIDE, &["0.0001", "1234567890123456.7891"], &["0.0001", "1234567890123456.7891"])]
#[case(Type::Float, &["1.5e300", "-0.25"], &["1.5e300", "-0.25"])]
#[case(Type::Date, &["2026-03-02", "0001-01-01"], &["2026-03-02", "0001-01-01"])]
#[case(Type::Time, &["07:15", "23:59:59.5"], &["07:15:00", "23:59:59.500000"])]
#[case(Type::Timestamp, &["2026-03-02 07:15"], &["2026-03-02 07:15:00"])]
#[case(Type::TimestampTz, &["2026-03-02T07:15:00+02:00"], &["2026-03-02 05:15:00+00:00"])]
#[case(Type::Uuid, &["0f8fad5b-d9cb-469f-a165-70867728950e"], &["0f8fad5b-d9cb-469f-a165-70867728950e"])]
#[case(Type::Json, &["{\"a\":1.0}", "[1]"], &["{\"a\":1.0}", "[1]"])]
#[case(Type::Text, &["007", "Müwe's \"berth\""], &["007", "Müwe's \"berth\""])]
fn every_type_is_given_back_as_it_was(
    #[case] ty: Type,
    #[case] values: &[&str],
    #[case] wanted: &[&str],
    #[values(Sqlite, Postgres, Mysql, SqlitePostgres, PostgresMysql)] kind: Kind,
) {
    let folder = TempDir::new().expect("a folder");
    let mut store = store(kind, &folder);
    let layout = layout(&[("value", ty)]);
    let plan = plan(store.as_mut(), "a.csv", layout, Vec::new());
    let lines: Vec<&[&str]> = values.chunks(1).collect();
    load(store.as_mut(), &plan, &lines);
    let found: Vec<String> =
        table(store.as_mut()).iter().map(|row| row.split("|1|").next().unwrap_or("").into()).collect();
    assert_eq!(alike(&found), alike(wanted));
    assert_eq!(store.table("movements").expect("a table").expect("one").columns[0].ty, ty);
}

#[rstest]
#[case(Type::Integer, MONEY, &["5", "-7"], &["5.00", "-7.00"])]
#[case(Type::Integer, WIDE, &["5"], &["5.0000"])]
#[case(Type::Integer, Type::Text, &["5", ""], &["5", ""])]
#[case(MONEY, WIDE, &["5.10", "-0.05"], &["5.1000", "-0.0500"])]
#[case(MONEY, Type::Text, &["5.10", "-0.05"], &["5.1", "-0.05"])]
#[case(Type::Date, Type::Timestamp, &["2026-03-02"], &["2026-03-02 00:00:00"])]
#[case(Type::Date, Type::Text, &["2026-03-02"], &["2026-03-02"])]
#[case(Type::Boolean, Type::Text, &["yes", "no", ""], &["true", "false", ""])]
#[case(Type::Float, Type::Text, &["0.1", "1e300"], &["0.1", "1.0e+300"])]
#[case(Type::Unknown, Type::Date, &[""], &[""])]
fn widening_keeps_what_is_there(
    #[case] from: Type,
    #[case] to: Type,
    #[case] values: &[&str],
    #[case] wanted: &[&str],
    #[values(Sqlite, Postgres, Mysql, SqlitePostgres, PostgresMysql)] kind: Kind,
) {
    let folder = TempDir::new().expect("a folder");
    let mut store = store(kind, &folder);
    let first = plan(store.as_mut(), "a.csv", layout(&[("value", from)]), Vec::new());
    let lines: Vec<&[&str]> = values.chunks(1).collect();
    load(store.as_mut(), &first, &lines);
    let changes = vec![Change::Widened { column: "value".into(), from, to }];
    let second = plan(store.as_mut(), "b.csv", layout(&[("value", to)]), changes);
    load(store.as_mut(), &second, &[]);
    let found: Vec<String> =
        table(store.as_mut()).iter().map(|row| row.split("|1|").next().unwrap_or("").into()).collect();
    assert_eq!(alike(&found), alike(wanted));
    assert_eq!(store.ledger().layout("movements").expect("a layout").expect("one").version, 2);
}

#[rstest]
fn a_loader_dropped_leaves_nothing_behind(
    #[values(Sqlite, Postgres, Mysql, SqlitePostgres, PostgresMysql)] kind: Kind,
) {
    let folder = TempDir::new().expect("a folder");
    let mut store = store(kind, &folder);
    let before = plan(store.as_mut(), "a.csv", layout(&[("id", Type::Integer)]), Vec::new());
    {
        let mut loader = store.begin(&before).expect("begun").expect("new");
        loader.write(0, &mut rows(&before.tables[0].layout, &[&["1"], &["x"]])).expect("rows");
    }
    assert!(store.table("movements").expect("a look").is_none(), "the table is undone too");
    assert!(store.ledger().files(&FileQuery::default()).expect("entries").is_empty());
    load(store.as_mut(), &before, &[&["1"]]);
    let wider = layout(&[("id", Type::Integer), ("note", Type::Text)]);
    let fit = reconcile(&before.tables[0].layout, &wider);
    let after = plan(store.as_mut(), "b.csv", fit.layout, fit.changes);
    drop(store.begin(&after).expect("begun").expect("new"));
    assert_eq!(store.table("movements").expect("a look").expect("a table").columns.len(), 1);
}

#[rstest]
fn rows_rejects_and_entry_are_kept_together(
    #[values(Sqlite, Postgres, Mysql, SqlitePostgres, PostgresMysql)] kind: Kind,
) {
    let folder = TempDir::new().expect("a folder");
    let mut store = store(kind, &folder);
    let plan =
        plan(store.as_mut(), "a.csv", layout(&[("id", Type::Integer), ("berth", Type::Text)]), Vec::new());
    let file = load(store.as_mut(), &plan, &[&["1", "N-01"], &["x", "N-02"], &["3", ""]]);
    assert_eq!(table(store.as_mut()), ["1|N-01|1|2", "3||1|4"]);
    let rejects = store.ledger().rejects(file, 10).expect("rejects");
    assert_eq!((rejects.len(), rejects[0].line, rejects[0].reason.as_str()), (1, 3, "not an integer"));
    assert_eq!(rejects[0].raw, b"xN-02");
    let entry = store
        .ledger()
        .files(&FileQuery { batch: Some(plan.batch), ..FileQuery::default() })
        .expect("entries")
        .remove(0);
    assert_eq!(
        (entry.file, entry.loaded, entry.outcome, entry.arrival),
        (file, 2, Outcome::Loaded, plan.arrival)
    );
}

#[rstest]
fn what_is_loaded_is_not_begun_again(
    #[values(Sqlite, Postgres, Mysql, SqlitePostgres, PostgresMysql)] kind: Kind,
) {
    let folder = TempDir::new().expect("a folder");
    let mut store = store(kind, &folder);
    let plan = plan(store.as_mut(), "a.csv", layout(&[("id", Type::Integer)]), Vec::new());
    load(store.as_mut(), &plan, &[&["1"]]);
    assert!(store.begin(&plan).expect("a look").is_none());
    assert_eq!(store.count_rows("movements").expect("a count"), 1);
}

/// A plan is made anew where its table was made or changed after it was made.
#[rstest]
fn a_plan_of_another_layout_is_not_begun(
    #[values(Sqlite, Postgres, Mysql, SqlitePostgres, PostgresMysql)] kind: Kind,
) {
    let folder = TempDir::new().expect("a folder");
    let mut store = store(kind, &folder);
    let based_on = |mut plan: LoadPlan, version| {
        plan.tables[0].based_on = Some(version);
        plan
    };
    let made = layout(&[("id", Type::Integer)]);
    let first = based_on(plan(store.as_mut(), "a.csv", made.clone(), Vec::new()), 0);
    let late = based_on(plan(store.as_mut(), "b.csv", made.clone(), Vec::new()), 0);
    load(store.as_mut(), &first, &[&["1"]]);
    assert!(matches!(store.begin(&late).err(), Some(StoreError::Changed { .. })));
    let anew = based_on(late, 1);
    load(store.as_mut(), &anew, &[&["2"]]);
    assert_eq!(store.count_rows("movements").expect("a count"), 2);
}

/// What another process did with the file since it was decided is asked under the claim.
#[rstest]
fn a_file_of_which_more_is_known_by_now_is_decided_anew(
    #[values(Sqlite, Postgres, Mysql, SqlitePostgres, PostgresMysql)] kind: Kind,
) {
    let folder = TempDir::new().expect("a folder");
    let mut store = store(kind, &folder);
    let made = layout(&[("id", Type::Integer)]);
    let decided = plan(store.as_mut(), "a.csv", made.clone(), Vec::new());
    let first = load(store.as_mut(), &decided, &[&["1"]]);
    let mut taking = plan(store.as_mut(), "a.csv", made, Vec::new());
    (taking.replaces, taking.retracts) = (Some(first), true);
    let writer = store.begin(&taking).expect("begun").expect("no other");
    writer.commit(&FileSummary { ended: NOON, ..FileSummary::default() }).expect("taken out");
    assert_eq!(store.count_rows("movements").expect("a count"), 0);
    // Decided when nothing was known of it, or when its rows were in the table.
    for known in [0, first] {
        let stale = LoadPlan { known_until: Some(known), ..decided.clone() };
        assert!(matches!(store.begin(&stale).err(), Some(StoreError::Changed { .. })));
    }
    assert_eq!(store.count_rows("movements").expect("a count"), 0);
}

fn notice(content: &str, at: i64) -> NoticeEntry {
    NoticeEntry { notice: 0, to: "office".into(), content: content.into(), at }
}

/// Two processes meet the same at the same time: one of them tells of it, and it is sent by one.
#[rstest]
fn an_event_is_told_of_by_one(#[values(Sqlite, Postgres, Mysql, SqlitePostgres, PostgresMysql)] kind: Kind) {
    let folder = TempDir::new().expect("a folder");
    let mut store = store(kind, &folder);
    store.prepare().expect("a ledger");
    let (first, both) = (["held a".to_owned()], ["held a".to_owned(), "held b".to_owned()]);
    // Both have asked what is new before either writes.
    assert_eq!(store.ledger().new_events("office", &both).expect("events").len(), 2);
    assert!(store.ledger().add_notice(&notice("a", NOON), &first).expect("added"));
    assert!(
        !store.ledger().add_notice(&notice("a and b", NOON), &both).expect("asked"),
        "an event in it was added before"
    );
    assert_eq!(
        store.ledger().new_events("office", &both).expect("events").into_iter().collect::<Vec<_>>(),
        ["held b"]
    );

    const MINUTE: i64 = 60_000_000;
    let mut take = |at: i64| store.ledger().take_notices(at, at, NOON).expect("notices").len();
    assert_eq!(take(NOON + 1), 1);
    assert_eq!(take(NOON + MINUTE), 0, "it is in somebody's hands");
    assert_eq!(take(NOON + 10 * MINUTE), 1, "who had it is gone");
    let number =
        store.ledger().take_notices(NOON + 20 * MINUTE, NOON + 20 * MINUTE, NOON).expect("notices")[0].notice;
    store.ledger().finish_notice(number, NOON + 20 * MINUTE, Some("no answer")).expect("finished");
    assert_eq!(
        store.ledger().take_notices(NOON + 21 * MINUTE, NOON + 21 * MINUTE, NOON).expect("notices").len(),
        1
    );
}

#[rstest]
fn a_later_version_takes_the_place_of_the_earlier(
    #[values(Sqlite, Postgres, Mysql, SqlitePostgres, PostgresMysql)] kind: Kind,
) {
    let folder = TempDir::new().expect("a folder");
    let mut store = store(kind, &folder);
    let first = plan(store.as_mut(), "a.csv", layout(&[("id", Type::Integer)]), Vec::new());
    let earlier = load(store.as_mut(), &first, &[&["1"], &["2"]]);
    let mut second = plan(store.as_mut(), "a.csv", first.tables[0].layout.clone(), Vec::new());
    second.arrival.modified += 1_000_000;
    second.replaces = Some(earlier);
    let later = load(store.as_mut(), &second, &[&["9"]]);
    assert_eq!(table(store.as_mut()), [format!("9|{later}|2")]);
    let known = store.ledger().loaded_files().expect("entries");
    assert_eq!(known.iter().map(|entry| entry.file).collect::<Vec<_>>(), [later]);
    assert_eq!(store.ledger().batches(10).expect("batches").len(), 2);
}

#[rstest]
fn names_are_quoted_whatever_they_are(
    #[values(Sqlite, Postgres, Mysql, SqlitePostgres, PostgresMysql)] kind: Kind,
) {
    let folder = TempDir::new().expect("a folder");
    let mut store = store(kind, &folder);
    let odd = "select \"x\"; drop table movements --";
    let mut plan =
        plan(store.as_mut(), "a.csv", layout(&[(odd, Type::Integer), ("from", Type::Text)]), Vec::new());
    plan.tables[0].table = "order by \"1\"".into();
    load(store.as_mut(), &plan, &[&["1", "here"]]);
    assert_eq!(store.count_rows(plan.table()).expect("a count"), 1);
    let found = store.table(plan.table()).expect("a look").expect("a table");
    assert_eq!(found.columns.iter().map(|c| c.name.as_str()).collect::<Vec<_>>(), [odd, "from"]);
}

#[rstest]
fn names_are_as_long_as_they_may_be(
    #[values(Sqlite, Postgres, Mysql, SqlitePostgres, PostgresMysql)] kind: Kind,
) {
    let folder = TempDir::new().expect("a folder");
    let mut store = store(kind, &folder);
    let long = |end: &str| "m".repeat(MAX_NAME - 1) + end;
    let (id, berth) = (long("i"), long("b"));
    for table in [long("x"), long("y")] {
        let layout = layout(&[(&id, Type::Integer), (&berth, Type::Text)]);
        let mut plan = plan(store.as_mut(), &format!("{table}.csv"), layout, Vec::new());
        (plan.rules.mode, plan.tables[0].mode) = (Mode::Upsert, Mode::Upsert);
        (plan.tables[0].table, plan.tables[0].key) = (table, vec![id.clone()]);
        load(store.as_mut(), &plan, &[&["1", "N1"], &["2", "N2"], &["1", "N3"]]);
        assert_eq!(store.count_rows(plan.table()).expect("a count"), 2);
        let found = store.table(plan.table()).expect("a look").expect("a table");
        assert_eq!(found.columns.iter().map(|c| c.name.as_str()).collect::<Vec<_>>(), [&id, &berth]);
    }
}

#[rstest]
#[case("sqlite:", "needs the name of a file")]
#[case("harbour.db", "write sqlite:harbour.db")]
#[case("fax:harbour", "`fax:` is not a known kind of database")]
fn wrong_addresses_say_what_is_wrong(#[case] url: &str, #[case] why: &str) {
    let error = StoreUrl::parse(url, Path::new("")).expect_err("an error").to_string();
    assert!(error.contains(why), "{error}");
}

/// Whoever comes while another makes the ledger waits for it, and finds no stranger's tables.
#[rstest]
#[case::sqlite(Sqlite, 40)]
#[case::postgres(Postgres, 8)]
#[case::mysql(Mysql, 4)]
fn a_ledger_is_made_once_by_many_at_once(#[case] kind: Kind, #[case] times: u32) {
    const MANY: usize = 6;
    for _ in 0..times {
        let folder = TempDir::new().expect("a folder");
        let url = address(kind, &folder).in_schema("fresh".to_owned()).unwrap_or_else(|plain| plain);
        let start = Barrier::new(MANY);
        let open = || {
            let mut store = hypodoke_stores::open(&url.clone().into()).expect("a store");
            start.wait();
            store.prepare().expect("a ledger");
            store.ledger().begin_batch(NOON).expect("a batch")
        };
        let mut batches: Vec<i64> = std::thread::scope(|scope| {
            let others: Vec<_> = (0..MANY).map(|_| scope.spawn(open)).collect();
            others.into_iter().map(|other| other.join().expect("no panic")).collect()
        });
        batches.sort_unstable();
        batches.dedup();
        assert_eq!(batches.len(), MANY);
    }
}

/// A connection that ends at a statement of the user's is lost, and the file is loaded again: the statement is
/// not to blame. One that fails by itself is.
#[rstest]
#[case::postgres(Postgres, "SELECT pg_terminate_backend(pg_backend_pid())", true)]
#[case::mysql(Mysql, "KILL CONNECTION_ID()", true)]
#[case::apart(PostgresMysql, "KILL CONNECTION_ID()", true)]
#[case::wrong_in_sqlite(Sqlite, "SELECT nothing", false)]
#[case::wrong_in_postgres(Postgres, "SELECT nothing", false)]
#[case::wrong_in_mysql(Mysql, "SELECT nothing", false)]
fn a_statement_that_loses_the_connection_is_not_to_blame(
    #[case] kind: Kind,
    #[case] statement: &str,
    #[case] is_lost: bool,
    #[values(true, false)] is_before: bool,
) {
    let folder = TempDir::new().expect("a folder");
    let mut store = store(kind, &folder);
    let mut plan = plan(store.as_mut(), "a.csv", layout(&[("id", Type::Integer)]), Vec::new());
    let statements = if is_before { &mut plan.sql_before } else { &mut plan.sql_after };
    statements.push(statement.to_owned());
    let error = match store.begin(&plan) {
        Err(error) => error,
        Ok(writer) => {
            let mut writer = writer.expect("not loaded yet");
            let loaded = writer.write(0, &mut rows(&plan.tables[0].layout, &[&["1"]])).expect("rows");
            writer.commit(&summary(&plan.tables[0].layout, loaded)).expect_err("an error")
        }
    };
    assert_eq!(error.is_transient(), is_lost, "{error}");
    assert_eq!(matches!(error, StoreError::Statement { .. }), !is_lost, "{error}");
    if is_lost {
        store.reconnect().expect("connected");
        plan.sql_before.clear();
        plan.sql_after.clear();
    } else {
        plan.sql_before = vec!["SELECT 1".to_owned()];
        plan.sql_after.clear();
    }
    load(store.as_mut(), &plan, &[&["1"]]);
    assert_eq!(store.count_rows("movements").expect("a count"), 1);
}
