//! The table is what its files say: what a life of a feed that is held against a model does not show.

use hypodoke_testkit::Workshop;
use rstest::rstest;
use rust_xlsxwriter::Workbook;

use crate::staging::Kind::{self, Mysql, Postgres, PostgresMysql, Sqlite, SqlitePostgres};
use crate::staging::{Staging, configure};
use crate::workshop;

fn begun(kind: Kind, feed: &str) -> (Workshop, Staging) {
    let (shop, staging) = (workshop(), Staging::new(kind));
    configure(&shop, &staging, feed);
    (shop, staging)
}

const UPSERT: &str = "mode = \"upsert\"\nkey = [\"id\"]";

#[rstest]
fn a_late_file_says_how_many_rows_stand_behind_later_ones(
    #[values(Sqlite, Postgres, Mysql, SqlitePostgres, PostgresMysql)] kind: Kind,
) {
    let (shop, staging) = begun(kind, UPSERT);
    shop.write("in/f_20260303.csv", "id,berth\n1,N1\n2,N2\n");
    shop.ok("load");
    shop.write("in/f_20260302.csv", "id,berth\n1,S1\n3,S3\n");
    let run = shop.ok("load");
    assert!(run.out.contains("1 row is also in a later file, which stands"), "{}", run.out);
    assert_eq!(staging.query(&shop, "SELECT id, berth FROM f ORDER BY id"), ["1|N1", "2|N2", "3|S3"]);
    let tally = shop.ok("tally");
    assert!(tally.out.contains("all figures agree or are explained"), "{}", tally.out);
}

#[rstest]
#[case::upsert(UPSERT)]
#[case::history("mode = \"history\"\nkey = [\"id\"]")]
fn a_row_that_somebody_else_has_changed_is_left_and_told(
    #[case] feed: &str,
    #[values(Sqlite, Postgres, Mysql, SqlitePostgres, PostgresMysql)] kind: Kind,
) {
    let (shop, staging) = begun(kind, feed);
    shop.write("in/f_20260302.csv", "id,berth\n1,N1\n2,N2\n");
    shop.ok("load");
    shop.write("in/f_20260303.csv", "id,berth\n1,S1\n2,S2\n");
    shop.ok("load");
    staging.run(&shop, "UPDATE f SET berth = 'by hand' WHERE berth = 'S2'");
    let run = shop.ok("retract f_20260303.csv --yes");
    assert!(run.out.contains("1 key changed by somebody else since"), "{}", run.out);
    assert!(run.out.contains("1 row taken out of f"), "of two, the other was left: {}", run.out);
    assert!(!run.out.contains("2 rows of other files"), "one came back at most: {}", run.out);
    let rows = "SELECT id, berth FROM f WHERE berth <> 'N2' ORDER BY id";
    assert_eq!(staging.query(&shop, rows), ["1|N1", "2|by hand"]);
    let tally = shop.run("tally");
    assert!(
        tally.code == Some(1) && tally.out.contains("not in the table as the files say: line 3 of f"),
        "{}",
        tally.out
    );
}

#[rstest]
#[case::deleted("upsert", "delete", &["1|N1", "4|N4"])]
#[case::marked("upsert", "mark", &["1|N1", "2|N2", "3|N3", "4|N4"])]
#[case::closed("history", "close", &["1|N1", "2|N2", "3|N3", "4|N4"])]
fn keys_that_a_full_delivery_no_longer_holds_vanish(
    #[case] mode: &str,
    #[case] vanished: &str,
    #[case] rows: &[&str],
    #[values(Sqlite, Postgres, Mysql, SqlitePostgres, PostgresMysql)] kind: Kind,
) {
    let feed =
        format!("mode = \"{mode}\"\nkey = [\"id\"]\nvanished = \"{vanished}\"\nvanished_at_most = \"70%\"");
    let (shop, staging) = begun(kind, &feed);
    shop.write("in/f_20260302.csv", "id,berth\n1,N1\n2,N2\n3,N3\n");
    shop.ok("load");
    shop.write("in/f_20260303.csv", "id,berth\n1,N1\n4,N4\n");
    let run = shop.ok("load");
    assert!(run.out.contains("2 keys that the table held are not in this file"), "{}", run.out);
    assert_eq!(staging.query(&shop, "SELECT id, berth FROM f ORDER BY id"), rows);
    match vanished {
        "mark" => assert_eq!(
            staging.query(&shop, "SELECT id FROM f WHERE hd_gone_since IS NOT NULL ORDER BY id"),
            ["2", "3"]
        ),
        "close" => assert_eq!(
            staging.query(&shop, "SELECT id FROM f WHERE hd_valid_to IS NULL ORDER BY id"),
            ["1", "4"]
        ),
        _ => {}
    }
    // Half a file would take the rest.
    shop.write("in/f_20260304.csv", "id,berth\n5,N5\n");
    let run = shop.run("load");
    assert!(
        run.code == Some(3) && run.out.contains("keys that the table holds are not in it"),
        "{}",
        run.out
    );
    shop.ok("settle f_20260304.csv --load-anyway");
    shop.ok("load");
    assert!(staging.query(&shop, "SELECT id FROM f").contains(&"5".to_owned()));
}

