//! What a feed expects of its files, its columns and its rows.

use hypodoke_testkit::Workshop;
use rstest::rstest;

use crate::staging::Kind::{self, Mysql, Postgres, Sqlite};
use crate::staging::{Staging, configure};
use crate::workshop;

#[rstest]
#[case::too_few("min_rows = 3", "id,cargo_t\n1,10\n", "1 row, at least 3 expected")]
#[case::too_many("max_rows = 1", "id,cargo_t\n1,10\n2,20\n", "2 rows, at most 1 expected")]
#[case::no_trailer("control = [\"rows\"]", "id,cargo_t\n1,10\n", "it has no trailer")]
#[case::other_rows(
    "control = [\"rows\"]",
    "id,cargo_t\n1,10\n2,20\n3,30\n\nTotal rows: 4\n",
    "rows: its trailer says 4, the file holds 3"
)]
#[case::other_sum(
    "control = [\"rows\", \"cargo_t\"]",
    "id,cargo_t\n1,10\n2,20\n3,30\n\nTotal 3 61\n",
    "the sum of `cargo_t`: its trailer says 61, the file holds 60"
)]
#[case::no_companion(
    "control = [\"rows\"]\ncontrol_file = \"{file}.ctl\"",
    "id,cargo_t\n1,10\n",
    "f_20260302.csv.ctl"
)]
#[case::rejects("rejected_rows = 0", "id,cargo_t\n1,10\n2,20,9\n", "1 of 2 rows rejected, at most 0 allowed")]
#[case::share(
    "rejected_rows = \"10%\"",
    "id,cargo_t\n1,10\n2,20,9\n",
    "1 of 2 rows rejected, at most 10% allowed"
)]
fn a_file_that_is_not_as_expected_is_held(
    #[case] expect: &str,
    #[case] text: &str,
    #[case] words: &str,
    #[values(Sqlite, Postgres, Mysql)] kind: Kind,
) {
    let (shop, staging) = (workshop(), Staging::new(kind));
    configure(&shop, &staging, &format!("[feed.f.expect]\n{expect}"));
    shop.write("in/f_20260302.csv", text);
    let run = shop.run("load");
    assert!(run.code == Some(3) && run.out.contains(words), "{}{}", run.out, run.err);
    assert_eq!(staging.query(&shop, "SELECT count(*) FROM hd_rejects"), ["0"], "nothing of it is loaded");
    let there = staging.query(&shop, "SELECT outcome, rows_loaded FROM hd_files");
    assert_eq!(there, ["held|0"]);
    shop.ok("settle f_20260302.csv --load-anyway");
    let loaded = shop.ok("load");
    assert!(loaded.out.contains("1 file loaded"), "{}", loaded.out);
}

#[rstest]
#[case::fail("otherwise = \"fail\"", 1, "0")]
#[case::warn("otherwise = \"warn\"", 0, "1")]
fn what_is_not_met_fails_or_is_only_said(#[case] otherwise: &str, #[case] code: i32, #[case] rows: &str) {
    let (shop, staging) = (workshop(), Staging::new(Sqlite));
    configure(&shop, &staging, &format!("[feed.f.expect]\nmin_rows = 2\n{otherwise}"));
    shop.write("in/f_20260302.csv", "id\n1\n");
    let run = shop.run("load");
    assert!(run.code == Some(code) && run.out.contains("1 row, at least 2 expected"), "{}", run.out);
    let sql = "SELECT coalesce(sum(rows_loaded), 0) FROM hd_files";
    assert_eq!(staging.query(&shop, sql), [rows]);
}

#[test]
fn control_figures_of_a_companion_are_held_against_the_file() {
    let (shop, staging) = (workshop(), Staging::new(Sqlite));
    let expect = "[feed.f.expect]\ncontrol = [\"rows\", \"cargo_t\"]\ncontrol_file = \"{stem}.ctl\"";
    configure(&shop, &staging, expect);
    shop.write("in/f_20260302.csv", "id,cargo_t\n1,10.25\n2,20.50\n");
    shop.write("in/f_20260302.ctl", "rows=2 sum=30.75\n");
    let run = shop.ok("load");
    assert!(!run.out.contains("unmatched"), "the companion is no stranger: {}", run.out);
    assert_eq!(staging.query(&shop, "SELECT count(*) FROM f"), ["2"]);
}

