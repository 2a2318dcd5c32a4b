//! Tables of ours: limits, changes that belong to no load, rights.

use std::sync::OnceLock;

use hypodoke_testkit::{Mariadb, MariadbDatabase, Workshop};
use rstest::rstest;

use super::{begun, database};
use crate::workshop;
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
