//! Loading without a configuration.

use hypodoke_testkit::set_modified;
use rstest::rstest;

use crate::workshop;

const MOVEMENTS: &str = "\
Movement No.,Vessel,Arrived at,Draught (m),Tugs,Pilot,Remarks
1,Grey Heron,2026-03-02 07:15,5.30,2,yes,
2,\"Salt, the Second\",2026-03-02 08:00,11.05,0,no,\"said \"\"no tugs\"\"\"
3,White Plover,2026-03-03 23:59,4.2,,yes,\"two
lines\"
";

#[test]
fn one_file_becomes_a_typed_table_with_a_receipt() {
    let shop = workshop();
    shop.write("movements.csv", MOVEMENTS);
    let run = shop.ok("load movements.csv --into sqlite:harbour.db");
    for part in [
        "movements.csv",
        "loaded",
        "text, comma, UTF-8",
        "batch 1: 1 file loaded, 3 rows",
        "sqlite:harbour.db",
    ] {
        assert!(run.out.contains(part), "{part} in {}", run.out);
    }
    let rows = shop.query("harbour.db", "SELECT * FROM movements");
    assert_eq!(
        rows,
        [
            "1|Grey Heron|2026-03-02 07:15:00|5.3|2|1||1|2",
            "2|Salt, the Second|2026-03-02 08:00:00|11.05|0|0|said \"no tugs\"|1|3",
            "3|White Plover|2026-03-03 23:59:00|4.2||1|two\nlines|1|4",
        ]
    );
    let types = shop.query("harbour.db", "SELECT name, type FROM pragma_table_info('movements')");
    assert_eq!(
        types,
        [
            "movement_no|INTEGER",
            "vessel|TEXT",
            "arrived_at|TIMESTAMP",
            "draught_m|DECIMAL(4,2)",
            "tugs|INTEGER",
            "pilot|BOOLEAN",
            "remarks|TEXT",
            "hd_file|INTEGER",
            "hd_line|INTEGER"
        ]
    );
}

#[test]
fn without_a_database_named_the_default_is_used_and_said() {
    let shop = workshop();
    shop.write("movements.csv", MOVEMENTS);
    let run = shop.ok("load movements.csv");
    assert!(run.err.contains("loading into sqlite:hypodoke.db"), "{}", run.err);
    assert!(run.out.contains("sqlite:hypodoke.db"));
    assert_eq!(shop.query("hypodoke.db", "SELECT count(*) FROM movements"), ["3"]);
}

#[test]
fn the_same_again_changes_nothing() {
    let shop = workshop();
    shop.write("movements.csv", MOVEMENTS);
    shop.ok("load movements.csv");
    let before = std::fs::read(shop.path("hypodoke.db")).unwrap();
    let run = shop.ok("load movements.csv");
    assert!(run.out.contains("nothing new: 0 files loaded, 1 file known already"), "{}", run.out);
    assert_eq!(
        std::fs::read(shop.path("hypodoke.db")).unwrap(),
        before,
        "not a byte of the database changed"
    );
}

#[test]
fn folders_and_files_go_to_tables_of_their_names() {
    let shop = workshop();
    shop.write("in/movements_20260302.csv", "id,berth\n1,N-01\n");
    shop.write("in/deep/movements_20260303.csv", "id,berth\n2,N-02\n");
    shop.write("tariffs.csv", "code;fee\na;1,50\n");
    let run = shop.ok("load in tariffs.csv");
    assert!(run.out.contains("3 files loaded, 3 rows"), "{}", run.out);
    assert_eq!(
        shop.query("hypodoke.db", "SELECT id, berth FROM movements ORDER BY id"),
        ["1|N-01", "2|N-02"]
    );
    assert_eq!(shop.query("hypodoke.db", "SELECT code, fee FROM tariffs"), ["a|1.5"]);
}

