//! What the unit tests of this crate share: plans, rows and a database with a ledger in it.

use std::path::Path;
use std::time::Duration;

use hypodoke_core::arrival::Arrival;
use hypodoke_core::cast::{Caster, Rows, Source, Target};
use hypodoke_core::layout::{Column, Format, Layout};
use hypodoke_core::names::Lineage;
use hypodoke_core::record::{Field, Records};
use hypodoke_core::types::{Domain, Type};

use crate::ledger::write;
use crate::load_plan::{
    Counts, FileOrder, FileSummary, LoadPlan, LoadRules, Mode, PartSummary, Restore, TablePlan,
};
use crate::sqlite::SqliteStore;
use crate::tables::Tables;

/// A moment: microseconds since 1970.
pub const NOON: i64 = 1_772_452_800_000_000;

/// A database of its own, with a ledger, that is gone when it is closed: SQLite makes one for an empty path.
pub fn database() -> SqliteStore {
    let mut store = SqliteStore::open(Path::new(""), Duration::ZERO, 0o600).expect("a database");
    store.prepare().expect("a ledger");
    store
}

/// A layout of columns that are called as in their files.
pub fn layout(columns: &[(&str, Type)]) -> Layout {
    let column = |(name, ty): &(&str, Type)| Column {
        name: (*name).into(),
        source: (*name).into(),
        domain: Domain::of(*ty),
        format: Format::default(),
        reading: Default::default(),
        nullable: true,
        pinned: None,
    };
    Layout { columns: columns.iter().map(column).collect(), parts: Vec::new() }
}

/// The plan of a file for the table `moves` of `id` and `berth`, by `id`.
pub fn plan(path: &str, mode: Mode) -> LoadPlan {
    let table = TablePlan {
        table: "moves".into(),
        path: String::new(),
        layout: layout(&[("id", Type::Integer), ("berth", Type::Text)]),
        based_on: None,
        changes: Vec::new(),
        drift: Vec::new(),
        lineage: Lineage::Rows,
        keeps_layout: true,
        is_virtual: false,
        mode,
        key: if mode.has_key() { vec!["id".into()] } else { Vec::new() },
        of_file: Vec::new(),
        marks_gone: false,
    };
    LoadPlan {
        batch: 1,
        known_until: None,
        arrival: Arrival { place: "quay".into(), path: path.into(), bytes: 7, modified: NOON, token: None },
        feed: Some("moves".into()),
        tables: vec![table],
        replaces: None,
        kind: "text".into(),
        began: NOON,
        order: FileOrder::default(),
        rules: LoadRules { mode, ..LoadRules::default() },
        sql_before: Vec::new(),
        sql_after: Vec::new(),
        careful: false,
        shape: None,
        retracts: false,
        resubmits: None,
        keeps_for: None,
        restore: Restore::Nothing,
    }
}

/// Casts lines of two fields for the table of [`plan`]; the lines count from 2, as under a header.
pub fn rows(lines: &[(&str, &str)]) -> Rows {
    let layout = layout(&[("id", Type::Integer), ("berth", Type::Text)]);
    let mut records = Records::default();
    for (at, (id, berth)) in lines.iter().enumerate() {
        let start = records.bytes.len();
        for value in [id, berth] {
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

/// Loads a file; gives its number and what became of its rows.
pub fn load(store: &mut SqliteStore, plan: &LoadPlan, lines: &[(&str, &str)]) -> (i64, Counts) {
    if store.ledger().batches(1).expect("batches").is_empty() {
        write::begin_batch(store, NOON).expect("a batch");
    }
    let mut writer = store.begin(plan).expect("begun").expect("not loaded yet");
    let loaded = if plan.retracts { 0 } else { writer.write(0, &mut rows(lines)).expect("rows") };
    let part = PartSummary {
        read: loaded,
        loaded,
        layout: plan.tables.first().map(|table| table.layout.clone()).unwrap_or_default(),
        drift: Vec::new(),
    };
    let summary = FileSummary {
        hash: format!("hash of {lines:?}"),
        read: lines.len() as u64,
        loaded,
        rejected: lines.len() as u64 - loaded,
        parts: vec![part],
        ended: NOON,
        ..FileSummary::default()
    };
    let finished = writer.commit(&summary).expect("committed");
    (finished.file, finished.counts)
}
