//! A MariaDB server as it is met: types, rights, tables of others, locks, lines that break, TLS.

use std::process::Command;
use std::sync::OnceLock;

use hypodoke_testkit::{Cut, Cutter, Mariadb, MariadbDatabase, Workshop, finish, wait_for};
use rstest::rstest;

use crate::staging::{Kind, Staging};
use crate::workshop;

fn database() -> MariadbDatabase {
    Mariadb::shared().database()
}

/// A workshop with one feed into a table that somebody has made, or into none.
fn begun(sql: &str, feed: &str) -> (Workshop, Staging) {
    let (shop, staging) = (workshop(), Staging::new(Kind::Mysql));
    if !sql.is_empty() {
        staging.run(&shop, sql);
    }
    configure(&shop, &staging, feed);
    (shop, staging)
}

fn configure(shop: &Workshop, staging: &Staging, feed: &str) {
    let url = staging.url();
    let text = format!(
        "[staging]\nurl = \"{url}\"\n[place.quay]\npath = \"in\"\n[feed.f]\nplace = \"quay\"\nfiles = \"f_*.csv\"\ntable = \"f\"\n{feed}\n"
    );
    shop.write("hypodoke.toml", text);
}

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

/// What one table cannot be is said before a row is loaded, and nothing of it is left.
#[rstest]
#[case::row(700, "t", "", "Row size too large")]
#[case::index(33, "id", "mode = \"upsert\"\nkey = [KEYS]", "Too many key parts")]
fn limits_of_tables_are_told_before_anything_is_loaded(
    #[case] columns: usize,
    #[case] name: &str,
    #[case] feed: &str,
    #[case] words: &str,
) {
    let names: Vec<String> = (0..columns).map(|at| format!("{name}{at}")).collect();
    let keys: Vec<String> = names.iter().map(|name| format!("\"{name}\"")).collect();
    let (shop, staging) = begun("", &feed.replace("KEYS", &keys.join(", ")));
    let value = |at: usize| if feed.is_empty() { format!("word {at}") } else { at.to_string() };
    let values = (0..columns).map(value).collect::<Vec<_>>().join(",");
    shop.write("in/f_20260302.csv", format!("{}\n{values}\n{values}\n", names.join(",")));
    let run = shop.run("load");
    assert!(run.code == Some(1) && run.out.contains(words), "{:?} {}{}", run.code, run.out, run.err);
    assert!(!staging.has_table(&shop, "f"));
}

#[test]
fn a_table_that_keeps_no_transactions_is_refused_with_the_remedy() {
    let (shop, staging) = begun("CREATE TABLE f (id bigint, n bigint) ENGINE=MyISAM", "");
    shop.write("in/f_20260302.csv", "id,n\n1,2\n");
    let run = shop.run("load");
    assert_eq!(run.code, Some(1));
    for part in ["MyISAM", "ALTER TABLE \"f\" ENGINE=InnoDB"] {
        assert!(run.out.contains(part), "{part} in {}", run.out);
    }
    staging.run(&shop, "ALTER TABLE f ENGINE=InnoDB");
    shop.ok("load");
    assert_eq!(staging.query(&shop, "SELECT * FROM f"), ["1|2"]);
}