#[test]
fn a_table_may_be_named() {
    let shop = workshop();
    shop.write("a.csv", "id\n1\n");
    shop.write("b.csv", "id\n2\n");
    shop.ok("load a.csv b.csv --table all_of_them");
    assert_eq!(
        shop.query("hypodoke.db", "SELECT count(*), count(DISTINCT hd_file) FROM all_of_them"),
        ["2|2"]
    );
}

#[test]
fn files_that_disagree_are_reconciled_before_the_first_is_loaded() {
    for (first, second) in [("a", "b"), ("b", "a")] {
        let shop = workshop();
        shop.write(&format!("{first}.csv"), "id,depth\n1,12\n");
        shop.write(&format!("{second}.csv"), "id,depth,note\n2,7.25,x\n");
        shop.ok("load a.csv b.csv --table depths");
        let types = shop.query("hypodoke.db", "SELECT name, type FROM pragma_table_info('depths') WHERE name < 'hd' OR name > 'i' ORDER BY name");
        assert_eq!(types, ["depth|DECIMAL(4,2)", "id|INTEGER", "note|TEXT"]);
        assert_eq!(
            shop.query("hypodoke.db", "SELECT id, depth, note FROM depths ORDER BY id"),
            ["1|12|", "2|7.25|x"]
        );
        assert_eq!(
            shop.query("hypodoke.db", "SELECT count(*) FROM hd_drift WHERE change <> 'missing'"),
            ["0"]
        );
    }
}

#[test]
fn a_later_file_widens_the_table_and_loses_nothing() {
    let shop = workshop();
    shop.write("d_1.csv", "id,depth,when\n1,12,2026-03-02\n2,-7,\n");
    shop.ok("load d_1.csv --table d");
    shop.write("d_2.csv", "id,depth,when,note\n3,7.25,2026-03-03 04:05,new\n");
    let run = shop.ok("load d_2.csv --table d");
    for part in [
        "new column `note` (text): added to the table",
        "column `depth` needs decimal(4,2) instead of integer, `7.25` on line 2: the table's column was widened",
        "column `when` needs timestamp instead of date, `2026-03-03 04:05` on line 2: the table's column was widened",
    ] {
        assert!(run.out.contains(part), "{part} in {}", run.out);
    }
    shop.write("d_3.csv", "id,depth,when,note\n4,deep,,\n");
    // No number at all is held.
    let run = shop.attention("load d_3.csv --table d");
    assert!(
        run.out.contains("column `depth` has no value that is decimal(4,2), the first `deep` on line 2"),
        "{}",
        run.out
    );
    shop.ok("settle d_3.csv --as-text depth");
    shop.ok("load d_3.csv --table d");
    assert_eq!(
        shop.query("hypodoke.db", "SELECT id, depth, \"when\", note FROM d ORDER BY id"),
        ["1|12|2026-03-02 00:00:00|", "2|-7||", "3|7.25|2026-03-03 04:05:00|new", "4|deep||"]
    );
    assert_eq!(shop.query("hypodoke.db", "SELECT max(version) FROM hd_layouts"), ["3"]);
    assert_eq!(
        shop.query(
            "hypodoke.db",
            "SELECT column_name, change, from_type, to_type, action, line, value FROM hd_drift
             WHERE action <> 'noted' ORDER BY drift"
        ),
        [
            "note|added||text|added||",
            "depth|widened|integer|decimal(4,2)|widened|2|7.25",
            "when|widened|date|timestamp|widened|2|2026-03-03 04:05",
            "depth|other_kind|decimal(4,2)||held|2|deep",
            "depth|widened|decimal(4,2)|text|widened|2|deep",
            "note|missing|||nulled||"
        ]
    );
}

#[test]
fn a_column_that_was_empty_takes_the_type_of_its_first_values() {
    let shop = workshop();
    shop.write("a.csv", "id,left\n1,\n2,\n");
    shop.ok("load a.csv --table t");
    shop.write("b.csv", "id,left\n3,2026-03-02\n");
    let run = shop.ok("load b.csv --table t");
    assert!(run.out.contains("column `left` was empty until now and holds date"), "{}", run.out);
    assert_eq!(shop.query("hypodoke.db", "SELECT id, left FROM t"), ["1|", "2|", "3|2026-03-02"]);
}

