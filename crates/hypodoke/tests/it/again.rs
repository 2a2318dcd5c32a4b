//! Files loaded again, taken out again, put away; what arrived held against what is known.

use hypodoke_testkit::{Workshop, set_modified};
use rstest::rstest;

use crate::staging::Kind::{self, Mysql, Postgres, PostgresMysql, Sqlite, SqlitePostgres};
use crate::staging::{Staging, configure};
use crate::survey::zip;
use crate::workshop;

fn begun(kind: Kind, feed: &str) -> (Workshop, Staging) {
    let (shop, staging) = (workshop(), Staging::new(kind));
    configure(&shop, &staging, feed);
    shop.write("in/f_20260302.csv", "id,berth\n1,N1\n2,N2\n");
    shop.write("in/f_20260303.csv", "id,berth\n2,N9\n3,N3\n");
    shop.ok("load");
    (shop, staging)
}

#[rstest]
#[case::append("append", "1|N1,2|N2,2|N9,3|N3", "2|N9,3|N3")]
#[case::upsert("upsert", "1|N1,2|N9,3|N3", "2|N9,3|N3")]
fn rows_are_taken_out_and_come_back(
    #[case] mode: &str,
    #[case] before: &str,
    #[case] after: &str,
    #[values(Sqlite, Postgres, Mysql, SqlitePostgres, PostgresMysql)] kind: Kind,
) {
    let (shop, staging) = begun(kind, &format!("mode = \"{mode}\"\nkey = [\"id\"]"));
    let rows = || staging.query(&shop, "SELECT id, berth FROM f ORDER BY id, berth").join(",");
    assert_eq!(rows(), before);
    let asked = shop.run("retract f_20260302.csv");
    assert!(
        asked.code == Some(2) && asked.err.contains("Take their rows out?") && rows() == before,
        "{}",
        asked.err
    );
    shop.ok("retract f_20260302.csv --yes --why mistake");
    assert_eq!(rows(), after);
    assert!(shop.ok("load").out.contains("nothing new"), "what was taken out stays out");
    let story = staging.query(&shop, "SELECT outcome FROM hd_files ORDER BY file");
    assert_eq!(story, ["loaded", "loaded", "retracted"]);
    assert!(shop.ok("tally").out.contains("agree"));
    shop.ok("replay f_20260302.csv --yes");
    assert_eq!(staging.query(&shop, "SELECT count(*) FROM f WHERE id = 1"), ["1"]);
    assert!(shop.ok("load").out.contains("nothing new"));
}

#[rstest]
fn history_is_taken_back_as_far_as_it_went(
    #[values(Sqlite, Postgres, Mysql, SqlitePostgres, PostgresMysql)] kind: Kind,
) {
    let (shop, staging) = begun(kind, "mode = \"history\"\nkey = [\"id\"]");
    let open = "SELECT berth FROM f WHERE id = 2 AND hd_valid_to IS NULL";
    assert_eq!(staging.query(&shop, open), ["N9"]);
    shop.ok("retract f_20260303.csv --yes");
    assert_eq!(staging.query(&shop, open), ["N2"]);
}

#[rstest]
fn files_of_a_window_are_loaded_again(
    #[values(Sqlite, Postgres, Mysql, SqlitePostgres, PostgresMysql)] kind: Kind,
) {
    let (shop, staging) = begun(kind, "");
    staging.run(&shop, "UPDATE f SET berth = 'spoilt'");
    set_modified(&shop.path("in/f_20260303.csv"), 1_772_500_000);
    shop.ok("load");
    let run = shop.ok("replay --modified 2026-03-01..2026-03-05 --yes");
    assert!(run.out.contains("f_20260303.csv") && !run.out.contains("f_20260302.csv"), "{}", run.out);
    assert_eq!(staging.query(&shop, "SELECT count(*) FROM f WHERE berth = 'spoilt'"), ["2"]);
    let out = shop.ok("replay f --yes").out;
    assert!(out.contains("loaded again in the place of its rows") && !out.contains("changed since"), "{out}");
    assert_eq!(staging.query(&shop, "SELECT count(*) FROM f WHERE berth = 'spoilt'"), ["0"]);
    assert_eq!(staging.query(&shop, "SELECT count(*) FROM f"), ["4"]);
}

#[rstest]
#[case("replay", "say what to load again")]
#[case("replay nothing.csv --yes", "the ledger knows no loaded file, batch, feed or table `nothing.csv`")]
#[case("replay f --since soon", "not a duration")]
#[case("retract 99 --yes", "the ledger knows no loaded file, batch, feed or table `99`")]
#[case("load --modified 2026-03-04..2026-03-02", "it ends before it begins")]
fn what_is_not_meant_is_told(#[case] command: &str, #[case] words: &str) {
    let (shop, _) = begun(Sqlite, "");
    let run = shop.run(command);
    assert!(run.code == Some(2) && run.err.contains(words), "{}", run.err);
}