#[test]
fn a_table_that_is_there_is_filled_as_it_is() {
    let (shop, staging) = begun(
        "CREATE TABLE f (no bigint AUTO_INCREMENT PRIMARY KEY, \"Berth No\" varchar(3) NOT NULL, tugs smallint,
           fee decimal(5,2), added timestamp DEFAULT now(), note text, twice int GENERATED ALWAYS AS (tugs * 2) STORED,
           quay enum('N', 'S'), flag bit(1), at time, CHECK (tugs < 100)) DEFAULT CHARACTER SET latin1",
        "",
    );
    shop.write(
        "in/f_20260302.csv",
        "berth_no,tugs,fee,quay,flag,at\nN\u{e4},1,1.25,N,yes,07:15:00\nNorth,2,1,N,no,07:15:00\nN2,40000,1,S,no,07:15:00\n,3,1,S,no,07:15:00\nN3,4,1234.5,N,no,07:15:00\nN4,5,1.005,N,no,07:15:00\nN5,500,1,N,no,07:15:00\nN6,6,7,W,no,07:15:00\nN7,7,8,S,no,07:15:00\nN8,7,8,S,no,07:15:00.25\n",
    );
    let run = shop.json("load", 3);
    let rows = staging.query(
        &shop,
        "SELECT \"Berth No\", tugs, fee, twice, quay, flag + 0, at, added IS NOT NULL FROM f ORDER BY no",
    );
    assert_eq!(rows, ["N\u{e4}|1|1.25|2|N|1|07:15:00|1", "N7|7|8.00|14|S|0|07:15:00|1"], "{run}");
    let reasons = staging.query(&shop, "SELECT line, reason FROM hd_rejects ORDER BY line");
    for (at, part) in [
        (0, "3|longer than the column's 3 characters"),
        (1, "4|too large for the column's 16 bits"),
        (2, "5|null, and the column takes none"),
        (3, "6|too large for decimal(5,2)"),
        (4, "7|3 digits after the decimal mark"),
        (5, "8|the table refused it"),
        (6, "9|the table refused it"),
        (7, "11|more digits of a second"),
    ] {
        assert!(reasons.get(at).is_some_and(|reason| reason.starts_with(part)), "{part} in {reasons:?}");
    }
}

/// A change that the table's collation takes for none is one.
#[test]
fn a_change_of_case_in_a_table_of_others_is_a_change() {
    let sql = "CREATE TABLE f (id bigint PRIMARY KEY, berth varchar(20)) DEFAULT CHARACTER SET utf8mb4 COLLATE utf8mb4_general_ci";
    let (shop, staging) = begun(sql, "mode = \"upsert\"\nkey = \"id\"");
    shop.write("in/f_20260302.csv", "id,berth\n1,north\n2,south\n");
    shop.ok("load");
    shop.write("in/f_20260303.csv", "id,berth\n1,North\n2,\"south \"\n");
    shop.ok("load");
    assert_eq!(staging.query(&shop, "SELECT hex(berth) FROM f ORDER BY id"), ["4E6F727468", "736F75746820"]);
}

/// A view is filled where it can be; one that cannot is told.
#[test]
fn views_are_filled_where_they_can_be() {
    let sql = "CREATE TABLE quays (id bigint, berth varchar(20), kept bigint DEFAULT 7); CREATE VIEW f AS SELECT id, berth FROM quays";
    let (shop, staging) = begun(sql, "");
    shop.write("in/f_20260302.csv", "id,berth\n1,N1\n");
    shop.ok("load");
    assert_eq!(staging.query(&shop, "SELECT * FROM quays"), ["1|N1|7"]);
    let (shop, _) =
        begun("CREATE TABLE quays (id bigint); CREATE VIEW f AS SELECT DISTINCT id FROM quays", "");
    shop.write("in/f_20260302.csv", "id\n1\n");
    assert_eq!(shop.run("load").code, Some(1));
}

/// A trigger that says no costs the row that it says no to.
#[test]
fn a_trigger_that_refuses_a_row_makes_it_a_reject() {
    let sql = "CREATE TABLE f (id bigint, n bigint);\nDELIMITER //\nCREATE TRIGGER no BEFORE INSERT ON f FOR EACH ROW IF NEW.n = 13 THEN SIGNAL SQLSTATE '45000' SET MESSAGE_TEXT = 'no thirteen'; END IF//\n";
    let (shop, staging) = begun(sql, "");
    shop.write("in/f_20260302.csv", "id,n\n1,1\n2,13\n3,3\n");
    shop.attention("load");
    assert_eq!(staging.query(&shop, "SELECT id FROM f"), ["1", "3"]);
    assert_eq!(
        staging.query(&shop, "SELECT line, reason FROM hd_rejects"),
        ["3|the table refused it: no thirteen"]
    );
}

