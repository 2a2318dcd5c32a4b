//! Tables that somebody else made and that are more than tables: views, partitions, triggers.

use hypodoke_testkit::{Run, Workshop};
use rstest::rstest;

use crate::staging::Kind::{self, Mysql, Postgres, Sqlite};
use crate::staging::Staging;
use crate::workshop;

fn begun(kind: Kind, sql: &str) -> (Workshop, Staging) {
    let (shop, staging) = (workshop(), Staging::new(kind));
    // The database's own words for a trigger differ.
    staging.run(&shop, sql);
    shop.write("in/cargo_1.csv", "id,day,cargo_t\n1,2026-03-02,5\n2,2026-03-09,6\n3,2026-04-01,7\n");
    let text = format!(
        "[staging]\nurl = \"{}\"\n[place.quay]\npath = \"in\"\n[feed.cargo]\nplace = \"quay\"\nfiles = \"*.csv\"\n",
        staging.url()
    );
    shop.write("hypodoke.toml", text);
    (shop, staging)
}

fn in_mode(shop: &Workshop, mode: &str) {
    let text = std::fs::read_to_string(shop.path("hypodoke.toml")).expect("text");
    shop.write("hypodoke.toml", format!("{text}mode = \"{mode}\"\nkey = \"id\"\n"));
}

const PARTITIONED: &str = "CREATE TABLE cargo (id bigint, day date NOT NULL, cargo_t numeric(10,2), hd_file bigint, hd_line bigint, PRIMARY KEY (id, day)) PARTITION BY RANGE (day);
    CREATE TABLE cargo_1 PARTITION OF cargo FOR VALUES FROM ('2026-03-01') TO ('2026-03-08');
    CREATE TABLE cargo_2 PARTITION OF cargo FOR VALUES FROM ('2026-03-08') TO ('2026-03-15');";

#[test]
fn partitions_get_their_rows_and_what_has_none_is_a_reject() {
    let (shop, staging) = begun(Postgres, PARTITIONED);
    shop.attention("load");
    assert_eq!(staging.query(&shop, "SELECT id FROM cargo_1 UNION ALL SELECT id FROM cargo_2"), ["1", "2"]);
    let rejects = staging.query(&shop, "SELECT line, reason FROM hd_rejects");
    assert!(
        rejects.len() == 1
            && rejects[0].starts_with("4|the table refused it: no partition of relation \"cargo\" found"),
        "{rejects:?}"
    );
    assert!(shop.ok("tally").out.contains("all figures agree or are explained"));
    shop.ok("retract cargo --yes");
    assert_eq!(staging.query(&shop, "SELECT count(*) FROM cargo"), ["0"]);
}

#[rstest]
#[case::upsert("upsert", &["1|5.00", "2|66.00", "4|8.00"])]
#[case::insert_new("insert-new", &["1|5.00", "2|6.00", "4|8.00"])]
fn partitions_are_brought_up_to_date_by_key(#[case] mode: &str, #[case] rows: &[&str]) {
    let sql = "CREATE TABLE cargo (id bigint PRIMARY KEY, cargo_t numeric(10,2)) PARTITION BY HASH (id);
        CREATE TABLE cargo_1 PARTITION OF cargo FOR VALUES WITH (MODULUS 2, REMAINDER 0);
        CREATE TABLE cargo_2 PARTITION OF cargo FOR VALUES WITH (MODULUS 2, REMAINDER 1);";
    let (shop, staging) = begun(Postgres, sql);
    in_mode(&shop, mode);
    shop.write("in/cargo_1.csv", "id,cargo_t\n1,5\n2,6\n");
    shop.ok("load");
    shop.write("in/cargo_2.csv", "id,cargo_t\n2,66\n4,8\n");
    shop.ok("load");
    assert_eq!(staging.query(&shop, "SELECT id, cargo_t FROM cargo ORDER BY id"), rows);
    let counts =
        staging.query(&shop, "SELECT rows_inserted, rows_updated FROM hd_files ORDER BY file DESC LIMIT 1");
    assert_eq!(counts, [if mode == "upsert" { "1|1" } else { "1|0" }]);
}

#[rstest]
#[case::view(Postgres, "CREATE VIEW cargo AS SELECT * FROM base", "only by an INSTEAD OF INSERT trigger")]
#[case::kept_view(
    Postgres,
    "CREATE MATERIALIZED VIEW cargo AS SELECT * FROM base",
    "a view that takes no rows"
)]
#[case::sqlite(Sqlite, "CREATE VIEW cargo AS SELECT * FROM base", "a view that takes no rows")]
fn a_view_that_takes_no_rows_is_told_before_anything_is_loaded(
    #[case] kind: Kind,
    #[case] view: &str,
    #[case] words: &str,
) {
    let (shop, staging) =
        begun(kind, &format!("CREATE TABLE base (id bigint, day date, cargo_t bigint); {view};"));
    let checked = shop.run("check");
    assert!(checked.code != Some(0) && checked.out.contains(words), "{:?} {}", checked.code, checked.out);
    let run = shop.run("load");
    assert!(run.code == Some(1) && run.out.contains(words), "{}{}", run.out, run.err);
    assert_eq!(staging.query(&shop, "SELECT outcome FROM hd_files"), ["failed"]);
}

#[rstest]
fn check_tells_what_does_not_fit_a_table(#[values(Sqlite, Postgres, Mysql)] kind: Kind) {
    let (shop, _staging) =
        begun(kind, "CREATE TABLE cargo (id bigint, cargo_t bigint, berth text NOT NULL);");
    let run = shop.run("check");
    let words = "does not fit the table `cargo`: the table has no `day`; the file has no `berth`, which the table requires";
    assert!(run.code == Some(1) && run.out.contains(words), "{:?} {}", run.code, run.out);
}

