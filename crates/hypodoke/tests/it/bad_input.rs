//! Files that are not what they should be: a clear error, and nothing lost.

use rstest::rstest;

use crate::workshop;

#[rstest]
#[case::missing("no.csv", None, 1, "there is no `no.csv`")]
#[case::empty("e.csv", Some(&b""[..]), 3, "it is empty")]
#[case::binary("b.csv", Some(&b"\x7fELF\x00\x01\x00\x02\x00\x03\x00\x00\x05\x06\x07\x00\x00\x08"[..]), 1, "it is a program, and holds no table")]
fn files_that_cannot_be_read(
    #[case] name: &str,
    #[case] content: Option<&[u8]>,
    #[case] code: i32,
    #[case] message: &str,
) {
    let shop = workshop();
    if let Some(content) = content {
        shop.write(name, content);
    }
    let run = shop.run(&format!("load {name}"));
    assert_eq!(run.code, Some(code), "{}{}", run.out, run.err);
    assert!(run.err.contains(message) || run.out.contains(message), "{}{}", run.out, run.err);
}

#[test]
fn one_bad_file_does_not_keep_the_others_out() {
    let shop = workshop();
    shop.write("a.csv", b"\x1f\x8b\x08broken");
    shop.write("b.csv", "id\n1\n");
    let run = shop.run("load a.csv b.csv --table t");
    assert_eq!(run.code, Some(1));
    assert!(run.out.contains("1 file loaded, 1 row, 1 file failed"), "{}", run.out);
    assert_eq!(
        shop.query("hypodoke.db", "SELECT outcome, message, reasons FROM hd_files ORDER BY file"),
        [
            r#"failed||[{"code":"failed.compression","facts":{"cause":"the gzip data is damaged or cut short after 0 expanded bytes: unexpected end of file"}}]"#,
            "loaded||"
        ]
    );
    let why = "a.csv: the gzip data is damaged or cut short after 0 expanded bytes: unexpected end of file";
    assert!(run.out.contains(why), "{}", run.out);
    assert!(shop.ok("receipt").out.contains(why), "{}", shop.ok("receipt").out);
    // What failed is tried again; what is loaded is not.
    let run = shop.run("load a.csv b.csv --table t");
    assert!(run.out.contains("1 file failed, 1 file known already"), "{}", run.out);
}

#[test]
fn a_folder_called_csv_is_a_folder_and_an_empty_one_is_said_to_be_empty() {
    let shop = workshop();
    shop.write("x.csv/inner.csv", "id\n1\n");
    shop.ok("load x.csv");
    assert_eq!(shop.query("hypodoke.db", "SELECT id FROM inner"), ["1"]);
    std::fs::create_dir(shop.path("bare")).unwrap();
    let run = shop.run("load bare");
    assert_eq!(run.code, Some(1));
    assert!(run.err.contains("the folder `bare` holds no files"), "{}", run.err);
}

#[test]
fn an_unreadable_file_is_said_to_be_unreadable() {
    use std::os::unix::fs::PermissionsExt;
    let shop = workshop();
    let path = shop.write("a.csv", "id\n1\n");
    std::fs::set_permissions(&path, std::fs::Permissions::from_mode(0o000)).unwrap();
    if std::fs::read(&path).is_ok() {
        // Root reads everything: a file of the kernel's that nobody may read stands in for it.
        let run = shop.run("load /proc/self/mem");
        assert_eq!(run.code, Some(1), "{}", run.err);
        assert!(run.out.contains("failed"), "{}{}", run.out, run.err);
        return;
    }
    let run = shop.run("load a.csv");
    assert_eq!(run.code, Some(1));
    assert!(
        run.out.contains("no right to read") || run.err.contains("no right to read"),
        "{}{}",
        run.out,
        run.err
    );
}

#[test]
fn a_header_alone_makes_an_empty_table() {
    let shop = workshop();
    shop.write("a.csv", "id,berth\n");
    let run = shop.ok("load a.csv");
    assert!(run.out.contains("1 file loaded, 0 rows"), "{}", run.out);
    assert_eq!(
        shop.query("hypodoke.db", "SELECT name FROM pragma_table_info('a')"),
        ["id", "berth", "hd_file", "hd_line"]
    );
}

#[test]
fn bytes_that_are_no_text_cost_their_row() {
    let shop = workshop();
    let mut text = "id,name\n1,größe\n2,für\n3,süd\n4,über\n".as_bytes().to_vec();
    text.extend_from_slice(b"5,bad\xff\xfehere\n6,ok\n");
    shop.write("a.csv", &text);
    shop.attention("load a.csv");
    assert_eq!(shop.query("hypodoke.db", "SELECT count(*) FROM a"), ["5"]);
    let at = text.iter().position(|b| *b == 0xff).unwrap();
    let reason = format!("6|bytes that are not text in the file's encoding, at byte {at}");
    assert_eq!(shop.query("hypodoke.db", "SELECT line, reason FROM hd_rejects"), [reason]);
    assert_eq!(shop.query("hypodoke.db", "SELECT hex(raw) FROM hd_rejects"), ["352C626164FFFE68657265"]);
}

#[test]
fn an_unclosed_quote_at_the_end_costs_its_row() {
    let shop = workshop();
    shop.write("a.csv", "id,name\n1,x\n2,\"never closed\n");
    shop.attention("load a.csv");
    assert_eq!(shop.query("hypodoke.db", "SELECT id FROM a"), ["1"]);
    assert_eq!(
        shop.query("hypodoke.db", "SELECT line, reason, raw FROM hd_rejects"),
        ["3|a quote is opened and never closed|2,\"never closed"]
    );
}

