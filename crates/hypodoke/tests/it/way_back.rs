//! The way back: whatever happens to a table, the command that is advised makes it what its files say.

use hypodoke_testkit::{Workshop, end_at};
use rstest::rstest;

use crate::staging::Kind::{self, Mysql, Postgres, PostgresMysql, Sqlite, SqlitePostgres};
use crate::staging::{Staging, configure};
use crate::workshop;

const UPSERT: &str = "mode = \"upsert\"\nkey = [\"id\"]";
const HISTORY: &str = "mode = \"history\"\nkey = [\"id\"]";

/// Three days of a feed: a key that stays, one that changes, and one that is new.
const DAYS: [(&str, &str); 3] = [
    ("in/f_20260302.csv", "id,berth\n1,N1\n2,N2\n3,N3\n"),
    ("in/f_20260303.csv", "id,berth\n2,S2\n4,S4\n"),
    ("in/f_20260304.csv", "id,berth\n3,T3\n4,T4\n"),
];

/// What happens to a table.
#[derive(Clone, Copy, Debug)]
enum Loss {
    Dropped,
    Emptied,
    OneRow,
    OlderCopy,
}

/// The table's rows without what leads back to files: those loaded again have other numbers.
fn rows(shop: &Workshop, staging: &Staging, feed: &str) -> Vec<String> {
    let history = feed.contains("history");
    let moments = if history { ", hd_valid_from, hd_valid_to" } else { "" };
    staging.query(shop, &format!("SELECT id, berth{moments} FROM f ORDER BY id, berth{moments}"))
}

/// A feed whose first days are loaded, and a copy of the table as it was after the first.
fn begun(kind: Kind, feed: &str) -> (Workshop, Staging) {
    let (shop, staging) = (workshop(), Staging::new(kind));
    configure(&shop, &staging, feed);
    for (at, (name, text)) in DAYS.iter().enumerate() {
        shop.write(name, *text);
        shop.ok("load");
        if at == 0 {
            staging.run(&shop, "CREATE TABLE older AS SELECT * FROM f");
        }
    }
    (shop, staging)
}

fn lose(shop: &Workshop, staging: &Staging, loss: Loss) {
    match loss {
        Loss::Dropped => staging.run(shop, "DROP TABLE f"),
        Loss::Emptied => staging.run(shop, "DELETE FROM f"),
        Loss::OneRow => staging.run(shop, "DELETE FROM f WHERE id = 3"),
        Loss::OlderCopy => {
            staging.run(shop, "DELETE FROM f");
            staging.run(shop, "INSERT INTO f SELECT * FROM older");
        }
    }
}

#[rstest]
#[case::append("")]
#[case::replace("mode = \"replace\"")]
#[case::upsert(UPSERT)]
#[case::insert_new("mode = \"insert-new\"\nkey = [\"id\"]")]
#[case::history(HISTORY)]
fn what_a_table_has_lost_is_put_back(
    #[case] feed: &str,
    #[values(Loss::Dropped, Loss::Emptied, Loss::OneRow, Loss::OlderCopy)] loss: Loss,
    #[values(Sqlite, Postgres, Mysql, SqlitePostgres, PostgresMysql)] kind: Kind,
) {
    let (shop, staging) = begun(kind, feed);
    let before = rows(&shop, &staging, feed);
    lose(&shop, &staging, loss);
    let tally = shop.run("tally");
    assert!(tally.code == Some(1) && tally.out.contains("→ hypodoke replay f puts back"), "{}", tally.out);
    let replay = shop.run("replay f --yes");
    assert_eq!(replay.code, Some(0), "{}{}", replay.out, replay.err);
    assert_eq!(rows(&shop, &staging, feed), before, "{}", replay.out);
    assert!(!replay.out.contains("somebody else"), "{}", replay.out);
    let tally = shop.ok("tally").out;
    assert!(tally.contains("all figures agree"), "{tally}");
    assert!(shop.ok("load").out.contains("nothing new"));
    // What comes after it is loaded as if nothing had happened.
    shop.write("in/f_20260305.csv", "id,berth\n1,U1\n4,U4\n5,U5\n");
    shop.ok("load");
    let (other, elsewhere) = begun(kind, feed);
    other.write("in/f_20260305.csv", "id,berth\n1,U1\n4,U4\n5,U5\n");
    other.ok("load");
    assert_eq!(values(&shop, &staging, feed), values(&other, &elsewhere, feed));
}

