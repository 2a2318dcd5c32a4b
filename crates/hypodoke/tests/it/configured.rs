//! Loading by a configuration.

use rstest::rstest;

use crate::workshop;

const CONFIG: &str = r#"
[staging]
url = "sqlite:harbour.db"

[place.quay]
path = "inbox"

[feed.movements]
place = "quay"
files = "movements_{day:%Y%m%d}*.csv"
table = "berth_movements"

[feed.movements.columns.Draught]
name = "draught_m"
type = "decimal(5,2)"
"#;

#[test]
fn what_is_new_is_loaded_and_what_nobody_wants_is_listed() {
    let shop = workshop();
    shop.write("hypodoke.toml", CONFIG);
    shop.write("inbox/movements_20260302.csv", "id,Draught\n1,5.3\n2,\"1,5\"\n");
    shop.write("inbox/notes.txt", "hello");
    let run = shop.attention("load");
    assert!(run.out.contains("quay/notes.txt: unmatched"), "{}", run.out);
    assert_eq!(shop.query("harbour.db", "SELECT * FROM berth_movements"), ["1|5.3|2026-03-02|1|2"]);
    assert_eq!(
        shop.query("harbour.db", "SELECT line, column_name, value, reason, raw FROM hd_rejects"),
        ["3|Draught|1,5|not a decimal(5,2)|2,\"1,5\""]
    );
    let types =
        shop.query("harbour.db", "SELECT name, type FROM pragma_table_info('berth_movements') LIMIT 3");
    assert_eq!(types, ["id|INTEGER", "draught_m|DECIMAL(5,2)", "day|DATE"]);
    let run = shop.ok("load");
    assert!(
        run.out.contains("nothing new: 0 files loaded, 1 file known already, 1 file unmatched"),
        "{}",
        run.out
    );
    shop.write("inbox/movements_20260303.csv", "id,Draught\n3,7.25\n");
    let run = shop.ok("load movements");
    assert!(run.out.contains("batch 2: 1 file loaded, 1 row"), "{}", run.out);
}

#[test]
fn the_configuration_may_stand_elsewhere_and_is_the_base_of_its_paths() {
    let shop = workshop();
    shop.write("etc/quay.toml", CONFIG);
    shop.write("etc/inbox/movements_20260302.csv", "id,Draught\n1,5.3\n");
    shop.ok("load --config etc/quay.toml");
    assert_eq!(shop.query("etc/harbour.db", "SELECT count(*) FROM berth_movements"), ["1"]);
}

#[test]
fn environment_variables_are_put_in() {
    let shop = workshop();
    shop.write("hypodoke.toml", CONFIG.replace("\"inbox\"", "\"${QUAY}\""));
    shop.write("in/movements_20260302.csv", "id,Draught\n1,5.3\n");
    let mut command = shop.command("load");
    command.env("QUAY", "in");
    assert_eq!(hypodoke_testkit::finish(command).code, Some(0));
    let run = shop.run("load");
    assert_eq!(run.code, Some(2));
    assert!(run.err.contains("hypodoke.toml:6:8: the environment has no `QUAY`"), "{}", run.err);
}

#[test]
fn a_table_of_somebody_elses_is_filled_as_it_is() {
    let shop = workshop();
    shop.write("hypodoke.toml", CONFIG.replace("berth_movements", "theirs"));
    let database = rusqlite::Connection::open(shop.path("harbour.db")).unwrap();
    database
        .execute_batch("CREATE TABLE theirs (nr INTEGER PRIMARY KEY, ID INTEGER UNIQUE, \"Draught M\" REAL, day DATE, note TEXT DEFAULT 'none')")
        .unwrap();
    shop.write("inbox/movements_20260302.csv", "id,Draught\n1,5.3\n1,6\n2,7\n");
    let run = shop.attention("load");
    assert!(run.out.contains("1 row rejected"), "{}", run.out);
    assert_eq!(
        shop.query("harbour.db", "SELECT * FROM theirs"),
        ["1|1|5.3|2026-03-02|none", "2|2|7|2026-03-02|none"]
    );
    let rejects = shop.query("harbour.db", "SELECT line, reason FROM hd_rejects");
    assert_eq!(rejects, ["3|the table refused it: UNIQUE constraint failed: theirs.ID"]);
}