#[rstest]
fn the_same_content_again_is_a_state_and_in_append_another_delivery_by_its_day(
    #[values("append", "upsert", "replace")] mode: &str,
) {
    let (shop, staging) = begun(Sqlite, &format!("mode = \"{mode}\"\nkey = [\"id\"]"));
    for (day, berth) in [("02", "N1"), ("03", "S1"), ("04", "N1")] {
        shop.write(&format!("in/f_202603{day}.csv"), format!("id,berth\n1,{berth}\n"));
        shop.ok("load");
    }
    let expected: &[&str] = if mode == "append" { &["N1", "N1", "S1"] } else { &["N1"] };
    assert_eq!(staging.query(&shop, "SELECT berth FROM f ORDER BY berth"), expected);
    // A copy under a name with the same parts is a copy.
    shop.write("in/f_20260304_again.csv", "id,berth\n1,N1\n");
    shop.ok("load");
    assert_eq!(staging.query(&shop, "SELECT berth FROM f ORDER BY berth"), expected);
}

#[rstest]
fn the_order_of_deliveries_may_stand_in_their_data(
    #[values(Sqlite, Postgres, Mysql, SqlitePostgres, PostgresMysql)] kind: Kind,
) {
    let (shop, staging) = begun(kind, "mode = \"replace\"\norder = \"batch\"");
    let config = std::fs::read_to_string(shop.path("hypodoke.toml")).expect("text");
    shop.write("hypodoke.toml", config.replace("f_{day:%Y%m%d}*.csv", "*.csv"));
    let ids = || staging.query(&shop, "SELECT id FROM f ORDER BY id");
    shop.write("in/z.csv", "id,batch\n1,9\n");
    shop.ok("load");
    shop.write("in/y.csv", "id,batch\n2,10\n3,10\n");
    shop.ok("load");
    assert_eq!(ids(), ["2", "3"]);
    shop.write("in/x.csv", "id,batch\n4,8\n");
    let run = shop.ok("load");
    assert!(run.out.contains("superseded"), "{}", run.out);
    assert_eq!(ids(), ["2", "3"]);
    shop.ok("retract y.csv --yes");
    assert_eq!(ids(), ["1"]);
    shop.ok("retract z.csv --yes");
    assert_eq!(ids(), ["4"]);
}

#[rstest]
fn a_version_holds_from_what_its_column_says(
    #[values(Sqlite, Postgres, Mysql, SqlitePostgres, PostgresMysql)] kind: Kind,
) {
    let (shop, staging) = begun(kind, "mode = \"history\"\nkey = [\"id\"]\nvalid_from = \"since\"");
    shop.write("in/f_20260310.csv", "id,berth,since\n1,N3,2026-03-09\n1,N1,2026-03-01\n");
    shop.ok("load");
    shop.write("in/f_20260311.csv", "id,berth,since\n1,N2,2026-03-05\n");
    shop.ok("load");
    let as_of = |day: &str| {
        let sql = format!(
            "SELECT berth FROM f WHERE hd_valid_from <= '{day}T00:00:00.000000Z' AND (hd_valid_to IS NULL OR hd_valid_to > '{day}T00:00:00.000000Z')"
        );
        staging.query(&shop, &sql)
    };
    assert_eq!(
        (as_of("2026-03-02"), as_of("2026-03-06"), as_of("2026-03-12")),
        (vec!["N1".into()], vec!["N2".into()], vec!["N3".into()])
    );
    assert_eq!(staging.query(&shop, "SELECT count(*) FROM f WHERE hd_valid_to IS NULL"), ["1"]);
}

