//! The figures of files, ledger and tables held against one another.

use rstest::rstest;

use crate::staging::Kind::{self, Mysql, Postgres, PostgresMysql, Sqlite, SqlitePostgres};
use crate::staging::{Staging, configure};
use crate::workshop;

const FIRST: &str = "id,berth,draught\n1,N1,4.20\n2,N2,7.85\n3,N3,5.10\n";

#[rstest]
fn figures_agree_until_somebody_touches_the_table(
    #[values(Sqlite, Postgres, Mysql, SqlitePostgres, PostgresMysql)] kind: Kind,
) {
    let (shop, staging) = (workshop(), Staging::new(kind));
    configure(&shop, &staging, "");
    shop.write("in/f_20260302.csv", FIRST);
    shop.write("in/f_20260303.csv", FIRST.replace('3', "4"));
    shop.ok("load");
    let document = shop.json("tally", 0);
    assert_eq!(document["agree"], true);
    let line = &document["files"][0];
    assert_eq!((line["in_file"].as_u64(), line["in_table"].as_u64()), (Some(3), Some(3)));
    let sums = line["sums"].as_array().expect("sums");
    assert!(
        sums.iter().all(|sum| sum["same"] == true) && sums.iter().any(|sum| sum["in_table"] == "17.15"),
        "{sums:?}"
    );
    staging.run(&shop, "UPDATE f SET draught = 9.85 WHERE id = 2 AND hd_file = 1");
    let run = shop.run("tally f");
    assert!(
        run.code == Some(1)
            && run.out.contains("the sum of `draught` is 19.15 in the table, 17.15 in the source"),
        "{}",
        run.out
    );
    staging.run(&shop, "DELETE FROM f WHERE id = 1");
    let run = shop.run("tally 1 --quick");
    assert!(
        run.code == Some(1) && run.out.contains("1 row fewer in the table than were loaded"),
        "{}",
        run.out
    );
}

#[rstest]
#[case::upsert("upsert", "taken over by later files")]
#[case::replace("replace", "a newer delivery took its place")]
#[case::insert_new("insert-new", "agree")]
#[case::history("history", "agree")]
fn what_a_mode_does_is_explained(
    #[case] mode: &str,
    #[case] words: &str,
    #[values(Sqlite, Postgres, Mysql, SqlitePostgres, PostgresMysql)] kind: Kind,
) {
    let (shop, staging) = (workshop(), Staging::new(kind));
    configure(&shop, &staging, &format!("mode = \"{mode}\"\nkey = [\"id\"]"));
    shop.write("in/f_20260302.csv", FIRST);
    shop.ok("load");
    shop.write("in/f_20260303.csv", "id,berth,draught\n2,N9,7.85\n3,N3,5.10\n4,N4,1.00\n");
    shop.ok("load");
    let run = shop.ok("tally");
    assert!(run.out.contains(words), "{}", run.out);
}

#[test]
fn a_source_that_is_gone_or_changed_is_said_to_be() {
    let (shop, staging) = (workshop(), Staging::new(Sqlite));
    configure(&shop, &staging, "");
    shop.write("in/f_20260302.csv", FIRST);
    shop.write("in/f_20260303.csv", FIRST.replace('3', "5"));
    shop.ok("load");
    std::fs::remove_file(shop.path("in/f_20260302.csv")).expect("gone");
    shop.write("in/f_20260303.csv", FIRST.to_owned() + "4,N4,1.00\n");
    let run = shop.ok("tally");
    assert!(run.out.contains("not there any more") && run.out.contains("has changed since"), "{}", run.out);
}

/// To compare is to read: a load at work is not waited for.
#[test]
fn a_tally_waits_for_nobody_who_writes() {
    let (shop, staging) = (workshop(), Staging::new(Sqlite));
    configure(&shop, &staging, "mode = \"upsert\"\nkey = [\"id\"]");
    shop.write("in/f_20260302.csv", FIRST);
    shop.ok("load");
    let writer = rusqlite::Connection::open(shop.path("h.db")).expect("the database");
    writer.execute_batch("BEGIN IMMEDIATE").expect("the lock of a writer");
    let run = shop.ok("tally");
    assert!(run.out.contains("all figures agree"), "{}", run.out);
}