/// The table's values alone: moments are those of the files, which are written at other times.
fn values(shop: &Workshop, staging: &Staging, feed: &str) -> Vec<String> {
    let current = if feed.contains("history") { " WHERE hd_valid_to IS NULL" } else { "" };
    staging.query(shop, &format!("SELECT id, berth FROM f{current} ORDER BY id, berth"))
}

/// Only the files that are named are loaded again, and the rows of their keys are put right, whichever file they
/// come from.
#[rstest]
#[case::upsert(UPSERT)]
#[case::history(HISTORY)]
fn keys_of_one_file_are_put_right(
    #[case] feed: &str,
    #[values(Sqlite, Postgres, Mysql, SqlitePostgres, PostgresMysql)] kind: Kind,
) {
    let (shop, staging) = begun(kind, feed);
    let before = rows(&shop, &staging, feed);
    staging.run(&shop, "DELETE FROM f WHERE id IN (1, 4)");
    let replay = shop.ok("replay f_20260303.csv --yes");
    let there: Vec<String> = before.iter().filter(|row| !row.starts_with("1|")).cloned().collect();
    assert_eq!(rows(&shop, &staging, feed), there, "{}", replay.out);
    assert!(replay.out.contains("missing in the table"), "{}", replay.out);
    assert_eq!(shop.run("tally").code, Some(1), "a key is still missing");
    shop.ok("replay f --yes");
    assert_eq!(rows(&shop, &staging, feed), before);
    shop.ok("tally");
}

#[rstest]
#[case::upsert(UPSERT)]
#[case::insert_new("mode = \"insert-new\"\nkey = [\"id\"]")]
#[case::history(HISTORY)]
fn rows_that_somebody_else_has_changed_are_named_and_replaced_only_where_that_is_asked_for(
    #[case] feed: &str,
    #[values(Sqlite, Postgres, Mysql, SqlitePostgres, PostgresMysql)] kind: Kind,
) {
    let (shop, staging) = begun(kind, feed);
    let before = rows(&shop, &staging, feed);
    let current = if feed == HISTORY { " AND hd_valid_to IS NULL" } else { "" };
    staging.run(&shop, &format!("UPDATE f SET berth = 'by hand' WHERE id = 3{current}"));
    staging.run(&shop, "DELETE FROM f WHERE id = 1");
    let changed: Vec<String> =
        rows(&shop, &staging, feed).into_iter().filter(|row| row.starts_with("3|")).collect();
    let replay = shop.run("replay f --yes");
    assert_eq!(replay.code, Some(3), "{}{}", replay.out, replay.err);
    assert!(replay.out.contains("left as it is: id 3"), "{}", replay.out);
    assert!(replay.out.contains("--overwrite"), "{}", replay.out);
    let found = rows(&shop, &staging, feed);
    assert_eq!(found.iter().filter(|row| row.starts_with("3|")).cloned().collect::<Vec<_>>(), changed);
    let others =
        |rows: &[String]| rows.iter().filter(|row| !row.starts_with("3|")).cloned().collect::<Vec<_>>();
    assert_eq!(others(&found), others(&before), "{}", replay.out);
    let replay = shop.ok("replay f --yes --overwrite");
    assert!(replay.out.contains("1 key that somebody else had changed was overwritten"), "{}", replay.out);
    assert_eq!(rows(&shop, &staging, feed), before);
    let tally = shop.ok("tally").out;
    assert!(tally.contains("all figures agree"), "{tally}");
}

