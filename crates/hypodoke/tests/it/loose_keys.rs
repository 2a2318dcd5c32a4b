//! Tables of others that compare texts loosely: without regard to case, to accents or to blanks at the end. Keys are
//! told apart as their table tells them apart.

use hypodoke_testkit::Workshop;
use rstest::rstest;

use crate::staging::Kind::{self, Mysql, Postgres, PostgresMysql, Sqlite};
use crate::staging::{Staging, configure};
use crate::workshop;

const UPSERT: &str = "mode = \"upsert\"\nkey = [\"berth\"]";
const INSERT_NEW: &str = "mode = \"insert-new\"\nkey = [\"berth\"]";
const HISTORY: &str = "mode = \"history\"\nkey = [\"berth\"]";

/// What a table takes for one text.
#[derive(Clone, Copy, Debug, PartialEq)]
enum Loose {
    Case,
    Accents,
    Blanks,
}

use Loose::{Accents, Blanks, Case};

impl Loose {
    /// Three spellings of one key.
    fn spellings(self) -> [&'static str; 3] {
        match self {
            Case => ["berth", "Berth", "BERTH"],
            Accents => ["quai", "quaï", "quâi"],
            Blanks => ["N1", "\"N1 \"", "\"N1  \""],
        }
    }

    /// A column that compares so.
    fn column(self, shop: &Workshop, staging: &Staging) -> &'static str {
        match (staging.tables(), self) {
            (Staging::Sqlite(_), Blanks) => "text COLLATE RTRIM",
            (Staging::Sqlite(_), _) => "text COLLATE NOCASE",
            (Staging::Mysql(_), Case) => "varchar(40) CHARACTER SET utf8mb4 COLLATE utf8mb4_general_ci",
            (Staging::Mysql(_), Accents) => "varchar(40) CHARACTER SET utf8mb4 COLLATE utf8mb4_unicode_ci",
            (Staging::Mysql(_), Blanks) => "varchar(40) CHARACTER SET latin1 COLLATE latin1_bin",
            (_, Blanks) => "char(8)",
            (_, of) => {
                let level = if of == Accents { "level1" } else { "level2" };
                let sql = format!(
                    "CREATE COLLATION loose (provider = icu, locale = 'und-u-ks-{level}', deterministic = false)"
                );
                staging.run(shop, &sql);
                "text COLLATE loose"
            }
        }
    }
}

/// A feed into a table of somebody else's, whose key is compared loosely.
fn begun(kind: Kind, loose: Loose, feed: &str, is_unique: bool) -> (Workshop, Staging) {
    let (shop, staging) = (workshop(), Staging::new(kind));
    configure(&shop, &staging, feed);
    let column = loose.column(&shop, &staging);
    let unique = if is_unique { ", UNIQUE (berth)" } else { "" };
    let moment = match staging.tables() {
        Staging::Mysql(_) => "datetime(6)",
        Staging::Sqlite(_) => "text",
        _ => "timestamptz",
    };
    let moments = match feed == HISTORY {
        true => format!(", hd_valid_from {moment}, hd_valid_to {moment}"),
        false => String::new(),
    };
    let sql = format!(
        "CREATE TABLE f (berth {column} NOT NULL, tugs bigint, day date, hd_file bigint, hd_line bigint{moments}{unique})"
    );
    staging.run(&shop, &sql);
    (shop, staging)
}

fn rows(shop: &Workshop, staging: &Staging, feed: &str) -> Vec<String> {
    let until =
        if feed == HISTORY { ", CASE WHEN hd_valid_to IS NULL THEN 'now' ELSE 'over' END" } else { "" };
    staging.query(shop, &format!("SELECT berth, tugs{until} FROM f ORDER BY tugs"))
}

fn day(shop: &Workshop, at: usize, loose: Loose) {
    let spelling = loose.spellings()[at];
    shop.write(&format!("in/f_2026030{}.csv", at + 1), format!("berth,tugs\n{spelling},{}\n", at + 1));
}