/// The first delivery takes the place of what stood in the table, also where rows say how files follow.
#[rstest]
fn a_table_of_one_delivery_holds_nothing_else(
    #[values("", "order = \"day\"")] order: &str,
    #[values(Sqlite, Postgres, Mysql, SqlitePostgres, PostgresMysql)] kind: Kind,
) {
    let (shop, staging) = begun(kind, &format!("mode = \"replace\"\n{order}"));
    staging.run(&shop, "CREATE TABLE f (id INTEGER, day DATE, hd_file BIGINT, hd_line BIGINT)");
    staging.run(&shop, "INSERT INTO f (id) VALUES (99)");
    shop.write("in/f_20260302.csv", "id\n1\n");
    shop.ok("load");
    assert_eq!(staging.query(&shop, "SELECT id FROM f"), ["1"]);
    shop.write("in/f_20260304.csv", "id\n3\n");
    shop.ok("load");
    shop.write("in/f_20260303.csv", "id\n2\n");
    shop.ok("load");
    assert_eq!(staging.query(&shop, "SELECT id FROM f"), ["3"]);
}

pub fn workbook(shop: &Workshop, path: &str, sheets: &[(&str, &[[&str; 2]])]) {
    let mut book = Workbook::new();
    for (name, rows) in sheets {
        let sheet = book.add_worksheet().set_name(*name).expect("a name");
        for (at, row) in (0..).zip(*rows) {
            sheet.write_row(at, 0, *row).expect("a row");
        }
    }
    std::fs::create_dir_all(shop.path("in")).expect("a folder");
    book.save(shop.path(path)).expect("a workbook");
}

#[rstest]
fn sheets_have_keys_of_their_own_and_a_missing_one_is_drift(
    #[values(Sqlite, Postgres, Mysql, SqlitePostgres, PostgresMysql)] kind: Kind,
) {
    let (shop, staging) = begun(kind, &format!("{UPSERT}\n[feed.f.keys]\nShips = [\"ship\"]"));
    let config = std::fs::read_to_string(shop.path("hypodoke.toml")).expect("text");
    shop.write("hypodoke.toml", config.replace("*.csv", "*.xlsx"));
    let dues: &[[&str; 2]] = &[["id", "fee"], ["N1", "low"], ["N2", "high"]];
    let ships: &[[&str; 2]] = &[["ship", "flag"], ["Petrel", "red"], ["Gannet", "blue"]];
    workbook(&shop, "in/f_20260303.xlsx", &[("Dues", dues), ("Ships", ships)]);
    shop.ok("load");
    let late: &[[&str; 2]] = &[["ship", "flag"], ["Petrel", "green"], ["Skua", "white"]];
    workbook(&shop, "in/f_20260302.xlsx", &[("Dues", &dues[..2]), ("Ships", late)]);
    shop.ok("load");
    let rows = || staging.query(&shop, "SELECT ship, flag FROM f_ships ORDER BY ship");
    assert_eq!(rows(), ["Gannet|blue", "Petrel|red", "Skua|white"]);
    workbook(&shop, "in/f_20260304.xlsx", &[("Ships", &[["ship", "flag"], ["Petrel", "black"]])]);
    shop.ok("check");
    let run = shop.run("load");
    assert!(run.code == Some(3) && run.out.contains("the sheet `Dues` is missing"), "{}", run.out);
    shop.ok("settle f_20260304.xlsx --load-anyway");
    shop.ok("load");
    assert_eq!(rows(), ["Gannet|blue", "Petrel|black", "Skua|white"]);
    shop.ok("retract f_20260303.xlsx --yes");
    assert_eq!(rows(), ["Petrel|black", "Skua|white"]);
    assert_eq!(staging.query(&shop, "SELECT id FROM f_dues ORDER BY id"), ["N1"]);
    assert!(shop.ok("tally").out.contains("all figures agree or are explained"));
}

