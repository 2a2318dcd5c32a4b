//! What every store has to do, whichever database it is.

use std::path::Path;
use std::sync::Barrier;

use hypodoke_core::arrival::Arrival;
use hypodoke_core::cast::{Caster, Rows, Source, Target};
use hypodoke_core::drift::Change;
use hypodoke_core::layout::{Column, Format, Layout};
use hypodoke_core::names::{Lineage, MAX_NAME};
use hypodoke_core::outcome::Outcome;
use hypodoke_core::reconcile::reconcile;
use hypodoke_core::record::{Field, Records};
use hypodoke_core::types::{Domain, Type};
use hypodoke_stores::{
    Claim, Claimed, FileEntry, FileOrder, FileQuery, FileSummary, LoadPlan, LoadRules, Mode, NoticeEntry,
    PartSummary, Staging, StoreError, StoreUrl, TablePlan, Tables,
};
use hypodoke_testkit::{Database, Mariadb, MariadbDatabase, Server};
use rstest::rstest;
use tempfile::TempDir;

const NOON: i64 = 1_772_452_800_000_000;

/// The databases that all of this is asked of.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Kind {
    Sqlite,
    Postgres,
    Mysql,
    /// The ledger in SQLite, the tables in PostgreSQL.
    SqlitePostgres,
    /// The ledger in PostgreSQL, the tables in MariaDB.
    PostgresMysql,
}

use Kind::{Mysql, Postgres, PostgresMysql, Sqlite, SqlitePostgres};

/// Where tables and ledger are: in one database, or in two.
fn staging(kind: Kind, folder: &TempDir) -> Staging {
    match kind {
        SqlitePostgres => Staging::new(address(Postgres, folder)).with_ledger(address(Sqlite, folder)),
        PostgresMysql => Staging::new(address(Mysql, folder)).with_ledger(address(Postgres, folder)),
        one => address(one, folder).into(),
    }
}

fn address(kind: Kind, folder: &TempDir) -> StoreUrl {
    let url = match kind {
        Sqlite => "sqlite:harbour.db".to_owned(),
        Postgres => Server::shared().database().url,
        Mysql => Mariadb::shared().database().url,
        SqlitePostgres | PostgresMysql => panic!("two addresses"),
    };
    StoreUrl::parse(&url, folder.path()).expect("an address")
}

fn store(kind: Kind, folder: &TempDir) -> Box<dyn Tables> {
    let mut store = hypodoke_stores::open(&staging(kind, folder)).expect("a store");
    store.prepare().expect("a ledger");
    store
}

fn column(name: &str, ty: Type) -> Column {
    let format = Format::default();
    Column {
        name: name.into(),
        source: name.into(),
        domain: Domain::of(ty),
        format,
        reading: Default::default(),
        nullable: true,
        pinned: None,
    }
}

fn layout(columns: &[(&str, Type)]) -> Layout {
    Layout { columns: columns.iter().map(|(name, ty)| column(name, *ty)).collect(), parts: Vec::new() }
}

fn plan(store: &mut dyn Tables, path: &str, layout: Layout, changes: Vec<Change>) -> LoadPlan {
    LoadPlan {
        shape: None,
        resubmits: None,
        keeps_for: None,
        retracts: false,
        batch: store.ledger().begin_batch(NOON).expect("a batch"),
        known_until: None,
        arrival: Arrival { place: "quay".into(), path: path.into(), bytes: 7, modified: NOON, token: None },
        feed: Some("movements".into()),
        tables: vec![TablePlan {
            table: "movements".into(),
            path: String::new(),
            layout,
            based_on: None,
            drift: Vec::new(),
            changes,
            lineage: Lineage::Rows,
            keeps_layout: true,
            is_virtual: false,
            mode: Mode::Append,
            key: Vec::new(),
            of_file: Vec::new(),
            marks_gone: false,
        }],
        replaces: None,
        kind: "text".into(),
        began: NOON,
        order: FileOrder::default(),
        rules: LoadRules::default(),
        sql_before: Vec::new(),
        sql_after: Vec::new(),
        careful: false,
    }
}