/// Statements that would commit half a file are not run; those of a procedure only behind the rows.
#[rstest]
#[case::made("sql_after = \"CREATE TABLE other (a int)\"", "`CREATE TABLE` may commit")]
#[case::emptied("sql_before = \"TRUNCATE TABLE log\"", "`TRUNCATE TABLE` may commit")]
#[case::called("sql_before = \"CALL tidy()\"", "`CALL TIDY` may commit")]
fn statements_that_end_the_transaction_are_refused(#[case] setting: &str, #[case] words: &str) {
    let sql = "CREATE TABLE log (what text); CREATE PROCEDURE tidy() TRUNCATE TABLE log; INSERT INTO log VALUES ('kept')";
    let (shop, staging) = begun(sql, setting);
    shop.write("in/f_20260302.csv", "id\n1\n");
    let run = shop.run("load");
    assert!(run.code == Some(1) && run.out.contains(words), "{:?} {}", run.code, run.out);
    assert_eq!(staging.query(&shop, "SELECT what FROM log"), ["kept"]);
    assert_eq!(staging.query(&shop, "SELECT count(*) FROM hd_files WHERE outcome = 'loaded'"), ["0"]);
    assert!(!staging.has_table(&shop, "f"));
    // Behind the rows, nothing is left that could be half.
    configure(&shop, &staging, "sql_after = \"CALL tidy()\"");
    shop.run("load");
    assert_eq!(staging.query(&shop, "SELECT rows_loaded FROM hd_files WHERE outcome = 'loaded'"), ["1"]);
    assert_eq!(staging.query(&shop, "SELECT count(*) FROM f"), ["1"]);
}

/// The user's statements are read as the server reads them.
#[test]
fn statements_of_ones_own_are_in_the_servers_own_words() {
    let (shop, staging) = begun(
        "CREATE TABLE log (what text)",
        "sql_after = 'INSERT INTO log SELECT concat(\"rows \", count(*)) FROM f'",
    );
    shop.write("in/f_20260302.csv", "id\n1\n");
    shop.ok("load");
    assert_eq!(staging.query(&shop, "SELECT what FROM log"), ["rows 1"]);
}

