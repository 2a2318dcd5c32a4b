//! The morning after: the ledger says what wants a person, and the report shows it.

use hypodoke_testkit::{Workshop, set_modified};
use rstest::rstest;

use crate::staging::{Kind, Staging};
use crate::workshop;

const HEAD: &str = "at,level\n";

fn configured(staging: &Staging, more: &str) -> Workshop {
    let shop = workshop();
    std::fs::create_dir(shop.path("in")).expect("a folder");
    shop.write(
        "hypodoke.toml",
        format!(
            "[staging]\nurl = \"{}\"\n[place.quay]\npath = \"in\"\n[feed.gauge]\nplace = \"quay\"\nfiles = \"gauge_*.csv\"\ntable = \"gauge\"\n[feed.gauge.columns.level]\ntype = \"decimal(4,2)\"\n[feed.gauge.expect]\nmin_rows = 2\n[feed.tide]\nplace = \"quay\"\nfiles = \"tide_*.csv\"\ntable = \"tide\"\n{more}\n",
            staging.url()
        ),
    );
    shop
}

#[rstest]
#[case::sqlite(Kind::Sqlite)]
#[case::postgres(Kind::Postgres)]
#[case::mysql(Kind::Mysql)]
fn the_ledger_says_whether_anything_wants_a_person(#[case] kind: Kind) {
    let staging = Staging::new(kind);
    let shop = configured(&staging, "");
    shop.write("in/gauge_1.csv", format!("{HEAD}1,2.5\n2,2.6\n"));
    shop.write("in/tide_1.csv", format!("{HEAD}1,2.5\n"));
    shop.ok("load");
    let run = shop.ok("ledger --today");
    assert!(
        run.out.contains("gauge_1.csv") && run.out.contains("2 files, 3 rows in the tables"),
        "{}",
        run.out
    );
    // Rejects are shown, and want nobody by themselves.
    shop.write("in/gauge_2.csv", format!("{HEAD}1,2.5\n2,high\n3,2.7\n"));
    shop.attention("load");
    assert!(shop.ok("ledger --today").out.contains("1 row rejected"));
    let rejects = shop.ok("ledger --status rejects").out;
    assert!(rejects.contains("gauge_2.csv") && !rejects.contains("gauge_1.csv"), "{rejects}");
    shop.write("in/gauge_3.csv", format!("{HEAD}1,2.5\n"));
    assert_eq!(shop.run("load").code, Some(3));
    let run = shop.run("ledger --today");
    assert!(run.code == Some(3) && run.out.contains("1 file held"), "{}", run.out);
    let held = shop.ok("ledger --status held").out;
    assert!(held.contains("gauge_3.csv") && !held.contains("gauge_2.csv"), "{held}");
    let tide = shop.ok("ledger --since 1h --feed tide").out;
    assert!(tide.contains("tide_1.csv") && !tide.contains("gauge"), "{tide}");
    shop.write("in/tide_2.csv", b"\x1f\x8b\x08broken");
    assert_eq!(shop.run("load").code, Some(1));
    let run = shop.run("ledger --since 1h");
    assert!(run.code == Some(1) && run.out.contains("1 file failed"), "{}", run.out);
    // What is settled and mended wants nobody any more.
    shop.ok("settle gauge_3.csv --load-anyway");
    shop.write("in/tide_2.csv", format!("{HEAD}9,9.5\n"));
    shop.ok("load");
    let json = shop.json("ledger --today", 0);
    assert_eq!((&json["wants_a_person"], &json["held_before"]), (&false.into(), &0.into()));
    assert!(shop.ok("ledger --since 2000-01-01T06:00").out.contains("tide_2.csv"));
    assert!(shop.ok("ledger --since 2999-01-01").out.contains("no files"));
}

#[test]
fn what_was_held_before_is_not_forgotten() {
    let staging = Staging::new(Kind::Sqlite);
    let shop = configured(&staging, "");
    shop.write("in/gauge_1.csv", format!("{HEAD}1,2.5\n"));
    assert_eq!(shop.run("load").code, Some(3));
    let long_ago = "UPDATE hd_files SET began_at = '2026-01-02T00:00:00.000000Z', ended_at = '2026-01-02T00:00:00.000000Z'";
    staging.run(&shop, long_ago);
    let run = shop.run("ledger --today");
    assert!(run.code == Some(3) && run.out.contains("1 file still held from before"), "{}", run.out);
    assert!(!shop.ok("ledger --today --feed tide").out.contains("held"), "it is of another feed");
}