const BASE: &str = "CREATE TABLE base (id bigint, day date, cargo_t bigint);
    CREATE VIEW cargo AS SELECT * FROM base;";

#[rstest]
#[case::sqlite(
    Sqlite,
    "CREATE TRIGGER t INSTEAD OF INSERT ON cargo BEGIN INSERT INTO base VALUES (new.id, new.day, new.cargo_t * 1000); END"
)]
#[case::postgres(Postgres, "CREATE FUNCTION put() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN INSERT INTO base VALUES (new.id, new.day, new.cargo_t * 1000); RETURN new; END $$;
    CREATE TRIGGER t INSTEAD OF INSERT ON cargo FOR EACH ROW EXECUTE FUNCTION put()")]
fn a_view_with_a_trigger_takes_rows(#[case] kind: Kind, #[case] trigger: &str) {
    let (shop, staging) = begun(kind, &format!("{BASE} {trigger};"));
    let run = shop.ok("load");
    assert!(run.out.contains("1 file loaded, 3 rows"), "{}", run.out);
    assert_eq!(
        staging.query(&shop, "SELECT id, cargo_t FROM base ORDER BY id"),
        ["1|5000", "2|6000", "3|7000"]
    );
}

#[test]
fn a_plain_view_is_written_through_by_key() {
    let (shop, staging) = begun(Postgres, BASE);
    in_mode(&shop, "upsert");
    shop.ok("load");
    shop.write("in/cargo_2.csv", "id,day,cargo_t\n1,2026-03-02,50\n4,2026-03-02,8\n");
    shop.ok("load");
    assert_eq!(
        staging.query(&shop, "SELECT id, cargo_t FROM base ORDER BY id"),
        ["1|50", "2|6", "3|7", "4|8"]
    );
}

#[rstest]
#[case::sqlite(
    Sqlite,
    "CREATE TRIGGER t BEFORE INSERT ON cargo WHEN new.cargo_t = 6 BEGIN SELECT RAISE(IGNORE); END"
)]
#[case::postgres(Postgres, "CREATE FUNCTION pass() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN IF new.cargo_t = 6 THEN RETURN NULL; END IF; RETURN new; END $$;
    CREATE TRIGGER t BEFORE INSERT ON cargo FOR EACH ROW EXECUTE FUNCTION pass()")]
fn rows_that_a_trigger_leaves_out_are_counted_and_said(
    #[case] kind: Kind,
    #[case] trigger: &str,
    #[values(true, false)] with_lineage: bool,
) {
    let lineage = if with_lineage { ", hd_file bigint, hd_line bigint" } else { "" };
    let (shop, staging) = begun(
        kind,
        &format!("CREATE TABLE cargo (id bigint, day date, cargo_t bigint{lineage}); {trigger};"),
    );
    let run: Run = shop.ok("load");
    assert!(
        run.out.contains("1 row left out by a trigger of the table")
            && run.out.contains("1 file loaded, 2 rows"),
        "{}",
        run.out
    );
    let figures = "SELECT rows_read, rows_loaded, rows_left_out, rows_inserted, message FROM hd_files";
    assert_eq!(staging.query(&shop, figures), ["3|2|1|2|1 row left out by a trigger of the table"]);
    assert_eq!(staging.query(&shop, "SELECT id FROM cargo ORDER BY id"), ["1", "3"]);
    assert!(shop.ok("tally").out.contains("all figures agree"), "{}", shop.ok("tally").out);
}

/// A trigger that puts rows into a table which inherits leaves none out.
#[test]
fn rows_that_a_trigger_puts_into_a_table_of_the_family_are_loaded() {
    let sql = "CREATE TABLE cargo (id bigint, day date, cargo_t bigint, hd_file bigint, hd_line bigint);
        CREATE TABLE cargo_march () INHERITS (cargo);
        CREATE FUNCTION pass() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN INSERT INTO cargo_march SELECT new.*; RETURN NULL; END $$;
        CREATE TRIGGER t BEFORE INSERT ON cargo FOR EACH ROW EXECUTE FUNCTION pass();";
    let (shop, staging) = begun(Postgres, sql);
    let run = shop.ok("load");
    assert!(run.out.contains("1 file loaded, 3 rows") && !run.out.contains("left out"), "{}", run.out);
    assert_eq!(staging.query(&shop, "SELECT count(*) FROM cargo_march"), ["3"]);
    assert!(shop.ok("tally").out.contains("all figures agree"));
}

/// A time with more digits of a second than its column keeps is a reject: the database would round it.
#[rstest]
#[case::postgres(Postgres, "timestamp(0)")]
#[case::mysql(Mysql, "datetime")]
fn times_are_not_rounded_to_what_a_column_keeps(#[case] kind: Kind, #[case] whole_seconds: &str) {
    let (shop, staging) =
        begun(kind, &format!("CREATE TABLE cargo (id bigint, at {whole_seconds}, t time(3))"));
    let rows = "1,2026-03-02 07:15:00,07:15:00.125\n2,2026-03-02 07:15:00.5,07:15:00\n3,2026-03-02 07:15:00,07:15:00.0625\n";
    shop.write("in/cargo_1.csv", format!("id,at,t\n{rows}"));
    shop.attention("load");
    assert_eq!(staging.query(&shop, "SELECT id, t FROM cargo"), ["1|07:15:00.125"]);
    let rejects = staging.query(&shop, "SELECT line, column_name, reason FROM hd_rejects ORDER BY line");
    let of_none = "more digits of a second than the column keeps, which is none";
    let of_three = "more digits of a second than the column's 3";
    assert_eq!(rejects, [format!("3|at|{of_none}"), format!("4|t|{of_three}")]);
}
