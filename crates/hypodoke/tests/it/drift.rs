//! Files that are not what they were: policies, held files, and how they are settled.

use hypodoke_testkit::Workshop;
use proptest::prelude::*;
use proptest::test_runner::{Config, TestRunner};
use rstest::rstest;

use crate::staging::Kind::{self, Mysql, Postgres, PostgresMysql, Sqlite, SqlitePostgres};
use crate::staging::{Staging, configure};
use crate::workshop;

const FIRST: &str = "id,berth,draught\n1,N1,4.20\n2,N2,7.85\n3,N3,5.10\n";

/// A feed with one file loaded, and these settings.
fn begun(kind: Kind, feed: &str) -> (Workshop, Staging) {
    let (shop, staging) = (workshop(), Staging::new(kind));
    configure(&shop, &staging, feed);
    shop.write("in/f_20260302.csv", FIRST);
    shop.ok("load");
    (shop, staging)
}

fn drift(staging: &Staging, shop: &Workshop) -> Vec<String> {
    let sql = "SELECT d.column_name, d.change, d.action FROM hd_drift d ORDER BY d.drift";
    staging.query(shop, sql)
}

#[rstest]
#[case::add("add", 0, "SELECT id, crew FROM f WHERE id = 4", "4|9", &["crew|added|added"])]
#[case::ignore("ignore", 0, "SELECT id, berth FROM f WHERE id = 4", "4|N4", &["crew|added|left_out"])]
#[case::extras("extras", 0, "SELECT id, extras FROM f WHERE id = 4", "4|{\"crew\":\"9\"}", &["crew|added|kept_as_extra", "extras|added|added"])]
#[case::hold("hold", 3, "SELECT count(*) FROM f", "3", &["crew|added|held"])]
fn a_new_column_goes_by_policy(
    #[case] policy: &str,
    #[case] code: i32,
    #[case] sql: &str,
    #[case] row: &str,
    #[case] changes: &[&str],
    #[values(Sqlite, Postgres, Mysql, SqlitePostgres, PostgresMysql)] kind: Kind,
) {
    let (shop, staging) = begun(kind, &format!("[feed.f.drift]\nnew_column = \"{policy}\""));
    shop.write("in/f_20260303.csv", "id,berth,draught,crew\n4,N4,5.00,9\n");
    shop.json("load", code);
    let found: Vec<String> =
        staging.query(&shop, sql).iter().map(|row| row.replace("\": \"", "\":\"")).collect();
    assert_eq!(found, [row]);
    assert_eq!(drift(&staging, &shop), changes);
    // The same again changes nothing, and what is held stays held without being written down anew.
    shop.json("load", code);
    assert_eq!(drift(&staging, &shop), changes);
}

#[rstest]
#[case::null("null", 0, &["draught|missing|nulled"], "4")]
#[case::hold("hold", 3, &["draught|missing|held"], "3")]
fn a_missing_column_goes_by_policy(
    #[case] policy: &str,
    #[case] code: i32,
    #[case] changes: &[&str],
    #[case] rows: &str,
    #[values(Sqlite, Postgres, Mysql, SqlitePostgres, PostgresMysql)] kind: Kind,
) {
    let (shop, staging) = begun(kind, &format!("[feed.f.drift]\nmissing_column = \"{policy}\""));
    shop.write("in/f_20260303.csv", "id,berth\n4,N4\n");
    shop.json("load", code);
    assert_eq!(drift(&staging, &shop), changes);
    assert_eq!(staging.query(&shop, "SELECT count(*) FROM f"), [rows]);
}

