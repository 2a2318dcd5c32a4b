//! JSON: lines, arrays and documents.

use rstest::rstest;

use crate::staging::Kind::{self, Mysql, Postgres, Sqlite};
use crate::staging::{Staging, configure};
use crate::workshop;

/// Two pilotages with manoeuvres, and the tugs of those.
const LOGS: &str = r#"{"meta": {"office": "Pilot Station"}, "result": {"logs": [
  {"id": 1, "pilot": {"name": "A. Sorrel", "licence": "0042"}, "at": "2026-03-02T06:10:00Z", "tags": ["night", "fog"],
   "manoeuvres": [{"kind": "turn", "minutes": 12.5, "tugs": [{"name": "Bryony"}, {"name": "Teasel"}]},
                  {"kind": "moor", "minutes": 30, "tugs": []}]},
  {"id": 2, "pilot": {"name": "B. \u00c9tain", "licence": "0107"}, "at": "2026-03-02T09:40:00Z", "tags": [],
   "manoeuvres": [{"kind": "turn", "minutes": 7, "tugs": [{"name": "Bryony"}]}]}
]}}"#;

#[test]
fn nested_lists_become_tables_that_lead_back_to_their_records() {
    let shop = workshop();
    shop.write("pilotage.json", LOGS);
    let run = shop.ok("load pilotage.json");
    assert!(run.out.contains("the rows are at $.result.logs[*]; `meta` beside them left out"), "{}", run.out);
    let main = shop.query("hypodoke.db", "SELECT * FROM pilotage");
    assert_eq!(
        main,
        [
            "1|A. Sorrel|0042|2026-03-02 06:10:00+00:00|[\"night\", \"fog\"]|1|1",
            "2|B. Étain|0107|2026-03-02 09:40:00+00:00||1|2",
        ]
    );
    let tugs = shop.query(
        "hypodoke.db",
        "SELECT p.id, m.kind, t.name, m.hd_position, t.hd_position FROM pilotage p
         JOIN pilotage_manoeuvres m ON m.hd_file = p.hd_file AND m.hd_parent = p.hd_line
         LEFT JOIN pilotage_manoeuvres_tugs t ON t.hd_file = m.hd_file AND t.hd_parent = m.hd_row ORDER BY 1, 4, 5",
    );
    assert_eq!(tugs, ["1|turn|Bryony|1|1", "1|turn|Teasel|1|2", "1|moor||2|", "2|turn|Bryony|1|1"]);
    for document in [shop.json("receipt", 0), shop.json("load pilotage.json --into sqlite:other.db", 0)] {
        let line = &document["files"][0];
        assert_eq!((line["rows_read"].as_u64(), line["rows_loaded"].as_u64()), (Some(2), Some(2)));
        let parts: Vec<(&str, u64)> = line["parts"]
            .as_array()
            .expect("parts")
            .iter()
            .map(|part| {
                (part["table"].as_str().expect("a table"), part["rows_loaded"].as_u64().expect("rows"))
            })
            .collect();
        assert_eq!(parts, [("pilotage_manoeuvres", 3), ("pilotage_manoeuvres_tugs", 3)]);
    }
    assert!(shop.ok("load pilotage.json").out.contains("nothing new"));
}

#[rstest]
#[case::an_array("[{\"a\":1},{\"a\":2}]", "json, $[*]")]
#[case::lines("{\"a\":1}\n\n{\"a\":2}\n", "json, lines")]
#[case::documents("{\"a\":\n1}\n{\"a\":\n2}", "json, $")]
#[case::documents_in_a_row("{\"a\":1}{\"a\":2}", "json, $")]
#[case::a_sequence("\u{1e}{\"a\":1}\n\u{1e}{\"a\":2}\n", "json, lines")]
#[case::a_usual_name("{\"status\":\"ok\",\"data\":[{\"a\":1},{\"a\":2}]}", "json, $.data[*]")]
#[case::a_mark("\u{feff}[{\"a\":1},{\"a\":2}]", "json, $[*]")]
#[case::lists("[[1],[2]]", "json, $[*]")]
fn rows_are_found(#[case] text: &str, #[case] kind: &str) {
    let shop = workshop();
    shop.write("a.json", text);
    let document = shop.json("load a.json", 0);
    assert_eq!(document["files"][0]["kind"], kind);
    let column = if text.starts_with("[[") { "column_1" } else { "a" };
    assert_eq!(shop.query("hypodoke.db", &format!("SELECT sum({column}), count(*) FROM a")), ["3|2"]);
}

