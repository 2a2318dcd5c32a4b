//! What a file leaves open: values that fit a table and are spelled wider, and numbers and dates
//! that may be read in several ways.

use hypodoke_testkit::Workshop;
use rstest::rstest;

use crate::staging::Kind::{self, Mysql, Postgres, Sqlite};
use crate::staging::{Staging, configure};
use crate::workshop;

/// How two files come: one after the other in either order, or both at once.
#[derive(Clone, Copy, Debug)]
enum Coming {
    InOrder,
    TurnedRound,
    Together,
}

use Coming::{InOrder, Together, TurnedRound};

/// A feed of two files that came so.
fn come(kind: Kind, coming: Coming, first: &str, second: &str) -> (Workshop, Staging) {
    let (shop, staging) = (workshop(), Staging::new(kind));
    configure(&shop, &staging, "[feed.f.drift]\nother_kind = \"widen\"");
    let write = |name: &str, text: &str| {
        shop.write(&format!("in/f_{name}.csv"), text);
    };
    match coming {
        InOrder => {
            write("20260302", first);
            shop.ok("load");
            write("20260303", second);
        }
        TurnedRound => {
            write("20260303", second);
            shop.ok("load");
            write("20260302", first);
        }
        Together => {
            write("20260302", first);
            write("20260303", second);
        }
    }
    shop.ok("load");
    (shop, staging)
}

/// How a column is declared; in MySQL in PostgreSQL's words.
fn type_of(kind: Kind, shop: &Workshop, staging: &Staging, column: &str) -> String {
    let found = staging.type_of(shop, "f", column);
    match (kind, found.as_str()) {
        (Mysql, "longtext") => "text".to_owned(),
        (Mysql, "bigint(20)") => "bigint".to_owned(),
        (Mysql, "double") => "double precision".to_owned(),
        (Mysql, "datetime(6)") => "timestamp without time zone".to_owned(),
        (Mysql, other) => other.replace("decimal", "numeric"),
        _ => found,
    }
}

#[rstest]
#[case::decimals_without_a_part("5\n7", "3.00", "decimal(3,2)", "numeric(3,2)")]
#[case::finer_zeros("5.25", "3.000", "decimal(4,3)", "numeric(4,3)")]
#[case::truth_in_digits("yes\nno", "1\n0", "text", "text")]
#[case::truth_in_two_pairs("yes\nno", "true\nn", "text", "text")]
#[case::json_and_a_number("{}", "7", "text", "text")]
#[case::floats_of_many_digits("1e3", "12345678901234\n0.12345", "real", "double precision")]
fn a_value_that_fits_and_is_spelled_wider_widens_the_column(
    #[case] first: &str,
    #[case] second: &str,
    #[case] sqlite: &str,
    #[case] postgres: &str,
    #[values(InOrder, TurnedRound, Together)] coming: Coming,
    #[values(Sqlite, Postgres, Mysql)] kind: Kind,
) {
    let file = |values: &str| {
        let rows: String = values.lines().map(|value| format!("a;{value}\n")).collect();
        format!("berth;fee\n{rows}")
    };
    let (shop, staging) = come(kind, coming, &file(first), &file(second));
    let expected = if matches!(kind, Sqlite) { sqlite } else { postgres };
    assert_eq!(type_of(kind, &shop, &staging, "fee"), expected);
    let rows = (first.lines().count() + second.lines().count()).to_string();
    assert_eq!(staging.query(&shop, "SELECT count(*) FROM f"), [rows]);
}

#[rstest]
#[case::thousands("1.000,50", "3.000", "SELECT CAST(fee AS integer) FROM f WHERE berth = 'b'", "3000")]
#[case::decimals("1,000.50", "3,000", "SELECT CAST(fee AS integer) FROM f WHERE berth = 'b'", "3000")]
#[case::month_first(
    "04/25/2026",
    "03/04/2026",
    "SELECT CAST(fee AS text) FROM f WHERE berth = 'b'",
    "2026-03-04"
)]
#[case::day_first(
    "25/04/2026",
    "03/04/2026",
    "SELECT CAST(fee AS text) FROM f WHERE berth = 'b'",
    "2026-04-03"
)]
fn what_one_file_leaves_open_the_others_of_the_feed_tell(
    #[case] clear: &str,
    #[case] open: &str,
    #[case] sql: &str,
    #[case] value: &str,
    #[values(InOrder, Together)] coming: Coming,
    #[values(false, true)] is_surprising: bool,
    #[values(Sqlite, Postgres, Mysql)] kind: Kind,
) {
    // With a column that is new the file is looked at, without one it is cast as it is read.
    let (head, tail) = if is_surprising { (";agent", ";Tarn") } else { ("", "") };
    let first = format!("berth;fee\na;{clear}\n");
    let second = format!("berth;fee{head}\nb;{open}{tail}\n");
    let (shop, staging) = come(kind, coming, &first, &second);
    assert_eq!(staging.query(&shop, sql), [value]);
    let document = shop.json("preview f", 0);
    let shown = document["tables"][0]["rows"][0]["values"][1].as_str().expect("a value").to_owned();
    assert_eq!(shown.split('.').next(), Some(value), "the preview of the newest file");
}

