//! Large files for tables that are not there yet: loaded while all of their values are looked at.

use hypodoke_testkit::{Workshop, end_at};
use rstest::rstest;

use crate::staging::Kind::{self, Mysql, Postgres, Sqlite};
use crate::staging::Staging;
use crate::workshop;

/// So many rows are more than what a load waits for before it ventures.
const ROWS: usize = 420_000;

/// A large file whose last row is `last`.
fn movements(last: &str) -> String {
    let mut text = String::from("id,berth,cargo_t,arrived_on,tugs,pilot,remark\n");
    for id in 0..ROWS {
        let (berth, cargo, day) = (id % 9, id % 7_000, id % 12 + 1);
        text.push_str(&format!("{id},N{berth},{cargo}.5,{day:02}/03/2026,{},yes,at low water\n", id % 4));
    }
    text + last + "\n"
}

/// The ledger's layout, and what is in the last rows.
fn outcome(shop: &Workshop, staging: &Staging) -> (Vec<String>, Vec<String>) {
    let layout = staging.query(shop, "SELECT layout FROM hd_layouts ORDER BY version DESC LIMIT 1");
    let last = staging.query(shop, "SELECT * FROM m WHERE hd_line >= 420000 ORDER BY hd_line");
    // A load that was undone may have taken a number.
    let own = |row: &String| row.rsplitn(3, '|').last().unwrap_or_default().to_owned();
    let last = last.iter().map(own).collect();
    (layout, last)
}

#[rstest]
#[case::as_its_beginning("420000,N1,1.5,01/03/2026,1,no,the last")]
#[case::null_at_last("420000,,,,,,")]
#[case::text_where_numbers_were("A-1,N1,1.5,01/03/2026,1,no,the last")]
#[case::more_digits("420000,N1,123456.25,01/03/2026,1,no,the last")]
#[case::month_first("420000,N1,1.5,03/25/2026,1,no,the last")]
#[case::day_first("420000,N1,1.5,25/03/2026,1,no,the last")]
#[case::other_words("420000,N1,1.5,01/03/2026,1,y,the last")]
#[case::leading_zero("420000,N1,1.5,01/03/2026,01,no,the last")]
#[case::a_field_too_many("420000,N1,1.5,01/03/2026,1,no,the last,one more")]
fn what_is_ventured_comes_to_what_all_values_say(
    #[case] last: &str,
    #[values(Sqlite, Postgres, Mysql)] kind: Kind,
) {
    let shop = workshop();
    let text = movements(last);
    assert!(text.len() > 17 << 20, "large enough to be ventured");
    // The second is small, being compressed, and so is looked at before it is loaded.
    shop.write("in/m.csv", &text);
    let packed = std::process::Command::new("gzip").arg("-1k").arg(shop.path("in/m.csv")).status();
    assert!(packed.is_ok_and(|status| status.success()));
    let found: Vec<_> = ["in/m.csv", "in/m.csv.gz"]
        .into_iter()
        .map(|file| {
            let staging = match kind {
                Sqlite => Staging::Sqlite(format!("{}.db", file.len())),
                _ => Staging::new(kind),
            };
            let run = shop.done(&format!("load {file} --into {} --table m", staging.url()));
            let counts = staging.query(&shop, "SELECT count(*), count(DISTINCT hd_line) FROM m");
            let rejects = staging.query(&shop, "SELECT line, reason FROM hd_rejects");
            let figures = "SELECT outcome, rows_read, rows_loaded, rows_rejected FROM hd_files";
            let ledger = staging.query(&shop, figures);
            assert!(run.out.contains("1 file loaded"), "{}", run.out);
            (outcome(&shop, &staging), counts, rejects, ledger)
        })
        .collect();
    assert_eq!(found[0], found[1], "the same as if it were looked at first");
    assert!(found[0].3[0].starts_with("loaded|420001|"), "{:?}", found[0].3);
}

#[rstest]
fn a_ventured_file_that_is_not_as_expected_leaves_nothing(#[values(Sqlite, Postgres, Mysql)] kind: Kind) {
    let (shop, staging) = (workshop(), Staging::new(kind));
    shop.write("in/m.csv", movements("420000,N1,1.5,01/03/2026,1,no,the last"));
    let text = format!(
        "[staging]\nurl = \"{}\"\n[place.quay]\npath = \"in\"\n[feed.m]\nplace = \"quay\"\nfiles = \"*.csv\"\n[feed.m.expect]\nmax_rows = 1000\n",
        staging.url()
    );
    shop.write("hypodoke.toml", text);
    let run = shop.run("load");
    assert!(
        run.code == Some(3) && run.out.contains("420,001 rows, at most 1,000 expected"),
        "{}{}",
        run.out,
        run.err
    );
    assert_eq!(staging.query(&shop, "SELECT count(*) FROM hd_layouts"), ["0"]);
    shop.ok("settle m.csv --load-anyway");
    shop.ok("load");
    assert_eq!(staging.query(&shop, "SELECT count(*) FROM m"), ["420001"]);
}

/// Ended at points of a speculative load, nothing of it is left, and the next one loads each row once.
#[rstest]
fn ended_while_it_speculates_it_is_as_if_nothing_was(#[values(Sqlite, Postgres, Mysql)] kind: Kind) {
    let (shop, staging) = (workshop(), Staging::new(kind));
    shop.write("in/m.csv", movements("A-1,N1,1.5,01/03/2026,1,no,the last"));
    let load = format!("load in/m.csv --into {} --table m -q", staging.url());
    for point in ["load.begun", "load.tables", "load.sent:1", "load.sent:5", "load.merged", "commit.before"] {
        assert!(end_at(shop.command(&load), point), "{point}");
        assert_eq!(staging.rows_if_any(&shop, "m"), 0, "ended at {point}");
    }
    shop.ok(&load);
    let found = staging.query(&shop, "SELECT count(*), count(DISTINCT id), count(DISTINCT hd_file) FROM m");
    assert_eq!(found, ["420001|420001|1"]);
    assert_eq!(staging.query(&shop, "SELECT count(*) FROM hd_files WHERE outcome = 'loaded'"), ["1"]);
}