#[test]
fn the_same_content_under_another_name_or_time_is_not_loaded_twice() {
    let shop = workshop();
    let path = shop.write("a.csv", "id\n1\n");
    shop.write("b.csv", "id\n1\n");
    let run = shop.ok("load a.csv b.csv --table t");
    assert!(run.out.contains("same content as"), "{}", run.out);
    set_modified(&path, 1_772_500_000);
    let run = shop.ok("load a.csv b.csv --table t");
    assert!(run.out.contains("same content as loaded in batch 1"), "{}", run.out);
    let run = shop.ok("load a.csv b.csv --table t");
    assert!(run.out.contains("nothing new: 0 files loaded, 2 files known"), "{}", run.out);
    assert_eq!(shop.query("hypodoke.db", "SELECT count(*) FROM t"), ["1"]);
}

#[test]
fn a_corrected_file_replaces_its_rows() {
    let shop = workshop();
    shop.write("a.csv", "id,tugs\n1,2\n2,2\n");
    shop.write("b.csv", "id,tugs\n9,9\n");
    shop.ok("load a.csv b.csv --table t");
    shop.write("a.csv", "id,tugs\n1,3\n");
    let run = shop.ok("load a.csv b.csv --table t");
    assert!(run.out.contains("its rows were replaced"), "{}", run.out);
    assert_eq!(shop.query("hypodoke.db", "SELECT id, tugs FROM t ORDER BY id"), ["1|3", "9|9"]);
    assert_eq!(shop.query("hypodoke.db", "SELECT replaced_by FROM hd_files ORDER BY file"), ["3", "", ""]);
    // And once more, back to what it was first: the rows of that version are gone by now.
    shop.write("a.csv", "id,tugs\n1,2\n2,2\n");
    shop.ok("load a.csv --table t");
    assert_eq!(shop.query("hypodoke.db", "SELECT id, tugs FROM t ORDER BY id"), ["1|2", "2|2", "9|9"]);
}

#[test]
fn rejects_keep_the_record_and_say_why() {
    let shop = workshop();
    shop.write("a.csv", "id,berth,note\n1,N-01,x\n2,N-02\n3,N-03,y,z\n4,N-04,ok\n");
    let run = shop.attention("load a.csv");
    assert!(run.out.contains("2 rows rejected"), "{}", run.out);
    assert_eq!(
        shop.query("hypodoke.db", "SELECT line, column_name, reason, raw FROM hd_rejects"),
        ["3||2 fields, the header has 3|2,N-02", "4||4 fields, the header has 3|3,N-03,y,z"]
    );
    let run = shop.ok("rejects");
    assert!(
        run.out.contains("2 fields, the header has 3") && run.out.contains("batch 1: 2 rows rejected"),
        "{}",
        run.out
    );
    let document = shop.json("rejects 1", 0);
    assert_eq!(document["rejects"][1]["raw"], "3,N-03,y,z");
}

#[rstest]
#[case("--delimiter pipe", "a|b\n1|2\n", "1|2")]
#[case("--header-lines 0", "1,2\n3,4\n", "1|2")]
#[case("--skip-lines 2", "x,y\nz,w\na,b\n1,2\n", "1|2")]
#[case("--encoding iso-8859-15", "a,b\n1,\u{a4}\n", "1|€")]
#[case("--quote none", "a,b\n1,\"2\n", "1|\"2")]
fn every_guess_can_be_overruled(#[case] option: &str, #[case] text: &str, #[case] row: &str) {
    let shop = workshop();
    let bytes: Vec<u8> = text.chars().map(|c| c as u8).collect();
    shop.write("t.csv", bytes);
    shop.ok(&format!("load t.csv {option}"));
    let names = shop.query("hypodoke.db", "SELECT group_concat(quote(name)) FROM (SELECT '\"' || name || '\"' AS name FROM pragma_table_info('t') LIMIT 2)");
    let columns = names[0].replace('\'', "");
    assert_eq!(shop.query("hypodoke.db", &format!("SELECT {columns} FROM t LIMIT 1")), [row]);
}