#[rstest]
#[case::widen("wider_type = \"widen\"", "5.125", 0, &["draught|widened|widened"], "3", 0)]
#[case::reject("wider_type = \"reject\"", "5.125", 3, &["draught|widened|rejected"], "2", 1)]
#[case::hold("wider_type = \"hold\"", "5.125", 3, &["draught|widened|held"], "0", 0)]
#[case::other_kind("", "deep", 3, &["draught|other_kind|rejected"], "2", 1)]
#[case::other_kind_widened("other_kind = \"widen\"", "deep", 0, &["draught|widened|widened"], "3", 0)]
#[case::other_kind_held("other_kind = \"hold\"", "deep", 3, &["draught|other_kind|held"], "0", 0)]
fn a_wider_type_goes_by_policy(
    #[case] policy: &str,
    #[case] value: &str,
    #[case] code: i32,
    #[case] changes: &[&str],
    #[case] rows: &str,
    #[case] rejects: usize,
    #[values(Sqlite, Postgres, Mysql, SqlitePostgres, PostgresMysql)] kind: Kind,
) {
    let (shop, staging) = begun(kind, &format!("[feed.f.drift]\n{policy}"));
    shop.write("in/f_20260303.csv", format!("id,berth,draught\n4,N4,{value}\n5,N5,6.00\n6,N6,7.00\n"));
    shop.json("load", code);
    assert_eq!(drift(&staging, &shop), changes);
    assert_eq!(staging.query(&shop, "SELECT count(*) FROM f WHERE id > 3"), [rows]);
    assert_eq!(staging.query(&shop, "SELECT line, value FROM hd_rejects").len(), rejects);
}

#[rstest]
fn a_suspected_rename_is_held_and_settled(
    #[values(Sqlite, Postgres, Mysql, SqlitePostgres, PostgresMysql)] kind: Kind,
) {
    let (shop, staging) = begun(kind, "# theirs\nmode = \"append\"");
    shop.write("in/f_20260303.csv", "id,berth,draft_m\n4,N4,4.90\n5,N5,7.70\n");
    let run = shop.run("load");
    assert_eq!(run.code, Some(3), "{}{}", run.out, run.err);
    for part in [
        "`draught` is gone and `draft_m` is new",
        "range agrees: probably a rename",
        "hypodoke settle f_20260303.csv --rename draught=draft_m",
        "1 file held",
    ] {
        assert!(run.out.contains(part), "{part} in {}", run.out);
    }
    let listed = shop.run("settle");
    assert!(listed.code == Some(3) && listed.out.contains("probably a rename"), "{}", listed.out);
    let dry = shop.ok("settle f_20260303.csv --rename draught=draft_m --dry-run");
    assert!(
        dry.out.contains("2 rows read, 2 loaded") && dry.out.contains("nothing is decided yet"),
        "{}",
        dry.out
    );
    assert_eq!(staging.query(&shop, "SELECT count(*) FROM hd_decisions"), ["0"]);
    let document = shop.json("settle f_20260303.csv --rename draught=draft_m --write --why agreed", 0);
    assert_eq!(document["decided"], true);
    let text = std::fs::read_to_string(shop.path("hypodoke.toml")).expect("the configuration");
    assert!(
        text.contains("# theirs") && text.contains("[feed.f.columns.draft_m]\nname = \"draught\""),
        "{text}"
    );
    assert_eq!(staging.query(&shop, "SELECT why FROM hd_decisions"), ["agreed"]);
    shop.ok("load");
    assert_eq!(staging.query(&shop, "SELECT id, draught FROM f WHERE id > 3 ORDER BY id").len(), 2);
    assert_eq!(staging.query(&shop, "SELECT count(*) FROM f WHERE draught IS NULL"), ["0"]);
    // The rule stands for the files to come, of either name.
    shop.write("in/f_20260304.csv", "id,berth,draft_m\n6,N6,5.00\n");
    shop.write("in/f_20260305.csv", "id,berth,draught\n7,N7,5.00\n");
    shop.ok("load");
    assert_eq!(staging.query(&shop, "SELECT count(*) FROM f WHERE draught IS NULL"), ["0"]);
    assert!(shop.ok("settle").out.contains("nothing is held"));
    let timeline = shop.ok("drift f").out;
    assert!(timeline.contains("is called `draft_m`, until now `draught`"), "{timeline}");
}

#[rstest]
#[case::follow("follow", "draught", "0")]
#[case::apart("apart", "draft_m", "2")]
fn a_rename_is_followed_only_where_the_feed_says_so(
    #[case] policy: &str,
    #[case] column: &str,
    #[case] nulls: &str,
) {
    let (shop, staging) = begun(Sqlite, &format!("[feed.f.drift]\nrenamed_column = \"{policy}\""));
    shop.write("in/f_20260303.csv", "id,berth,draft_m\n4,N4,4.90\n5,N5,7.70\n");
    shop.ok("load");
    let sql = format!("SELECT count(*) FROM f WHERE id > 3 AND {column} IS NOT NULL");
    assert_eq!(staging.query(&shop, &sql), ["2"]);
    assert_eq!(staging.query(&shop, "SELECT count(*) FROM f WHERE id > 3 AND draught IS NULL"), [nulls]);
}

