use proptest::prelude::*;
use rstest::rstest;

use super::*;
use crate::ledger::files_in_force::in_force;
use crate::load_plan::{LoadPlan, LoadRules, Mode, Restore, TablePlan, Vanished, file_order};
use crate::sql::SqlConnection;
use crate::sqlite::SqliteStore;
use crate::testing::{NOON, database, load, plan};

const HOUR: i64 = 3_600_000_000;

/// The rows of a file: of each, its id and its berth.
type Lines<'l> = &'l [(&'l str, &'l str)];

/// The plan of the file that came at an hour, whose rows are kept.
fn of_hour(hour: i64, mode: Mode, vanished: Vanished) -> LoadPlan {
    let mut plan = plan(&format!("moves_{hour}.csv"), mode);
    plan.arrival.modified = NOON + hour * HOUR;
    plan.began = plan.arrival.modified;
    plan.rules = LoadRules { mode, keeps_rows: true, vanished, ..LoadRules::default() };
    plan.tables[0].marks_gone = vanished == Vanished::Mark;
    plan
}

/// A database that has loaded these files in this order, with the files' numbers.
fn loaded(files: &[Lines<'_>], mode: Mode, vanished: Vanished) -> (SqliteStore, Vec<i64>) {
    let mut store = database();
    let one = |(hour, lines): (i64, &Lines<'_>)| load(&mut store, &of_hour(hour, mode, vanished), lines).0;
    let numbers = (1..).zip(files).map(one).collect();
    (store, numbers)
}

/// Rebuilds the table as it is without a file.
fn without(
    store: &mut SqliteStore,
    file: i64,
    plan: &LoadPlan,
    vanished_at_most: Option<f64>,
) -> Result<Rebuilt, StoreError> {
    let mut files = in_force(store, "moves").expect("files");
    file_order::sort(&mut files, plan.mode());
    let before: Vec<FileRows> = files.into_iter().map(|file| FileRows { file, until: None }).collect();
    let (changed, after) = before.iter().cloned().partition(|rows| rows.file.file == file);
    let rules = plan.rules.fold();
    rebuild(
        store,
        &Change {
            tables: &plan.tables,
            rules,
            valid_from: None,
            before,
            after,
            changed,
            by: 0,
            vanished_at_most,
            restore: Restore::Nothing,
        },
    )
}

/// What the table has: of each row its columns, its file's number and its line, by id.
fn table(store: &mut SqliteStore, more: &str) -> Vec<String> {
    let sql =
        format!("SELECT id || ' ' || berth || ' ' || hd_file || ':' || hd_line{more} FROM moves ORDER BY 1");
    store.query(&sql, &[]).expect("rows").iter().map(|row| row.text(0).expect("a text")).collect()
}

/// What became of the table; the key that somebody else has changed, if one has, is 2.
fn rebuilt(deleted: u64, restored: u64, touched: u64) -> Rebuilt {
    let left_keys = (touched > 0).then(|| "id 2".to_owned()).into_iter().collect();
    Rebuilt { deleted, restored, touched, left_keys, ..Rebuilt::default() }
}

#[rstest]
#[case::the_newest(1, &["1 N1 1:2", "2 N2 1:3"], rebuilt(2, 1, 0))]
#[case::the_first(0, &["2 S2 2:2", "3 S3 2:3"], rebuilt(1, 0, 0))]
fn of_a_file_that_is_taken_out_only_what_it_says_goes(
    #[case] file: usize,
    #[case] expected: &[&str],
    #[case] counts: Rebuilt,
) {
    let files: [Lines<'_>; 2] = [&[("1", "N1"), ("2", "N2")], &[("2", "S2"), ("3", "S3")]];
    let (mut store, numbers) = loaded(&files, Mode::Upsert, Vanished::Keep);
    assert_eq!(table(&mut store, ""), ["1 N1 1:2", "2 S2 2:2", "3 S3 2:3"]);
    let plan = of_hour(9, Mode::Upsert, Vanished::Keep);
    let found = without(&mut store, numbers[file], &plan, None).expect("rebuilt");
    assert_eq!(
        (table(&mut store, ""), found),
        (expected.iter().map(|row| row.to_string()).collect(), counts)
    );
}

#[test]
fn where_the_first_row_of_a_key_stays_the_next_comes_when_its_file_is_taken_out() {
    let files: [Lines<'_>; 2] = [&[("1", "N1")], &[("1", "S1"), ("2", "S2")]];
    let (mut store, numbers) = loaded(&files, Mode::InsertNew, Vanished::Keep);
    assert_eq!(table(&mut store, ""), ["1 N1 1:2", "2 S2 2:3"]);
    let plan = of_hour(9, Mode::InsertNew, Vanished::Keep);
    let found = without(&mut store, numbers[0], &plan, None).expect("rebuilt");
    assert_eq!(
        (table(&mut store, ""), found.restored),
        (vec!["1 S1 2:2".to_owned(), "2 S2 2:3".to_owned()], 1)
    );
}

#[test]
fn versions_close_over_the_one_that_is_taken_out() {
    let files: [Lines<'_>; 3] = [&[("1", "N1")], &[("1", "N2")], &[("1", "N3")]];
    let (mut store, numbers) = loaded(&files, Mode::History, Vanished::Keep);
    let until = " || ' ' || coalesce(substr(hd_valid_to, 12, 2), 'now')";
    assert_eq!(table(&mut store, until), ["1 N1 1:2 14", "1 N2 2:2 15", "1 N3 3:2 now"]);
    let plan = of_hour(9, Mode::History, Vanished::Keep);
    without(&mut store, numbers[1], &plan, None).expect("rebuilt");
    assert_eq!(table(&mut store, until), ["1 N1 1:2 15", "1 N3 3:2 now"]);
}

#[rstest]
#[case::another_value("UPDATE moves SET berth = 'Z9' WHERE id = 2", &["1 N1 1:2", "2 Z9 2:2"], rebuilt(1, 0, 1))]
#[case::a_row_that_is_gone("DELETE FROM moves WHERE id = 2", &["1 N1 1:2", "2 N2 1:3"], rebuilt(1, 1, 0))]
#[case::a_row_that_no_file_replaced("UPDATE moves SET berth = 'Z9' WHERE id = 1", &["1 Z9 1:2", "2 N2 1:3"], rebuilt(2, 1, 0))]
#[case::a_row_of_nobody("INSERT INTO moves VALUES (7, 'Z7', 9, 9)", &["1 N1 1:2", "2 N2 1:3", "7 Z7 9:9"], rebuilt(2, 1, 0))]
fn what_somebody_else_has_changed_stays_and_is_not_counted(
    #[case] sql: &str,
    #[case] expected: &[&str],
    #[case] counts: Rebuilt,
) {
    let files: [Lines<'_>; 2] = [&[("1", "N1"), ("2", "N2")], &[("2", "S2"), ("3", "S3")]];
    let (mut store, numbers) = loaded(&files, Mode::Upsert, Vanished::Keep);
    store.execute(sql, &[]).expect("changed");
    let plan = of_hour(9, Mode::Upsert, Vanished::Keep);
    let found = without(&mut store, numbers[1], &plan, None).expect("rebuilt");
    let rows: Vec<String> = table(&mut store, "");
    assert_eq!((rows, found), (expected.iter().map(|row| row.to_string()).collect(), counts));
}

/// A corrected file: one key as it was, one changed, one new, one gone. Its rows take the place of those of the
/// version before, also where they say the same.
#[rstest]
#[case::nobody_else("SELECT 1", (1, 2, 3, 0), (0, 0))]
#[case::the_changed_key("UPDATE moves SET berth = 'Z9' WHERE id = 2", (1, 1, 2, 0), (1, 1))]
#[case::the_key_that_is_gone("UPDATE moves SET berth = 'Z9' WHERE id = 3", (1, 2, 2, 0), (1, 0))]
#[case::the_new_key("INSERT INTO moves VALUES (4, 'Z9', 9, 9)", (0, 2, 3, 0), (1, 1))]
fn a_correction_counts_what_it_did_beside_what_somebody_else_has_changed(
    #[case] sql: &str,
    #[case] (inserted, updated, deleted, unchanged): (u64, u64, u64, u64),
    #[case] (touched, left): (u64, u64),
) {
    let (mut store, numbers) =
        loaded(&[&[("1", "N1"), ("2", "N2"), ("3", "N3")]], Mode::Upsert, Vanished::Keep);
    store.query(sql, &[]).expect("changed");
    let mut again = of_hour(1, Mode::Upsert, Vanished::Keep);
    again.replaces = Some(numbers[0]);
    let (_, counts) = load(&mut store, &again, &[("1", "N1"), ("2", "S2"), ("4", "S4")]);
    let found = (counts.inserted, counts.updated, counts.deleted, counts.unchanged);
    assert_eq!(found, (inserted, updated, deleted, unchanged));
    assert_eq!(counts.touched, touched);
    assert_eq!(inserted + updated + unchanged + left, 3, "every row of the file is counted once");
}

#[test]
fn more_keys_that_vanish_than_may_are_refused_before_anything_is_written() {
    let files: [Lines<'_>; 2] = [&[("1", "N1"), ("2", "N2")], &[("1", "S1"), ("2", "S2")]];
    let (mut store, numbers) = loaded(&files, Mode::Upsert, Vanished::Delete);
    let plan = of_hour(9, Mode::Upsert, Vanished::Delete);
    let there = table(&mut store, "");
    let mut files = in_force(&mut store, "moves").expect("files");
    file_order::sort(&mut files, Mode::Upsert);
    // The newest delivery as it would be if it held nothing.
    let whole =
        |file: &crate::load_plan::file_order::FileInForce| FileRows { file: file.clone(), until: None };
    let before = vec![whole(&files[0])];
    let empty = FileRows { file: files[1].clone(), until: Some(0) };
    let change = Change {
        tables: &plan.tables,
        rules: plan.rules.fold(),
        valid_from: None,
        before: before.clone(),
        after: vec![before[0].clone(), empty.clone()],
        changed: vec![empty],
        by: numbers[1],
        vanished_at_most: Some(0.5),
        restore: Restore::Nothing,
    };
    let refused = rebuild(&mut store, &change).expect_err("two of two keys");
    assert!(matches!(refused, StoreError::TooManyVanished { vanished: 2, there: 2, .. }), "{refused:?}");
    assert_eq!(table(&mut store, ""), there);
}

#[test]
fn a_comparison_names_rows_that_are_missing_and_rows_that_no_file_says() {
    let files: [Lines<'_>; 2] = [&[("1", "N1"), ("2", "N2")], &[("2", "S2"), ("3", "S3")]];
    let (mut store, _) = loaded(&files, Mode::Upsert, Vanished::Keep);
    let plan = of_hour(9, Mode::Upsert, Vanished::Keep);
    let compared =
        |store: &mut SqliteStore, most| compare(store, &plan.tables, &plan.rules, most).expect("compared");
    let found = compared(&mut store, None).expect("kept of all");
    let expected = [(("moves".to_owned(), 1), 1), (("moves".to_owned(), 2), 2)];
    assert_eq!(found, Comparison { expected: expected.into(), ..Comparison::default() });
    assert_eq!(compared(&mut store, Some(3)), None, "four rows are more than three");
    store
        .script("DELETE FROM moves WHERE id = 1; UPDATE moves SET berth = 'Z9' WHERE id = 3")
        .expect("changed");
    let found = compared(&mut store, None).expect("kept of all");
    let row = |file, line| RowOfFile { table: "moves".into(), file, line };
    assert_eq!((found.missing, found.strange), (vec![row(1, 2), row(2, 3)], vec![row(2, 3)]));
}

/// The files that a case loads: of each, its rows by id and berth.
fn some_files() -> impl Strategy<Value = Vec<Vec<(u8, u8)>>> {
    prop::collection::vec(prop::collection::vec((1..6u8, 1..4u8), 0..6), 1..5)
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 60, failure_persistence: None, ..ProptestConfig::default() })]

    /// Law: a table without a file is what the other files alone would have made of it.
    #[test]
    fn a_table_without_a_file_is_what_the_others_make(
        files in some_files(),
        at in any::<prop::sample::Index>(),
        (mode, vanished) in prop::sample::select(vec![
            (Mode::Upsert, Vanished::Keep),
            (Mode::Upsert, Vanished::Delete),
            (Mode::Upsert, Vanished::Mark),
            (Mode::InsertNew, Vanished::Keep),
            (Mode::History, Vanished::Keep),
            (Mode::History, Vanished::Close),
        ]),
    ) {
        let texts: Vec<Vec<(String, String)>> = files
            .iter()
            .map(|rows| rows.iter().map(|(id, berth)| (id.to_string(), format!("N{berth}"))).collect())
            .collect();
        let lines: Vec<Vec<(&str, &str)>> = texts
            .iter()
            .map(|rows| rows.iter().map(|(id, berth)| (id.as_str(), berth.as_str())).collect())
            .collect();
        let at = at.index(files.len());
        let (mut all, mut others) = (database(), database());
        for (hour, rows) in (0i64..).zip(&lines) {
            let plan = of_hour(hour, mode, vanished);
            load(&mut all, &plan, rows);
            if hour != at as i64 {
                load(&mut others, &plan, rows);
            } else {
                // So that the files' numbers are the same in both.
                load(&mut others, &LoadPlan { tables: elsewhere(&plan), ..plan }, rows);
            }
        }
        let plan = of_hour(99, mode, vanished);
        without(&mut all, at as i64 + 1, &plan, None).expect("rebuilt");
        let more = match (mode, vanished) {
            (Mode::History, _) => " || ' ' || hd_valid_from || ' ' || coalesce(hd_valid_to, '')",
            (_, Vanished::Mark) => " || ' ' || coalesce(hd_gone_since, '')",
            _ => "",
        };
        if files.len() > 1 {
            prop_assert_eq!(table(&mut all, more), table(&mut others, more));
        } else {
            prop_assert_eq!(table(&mut all, more), Vec::<String>::new());
        }
    }
}

/// The tables of a plan under other names.
fn elsewhere(plan: &LoadPlan) -> Vec<TablePlan> {
    let renamed = |table: &TablePlan| TablePlan { table: "elsewhere".into(), ..table.clone() };
    plan.tables.iter().map(renamed).collect()
}

/// Loads the newest of three files again, after somebody has done something to the table.
fn restored_after(sql: &str, mode: Mode, restore: Restore) -> (Vec<String>, Rebuilt) {
    let files: [Lines<'_>; 3] = [&[("1", "N1"), ("2", "N2")], &[("2", "S2"), ("3", "S3")], &[("2", "T2")]];
    let (mut store, numbers) = loaded(&files, mode, Vanished::Keep);
    store.script(sql).expect("a statement");
    let plan = of_hour(3, mode, Vanished::Keep);
    let mut files = in_force(&mut store, "moves").expect("files");
    file_order::sort(&mut files, mode);
    let before: Vec<FileRows> = files.into_iter().map(|file| FileRows { file, until: None }).collect();
    let changed = before.iter().filter(|rows| rows.file.file == numbers[2]).cloned().collect();
    let change = Change {
        tables: &plan.tables,
        rules: plan.rules.fold(),
        valid_from: None,
        after: before.clone(),
        before,
        changed,
        by: numbers[2],
        vanished_at_most: None,
        restore,
    };
    let found = rebuild(&mut store, &change).expect("rebuilt");
    let until = match mode {
        Mode::History => " || ' ' || coalesce(substr(hd_valid_to, 12, 2), 'now')",
        _ => "",
    };
    (table(&mut store, until), found)
}

#[rstest]
#[case::as_it_is(Mode::Upsert, "", &["1 N1 1:2", "2 T2 3:2", "3 S3 2:3"], 0)]
#[case::a_lost_row(Mode::Upsert, "DELETE FROM moves WHERE id = 2", &["1 N1 1:2", "2 T2 3:2", "3 S3 2:3"], 1)]
#[case::of_its_keys_only(Mode::Upsert, "DELETE FROM moves", &["2 T2 3:2"], 1)]
#[case::as_an_earlier_file_left_it(
    Mode::Upsert,
    "UPDATE moves SET berth = 'N2', hd_file = 1, hd_line = 3 WHERE id = 2",
    &["1 N1 1:2", "2 T2 3:2", "3 S3 2:3"],
    0
)]
#[case::the_first_stays(
    Mode::InsertNew,
    "DELETE FROM moves",
    &["2 N2 1:3"],
    1
)]
#[case::all_versions(
    Mode::History,
    "DELETE FROM moves WHERE id = 2",
    &["1 N1 1:2 now", "2 N2 1:3 14", "2 S2 2:2 15", "2 T2 3:2 now", "3 S3 2:3 now"],
    3
)]
#[case::a_version_between(
    Mode::History,
    "DELETE FROM moves WHERE id = 2 AND berth = 'S2'",
    &["1 N1 1:2 now", "2 N2 1:3 14", "2 S2 2:2 15", "2 T2 3:2 now", "3 S3 2:3 now"],
    1
)]
#[case::an_older_copy(
    Mode::History,
    "DELETE FROM moves WHERE hd_file > 1; UPDATE moves SET hd_valid_to = NULL",
    &["1 N1 1:2 now", "2 N2 1:3 14", "2 S2 2:2 15", "2 T2 3:2 now"],
    2
)]
fn rows_that_are_missing_come_back_with_the_file_of_their_key(
    #[case] mode: Mode,
    #[case] sql: &str,
    #[case] expected: &[&str],
    #[case] put_back: u64,
) {
    let (rows, found) = restored_after(sql, mode, Restore::Missing);
    assert_eq!((rows, found.put_back), (expected.iter().map(|row| row.to_string()).collect(), put_back));
    assert_eq!((found.touched, found.left_keys.len()), (0, 0));
}

#[rstest]
#[case::left(Restore::Missing, &["1 N1 1:2", "2 Z9 3:2", "3 S3 2:3"], (1, 0))]
#[case::replaced(Restore::Everything, &["1 N1 1:2", "2 T2 3:2", "3 S3 2:3"], (0, 1))]
fn a_row_that_somebody_else_has_changed_is_left_or_replaced(
    #[case] restore: Restore,
    #[case] expected: &[&str],
    #[case] (touched, overwritten): (u64, u64),
) {
    let sql = "UPDATE moves SET berth = 'Z9' WHERE id = 2";
    let (rows, found) = restored_after(sql, Mode::Upsert, restore);
    assert_eq!(rows, expected.iter().map(|row| row.to_string()).collect::<Vec<_>>());
    assert_eq!((found.touched, found.overwritten), (touched, overwritten));
    assert_eq!(found.left_keys, if touched > 0 { vec!["id 2".to_owned()] } else { Vec::new() });
}