fn nested(kind: Kind, feed: &str) -> (Workshop, Staging) {
    let (shop, staging) = begun(kind, feed);
    let config = std::fs::read_to_string(shop.path("hypodoke.toml")).expect("text");
    shop.write("hypodoke.toml", config.replace("*.csv", "*.jsonl"));
    (shop, staging)
}

#[rstest]
fn every_snapshot_of_a_list_may_be_kept_while_records_are_only_added(
    #[values(Sqlite, Postgres, Mysql, SqlitePostgres, PostgresMysql)] kind: Kind,
) {
    let (shop, staging) = nested(kind, "mode = \"insert-new\"\nkey = [\"id\"]\nchildren = \"append\"");
    shop.write("in/f_20260302.jsonl", "{\"id\":1,\"legs\":[{\"q\":1},{\"q\":2}]}\n");
    shop.ok("load");
    shop.write("in/f_20260303.jsonl", "{\"id\":1,\"legs\":[{\"q\":3}]}\n{\"id\":2,\"legs\":[]}\n");
    shop.ok("load");
    assert_eq!(staging.query(&shop, "SELECT id, hd_file FROM f ORDER BY id"), ["1|1", "2|2"]);
    let legs = || staging.query(&shop, "SELECT day, q FROM f_legs ORDER BY q");
    assert_eq!(legs(), ["2026-03-02|1", "2026-03-02|2", "2026-03-03|3"]);
    shop.ok("retract f_20260302.jsonl --yes");
    assert_eq!(legs(), ["2026-03-03|3"]);
    assert_eq!(staging.query(&shop, "SELECT id, hd_file FROM f ORDER BY id"), ["1|2", "2|2"]);
}

#[rstest]
fn a_list_may_have_a_key_of_its_own(
    #[values(Sqlite, Postgres, Mysql, SqlitePostgres, PostgresMysql)] kind: Kind,
) {
    let (shop, staging) = nested(kind, &format!("{UPSERT}\n[feed.f.keys]\nlegs = [\"leg\"]"));
    shop.write("in/f_20260302.jsonl", "{\"id\":1,\"legs\":[{\"leg\":10,\"q\":1},{\"leg\":11,\"q\":2}]}\n");
    shop.ok("load");
    shop.write("in/f_20260303.jsonl", "{\"id\":1,\"legs\":[{\"leg\":11,\"q\":7}]}\n");
    shop.ok("load");
    assert_eq!(staging.query(&shop, "SELECT leg, q FROM f_legs ORDER BY leg"), ["10|1", "11|7"]);
    shop.ok("retract f_20260303.jsonl --yes");
    assert_eq!(staging.query(&shop, "SELECT leg, q FROM f_legs ORDER BY leg"), ["10|1", "11|2"]);
}

#[rstest]
fn a_record_some_part_of_which_the_database_refuses_is_a_reject(
    #[values(Sqlite, Postgres, Mysql, SqlitePostgres, PostgresMysql)] kind: Kind,
) {
    let (shop, staging) = nested(kind, "");
    shop.write("in/f_20260302.jsonl", "{\"id\":1,\"legs\":[{\"q\":1}]}\n");
    shop.ok("load");
    match kind {
        Sqlite => staging.run(
            &shop,
            "CREATE TRIGGER no BEFORE INSERT ON f_legs WHEN NEW.q = 13 BEGIN SELECT RAISE(ABORT, 'no thirteen'); END",
        ),
        _ => staging.run(&shop, "ALTER TABLE f_legs ADD CONSTRAINT no_thirteen CHECK (q <> 13)"),
    }
    shop.write(
        "in/f_20260303.jsonl",
        "{\"id\":2,\"legs\":[{\"q\":2}]}\n{\"id\":3,\"legs\":[{\"q\":3},{\"q\":13}]}\n{\"id\":4,\"legs\":[{\"q\":4}]}\n",
    );
    shop.attention("load");
    assert_eq!(staging.query(&shop, "SELECT id FROM f ORDER BY id"), ["1", "2", "4"]);
    assert_eq!(staging.query(&shop, "SELECT q FROM f_legs ORDER BY q"), ["1", "2", "4"]);
    let account = "SELECT rows_read, rows_loaded, rows_rejected FROM hd_files WHERE path LIKE '%0303%'";
    assert_eq!(staging.query(&shop, account), ["3|2|1"]);
    let rejects = staging.query(&shop, "SELECT line, reason FROM hd_rejects");
    assert!(rejects.len() == 1 && rejects[0].starts_with("2|in what is nested in it"), "{rejects:?}");
}