#[rstest]
#[case("table", "tabel", "hypodoke.toml:11:1: [feed.movements] has no `tabel`", "did you mean `table`?")]
#[case("[staging]", "[stagging]", "hypodoke.toml:2:2: the file has no `stagging`", "did you mean `staging`?")]
#[case("\"quay\"", "\"key\"", "hypodoke.toml:9:9: there is no place `key`; there are quay", "")]
#[case("decimal(5,2)", "decimals", "hypodoke.toml:15:8: no type is called `decimals`", "decimal(p,s)")]
#[case("decimal(5,2)", "decimal(50,2)", "precision is 1 to 38", "")]
#[case("%Y%m%d", "%Y%Q", "`%Q`", "")]
#[case("sqlite:harbour.db", "harbour.db", "write sqlite:harbour.db", "")]
#[case("sqlite:harbour.db", "fax:harbour", "`fax:` is not a known kind of database", "")]
#[case("path = \"inbox\"", "", "[place.quay] needs `path`", "")]
#[case(
    "path = \"inbox\"",
    "path = 7",
    "hypodoke.toml:6:8: `path` in [place.quay] must be a text in quotes, not integer",
    ""
)]
#[case("[place.quay]", "[place.quay", "hypodoke.toml:5:", "")]
#[case(
    "table = \"berth_movements\"",
    "mode = \"appendix\"",
    "`mode` in [feed.movements] cannot be `appendix`",
    "did you mean `append`?"
)]
fn a_wrong_configuration_is_answered_with_place_and_remedy(
    #[case] right: &str,
    #[case] wrong: &str,
    #[case] message: &str,
    #[case] advice: &str,
) {
    let shop = workshop();
    shop.write("hypodoke.toml", CONFIG.replacen(right, wrong, 1));
    let run = shop.run("load");
    assert_eq!(run.code, Some(2), "{}", run.err);
    assert!(run.err.contains(message) && run.err.contains(advice), "{}", run.err);
}

#[rstest]
#[case("load movment", 2, "there is no feed `movment`; there are movements", "did you mean `movements`?")]
#[case("load a.csv", 2, "there is no feed `a.csv`", "say where with --into")]
#[case("load --table t", 2, "--table t goes with files", "--into")]
#[case("load --config no.toml", 2, "the configuration `no.toml` could not be read", "")]
fn wrong_usage_is_answered_with_a_remedy(
    #[case] arguments: &str,
    #[case] code: i32,
    #[case] message: &str,
    #[case] advice: &str,
) {
    let shop = workshop();
    shop.write("hypodoke.toml", CONFIG);
    shop.write("a.csv", "id\n1\n");
    let run = shop.run(arguments);
    assert_eq!(run.code, Some(code));
    assert!(run.err.contains(message) && run.err.contains(advice), "{}", run.err);
}

#[test]
fn a_place_that_is_not_there_is_unreachable() {
    let shop = workshop();
    shop.write("hypodoke.toml", CONFIG);
    let run = shop.run("load");
    assert_eq!(run.code, Some(4));
    assert!(run.err.contains("place `quay`: there is no"), "{}", run.err);
}

#[test]
fn names_may_stay_as_they_are() {
    let shop = workshop();
    shop.write("hypodoke.toml", CONFIG.replace("table =", "names = \"as-is\"\ntable ="));
    shop.write("inbox/movements_20260302.csv", "Movement No.,Draught,select\n1,5.3,x\n");
    shop.ok("load");
    assert_eq!(
        shop.query("harbour.db", "SELECT \"Movement No.\", draught_m, \"select\" FROM berth_movements"),
        ["1|5.3|x"]
    );
}

/// A place that keeps years is looked at as far back as it says, and what it is to ignore is never told.
#[test]
fn only_what_changed_of_late_is_looked_at_in_folders_and_on_servers() {
    let now = std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH).expect("a time").as_secs();
    let sshd = hypodoke_testkit::Sshd::start();
    let folder = sshd.path("out");
    std::fs::create_dir_all(folder.join("tmp")).expect("folders");
    for (name, days) in [
        ("gauge_1.csv", 1),
        ("gauge_2.csv", 9),
        ("old.txt", 9),
        ("gauge_1.csv.bak", 0),
        ("tmp/gauge_3.csv", 0),
    ] {
        std::fs::write(folder.join(name), format!("at\n{days}\n")).expect("a file");
        hypodoke_testkit::set_modified(&folder.join(name), now - days * 86_400 - 60);
    }
    let key = sshd.path("user_key");
    let login = format!("key_file = \"{}\"\nknown_hosts = \"known\"", key.display());
    for (path, login) in [(folder.display().to_string(), ""), (sshd.url(&folder), &login)] {
        let shop = workshop();
        shop.write("known", sshd.known_host());
        shop.write(
            "hypodoke.toml",
            format!(
                "[staging]\nurl = \"sqlite:h.db\"\n[place.in]\npath = \"{path}\"\n{login}\nmodified_within = \"3d\"\nignore = [\"*.bak\", \"tmp/**\"]\n[feed.gauge]\nplace = \"in\"\nfiles = \"**/gauge_*\"\n"
            ),
        );
        let run = shop.ok("load");
        assert!(
            run.out.contains("1 file loaded, 1 row") && !run.out.contains("unmatched"),
            "{path}: {}",
            run.out
        );
    }
}
