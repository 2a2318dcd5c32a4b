//! What tables hold: types, bytes, keys, rejects.

use hypodoke_testkit::Mariadb;
use rstest::rstest;

use super::begun;
use crate::workshop;
const ALL_TYPES: &str = "a,b,c,d,e,f,g,h,i,j,k\nyes,5,1.50,1.5e3,2026-03-02,07:15,2026-03-02 07:15,2026-03-02T07:15:00Z,0f8fad5b-d9cb-469f-a165-70867728950e,\"{\"\"x\"\":1.0}\",word\n";

#[rstest]
#[case::streamed("1")]
#[case::by_statements("0")]
fn columns_get_native_types(#[case] local_infile: &str) {
    let server = Mariadb::start(&[&format!("--local-infile={local_infile}")]);
    let (shop, database) = (workshop(), server.database());
    shop.write("f.csv", ALL_TYPES);
    shop.ok(&format!("load f.csv --into {}", database.url));
    let types = database.query(
        "SELECT COLUMN_TYPE FROM information_schema.COLUMNS WHERE TABLE_SCHEMA = DATABASE() AND TABLE_NAME = 'f' ORDER BY ORDINAL_POSITION",
    );
    let expected = [
        "tinyint(1)",
        "bigint(20)",
        "decimal(3,2)",
        "double",
        "date",
        "time(6)",
        "datetime(6)",
        "datetime(6)",
        "char(36)",
        "longtext",
        "longtext",
        "bigint(20)",
        "bigint(20)",
    ];
    assert_eq!(types, expected);
    let row = "1|5|1.50|1500|2026-03-02|07:15:00|2026-03-02 07:15:00|2026-03-02 07:15:00|0f8fad5b-d9cb-469f-a165-70867728950e|{\"x\":1.0}|word|1|2";
    assert_eq!(database.query("SELECT * FROM f"), [row]);
    assert_eq!(database.query("SELECT json_value(j, '$.x') FROM f"), ["1.0"]);
    shop.write("hypodoke.toml", format!("[staging]\nurl = \"{}\"\n", database.url));
    let said = shop.ok("check").out;
    assert_eq!(said.contains("local_infile"), local_infile == "0", "{said}");
}

/// What the server would change, or take for the same.
#[rstest]
#[case::streamed("1")]
#[case::by_statements("0")]
fn values_are_kept_to_the_byte(#[case] local_infile: &str) {
    let server = Mariadb::start(&[&format!("--local-infile={local_infile}")]);
    let (shop, database) = (workshop(), server.database());
    let odd = [
        "tab\\t",
        "a\\b",
        "\\N",
        "NULL",
        "it's",
        "a;b",
        "blank ",
        "Blank ",
        "ship \u{1f6a2}",
        "",
        "e\u{301}",
    ];
    let lines: String = odd
        .iter()
        .enumerate()
        .map(|(at, text)| format!("{{\"id\":{at},\"t\":{},\"x\":-0.0}}\n", serde_json::Value::from(*text)))
        .collect();
    shop.write("f.jsonl", lines);
    shop.write("g.csv", "id,n,d\n1,-0.0e0,-0.00\n2,1.7976931348623157e308,99999999999999999999999999999999999.999\n3,5e-324,0.001\n4,0.1,-1.500\n");
    shop.ok(&format!("load f.jsonl g.csv --into {}", database.url));
    let kept = database.query("SELECT hex(t) FROM f ORDER BY id");
    let hex = |text: &&str| text.bytes().map(|byte| format!("{byte:02X}")).collect::<String>();
    assert_eq!(kept, odd.iter().map(hex).collect::<Vec<_>>());
    assert_eq!(database.query("SELECT count(DISTINCT t) FROM f"), [odd.len().to_string()]);
    let numbers = database.query("SELECT n, d FROM g ORDER BY id");
    let expected = [
        // It has no negative nothing, which is as much.
        "0|0.000",
        "1.7976931348623157e308|99999999999999999999999999999999999.999",
        "5e-324|0.001",
        "0.1|-1.500",
    ];
    assert_eq!(numbers, expected);
    assert!(shop.ok(&format!("tally --into {}", database.url)).out.contains("agree"));
}