#[test]
fn a_field_of_fifty_megabytes_is_loaded_whole() {
    let shop = workshop();
    let mut text = b"id,blob\n1,".to_vec();
    text.resize(text.len() + 50_000_000, b'x');
    text.extend_from_slice(b"\n2,y\n");
    shop.write("a.csv", &text);
    shop.ok("load a.csv");
    assert_eq!(shop.query("hypodoke.db", "SELECT id, length(blob) FROM a"), ["1|50000000", "2|1"]);
}

#[test]
fn five_thousand_columns_are_too_many_and_it_is_said() {
    let shop = workshop();
    let names: Vec<String> = (0..5000).map(|at| format!("c{at}")).collect();
    let values: Vec<String> = (0..5000).map(|at| at.to_string()).collect();
    shop.write("wide.csv", format!("{}\n{}\n", names.join(","), values.join(",")));
    let run = shop.run("load wide.csv");
    assert_eq!(run.code, Some(1));
    assert!(run.out.contains("5,000 columns") && run.out.contains("2,000"), "{}", run.out);
}

#[test]
fn a_table_that_does_not_match_is_left_alone() {
    let shop = workshop();
    let database = rusqlite::Connection::open(shop.path("hypodoke.db")).unwrap();
    database.execute_batch("CREATE TABLE a (id INTEGER, crew INTEGER NOT NULL)").unwrap();
    shop.write("a.csv", "id,berth\n1,N-01\n");
    let run = shop.run("load a.csv");
    assert_eq!(run.code, Some(1));
    let wanted = "does not fit the table `a`: the table has no `berth`; the file has no `crew`, which the table requires";
    assert!(run.out.contains(wanted), "{}", run.out);
    assert_eq!(shop.query("hypodoke.db", "SELECT count(*) FROM a"), ["0"]);
}

#[test]
fn names_with_control_characters_are_escaped_when_printed() {
    let shop = workshop();
    std::fs::create_dir(shop.path("in")).unwrap();
    std::fs::write(shop.path("in").join("a\u{1b}[31m\n.csv"), "id\n1\n").unwrap();
    let run = shop.ok("load in --table t");
    assert!(run.out.contains("a\\u{1b}[31m\\n.csv") && !run.out.contains('\u{1b}'), "{}", run.out);
}

#[test]
fn a_truncated_gzip_loads_nothing_of_the_file() {
    let shop = workshop();
    let lines: String = (0..5000).map(|id| format!("{id},berth {}\n", id * 7919 % 1000)).collect();
    let path = shop.write("a.csv", format!("id,name\n{lines}"));
    assert!(std::process::Command::new("gzip").arg(&path).status().expect("gzip").success());
    let whole = std::fs::read(shop.path("a.csv.gz")).unwrap();
    shop.write("a.csv.gz", &whole[..whole.len() / 2]);
    let run = shop.run("load a.csv.gz");
    assert_eq!(run.code, Some(1));
    assert!(run.out.contains("damaged or cut short"), "{}", run.out);
    assert!(shop.query("hypodoke.db", "SELECT name FROM sqlite_schema WHERE name = 'a'").is_empty());
}

/// Two names that differ only in bytes of another encoding are two files, on every run.
#[test]
fn names_in_any_bytes_are_told_apart() {
    use std::os::unix::ffi::OsStrExt;
    let shop = workshop();
    let put = |name: &[u8], text: &str| {
        let path = shop.path("in").join(std::ffi::OsStr::from_bytes(name));
        std::fs::create_dir_all(shop.path("in")).expect("a folder");
        std::fs::write(path, text).expect("a file");
    };
    put(b"gauge_\xe9.csv", "at\n1\n");
    put(b"gauge_\xea.csv", "at\n2\n");
    put("gauge_\u{fffd}E9.csv".as_bytes(), "at\n3\n");
    put(b"gauge_\n.csv", "at\n4\n");
    put(b"gauge_\xe9.csv.rows", "1\n");
    for name in [&b"gauge_\xea.csv.rows"[..], "gauge_\u{fffd}E9.csv.rows".as_bytes(), b"gauge_\n.csv.rows"] {
        put(name, "1\n");
    }
    shop.write(
        "hypodoke.toml",
        "[staging]\nurl = \"sqlite:h.db\"\n[place.quay]\npath = \"in\"\nafter = \"move\"\n\
         [feed.gauge]\nplace = \"quay\"\nfiles = \"*.csv\"\n[feed.gauge.expect]\ncontrol = [\"rows\"]\ncontrol_file = \"{file}.rows\"\n",
    );
    let text = std::fs::read_to_string(shop.path("hypodoke.toml")).expect("text");
    shop.write("hypodoke.toml", text.replace("after = \"move\"\n", ""));
    let run = shop.ok("load");
    assert!(run.out.contains("4 files loaded, 4 rows") && !run.out.contains("changed"), "{}", run.out);
    assert!(shop.ok("load").out.contains("nothing new"));
    assert_eq!(
        shop.query("h.db", "SELECT count(*), sum(at), count(DISTINCT hd_file) FROM gauge"),
        ["4|10|4"]
    );
    assert!(shop.ok("tally").out.contains("all figures agree"));
    // One is taken out by the name it is shown with, and put away under the name it has.
    shop.ok("retract gauge_\u{fffd}E9.csv --yes");
    assert_eq!(shop.query("h.db", "SELECT sum(at) FROM gauge"), ["9"]);
    shop.write("hypodoke.toml", text);
    put(b"gauge_\xeb.csv", "at\n5\n");
    put(b"gauge_\xeb.csv.rows", "1\n");
    shop.ok("load");
    let day = std::fs::read_dir(shop.path("in/done")).expect("done").flatten().next().expect("a day").path();
    assert!(
        day.join(std::ffi::OsStr::from_bytes(b"gauge_\xeb.csv")).exists(),
        "{:?}",
        std::fs::read_dir(day)
    );
}