#[rstest]
#[case::by_path("--rows-at $.b[*]", "SELECT n FROM a", &["7", "8"])]
#[case::as_json("--rows-at $ --nested json", "SELECT a, b FROM a", &["[{\"n\":1}]|[{\"n\":7},{\"n\":8}]"])]
#[case::the_whole_record("--rows-at $.b[1] --raw", "SELECT raw, n FROM a", &["{\"n\":8}|8"])]
#[case::plain_lists("--rows-at $.c --lists tables", "SELECT value, hd_position FROM a_d", &["x|1", "y|2"])]
#[case::strings_as_text("--rows-at $.e --strings text", "SELECT day, typeof(n) FROM a", &["2026-03-02|text"])]
#[case::under_keys("--rows-at $.f.*", "SELECT key, n FROM a", &["p|1", "q \"2\"|2"])]
fn what_is_wanted_can_be_said(#[case] options: &str, #[case] sql: &str, #[case] expected: &[&str]) {
    let shop = workshop();
    let text = r#"{"a":[{"n":1}],"b":[{"n":7},{"n":8}],"c":{"d":["x","y"]},"e":{"day":"2026-03-02","n":"5"},
        "f":{"p":{"n":1},"q \"2\"":{"n":2}}}"#;
    shop.write("a.json", text);
    shop.ok(&format!("load a.json {options}"));
    assert_eq!(shop.query("hypodoke.db", sql), expected);
}

#[test]
fn values_are_kept_exactly() {
    let shop = workshop();
    let lines = [
        r#"{"id":1,"big":12345678901234567890,"fee":0.10,"mixed":1,"text":"null","empty":"","day":"2026-03-02","Key":1}"#,
        r#"{"id":2,"big":7,"fee":12345678901234567.25,"mixed":"x","text":"say \"\u2693\"","empty":null,"day":"2026-03-03","key":2}"#,
        r#"{"id":3,"big":null,"fee":1e2,"mixed":true,"text":"NA","empty":"e","a.b":5,"a":{"b":6}}"#,
    ];
    shop.write("v.jsonl", lines.join("\n"));
    shop.ok("load v.jsonl");
    let rows =
        shop.query("hypodoke.db", "SELECT id, big, mixed, text, quote(empty), day, \"key\", key_2 FROM v");
    assert_eq!(
        rows,
        [
            "1|12345678901234567890|1|null|''|2026-03-02|1|",
            "2|7|x|say \"⚓\"|NULL|2026-03-03||2",
            "3||true|NA|'e'|||",
        ]
    );
    let dotted = shop.query("hypodoke.db", "SELECT a_b, a_b_2 FROM v WHERE id = 3");
    assert_eq!(dotted, ["5|6"]);
}

#[test]
fn what_stays_json_is_kept_without_its_indentation() {
    let shop = workshop();
    shop.write("a.json", "[\n {\n  \"tags\": [\n   \"a  b\\n\\\"\",\n   1\n  ]\n }\n]\n");
    shop.ok("load a.json");
    assert_eq!(shop.query("hypodoke.db", "SELECT tags FROM a"), ["[\"a  b\\n\\\"\",1]"]);
}

#[test]
fn a_bad_line_is_a_reject_and_the_rest_loads() {
    let shop = workshop();
    let lines = ["{\"a\":1}", "{\"a\":2,}", "{\"a\":\"\\ud800\"}", "{\"a\":", "{\"a\":5,\"a\":6}"];
    shop.write("a.jsonl", lines.join("\n"));
    let document = shop.json("load a.jsonl", 3);
    let line = &document["files"][0];
    assert_eq!((line["rows_loaded"].as_u64(), line["rows_rejected"].as_u64()), (Some(2), Some(3)));
    assert!(line["notes"][0].as_str().expect("a note").contains("1 key comes twice"), "{line}");
    let rejects = shop.query("hypodoke.db", "SELECT line, raw FROM hd_rejects ORDER BY line");
    assert_eq!(rejects, ["2|{\"a\":2,}", "3|{\"a\":\"\\ud800\"}", "4|{\"a\":"]);
    let reasons = shop.ok("rejects").out;
    assert!(reasons.contains("half of a surrogate pair") && reasons.contains("at byte"), "{reasons}");
    assert_eq!(shop.query("hypodoke.db", "SELECT a FROM a"), ["1", "6"]);
}

#[test]
fn a_broken_document_is_told_with_byte_line_and_path_and_nothing_of_it_is_loaded() {
    let shop = workshop();
    shop.write("a.json", "{\"rows\": [\n {\"a\": 1},\n {\"a\": 2}\n {\"a\": 3}]}");
    let run = shop.run("load a.json");
    assert_eq!(run.code, Some(1));
    let expected = "no JSON at byte 33, line 4, at $.rows[1]: a comma or `]` is expected, not `{`; 2 records were read before it";
    assert!(run.out.contains(expected), "{}", run.out);
    assert!(shop.query("hypodoke.db", "SELECT name FROM sqlite_schema WHERE name = 'a'").is_empty());
}