#[test]
fn compressed_files_are_read_as_what_they_hold() {
    let shop = workshop();
    let path = shop.write("m.csv", MOVEMENTS);
    let status = std::process::Command::new("gzip").arg(&path).status().expect("gzip");
    assert!(status.success());
    std::fs::rename(shop.path("m.csv.gz"), shop.path("m.csv")).unwrap();
    let run = shop.ok("load m.csv");
    assert!(run.out.contains("text, comma, UTF-8, gzip"), "{}", run.out);
    assert_eq!(shop.query("hypodoke.db", "SELECT count(*) FROM m"), ["3"]);
}

#[test]
fn a_large_file_goes_through_threads_and_stays_whole() {
    let shop = workshop();
    let mut text = String::from("id,name,depth\n");
    for id in 0..60_000 {
        text.push_str(&format!("{id},\"berth, {}\",{}.{:02}\n", id % 91, id % 30, id % 100));
    }
    text.push_str("broken,row\n");
    shop.write("big.csv", &text);
    let document = shop.json("load big.csv", 3);
    let line = &document["files"][0];
    assert_eq!((line["rows_read"].as_u64(), line["rows_loaded"].as_u64()), (Some(60_001), Some(60_000)));
    assert_eq!(document["totals"]["rows_rejected"], 1);
    let sums = shop.query("hypodoke.db", "SELECT count(*), sum(id), min(hd_line), max(hd_line) FROM big");
    assert_eq!(sums, ["60000|1799970000|2|60001"]);
}

#[test]
fn the_receipt_and_the_ledger_are_told_again_later() {
    let shop = workshop();
    shop.write("movements.csv", MOVEMENTS);
    let first = shop.json("load movements.csv", 0);
    let again = shop.json("receipt", 0);
    assert_eq!(first["totals"], again["totals"]);
    assert_eq!(first["version"], 1);
    let ledger = shop.json("ledger", 0);
    let file = &ledger["files"][0];
    assert_eq!((file["rows_loaded"].as_u64(), file["outcome"].as_str()), (Some(3), Some("loaded")));
    assert_eq!(file["content_hash"].as_str().map(str::len), Some(64));
    let run = shop.ok("ledger");
    assert!(run.out.contains("1 file, 3 rows in the tables"), "{}", run.out);
    assert!(shop.run("receipt 7").err.contains("there is no batch 7; the newest is 1"));
}

#[test]
fn nothing_is_coloured_or_drawn_when_piped() {
    let shop = workshop();
    shop.write("movements.csv", MOVEMENTS);
    let run = shop.ok("load movements.csv");
    assert!(!run.out.contains('\u{1b}') && !run.err.contains('\u{1b}'));
    let run = shop.ok("ledger --color always");
    assert!(run.out.contains('\u{1b}'));
}

#[test]
fn what_is_done_is_told_when_asked() {
    let shop = workshop();
    shop.write("movements.csv", MOVEMENTS);
    let run = shop.ok("load movements.csv -vv");
    for part in
        ["1 file to read", "profiling movements.csv", "loading movements.csv", "movements.csv: loaded"]
    {
        assert!(run.err.contains(part), "{part} in {}", run.err);
    }
    assert!(shop.ok("load movements.csv -q").err.is_empty());
}

#[test]
fn a_type_given_later_does_not_narrow_the_table() {
    let shop = workshop();
    shop.write("a.csv", "id,depth\n1,aground\n");
    shop.ok("load a.csv --table t");
    shop.write("b.csv", "id,depth\n2,5\n3,deep\n");
    shop.ok("load b.csv --table t --type depth=integer");
    assert_eq!(shop.query("hypodoke.db", "SELECT id, depth FROM t"), ["1|aground", "2|5", "3|deep"]);
}

