//! Names that are not to be had: those of the ledger, and those that databases keep for themselves.

use hypodoke_testkit::finish;
use rstest::rstest;

use crate::staging::Kind::{self, Mysql, Postgres, Sqlite};
use crate::staging::{Staging, configure};
use crate::workshop;

/// What a list in a document would be called is a table of the ledger: forged rows there would make real
/// files count as loaded.
#[rstest]
fn no_document_writes_into_the_ledger(#[values(Sqlite, Postgres, Mysql)] kind: Kind) {
    let (shop, staging) = (workshop(), Staging::new(kind));
    let text = format!(
        "[staging]\nurl = \"{}\"\n[place.quay]\npath = \"in\"\n[feed.f]\nplace = \"quay\"\nfiles = \"*.json\"\ntable = \"hd\"\n",
        staging.url()
    );
    shop.write("hypodoke.toml", text);
    shop.write(
        "in/a.json",
        r#"[{"id": 1, "files": [{"file": 99, "outcome": "loaded"}], "rejects": [{"line": 1}]}]"#,
    );
    shop.ok("load");
    assert_eq!(staging.query(&shop, "SELECT file, outcome FROM t_hd_files"), ["99|loaded"]);
    assert_eq!(staging.query(&shop, "SELECT line FROM t_hd_rejects"), ["1"]);
    assert_eq!(staging.query(&shop, "SELECT count(*) FROM hd_files"), ["1"]);
    assert!(shop.ok("tally").out.contains("agree"));
}

/// Lists of a table whose name is as long as it may be each have a table of their own, whose name every database
/// keeps as a whole.
#[rstest]
#[case::room_for_a_part_of_it(60, [(60, "_cr"), (60, "__2")])]
#[case::no_room_for_the_list(62, [(62, "_"), (61, "_2")])]
#[case::no_room_at_all(63, [(61, "_2"), (61, "_3")])]
fn lists_of_a_table_with_a_long_name_have_tables_of_their_own(
    #[case] long: usize,
    #[case] lists: [(usize, &str); 2],
    #[values(Sqlite, Postgres, Mysql)] kind: Kind,
) {
    let (shop, staging) = (workshop(), Staging::new(kind));
    let table = "m".repeat(long);
    let text = format!(
        "[staging]\nurl = \"{}\"\n[place.quay]\npath = \"in\"\n[feed.f]\nplace = \"quay\"\nfiles = \"*.json\"\ntable = \"{table}\"\n",
        staging.url()
    );
    shop.write("hypodoke.toml", text);
    for name in ["a", "b"] {
        let rest = r#""crew": [{"name": "Ada"}], "crews": [{"name": "Bo"}, {"name": "Cy"}]"#;
        shop.write(&format!("in/{name}.json"), format!("[{{\"id\": 1, \"file\": \"{name}\", {rest}}}]"));
        shop.ok("load");
    }
    let tables = lists.map(|(letters, end)| "m".repeat(letters) + end);
    let count = |table: &str| staging.query(&shop, &format!("SELECT count(*) FROM {table}"));
    let counts: Vec<Vec<String>> = tables.iter().map(|list| count(list)).collect();
    assert_eq!(
        (count(&table), counts),
        (vec!["2".to_owned()], vec![vec!["2".to_owned()], vec!["4".to_owned()]])
    );
}

#[rstest]
#[case::ledger("hd_files")]
#[case::in_capitals("HD_Files")]
#[case::of_a_schema("main.hd_files")]
#[case::blank(" ")]
fn tables_of_the_ledger_cannot_be_asked_for(#[case] table: &str) {
    let (shop, staging) = (workshop(), Staging::new(Sqlite));
    configure(&shop, &staging, "");
    let text = std::fs::read_to_string(shop.path("hypodoke.toml")).expect("text");
    shop.write(
        "hypodoke.toml",
        text.replace("table = \"f\"", &format!("table = \"{table}\"\nmode = \"replace\"")),
    );
    shop.write("in/f_20260302.csv", "id\n1\n");
    let run = shop.run("load");
    assert_eq!(run.code, Some(2), "{}", run.out);
    assert!(run.err.contains("`table`"), "{}", run.err);
    let mut by_hand = shop.command("load in/f_20260302.csv --into sqlite:other.db --table");
    by_hand.arg(table);
    let by_hand = finish(by_hand);
    assert_eq!(by_hand.code, Some(2), "{}", by_hand.out);
    assert!(!shop.path("other.db").exists());
}