#[test]
fn a_preview_of_a_feed_makes_no_database() {
    let (shop, staging) = (workshop(), Staging::new(Sqlite));
    configure(&shop, &staging, "");
    shop.write("in/f_20260302.csv", "berth;fee\nb;3.000\n");
    assert_eq!(shop.json("preview f", 0)["tables"][0]["rows"][0]["values"][1], "3.000");
    assert!(!shop.path("h.db").exists());
}

#[rstest]
fn a_file_that_is_written_anew_is_not_read_as_it_always_was(#[values(Sqlite, Postgres, Mysql)] kind: Kind) {
    let first = "berth;fee;draught\na;1.000,50;7,5\n";
    let second = "berth;fee;draught\nb;3.000;6.25\n";
    let (shop, staging) = come(kind, InOrder, first, second);
    assert_eq!(staging.query(&shop, "SELECT CAST(fee AS integer) FROM f WHERE berth = 'b'"), ["3"]);
    let noted = staging.query(&shop, "SELECT column_name FROM hd_drift WHERE change = 'format' ORDER BY 1");
    assert_eq!(noted, ["draught", "fee"]);
}

#[rstest]
#[case::dates(
    "03/04/2026",
    "04/25/2026",
    "SELECT CAST(fee AS text) FROM f WHERE berth = 'a'",
    "2026-04-03",
    "2026-03-04"
)]
#[case::marks(
    "1.234",
    "1.234,50",
    "SELECT CAST(1000 * fee AS integer) FROM f WHERE berth = 'a'",
    "1234",
    "1234000"
)]
fn a_guess_that_turns_out_wrong_is_said_and_put_right_by_a_replay(
    #[case] open: &str,
    #[case] clear: &str,
    #[case] sql: &str,
    #[case] guessed: &str,
    #[case] right: &str,
    #[values(Sqlite, Postgres, Mysql)] kind: Kind,
) {
    let (shop, staging) = (workshop(), Staging::new(kind));
    configure(&shop, &staging, "");
    shop.write("in/f_20260302.csv", format!("berth;fee\na;{open}\n"));
    shop.ok("load");
    // One more that leaves it open, and is looked at for its new column.
    shop.write("in/f_20260303.csv", format!("berth;fee;agent\nb;{open};Tarn\n"));
    shop.ok("load");
    shop.write("in/f_20260304.csv", format!("berth;fee;agent\nc;{clear};Tarn\n"));
    let out = shop.ok("load").out;
    assert!(out.contains("values of `fee` turn out to be"), "{out}");
    assert!(out.contains("→ hypodoke replay f reads the files before it anew"), "{out}");
    let told =
        staging.query(&shop, "SELECT change FROM hd_drift WHERE column_name = 'fee' AND change <> 'widened'");
    assert_eq!(told, ["misread"]);
    assert_eq!(staging.query(&shop, sql), [guessed]);
    shop.ok("replay f --yes");
    assert_eq!(staging.query(&shop, sql), [right]);
    // By now it is known: the next that leaves it open is no guess, nor is another way of writing.
    shop.write("in/f_20260305.csv", format!("berth;fee;agent;crew\nd;{open};Tarn;3\n"));
    assert!(!shop.ok("load").out.contains("values of `fee`"));
}

#[rstest]
fn a_reading_that_was_chosen_is_said_once(#[values(Sqlite, Postgres, Mysql)] kind: Kind) {
    let (shop, staging) = (workshop(), Staging::new(kind));
    configure(&shop, &staging, "");
    shop.write("in/f_20260302.csv", "berth;since\na;03/04/2026\n");
    shop.write("in/f_20260303.csv", "berth;since\nb;05/04/2026\n");
    let said = "column `since`: no day is above 12, so the order is open; read as day-month-year";
    assert_eq!(shop.ok("load").out.matches(said).count(), 1);
    assert!(shop.ok("receipt").out.contains(said));
    shop.write("in/f_20260304.csv", "berth;since;agent\nb;06/04/2026;Tarn\n");
    assert!(!shop.ok("load").out.contains("open"));
}
