//! Many small files in one transaction: one that is bad costs itself, several processes share a list, and
//! what is told of a file follows its commit.

use std::process::Stdio;

use hypodoke_testkit::{Workshop, set_modified};
use rstest::rstest;
use serde_json::Value;

use crate::staging::{Kind, Staging};
use crate::workshop;

use Kind::{Mysql, Postgres, PostgresMysql, Sqlite, SqlitePostgres};

/// A feed of files `in/f_NNNN.csv` in a mode.
fn configure(shop: &Workshop, staging: &Staging, of_staging: &str, of_feed: &str) {
    let databases = staging.section();
    let text = format!(
        "{databases}{of_staging}\n[place.quay]\npath = \"in\"\n[feed.f]\nplace = \"quay\"\nfiles = \"f_*.csv\"\ntable = \"f\"\n{of_feed}\n"
    );
    shop.write("hypodoke.toml", text);
}

/// Three rows, of which keys overlap with those of the files beside it.
fn text(file: usize) -> String {
    let line = |row: usize| format!("{},berth {file},{}.5\n", 2 * file + row, (file * 7 + row) % 50);
    format!("id,berth,depth\n{}{}{}", line(0), line(1), line(2))
}

fn write_files(shop: &Workshop, files: std::ops::Range<usize>) {
    for file in files {
        shop.write(&format!("in/f_{file:04}.csv"), text(file));
    }
}

fn outcomes(receipt: &Value) -> Vec<(String, String)> {
    let files = receipt["files"].as_array().expect("files");
    let of = |line: &Value| {
        let text = |name: &str| line[name].as_str().expect("a text").to_owned();
        (text("path"), text("outcome"))
    };
    files.iter().map(of).collect()
}

/// Rows and ledger agree, file by file.
fn agree(shop: &Workshop, staging: &Staging) {
    staging.agree(shop, "f", true);
}

/// Files that fail or are held among others that are well: of a table that is there, and of a new one.
#[rstest]
fn one_bad_file_costs_itself(
    #[values(Sqlite, Postgres, Mysql, SqlitePostgres, PostgresMysql)] kind: Kind,
    #[values(true, false)] is_known: bool,
    #[values("500ms", "0s")] commit_every: &str,
) {
    let shop = workshop();
    let staging = Staging::new(kind);
    let every = format!("commit_every = \"{commit_every}\"\nconnections = 1");
    configure(&shop, &staging, &every, "[feed.f.drift]\nnew_column = \"hold\"");
    if is_known {
        write_files(&shop, 0..2);
        shop.ok("load");
    }
    write_files(&shop, 2..40);
    shop.write("in/f_0011.csv", "");
    if is_known {
        shop.write("in/f_0012.csv", "id,berth,depth,crane\n1,b,2.5,C7\n");
    }
    shop.write("in/f_0013.csv", "id,berth,depth\n7,b\n1,b,3.5\n");
    shop.write("in/f_0014.csv", b"\x1f\x8b\x08broken");
    let run = shop.run("load --json");
    assert_eq!(run.code, Some(1), "{}\n{}", run.out, run.err);
    let receipt: Value = serde_json::from_str(&run.out).expect("a receipt");
    let found = outcomes(&receipt);
    let paths: Vec<&String> = found.iter().map(|(path, _)| path).collect();
    assert!(paths.is_sorted(), "{paths:?}");
    let bad: Vec<(&str, &str)> = found
        .iter()
        .filter(|(_, outcome)| outcome != "loaded")
        .map(|(path, outcome)| (path.rsplit('/').next().expect("a name"), outcome.as_str()))
        .collect();
    let held = ("f_0012.csv", "held");
    let wanted: Vec<(&str, &str)> =
        [Some(("f_0011.csv", "held")), is_known.then_some(held), Some(("f_0014.csv", "failed"))]
            .into_iter()
            .flatten()
            .collect();
    assert_eq!(bad, wanted);
    agree(&shop, &staging);
    let again = shop.run("load --json");
    let receipt: Value = serde_json::from_str(&again.out).expect("a receipt");
    assert!(receipt["files"].as_array().expect("files").len() <= 3, "{}", again.out);
    assert!(shop.run("tally").out.contains("agree"), "{}", shop.run("tally").out);
}

