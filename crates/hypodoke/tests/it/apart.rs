//! The ledger in one database, the staging tables in another: all pairs, what does not belong together, and what
//! the ledger tells by itself.

use hypodoke_testkit::Workshop;
use rstest::rstest;

use crate::staging::{Kind, Staging, configure};
use crate::workshop;

use Kind::{Mysql, Postgres, Sqlite};

const KEYED: &str = "key = [\"id\"]\n[feed.f.columns.id]\ntype = \"integer\"";

fn text(day: u32, turn: u32) -> String {
    let line = |row: u32| format!("{},berth {},{}.25\n", day * 4 + row, (row + turn) % 5, row + turn);
    let lines: String = (0..8).map(line).collect();
    format!("id,berth,depth\n{lines}x{day},berth 9,1.25\n")
}

fn name(day: u32) -> String {
    format!("f_202603{day:02}.csv")
}

/// A file of a name that sorts apart from others of the same databases.
fn pair(ledger: Kind, tables: Kind) -> Staging {
    let ledger = match ledger {
        Sqlite => Staging::Sqlite("ledger.db".to_owned()),
        other => Staging::new(other),
    };
    Staging::apart(ledger, Staging::new(tables))
}

/// A week of a feed: loads, a widened column, a correction, a late file, rejects that are put right, a file taken
/// out and brought back. After each step the figures agree.
fn week(staging: &Staging, mode: &str) -> Vec<String> {
    let shop = workshop();
    configure(&shop, staging, &format!("mode = \"{mode}\"\n{KEYED}"));
    let load = || {
        shop.done("load");
        shop.ok("tally");
    };
    for day in [2, 3, 6] {
        shop.write(&format!("in/{}", name(day)), text(day, 0));
    }
    load();
    shop.write(
        &format!("in/{}", name(7)),
        text(7, 1).replace("depth\n", "depth,tugs\n").replace(".25\n", ".255,2\n"),
    );
    load();
    shop.write(&format!("in/{}", name(3)), text(3, 3));
    shop.write(&format!("in/{}", name(4)), text(4, 2));
    load();
    shop.ok("rejects f --export bad.csv");
    let bad = std::fs::read_to_string(shop.path("bad.csv")).expect("rejects");
    let good: String = bad.lines().map(|line| line.replace(",x", ",9") + "\n").collect();
    shop.write("good.csv", good);
    shop.ok("rejects --take good.csv");
    shop.ok("tally");
    shop.ok(&format!("retract {} --yes", name(6)));
    shop.ok("tally");
    shop.done(&format!("replay {} --yes", name(6)));
    shop.ok("tally");
    assert!(shop.ok("load").out.contains("nothing new"));
    let current = if mode == "history" { ", CASE WHEN hd_valid_to IS NULL THEN 1 ELSE 0 END" } else { "" };
    let order = if current.is_empty() { "" } else { ", 7" };
    let sql =
        format!("SELECT id, berth, depth, tugs, day, hd_line{current} FROM f ORDER BY 1, 5, 6{order}, 2, 3");
    staging.query(&shop, &sql)
}

#[rstest]
fn every_pair_comes_to_the_table_that_one_database_comes_to(
    #[values(Sqlite, Postgres, Mysql)] tables: Kind,
    #[values("append", "replace", "upsert", "insert-new", "history")] mode: &str,
) {
    let expected = week(&Staging::new(tables), mode);
    assert!(expected.len() >= 8, "{expected:?}");
    for ledger in [Sqlite, Postgres, Mysql] {
        assert_eq!(week(&pair(ledger, tables), mode), expected, "the ledger in {ledger:?}");
    }
}

/// Marks and intents do not stay behind.
#[rstest]
fn what_a_commit_leaves_behind_is_taken_out(#[values(Sqlite, Postgres, Mysql)] tables: Kind) {
    let (shop, staging) = (workshop(), pair(Postgres, tables));
    configure(&shop, &staging, "");
    for day in 1..30 {
        shop.write(&format!("in/{}", name(day)), "id\n1\n");
        if day % 10 == 0 {
            shop.ok("load");
        }
    }
    shop.ok("load");
    let Staging::Apart { ledger, tables } = &staging else { panic!("two databases") };
    assert_eq!(ledger.query(&shop, "SELECT count(*) FROM hd_intents"), ["0"]);
    // Those of the last batch are taken out by the next.
    let marks =
        || -> u32 { tables.query(&shop, "SELECT count(*) FROM hd_commits")[0].parse().expect("a count") };
    assert!(marks() <= 10, "{} marks are left", marks());
    assert!(shop.ok("load").out.contains("nothing new"));
    assert_eq!(marks(), 0);
}

