//! The demo gives the figures kept beside its generator, every time.

use rstest::rstest;

use crate::staging::{Kind, Staging};
use crate::workshop;

#[test]
fn the_demo_gives_the_expected_figures() {
    let shop = workshop();
    let run = shop.ok("demo");
    for part in [
        "All figures are those the generator expects",
        "nothing new: 0 files loaded",
        "What to try next",
        "same content as",
    ] {
        assert!(run.out.contains(part), "{part} in {}", run.out);
    }
    let rows = shop.query(
        "quillane/quillane.db",
        "SELECT sum(rows_loaded), sum(rows_rejected) FROM hd_files WHERE replaced_by IS NULL",
    );
    assert_eq!(rows, ["3061|1"]);
    assert_eq!(
        shop.query(
            "quillane/quillane.db",
            "SELECT column_name, value, reason FROM hd_rejects WHERE column_name IS NOT NULL"
        ),
        ["draught_m|aground?|not a decimal(4,2)"]
    );
}

#[test]
fn the_demo_is_the_same_every_time() {
    let shop = workshop();
    let first = shop.json("demo a", 0);
    let second = shop.json("demo b", 0);
    let again = shop.json("demo a", 0);
    for other in [&second, &again] {
        for at in 0..3 {
            assert_eq!(first["receipts"][at]["totals"], other["receipts"][at]["totals"]);
        }
    }
    let file = "inbox/south/berths_2026-03-04.csv";
    assert_eq!(
        std::fs::read(shop.path("a").join(file)).unwrap(),
        std::fs::read(shop.path("b").join(file)).unwrap()
    );
    assert_eq!(first["as_expected"], true);
}

#[test]
fn the_demo_does_not_touch_what_is_not_its_own() {
    let shop = workshop();
    shop.write("mine/letter.txt", "dear all");
    let run = shop.run("demo mine");
    assert_eq!(run.code, Some(2));
    assert!(run.err.contains("holds other files"), "{}", run.err);
    assert!(!shop.path("mine/hypodoke.toml").exists());
}

/// The files of the demo's week, all at once, come to the same on a server as in a file.
#[rstest]
fn the_demos_files_come_to_the_same_everywhere(#[values(Kind::Postgres, Kind::Mysql)] kind: Kind) {
    let shop = workshop();
    shop.ok("demo week");
    let config = std::fs::read_to_string(shop.path("week/hypodoke.toml")).expect("a configuration");
    let loaded = |staging: &Staging| {
        shop.write("week/hypodoke.toml", config.replace("sqlite:quillane.db", &staging.url()));
        let run = shop.run("load --json --config week/hypodoke.toml");
        assert!(matches!(run.code, Some(0 | 3)), "{}{}", run.out, run.err);
        let document: serde_json::Value = serde_json::from_str(&run.out).expect("a receipt");
        let tables: Vec<Vec<String>> =
            ["north_movements", "south_movements", "east_movements", "pilotage_manoeuvres", "tariff_storage"]
                .into_iter()
                .filter(|table| staging.has_table(&shop, table))
                .map(|table| {
                    staging.query(&shop, &format!("SELECT '{table}', count(*), sum(hd_line) FROM {table}"))
                })
                .collect();
        assert!(shop.run("tally --config week/hypodoke.toml").out.contains("all figures agree"));
        (document["totals"].clone(), tables)
    };
    let in_a_file = loaded(&Staging::Sqlite(shop.path("week/other.db").display().to_string()));
    assert!(in_a_file.1.len() >= 4, "{in_a_file:?}");
    assert_eq!(loaded(&Staging::new(kind)), in_a_file);
}