/// Keys that a collation would take for one are two.
#[rstest]
fn keys_are_told_apart_by_their_bytes(#[values("upsert", "insert-new", "history")] mode: &str) {
    let (shop, staging) = begun("", &format!("mode = \"{mode}\"\nkey = \"id\""));
    shop.write("in/f_20260302.csv", "id,n\na,1\nA,2\n\"a \",3\n\u{e4},4\na,5\n");
    shop.ok("load");
    assert_eq!(
        staging.query(&shop, "SELECT hex(id), n FROM f ORDER BY n"),
        ["41|2", "6120|3", "C3A4|4", "61|5"]
    );
    shop.write("in/f_20260303.csv", "id,n\nA,9\n");
    shop.ok("load");
    let current = if mode == "history" { "WHERE hd_valid_to IS NULL" } else { "" };
    let last = if mode == "insert-new" { "2" } else { "9" };
    assert_eq!(
        staging.query(&shop, &format!("SELECT n FROM f {current} ORDER BY hex(id), n")),
        [last, "5", "3", "4"]
    );
    assert!(shop.ok("tally").out.contains("agree"));
}

/// A text that is longer than a key takes is a reject, and the rest is loaded.
#[test]
fn a_key_that_is_too_long_is_a_reject() {
    let (shop, staging) = begun("", "mode = \"upsert\"\nkey = \"id\"");
    shop.write("in/f_20260302.csv", format!("id,n\nshort,1\n{},2\nlast,3\n", "x".repeat(300)));
    shop.attention("load");
    assert_eq!(staging.query(&shop, "SELECT n FROM f ORDER BY n"), ["1", "3"]);
    let reason = staging.query(&shop, "SELECT line, reason FROM hd_rejects");
    assert!(
        reason.len() == 1 && reason[0].starts_with("3|the table refused it: Data too long for column 'id'"),
        "{reason:?}"
    );
}

/// Rejects of every kind, in their thousands.
#[rstest]
#[case::streamed("1")]
#[case::by_statements("0")]
fn thousands_of_rejects_are_kept_as_they_stand(#[case] local_infile: &str) {
    let server = Mariadb::start(&[&format!("--local-infile={local_infile}")]);
    let (shop, database) = (workshop(), server.database());
    let line = |at: usize| match at % 3 {
        0 => format!("{at},{at}.5,caf\u{e9} \\ '{at}'\n"),
        1 => format!("{at},much,\n"),
        _ => format!("x{at},{at}\n"),
    };
    let lines: String = (0..9000).map(line).collect();
    shop.write("in/f_1.csv", format!("id,n,t\n{lines}"));
    let columns = "[feed.f.columns.id]\ntype = \"integer\"\n[feed.f.columns.n]\ntype = \"decimal(8,1)\"\n";
    let feed = "[place.quay]\npath = \"in\"\n[feed.f]\nplace = \"quay\"\nfiles = \"*.csv\"\n[feed.f.expect]\nrejected_rows = \"90%\"\n";
    shop.write("hypodoke.toml", format!("[staging]\nurl = \"{}\"\n{feed}{columns}", database.url));
    shop.done("load");
    assert_eq!(database.query("SELECT count(*) FROM f"), ["3000"]);
    assert_eq!(
        database.query("SELECT count(*), count(DISTINCT line), count(column_name) FROM hd_rejects"),
        ["6000|6000|6000"]
    );
    let of_line = "SELECT column_name, value, raw FROM hd_rejects WHERE line IN (3, 4) ORDER BY line";
    assert_eq!(database.query(of_line), ["n|much|1,much,", "id|x2|x2,2"]);
}

/// What is larger than the server takes at once is told with the setting; other rows are loaded.
#[rstest]
#[case::streamed("1")]
#[case::by_statements("0")]
fn a_record_larger_than_the_server_takes(#[case] local_infile: &str) {
    let server = Mariadb::start(&[&format!("--local-infile={local_infile}"), "--max-allowed-packet=1M"]);
    let (shop, database) = (workshop(), server.database());
    shop.write("f.csv", format!("id,t\n1,short\n2,{}\n3,short\n", "x".repeat(3 << 20)));
    let run = shop.run(&format!("load f.csv --into {}", database.url));
    let said = format!("{}{}", run.out, run.err);
    if run.code == Some(0) {
        assert_eq!(database.query("SELECT id, length(t) FROM f ORDER BY id"), ["1|5", "2|3145728", "3|5"]);
    } else {
        assert!(said.contains("max_allowed_packet"), "{:?} {said}", run.code);
    }
}