fn started(staging: &Staging) -> Workshop {
    let shop = workshop();
    configure(&shop, staging, "");
    shop.write("in/f_20260302.csv", "id,berth\n1,N1\n2,N2\n");
    shop.ok("load");
    shop
}

/// Rewrites the configuration by other databases.
fn turn_to(shop: &Workshop, staging: &Staging) {
    configure(shop, staging, "");
}

#[test]
fn a_ledger_and_tables_that_do_not_belong_together_are_refused() {
    let (one, other) = (Staging::new(Postgres), Staging::new(Postgres));
    let (ledger, tables) = (|name: &str| Staging::Sqlite(name.to_owned()), &one);
    let at = |staging: &Staging| match staging {
        Staging::Postgres(database) => format!("[staging]\nurl = \"{}\"\n", database.url),
        _ => String::new(),
    };
    let shop = workshop();
    let feed = "[place.quay]\npath = \"in\"\n[feed.f]\nplace = \"quay\"\nfiles = \"f_*.csv\"\n";
    let write = |staging: &Staging, ledger: &Staging| {
        shop.write("hypodoke.toml", format!("{}ledger = \"{}\"\n{feed}", at(staging), ledger.url()));
    };
    shop.write("in/f_20260302.csv", "id\n1\n");
    write(tables, &ledger("a.db"));
    shop.ok("load");
    // The same tables, another ledger: it would load every file again.
    write(tables, &ledger("b.db"));
    let run = shop.run("load");
    assert_eq!(run.code, Some(2), "{}", run.out);
    assert!(run.err.contains("the tables are recorded in another ledger, sqlite:"), "{}", run.err);
    assert_eq!(one.query(&shop, "SELECT count(*) FROM f"), ["1"]);
    // A database with a ledger of its own has one already.
    let own = shop.run(&format!("load in/f_20260302.csv --into {} --table g", other.url()));
    assert_eq!(own.code, Some(0), "{}", own.err);
    write(&other, &ledger("c.db"));
    let run = shop.run("load");
    assert!(run.err.contains("the tables' database holds a ledger of its own"), "{}", run.err);
    // A ledger that records loads into its own database serves no other.
    let alone = Staging::Sqlite("own.db".to_owned());
    shop.ok("load in/f_20260302.csv --into sqlite:own.db --table h");
    write(&Staging::new(Postgres), &alone);
    let run = shop.run("load");
    assert!(run.err.contains("the ledger records loads into its own database"), "{}", run.err);
    assert!(run.err.contains("another database needs another ledger"), "{}", run.err);
}

#[test]
fn the_ledger_answers_while_the_tables_are_out_of_reach() {
    let staging = pair(Sqlite, Postgres);
    let shop = started(&staging);
    let text = std::fs::read_to_string(shop.path("hypodoke.toml")).expect("text");
    let away = text.replacen(&staging.url(), "postgres://quillane@127.0.0.1:1/away?connect_timeout=2", 1);
    shop.write("hypodoke.toml", &away);
    assert!(shop.ok("ledger").out.contains("f_20260302.csv"));
    assert!(shop.ok("receipt 1").out.contains("2 rows"));
    shop.ok("rejects");
    shop.ok("report -o page.html");
    assert_eq!(shop.run("load").code, Some(4));
    shop.write("hypodoke.toml", text);
    assert!(shop.ok("load").out.contains("nothing new"));
}

#[test]
fn tables_that_were_dropped_with_their_database_are_filled_again() {
    let staging = Staging::apart(Staging::new(Postgres), Staging::Sqlite("tables.db".to_owned()));
    let shop = started(&staging);
    std::fs::remove_file(shop.path("tables.db")).expect("gone");
    let run = shop.run("load");
    assert_eq!(run.code, Some(3), "{}{}", run.out, run.err);
    assert!(run.out.contains("replay"), "{}", run.out);
    shop.ok("replay f --yes");
    assert_eq!(staging.query(&shop, "SELECT count(*) FROM f"), ["2"]);
    shop.ok("tally");
    turn_to(&shop, &staging);
    assert!(shop.ok("load").out.contains("nothing new"));
}