#[test]
fn a_value_that_does_not_fit_in_a_list_takes_its_whole_record() {
    let shop = workshop();
    let lines = [
        r#"{"id":1,"moves":[{"kind":"turn","minutes":5},{"kind":"moor","minutes":6}]}"#,
        r#"{"id":2,"moves":[{"kind":"turn","minutes":7},{"kind":"moor","minutes":"long"}]}"#,
        r#"{"id":3,"moves":[{"kind":"turn","minutes":8}]}"#,
    ];
    shop.write("a.jsonl", lines.join("\n"));
    let run = shop.json("load a.jsonl --type moves.minutes=integer", 3);
    let line = &run["files"][0];
    assert_eq!((line["rows_loaded"].as_u64(), line["rows_rejected"].as_u64()), (Some(2), Some(1)));
    assert_eq!(
        (line["parts"][0]["rows_read"].as_u64(), line["parts"][0]["rows_loaded"].as_u64()),
        (Some(5), Some(3))
    );
    assert_eq!(shop.query("hypodoke.db", "SELECT minutes FROM a_moves"), ["5", "6", "8"]);
    let reject = shop.query("hypodoke.db", "SELECT line, column_name, value, raw FROM hd_rejects");
    assert_eq!(reject, [format!("2|moves.minutes|long|{}", lines[1])]);
}

