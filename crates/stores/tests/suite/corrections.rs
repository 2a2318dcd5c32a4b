//! Corrected rejects of a workbook that is loaded again: the values that were given come along with the record of
//! their sheet, as long as the file is the one it was.

use hypodoke_core::types::Type;
use hypodoke_stores::{CorrectedReject, FileSummary, Finished, LoadPlan, Mode, PartSummary, Tables};
use rstest::rstest;
use tempfile::TempDir;

use crate::kit::Kind::{self, Mysql, Postgres, PostgresMysql, Sqlite, SqlitePostgres};
use crate::kit::{NOON, layout, plan, rows_from, store};

/// The sheets of the workbook: their tables and paths. Both have a row on the same line that is no row.
const SHEETS: [(&str, &str); 2] = [("movements", "Quay, row 3"), ("dues", "Dues")];

/// The line of the row that is rejected on each sheet.
const BAD: u64 = 3;

/// A plan of two sheets, of the version of a file that takes the place of another.
fn workbook(store: &mut dyn Tables, mode: Mode, replaces: Option<i64>) -> LoadPlan {
    let columns = layout(&[("id", Type::Integer), ("fee", Type::Integer)]);
    let mut plan = plan(store, "tariff.xlsx", columns, Vec::new());
    plan.rules.mode = mode;
    plan.replaces = replaces;
    // The first of a workbook's tables is that of no sheet, and has no rows.
    let own = plan.tables[0].clone();
    (plan.tables[0].table, plan.tables[0].is_virtual) = ("tariff".into(), true);
    for (table, path) in SHEETS {
        let mut sheet = own.clone();
        (sheet.table, sheet.path, sheet.mode) = (table.into(), path.into(), mode);
        sheet.key = if mode.has_key() { vec!["id".into()] } else { Vec::new() };
        plan.tables.push(sheet);
    }
    for table in &mut plan.tables {
        table.based_on = store.ledger().layout(&table.table).expect("a layout").map(|entry| entry.version);
    }
    plan
}

fn parts(plan: &LoadPlan, loaded: u64) -> Vec<PartSummary> {
    let part = |layout| PartSummary { read: loaded, loaded, layout, drift: Vec::new() };
    plan.tables.iter().map(|table| part(table.layout.clone())).collect()
}

/// Loads the workbook; on each sheet the second row has this fee.
fn load(store: &mut dyn Tables, plan: &LoadPlan, hash: &str, fee: &str) -> Finished {
    let mut writer = store.begin(plan).expect("begun").expect("not loaded yet");
    let (mut loaded, mut rejected) = (0, 0);
    for (at, table) in plan.tables.iter().enumerate().skip(1) {
        let mut rows = rows_from(2, &table.layout, &[&["1", "10"], &["2", fee], &["3", "30"]]);
        for reject in &mut rows.rejects {
            reject.sheet = Some(table.path.clone());
            reject.place = Some(format!("{}, row {}", table.path, reject.line));
        }
        rejected += rows.rejects.len() as u64;
        loaded += writer.write(at, &mut rows).expect("rows");
    }
    let read = loaded + rejected;
    let (hash, parts) = (hash.to_owned(), parts(plan, 3));
    let summary = FileSummary { hash, read, loaded, rejected, parts, ended: NOON, ..FileSummary::default() };
    writer.commit(&summary).expect("finished")
}