#[test]
fn the_options_name_both_databases() {
    let staging = pair(Postgres, Mysql);
    let shop = workshop();
    shop.write("f.csv", "id\n1\n2\n");
    shop.ok(&format!("load f.csv {}", staging.options()));
    assert_eq!(staging.query(&shop, "SELECT count(*) FROM f"), ["2"]);
    assert!(shop.ok(&format!("ledger {}", staging.options())).out.contains("f.csv"));
    shop.ok(&format!("tally {}", staging.options()));
    let run = shop.run("ledger --ledger sqlite:l.db");
    assert_eq!(run.code, Some(2), "{}", run.err);
}

#[test]
fn a_setting_that_goes_with_another_is_refused_without_it() {
    let shop = workshop();
    shop.write("hypodoke.toml", "[staging]\nurl = \"sqlite:h.db\"\nledger_schema = \"x\"\n");
    let run = shop.run("load");
    assert!(run.code == Some(2) && run.err.contains("`ledger_schema` goes with `ledger`"), "{}", run.err);
    shop.write(
        "hypodoke.toml",
        "[staging]\nurl = \"sqlite:h.db\"\nledger = \"sqlite:l.db\"\nledger_schema = \"x\"\n",
    );
    let run = shop.run("load");
    assert!(run.err.contains("only PostgreSQL has schemas; `ledger_schema`"), "{}", run.err);
}

#[test]
fn schemas_of_one_server_hold_the_ledger_and_the_tables_of_many() {
    let Staging::Postgres(database) = Staging::new(Postgres) else { panic!("a server") };
    for feed in ["north", "south"] {
        let shop = workshop();
        shop.write(
            "hypodoke.toml",
            format!(
                "[staging]\nurl = \"sqlite:{feed}.db\"\nledger = \"{}\"\nledger_schema = \"{feed}\"\n[place.q]\npath = \"in\"\n[feed.f]\nplace = \"q\"\nfiles = \"*.csv\"\n",
                database.url
            ),
        );
        shop.write("in/f.csv", "id\n1\n");
        shop.ok("load");
        shop.ok("tally");
    }
    assert_eq!(database.query("SELECT count(*) FROM north.hd_files"), ["1"]);
    assert_eq!(database.query("SELECT count(*) FROM south.hd_files"), ["1"]);
}

/// What an empty file is, and why others are held, is found by its code.
#[test]
fn files_are_listed_by_the_codes_of_their_reasons() {
    let shop = workshop();
    let staging = Staging::new(Sqlite);
    configure(&shop, &staging, "[feed.f.expect]\nmin_rows = 2");
    shop.write("in/f_20260302.csv", "id,berth\n1,N1\n2,N2\n");
    shop.write("in/f_20260303.csv", "id,berth\n3,N3\n");
    shop.write("in/f_20260304.csv", "");
    shop.write("in/f_20260305.csv", [0u8, 1, 2, 3, 0, 0, 0, 5, 6, 7, 0, 0]);
    assert_eq!(shop.run("load").code, Some(1));
    let listed = |code: &str| {
        let document: serde_json::Value =
            serde_json::from_str(&shop.run(&format!("ledger --json --reason {code}")).out).expect("JSON");
        let files = document["files"].as_array().expect("files").clone();
        files.iter().map(|file| file["path"].as_str().expect("a path").to_owned()).collect::<Vec<_>>()
    };
    assert_eq!(listed("held.too_few_rows"), ["f_20260303.csv"]);
    assert_eq!(listed("held.empty"), ["f_20260304.csv"]);
    assert_eq!(listed("held"), ["f_20260304.csv", "f_20260303.csv"]);
    assert_eq!(listed("failed"), ["f_20260305.csv"]);
    assert!(listed("failed.password").is_empty());
    let wrong = shop.run("ledger --reason heldd");
    assert_eq!(wrong.code, Some(2));
    assert!(
        wrong.err.contains("`heldd` is not a reason code") && wrong.err.contains("`held`"),
        "{}",
        wrong.err
    );
    let facts = staging.query(&shop, "SELECT reasons FROM hd_files WHERE path = 'f_20260303.csv'");
    assert_eq!(facts, [r#"[{"code":"held.too_few_rows","facts":{"least":2,"read":1}}]"#]);
}