#[test]
fn an_object_where_others_have_a_list_is_a_list_of_one_in_whatever_order_they_come() {
    let (one, many) =
        (r#"{"id":1,"move":{"kind":"turn"}}"#, r#"{"id":2,"move":[{"kind":"moor"},{"kind":"shift"}]}"#);
    for (first, second) in [(one, many), (many, one)] {
        for files in [1, 2] {
            let shop = workshop();
            if files == 1 {
                shop.write("a.jsonl", format!("{first}\n{second}\n"));
            } else {
                shop.write("a_1.json", first);
                shop.write("a_2.json", second);
            }
            shop.ok("load . --into sqlite:h.db --table a");
            let mut rows = shop.query("h.db", "SELECT kind FROM a_move");
            rows.sort();
            assert_eq!(rows, ["moor", "shift", "turn"]);
            let columns = shop.query("h.db", "SELECT name FROM pragma_table_info('a')");
            assert_eq!(columns, ["id", "hd_file", "hd_line"]);
        }
    }
}

#[test]
fn a_corrected_document_replaces_its_rows_in_every_table() {
    let shop = workshop();
    shop.write("p.json", LOGS);
    shop.ok("load p.json");
    shop.write("p.json", LOGS.replace("\"name\": \"Teasel\"", "\"name\": \"Campion\""));
    let run = shop.ok("load p.json");
    assert!(run.out.contains("its rows were replaced"), "{}", run.out);
    let tugs = shop.query("hypodoke.db", "SELECT name FROM p_manoeuvres_tugs ORDER BY hd_row");
    assert_eq!(tugs, ["Bryony", "Campion", "Bryony"]);
    assert_eq!(shop.query("hypodoke.db", "SELECT count(*), min(hd_file) FROM p_manoeuvres"), ["3|2"]);
}

#[test]
fn a_later_file_may_bring_keys_and_lists_that_nobody_has_seen() {
    let shop = workshop();
    shop.write("a_1.json", "[{\"id\":1,\"berth\":{\"no\":7}}]");
    shop.ok("load a_1.json");
    shop.write("a_2.json", "[{\"id\":2,\"berth\":{\"no\":8,\"side\":\"N\"},\"moves\":[{\"n\":1}]}]");
    let run = shop.ok("load a_2.json");
    assert!(run.out.contains("new column `berth_side` (text): added to the table"), "{}", run.out);
    assert_eq!(shop.query("hypodoke.db", "SELECT id, berth_no, berth_side FROM a"), ["1|7|", "2|8|N"]);
    assert_eq!(shop.query("hypodoke.db", "SELECT n, hd_file, hd_parent FROM a_moves"), ["1|2|1"]);
    shop.write("a_3.json", "[{\"id\":3,\"moves\":[{\"n\":2},{\"n\":3}]}]");
    shop.ok("load a_3.json");
    assert_eq!(shop.query("hypodoke.db", "SELECT count(*), max(hd_parent) FROM a_moves"), ["3|1"]);
}

#[test]
fn keys_that_are_data_are_told_from_columns() {
    let shop = workshop();
    let keys: Vec<String> = (0..20_500).map(|at| format!("\"k{at}\":1")).collect();
    shop.write("a.json", format!("[{{{}}}]", keys.join(",")));
    let run = shop.run("load a.json");
    assert_eq!(run.code, Some(1));
    assert!(run.out.contains("the keys are data") && run.out.contains("--nested json"), "{}", run.out);
}

#[test]
fn deep_nesting_is_bounded() {
    let shop = workshop();
    let deep = format!("{{\"a\":{}1{}}}", "[".repeat(150), "]".repeat(150));
    let objects = format!("{}1{}", "{\"a\":".repeat(60), "}".repeat(60));
    let bombs = format!("{{\"a\":{}{}}}", "[".repeat(50_000), "]".repeat(50_000));
    shop.write("a.jsonl", format!("{deep}\n{objects}\n{bombs}\n{{\"a\":1}}\n"));
    let document = shop.json("load a.jsonl", 3);
    let line = &document["files"][0];
    assert_eq!((line["rows_read"].as_u64(), line["rows_rejected"].as_u64()), (Some(4), Some(1)), "{line}");
}

/// An object that is a list once: its columns stay as they were, and the list goes to a table of its own.
#[rstest]
#[case::added("", 0, "4|N4|")]
#[case::held("[feed.f.drift]\nnew_column = \"hold\"", 3, "")]
fn an_object_that_is_a_list_once_keeps_its_columns(
    #[case] drift: &str,
    #[case] code: i32,
    #[case] fourth: &str,
    #[values(Sqlite, Postgres, Mysql)] kind: Kind,
) {
    let (shop, staging) = (workshop(), Staging::new(kind));
    configure(&shop, &staging, drift);
    let configured = std::fs::read_to_string(shop.path("hypodoke.toml")).expect("settings");
    shop.write("hypodoke.toml", configured.replace(".csv", ".json"));
    shop.write("in/f_20260301.json", r#"[{"id":1,"berth":{"no":"N1"}},{"id":2,"berth":{"no":"N2"}}]"#);
    shop.ok("load");
    shop.write(
        "in/f_20260302.json",
        r#"[{"id":3,"berth":[{"no":"N3"},{"no":"S3"}]},{"id":4,"berth":{"no":"N4"}}]"#,
    );
    let run = shop.run("load");
    assert_eq!(run.code, Some(code), "{}{}", run.out, run.err);
    assert!(run.out.contains("`berth`"), "{}", run.out);
    let rows = staging.query(&shop, "SELECT id, berth_no, '' FROM f ORDER BY id");
    let third: Vec<&str> = if fourth.is_empty() { Vec::new() } else { vec!["3||", fourth] };
    assert_eq!(rows, [vec!["1|N1|", "2|N2|"], third].concat());
    if code == 0 {
        assert_eq!(staging.query(&shop, "SELECT no FROM f_berth ORDER BY no"), ["N3", "S3"]);
        shop.write("in/f_20260303.json", r#"[{"id":5,"berth":{"no":"N5"}}]"#);
        shop.ok("load");
        assert_eq!(staging.query(&shop, "SELECT berth_no FROM f WHERE id = 5"), ["N5"]);
    }
}

/// A document that breaks anywhere loads nothing; of a file of lines a bad line is a reject.
#[rstest]
#[case::in_a_list("[{\"a\": 1},\n {\"a\": [-]}]", "line 2", "$[1]")]
#[case::in_a_word("[{\"a\": 1}, {\"a\": [\"x\", truth]}]", "line 1", "$[1]")]
#[case::behind_its_end("[{\"a\": 1}, {\"a\": 2}]\nand more", "line 2", "$")]
#[case::cut_off("[{\"a\": 1}, {\"a\": 2", "line 1", "$[1]")]
fn a_document_that_breaks_loads_nothing(#[case] text: &str, #[case] line: &str, #[case] path: &str) {
    let shop = workshop();
    shop.write("a.json", text);
    let run = shop.run("load a.json --into sqlite:h.db --table t");
    assert_eq!(run.code, Some(1), "{}", run.out);
    assert!(run.out.contains(line) && run.out.contains(path), "{}", run.out);
    assert_eq!(shop.query("h.db", "SELECT count(*) FROM sqlite_schema WHERE name = 't'"), ["0"]);
    shop.write("b.jsonl", "{\"a\": 1}\n{\"a\": \n{\"a\": 3}\n");
    let run = shop.run("load b.jsonl --into sqlite:h.db --table u");
    assert_eq!((run.code, shop.query("h.db", "SELECT a FROM u").join(" ").as_str()), (Some(3), "1 3"));
}

/// JSON has a null of its own: a string is a string.
#[test]
fn a_string_of_json_is_no_null() {
    let shop = workshop();
    shop.write(
        "a.json",
        "[{\"a\": 1, \"b\": \"none\"}, {\"a\": \"NA\", \"b\": null}, {\"a\": \"-\", \"b\": \"NULL\"}]",
    );
    shop.ok("load a.json --into sqlite:h.db --table t");
    assert_eq!(shop.query("h.db", "SELECT a, b, b IS NULL FROM t"), ["1|none|0", "NA||1", "-|NULL|0"]);
}