#[rstest]
#[case::add(
    "new_column = \"hold\"",
    "id,berth,draught,crew\n4,N4,5.00,9\n",
    "--add-column crew",
    "SELECT crew FROM f WHERE id = 4",
    "9"
)]
#[case::ignore(
    "new_column = \"hold\"",
    "id,berth,draught,crew\n4,N4,5.00,9\n",
    "--ignore-column crew",
    "SELECT berth FROM f WHERE id = 4",
    "N4"
)]
#[case::as_text(
    "wider_type = \"hold\"",
    "id,berth,draught\n4,N4,deep\n",
    "--as-text draught",
    "SELECT draught FROM f WHERE id = 4",
    "deep"
)]
#[case::anyway(
    "missing_column = \"hold\"",
    "id,berth\n4,N4\n",
    "--load-anyway",
    "SELECT berth FROM f WHERE id = 4",
    "N4"
)]
#[case::discard(
    "missing_column = \"hold\"",
    "id,berth\n4,N4\n",
    "--discard",
    "SELECT count(*) FROM f WHERE id = 4",
    "0"
)]
fn a_held_file_is_settled(
    #[case] policy: &str,
    #[case] second: &str,
    #[case] decision: &str,
    #[case] sql: &str,
    #[case] row: &str,
    #[values(Sqlite, Postgres, Mysql, SqlitePostgres, PostgresMysql)] kind: Kind,
) {
    let (shop, staging) = begun(kind, &format!("[feed.f.drift]\n{policy}"));
    shop.write("in/f_20260303.csv", second);
    assert_eq!(shop.run("load").code, Some(3));
    shop.ok(&format!("settle f_20260303.csv {decision}"));
    shop.ok("load");
    assert_eq!(staging.query(&shop, sql), [row]);
    assert!(shop.ok("load").out.contains("nothing new"));
    assert!(shop.ok("settle").out.contains("nothing is held"));
}

#[test]
fn a_decision_about_what_is_not_held_or_has_changed_is_refused() {
    let (shop, _) = begun(Sqlite, "[feed.f.drift]\nnew_column = \"hold\"");
    let run = shop.run("settle f_20260302.csv --load-anyway");
    assert!(run.code == Some(2) && run.err.contains("no file `f_20260302.csv` is held"), "{}", run.err);
    shop.write("in/f_20260303.csv", "id,berth,draught,crew\n4,N4,5.00,9\n");
    assert_eq!(shop.run("load").code, Some(3));
    let run = shop.run("settle f_20260303.csv --rename draft=crew");
    assert!(run.code == Some(2) && run.err.contains("the table has no `draft`"), "{}", run.err);
    let run = shop.run("settle f_20260303.csv --as-text berth");
    assert!(run.code == Some(2) && run.err.contains("would still be held"), "{}", run.err);
    let run = shop.run("settle f_20260303.csv");
    assert!(run.code == Some(2) && run.err.contains("nothing is decided"), "{}", run.err);
    shop.write("in/f_20260303.csv", "id,berth,draught,crew\n4,N4,5.00,9\n5,N5,5.00,9\n");
    let run = shop.run("settle f_20260303.csv --add-column crew");
    assert!(run.code == Some(1) && run.err.contains("has changed since it was held"), "{}", run.err);
    std::fs::remove_file(shop.path("in/f_20260303.csv")).expect("gone");
    let run = shop.run("settle f_20260303.csv --add-column crew");
    assert!(run.code == Some(1) && run.err.contains("not there any more"), "{}", run.err);
    shop.ok("settle f_20260303.csv --discard");
}