#[rstest]
fn two_feeds_may_take_one_file(#[values(Sqlite, Postgres, Mysql, SqlitePostgres, PostgresMysql)] kind: Kind) {
    let (shop, staging) = begun(kind, "");
    let config = std::fs::read_to_string(shop.path("hypodoke.toml")).expect("text");
    let second = "[feed.state]\nplace = \"quay\"\nfiles = \"f_*.csv\"\nmode = \"upsert\"\nkey = [\"id\"]\nalso = true\n";
    shop.write("hypodoke.toml", format!("{config}\n{second}"));
    shop.write("in/f_20260302.csv", "id,berth\n1,N1\n");
    shop.write("in/f_20260303.csv", "id,berth\n1,S1\n");
    shop.ok("load");
    assert_eq!(staging.query(&shop, "SELECT count(*) FROM f"), ["2"]);
    assert_eq!(staging.query(&shop, "SELECT id, berth FROM state"), ["1|S1"]);
    assert!(shop.ok("load").out.contains("nothing new"));
    shop.ok("retract state --yes");
    assert_eq!(staging.query(&shop, "SELECT count(*) FROM f"), ["2"]);
    assert_eq!(staging.query(&shop, "SELECT count(*) FROM state"), ["0"]);
}

/// A file that is put away has been to every feed that takes it, and is found there for each of them.
#[rstest]
fn a_file_of_two_feeds_is_put_away_when_both_have_it(
    #[values(Sqlite, Postgres, Mysql, SqlitePostgres, PostgresMysql)] kind: Kind,
) {
    let (shop, staging) = begun(kind, "");
    let config = std::fs::read_to_string(shop.path("hypodoke.toml")).expect("text");
    let config = config.replace("path = \"in\"", "path = \"in\"\nafter = \"move\"");
    let second = "[feed.state]\nplace = \"quay\"\nfiles = \"f_*.csv\"\nmode = \"upsert\"\nkey = [\"id\"]\nalso = true\n";
    shop.write("hypodoke.toml", format!("{config}\n{second}"));
    shop.write("in/f_20260302.csv", "id,berth\n1,N1\n");
    shop.ok("load f");
    assert!(shop.path("in/f_20260302.csv").exists(), "the second feed has yet to load it");
    shop.ok("load f");
    assert!(shop.path("in/f_20260302.csv").exists());
    shop.ok("load state");
    assert!(!shop.path("in/f_20260302.csv").exists());
    let rows = || {
        let state = staging.query(&shop, "SELECT id, berth FROM state");
        (staging.query(&shop, "SELECT id, berth FROM f"), state)
    };
    let wanted = (vec!["1|N1".to_owned()], vec!["1|N1".to_owned()]);
    assert_eq!(rows(), wanted);
    for feed in ["f", "state"] {
        shop.ok(&format!("retract {feed} --yes"));
        assert_eq!(staging.query(&shop, &format!("SELECT count(*) FROM {feed}")), ["0"]);
        let run = shop.ok(&format!("replay {feed} --yes"));
        assert!(run.out.contains("1 file loaded, 1 row"), "{}", run.out);
    }
    assert_eq!(rows(), wanted);
}

#[rstest]
fn corrections_that_are_taken_at_the_same_time_are_loaded_once(
    #[values(Sqlite, Postgres, Mysql, SqlitePostgres, PostgresMysql)] kind: Kind,
) {
    let (shop, staging) = begun(kind, "[feed.f.columns]\nid = { type = \"integer\" }");
    let rows: String = (0..300).map(|row| format!("x{row},N{row}\n")).collect();
    shop.write("in/f_20260302.csv", format!("id,berth\n{rows}1,N1\n"));
    shop.run("load");
    shop.ok("rejects --export bad.csv");
    let bad = std::fs::read_to_string(shop.path("bad.csv")).expect("rejects");
    shop.write("good.csv", bad.replace(",x", ","));
    let takes: Vec<_> = (0..4)
        .map(|_| {
            let mut command = shop.command("rejects --take good.csv");
            command.stdout(std::process::Stdio::null()).stderr(std::process::Stdio::null());
            command.spawn().expect("a process")
        })
        .collect();
    let done = takes.into_iter().map(|mut take| take.wait().expect("its end").success());
    assert_eq!(done.filter(|done| *done).count(), 1, "one of them has loaded the corrections");
    assert_eq!(staging.query(&shop, "SELECT count(*) FROM f"), ["301"]);
    assert_eq!(staging.query(&shop, "SELECT rows_loaded, rows_rejected FROM hd_files"), ["301|0"]);
}