/// A loader that has begun its first file, and goes on with it for minutes.
fn begin_slowly(shop: &Workshop, staging: &Staging, kind: Kind) -> std::process::Child {
    let (sleep, sleeping) = match kind {
        Mysql => (
            "DO SLEEP(600)",
            "SELECT count(*) FROM information_schema.processlist WHERE info = 'DO SLEEP(600)' AND db = database()",
        ),
        _ => (
            "SELECT pg_sleep(600)",
            "SELECT count(*) FROM pg_stat_activity WHERE query = 'SELECT pg_sleep(600)' AND state = 'active' AND datname = current_database()",
        ),
    };
    let config = std::fs::read_to_string(shop.path("hypodoke.toml")).expect("text");
    shop.write("slow.toml", format!("{config}sql_before = \"{sleep}\"\n"));
    let slow = shop.command("load --config slow.toml").stdout(Stdio::null()).stderr(Stdio::null()).spawn();
    hypodoke_testkit::wait_for("the statement", || staging.query(shop, sleeping) == ["1"]);
    slow.expect("a process")
}

/// Three files wait while the other loader has them, and are loaded once it is gone.
fn wait_for_the_other(shop: &Workshop, staging: &Staging, kind: Kind, files: &[&str]) {
    let mut slow = begin_slowly(shop, staging, kind);
    let run = shop.run("load --json");
    let receipt: Value = serde_json::from_str(&run.out).expect("a receipt");
    let waiting: Vec<_> = files.iter().map(|file| ((*file).to_owned(), "waiting".to_owned())).collect();
    assert_eq!(outcomes(&receipt), waiting, "{}", run.out);
    assert!(run.out.contains("skipped.in_use"), "{}", run.out);
    let _ = slow.kill();
    let _ = slow.wait();
    staging.end_sessions();
    shop.ok("load");
    assert!(shop.ok("tally").out.contains("agree"));
    assert_eq!(staging.query(shop, "SELECT count(*) FROM hd_files WHERE outcome = 'failed'"), ["0"]);
}

/// A loader that holds its files for longer than others wait: they leave the files for later, and fail none.
#[rstest]
fn files_that_another_loader_holds_for_long_are_left_for_later(
    #[values("mode = \"append\"", "mode = \"upsert\"\nkey = [\"id\"]", "mode = \"replace\"")] feed: &str,
    #[values(Postgres, Mysql)] kind: Kind,
    #[values("500ms", "0s")] commit_every: &str,
) {
    let (shop, staging) = (workshop(), Staging::new(kind));
    let of_staging = format!("wait = \"1s\"\ncommit_every = \"{commit_every}\"\nconnections = 1");
    configure(&shop, &staging, &of_staging, feed);
    write_files(&shop, 0..1);
    shop.ok("load");
    write_files(&shop, 1..4);
    wait_for_the_other(&shop, &staging, kind, &["f_0001.csv", "f_0002.csv", "f_0003.csv"]);
}

#[rstest]
fn deliveries_that_another_loader_holds_for_long_are_left_for_later(#[values(Postgres, Mysql)] kind: Kind) {
    let (shop, staging) = (workshop(), Staging::new(kind));
    configure(&shop, &staging, "wait = \"1s\"", "mode = \"replace\"\ndelivery = \"day\"");
    let config = std::fs::read_to_string(shop.path("hypodoke.toml")).expect("text");
    shop.write("hypodoke.toml", config.replace("f_*.csv", "f_{day:%Y%m%d}_*.csv"));
    shop.write("in/f_20260302_1.csv", text(0));
    shop.ok("load");
    let names = ["f_20260303_1.csv", "f_20260303_2.csv", "f_20260304_1.csv"];
    names.iter().zip(1..).for_each(|(name, at)| drop(shop.write(&format!("in/{name}"), text(at))));
    wait_for_the_other(&shop, &staging, kind, &names);
}