/// A row that nobody's file has said of is left where its key is restored.
#[rstest]
fn a_row_that_somebody_has_added_is_left(
    #[values(Sqlite, Postgres, Mysql, SqlitePostgres, PostgresMysql)] kind: Kind,
) {
    let (shop, staging) = begun(kind, UPSERT);
    let before = rows(&shop, &staging, UPSERT);
    staging.run(&shop, "DELETE FROM f");
    staging.run(&shop, "INSERT INTO f (id, berth, hd_file, hd_line) VALUES (2, 'by hand', 99, 1)");
    let replay = shop.run("replay f --yes");
    assert_eq!(replay.code, Some(3), "{}{}", replay.out, replay.err);
    assert!(replay.out.contains("left as it is: id 2"), "{}", replay.out);
    let found = rows(&shop, &staging, UPSERT);
    let expected: Vec<String> = before
        .iter()
        .map(|row| if row.starts_with("2|") { "2|by hand".to_owned() } else { row.clone() })
        .collect();
    assert_eq!(found, expected);
}

/// Records come back with what is nested in them.
#[rstest]
fn nested_lists_come_back_with_their_records(
    #[values(Loss::Dropped, Loss::Emptied, Loss::OneRow)] loss: Loss,
    #[values(Sqlite, Postgres, Mysql, SqlitePostgres, PostgresMysql)] kind: Kind,
) {
    let (shop, staging) = (workshop(), Staging::new(kind));
    configure(&shop, &staging, UPSERT);
    let text = std::fs::read_to_string(shop.path("hypodoke.toml")).expect("the configuration");
    shop.write("hypodoke.toml", text.replace("*.csv", "*.jsonl").replace(".csv\"", ".jsonl\""));
    let days = [
        (
            "in/f_20260302.jsonl",
            r#"{"id":1,"tugs":[{"tug":"Ola"},{"tug":"Per"}]}"#,
            r#"{"id":3,"tugs":[{"tug":"Per"}]}"#,
        ),
        ("in/f_20260303.jsonl", r#"{"id":3,"tugs":[{"tug":"Kai"},{"tug":"Liv"}]}"#, r#"{"id":2,"tugs":[]}"#),
    ];
    for (name, first, second) in days {
        shop.write(name, format!("{first}\n{second}\n"));
        shop.ok("load");
    }
    let all = |shop: &Workshop| {
        let main = staging.query(shop, "SELECT id FROM f ORDER BY id");
        let parts = "SELECT f.id, t.tug FROM f JOIN f_tugs t ON t.hd_file = f.hd_file AND t.hd_line = f.hd_line ORDER BY 1, 2";
        (main, staging.query(shop, parts), staging.query(shop, "SELECT count(*) FROM f_tugs"))
    };
    let before = all(&shop);
    assert_eq!(before.1, ["1|Ola", "1|Per", "3|Kai", "3|Liv"]);
    match loss {
        Loss::Dropped => {
            staging.run(&shop, "DROP TABLE f");
            staging.run(&shop, "DROP TABLE f_tugs");
        }
        Loss::Emptied => staging.run(&shop, "DELETE FROM f_tugs"),
        _ => {
            staging.run(&shop, "DELETE FROM f WHERE id = 3");
            staging.run(&shop, "DELETE FROM f_tugs WHERE tug = 'Ola'");
        }
    }
    let tally = shop.run("tally");
    assert!(tally.code == Some(1) && tally.out.contains("→ hypodoke replay f puts back"), "{}", tally.out);
    let replay = shop.run("replay f --yes");
    assert_eq!(replay.code, Some(0), "{}{}", replay.out, replay.err);
    assert_eq!(all(&shop), before, "{}", replay.out);
    shop.ok("tally");
    // A part that somebody has changed is told by its record's key.
    staging.run(&shop, "UPDATE f_tugs SET tug = 'by hand' WHERE tug = 'Kai'");
    let replay = shop.run("replay f --yes");
    assert_eq!(replay.code, Some(3), "{}{}", replay.out, replay.err);
    assert!(replay.out.contains("left as it is: id 3"), "{}", replay.out);
    shop.ok("replay f --yes --overwrite");
    assert_eq!(all(&shop), before);
}

/// The ways on which a file is loaded again.
#[derive(Clone, Copy, Debug)]
enum Way {
    Replayed,
    Dropped,
    Emptied,
    Retracted,
    Respelled,
}

/// A feed of which a person has corrected two rejects, and left one.
fn corrected(kind: Kind, feed: &str) -> (Workshop, Staging) {
    let (shop, staging) = (workshop(), Staging::new(kind));
    configure(
        &shop,
        &staging,
        &format!("{feed}\n[feed.f.columns.fee]\ntype = \"integer\"\n[feed.f.drift]\nother_kind = \"widen\""),
    );
    shop.write("in/f_20260302.csv", "id,fee,tugs\n1,10,1\n2,many,2\n3,few,3\n4,lots,4\n");
    shop.attention("load");
    shop.ok("rejects f --export bad.csv");
    let text = std::fs::read_to_string(shop.path("bad.csv")).expect("the export");
    shop.write("bad.csv", text.replace(",many,2", ",20,2").replace(",few,3", ",30,+7"));
    assert_eq!(shop.run("rejects --take bad.csv").code, Some(3));
    (shop, staging)
}

#[rstest]
#[case::append("")]
#[case::replace("mode = \"replace\"")]
#[case::upsert(UPSERT)]
#[case::insert_new("mode = \"insert-new\"\nkey = [\"id\"]")]
#[case::history(HISTORY)]
fn what_a_person_has_corrected_comes_back(
    #[case] feed: &str,
    #[values(Way::Replayed, Way::Dropped, Way::Emptied, Way::Retracted, Way::Respelled)] way: Way,
    #[values(Sqlite, Postgres, Mysql, SqlitePostgres, PostgresMysql)] kind: Kind,
) {
    let (shop, staging) = corrected(kind, feed);
    let all = "SELECT id, fee, tugs FROM f WHERE day = '2026-03-02' ORDER BY id";
    assert_eq!(staging.query(&shop, all), ["1|10|1", "2|20|2", "3|30|7"]);
    let account = "SELECT rows_loaded, rows_rejected FROM hd_files WHERE outcome = 'loaded' AND replaced_by IS NULL AND path LIKE '%0302%'";
    assert_eq!(staging.query(&shop, account), ["3|1"]);
    match way {
        Way::Replayed => {}
        Way::Dropped => staging.run(&shop, "DROP TABLE f"),
        Way::Emptied => staging.run(&shop, "DELETE FROM f"),
        Way::Retracted => {
            shop.ok("retract f_20260302.csv --yes");
            assert_eq!(staging.query(&shop, all), [""; 0]);
        }
        Way::Respelled => {
            shop.write("in/f_20260303.csv", "id,fee,tugs\n9,90,two\n");
            shop.run("load");
            if feed.contains("replace") {
                // The newer delivery takes the place of the first, which comes back without it.
                assert_eq!(staging.query(&shop, all), [""; 0]);
                shop.ok("retract f_20260303.csv --yes");
            }
        }
    }
    let expected = match way {
        // As they were written by whoever wrote them.
        Way::Respelled => ["1|10|1", "2|20|2", "3|30|+7"],
        _ => ["1|10|1", "2|20|2", "3|30|7"],
    };
    if !matches!(way, Way::Respelled) {
        let replay = shop.run("replay f_20260302.csv --yes");
        assert_eq!(replay.code, Some(3), "a reject is open: {}{}", replay.out, replay.err);
        assert!(replay.out.contains("rows that were corrected before stay corrected"), "{}", replay.out);
        assert!(replay.out.contains("2 of these rows are corrected"), "{}", replay.out);
    }
    assert_eq!(staging.query(&shop, all), expected);
    assert_eq!(staging.query(&shop, account), ["3|1"]);
    assert_eq!(staging.query(&shop, "SELECT count(*) FROM hd_corrections c JOIN hd_rejects r ON r.reject = c.reject WHERE r.mended_at IS NULL AND c.refused IS NULL AND r.file = (SELECT max(file) FROM hd_files WHERE path LIKE '%0302%')"), ["0"]);
    let tally = shop.ok("tally").out;
    assert!(tally.contains("all figures agree"), "{tally}");
    assert!(shop.ok("load").out.contains("nothing new"));
}

/// Another content is another file: its corrections are open again, which is told.
#[rstest]
fn a_new_version_of_a_file_opens_its_corrections(
    #[values(Sqlite, Postgres, Mysql, SqlitePostgres, PostgresMysql)] kind: Kind,
) {
    let (shop, staging) = corrected(kind, UPSERT);
    shop.write("in/f_20260302.csv", "id,fee,tugs\n1,11,1\n2,many,2\n3,few,3\n4,lots,4\n");
    let run = shop.attention("load");
    assert!(run.out.contains("2 corrected rows of the version before are gone with it"), "{}", run.out);
    assert_eq!(staging.query(&shop, "SELECT id, fee FROM f ORDER BY id"), ["1|11"]);
    assert_eq!(staging.query(&shop, "SELECT rows_rejected FROM hd_files WHERE replaced_by IS NULL"), ["3"]);
}

/// A correction that does not fit its table any more is told, and its reject is open.
#[rstest]
fn a_correction_that_does_not_fit_any_more_is_told(
    #[values(Sqlite, Postgres, Mysql, SqlitePostgres, PostgresMysql)] kind: Kind,
) {
    let (shop, staging) = corrected(kind, UPSERT);
    let text = std::fs::read_to_string(shop.path("hypodoke.toml")).expect("the configuration");
    shop.write(
        "hypodoke.toml",
        text.replace("[feed.f.columns.fee]", "[feed.f.columns.fee]\nbetween = [25, 100]"),
    );
    let run = shop.run("replay f_20260302.csv --yes");
    assert_eq!(run.code, Some(3), "{}{}", run.out, run.err);
    assert!(run.out.contains("line 3: the correction no longer fits"), "{}", run.out);
    assert_eq!(staging.query(&shop, "SELECT id, fee FROM f WHERE id > 1 ORDER BY id"), ["3|30"]);
    let again = shop.run("load");
    assert!(again.out.contains("nothing new") && !again.out.contains("correction"), "{}", again.out);
}

/// A load that ends before its corrections are applied: the next run applies them.
#[rstest]
#[case::append("")]
#[case::upsert(UPSERT)]
fn corrections_are_applied_by_the_next_run_where_one_ends_before_it(
    #[case] feed: &str,
    #[values(Sqlite, Postgres, Mysql, SqlitePostgres, PostgresMysql)] kind: Kind,
) {
    let points = {
        let (shop, _) = corrected(kind, feed);
        shop.points(shop.command("replay f_20260302.csv --yes"))
    };
    assert!(points.len() > 10, "{points:?}");
    for (point, times) in points {
        for time in [1, times] {
            let (shop, staging) = corrected(kind, feed);
            end_at(shop.command("replay f_20260302.csv --yes"), &format!("{point}:{time}"));
            shop.run("load");
            let rows = staging.query(&shop, "SELECT id, fee, tugs FROM f ORDER BY id");
            assert_eq!(rows, ["1|10|1", "2|20|2", "3|30|7"], "ended at {point}, pass {time}");
            if time == times {
                break;
            }
        }
    }
}

/// Corrections that cannot be applied cost their file: the other feeds are loaded, and it is told once.
#[rstest]
fn corrections_that_cannot_be_applied_are_in_nobodys_way(
    #[values(Sqlite, Postgres, Mysql, SqlitePostgres, PostgresMysql)] kind: Kind,
    #[values("UPDATE hd_corrections SET row_values = 'not JSON'", "SELECT 1")] damage: &str,
) {
    let (twin, _) = corrected(kind, UPSERT);
    let points = twin.points(twin.command("replay f_20260302.csv --yes"));
    let point =
        ["group.commit.after", "apart.done", "commit.after"].into_iter().find(|p| points.contains_key(*p));
    let (shop, staging) = corrected(kind, UPSERT);
    // The file is loaded again, and the run ends before its corrections are applied.
    let point = format!("{}:1", point.expect("a point after the commit"));
    assert!(end_at(shop.command("replay f_20260302.csv --yes"), &point), "it ends at {point}");
    let open = "SELECT count(*) FROM hd_corrections c JOIN hd_rejects r ON r.reject = c.reject WHERE r.mended_at IS NULL";
    assert_eq!(staging.query(&shop, open), ["2"]);
    staging.run(&shop, damage);
    let text = std::fs::read_to_string(shop.path("hypodoke.toml")).expect("the configuration");
    let other = "[feed.g]\nplace = \"quay\"\nfiles = \"g*.csv\"\ntable = \"g\"\n";
    let key = if damage == "SELECT 1" { "key = [\"nowhere\"]" } else { "key = [\"id\"]" };
    shop.write("hypodoke.toml", text.replace("key = [\"id\"]", key) + other);
    shop.write("in/g_1.csv", "id\n1\n");
    let run = shop.run("load");
    assert_eq!(run.code, Some(3), "{}{}", run.out, run.err);
    assert!(run.out.contains("1 file loaded, 1 row"), "{}", run.out);
    assert!(run.out.contains("line 3: the correction no longer fits"), "{}", run.out);
    assert_eq!(staging.query(&shop, "SELECT count(*) FROM g"), ["1"]);
    assert!(!shop.run("load").out.contains("correction"), "it is told once");
    assert!(shop.run("rejects f").out.contains("3 rows rejected"), "they are open");
}

/// A key that the table has lost was changed by nobody: what a retracted file had replaced comes back.
#[rstest]
#[case::flat("csv", "id,berth\n1,N1\n2,N2\n", "id,berth\n2,S2\n", &["2|N2"])]
#[case::nested(
    "jsonl",
    "{\"id\":1,\"tugs\":[{\"tug\":\"Ola\"}]}\n{\"id\":2,\"tugs\":[{\"tug\":\"Per\"}]}\n",
    "{\"id\":2,\"tugs\":[{\"tug\":\"Kai\"}]}\n",
    &["2|Per"]
)]
fn what_a_retracted_file_had_replaced_comes_back_into_an_emptied_table(
    #[case] ending: &str,
    #[case] first: &str,
    #[case] second: &str,
    #[case] expected: &[&str],
    #[values(Sqlite, Postgres, Mysql, SqlitePostgres, PostgresMysql)] kind: Kind,
) {
    let (shop, staging) = (workshop(), Staging::new(kind));
    configure(&shop, &staging, UPSERT);
    let text = std::fs::read_to_string(shop.path("hypodoke.toml")).expect("the configuration");
    shop.write("hypodoke.toml", text.replace("*.csv", &format!("*.{ending}")));
    for (day, text) in [(2, first), (3, second)] {
        shop.write(&format!("in/f_2026030{day}.{ending}"), text);
        shop.ok("load");
    }
    let rows = match ending {
        "csv" => "SELECT id, berth FROM f",
        _ => "SELECT f.id, t.tug FROM f JOIN f_tugs t ON t.hd_file = f.hd_file AND t.hd_line = f.hd_line",
    };
    staging.run(&shop, "DELETE FROM f");
    if ending != "csv" {
        staging.run(&shop, "DELETE FROM f_tugs");
    }
    let run = shop.ok(&format!("retract f_20260303.{ending} --yes"));
    assert_eq!(staging.query(&shop, rows), expected, "{}", run.out);
    assert!(!run.out.contains("somebody else"), "{}", run.out);
}