/// What the usual program says of a file's content.
fn digest(program: &str, shop: &Workshop, name: &str) -> String {
    let mut command = std::process::Command::new(program);
    let out = command.arg(name).current_dir(shop.path("in")).output().expect("the program is there");
    String::from_utf8(out.stdout).expect("text")
}

#[rstest]
#[case::md5("md5sum", "{file}.md5")]
#[case::sha1("sha1sum", "{stem}.sha1")]
#[case::sha256("sha256sum", "{file}.sha256")]
#[case::sha512("sha512sum", "SHA512SUMS")]
fn a_file_is_held_against_the_digest_its_sender_states(
    #[case] program: &str,
    #[case] control: &str,
    #[values(Sqlite, Postgres, Mysql)] kind: Kind,
) {
    let (shop, staging) = (workshop(), Staging::new(kind));
    let expect = format!("[feed.f.expect]\ncontrol = [\"digest\"]\ncontrol_file = \"{control}\"");
    configure(&shop, &staging, &expect);
    let beside =
        |name: &str| format!("in/{}", control.replace("{file}", name).replace("{stem}", "f_20260302"));
    shop.write("in/f_20260302.csv", "id,cargo_t\n1,10\n2,20\n");
    let stated = digest(program, &shop, "f_20260302.csv");
    shop.write(&beside("f_20260302.csv"), &stated);
    // Half of it came: as a table of its own, it would be a good one.
    shop.write("in/f_20260302.csv", "id,cargo_t\n1,10\n");
    let run = shop.run("load");
    assert_eq!(run.code, Some(3), "{}{}", run.out, run.err);
    assert!(run.out.contains("says") && run.out.contains(", its content has "), "{}", run.out);
    assert!(!run.out.contains("unmatched"), "{}", run.out);
    let tables = staging.query(&shop, "SELECT count(*) FROM hd_layouts");
    assert_eq!(tables, ["0"], "what is not whole has no say in the table");
    // The whole of it arrives.
    shop.write("in/f_20260302.csv", "id,cargo_t\n1,10\n2,20\n");
    let run = shop.ok("load");
    assert!(run.out.contains("1 file loaded, 2 rows"), "{}", run.out);
}

#[test]
fn figures_and_a_digest_stand_in_one_companion() {
    let (shop, staging) = (workshop(), Staging::new(Sqlite));
    let expect =
        "[feed.f.expect]\ncontrol = [\"digest\", \"rows\", \"cargo_t\"]\ncontrol_file = \"{file}.ctl\"";
    configure(&shop, &staging, expect);
    shop.write("in/f_20260302.csv", "id,cargo_t\n1,10\n2,20\n");
    let stated = digest("md5sum", &shop, "f_20260302.csv");
    let stated = stated.split(' ').next().expect("a digest");
    shop.write("in/f_20260302.csv.ctl", format!("rows 2 sum 30\nmd5 {stated}\n"));
    shop.ok("load");
    shop.write("in/f_20260303.csv", "id,cargo_t\n3,10\n4,20\n");
    shop.write("in/f_20260303.csv.ctl", "rows 2 sum 30\n");
    let run = shop.run("load");
    let words = "its companion f_20260303.csv.ctl states no digest of it";
    assert!(run.code == Some(3) && run.out.contains(words), "{}", run.out);
    shop.ok("settle f_20260303.csv --load-anyway");
    let run = shop.ok("load");
    assert!(run.out.contains("1 file loaded") && run.out.contains(words), "it is said still: {}", run.out);
}

#[rstest]
#[case::nowhere("control = [\"digest\"]", "no file holds its own digest")]
#[case::one_for_all("control = [\"rows\"]\ncontrol_file = \"ctl.txt\"", "names the companion of each file")]
#[case::elsewhere("control = [\"digest\"]\ncontrol_file = \"../x.md5\"", "stands beside the file")]
fn control_files_that_cannot_be_are_refused(#[case] expect: &str, #[case] words: &str) {
    let (shop, staging) = (workshop(), Staging::new(Sqlite));
    configure(&shop, &staging, &format!("[feed.f.expect]\n{expect}"));
    let run = shop.run("check");
    assert!(run.code == Some(2) && run.err.contains(words), "{}{}", run.out, run.err);
}