/// A load that failed after it had changed a table leaves it wider, and the next goes on with it, whatever
/// that one wants.
#[rstest]
#[case::the_same("id,n,tug\n3,x,4\n", "longtext", &["1|5|", "3|x|4"])]
#[case::another("id,n,tug\n3,1.5,4\n", "decimal(2,1)", &["1|5.0|", "3|1.5|4"])]
#[case::none("id,n\n3,7\n", "bigint(20)", &["1|5", "3|7"])]
fn a_change_that_belongs_to_no_load_is_gone_on_with(
    #[case] next: &str,
    #[case] ty: &str,
    #[case] rows: &[&str],
) {
    let (shop, staging) = begun("", "");
    shop.write("in/f_20260302.csv", "id,n\n1,5\n");
    shop.ok("load");
    // Killed between the change of the table and the rows: as the ledger writes it down.
    staging.run(&shop, "INSERT INTO hd_table_changes (table_name, column_name, to_type, made_at) VALUES ('f', 'n', 'longtext', now(6)), ('f', 'tug', 'longtext', now(6));
        ALTER TABLE f MODIFY n longtext, ADD COLUMN tug longtext");
    assert!(shop.ok("check").code == Some(0));
    shop.write("in/f_20260303.csv", next);
    if ty == "longtext" {
        shop.attention("load");
        shop.ok("settle f_20260303.csv --as-text n");
    }
    shop.ok("load");
    assert_eq!(staging.type_of(&shop, "f", "n"), ty);
    let columns = if next.contains("tug") { "id, n, tug" } else { "id, n" };
    assert_eq!(staging.query(&shop, &format!("SELECT {columns} FROM f ORDER BY id")), rows);
    assert!(shop.ok("tally").out.contains("agree"));
}

/// A table that a load has made which died is no table of somebody else's.
#[rstest]
#[case::as_it_is("id bigint, n bigint")]
#[case::otherwise("id longtext")]
fn a_table_that_was_left_empty_is_made_by_the_next_load(#[case] columns: &str) {
    let (shop, staging) = begun("", "");
    shop.write("in/f_20260302.csv", [0u8, 1, 2, 3, 0, 0, 0, 5, 6, 7, 0, 0]);
    assert_eq!(shop.run("load").code, Some(1));
    std::fs::remove_file(shop.path("in/f_20260302.csv")).expect("a file");
    let noted = "INSERT INTO hd_table_changes (table_name, column_name, to_type, made_at) VALUES ('f', '', '', now(6))";
    staging.run(
        &shop,
        &format!("{noted}; CREATE TABLE f ({columns}, hd_file bigint NOT NULL, hd_line bigint NOT NULL)"),
    );
    shop.write("in/f_20260303.csv", "id,n\n1,5\n");
    shop.done("load");
    assert_eq!(staging.query(&shop, "SELECT id, n FROM f"), ["1|5"]);
    assert_eq!(staging.query(&shop, "SELECT count(*) FROM hd_layouts WHERE table_name = 'f'"), ["1"]);
    assert_eq!(staging.query(&shop, "SELECT count(*) FROM hd_table_changes"), ["0"]);
}

/// A server that takes no table without a primary key is given one that nobody sees.
#[rstest]
fn tables_have_a_primary_key_where_that_is_asked_for(
    #[values("append", "upsert", "history", "replace")] mode: &str,
) {
    static SERVER: OnceLock<Mariadb> = OnceLock::new();
    let server = SERVER.get_or_init(|| Mariadb::start(&["--innodb-force-primary-key=1"]));
    let (shop, database) = (workshop(), server.database());
    let key = if matches!(mode, "append" | "replace") { "" } else { "key = \"id\"\n" };
    let feed = format!(
        "[place.quay]\npath = \"in\"\n[feed.f]\nplace = \"quay\"\nfiles = \"f_*.csv\"\ntable = \"f\"\nmode = \"{mode}\"\n{key}"
    );
    shop.write("hypodoke.toml", format!("[staging]\nurl = \"{}\"\n{feed}", database.url));
    shop.write("in/f_1.csv", "id,n\n1,2\n2,3\n");
    shop.ok("load");
    shop.write("in/f_2.csv", "id,n\n1,9\n");
    shop.ok("load");
    shop.ok("retract f_1.csv --yes");
    let current = if mode == "history" { "WHERE hd_valid_to IS NULL" } else { "" };
    assert_eq!(database.query(&format!("SELECT id, n, hd_file, hd_line FROM f {current}")), ["1|9|2|2"]);
    assert!(!database.query("SELECT * FROM f").is_empty());
    let width = if mode == "history" { 6 } else { 4 };
    assert_eq!(database.query("SELECT * FROM f LIMIT 1")[0].split('|').count(), width);
    assert!(shop.ok("tally").out.contains("agree"));
}

/// A table that a load has left empty, and that somebody has filled since, is theirs.
#[test]
fn a_table_that_somebody_has_filled_since_is_not_made_anew() {
    let (shop, staging) = begun("", "");
    shop.write("in/f_1.csv", [0u8, 1, 2, 3, 0, 0, 0, 5, 6, 7, 0, 0]);
    assert_eq!(shop.run("load").code, Some(1));
    std::fs::remove_file(shop.path("in/f_1.csv")).expect("a file");
    let noted = "INSERT INTO hd_table_changes (table_name, column_name, to_type, made_at) VALUES ('f', '', '', now(6))";
    staging.run(&shop, &format!("{noted}; CREATE TABLE f (id longtext, hd_file bigint, hd_line bigint); INSERT INTO f VALUES ('theirs', 0, 0)"));
    shop.write("in/f_2.csv", "id\n1\n");
    shop.ok("load");
    assert_eq!(staging.query(&shop, "SELECT id FROM f ORDER BY hd_file"), ["theirs", "1"]);
}

/// A change that the server refuses is forgotten, and costs the file that wanted it alone.
#[test]
fn a_table_that_cannot_be_made_leaves_no_trace() {
    let (shop, staging) = begun("", "");
    let names: Vec<String> = (0..700).map(|at| format!("t{at}")).collect();
    let values = vec!["word"; 700].join(",");
    shop.write("in/f_1.csv", format!("{}\n{values}\n", names.join(",")));
    let run = shop.run("load");
    assert!(run.code == Some(1) && run.out.contains("refused: Row size too large"), "{}", run.out);
    assert_eq!(staging.query(&shop, "SELECT count(*) FROM hd_table_changes"), ["0"]);
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

/// A ledger whose maker died before it was whole is made anew.
#[test]
fn a_ledger_that_was_half_made_is_made_anew() {
    let (shop, staging) = begun(
        "CREATE TABLE hd_ledger (version bigint NOT NULL, program longtext NOT NULL); CREATE TABLE hd_batches (batch bigint NOT NULL)",
        "",
    );
    shop.write("in/f_20260302.csv", "id\n1\n");
    shop.ok("load");
    assert_eq!(staging.query(&shop, "SELECT count(*) FROM f"), ["1"]);
}

#[rstest]
#[case::append("append")]
#[case::insert_new("insert-new")]
#[case::upsert("upsert")]
#[case::history("history")]
#[case::replace("replace")]
fn check_prints_the_grants_that_are_missing_and_they_are_enough(#[case] mode: &str) {
    let (shop, database) = (workshop(), database());
    let user = format!("porter_{}", database.name);
    database.query(&format!("CREATE USER {user}@'%'; GRANT SELECT ON mysql.help_topic TO {user}@'%'"));
    let key = if matches!(mode, "append" | "replace") { "" } else { "key = \"id\"\n" };
    let config = |user: &str| {
        let url = database.url_as(user);
        format!(
            "[staging]\nurl = \"{url}\"\n[place.q]\npath = \"in\"\n[feed.f]\nplace = \"q\"\nfiles = \"f_{{day:%Y%m%d}}.csv\"\nmode = \"{mode}\"\n{key}"
        )
    };
    shop.write("in/f_20260302.csv", "id,berth\n1,N1\n");
    shop.write("hypodoke.toml", config(&user));
    let run = shop.run("load");
    assert!(run.code == Some(4) && run.err.contains(&user), "{:?} {}{}", run.code, run.out, run.err);
    // Who may come in is told what else it takes.
    database.query(&format!("GRANT SELECT ON {}.* TO {user}@'%'", database.name));
    let run = shop.run("load");
    let words = format!("{}{}", run.out, run.err);
    assert!(run.code != Some(0) && words.contains("hypodoke check"), "{words}");
    give_what_is_missing(&shop, &database, 1);
    shop.ok("load");
    shop.write("in/f_20260303.csv", "id,berth,tugs\n1,N2,1\n2,N2,1\n");
    shop.ok("load");
    shop.ok("retract f_20260303.csv --yes");

    // Another user, who is to load into what is there and make nothing.
    let other = format!("clerk_{}", database.name);
    database.query(&format!("CREATE USER {other}@'%'; GRANT SELECT ON {}.* TO {other}@'%'", database.name));
    shop.write("hypodoke.toml", config(&other));
    let grants = give_what_is_missing(&shop, &database, 1);
    assert!(grants.iter().all(|grant| !grant.contains("ALTER") && !grant.contains("DROP")), "{grants:?}");
    shop.write("in/f_20260304.csv", "id,berth,tugs\n5,N5,1\n1,N7,2\n");
    shop.ok("load");
    assert!(shop.ok("tally").out.contains("agree"));
}

fn give_what_is_missing(shop: &Workshop, database: &MariadbDatabase, code: i32) -> Vec<String> {
    let document = shop.json("check", code);
    let grants = document["grants"].as_array().expect("grants").iter();
    let grants: Vec<String> = grants.map(|grant| grant.as_str().expect("text").to_owned()).collect();
    assert!(!grants.is_empty(), "{document}");
    grants.iter().for_each(|grant| {
        database.query(grant);
    });
    let left = shop.run("check --json");
    assert_eq!(left.code, Some(0), "{}{}", left.out, left.err);
    grants
}

#[test]
fn what_would_be_run_is_shown() {
    let (shop, staging) = begun("", "mode = \"upsert\"\nkey = \"id\"");
    shop.write("in/f_20260302.csv", "id,berth\na,N1\n");
    let shown = shop.ok("check --ddl").out;
    for part in [
        "CREATE TABLE \"f\"",
        "varchar(255)",
        "UNIQUE INDEX \"hd_key_f\"",
        "ENGINE=InnoDB",
        "utf8mb4_nopad_bin",
    ] {
        assert!(shown.contains(part), "{part} in {shown}");
    }
    assert!(!staging.has_table(&shop, "f"));
}

const ROWS: usize = 40_000;

fn many(url: &str, more: &str) -> Workshop {
    let shop = workshop();
    let rows: String = (0..ROWS).map(|row| format!("{row},N{},a remark of some length\n", row % 9)).collect();
    shop.write("in/berths_1.csv", format!("id,berth,remark\n{rows}"));
    shop.write("in/berths_2.csv", "id,berth,remark\nW-1,N1,the last\n");
    let feed = "[place.quay]\npath = \"in\"\n[feed.berths]\nplace = \"quay\"\nfiles = \"*.csv\"\n";
    shop.write("hypodoke.toml", format!("[staging]\nurl = \"{url}\"\n{more}{feed}"));
    shop
}

fn holds_all(shop: &Workshop, database: &MariadbDatabase) {
    let found = database.query("SELECT count(*), count(DISTINCT id), count(DISTINCT hd_file) FROM berths");
    assert_eq!(found, [format!("{0}|{0}|2", ROWS + 1)]);
    let ledger = "SELECT count(*), sum(rows_loaded) FROM hd_files WHERE outcome = 'loaded'";
    assert_eq!(database.query(ledger), [format!("2|{}", ROWS + 1)]);
    assert!(shop.ok("tally").out.contains("all figures agree"));
    assert_eq!(database.query("SELECT count(*), count(DISTINCT version) FROM hd_layouts"), ["1|1"]);
}

#[rstest]
#[case::at_the_door(Cut::AfterBytes(40))]
#[case::before_the_rows(Cut::AfterBytes(4_000))]
#[case::in_the_rows(Cut::AfterBytes(600_000))]
#[case::late_in_the_rows(Cut::AfterBytes(1_300_000))]
#[case::first_commit_unheard(Cut::AnswerToCommit(1))]
#[case::second_commit_unheard(Cut::AnswerToCommit(2))]
#[case::third_commit_unheard(Cut::AnswerToCommit(3))]
fn a_line_that_breaks_costs_no_row_and_doubles_none(#[case] cut: Cut) {
    let database = database();
    let line = Cutter::to(database.port(), cut);
    let shop = many(&database.url_through(line.port()), "");
    let run = shop.run("load");
    assert!(line.has_cut(), "the line is to break");
    if cut == Cut::AfterBytes(40) {
        // Who never got in may be at the wrong address.
        assert!(run.code == Some(4) && run.err.contains("→"), "{}{}", run.out, run.err);
        shop.ok("load");
    } else {
        assert_eq!(run.code, Some(0), "{}{}", run.out, run.err);
        assert!(run.out.contains("2 files loaded, 40,001 rows"), "{}", run.out);
    }
    holds_all(&shop, &database);
    assert!(shop.ok("load").out.contains("nothing new"));
}

/// The files of a day are one delivery, in one transaction: it is begun again as a whole.
#[rstest]
#[case::in_the_rows(Cut::AfterBytes(600_000))]
#[case::commit_unheard(Cut::AnswerToCommit(2))]
fn a_line_that_breaks_in_a_delivery_costs_nothing(#[case] cut: Cut) {
    let database = database();
    let line = Cutter::to(database.port(), cut);
    let shop = many(&database.url_through(line.port()), "");
    let text = std::fs::read_to_string(shop.path("hypodoke.toml")).expect("text");
    let feed = "files = \"{day:%Y%m%d}_*.csv\"\ndelivery = \"day\"\n";
    shop.write("hypodoke.toml", format!("{}mode = \"replace\"\n", text.replace("files = \"*.csv\"\n", feed)));
    for at in 1..=2 {
        let (from, to) = (format!("in/berths_{at}.csv"), format!("in/20260302_{at}.csv"));
        std::fs::rename(shop.path(&from), shop.path(&to)).expect("a file");
    }
    let run = shop.run("load");
    assert!(line.has_cut(), "the line is to break");
    assert_eq!(run.code, Some(0), "{}{}", run.out, run.err);
    holds_all(&shop, &database);
    assert!(shop.ok("load").out.contains("nothing new"));
}

#[rstest]
#[case::of_the_table("LOCK TABLES berths WRITE; SELECT sleep(3)")]
#[case::of_its_shape("START TRANSACTION; SELECT count(*) FROM berths; SELECT sleep(3)")]
fn a_lock_that_somebody_holds_is_waited_for(#[case] holding: &str) {
    let database = database();
    let shop = many(&database.url, "wait = \"1s\"\n");
    shop.write("in/berths_2.csv", "id,berth,remark\n-1,N1,the last\n");
    database
        .query("CREATE TABLE berths (id bigint, berth text, remark text, hd_file bigint, hd_line bigint)");
    let mut holder = database.beside(holding);
    let sleeping =
        "SELECT count(*) FROM information_schema.PROCESSLIST WHERE DB = DATABASE() AND STATE = 'User sleep'";
    wait_for("the lock", || database.query(sleeping) == ["1"]);
    let run = shop.run("load");
    let _ = holder.wait();
    assert_eq!(run.code, Some(0), "{}{}", run.out, run.err);
    let found = database.query("SELECT count(*), count(DISTINCT id), count(DISTINCT hd_file) FROM berths");
    assert_eq!(found, [format!("{0}|{0}|2", ROWS + 1)]);
}

/// A server that is stopped in the middle of a load and started again is waited for.
#[test]
fn a_server_that_is_started_anew_is_waited_for() {
    let server = Mariadb::start(&[]);
    let database = server.database();
    let shop = many(&database.url, "");
    let mut load = shop.command("load").spawn().expect("a load");
    let begun = "SELECT count(*) FROM information_schema.TABLES WHERE TABLE_SCHEMA = DATABASE() AND TABLE_NAME = 'hd_files'";
    wait_for("the ledger", || database.query(begun) == ["1"]);
    server.stop();
    server.start_again();
    load.wait().expect("an end");
    shop.run("load");
    holds_all(&shop, &database);
}

/// Sessions that are ended while nothing is asked of them, as by `wait_timeout`, are begun again.
#[test]
fn a_session_that_was_ended_is_begun_again() {
    let (shop, database) = (workshop(), database());
    shop.write("in/gauge_1.csv", "at\n1\n");
    let place = "[place.quay]\npath = \"in\"\nquiet_for = \"200ms\"\n[feed.g]\nplace = \"quay\"\nfiles = \"gauge_*.csv\"\ntable = \"g\"\n";
    shop.write("hypodoke.toml", format!("[staging]\nurl = \"{}\"\n{place}", database.url));
    let _watch = hypodoke_testkit::Watch::start(&shop, "");
    let rows = |n: &str| {
        let is_there = database.query("SELECT count(*) FROM information_schema.TABLES WHERE TABLE_SCHEMA = DATABASE() AND TABLE_NAME = 'g'") == ["1"];
        is_there && database.query("SELECT count(*) FROM g") == [n]
    };
    wait_for("the first file", || rows("1"));
    database.kill_sessions();
    shop.write("in/gauge_2.csv", "at\n2\n");
    wait_for("the second file", || rows("2"));
}

#[test]
fn too_many_connections_are_told_in_the_servers_words() {
    let server = Mariadb::start(&["--max-connections=10", "--extra-max-connections=1"]);
    let database = server.database();
    let holders: Vec<_> = (0..11).map(|_| database.beside("SELECT sleep(20)")).collect();
    let shop = many(&database.url, "");
    let mut said = String::new();
    wait_for("a server that is full", || {
        let run = shop.run("load");
        said = format!("{}{}", run.out, run.err);
        run.code == Some(4)
    });
    assert!(said.contains("Too many connections"), "{said}");
    for mut holder in holders {
        let _ = holder.kill().and_then(|()| holder.wait());
    }
}

/// One server for all: it is slow to make.
fn private() -> &'static Mariadb {
    static SERVER: OnceLock<Mariadb> = OnceLock::new();
    SERVER.get_or_init(|| Mariadb::start_private(&[]))
}

fn in_private(query: &str) -> String {
    query.replace("DIR", private().path("").display().to_string().trim_end_matches('/'))
}

#[rstest]
#[case::required("localhost", "sslmode=require")]
#[case::preferred("localhost", "sslmode=prefer")]
#[case::unsaid("localhost", "")]
#[case::issuer("127.0.0.1", "sslmode=verify-ca&sslrootcert=DIR/ca.pem")]
#[case::issuer_alone("127.0.0.1", "sslrootcert=DIR/ca.pem")]
#[case::issuer_and_name("localhost", "sslmode=verify-full&sslrootcert=DIR/ca.pem")]
fn a_private_way_is_taken(#[case] host: &str, #[case] query: &str) {
    let (shop, database) = (workshop(), private().database());
    shop.write("berths.csv", "berth,depth_m\nN1,7.5\n");
    let user = format!("gauger_{}", database.name);
    private().administer(&format!(
        "CREATE USER {user}@'%' REQUIRE SSL; GRANT ALL ON {}.* TO {user}@'%'",
        database.name
    ));
    let url = format!("{}?{}", database.url_as(&user).replace("127.0.0.1", host), in_private(query));
    let run = shop.run(&format!("load berths.csv --into {url}"));
    assert_eq!(run.code, Some(0), "{}{}", run.out, run.err);
    assert_eq!(database.query("SELECT berth, depth_m FROM berths"), ["N1|7.5"]);
}

#[rstest]
#[case::other_issuer("localhost", "sslmode=verify-ca&sslrootcert=DIR/other.pem", "certificate")]
#[case::other_name("127.0.0.1", "sslmode=verify-full&sslrootcert=DIR/ca.pem", "certificate")]
#[case::system_s_issuers("localhost", "sslmode=verify-full", "certificate")]
#[case::required_of_another("localhost", "sslmode=require&sslrootcert=DIR/other.pem", "certificate")]
#[case::no_file("localhost", "sslmode=verify-full&sslrootcert=DIR/gone.pem", "No such file")]
fn a_way_that_is_not_safe_enough_is_not_taken(#[case] host: &str, #[case] query: &str, #[case] words: &str) {
    let (shop, database) = (workshop(), private().database());
    shop.write("berths.csv", "berth,depth_m\nN1,7.5\n");
    let url = format!("{}?{}", database.url.replace("127.0.0.1", host), in_private(query));
    let run = shop.run(&format!("load berths.csv --into {url}"));
    let is_told = run.code == Some(4) && run.err.contains(words) && run.err.contains("→");
    assert!(is_told, "{:?} {}", run.code, run.err);
}

/// A server that has no certificate is talked to openly where that is allowed.
#[rstest]
#[case::preferred("sslmode=prefer", 0)]
#[case::required("sslmode=require", 4)]
fn a_server_without_certificates(#[case] query: &str, #[case] code: i32) {
    let (shop, database) = (workshop(), database());
    shop.write("berths.csv", "berth,depth_m\nN1,7.5\n");
    let run = shop.run(&format!("load berths.csv --into {}?{query}", database.url));
    assert_eq!(run.code, Some(code), "{}{}", run.out, run.err);
}

#[rstest]
#[case::environment("", Some("low:water"), "", 0)]
#[case::option_file("", None, "[client]\npassword=\"low:water\"\n", 0)]
#[case::named_file("?option_file=own.cnf", None, "", 0)]
#[case::wrong("", Some("high water"), "", 4)]
#[case::none("", None, "", 4)]
fn a_password_comes_from_where_it_is_kept(
    #[case] query: &str,
    #[case] variable: Option<&str>,
    #[case] file: &str,
    #[case] code: i32,
) {
    let (shop, database) = (workshop(), database());
    let user = format!("clerk_{}", database.name);
    database.query(&format!(
        "CREATE USER {user}@'%' IDENTIFIED BY 'low:water'; GRANT ALL ON {}.* TO {user}@'%'",
        database.name
    ));
    shop.write("berths.csv", "berth\nN1\n");
    shop.write("home/.my.cnf", file);
    let own = shop.write("own.cnf", "[client]\npassword=low:water\n");
    let query = query.replace("own.cnf", &own.display().to_string());
    let mut command: Command = shop.command("load berths.csv --into");
    command.arg(format!("{}{query}", database.url_as(&user))).env("HOME", shop.path("home"));
    if let Some(value) = variable {
        command.env("MYSQL_PWD", value);
    }
    let run = finish(command);
    let said = format!("{}{}", run.out, run.err);
    assert!(run.code == Some(code) && !said.contains("low:water"), "{:?} {said}", run.code);
    assert!(code == 0 || said.contains("Access denied"), "{said}");
}

#[test]
fn a_password_is_not_taken_from_the_command_line() {
    let (shop, database) = (workshop(), database());
    shop.write("f.csv", "id\n1\n");
    let run =
        shop.run(&format!("load f.csv --into {}", database.url.replace("quillane@", "quillane:hawser@")));
    assert_eq!(run.code, Some(2));
    assert!(run.err.contains("holds a password") && !run.err.contains("hawser"), "{}", run.err);
}

#[test]
fn a_unix_socket_is_as_good_as_a_port() {
    let database = database();
    let socket = database.socket().display().to_string();
    let shop = many(&format!("mysql://quillane@/{}?socket={socket}", database.name), "");
    shop.ok("load");
    holds_all(&shop, &database);
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