#[rstest]
fn corrections_are_taken_and_files_taken_out_without_a_configuration(
    #[values(Sqlite, Postgres, Mysql, SqlitePostgres, PostgresMysql)] kind: Kind,
) {
    let feed = format!("{UPSERT}\n[feed.f.columns]\nid = {{ type = \"integer\" }}");
    let (shop, staging) = begun(kind, &feed);
    shop.write("in/f_20260302.csv", "id,berth\n1,N1\n2,N2\n");
    shop.write("in/f_20260303.csv", "id,berth\n1,S1\nx2,S2\n");
    shop.run("load");
    shop.ok("rejects --export bad.csv");
    let bad = std::fs::read_to_string(shop.path("bad.csv")).expect("rejects");
    shop.write("good.csv", bad.replace(",x2", ",2"));
    std::fs::remove_file(shop.path("hypodoke.toml")).expect("gone");
    let into = staging.options();
    shop.ok(&format!("rejects --take good.csv {into}"));
    let rows = || staging.query(&shop, "SELECT id, berth, day FROM f ORDER BY id");
    assert_eq!(rows(), ["1|S1|2026-03-03", "2|S2|2026-03-03"]);
    shop.ok(&format!("retract f_20260303.csv {into} --yes"));
    assert_eq!(rows(), ["1|N1|2026-03-02", "2|N2|2026-03-02"]);
}

#[rstest]
fn where_rows_are_not_kept_they_are_read_from_their_sources_or_nothing_is_touched(
    #[values(Sqlite, Postgres, Mysql, SqlitePostgres, PostgresMysql)] kind: Kind,
) {
    let (shop, staging) = begun(kind, &format!("{UPSERT}\nkeep_superseded = \"no\""));
    shop.write("in/f_20260302.csv", "id,berth\n1,N1\n2,N2\n");
    shop.ok("load");
    shop.write("in/f_20260303.csv", "id,berth\n1,S1\n");
    shop.ok("load");
    let rows = || staging.query(&shop, "SELECT id, berth FROM f ORDER BY id");
    assert_eq!(staging.query(&shop, "SELECT count(*) FROM hd_kept_rows"), ["0"]);
    shop.ok("retract f_20260303.csv --yes");
    assert_eq!(rows(), ["1|N1", "2|N2"]);
    shop.ok("replay f_20260303.csv --yes");
    assert_eq!(rows(), ["1|S1", "2|N2"]);
    staging.run(&shop, "DELETE FROM hd_kept_rows");
    staging.run(&shop, "UPDATE hd_files SET rows_kept = 0");
    std::fs::remove_file(shop.path("in/f_20260302.csv")).expect("gone");
    let run = shop.run("retract f_20260303.csv --yes");
    assert!(
        run.code == Some(1) && run.err.contains("f_20260302.csv") && run.err.contains("are not kept"),
        "{}",
        run.err
    );
    assert_eq!(rows(), ["1|S1", "2|N2"]);
}

#[rstest]
fn a_table_of_others_follows_its_files_by_key(
    #[values(Sqlite, Postgres, Mysql, SqlitePostgres, PostgresMysql)] kind: Kind,
) {
    let (shop, staging) = begun(kind, UPSERT);
    staging.run(&shop, "CREATE TABLE f (id bigint PRIMARY KEY, berth text, day date, note text)");
    staging.run(&shop, "INSERT INTO f VALUES (9, 'X9', '2026-01-01', 'of others')");
    shop.write("in/f_20260303.csv", "id,berth\n1,N1\n2,N2\n");
    shop.ok("load");
    shop.write("in/f_20260302.csv", "id,berth\n1,S1\n3,S3\n");
    shop.ok("load");
    let rows = || staging.query(&shop, "SELECT id, berth FROM f ORDER BY id");
    assert_eq!(rows(), ["1|N1", "2|N2", "3|S3", "9|X9"]);
    shop.ok("replay f_20260303.csv --yes");
    assert_eq!(rows(), ["1|N1", "2|N2", "3|S3", "9|X9"]);
    shop.ok("retract f_20260303.csv --yes");
    assert_eq!(rows(), ["1|S1", "3|S3", "9|X9"]);
}