#[test]
fn only_files_of_a_window_are_loaded() {
    let (shop, staging) = (workshop(), Staging::new(Sqlite));
    configure(&shop, &staging, "");
    set_modified(&shop.write("in/f_20260302.csv", "id\n1\n"), 1_000_000);
    shop.write("in/f_20260303.csv", "id\n2\n");
    shop.ok("load --since 1d");
    assert_eq!(staging.query(&shop, "SELECT id FROM f"), ["2"]);
    shop.ok("load");
    assert_eq!(staging.query(&shop, "SELECT count(*) FROM f"), ["2"]);
}

#[rstest]
#[case::replace("replace", 0, "9")]
#[case::append("append", 0, "1,9")]
#[case::hold("hold", 3, "1")]
#[case::ignore("ignore", 0, "1")]
fn a_changed_file_goes_by_the_feed(#[case] word: &str, #[case] code: i32, #[case] ids: &str) {
    let (shop, staging) = (workshop(), Staging::new(Sqlite));
    configure(&shop, &staging, &format!("changed_file = \"{word}\""));
    shop.write("in/f_20260302.csv", "id\n1\n");
    shop.ok("load");
    shop.write("in/f_20260302.csv", "id\n9\n\n");
    let run = shop.run("load");
    assert_eq!(run.code, Some(code), "{}{}", run.out, run.err);
    assert_eq!(staging.query(&shop, "SELECT id FROM f ORDER BY id").join(","), ids);
    assert_eq!(shop.run("load").code, Some(code));
    assert_eq!(staging.query(&shop, "SELECT id FROM f ORDER BY id").join(","), ids);
}

#[rstest]
#[case::skip("skip", "1")]
#[case::load("load", "2")]
fn the_same_content_under_another_name_goes_by_the_feed(#[case] word: &str, #[case] rows: &str) {
    let (shop, staging) = (workshop(), Staging::new(Sqlite));
    configure(&shop, &staging, &format!("same_content = \"{word}\""));
    shop.write("in/f_20260302.csv", "id\n1\n");
    shop.ok("load");
    shop.write("in/f_20260303.csv", "id\n1\n");
    shop.ok("load");
    assert_eq!(staging.query(&shop, "SELECT count(*) FROM f"), [rows]);
    assert!(shop.ok("load").out.contains("nothing new"));
}

#[test]
fn files_are_put_away_where_the_place_says_so() {
    let (shop, staging) = (workshop(), Staging::new(Sqlite));
    configure(&shop, &staging, "empty_file = \"fail\"");
    let text = std::fs::read_to_string(shop.path("hypodoke.toml")).expect("text");
    shop.write(
        "hypodoke.toml",
        text.replace("path = \"in\"", "path = \"in\"\nafter = \"move\"\nfailed = \"bad\""),
    );
    shop.write("in/f_20260302.csv", "id\n1\n");
    shop.write("in/f_20260303.csv", [0u8; 0]);
    let run = shop.run("load");
    assert_eq!(run.code, Some(1), "an empty file fails: {}", run.out);
    let found = |folder: &str| -> Vec<String> {
        let days = std::fs::read_dir(shop.path(folder)).expect("a folder").flatten();
        let files = days.flat_map(|day| std::fs::read_dir(day.path()).expect("a day").flatten());
        files.map(|file| file.file_name().to_string_lossy().into_owned()).collect()
    };
    assert_eq!(found("in/done"), ["f_20260302.csv"]);
    assert_eq!(found("in/bad"), ["f_20260303.csv"]);
    let again = shop.ok("load");
    assert!(again.out.contains("nothing new") && !again.out.contains("unmatched"), "{}", again.out);
    assert_eq!(staging.query(&shop, "SELECT count(*) FROM f"), ["1"]);
}

/// What was put away is found where it is now: each version by the time it has kept.
#[rstest]
fn what_was_put_away_is_loaded_again_from_there(
    #[values(Sqlite, Postgres, Mysql, SqlitePostgres, PostgresMysql)] kind: Kind,
) {
    let (shop, staging) = (workshop(), Staging::new(kind));
    configure(&shop, &staging, "changed_file = \"append\"");
    let text = std::fs::read_to_string(shop.path("hypodoke.toml")).expect("text");
    let text = text.replace("files = \"f_", "files = \"**/f_");
    shop.write("hypodoke.toml", text.replace("path = \"in\"", "path = \"in\"\nafter = \"move\""));
    for (time, ids) in [(1_772_452_800, "1\n2\n"), (1_772_456_400, "3\n4\n5\n")] {
        let path = shop.write("in/mole/f_20260302.csv", format!("id\n{ids}"));
        set_modified(&path, time);
        shop.ok("load");
    }
    zip(&shop, &["in/f_20260303.zip", "f_20260303_a.csv=id|6|", "f_20260303_b.csv=id|7|"]);
    shop.ok("load");
    let day = std::fs::read_dir(shop.path("in/done")).expect("a folder").flatten().next().expect("a day");
    assert!(day.path().join("mole/f_20260302-2.csv").exists() && day.path().join("f_20260303.zip").exists());

    let before = staging.query(&shop, "SELECT id, day, hd_line FROM f ORDER BY id");
    staging.run(&shop, "DELETE FROM f WHERE id <> 2");
    let run = shop.ok("replay f --yes");
    assert!(run.out.contains("4 files loaded, 7 rows") && run.err.is_empty(), "{}{}", run.out, run.err);
    assert_eq!(staging.query(&shop, "SELECT id, day, hd_line FROM f ORDER BY id"), before);
    let tally = shop.ok("tally");
    assert!(tally.out.contains("7 in the tables; all figures agree"), "{}", tally.out);
    assert!(!tally.out.contains("not there any more"), "{}", tally.out);
    assert!(shop.ok("load").out.contains("nothing new"));

    // What has come under its path since is another file, and new.
    shop.write("in/mole/f_20260302.csv", "id\n8\n");
    let run = shop.ok("replay f --yes");
    assert!(run.out.contains("4 files loaded, 7 rows"), "{}", run.out);
    assert_eq!(staging.query(&shop, "SELECT id, day, hd_line FROM f ORDER BY id"), before);
    assert!(shop.ok("load").out.contains("1 file loaded, 1 row"));
}

