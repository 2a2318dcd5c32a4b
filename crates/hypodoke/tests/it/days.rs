//! Days: written as digits alone, in an order that the file's name or marks speak against, and beyond what
//! a timestamp holds.

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

/// Digits that are days are days, until a file shows that they are numbers.
#[rstest]
fn compact_days_become_digits_again(
    #[values(Sqlite, Postgres, Mysql)] kind: Kind,
    #[values(false, true)] is_reversed: bool,
) {
    let (shop, staging) = begun(kind);
    let mut files = ["day,at\n20260302,20260302071500\n20260303,20260303235959\n", "day,at\n20261399,7\n"];
    if is_reversed {
        files.reverse();
    }
    for (at, file) in files.iter().enumerate() {
        shop.write(&format!("in/f_2026040{}.csv", at + 1), file);
        shop.ok("load");
        if at == 0 && !is_reversed {
            let days = "SELECT CAST(day AS TEXT), CAST(at AS TEXT) FROM f ORDER BY 1";
            assert_eq!(staging.query(&shop, days)[0], "2026-03-02|2026-03-02 07:15:00");
            let survey = shop.ok("survey in/f_20260401.csv");
            assert!(survey.out.contains("yyyymmdd"), "{}", survey.out);
        }
    }
    let rows = staging.query(&shop, "SELECT day, at FROM f ORDER BY day");
    assert_eq!(rows, ["20260302|20260302071500", "20260303|20260303235959", "20261399|7"]);
}

/// Days that are marked and days that are not are days.
#[rstest]
fn compact_days_and_marked_ones_are_days(#[values(Sqlite, Postgres, Mysql)] kind: Kind) {
    let (shop, staging) = begun(kind);
    for (at, file) in ["day\n20260302\n20260303\n", "day\n2026-03-04\n", "day\n20260305\n"].iter().enumerate()
    {
        shop.write(&format!("in/f_2026040{}.csv", at + 1), file);
        shop.ok("load");
    }
    let rows = staging.query(&shop, "SELECT CAST(day AS TEXT) FROM f ORDER BY 1");
    assert_eq!(rows, ["2026-03-02", "2026-03-03", "2026-03-04", "2026-03-05"]);
}

/// Another mark, and the day in the file's name, speak against the order in use.
#[rstest]
#[case::by_the_name("03/12/2026", "2026-03-12", "near the day in the file's name")]
#[case::by_the_name_alone("03.12.2026", "2026-03-12", "near the day in the file's name")]
#[case::marked_anew("04/05/1987", "1987-05-04", "marked in another way")]
fn an_order_that_is_contradicted_is_told(
    #[case] value: &str,
    #[case] day: &str,
    #[case] words: &str,
    #[values(Sqlite, Postgres, Mysql)] kind: Kind,
) {
    let (shop, staging) = begun(kind);
    for at in 2..9 {
        shop.write(
            &format!("in/f_2026030{at}.csv"),
            format!("id,day\n{at},0{at}.03.2026\n1{at},1{at}.03.2026\n"),
        );
        shop.ok("load");
    }
    shop.write("in/f_20260312.csv", format!("id,day\n99,{value}\n"));
    let run = shop.ok("load");
    assert!(run.out.contains(words), "{}", run.out);
    assert_eq!(staging.query(&shop, "SELECT CAST(day AS TEXT) FROM f WHERE id = 99"), [day]);
}

/// Digits of a second beyond its millionths: text with an advice, unless somebody says what becomes of them.
#[rstest]
#[case::unsaid("", "text", "2026-03-02T07:15:00.1234567", true)]
#[case::text("fraction = \"text\"", "text", "2026-03-02T07:15:00.1234567", false)]
#[case::rounded("fraction = \"round\"", "timestamp", "2026-03-02 07:15:00.123457", false)]
#[case::cut("fraction = \"cut\"", "timestamp", "2026-03-02 07:15:00.123456", false)]
fn seconds_of_many_digits(
    #[case] setting: &str,
    #[case] ty: &str,
    #[case] value: &str,
    #[case] is_advised: bool,
    #[values(Sqlite, Postgres, Mysql)] kind: Kind,
) {
    let (shop, staging) = (workshop(), Staging::new(kind));
    configure(&shop, &staging, &format!("[feed.f.columns.at]\n{setting}"));
    shop.write("in/f_20260302.csv", "id,at\n1,2026-03-02T07:15:00.1234567\n2,2026-03-02T07:16:00\n");
    let run = shop.ok("load");
    assert_eq!(run.out.contains("with fraction = \"round\""), is_advised, "{}", run.out);
    assert_eq!(staging.query(&shop, "SELECT CAST(at AS TEXT) FROM f WHERE id = 1"), [value]);
    let found = staging.type_of(&shop, "f", "at").replace(" without time zone", "");
    let found = found.replace("longtext", "text").replace("datetime(6)", "timestamp");
    assert_eq!(found, ty);
}

/// Numbers with more decimals than a type that was given are rejects, unless somebody says otherwise.
#[rstest]
#[case::unsaid("", "1|1.25;", 1)]
#[case::rounded("fraction = \"round\"", "1|1.25;2|-2.13;3|3.12;", 0)]
#[case::cut("fraction = \"cut\"", "1|1.25;2|-2.12;3|3.12;", 0)]
fn numbers_of_more_decimals(#[case] setting: &str, #[case] rows: &str, #[case] rejects: usize) {
    let (shop, staging) = (workshop(), Staging::new(Sqlite));
    configure(&shop, &staging, &format!("[feed.f.columns.v]\ntype = \"decimal(8,2)\"\n{setting}"));
    shop.write("in/f_20260302.csv", "id,v\n1,1.25\n2,-2.125\n3,3.1249\n");
    let run = shop.done("load");
    assert_eq!(run.out.contains("2 values with more digits"), rejects == 0, "{}", run.out);
    let found: String =
        staging.query(&shop, "SELECT id, v FROM f").iter().map(|row| format!("{row};")).collect();
    assert_eq!(found, rows);
    let rejected = staging.query(&shop, "SELECT count(DISTINCT line) FROM hd_rejects");
    assert_eq!(rejected, [(rejects * 2).to_string()]);
}