#[rstest]
fn a_header_that_is_gone_holds_the_file_until_places_are_trusted(
    #[values(Sqlite, Postgres, Mysql, SqlitePostgres, PostgresMysql)] kind: Kind,
) {
    let (shop, staging) = begun(kind, "");
    shop.write("in/f_20260303.csv", "4,N4,5.25\n5,N5,6.00\n");
    let run = shop.run("load");
    assert!(run.code == Some(3) && run.out.contains("its header is gone"), "{}", run.out);
    shop.ok("settle f_20260303.csv --load-anyway");
    shop.ok("load");
    assert_eq!(staging.query(&shop, "SELECT berth FROM f WHERE id > 3 ORDER BY id"), ["N4", "N5"]);
    assert_eq!(staging.query(&shop, "SELECT count(*) FROM f WHERE draught IS NULL"), ["0"]);
    // The next without a header is asked about again; one with it is as before.
    shop.write("in/f_20260304.csv", "6,N6,5.25\n7,N7,6.00\n");
    shop.write("in/f_20260305.csv", "id,berth,draught\n8,N8,5.00\n");
    assert_eq!(shop.run("load").code, Some(3));
    assert_eq!(staging.query(&shop, "SELECT count(*) FROM f"), ["6"]);
    assert!(shop.ok("tally").out.contains("all figures agree"));
}

#[test]
fn what_is_written_another_way_is_read_and_noted() {
    let (shop, staging) = begun(Sqlite, "");
    let text: Vec<u8> = "DRAUGHT;ID;Berth\n5,25;4;N4\n".encode_utf16().flat_map(u16::to_le_bytes).collect();
    shop.write("in/f_20260303.csv", [&[0xFF, 0xFE][..], &text].concat());
    let run = shop.ok("load");
    for part in [
        "its delimiter is semicolon, until now comma",
        "its encoding is UTF-16LE, until now UTF-8",
        "stand in another order",
        "values of `draught` are written like",
        "3 names written another way",
    ] {
        assert!(run.out.contains(part), "{part} in {}", run.out);
    }
    assert_eq!(staging.query(&shop, "SELECT id, berth, draught FROM f WHERE id = 4"), ["4|N4|5.25"]);
}

#[test]
fn files_that_disagree_are_told_with_the_values() {
    let (shop, staging) = (workshop(), Staging::new(Sqlite));
    configure(&shop, &staging, "");
    shop.write("in/f_20260302.csv", "id,tugs\n1,2\n");
    shop.write("in/f_20260303.csv", "id,tugs\n2,none yet\n");
    let run = shop.ok("load");
    assert!(
        run.out.contains("f.tugs: integer in 1 file") && run.out.contains("`none yet` on line 2"),
        "{}",
        run.out
    );
    assert_eq!(staging.query(&shop, "SELECT tugs FROM f ORDER BY id"), ["2", "none yet"]);
}

#[test]
fn two_files_or_versions_are_put_side_by_side() {
    let (shop, _) = begun(Sqlite, "");
    shop.write("in/f_20260303.csv", "id,berth,draught,crew\n4,N4,12345.678,9\n");
    shop.ok("load");
    let versions = shop.ok("drift f --between 1 2").out;
    assert!(
        versions.contains("crew") && versions.contains("new") && versions.contains("wider"),
        "{versions}"
    );
    let files = shop.json("drift --between in/f_20260302.csv in/f_20260303.csv", 0);
    let column = |at: usize| files["columns"][at]["what"].as_str().expect("words").to_owned();
    assert_eq!((column(0).as_str(), column(3).as_str()), ("", "new"));
    let run = shop.run("drift f --between 1 7");
    assert!(run.code == Some(2) && run.err.contains("no version 7"), "{}", run.err);
    let run = shop.run("drift g");
    assert!(run.code == Some(2) && run.err.contains("no feed or table `g`"), "{}", run.err);
}

#[rstest]
fn an_object_that_became_a_list_and_a_sheet_under_a_new_name_are_told(
    #[values(Sqlite, Postgres, Mysql, SqlitePostgres, PostgresMysql)] kind: Kind,
) {
    let (shop, staging) = (workshop(), Staging::new(kind));
    configure(&shop, &staging, "[feed.f.drift]\nnew_column = \"hold\"");
    let text = std::fs::read_to_string(shop.path("hypodoke.toml")).expect("text").replace("*.csv", "*.json");
    shop.write("hypodoke.toml", text);
    shop.write("in/f_20260302.json", "[{\"id\":1,\"pilot\":{\"name\":\"Ada\"}}]");
    shop.ok("load");
    shop.write("in/f_20260303.json", "[{\"id\":2,\"pilot\":[{\"name\":\"Bo\"},{\"name\":\"Cy\"}]}]");
    let run = shop.run("load");
    assert!(
        run.code == Some(3) && run.out.contains("`pilot` was an object until now and is a list here"),
        "{}",
        run.out
    );
    shop.ok("settle f_20260303.json --load-anyway");
    shop.ok("load");
    assert_eq!(staging.query(&shop, "SELECT name FROM f_pilot ORDER BY hd_row"), ["Bo", "Cy"]);
}

