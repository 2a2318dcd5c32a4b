//! Survey, draft and preview.

use hypodoke_testkit::Workshop;
use rstest::rstest;
use serde_json::Value;

use crate::workshop;

/// A small harbour: two layouts over several days, with the troubles that days bring.
fn harbour(shop: &Workshop) {
    for day in 2..=8 {
        let extra = if day >= 6 { (",crane", ",1.5") } else { ("", "") };
        let rows: String = (0..20)
            .map(|row| {
                let draught =
                    if day == 5 && row == 7 { "aground?".to_owned() } else { format!("{}.25", row % 9 + 1) };
                format!("{},N-{:02},{draught}{}\n", day * 100 + row, row % 18, extra.1)
            })
            .collect();
        shop.write(&format!("in/north/m_2026030{day}.csv"), format!("id,berth,draught{}\n{rows}", extra.0));
        let rows: String =
            (0..12).map(|row| format!("{};{:02}.03.2026;{},5\n", day * 50 + row, row + 12, row)).collect();
        shop.write(&format!("in/south/s-2026-03-0{day}.txt"), format!("Nr;Tag;Tiefe\n{rows}Summe;;66,0\n"));
    }
    let first = std::fs::read(shop.path("in/north/m_20260302.csv")).expect("a file");
    shop.write("in/north/m_20260302_again.csv", first);
    shop.write("in/north/m_20260309.csv", "id,berth,draught,crane\n901,N-01,2.25,1.5\n");
}

#[test]
fn a_file_is_shown_column_by_column_with_its_reasons() {
    let shop = workshop();
    harbour(&shop);
    let out = shop.ok("survey in/north/m_20260305.csv").out;
    for part in [
        "text, comma, UTF-8",
        "20 rows",
        "draught is text: decimal in 19 of 20 rows; line 9 holds `aground?`",
    ] {
        assert!(out.contains(part), "{part} in {out}");
    }
    let out = shop.ok("survey in/north/m_20260305.csv --why draught").out;
    for part in ["decimals with a point", "aground?", "text"] {
        assert!(out.contains(part), "{part} in {out}");
    }
    let wrong = shop.run("survey in/north/m_20260305.csv --why draft");
    assert_eq!(wrong.code, Some(2));
    assert!(wrong.err.contains("did you mean `draught`?"), "{}", wrong.err);
}

#[test]
fn a_folder_is_grouped_into_layouts_with_what_is_suspicious() {
    let shop = workshop();
    harbour(&shop);
    let out = shop.ok("survey in").out;
    for part in [
        "layout m  north/m_{day:%Y%m%d}*.csv",
        "9 files",
        "2026-03-02 to 2026-03-09",
        "layout s  south/s-{day:%Y-%m-%d}.txt  7 files",
        "m_20260302_again.csv has the same content as in/north/m_20260302.csv",
        "m_20260309.csv is much shorter than its fellows: 1 row, usually 20",
        "column `crane` appears with in/north/m_20260306.csv",
        "column `draught` is text because of 1 value",
        "16 files, 2 layouts, 245 rows",
    ] {
        assert!(out.contains(part), "{part} in {out}");
    }
    let matrix: Vec<&str> =
        out.lines().filter(|line| line.contains("draught") && line.contains("and 7 more")).collect();
    assert_eq!(matrix.len(), 1, "{out}");
}