/// Rows that somebody has deleted are told by the next load, in every mode, until they are put back.
#[rstest]
#[case::append("")]
#[case::replace("mode = \"replace\"")]
#[case::upsert(UPSERT)]
#[case::insert_new("mode = \"insert-new\"\nkey = [\"id\"]")]
#[case::history(HISTORY)]
#[case::marked("mode = \"upsert\"\nkey = [\"id\"]\nvanished = \"mark\"")]
fn a_load_tells_that_a_table_lacks_rows(
    #[case] feed: &str,
    #[values(Sqlite, Postgres, Mysql, PostgresMysql)] kind: Kind,
) {
    let (shop, staging) = begun(kind, feed);
    let words = "the table `f` holds ";
    let all = shop.run("load");
    assert!(!all.out.contains(words), "{}", all.out);
    staging.run(&shop, "DELETE FROM f WHERE id = 4");
    for command in ["load", "check"] {
        let run = shop.run(command);
        let all = format!("{}{}", run.out, run.err);
        assert!(
            all.contains(words) && all.contains("hypodoke replay f brings them back"),
            "{command}: {all}"
        );
    }
    shop.ok("replay f --yes");
    let run = shop.ok("load");
    assert!(!run.out.contains(words), "{}", run.out);
}

/// Files that were corrected, retracted, or came late leave nothing to be told.
#[rstest]
#[case::append("")]
#[case::replace("mode = \"replace\"")]
#[case::upsert(UPSERT)]
#[case::insert_new("mode = \"insert-new\"\nkey = [\"id\"]")]
#[case::history(HISTORY)]
#[case::closed("mode = \"history\"\nkey = [\"id\"]\nvanished = \"close\"")]
#[case::deleted("mode = \"upsert\"\nkey = [\"id\"]\nvanished = \"delete\"")]
fn files_that_change_leave_no_rows_missing(
    #[case] feed: &str,
    #[values(Sqlite, Postgres, Mysql)] kind: Kind,
) {
    let (shop, staging) = begun(kind, feed);
    let quiet = |step: &str| {
        let run = shop.run("load");
        assert!(!run.out.contains("the table `f` holds"), "after {step}: {}", run.out);
    };
    shop.write("in/f_20260303.csv", "id,berth\n2,S9\n5,S5\n");
    shop.ok("load");
    quiet("a corrected file");
    shop.write("in/f_20260301.csv", "id,berth\n1,M1\n6,M6\n");
    shop.ok("load");
    quiet("a late file");
    for file in ["f_20260302.csv", "f_20260304.csv", "f_20260301.csv"] {
        shop.ok(&format!("retract {file} --yes"));
        quiet(&format!("retracting {file}"));
    }
    shop.ok("replay f_20260302.csv --yes");
    quiet("a replay");
    drop(staging);
}