#[test]
fn a_sheet_under_a_new_name_is_taken_for_the_old_one_once_somebody_says_so() {
    let (shop, staging) = (workshop(), Staging::new(Sqlite));
    configure(&shop, &staging, "sheets = \"all\"");
    let text = std::fs::read_to_string(shop.path("hypodoke.toml")).expect("text").replace("*.csv", "*.xlsx");
    shop.write("hypodoke.toml", text);
    let book = |file: &str, sheets: [&str; 2]| {
        let mut book = rust_xlsxwriter::Workbook::new();
        for (at, name) in sheets.into_iter().enumerate() {
            let sheet = book.add_worksheet().set_name(name).expect("a sheet");
            for (column, name) in ["berth", "fee", "since"].into_iter().enumerate() {
                sheet.write(0, column as u16, name).expect("a header");
            }
            for row in 1..4u32 {
                sheet.write(row, 0, format!("N{row}")).expect("a berth");
                sheet.write(row, 1, f64::from(row) * 10.5 + at as f64).expect("a fee");
                sheet.write(row, 2, f64::from(2020 + row)).expect("a year");
            }
        }
        std::fs::create_dir_all(shop.path("in")).expect("a folder");
        book.save(shop.path(file)).expect("a workbook");
    };
    book("in/f_20260302.xlsx", ["Dues", "Fees"]);
    shop.ok("load");
    book("in/f_20260303.xlsx", ["Dues 2027", "Fees"]);
    let run = shop.run("load");
    assert!(run.code == Some(3) && run.out.contains("`Dues` is gone and `Dues 2027` is new"), "{}", run.out);
    let mut settle = shop.command("settle f_20260303.xlsx --write --rename");
    settle.arg("Dues=Dues 2027");
    let settled = hypodoke_testkit::finish(settle);
    assert_eq!(settled.code, Some(0), "{}{}", settled.out, settled.err);
    shop.ok("load");
    assert_eq!(staging.query(&shop, "SELECT count(*) FROM f_dues"), ["6"]);
    let text = std::fs::read_to_string(shop.path("hypodoke.toml")).expect("text");
    assert!(text.contains("[feed.f.sheet_names]\n\"Dues 2027\" = \"Dues\""), "{text}");
}

#[test]
fn an_older_delivery_that_comes_late_is_in_the_table_once_the_newer_one_is_taken_out() {
    let (shop, staging) = (workshop(), Staging::new(Sqlite));
    configure(&shop, &staging, "mode = \"replace\"");
    shop.write("in/f_20260303.csv", "id\n3\n");
    shop.ok("load");
    shop.write("in/f_20260302.csv", "id\n2\n");
    let run = shop.ok("load");
    assert!(run.out.contains("superseded") && run.out.contains("a newer delivery"), "{}", run.out);
    assert_eq!(staging.query(&shop, "SELECT id FROM f"), ["3"]);
    assert!(shop.ok("load").out.contains("nothing new"));
    let run = shop.ok("retract f_20260303.csv --yes");
    assert!(run.out.contains("1 row of other files back"), "{}", run.out);
    assert_eq!(staging.query(&shop, "SELECT id FROM f"), ["2"]);
    shop.ok("replay f_20260303.csv --yes");
    assert_eq!(staging.query(&shop, "SELECT id FROM f"), ["3"]);
}