#[test]
fn a_count_far_from_the_usual_is_told() {
    let (shop, staging) = (workshop(), Staging::new(Sqlite));
    configure(&shop, &staging, "[feed.f.expect]\nusual_rows = \"50%\"");
    for day in 1..=6 {
        shop.write(&format!("in/f_2026030{day}.csv"), format!("id\n{}", format!("{day}\n").repeat(10 + day)));
    }
    shop.ok("load");
    shop.write("in/f_20260307.csv", "id\n1\n2\n");
    let run = shop.run("load");
    assert!(
        run.code == Some(3) && run.out.contains("2 rows, where this feed usually brings 14"),
        "{}",
        run.out
    );
}

#[rstest]
#[case::not_null("berth", "not_null = true", "id,berth\n1,N1\n2,\n", "null, and the feed expects none")]
#[case::unique("id", "unique = true", "id,berth\n1,N1\n1,N2\n", "came before in the file")]
#[case::one_of("berth", "one_of = [\"N1\"]", "id,berth\n1,N1\n2,N2\n", "not one of the values")]
#[case::between("id", "between = [1, 1]", "id,berth\n1,N1\n2,N2\n", "more than the feed expects")]
fn values_that_are_not_as_expected_are_rejects_holds_or_warnings(
    #[case] column: &str,
    #[case] expected: &str,
    #[case] text: &str,
    #[case] words: &str,
    #[values(("reject", 3, "1"), ("hold", 3, "0"), ("warn", 0, "2"))] wanted: (&str, i32, &str),
    #[values(Sqlite, Postgres, Mysql)] kind: Kind,
) {
    let (otherwise, code, rows) = wanted;
    let (shop, staging) = (workshop(), Staging::new(kind));
    let feed = format!("[feed.f.columns.{column}]\n{expected}\notherwise = \"{otherwise}\"");
    configure(&shop, &staging, &feed);
    shop.write("in/f_20260302.csv", text);
    let run = shop.run("load");
    assert_eq!(run.code, Some(code), "{}{}", run.out, run.err);
    let said = if otherwise == "reject" { shop.ok("rejects").out } else { run.out };
    assert!(said.contains(words), "{said}");
    assert_eq!(staging.query(&shop, "SELECT rows_loaded FROM hd_files"), [rows]);
}

#[rstest]
fn columns_are_named_typed_filled_and_left_out(#[values(Sqlite, Postgres, Mysql)] kind: Kind) {
    let (shop, staging) = (workshop(), Staging::new(kind));
    let feed = "[feed.f.columns.Berth]\nname = \"berth_code\"\ntrim = true\n\
        [feed.f.columns.junk]\nskip = true\n\
        [feed.f.columns.tugs]\ndefault = 0\n\
        [feed.f.columns.arrived]\ntype = \"date\"\nformat = \"month-day-year\"\n\
        [feed.f.columns.harbour]\nconstant = \"Quillane\"\n\
        [feed.f.columns.quay_no]\nconstant = 7\ntype = \"integer\"\n";
    configure(&shop, &staging, feed);
    shop.write(
        "in/f_20260302.csv",
        "id,Berth,junk,tugs,arrived\n1,\"  N1 \",x,,03/04/2026\n2,N2,y,3,03/05/2026\n",
    );
    shop.write("in/f_20260303.csv", "id,Berth,junk,tugs,arrived\n3,N3,z,,03/06/2026\n");
    shop.ok("load");
    let sql = "SELECT id, berth_code, tugs, arrived, harbour, quay_no, day FROM f ORDER BY id";
    assert_eq!(
        staging.query(&shop, sql),
        [
            "1|N1|0|2026-03-04|Quillane|7|2026-03-02",
            "2|N2|3|2026-03-05|Quillane|7|2026-03-02",
            "3|N3|0|2026-03-06|Quillane|7|2026-03-03"
        ]
    );
    assert_eq!(staging.query(&shop, "SELECT count(*) FROM hd_drift"), ["0"]);
}

