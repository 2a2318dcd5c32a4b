//! Tables that somebody else made, and statements of one's own.

use rstest::rstest;

use super::{begun, configure};
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