/// Files of one key, each with a spelling of its own, whatever is taken out or comes late: the table is what the files
/// that are left make of it.
#[rstest]
#[case::upsert(UPSERT)]
#[case::insert_new(INSERT_NEW)]
#[case::history(HISTORY)]
fn spellings_of_one_key_are_one_key_on_every_way(
    #[case] feed: &str,
    #[values(Case, Accents, Blanks)] loose: Loose,
    #[values(Sqlite, Postgres, Mysql, PostgresMysql)] kind: Kind,
) {
    if loose == Accents && matches!(kind, Sqlite) {
        // It has no collation that ignores accents.
        return;
    }
    let made_of = |order: &[usize]| {
        let (shop, staging) = begun(kind, loose, feed, feed != HISTORY);
        for at in order {
            day(&shop, *at, loose);
            shop.ok("load");
        }
        let made = rows(&shop, &staging, feed);
        (shop, staging, made)
    };
    let all = made_of(&[0, 1, 2]).2;
    let (shop, staging, late) = made_of(&[2, 0, 1]);
    if feed != INSERT_NEW {
        assert_eq!(late, all, "a late file");
    }
    assert!(shop.ok("tally").out.contains("all figures agree or are explained"));
    for (taken, left) in [(1, [0, 2]), (2, [0, 1]), (0, [1, 2])] {
        let (shop, staging, _) = made_of(&[0, 1, 2]);
        shop.ok(&format!("retract f_2026030{}.csv --yes", taken + 1));
        assert_eq!(rows(&shop, &staging, feed), made_of(&left).2, "without {taken}");
        assert!(shop.ok("tally").out.contains("all figures agree or are explained"));
    }
    drop(staging);
}

/// A type that compares loosely of its own accord is not known, and says so.
#[rstest]
fn a_column_of_a_type_that_is_not_known_is_named(#[values(UPSERT, "")] feed: &str) {
    let (shop, staging) = (workshop(), Staging::new(Postgres));
    configure(&shop, &staging, feed);
    staging
        .run(&shop, "CREATE EXTENSION citext; CREATE TABLE f (berth citext UNIQUE, tugs bigint, day date)");
    day(&shop, 0, Case);
    let run = shop.run("load");
    let words = "column `berth` of `f` is of type citext, which is not known here";
    assert!(run.code == Some(1) && run.out.contains(words), "{}", run.out);
    assert_eq!(staging.query(&shop, "SELECT count(*) FROM f"), ["0"]);
}

/// A value that only changes in what its table ignores has changed: the table is what the newest file says, and the
/// figures agree.
#[rstest]
#[case::upsert("mode = \"upsert\"\nkey = [\"tugs\"]")]
#[case::insert_new("mode = \"insert-new\"\nkey = [\"tugs\"]")]
#[case::history("mode = \"history\"\nkey = [\"tugs\"]")]
fn values_are_told_apart_by_their_bytes(
    #[case] feed: &str,
    #[values(Case, Accents)] loose: Loose,
    #[values(Sqlite, Postgres, Mysql)] kind: Kind,
) {
    let feed_or_history = if feed.contains("history") { HISTORY } else { feed };
    let (shop, staging) = begun(kind, loose, feed_or_history, false);
    configure(&shop, &staging, feed);
    let [first, second, _] = loose.spellings();
    shop.write("in/f_20260301.csv", format!("berth,tugs\n{first},1\n"));
    shop.ok("load");
    shop.write("in/f_20260302.csv", format!("berth,tugs\n{second},1\n"));
    shop.ok("load");
    let rows = staging.query(&shop, "SELECT berth FROM f ORDER BY hd_file");
    let expected: &[&str] = match feed {
        _ if feed.contains("history") => &[first, second],
        _ if feed.contains("insert-new") => &[first],
        _ => &[second],
    };
    assert_eq!(rows, expected);
    assert!(shop.ok("tally").out.contains("all figures agree or are explained"));
}