#[test]
fn columns_cannot_be_given_names_that_are_kept() {
    let (shop, staging) = (workshop(), Staging::new(Sqlite));
    configure(&shop, &staging, "[feed.f.columns.id]\nname = \"hd_line\"");
    shop.write("in/f_20260302.csv", "id\n1\n");
    let run = shop.run("load");
    assert!(run.code == Some(2) && run.err.contains("`hd_line` is a name that"), "{}", run.err);
}

#[rstest]
fn headers_that_name_what_databases_keep_are_renamed_and_told(#[values(Sqlite, Postgres, Mysql)] kind: Kind) {
    let (shop, staging) = (workshop(), Staging::new(kind));
    configure(&shop, &staging, "mode = \"history\"\nkey = [\"id\"]");
    let header = "id,rowid,ctid,xmin,tableoid,oid,hd_row,hd_file,hd_valid_from";
    shop.write("in/f_20260302.csv", format!("{header}\n1,2,3,4,5,6,7,8,9\n"));
    let run = shop.ok("load");
    assert!(
        run.out.contains("column `rowid`: that name is the ledger's or the databases'; it is `c_rowid`"),
        "{}",
        run.out
    );
    let sql =
        "SELECT c_rowid, c_ctid, c_xmin, c_tableoid, c_oid, c_hd_row, c_hd_file, c_hd_valid_from FROM f";
    assert_eq!(staging.query(&shop, sql), ["2|3|4|5|6|7|8|9"]);
    shop.write("in/f_20260303.csv", format!("{header}\n1,20,3,4,5,6,7,8,9\n"));
    let run = shop.ok("load");
    assert!(!run.out.contains("databases'"), "it is told once: {}", run.out);
    assert_eq!(staging.query(&shop, "SELECT c_rowid FROM f WHERE hd_valid_to IS NULL"), ["20"]);
}

/// Where somebody else made the table, its columns are called as they are.
#[rstest]
fn a_table_of_others_may_have_columns_so_called(#[values(Sqlite, Postgres, Mysql)] kind: Kind) {
    let (shop, staging) = (workshop(), Staging::new(kind));
    staging.run(&shop, "CREATE TABLE f (id bigint, oid bigint, day date)");
    configure(&shop, &staging, "");
    shop.write("in/f_20260302.csv", "id,oid\n1,7\n");
    let run = shop.ok("load");
    assert!(!run.out.contains("c_oid"), "{}", run.out);
    assert_eq!(staging.query(&shop, "SELECT id, oid FROM f"), ["1|7"]);
}

#[test]
fn a_feed_called_as_the_ledger_has_another_table() {
    let (shop, staging) = (workshop(), Staging::new(Sqlite));
    configure(&shop, &staging, "");
    let text = std::fs::read_to_string(shop.path("hypodoke.toml")).expect("text");
    shop.write("hypodoke.toml", text.replace("[feed.f]", "[feed.hd-files]").replace("table = \"f\"\n", ""));
    shop.write("in/f_20260302.csv", "id\n1\n");
    shop.ok("load");
    assert_eq!(staging.query(&shop, "SELECT id FROM t_hd_files"), ["1"]);
}