#[rstest]
#[case::equals("berth", "equals = \"N2\"", "2")]
#[case::one_of("berth", "one_of = [\"N1\", \"N2\"]", "1,2")]
#[case::at_least("draught", "at_least = 5.5", "2,3")]
#[case::at_most("arrived", "at_most = \"2026-03-02\"", "1,2")]
#[case::matches("berth", "matches = \"^N[13]$\"", "1,3")]
#[case::is_null("remark", "is_null = true", "1,3")]
#[case::not_null("remark", "is_null = false", "2")]
#[case::left_out_column("junk", "at_least = 20", "3")]
fn rows_are_kept_by_conditions_and_the_rest_is_counted(
    #[case] column: &str,
    #[case] condition: &str,
    #[case] kept: &str,
    #[values(Sqlite, Postgres, Mysql)] kind: Kind,
) {
    let (shop, staging) = (workshop(), Staging::new(kind));
    let feed = format!("[feed.f.keep.{column}]\n{condition}\n[feed.f.columns.junk]\nskip = true");
    configure(&shop, &staging, &feed);
    let text = "id,berth,draught,arrived,remark,junk\n1,N1,4.2,2026-03-01,,3\n2,N2,5.5,2026-03-02,late,7\n3,N3,6.1,2026-03-03,,100\n";
    shop.write("in/f_20260302.csv", text);
    let document = shop.json("load", 0);
    let ids = staging.query(&shop, "SELECT id FROM f ORDER BY id");
    assert_eq!(ids.join(","), kept);
    let line = &document["files"][0];
    assert_eq!(line["rows_left_out"].as_u64(), Some(3 - ids.len() as u64));
    assert_eq!(line["rows_read"], 3);
    let account = "SELECT rows_read - rows_loaded - rows_rejected - rows_left_out FROM hd_files";
    assert_eq!(staging.query(&shop, account), ["0"]);
}

#[rstest]
#[case("[feed.f.drift]\nnew_column = \"drop\"", "`new_column` in [feed.f.drift] cannot be `drop`")]
#[case("[feed.f.drift]\nnew_colunm = \"add\"", "did you mean `new_column`?")]
#[case("[feed.f.expect]\nmin_rows = 9\nmax_rows = 3", "`max_rows` is 3, less than `min_rows`, 9")]
#[case("[feed.f.expect]\nrejected_rows = \"some\"", "`some` is not a limit")]
#[case("[feed.f.expect]\nusual_rows = \"half\"", "`half` is not a share")]
#[case("[feed.f.expect]\ncontrol_file = \"{file}.ctl\"", "`control` what they are")]
#[case("[feed.f.expect]\ncontrol = [\"rows\"]\ncontrol_file = \"../{file}\"", "without folders")]
#[case("[feed.f.columns.a]\nbetween = [1]", "takes two values")]
#[case("[feed.f.columns.a]\nconstant = 1\nskip = true", "`constant` fills every row")]
#[case("[feed.f.keep.a]\nmatches = \"(\"", "not a regular expression")]
fn a_wrong_setting_is_told_with_its_place(#[case] feed: &str, #[case] words: &str) {
    let (shop, staging) = (workshop(), Staging::new(Sqlite));
    configure(&shop, &staging, feed);
    let run = shop.run("load");
    assert!(run.code == Some(2) && run.err.contains(words), "{}", run.err);
    assert!(run.err.contains("hypodoke.toml:"), "{}", run.err);
}

#[rstest]
#[case("[feed.f.columns.id]\nbetween = [\"a\", \"b\"]", "`a` is not of type integer")]
#[case("[feed.f.columns.id]\ndefault = \"none\"", "`none` is not of type integer")]
#[case("[feed.f.keep.crew]\nequals = 1", "rows are kept by the column `crew`, which is not in it")]
fn a_setting_that_does_not_fit_the_column_fails_the_file(#[case] feed: &str, #[case] words: &str) {
    let (shop, staging) = (workshop(), Staging::new(Sqlite));
    configure(&shop, &staging, feed);
    shop.write("in/f_20260302.csv", "id\n1\n");
    let run = shop.run("load");
    assert!(run.code == Some(1) && run.out.contains(words), "{}{}", run.out, run.err);
}