/// A later file of a delivery needs a wider column, or one more, than the files before it.
#[rstest]
#[case::a_wider_number("id,depth\n1,7.5\n", "id,depth\n2,14.25\n", "SELECT id, depth FROM f ORDER BY id", &["1|7.5", "2|14.25"])]
#[case::an_integer_first("id,depth\n1,7.5\n2,8\n", "id,depth\n3,123456.125\n", "SELECT id, depth FROM f ORDER BY id", &["1|7.5", "2|8", "3|123456.125"])]
#[case::one_more("id,depth\n1,7.5\n", "id,depth,quay\n2,8.5,N1\n", "SELECT id, quay FROM f ORDER BY id", &["1|", "2|N1"])]
fn a_later_file_of_a_delivery_may_change_the_table(
    #[case] first: &str,
    #[case] second: &str,
    #[case] sql: &str,
    #[case] expected: &[&str],
    #[values(Sqlite, Postgres, Mysql, SqlitePostgres, PostgresMysql)] kind: Kind,
) {
    let (shop, staging) = (workshop(), Staging::new(kind));
    configure(&shop, &staging, "", "mode = \"replace\"\ndelivery = \"day\"");
    let config = std::fs::read_to_string(shop.path("hypodoke.toml")).expect("text");
    shop.write("hypodoke.toml", config.replace("f_*.csv", "f_{day:%Y%m%d}_*.csv"));
    shop.write("in/f_20260302_1.csv", "id,depth\n9,0.5\n");
    shop.ok("load");
    shop.write("in/f_20260303_1.csv", first);
    shop.write("in/f_20260303_2.csv", second);
    shop.ok("load");
    let found: Vec<String> = staging.query(&shop, sql).into_iter().map(|row| plain(&row)).collect();
    assert_eq!(found, expected);
    if matches!(kind, Mysql) {
        let pending = staging.query(&shop, "SELECT count(*) FROM hd_table_changes");
        assert_eq!(pending, ["0"], "a change that was made for a load that is kept is not pending");
    }
    assert!(shop.ok("tally").out.contains("all figures agree or are explained"));
    assert!(shop.ok("load").out.contains("nothing new"));
}

/// A row without the zeros that a database shows behind a number's last digit.
fn plain(row: &str) -> String {
    let field = |field: &str| match field.contains('.') {
        true => field.trim_end_matches('0').trim_end_matches('.').to_owned(),
        false => field.replace("NULL", ""),
    };
    row.split('|').map(field).collect::<Vec<_>>().join("|")
}

/// Several processes at once load a list that all of them see: each file once, whoever has it.
#[rstest]
#[case::added(Postgres, "mode = \"append\"", 4)]
#[case::added_by_one_connection(Postgres, "mode = \"append\"", 3)]
#[case::by_key(Postgres, "mode = \"upsert\"\nkey = [\"id\"]", 3)]
#[case::sqlite(Sqlite, "mode = \"append\"", 3)]
#[case::sqlite_by_key(Sqlite, "mode = \"upsert\"\nkey = [\"id\"]", 2)]
fn processes_share_a_list(#[case] kind: Kind, #[case] feed: &str, #[case] processes: usize) {
    const FILES: usize = 240;
    let shop = workshop();
    let staging = Staging::new(kind);
    let connections = if processes == 3 { "connections = 1" } else { "connections = 2" };
    configure(&shop, &staging, &format!("wait = \"60s\"\n{connections}"), feed);
    write_files(&shop, 0..FILES);
    let start = |_| {
        let mut command = shop.command("load --json");
        command.stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().expect("a load")
    };
    let children: Vec<_> = (0..processes).map(start).collect();
    let mut loaded = 0;
    for child in children {
        let output = child.wait_with_output().expect("it ends");
        assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
        let receipt: Value = serde_json::from_slice(&output.stdout).expect("a receipt");
        let found = outcomes(&receipt);
        assert!(found.iter().all(|(_, outcome)| outcome == "loaded" || outcome == "known"), "{found:?}");
        loaded += found.iter().filter(|(_, outcome)| outcome == "loaded").count();
    }
    assert_eq!(loaded, FILES);
    let files = "SELECT count(*), count(DISTINCT path) FROM hd_files WHERE outcome = 'loaded'";
    assert_eq!(staging.query(&shop, files), [format!("{FILES}|{FILES}")]);
    let rows = if feed.contains("upsert") { 2 * FILES + 1 } else { 3 * FILES };
    assert_eq!(staging.query(&shop, "SELECT count(*) FROM f"), [rows.to_string()]);
    if !feed.contains("upsert") {
        agree(&shop, &staging);
    }
}