/// A delivery loaded again does not push a newer one out, and takes nothing but its own rows; without the
/// newer one it is what the table holds.
#[rstest]
fn a_delivery_that_is_loaded_again_stands_where_it_stood(
    #[values(Sqlite, Postgres, Mysql, SqlitePostgres, PostgresMysql)] kind: Kind,
) {
    let (shop, staging) = (workshop(), Staging::new(kind));
    configure(&shop, &staging, "mode = \"replace\"\ndelivery = \"day\"");
    shop.write("in/f_20260302.csv", "id\n1\n");
    shop.ok("load");
    shop.write("in/f_20260303_a.csv", "id\n2\n");
    shop.write("in/f_20260303_b.csv", "id\n3\n");
    shop.ok("load");
    let ids = || staging.query(&shop, "SELECT id FROM f ORDER BY id").join(",");
    assert_eq!(ids(), "2,3");
    let older = shop.ok("replay f_20260302.csv --yes");
    assert!(older.out.contains("superseded"), "{}", older.out);
    assert_eq!(ids(), "2,3");
    shop.ok("replay f_20260303_a.csv --yes");
    assert_eq!(ids(), "2,3");
    shop.ok("retract f_20260303_b.csv --yes");
    assert_eq!(ids(), "2");
    shop.ok("retract f_20260303_a.csv --yes");
    assert_eq!(ids(), "1");
}

/// What was added beside an earlier version can be taken out with it.
#[test]
fn all_versions_of_a_file_are_taken_out() {
    let (shop, staging) = (workshop(), Staging::new(Sqlite));
    configure(&shop, &staging, "changed_file = \"append\"");
    shop.write("in/f_20260302.csv", "id\n1\n");
    shop.ok("load");
    shop.write("in/f_20260302.csv", "id\n1\n2\n");
    shop.ok("load");
    assert_eq!(staging.query(&shop, "SELECT count(*) FROM f"), ["3"]);
    shop.ok("retract f_20260302.csv --yes");
    assert_eq!(staging.query(&shop, "SELECT count(*) FROM f"), ["0"]);
}

/// A folder that two places look into is one folder: its files go into a table once.
#[test]
fn two_places_that_overlap_load_a_file_once() {
    let shop = workshop();
    shop.write("inbox/north/f_1.csv", "id\n1\n2\n");
    shop.write("inbox/f_2.csv", "id\n3\n");
    let places = "[place.all]\npath = \"inbox\"\n[place.north]\npath = \"inbox/north\"\n";
    let feed =
        |name: &str| format!("[feed.{name}]\nplace = \"{name}\"\nfiles = \"**/f_*.csv\"\ntable = \"f\"\n");
    let text = format!("[staging]\nurl = \"sqlite:h.db\"\n{places}{}{}", feed("all"), feed("north"));
    shop.write("hypodoke.toml", text);
    let run = shop.ok("load");
    assert!(run.out.contains("same content as north/f_1.csv"), "{}", run.out);
    assert_eq!(shop.query("h.db", "SELECT id FROM f ORDER BY id"), ["1", "2", "3"]);
    assert!(shop.ok("load").out.contains("nothing new"));
}

/// A clock that was wrong for a while, at the sender's, changes nothing about what is known.
#[test]
fn files_from_the_future_and_from_long_ago_are_loaded_once() {
    let shop = workshop();
    let feed = "[staging]\nurl = \"sqlite:h.db\"\n[place.q]\npath = \"in\"\n[feed.f]\nplace = \"q\"\nfiles = \"*.csv\"\n";
    shop.write("hypodoke.toml", feed);
    for (name, seconds) in [("in/a.csv", 4_102_444_800), ("in/b.csv", 1), ("in/c.csv", 1_772_000_000)] {
        set_modified(&shop.write(name, format!("id\n{seconds}\n")), seconds);
    }
    assert!(shop.ok("load").out.contains("3 files loaded"));
    assert!(shop.ok("load").out.contains("nothing new"));
    // Put right: another time, and the same content.
    set_modified(&shop.path("in/a.csv"), 1_772_000_000);
    shop.ok("load");
    assert_eq!(shop.query("h.db", "SELECT count(*) FROM f"), ["3"]);
}