/// One file of a sequence that drifts: which columns it has, and what they hold.
type Drifting = (Vec<&'static str>, Vec<Vec<String>>);

fn drifting() -> impl Strategy<Value = Drifting> {
    let value = prop_oneof![
        3 => (0i64..100_000).prop_map(|n| n.to_string()),
        2 => (0i64..9000).prop_map(|n| format!("{}.{:02}", n / 100, n % 100)),
        // As whole as a whole number, and spelled like a decimal.
        1 => (0i64..90).prop_map(|n| format!("{n}.00")),
        // No truth words: as a number does, `f` would be spelled anew once its column is text.
        1 => "[a-e]{1,4}",
        1 => Just(String::new()),
        1 => (1u32..28).prop_map(|day| format!("2026-03-{day:02}")),
    ];
    let columns = prop::sample::subsequence(vec!["berth", "tugs", "cargo", "agent"], 1..=4);
    columns.prop_flat_map(move |columns| {
        let row = prop::collection::vec(value.clone(), columns.len());
        let rows = prop::collection::vec(row, 1..6);
        (Just(columns), rows)
    })
}

/// Whatever the order of arrival, the table and the account are the same, and nothing is lost.
#[test]
fn drifting_files_give_one_table_in_any_order() {
    let files = prop::collection::vec(drifting(), 2..5).prop_flat_map(|files| {
        let order: Vec<usize> = (0..files.len()).collect();
        (Just(files), Just(order).prop_shuffle())
    });
    let mut runner = TestRunner::new(Config { cases: 24, failure_persistence: None, ..Config::default() });
    let check = |(files, order): (Vec<Drifting>, Vec<usize>)| {
        let table = |order: &[usize]| -> (Vec<String>, Vec<String>) {
            let (shop, staging) = (workshop(), Staging::new(Sqlite));
            configure(
                &shop,
                &staging,
                "[feed.f.drift]\nrenamed_column = \"apart\"\nother_kind = \"widen\"\nother_layout = \"load\"\n[feed.f.columns.no]\ntype = \"text\"",
            );
            for at in order {
                let (columns, rows) = &files[*at];
                let mut text = format!("no,{}\n", columns.join(","));
                for (number, row) in rows.iter().enumerate() {
                    text.push_str(&format!("r{at}x{number},{}\n", row.join(",")));
                }
                // One batch each: what is known of the table grows file by file.
                shop.write(&format!("in/f_2026030{}.csv", at + 1), text);
                shop.ok("load");
            }
            let columns = shop.query(
                "h.db",
                "SELECT name, type FROM pragma_table_info('f') WHERE name NOT LIKE 'hd%' ORDER BY name",
            );
            let names: Vec<&str> = columns.iter().filter_map(|line| line.split('|').next()).collect();
            let list = names.join(", ");
            let rows = shop.query("h.db", &format!("SELECT {list} FROM f ORDER BY no"));
            let rows: Vec<String> = rows;
            let account =
                "SELECT sum(rows_read), sum(rows_loaded + rows_rejected + rows_left_out) FROM hd_files
                 WHERE replaced_by IS NULL";
            let account = shop.query("h.db", account);
            let written: usize = files.iter().map(|(_, rows)| rows.len()).sum();
            assert_eq!(account, [format!("{written}|{written}")]);
            (columns, rows)
        };
        let plain: Vec<usize> = (0..files.len()).collect();
        let (columns, rows) = table(&plain);
        let (other_columns, other_rows) = table(&order);
        prop_assert_eq!(columns, other_columns);
        prop_assert_eq!(rows, other_rows);
        Ok(())
    };
    runner.run(&files, check).unwrap_or_else(|failure| panic!("{failure}"));
}

/// A header that is gone where the last column is empty: the columns are as many as ever.
#[rstest]
fn a_header_that_is_gone_over_an_empty_last_column(
    #[values(Sqlite, Postgres, Mysql, SqlitePostgres, PostgresMysql)] kind: Kind,
) {
    let (shop, staging) = (workshop(), Staging::new(kind));
    configure(&shop, &staging, "");
    shop.write("in/f_20260302.csv", "id;berth;state;note\n1;N1;ok;windy\n2;N2;ok;\n3;N3;bad;\n");
    shop.ok("load");
    shop.write("in/f_20260303.csv", "4;N4;ok;\n5;N5;ok;\n6;N6;bad;\n");
    let run = shop.run("load");
    assert_eq!(run.code, Some(3), "{}", run.out);
    shop.ok("settle f_20260303.csv --load-anyway");
    shop.ok("load");
    let rows = staging.query(&shop, "SELECT id, berth, state, note IS NULL FROM f WHERE id > 3 ORDER BY id");
    let is_null = if matches!(kind, Postgres | SqlitePostgres) { "t" } else { "1" };
    assert_eq!(rows, ["4|N4|ok", "5|N5|ok", "6|N6|bad"].map(|row| format!("{row}|{is_null}")));
}