/// The table is the same, to the value, whatever is committed together.
#[rstest]
fn groups_change_nothing_but_the_time(
    #[values(Sqlite, Postgres, Mysql, SqlitePostgres, PostgresMysql)] kind: Kind,
    #[values("append", "upsert", "insert-new", "history", "replace")] mode: &str,
) {
    let results = ["0s", "10s"].map(|commit_every| {
        let shop = workshop();
        let staging = Staging::new(kind);
        let every = format!("commit_every = \"{commit_every}\"");
        configure(&shop, &staging, &every, &format!("mode = \"{mode}\"\nkey = [\"id\"]"));
        // Both times at the same times, however coarse the clock of the file system is.
        let dated = |files: std::ops::Range<usize>| {
            for file in files {
                set_modified(&shop.path(&format!("in/f_{file:04}.csv")), 1_772_000_000 + file as u64);
            }
        };
        write_files(&shop, 0..30);
        dated(0..30);
        shop.ok("load");
        write_files(&shop, 30..60);
        // A file that has changed, and a column that is wider than before.
        shop.write("in/f_0004.csv", "id,berth,depth\n8,berth 4,1.5\n");
        shop.write("in/f_0042.csv", "id,berth,depth\n84,berth 42,1.125\n85,berth 42,\n");
        dated(30..60);
        set_modified(&shop.path("in/f_0004.csv"), 1_772_000_100);
        set_modified(&shop.path("in/f_0042.csv"), 4_000_000_000);
        shop.ok("load");
        let rows = "SELECT id, berth, depth, hd_line FROM f ORDER BY id, berth, depth, hd_line";
        let files = "SELECT path, outcome, rows_read, rows_loaded, rows_rejected, rows_left_out, rows_inserted,
               rows_updated, rows_unchanged, CASE WHEN replaced_by IS NULL THEN 0 ELSE 1 END, content_hash, kind
             FROM hd_files ORDER BY path, outcome, rows_read";
        (staging.query(&shop, rows), staging.query(&shop, files))
    });
    assert_eq!(results[0].0, results[1].0);
    assert_eq!(results[0].1, results[1].1);
}

/// Files are moved once their rows are committed, also those of a group that is given up for a row that the
/// table refuses, and loaded one by one.
#[rstest]
fn files_are_put_away_after_their_commit(
    #[values(Sqlite, Postgres, Mysql, SqlitePostgres, PostgresMysql)] kind: Kind,
) {
    let shop = workshop();
    let staging = Staging::new(kind);
    configure(&shop, &staging, "commit_every = \"10s\"", "mode = \"append\"");
    let text = std::fs::read_to_string(shop.path("hypodoke.toml")).expect("a configuration");
    shop.write("hypodoke.toml", text.replace("path = \"in\"\n", "path = \"in\"\nafter = \"move\"\n"));
    write_files(&shop, 0..10);
    shop.ok("load");
    staging.run(&shop, "CREATE UNIQUE INDEX one_of_each ON f (hd_file, id)");
    write_files(&shop, 10..50);
    shop.write("in/f_0030.csv", "id,berth,depth\n1,b,2.5\n1,b,3.5\n");
    shop.attention("load");
    agree(&shop, &staging);
    let left = std::fs::read_dir(shop.path("in")).expect("a folder").flatten();
    let left: Vec<_> = left.filter(|entry| entry.file_type().is_ok_and(|ty| ty.is_file())).collect();
    assert!(left.is_empty(), "{left:?}");
    assert_eq!(staging.query(&shop, "SELECT count(*) FROM f"), ["148"]);
    assert_eq!(staging.query(&shop, "SELECT sum(rows_rejected) FROM hd_files"), ["1"]);
}