/// The values that are given for the reject of a sheet: its fee is 20 and the number of the sheet.
fn values(at: usize) -> String {
    format!(r#"{{"fee":"{}"}}"#, 20 + at)
}

/// Corrects the reject of a sheet.
fn correct(store: &mut dyn Tables, mode: Mode, file: i64, at: usize) {
    let rejects = store.ledger().rejects(file, 9).expect("rejects");
    let path = SHEETS[at].1;
    let reject = rejects.into_iter().find(|reject| reject.sheet.as_deref() == Some(path)).expect("a reject");
    assert_eq!(reject.line, BAD);
    let mut plan = workbook(store, mode, None);
    plan.resubmits = Some(file);
    let mut writer = store.begin(&plan).expect("begun").expect("open");
    let fee = (20 + at).to_string();
    let mut rows = rows_from(BAD, &plan.tables[at + 1].layout, &[&["2", fee.as_str()]]);
    assert_eq!(writer.write(at + 1, &mut rows).expect("a row"), 1);
    let parts = parts(&plan, 1);
    let resubmitted = vec![CorrectedReject { reject: reject.reject, values: values(at) }];
    let summary = FileSummary { loaded: 1, resubmitted, parts, ended: NOON, ..FileSummary::default() };
    writer.commit(&summary).expect("finished");
}

/// The fees of a sheet's table, by number.
fn fees(store: &mut dyn Tables, table: &str) -> Vec<String> {
    let sample = store.first_rows(table, 9).expect("rows");
    let at = |name: &str| sample.columns.iter().position(|column| column == name).expect("a column");
    let (id, fee) = (at("id"), at("fee"));
    let shown = |value: &Option<String>| value.clone().unwrap_or_default();
    let mut lines: Vec<String> =
        sample.rows.iter().map(|row| format!("{}|{}", shown(&row[id]), shown(&row[fee]))).collect();
    lines.sort();
    lines
}

#[rstest]
fn a_correction_stays_on_its_sheet(
    #[values(Sqlite, Postgres, Mysql, SqlitePostgres, PostgresMysql)] kind: Kind,
    #[values(Mode::Append, Mode::Upsert)] mode: Mode,
    #[values(0, 1)] corrected: usize,
) {
    let folder = TempDir::new().expect("a folder");
    let mut store = store(kind, &folder);
    let first = workbook(store.as_mut(), mode, None);
    let file = load(store.as_mut(), &first, "h", "many").file;
    assert_eq!(store.ledger().rejects(file, 9).expect("rejects").len(), 2);
    correct(store.as_mut(), mode, file, corrected);

    // The same content again, as another version of the file.
    let mut again = workbook(store.as_mut(), mode, Some(file));
    again.arrival.modified += 1_000_000;
    let later = load(store.as_mut(), &again, "h", "many");
    assert_eq!((later.counts.carried, later.counts.uncorrected), (1, 0));
    let pending = store.ledger().pending_corrections().expect("corrections");
    let found: Vec<(i64, &str)> = pending.iter().map(|one| (one.file, one.values.as_str())).collect();
    assert_eq!(found, [(later.file, values(corrected).as_str())]);
    let rejects = store.ledger().rejects(later.file, 9).expect("rejects");
    let reject = rejects.iter().find(|reject| reject.reject == pending[0].reject).expect("its reject");
    assert_eq!((reject.line, reject.sheet.as_deref()), (BAD, Some(SHEETS[corrected].1)));

    // Once they are applied, all is as it was.
    correct(store.as_mut(), mode, later.file, corrected);
    assert_eq!(store.ledger().pending_corrections().expect("corrections"), []);
    for (at, (table, _)) in SHEETS.iter().enumerate() {
        let mut expected = vec!["1|10".to_owned(), "3|30".to_owned()];
        if at == corrected {
            expected.insert(1, format!("2|{}", 20 + at));
        }
        assert_eq!(fees(store.as_mut(), table), expected, "{table}");
    }
    let open = store.ledger().rejects(later.file, 9).expect("rejects");
    let open: Vec<&str> = open
        .iter()
        .filter(|reject| reject.corrected.is_none())
        .filter_map(|reject| reject.sheet.as_deref())
        .collect();
    assert_eq!(open, [SHEETS[1 - corrected].1]);
}

/// What was taken out and comes back brings its corrections, unless somebody has refused them.
#[rstest]
fn a_correction_comes_back_with_its_file(
    #[values(Sqlite, Postgres, Mysql, SqlitePostgres, PostgresMysql)] kind: Kind,
    #[values(false, true)] is_refused: bool,
) {
    let folder = TempDir::new().expect("a folder");
    let mut store = store(kind, &folder);
    let first = workbook(store.as_mut(), Mode::Append, None);
    let file = load(store.as_mut(), &first, "h", "many").file;
    correct(store.as_mut(), Mode::Append, file, 0);
    let mut taken = workbook(store.as_mut(), Mode::Append, Some(file));
    taken.retracts = true;
    let writer = store.begin(&taken).expect("begun").expect("open");
    let summary = FileSummary { hash: "h".into(), ended: NOON, ..FileSummary::default() };
    let taken = writer.commit(&summary).expect("taken out");
    assert_eq!(store.ledger().pending_corrections().expect("corrections"), []);
    let mut again = workbook(store.as_mut(), Mode::Append, None);
    again.known_until = Some(taken.file);
    let later = load(store.as_mut(), &again, "h", "many");
    assert_eq!(later.counts.carried, 1);
    let pending = store.ledger().pending_corrections().expect("corrections");
    assert_eq!(pending.iter().map(|one| one.file).collect::<Vec<_>>(), [later.file]);
    if is_refused {
        store.ledger().refuse_correction(pending[0].reject, "no such column").expect("refused");
        assert_eq!(store.ledger().pending_corrections().expect("corrections"), []);
        return;
    }
    correct(store.as_mut(), Mode::Append, later.file, 0);
    assert_eq!(fees(store.as_mut(), SHEETS[0].0), ["1|10", "2|20", "3|30"]);
}

/// Another content is another file: what was corrected of the version before is told to be gone.
#[rstest]
#[case::still_bad("many", &["1|10", "3|30"])]
#[case::put_right("7", &["1|10", "2|7", "3|30"])]
fn a_correction_of_another_content_is_gone(
    #[values(Sqlite, Postgres, Mysql, SqlitePostgres)] kind: Kind,
    #[values(Mode::Append, Mode::Upsert)] mode: Mode,
    #[case] fee: &str,
    #[case] expected: &[&str],
) {
    let folder = TempDir::new().expect("a folder");
    let mut store = store(kind, &folder);
    let first = workbook(store.as_mut(), mode, None);
    let file = load(store.as_mut(), &first, "h", "many").file;
    correct(store.as_mut(), mode, file, 1);
    let mut again = workbook(store.as_mut(), mode, Some(file));
    again.arrival.modified += 1_000_000;
    let later = load(store.as_mut(), &again, "i", fee);
    assert_eq!((later.counts.carried, later.counts.uncorrected), (0, 1));
    assert_eq!(store.ledger().pending_corrections().expect("corrections"), []);
    for (table, _) in SHEETS {
        assert_eq!(fees(store.as_mut(), table), expected, "{table}");
    }
}
