//! Numbers as programs print them: floats, long decimals, and columns that go from one to the other.

use hypodoke_testkit::Workshop;
use rstest::rstest;

use crate::staging::Kind::{self, Mysql, Postgres, Sqlite};
use crate::staging::{Staging, configure};
use crate::workshop;

fn begun(kind: Kind) -> (Workshop, Staging) {
    let (shop, staging) = (workshop(), Staging::new(kind));
    configure(&shop, &staging, "");
    (shop, staging)
}

/// A day's file of ratios as programs print them.
fn ratios(day: u32) -> String {
    let value = |at: u32| f64::from(at * 7 + day) / f64::from(3 + at % 11);
    let rows: String = (1..40).map(|at| format!("{at},{}\n", value(at))).collect();
    format!("at,ratio\n{rows}")
}

#[rstest]
fn a_feed_of_floats_changes_its_table_but_once(#[values(Sqlite, Postgres, Mysql)] kind: Kind) {
    let (shop, staging) = begun(kind);
    for day in 10..30 {
        shop.write(&format!("in/f_202604{day}.csv"), ratios(day));
        shop.ok("load");
    }
    assert_eq!(staging.query(&shop, "SELECT count(*) FROM hd_drift"), ["0"]);
    let rows = staging.query(&shop, "SELECT count(*) FROM f WHERE ratio > 10 AND ratio < 1000");
    let wanted: usize =
        (10..30).map(|day| ratios(day).lines().skip(1).filter(|line| value_of(line) > 10.0).count()).sum();
    assert_eq!(rows, [wanted.to_string()]);
}

fn value_of(line: &str) -> f64 {
    line.split(',').nth(1).and_then(|value| value.parse().ok()).expect("a number")
}

/// Floats first, then digits that no float has, and the other way round: the same table.
#[rstest]
fn a_column_of_floats_becomes_one_of_decimals_and_loses_nothing(
    #[values(Sqlite, Postgres, Mysql)] kind: Kind,
    #[values(false, true)] is_reversed: bool,
) {
    let (shop, staging) = begun(kind);
    let mut days =
        ["v\n9.5e-05\n0.30000000000000004\n10.5\n", "v\n0.123456789012345678\n9.2\n", "v\n1234.5\n"];
    if is_reversed {
        days.reverse();
    }
    for (at, day) in days.iter().enumerate() {
        shop.write(&format!("in/f_2026030{}.csv", at + 1), day);
        shop.ok("load");
    }
    let text = match kind {
        Sqlite => "CASE typeof(v) WHEN 'text' THEN v ELSE printf('%.6f', v) END",
        Mysql => "CASE WHEN v <> round(v, 15) THEN CAST(v AS char) ELSE CAST(round(v, 6) AS char) END",
        _ => "CASE WHEN scale(trim_scale(v)) > 15 THEN v::text ELSE round(v, 6)::text END",
    };
    let rows = staging.query(&shop, &format!("SELECT {text} FROM f ORDER BY 1"));
    let long = ["0.123456789012345678", "0.300000000000000040"];
    assert_eq!(rows, ["0.000095", long[0], long[1], "10.500000", "1234.500000", "9.200000"]);
}

/// In SQLite a decimal is a number wherever a number holds it.
#[test]
fn decimals_sort_as_numbers() {
    let (shop, staging) = begun(Sqlite);
    shop.write("in/f_20260301.csv", "v\n10.5\n9.2\n12345678901234.56\n-3\n");
    shop.ok("load");
    let of = |sql: &str| staging.query(&shop, sql);
    assert_eq!(of("SELECT typeof(v), count(*) FROM f GROUP BY 1 ORDER BY 1"), ["real|3", "text|1"]);
    assert_eq!(of("SELECT v FROM f WHERE v > 9.5 AND typeof(v) = 'real'"), ["10.5"]);
    assert_eq!(of("SELECT v FROM f ORDER BY v LIMIT 2"), ["-3", "9.2"]);
    let check = shop.run("check");
    assert!(check.out.contains("`f.v` has values of more than 15 digits"), "{}", check.out);
    let survey = shop.ok("survey in/f_20260301.csv");
    assert!(survey.out.contains("1 value has more than 15 digits"), "{}", survey.out);
}

/// A table whose long decimals are all text, as they were in earlier versions, gets numbers with the next load.
#[test]
fn decimals_of_an_older_table_become_numbers() {
    let (shop, staging) = begun(Sqlite);
    shop.write("in/f_20260301.csv", "v\n10.50\n12345678901234.56\n");
    shop.ok("load");
    staging.run(
        &shop,
        "ALTER TABLE f RENAME TO g;
         CREATE TABLE f (v DECIMAL_TEXT(16,2), day DATE, hd_file INTEGER NOT NULL, hd_line INTEGER NOT NULL);
         INSERT INTO f SELECT CASE typeof(v) WHEN 'text' THEN v ELSE printf('%.2f', v) END, day, hd_file, hd_line FROM g;
         DROP TABLE g",
    );
    shop.write("in/f_20260302.csv", "v\n7.25\n");
    shop.ok("load");
    let rows = staging.query(&shop, "SELECT v, typeof(v) FROM f ORDER BY hd_file, hd_line");
    assert_eq!(rows, ["10.5|real", "12345678901234.56|text", "7.25|real"]);
    assert!(shop.ok("tally").out.contains("all figures agree"));
}

/// A table of somebody else's, whose column makes a float of every text of digits, takes no more digits than a
/// float keeps.
#[test]
fn a_table_of_others_takes_no_decimal_that_it_would_round() {
    let (shop, staging) = begun(Sqlite);
    staging.run(&shop, "CREATE TABLE f (v DECIMAL(20,2), day DATE)");
    shop.write("in/f_20260301.csv", "v\n10.50\n12345678901234567.89\n");
    let run = shop.attention("load");
    assert!(run.out.contains("1 row rejected"), "{}", run.out);
    assert_eq!(staging.query(&shop, "SELECT v FROM f"), ["10.5"]);
    let reasons = staging.query(&shop, "SELECT reason FROM hd_rejects");
    assert!(reasons[0].contains("more than the 15 digits that the column keeps"), "{reasons:?}");
}
