//! What the tests of stores share: addresses of databases, plans, rows, and a file loaded.

use hypodoke_core::arrival::Arrival;
use hypodoke_core::cast::{Caster, Rows, Source, Target};
use hypodoke_core::drift::Change;
use hypodoke_core::layout::{Column, Format, Layout};
use hypodoke_core::names::Lineage;
use hypodoke_core::outcome::Outcome;
use hypodoke_core::record::{Field, Records};
use hypodoke_core::types::{Domain, Type};
use hypodoke_stores::{
    FileOrder, FileQuery, FileSummary, LoadPlan, LoadRules, Mode, PartSummary, Restore, Staging, StoreUrl,
    TablePlan, Tables,
};
use hypodoke_testkit::{Mariadb, Server};
use tempfile::TempDir;

pub const NOON: i64 = 1_772_452_800_000_000;

/// The databases that all of this is asked of.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Kind {
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
pub fn staging(kind: Kind, folder: &TempDir) -> Staging {
    match kind {
        SqlitePostgres => Staging::new(address(Postgres, folder)).with_ledger(address(Sqlite, folder)),
        PostgresMysql => Staging::new(address(Mysql, folder)).with_ledger(address(Postgres, folder)),
        one => address(one, folder).into(),
    }
}

pub fn address(kind: Kind, folder: &TempDir) -> StoreUrl {
    let url = match kind {
        Sqlite => "sqlite:harbour.db".to_owned(),
        Postgres => Server::shared().database().url,
        Mysql => Mariadb::shared().database().url,
        SqlitePostgres | PostgresMysql => panic!("two addresses"),
    };
    StoreUrl::parse(&url, folder.path()).expect("an address")
}

pub fn store(kind: Kind, folder: &TempDir) -> Box<dyn Tables> {
    let mut store = hypodoke_stores::open(&staging(kind, folder)).expect("a store");
    store.prepare().expect("a ledger");
    store
}

pub fn column(name: &str, ty: Type) -> Column {
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

pub fn layout(columns: &[(&str, Type)]) -> Layout {
    Layout { columns: columns.iter().map(|(name, ty)| column(name, *ty)).collect(), parts: Vec::new() }
}

pub fn plan(store: &mut dyn Tables, path: &str, layout: Layout, changes: Vec<Change>) -> LoadPlan {
    LoadPlan {
        shape: None,
        resubmits: None,
        keeps_for: None,
        restore: Restore::Nothing,
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
pub fn rows(layout: &Layout, lines: &[&[&str]]) -> Rows {
    rows_from(2, layout, lines)
}

/// The same, the lines counted from another one.
pub fn rows_from(first: u64, layout: &Layout, lines: &[&[&str]]) -> Rows {
    let mut records = Records::default();
    for (at, line) in lines.iter().enumerate() {
        let start = records.bytes.len();
        for value in *line {
            let from = records.bytes.len();
            records.bytes.extend_from_slice(value.as_bytes());
            records.push_field(Field::new(from..records.bytes.len(), false));
        }
        records.end_record(start..records.bytes.len(), at as u64 + first);
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

pub fn summary(layout: &Layout, loaded: u64) -> FileSummary {
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
pub fn load(store: &mut dyn Tables, plan: &LoadPlan, lines: &[&[&str]]) -> i64 {
    let mut loader = store.begin(plan).expect("begun").expect("not loaded yet");
    let loaded = loader.write(0, &mut rows(&plan.tables[0].layout, lines)).expect("rows");
    loader.commit(&summary(&plan.tables[0].layout, loaded)).expect("finished").file
}

pub fn table(store: &mut dyn Tables) -> Vec<String> {
    let sample = store.first_rows("movements", 100).expect("rows");
    let line = |row: Vec<Option<String>>| {
        row.into_iter().map(Option::unwrap_or_default).collect::<Vec<_>>().join("|")
    };
    sample.rows.into_iter().map(line).collect()
}

/// Values as both databases show them: without zeros that say nothing, and without blanks in JSON.
pub fn alike<T: AsRef<str>>(values: &[T]) -> Vec<String> {
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

/// The numbers and paths of the entries that count.
pub fn loaded(store: &mut dyn Tables) -> Vec<String> {
    let entries = store.ledger().files(&FileQuery::default()).expect("entries");
    let mut paths: Vec<String> = entries
        .into_iter()
        .filter(|entry| entry.outcome == Outcome::Loaded && entry.replaced_by.is_none())
        .map(|entry| entry.arrival.path)
        .collect();
    paths.sort();
    paths
}

/// A plan for a table that is known by now, of a file that is claimed as one that the ledger does not know.
pub fn next(store: &mut dyn Tables, path: &str, made: &Layout) -> LoadPlan {
    let version = store.ledger().layout("movements").expect("a layout").map_or(0, |entry| entry.version);
    let mut plan = plan(store, path, made.clone(), Vec::new());
    plan.tables[0].based_on = Some(version);
    plan.known_until = Some(0);
    plan
}