#[rstest]
#[case::vanished("mode = \"upsert\"\nkey = [\"id\"]\nvanished = \"close\"", "does not go with mode `upsert`")]
#[case::share(
    "mode = \"upsert\"\nkey = [\"id\"]\nvanished = \"delete\"\nvanished_at_most = \"10\"",
    "is no share"
)]
#[case::lonely(
    "mode = \"upsert\"\nkey = [\"id\"]\nvanished_at_most = \"10%\"",
    "says nothing without `vanished`"
)]
#[case::valid_from("mode = \"upsert\"\nkey = [\"id\"]\nvalid_from = \"day\"", "it goes with mode `history`")]
#[case::order("order = \"day\"", "the order of files does not matter")]
#[case::children("children = \"append\"", "the modes that have a key")]
#[case::delivery("delivery = \"day\"", "it goes with mode `replace`")]
#[case::kept(
    "mode = \"upsert\"\nkey = [\"id\"]\nvanished = \"mark\"\nkeep_superseded = \"no\"",
    "keeps none"
)]
#[case::days("mode = \"upsert\"\nkey = [\"id\"]\nkeep_superseded = \"90\"", "is no number of days")]
fn settings_that_contradict_one_another_are_told_with_their_line(#[case] feed: &str, #[case] words: &str) {
    let (shop, _staging) = begun(Sqlite, feed);
    let run = shop.run("check");
    assert!(run.code == Some(2) && run.err.contains(words), "{}", run.err);
    assert!(run.err.contains("hypodoke.toml:"), "{}", run.err);
}

#[test]
fn a_key_that_a_file_lacks_is_found_before_the_night() {
    let (shop, _staging) = begun(Sqlite, "mode = \"upsert\"\nkey = [\"number\"]");
    shop.write("in/f_20260302.csv", "id,berth\n1,N1\n");
    let run = shop.run("check");
    let said = format!("{}{}", run.out, run.err);
    assert!(
        run.code != Some(0) && said.contains("no column `number`") && said.contains("hypodoke.toml:10:7"),
        "{said}"
    );
}

#[rstest]
#[case::decimals("7", "7.25", &["1|7.00", "2|8.50"])]
#[case::text("7", "deep", &["1|7", "2|8.5"])]
#[case::floats("0.1", "deep", &["1|0.1", "2|8.5"])]
fn files_from_before_a_type_was_widened_come_back_in_the_wider_one(
    #[case] first: &str,
    #[case] second: &str,
    #[case] rows: &[&str],
    #[values(Sqlite, Postgres, Mysql, SqlitePostgres, PostgresMysql)] kind: Kind,
) {
    let (shop, staging) = begun(kind, &format!("{UPSERT}\n[feed.f.drift]\nother_kind = \"widen\""));
    shop.write("in/f_20260302.csv", format!("id,depth\n1,{first}\n2,8.5\n"));
    shop.ok("load");
    shop.write("in/f_20260303.csv", format!("id,depth\n1,{second}\n"));
    shop.ok("load");
    let run = shop.ok("retract f_20260303.csv --yes");
    assert!(!run.out.contains("somebody else"), "{}", run.out);
    let sql = match (kind, second) {
        (Sqlite, "7.25") => "SELECT id, printf('%.2f', depth) FROM f ORDER BY id",
        _ => "SELECT id, depth FROM f ORDER BY id",
    };
    assert_eq!(staging.query(&shop, sql), rows);
    let tally = shop.ok("tally --quick");
    assert!(tally.out.contains("all figures agree or are explained"), "{}", tally.out);
}