/// A helper of the load has a name that nobody else's table has.
#[test]
fn what_others_have_in_the_database_stays() {
    let (shop, staging) = (workshop(), Staging::new(Sqlite));
    configure(&shop, &staging, "");
    shop.write("in/f_20260302.csv", "id,n\n1,2\n");
    shop.ok("load");
    staging.run(
        &shop,
        "CREATE TABLE hd_new_f (a); INSERT INTO hd_new_f VALUES (1);
         CREATE TABLE hd_new_1_f (a); INSERT INTO hd_new_1_f VALUES (2);
         ALTER TABLE f ADD COLUMN remark TEXT NOT NULL DEFAULT 'none';
         UPDATE f SET remark = 'seen by the master';
         CREATE VIEW pilots AS SELECT id, remark FROM f;",
    );
    shop.write("in/f_20260303.csv", "id,n\n2,2.5\n");
    shop.ok("load");
    assert_eq!(staging.query(&shop, "SELECT a FROM hd_new_f UNION ALL SELECT a FROM hd_new_1_f"), ["1", "2"]);
    let rows = staging.query(&shop, "SELECT id, remark FROM pilots ORDER BY id");
    assert_eq!(rows, ["1|seen by the master", "2|none"], "a column that somebody added is still there");
    let types = staging.query(&shop, "SELECT type FROM pragma_table_info('f') WHERE name IN ('n', 'remark')");
    assert_eq!(types, ["DECIMAL(2,1)", "TEXT"]);
}

#[rstest]
fn a_column_called_as_that_of_extras_is_no_other(#[values(Sqlite, Postgres, Mysql)] kind: Kind) {
    let (shop, staging) = (workshop(), Staging::new(kind));
    configure(&shop, &staging, "[feed.f.drift]\nnew_column = \"extras\"");
    shop.write("in/f_20260302.csv", "id,n\n1,2\n");
    shop.ok("load");
    shop.write("in/f_20260303.csv", "id,n,extras,tugs\n2,2,hawser,5\n");
    let run = shop.run("load");
    assert!(run.code == Some(0), "{}{}", run.out, run.err);
    let kept = "SELECT count(*) FROM f WHERE extras_2 LIKE '%hawser%' AND extras_2 LIKE '%tugs%'";
    let kept = match kind {
        Sqlite | Mysql => kept.to_owned(),
        _ => kept.replace("extras_2 LIKE", "extras_2::text LIKE"),
    };
    assert_eq!(staging.query(&shop, &kept), ["1"], "{}", run.out);
    shop.write("in/f_20260304.csv", "id,n,tugs,extras\n3,2,6,line\n");
    shop.ok("load");
    assert_eq!(staging.query(&shop, "SELECT count(*) FROM f WHERE extras_2 IS NULL"), ["1"]);
}

#[test]
fn a_key_called_as_that_of_the_whole_record_is_no_other() {
    let (shop, staging) = (workshop(), Staging::new(Sqlite));
    let text = "[staging]\nurl = \"sqlite:h.db\"\n[place.quay]\npath = \"in\"\n[feed.f]\nplace = \"quay\"\nfiles = \"*.json\"\nraw = true\n";
    shop.write("hypodoke.toml", text);
    shop.write("in/a.json", "{\"id\": 1, \"raw\": \"hides\"}\n{\"id\": 2, \"raw\": \"tallow\"}\n");
    shop.ok("load");
    let rows =
        staging.query(&shop, "SELECT id, raw_of_the_record, json_extract(raw, '$.id') FROM f ORDER BY id");
    assert_eq!(rows, ["1|hides|1", "2|tallow|2"]);
    let record = |at| format!("\"quay{at}\": {{\"key\": \"k{at}\", \"id\": {at}}}");
    let records: Vec<String> = (0..8).map(record).collect();
    shop.write("in/b.json", format!("{{{}}}\n", records.join(", ")));
    shop.ok("load in/b.json --into sqlite:h.db --table g");
    let rows = staging.query(&shop, "SELECT key, key_of_the_record FROM g ORDER BY key LIMIT 2");
    assert_eq!(rows, ["quay0|k0", "quay1|k1"]);
}