/// Casts lines of fields for a layout; the lines count from 2, as under a header.
fn rows(layout: &Layout, lines: &[&[&str]]) -> Rows {
    let mut records = Records::default();
    for (at, line) in lines.iter().enumerate() {
        let start = records.bytes.len();
        for value in *line {
            let from = records.bytes.len();
            records.bytes.extend_from_slice(value.as_bytes());
            records.push_field(Field::new(from..records.bytes.len(), false));
        }
        records.end_record(start..records.bytes.len(), at as u64 + 2);
    }
    let target = |(at, column): (usize, &Column)| Target {
        trim: false,
        default: None,
        demand: Default::default(),
        source_name: column.source.clone(),
        ty: column.ty(),
        digits: Default::default(),
        source: Source::Field(at),
        day: None,
        fraction: None,
        format: column.format,
        also_null: Vec::new(),
        strings_are_text: false,
        pinned: true,
        required: false,
        limit: None,
    };
    let targets = layout.columns.iter().enumerate().map(target).collect();
    let mut rows = Rows { records, ..Rows::default() };
    Caster::new(targets, layout.columns.len()).cast(&mut rows);
    rows
}

fn summary(layout: &Layout, loaded: u64) -> FileSummary {
    FileSummary {
        hash: "h".into(),
        read: loaded,
        loaded,
        parts: vec![PartSummary { read: loaded, loaded, layout: layout.clone(), drift: Vec::new() }],
        ended: NOON,
        ..FileSummary::default()
    }
}

/// Loads lines as one file and gives its number.
fn load(store: &mut dyn Tables, plan: &LoadPlan, lines: &[&[&str]]) -> i64 {
    let mut loader = store.begin(plan).expect("begun").expect("not loaded yet");
    let loaded = loader.write(0, &mut rows(&plan.tables[0].layout, lines)).expect("rows");
    loader.commit(&summary(&plan.tables[0].layout, loaded)).expect("finished").file
}

fn table(store: &mut dyn Tables) -> Vec<String> {
    let sample = store.first_rows("movements", 100).expect("rows");
    let line = |row: Vec<Option<String>>| {
        row.into_iter().map(Option::unwrap_or_default).collect::<Vec<_>>().join("|")
    };
    sample.rows.into_iter().map(line).collect()
}

/// Values as both databases show them: without zeros that say nothing, and without blanks in JSON.
fn alike<T: AsRef<str>>(values: &[T]) -> Vec<String> {
    let one = |value: &T| {
        let text = value.as_ref().replace("+00:00", "+00").replace(".0e", "e").replace("e+", "e");
        let is_json = text.starts_with(['{', '[']);
        let text = if is_json { text.replace(' ', "") } else { text };
        if text.contains(':') && text.contains('.') && !is_json {
            text.trim_end_matches('0').to_owned()
        } else {
            text
        }
    };
    values.iter().map(one).collect()
}

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

/// A plan for a table that is known by now, of a file that is claimed as one that the ledger does not know.
fn next(store: &mut dyn Tables, path: &str, made: &Layout) -> LoadPlan {
    let version = store.ledger().layout("movements").expect("a layout").map_or(0, |entry| entry.version);
    let mut plan = plan(store, path, made.clone(), Vec::new());
    plan.tables[0].based_on = Some(version);
    plan.known_until = Some(0);
    plan
}

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

/// The numbers and paths of the entries that count.
fn loaded(store: &mut dyn Tables) -> Vec<String> {
    let entries = store.ledger().files(&FileQuery::default()).expect("entries");
    let mut paths: Vec<String> = entries
        .into_iter()
        .filter(|entry| entry.outcome == Outcome::Loaded && entry.replaced_by.is_none())
        .map(|entry| entry.arrival.path)
        .collect();
    paths.sort();
    paths
}

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
    assert_eq!(store.ledger().rows_loaded("movements").expect("rows"), (2, 3));
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

/// Calls block, and may be made where an asynchronous program makes blocking calls.
#[rstest]
fn a_blocking_thread_of_an_asynchronous_program_may_load(
    #[values(Sqlite, Postgres, Mysql, SqlitePostgres)] kind: Kind,
) {
    let folder = TempDir::new().expect("a folder");
    let staging = staging(kind, &folder);
    let runtime = tokio::runtime::Builder::new_current_thread().build().expect("a runtime");
    let rows = runtime.block_on(async move {
        let work = move || {
            let mut store = hypodoke_stores::open(&staging).expect("a store");
            store.prepare().expect("a ledger");
            let plan = plan(store.as_mut(), "a.csv", layout(&[("id", Type::Integer)]), Vec::new());
            load(store.as_mut(), &plan, &[&["1"], &["2"]]);
            store.count_rows("movements").expect("a count")
        };
        tokio::task::spawn_blocking(work).await.expect("no panic")
    });
    assert_eq!(rows, 2);
}