/// Values of a column that becomes text are spelled as in their files, whichever came first.
#[rstest]
fn values_of_a_column_that_becomes_text_do_not_depend_on_order(
    #[values(Sqlite, Postgres, Mysql, SqlitePostgres, PostgresMysql)] kind: Kind,
    #[values("append", "upsert")] mode: &str,
    #[values([0, 1, 2], [0, 2, 1], [1, 0, 2], [1, 2, 0], [2, 0, 1], [2, 1, 0])] order: [usize; 3],
) {
    let days = [
        "id,v,w,at,ok\n1,10,1.50,20260302,yes\n2,007.5,2,20260303,no\n",
        "id,v,w,at,ok\n3,\"50,5\",9.5e-05,2026-03-04,1\n",
        "id,v,w,at,ok\n4,sixty,0.123456789012345678,soon,maybe\n",
    ];
    let (shop, staging) = (workshop(), Staging::new(kind));
    let key = if mode == "upsert" { "mode = \"upsert\"\nkey = [\"id\"]" } else { "" };
    configure(&shop, &staging, &format!("{key}\n[feed.f.drift]\nother_kind = \"widen\""));
    for at in order {
        shop.write(&format!("in/f_2026040{}.csv", at + 1), days[at]);
        shop.ok("load");
    }
    let rows = staging.query(&shop, "SELECT id, v, at, ok FROM f ORDER BY id");
    assert_eq!(
        rows,
        ["1|10|20260302|yes", "2|007.5|20260303|no", "3|50,5|2026-03-04|1", "4|sixty|soon|maybe"]
    );
    assert_eq!(staging.query(&shop, "SELECT count(*) FROM hd_drift WHERE action = 'rereading'"), ["0"]);
    assert!(shop.ok("tally").out.contains("all figures agree"));
}

/// Where a source is gone, its values are spelled in the shortest way, and that is said.
#[rstest]
fn values_whose_source_is_gone_are_spelled_in_the_shortest_way(
    #[values(Sqlite, Postgres, Mysql, SqlitePostgres, PostgresMysql)] kind: Kind,
) {
    let (shop, staging) = (workshop(), Staging::new(kind));
    configure(&shop, &staging, "[feed.f.drift]\nother_kind = \"widen\"");
    shop.write("in/f_20260401.csv", "id,v\n1,10\n2,50.50\n3,7.25\n");
    shop.write("in/f_20260402.csv", "id,v\n4,1.00\n");
    shop.ok("load");
    std::fs::remove_file(shop.path("in/f_20260401.csv")).expect("removed");
    shop.write("in/f_20260403.csv", "id,v\n5,sixty\n");
    let run = shop.ok("load");
    assert!(run.out.contains("1 is not there as it was any more (`f_20260401.csv`)"), "{}", run.out);
    let rows = staging.query(&shop, "SELECT id, v FROM f ORDER BY id");
    assert_eq!(rows, ["1|10", "2|50.5", "3|7.25", "4|1.00", "5|sixty"]);
}

/// A batch that was broken off before the files were read again leaves that to the next one.
#[rstest]
fn files_that_are_still_to_be_read_again_are_read_by_the_next_batch(
    #[values(Sqlite, Postgres, Mysql, SqlitePostgres, PostgresMysql)] kind: Kind,
) {
    let (shop, staging) = (workshop(), Staging::new(kind));
    configure(&shop, &staging, "[feed.f.drift]\nother_kind = \"widen\"");
    shop.write("in/f_20260401.csv", "id,v\n1,10\n2,50.50\n");
    shop.ok("load");
    // Out of reach for a while, so that nothing can be read again.
    std::fs::rename(shop.path("in/f_20260401.csv"), shop.path("f_away.csv")).expect("moved");
    shop.write("in/f_20260402.csv", "id,v\n3,sixty\n");
    shop.ok("load");
    std::fs::rename(shop.path("f_away.csv"), shop.path("in/f_20260401.csv")).expect("moved");
    staging.run(&shop, "UPDATE hd_drift SET action = 'rereading' WHERE change = 'widened'");
    shop.write("in/f_20260403.csv", "id,v\n4,7\n");
    let run = shop.ok("load");
    assert!(run.out.contains("1 file loaded before was read again"), "{}", run.out);
    assert_eq!(staging.query(&shop, "SELECT v FROM f ORDER BY id"), ["10", "50.50", "sixty", "7"]);
    assert_eq!(staging.query(&shop, "SELECT count(*) FROM hd_drift WHERE action = 'rereading'"), ["0"]);
}