#[test]
fn late_feeds_are_told_from_those_that_came() {
    let staging = Staging::new(Kind::Sqlite);
    // Due a minute ago, whenever the test runs.
    let due = "[feed.gauge.schedule]\ndue = \"* * * * *\"\n[feed.tide.schedule]\ndue = \"0 0 1 1 *\"\n";
    let shop = configured(&staging, due);
    shop.write("in/tide_1.csv", format!("{HEAD}1,2.5\n"));
    shop.ok("load");
    let run = shop.run("ledger --late");
    assert!(run.code == Some(3) && run.out.contains("feed gauge: no file by "), "{}", run.out);
    assert!(run.out.contains("1 feed is late"), "{}", run.out);
    let json = shop.json("ledger --late", 3);
    assert_eq!((&json["late"][0]["feed"], &json["wants_a_person"]), (&"gauge".into(), &true.into()));
    assert_eq!(shop.ok("ledger --late --feed tide").out, "nothing is late\n");
    let run = shop.run("ledger --late --into sqlite:h.db");
    assert!(run.code == Some(2) && run.err.contains("is in the configuration"), "{}", run.err);
    for (arguments, words) in [("--since soon", "not a duration"), ("--feed gaug", "did you mean `gauge`?")] {
        let run = shop.run(&format!("ledger {arguments}"));
        assert!(run.code == Some(2) && run.err.contains(words), "{}", run.err);
    }
}

#[rstest]
#[case::sqlite(Kind::Sqlite)]
#[case::postgres(Kind::Postgres)]
#[case::mysql(Kind::Mysql)]
fn a_report_is_one_page_that_leads_to_every_file(#[case] kind: Kind) {
    let staging = Staging::new(kind);
    let shop = configured(&staging, "");
    for day in 1..9_u64 {
        let rows = if day == 6 { 3 } else { 40 + day % 3 };
        let (head, more) = if day == 8 { ("at,level,wind\n1,high,3\n", ",4") } else { (HEAD, "") };
        let lines: String = (0..rows).map(|row| format!("{row},2.5{more}\n")).collect();
        let file = shop.write(&format!("in/gauge_{day}.csv"), format!("{head}{lines}"));
        set_modified(&file, 1_772_000_000 + day * 86_400);
        shop.done("load");
    }
    shop.write("in/gauge_<b>9.csv", format!("{HEAD}1,2.5\n"));
    assert_eq!(shop.run("load").code, Some(3));
    let run = shop.ok("report -o wall.html");
    assert!(run.out.contains("wall.html: 2 feeds"), "{}", run.out);
    let page = std::fs::read_to_string(shop.path("wall.html")).expect("a page");
    let (charts, multiples) = (page.matches("<svg width").count(), page.matches("<svg viewBox").count());
    assert!(page.starts_with("<!DOCTYPE html>"));
    assert!(charts == 4 && multiples >= 2, "one feed has files: {charts} charts, {multiples} of columns");
    // It needs nothing but itself.
    for outside in ["http://", "https://", "<script", "src=", "@import", "url("] {
        let own = page.replace("http://www.w3.org/2000/svg", "");
        assert!(!own.contains(outside), "{outside}");
    }
    let files = staging.query(&shop, "SELECT file FROM hd_files");
    for file in files {
        assert!(page.contains(&format!("id=\"file-{file}\"")), "file {file}");
    }
    // Every number leads somewhere that is there.
    for link in page.split("href=\"#").skip(1).filter_map(|rest| rest.split('"').next()) {
        assert!(page.contains(&format!("id=\"{link}\"")), "#{link}");
    }
    assert!(page.contains("gauge_&lt;b&gt;9.csv") && !page.contains("<b>9"), "names are no markup");
    assert!(page.contains("hypodoke settle"), "what to do about what is held");
    assert!(page.matches("fill=\"#C2410C\"").count() >= 1, "the short file is odd");
    assert!(page.contains("new column `wind` (integer)"), "drift");
    // The two ways of writing are the same page, moments aside.
    assert!(shop.ok("report -o -").out.contains("<svg"));
    let json = shop.json("report -o wall.html --days 3", 0);
    assert_eq!(json["feeds"][0], "gauge");
    assert!(!shop.path("wall.html.part").exists());
    let run = shop.run("report -o nowhere/wall.html");
    assert!(run.code == Some(2) && run.err.contains("cannot be written"), "{}", run.err);
}
