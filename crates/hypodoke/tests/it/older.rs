//! A ledger that an earlier version of the program made goes on in this one.

use rstest::rstest;

use crate::staging::{Kind, Staging, configure};
use crate::workshop;

/// What the sixth version added, taken away.
const TO_FIFTH: [&str; 10] = [
    "DROP TABLE hd_kept_rows",
    "DROP INDEX hd_files_in_order",
    "ALTER TABLE hd_files DROP COLUMN ordered_by",
    "ALTER TABLE hd_files DROP COLUMN ordered_at",
    "ALTER TABLE hd_files DROP COLUMN first_file",
    "ALTER TABLE hd_files DROP COLUMN effective_at",
    "ALTER TABLE hd_files DROP COLUMN delivery",
    "ALTER TABLE hd_files DROP COLUMN rules",
    "ALTER TABLE hd_files DROP COLUMN rows_kept",
    "UPDATE hd_ledger SET version = 5",
];

/// What the seventh added.
const TO_SIXTH: [&str; 5] = [
    "ALTER TABLE hd_files DROP COLUMN figures",
    "ALTER TABLE hd_drift DROP COLUMN line",
    "ALTER TABLE hd_drift DROP COLUMN value",
    "ALTER TABLE hd_rejects DROP COLUMN more",
    "UPDATE hd_ledger SET version = 6",
];

/// What the ninth and the tenth added.
pub const TO_EIGHTH: [&str; 4] = [
    "DROP TABLE hd_corrections",
    "ALTER TABLE hd_files DROP COLUMN has_parts",
    "ALTER TABLE hd_rejects DROP COLUMN sheet",
    "UPDATE hd_ledger SET version = 8",
];

/// What the eighth added.
const TO_SEVENTH: [&str; 4] = [
    "DROP TABLE hd_intents",
    "DROP TABLE hd_pairing",
    "ALTER TABLE hd_files DROP COLUMN reasons",
    "UPDATE hd_ledger SET version = 7",
];

/// What the fifth added.
const TO_FOURTH: [&str; 3] = [
    "ALTER TABLE hd_files DROP COLUMN version_token",
    "ALTER TABLE hd_decisions DROP COLUMN version_token",
    "UPDATE hd_ledger SET version = 4",
];

/// What the fourth added.
const TO_THIRD: [&str; 4] = [
    "DROP TABLE hd_noticed",
    "DROP TABLE hd_notices",
    "DROP INDEX hd_files_by_size",
    "UPDATE hd_ledger SET version = 3",
];

/// What the third added.
const TO_SECOND: [&str; 5] = [
    "DROP TABLE hd_decisions",
    "ALTER TABLE hd_files DROP COLUMN shape",
    "ALTER TABLE hd_drift DROP COLUMN action",
    "ALTER TABLE hd_rejects DROP COLUMN mended_at",
    "UPDATE hd_ledger SET version = 2",
];

#[rstest]
#[case::third_sqlite(Kind::Sqlite, false)]
#[case::third_postgres(Kind::Postgres, false)]
#[case::second_sqlite(Kind::Sqlite, true)]
#[case::second_postgres(Kind::Postgres, true)]
fn an_older_ledger_is_brought_up_to_date(#[case] kind: Kind, #[case] second: bool) {
    let (shop, staging) = (workshop(), Staging::new(kind));
    configure(&shop, &staging, "[feed.f.expect]\nmin_rows = 2\n");
    shop.write("in/f_20260301.csv", "id,depth\n1,2.5\n2,x\n3,2.7\n");
    shop.done("load");
    for sql in TO_EIGHTH
        .iter()
        .chain(&TO_SEVENTH)
        .chain(&TO_SIXTH)
        .chain(&TO_FIFTH)
        .chain(&TO_FOURTH)
        .chain(&TO_THIRD)
        .chain(TO_SECOND.iter().filter(|_| second))
    {
        staging.run(&shop, sql);
    }
    // What was loaded is known still, and what is new is loaded, held and settled as ever.
    assert!(shop.ok("load").out.contains("nothing new"));
    shop.write("in/f_20260302.csv", "id,depth,wind\n4,2.5,7\n5,2.6,8\n");
    shop.ok("load");
    shop.write("in/f_20260303.csv", "id,depth\n6,2.5\n");
    assert_eq!(shop.run("load").code, Some(3));
    shop.ok("settle f_20260303.csv --load-anyway");
    shop.ok("load");
    assert_eq!(staging.query(&shop, "SELECT count(*) FROM f"), ["6"]);
    assert!(shop.ok("drift").out.contains("new column `wind`"));
    assert!(shop.ok("tally").out.contains("all figures agree"));
    assert_eq!(staging.query(&shop, "SELECT max(version) FROM hd_ledger"), ["10"]);
    for table in [
        "hd_notices",
        "hd_noticed",
        "hd_decisions",
        "hd_kept_rows",
        "hd_intents",
        "hd_pairing",
        "hd_corrections",
    ] {
        staging.query(&shop, &format!("SELECT count(*) FROM {table}"));
    }
}