/// The ledger's counts of such tables include more than their keys: `load` must not report rows as missing.
#[rstest]
#[case::lists_with_keys(&format!("{UPSERT}\n[feed.f.keys]\nlegs = [\"leg\"]"))]
#[case::several_versions_in_a_file(&format!("{HISTORY}\nvalid_from = \"since\""))]
#[case::lists("mode = \"replace\"")]
#[case::lists_that_are_added("")]
fn rows_that_are_no_keys_are_not_missed(#[case] feed: &str, #[values(Sqlite, Postgres, Mysql)] kind: Kind) {
    let (shop, staging) = (workshop(), Staging::new(kind));
    configure(&shop, &staging, feed);
    let config = std::fs::read_to_string(shop.path("hypodoke.toml")).expect("text");
    shop.write("hypodoke.toml", config.replace("*.csv", "*.jsonl"));
    let legs = if feed.contains("history") { "" } else { ",\"legs\":[{\"leg\":1},{\"leg\":2}]" };
    for day in [2, 3] {
        let record = |since: u32| {
            format!("{{\"id\":1,\"since\":\"2026-03-{since:02}\",\"berth\":\"N{since}\"{legs}}}\n")
        };
        let records = if feed.contains("history") { record(day) + &record(day + 10) } else { record(day) };
        shop.write(&format!("in/f_2026030{day}.jsonl"), records);
        shop.ok("load");
    }
    assert!(!shop.ok("load").out.contains("the table `f` holds"));
}