#[test]
fn decimals_are_stored_exactly_whatever_their_length() {
    let shop = workshop();
    shop.write("a.csv", "short,long\n0.10,0.00001\n99999.99,1234567890123456.12345\n-0.05,-0.00010\n");
    shop.ok("load a.csv");
    assert_eq!(
        shop.query("hypodoke.db", "SELECT printf('%.2f', short), long, typeof(short), typeof(long) FROM a"),
        ["0.10|0.00001|real|real", "99999.99|1234567890123456.12345|real|text", "-0.05|-0.0001|real|real"]
    );
}

#[test]
fn lines_after_the_table_are_accounted_for_in_the_ledger() {
    let shop = workshop();
    shop.write("a.csv", "id;berth;fee\n1;N-01;5,30\nTotal;;5,30\n");
    let run = shop.ok("load a.csv");
    assert!(run.out.contains("1 line after the table left out: Total;;5,30"), "{}", run.out);
    assert_eq!(
        shop.query("hypodoke.db", "SELECT rows_read, message FROM hd_files"),
        [
            "1|the total beneath the table (`Total;;5,30`) agrees with the rows\n1 line after the table left out: Total;;5,30"
        ]
    );
}

#[test]
fn columns_without_a_header_are_known_by_their_numbers() {
    let shop = workshop();
    shop.write("in/a.csv", "000142,N-01,5\n000143,N-02,6\n");
    shop.write("hypodoke.toml", "[place.p]\npath = \"in\"\n[feed.f]\nplace = \"p\"\nfiles = \"*.csv\"\n[feed.f.columns]\ncolumn_3 = { name = \"tugs\", type = \"text\" }\n");
    shop.ok("load");
    assert_eq!(
        shop.query("hypodoke.db", "SELECT column_1, tugs, typeof(tugs) FROM f"),
        ["000142|5|text", "000143|6|text"]
    );
}

#[test]
fn the_database_and_the_configuration_are_no_arrivals() {
    let shop = workshop();
    shop.write("a.csv", "id\n1\n");
    shop.ok("load .");
    let run = shop.ok("load .");
    assert!(run.out.contains("nothing new: 0 files loaded, 1 file known already"), "{}", run.out);
    shop.ok("draft .");
    assert!(shop.ok("survey .").out.contains("1 file, 1 layout"));
    let run = shop.ok("load");
    assert!(!run.out.contains("unmatched"), "{}", run.out);
}

#[test]
fn one_file_may_go_to_two_tables_and_is_known_to_each() {
    let shop = workshop();
    shop.write("a.csv", "id\n1\n");
    shop.ok("load a.csv --table t");
    assert!(shop.ok("load a.csv --table u").out.contains("1 file loaded, 1 row"));
    shop.write("a.csv", "id\n1\n2\n");
    shop.ok("load a.csv --table u");
    assert_eq!(
        shop.query("hypodoke.db", "SELECT (SELECT count(*) FROM t), (SELECT count(*) FROM u)"),
        ["1|2"]
    );
    assert_eq!(
        shop.query("hypodoke.db", "SELECT table_name FROM hd_files WHERE replaced_by IS NOT NULL"),
        ["u"]
    );
    assert!(shop.ok("load a.csv --table t").out.contains("its rows were replaced"));
}

#[test]
fn widening_keeps_the_indexes_and_views_of_a_table() {
    let shop = workshop();
    shop.write("a.csv", "id,depth\n1,5\n");
    shop.ok("load a.csv --table t");
    shop.database("hypodoke.db")
        .execute_batch(
            "CREATE INDEX by_depth ON t (depth); CREATE VIEW deep AS SELECT * FROM t WHERE depth > 6",
        )
        .unwrap();
    shop.write("b.csv", "id,depth\n2,7.5\n");
    shop.ok("load b.csv --table t");
    assert_eq!(shop.query("hypodoke.db", "SELECT id, depth FROM deep"), ["2|7.5"]);
    assert_eq!(
        shop.query("hypodoke.db", "SELECT tbl_name FROM sqlite_schema WHERE name = 'by_depth'"),
        ["t"]
    );
}