#[test]
fn the_json_keeps_to_its_schema() {
    let shop = workshop();
    harbour(&shop);
    shop.write("in/broken.csv", "");
    let document = shop.json("survey in", 1);
    let schema: Value = serde_json::from_str(include_str!("../../../../docs/survey.schema.json")).unwrap();
    let validator = jsonschema::validator_for(&schema).expect("a schema");
    let errors: Vec<String> =
        validator.iter_errors(&document).map(|error| format!("{error} at {}", error.instance_path)).collect();
    assert!(errors.is_empty(), "{errors:?}");
    let south = document["layouts"].as_array().unwrap().iter().find(|l| l["name"] == "s").unwrap();
    let columns = south["columns"].as_array().unwrap();
    assert_eq!(
        (columns[1]["type"].as_str(), columns[1]["format"].as_str()),
        (Some("date"), Some("day-month-year"))
    );
    assert_eq!(
        (columns[2]["type"].as_str(), columns[2]["max"].as_str()),
        (Some("decimal(3,1)"), Some("11.5"))
    );
    let file = document["files"]
        .as_array()
        .unwrap()
        .iter()
        .find(|f| f["path"] == "in/north/m_20260305.csv")
        .unwrap();
    let against = &file["tables"][0]["columns"][2]["against"][0];
    assert_eq!(against.to_string(), r#"{"count":1,"line":9,"type":"decimal","value":"aground?"}"#);
    let broken = document["files"].as_array().unwrap().iter().find(|f| f["path"] == "in/broken.csv").unwrap();
    assert_eq!(broken["error"], "in/broken.csv: the file is empty");
}

#[test]
fn many_threads_and_any_order_say_the_same() {
    let shop = workshop();
    harbour(&shop);
    let first = shop.ok("survey in --json").out;
    for _ in 0..3 {
        assert_eq!(shop.ok("survey in --json").out, first);
    }
}

#[test]
fn a_load_straight_after_a_draft_works() {
    let shop = workshop();
    harbour(&shop);
    let run = shop.ok("draft in");
    assert!(run.out.contains("wrote hypodoke.toml with 2 feeds for 16 files"), "{}", run.out);
    let text = std::fs::read_to_string(shop.path("hypodoke.toml")).unwrap();
    for part in [
        "files = \"south/s-{day:%Y-%m-%d}.txt\"",
        "# Tag = { name = \"tag\", type = \"date\" }  # day-month-year",
        "key   = [\"nr\"]  # unique in all of these files, and never null",
        "# draught is decimal(3,2) in 8 files and text in 1 file: all of them fit text",
    ] {
        assert!(text.contains(part), "{part} in {text}");
    }
    let run = shop.ok("load");
    assert!(run.out.contains("15 files loaded, 225 rows, 1 file with content loaded before"), "{}", run.out);
    assert_eq!(
        shop.query("hypodoke.db", "SELECT count(*), sum(tiefe), min(tag) FROM s"),
        ["84|504|2026-03-12"]
    );
    let run = shop.run("draft in");
    assert_eq!(run.code, Some(2));
    assert!(run.err.contains("is there already"), "{}", run.err);
    shop.ok("draft in --force");
    assert!(shop.ok("draft in -o - --into sqlite:other.db").out.contains("url = \"sqlite:other.db\""));
}

#[test]
fn a_preview_shows_typed_rows_and_marks_rejects() {
    let shop = workshop();
    shop.write("a.csv", "id,fee,day\n1,\"1.234,50\",13.03.2026\n2,\"2,5\"\n3,\"7,25\",14.03.2026\n");
    let out = shop.ok("preview a.csv").out;
    for part in [
        "decimal(6,2)",
        "1234.50",
        "2026-03-13",
        "rejected",
        "line 3 would be rejected: 2 fields, the header has 3",
    ] {
        assert!(out.contains(part), "{part} in {out}");
    }
    let document = shop.json("preview a.csv -n 2", 0);
    let rows = &document["tables"][0]["rows"];
    assert_eq!(rows.as_array().unwrap().len(), 2);
    assert_eq!(rows[0]["values"][1], "1234.50");
    shop.write("hypodoke.toml", "[place.p]\npath = \".\"\n[feed.fees]\nplace = \"p\"\nfiles = \"a*.csv\"\n");
    assert!(shop.ok("preview fees").out.contains("1234.50"));
}

#[rstest]
#[case("--type fee=text", "1,50")]
#[case("--format fee=1,234.5", "150")]
#[case("--format day=month-day-year --type fee=text", "2026-03-02")]
fn columns_can_be_overruled(#[case] option: &str, #[case] value: &str) {
    let shop = workshop();
    shop.write("a.csv", "id;fee;day\n1;1,50;03/02/2026\n");
    shop.write("b.csv", "id;fee;day\n1;\"1,500\";03/02/2026\n");
    let file = if option.contains("1,234.5") { "b.csv" } else { "a.csv" };
    let wanted = if option.contains("1,234.5") { "1500" } else { value };
    let out = shop.ok(&format!("preview {file} {option}")).out;
    assert!(out.contains(wanted), "{out}");
}

#[test]
fn a_configuration_can_overrule_columns_too() {
    let shop = workshop();
    shop.write("in/a.csv", "id,fee,day,depth\n1,\"1,234\",03/04/2026,-999\n2,\"5,678\",03/05/2026,4\n");
    shop.write(
        "hypodoke.toml",
        r#"
[place.p]
path = "in"
[feed.fees]
place = "p"
files = "*.csv"
[feed.fees.columns]
fee = { format = "1234,5" }
day = { format = "month-day-year" }
depth = { also_null = ["-999"] }
"#,
    );
    shop.ok("load");
    assert_eq!(
        shop.query("hypodoke.db", "SELECT fee, day, depth FROM fees"),
        ["1.234|2026-03-04|", "5.678|2026-03-05|4"]
    );
}

#[test]
fn text_of_fixed_width_is_read_by_its_declared_fields() {
    let shop = workshop();
    shop.write("f.dat", "HARBOUR OF QUILLANE\n000142N-01  5.30\n000143S-11 11.05\n");
    shop.ok("load f.dat --skip-lines 1 --fields nr:6,berth:5,draught:5");
    assert_eq!(
        shop.query("hypodoke.db", "SELECT nr, berth, draught, hd_line FROM f"),
        ["000142|N-01|5.3|2", "000143|S-11|11.05|3"]
    );
}

/// A zip archive made by the system's own tool.
pub fn zip(shop: &Workshop, arguments: &[&str]) {
    let script = "import sys, zipfile\nz = zipfile.ZipFile(sys.argv[1], 'w', zipfile.ZIP_DEFLATED)\nfor pair in sys.argv[2:]:\n  name, text = pair.split('=', 1)\n  z.writestr(name, text.replace('|', '\\n'))\nz.close()";
    let status = std::process::Command::new("python3")
        .current_dir(shop.path("."))
        .args(["-c", script])
        .args(arguments)
        .status()
        .expect("python3");
    assert!(status.success());
}

#[test]
fn archives_are_read_member_by_member() {
    let shop = workshop();
    zip(&shop, &["one.zip", "m.csv=id,n|1,2|"]);
    zip(&shop, &["two.zip", "deep/a.csv=id,n|3,4|", "b.csv=id,n|5,6|7,8|"]);
    let run = shop.ok("load one.zip two.zip --table t");
    assert!(run.out.contains("two.zip/deep/a.csv") && run.out.contains("zip"), "{}", run.out);
    assert_eq!(shop.query("hypodoke.db", "SELECT id, n FROM t ORDER BY id"), ["1|2", "3|4", "5|6", "7|8"]);
    assert!(shop.ok("load one.zip two.zip --table t").out.contains("3 files known already"));
    zip(&shop, &["climb.zip", "../../evil.csv=id|1|", "b.csv=id|1|"]);
    let run = shop.run("load climb.zip");
    assert_eq!(run.code, Some(1));
    assert!(run.err.contains("climbs out of its folder"), "{}", run.err);
}

#[test]
fn what_expands_beyond_measure_is_stopped_and_the_way_out_is_named() {
    let shop = workshop();
    let script = "import gzip\nf = gzip.open('bomb.csv.gz', 'wb')\nf.write(b'id,n\\n')\nfor _ in range(400): f.write(b'0,0\\n' * 250000)\nf.close()";
    assert!(
        std::process::Command::new("python3")
            .current_dir(shop.path("."))
            .args(["-c", script])
            .status()
            .unwrap()
            .success()
    );
    let run = shop.run("survey bomb.csv.gz");
    assert_eq!(run.code, Some(1), "{}{}", run.out, run.err);
    assert!(run.out.contains("expands to more than 200 times its size"), "{}", run.out);
    assert!(run.out.contains("--max-expansion"), "{}", run.out);
}

#[test]
fn a_line_beyond_the_limit_is_named_with_the_way_out() {
    let shop = workshop();
    shop.write("a.csv", format!("id,n\n1,{}\n", "x".repeat(3_000_000)));
    let run = shop.run("survey a.csv --max-record 1000000");
    assert_eq!(run.code, Some(1), "{}{}", run.out, run.err);
    assert!(
        run.out.contains("line 2 is longer than 1000000 bytes") && run.out.contains("--max-record"),
        "{}",
        run.out
    );
    shop.ok("survey a.csv");
}

#[test]
fn an_unclosed_quote_in_a_long_file_costs_its_row() {
    let shop = workshop();
    let rows: String = (0..200_000).map(|row| format!("{row},berth {row}\n")).collect();
    shop.write("a.csv", format!("id,name\nx,\"never closed\n{rows}"));
    let run = shop.attention("load a.csv --max-record 2000000");
    assert!(run.out.contains("200,000 rows, 1 row rejected"), "{}", run.out);
    assert_eq!(shop.query("hypodoke.db", "SELECT line, raw FROM hd_rejects"), ["2|x,\"never closed"]);
}

#[test]
fn an_encoding_that_breaks_half_way_names_the_place() {
    let shop = workshop();
    let mut bytes = vec![0xFF, 0xFE];
    let text: String =
        "id,name\n".to_owned() + &(0..50).map(|row| format!("{row},Müwe\n")).collect::<String>();
    bytes.extend(text.encode_utf16().flat_map(u16::to_le_bytes));
    let at = bytes.len() - 8;
    // Half of a pair of surrogates.
    bytes[at..at + 2].copy_from_slice(&0xD83Du16.to_le_bytes());
    shop.write("a.csv", &bytes);
    shop.attention("load a.csv");
    let reasons = shop.query("hypodoke.db", "SELECT line, reason FROM hd_rejects");
    assert_eq!(reasons, [format!("51|bytes that are not text in the file's encoding, at byte {at}")]);
}