/// An older copy has rows of files that were corrected or retracted since: they are told, and go with a replay.
#[rstest]
#[case::append("")]
#[case::upsert(UPSERT)]
#[case::insert_new("mode = \"insert-new\"\nkey = [\"id\"]")]
#[case::history(HISTORY)]
#[case::marked("mode = \"upsert\"\nkey = [\"id\"]\nvanished = \"mark\"")]
fn rows_of_files_that_do_not_count_any_more_go_with_a_replay(
    #[case] feed: &str,
    #[values(Sqlite, Postgres, Mysql, PostgresMysql)] kind: Kind,
) {
    let (shop, staging) = begun(kind, feed);
    staging.run(&shop, "DROP TABLE older; CREATE TABLE older AS SELECT * FROM f");
    shop.write("in/f_20260303.csv", "id,berth\n2,S9\n5,S5\n");
    shop.ok("load");
    shop.ok("retract f_20260304.csv --yes");
    std::fs::remove_file(shop.path("in/f_20260304.csv")).expect("removed");
    let before = rows(&shop, &staging, feed);
    staging.run(&shop, "DELETE FROM f; INSERT INTO f SELECT * FROM older");
    let tally = shop.run("tally");
    let words = "of files that were replaced or retracted are in the table f";
    assert!(tally.code == Some(1) && tally.out.contains(words), "{}", tally.out);
    assert!(
        tally.out.contains("and deletes those of files that were replaced or retracted"),
        "{}",
        tally.out
    );
    let has_key = feed.contains("key");
    let replay =
        |options: &str| shop.run(&format!("replay f_20260302.csv f_20260303.csv --yes {options}")).code;
    let ended = replay("");
    if has_key {
        // Such a row may be one that somebody else has changed: it stays, and is told.
        assert!(shop.run("tally").out.contains(words));
        assert_eq!(replay("--overwrite"), Some(0));
    } else {
        assert_eq!(ended, Some(0));
    }
    assert_eq!(rows(&shop, &staging, feed), before);
    assert!(shop.ok("tally").out.contains("all figures agree or are explained"));
}

/// So are rows of lists.
#[rstest]
fn rows_of_lists_of_files_that_do_not_count_any_more_go_with_a_replay(
    #[values("", UPSERT)] feed: &str,
    #[values(Sqlite, Postgres, Mysql)] kind: Kind,
) {
    let (shop, staging) = (workshop(), Staging::new(kind));
    configure(&shop, &staging, feed);
    let config = std::fs::read_to_string(shop.path("hypodoke.toml")).expect("text");
    shop.write("hypodoke.toml", config.replace("*.csv", "*.jsonl"));
    shop.write("in/f_20260302.jsonl", "{\"id\":1,\"legs\":[{\"q\":1},{\"q\":2}]}\n");
    shop.write("in/f_20260303.jsonl", "{\"id\":2,\"legs\":[{\"q\":3}]}\n");
    shop.ok("load");
    staging
        .run(&shop, "CREATE TABLE older AS SELECT * FROM f; CREATE TABLE older_legs AS SELECT * FROM f_legs");
    shop.write("in/f_20260302.jsonl", "{\"id\":1,\"legs\":[{\"q\":9}]}\n");
    shop.ok("load");
    staging.run(&shop, "DELETE FROM f; DELETE FROM f_legs");
    staging.run(&shop, "INSERT INTO f SELECT * FROM older; INSERT INTO f_legs SELECT * FROM older_legs");
    let tally = shop.run("tally");
    assert!(tally.out.contains("replaced or retracted are in the table f_legs"), "{}", tally.out);
    let replay = shop.run("replay f --yes --overwrite");
    // With a key they go with their record.
    let is_told = replay.out.contains("f_legs: 2 rows of files") || feed == UPSERT;
    assert!(replay.code == Some(0) && is_told, "{}", replay.out);
    assert_eq!(staging.query(&shop, "SELECT q FROM f_legs ORDER BY q"), ["3", "9"]);
    assert_eq!(staging.query(&shop, "SELECT id FROM f ORDER BY id"), ["1", "2"]);
    assert!(shop.ok("tally").out.contains("all figures agree or are explained"));
}

/// A row that a person has changed stays, also where its file was corrected since.
#[rstest]
#[case::upsert(UPSERT)]
#[case::history(HISTORY)]
fn a_changed_row_of_a_corrected_file_stays_until_it_is_overwritten(
    #[case] feed: &str,
    #[values(Sqlite, Postgres, Mysql)] kind: Kind,
) {
    let (shop, staging) = begun(kind, feed);
    staging.run(&shop, "UPDATE f SET berth = 'by hand' WHERE id = 2 AND berth = 'S2'");
    shop.write("in/f_20260303.csv", "id,berth\n2,S9\n4,S4\n");
    shop.run("load");
    let by_hand = || staging.query(&shop, "SELECT count(*) FROM f WHERE berth = 'by hand'");
    assert_eq!(by_hand(), ["1"]);
    assert_eq!(shop.run("replay f --yes").code, Some(3));
    assert_eq!(by_hand(), ["1"]);
    assert_eq!(shop.run("replay f --yes --overwrite").code, Some(0));
    assert_eq!(by_hand(), ["0"]);
    assert!(shop.ok("tally").out.contains("all figures agree or are explained"));
}
