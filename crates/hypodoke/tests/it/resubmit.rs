//! Rejects on their way out and back.

use hypodoke_testkit::Workshop;
use rstest::rstest;
use rust_xlsxwriter::Workbook;

use crate::older::TO_EIGHTH;
use crate::staging::Kind::{self, Mysql, Postgres, PostgresMysql, Sqlite, SqlitePostgres};
use crate::staging::{Staging, configure};
use crate::workshop;

/// A feed with three rejects of two kinds.
fn begun(kind: Kind) -> (Workshop, Staging) {
    let (shop, staging) = (workshop(), Staging::new(kind));
    configure(&shop, &staging, "[feed.f.columns.draught]\ntype = \"decimal(4,2)\"");
    shop.write("in/f_20260302.csv", "id;berth;draught\n1;N1;4,20\n2;N2;deep\n3;\"N;3\";9,999\n4;N4;5,10;x\n");
    shop.attention("load");
    (shop, staging)
}

fn account(staging: &Staging, shop: &Workshop) -> Vec<String> {
    staging.query(shop, "SELECT rows_read, rows_loaded, rows_rejected, rows_left_out FROM hd_files")
}

#[rstest]
fn rejects_go_out_are_mended_and_come_back(
    #[values(Sqlite, Postgres, Mysql, SqlitePostgres, PostgresMysql)] kind: Kind,
) {
    let (shop, staging) = begun(kind);
    assert_eq!(account(&staging, &shop), ["4|1|3|0"]);
    let grouped = shop.ok("rejects f").out;
    assert!(grouped.contains("not a decimal(4,2)") && grouped.contains("3 rows rejected"), "{grouped}");
    let document = shop.json("rejects", 0);
    assert_eq!(document["reasons"].as_array().map(Vec::len), Some(3));
    shop.ok("rejects f --export bad.csv");
    let text = std::fs::read_to_string(shop.path("bad.csv")).expect("the export");
    let lines: Vec<&str> = text.lines().collect();
    assert_eq!(
        lines[0],
        "hd_reject,hd_mark,hd_file,hd_line,hd_column,hd_value,hd_reason,id,berth,draught,hd_field_4"
    );
    assert!(lines[1].ends_with(",2,N2,deep,") && lines[2].ends_with(",3,N;3,\"9,999\","), "{text}");
    assert!(shop.run("rejects f --export bad.csv").code == Some(2), "what was mended is not written over");
    // Two are mended, one is not.
    shop.write("bad.csv", text.replace(",deep,", ",\"6,30\",").replace(",\"5,10\",x", ",\"5,10\","));
    let run = shop.run("rejects --take bad.csv");
    assert_eq!(run.code, Some(3), "{}{}", run.out, run.err);
    assert!(run.out.contains("3 rows taken: 2 loaded, 1 still rejected"), "{}", run.out);
    assert_eq!(account(&staging, &shop), ["4|3|1|0"]);
    let sql = "SELECT id, berth, draught, hd_line, day FROM f WHERE id IN (2, 4) ORDER BY id";
    let rows: Vec<String> = staging.query(&shop, sql).iter().map(|row| row.replace("0|", "|")).collect();
    assert_eq!(rows, ["2|N2|6.3|3|2026-03-02", "4|N4|5.1|5|2026-03-02"]);
    assert_eq!(staging.query(&shop, "SELECT count(*) FROM hd_rejects WHERE mended_at IS NULL"), ["1"]);
    let again = shop.run("rejects --take bad.csv");
    assert!(again.code == Some(2) && again.err.contains("was corrected before"), "{}", again.err);
    assert!(shop.ok("load").out.contains("nothing new"));
    assert!(shop.ok("tally").out.contains("all figures agree or are explained"));
}

#[rstest]
#[case::no_key("a,b\n1,2\n", "has no column `hd_reject`")]
#[case::no_mark("hd_reject,id,berth,draught\n1,2,N2,1\n", "has no column `hd_mark`")]
#[case::no_number("hd_reject,hd_mark,id,berth,draught\nx,m,2,N2,1\n", "is not the number of a reject")]
#[case::unknown("hd_reject,hd_mark,id,berth,draught\n99,m,2,N2,1\n", "reject 99 is not known")]
#[case::twice("hd_reject,hd_mark,id,berth,draught\n1,m,2,N2,1\n1,m,2,N2,1\n", "reject 1 is there twice")]
#[case::too_wide("hd_reject,hd_mark,id,berth,draught\n1,m,2,N2,1,5,6\n", "it has 7 fields, the header 5")]
#[case::too_wide_within(
    "hd_reject,hd_mark,id,berth,draught\n1,m,2,N2,1,5,6\n2,m,3,N3,1\n3,m,4,N4,1\n",
    "it has 7 fields, the header 5"
)]
fn an_export_edited_into_nonsense_is_refused_and_nothing_is_lost(#[case] text: &str, #[case] words: &str) {
    let (shop, staging) = begun(Sqlite);
    shop.write("bad.csv", text);
    let run = shop.run("rejects --take bad.csv");
    assert!(run.code == Some(2) && run.err.contains(words), "{}", run.err);
    assert_eq!(account(&staging, &shop), ["4|1|3|0"]);
    assert_eq!(staging.query(&shop, "SELECT count(*) FROM f"), ["1"]);
}

#[rstest]
fn json_records_come_back_too(#[values(Sqlite, Postgres, Mysql, SqlitePostgres, PostgresMysql)] kind: Kind) {
    let (shop, staging) = (workshop(), Staging::new(kind));
    configure(&shop, &staging, "[feed.f.columns.n]\ntype = \"integer\"");
    let text = std::fs::read_to_string(shop.path("hypodoke.toml")).expect("text").replace("*.csv", "*");
    shop.write("hypodoke.toml", text);
    shop.write("in/f_20260302.jsonl", "{\"id\":1,\"n\":2}\n{\"id\":2,\"n\":\"many\"}\n");
    shop.attention("load");
    shop.ok("rejects f --export bad.csv");
    let text = std::fs::read_to_string(shop.path("bad.csv")).expect("the export");
    assert!(text.contains("hd_record"), "{text}");
    shop.write("bad.csv", text.replace("\"\"many\"\"", "3"));
    shop.ok("rejects --take bad.csv");
    assert_eq!(staging.query(&shop, "SELECT id, n, hd_line FROM f ORDER BY id"), ["1|2|1", "2|3|2"]);
}

/// A sheet's rows go to its own table, whatever the sheet is called; also those of a ledger of the eighth
/// version, which did not keep the sheet apart.
#[rstest]
#[case::sqlite(Sqlite, false)]
#[case::postgres(Postgres, false)]
#[case::mysql(Mysql, false)]
#[case::apart(SqlitePostgres, false)]
#[case::older_sqlite(Sqlite, true)]
#[case::older_postgres(Postgres, true)]
#[case::older_mysql(Mysql, true)]
fn rows_of_sheets_come_back_to_their_tables(#[case] kind: Kind, #[case] older: bool) {
    let (shop, staging) = (workshop(), Staging::new(kind));
    configure(
        &shop,
        &staging,
        "[feed.f.columns]\n\"Dues, row 2.n\".type = \"integer\"\n\"Fees.n\".type = \"integer\"",
    );
    let text = std::fs::read_to_string(shop.path("hypodoke.toml")).expect("text").replace("*.csv", "*");
    shop.write("hypodoke.toml", text);
    let mut book = Workbook::new();
    for (at, name) in ["Dues, row 2", "Fees"].into_iter().enumerate() {
        let sheet = book.add_worksheet().set_name(name).expect("a name");
        sheet.write_row(0, 0, ["id", "n"]).expect("a header");
        for row in 1..=4 {
            sheet.write(row, 0, row).expect("a cell");
            sheet.write(row, 1, 10 * row + at as u32).expect("a cell");
        }
        sheet.write(2, 1, "many").expect("a text");
    }
    std::fs::create_dir_all(shop.path("in")).expect("a folder");
    book.save(shop.path("in/f_20260302.xlsx")).expect("a workbook");
    shop.attention("load");
    if older {
        for sql in TO_EIGHTH {
            staging.run(&shop, sql);
        }
        shop.ok("ledger");
    }
    let places = staging.query(&shop, "SELECT sheet, place, line FROM hd_rejects ORDER BY sheet");
    assert_eq!(places, ["Dues, row 2|Dues, row 2, row 3|3", "Fees|Fees, row 3|3"]);
    shop.ok("rejects f --export bad.csv");
    let text = std::fs::read_to_string(shop.path("bad.csv")).expect("the export");
    assert_eq!(text.matches(",2,many").count(), 2, "{text}");
    shop.write("bad.csv", text.replace(",2,many", ",2,7"));
    shop.ok("rejects --take bad.csv");
    for table in ["f_dues_row_2", "f_fees"] {
        let found = staging.query(&shop, &format!("SELECT id, n, hd_line FROM {table} WHERE id = 2"));
        assert_eq!(found, ["2|7|3"], "{table}");
    }
    // Read again, the corrected rows stay with their sheets.
    shop.ok("replay f --yes");
    for table in ["f_dues_row_2", "f_fees"] {
        let found = staging
            .query(&shop, &format!("SELECT count(*), sum(CASE WHEN n = 7 THEN 1 ELSE 0 END) FROM {table}"));
        assert_eq!(found, ["4|1"], "{table}");
    }
}

/// A file whose dates are in another order than those of the file after it is mended in its own.
#[test]
fn a_mended_row_is_read_as_its_file_was_written() {
    let (shop, staging) = (workshop(), Staging::new(Sqlite));
    configure(&shop, &staging, "[feed.f.columns.n]\ntype = \"integer\"");
    shop.write("in/f_20260302.csv", "n,arrived\n1,25/03/2026\nx,04/03/2026\n");
    shop.attention("load");
    shop.write("in/f_20260303.csv", "n,arrived\n3,03/25/2026\n");
    shop.ok("load");
    shop.ok("rejects f --export bad.csv");
    let text = std::fs::read_to_string(shop.path("bad.csv")).expect("the export");
    shop.write("bad.csv", text.replace("not an integer,x,", "not an integer,2,"));
    shop.ok("rejects --take bad.csv");
    assert_eq!(
        staging.query(&shop, "SELECT n, arrived FROM f ORDER BY n"),
        ["1|2026-03-25", "2|2026-03-04", "3|2026-03-25"]
    );
}

/// A record that cannot be taken apart goes out whole, and does not come back as a row of nulls.
#[test]
fn a_row_whose_columns_nobody_filled_stays_a_reject() {
    let (shop, staging) = (workshop(), Staging::new(Sqlite));
    configure(&shop, &staging, "");
    shop.write("in/f_20260302.csv", "id,note\n1,\"fine\"\n2,\"never closed\n");
    shop.attention("load");
    assert_eq!(account(&staging, &shop), ["2|1|1|0"]);
    shop.ok("rejects f --export bad.csv");
    let run = shop.run("rejects --take bad.csv");
    assert!(run.code == Some(3) && run.out.contains("its columns are all blank"), "{}{}", run.out, run.err);
    assert_eq!(account(&staging, &shop), ["2|1|1|0"]);
    let text = std::fs::read_to_string(shop.path("bad.csv")).expect("the export");
    let line = text.lines().nth(1).expect("a reject").to_owned();
    assert!(text.starts_with("hd_reject,"), "{text}");
    let header = "hd_reject,hd_mark,id,note\n";
    let (number, mark) = line.split_once(',').expect("its number");
    let mark = mark.split(',').next().expect("its mark");
    shop.write("bad.csv", format!("{header}{number},{mark},2,closed\n"));
    shop.ok("rejects --take bad.csv");
    assert_eq!(staging.query(&shop, "SELECT id, note FROM f ORDER BY id"), ["1|fine", "2|closed"]);
}

/// A row that was put right by hand does not stand in the way of the corrected file, which has it too.
#[rstest]
fn a_corrected_file_takes_the_place_of_what_was_put_right_in_a_table_of_others(
    #[values(Sqlite, Postgres, Mysql, SqlitePostgres, PostgresMysql)] kind: Kind,
) {
    let (shop, staging) = (workshop(), Staging::new(kind));
    staging.run(
        &shop,
        "CREATE TABLE f (id INTEGER NOT NULL UNIQUE, n INTEGER NOT NULL, day DATE, hd_file BIGINT, hd_line BIGINT)",
    );
    configure(&shop, &staging, "");
    shop.write("in/f_20260302.csv", "id,n\n1,1\n2,two\n");
    shop.run("load");
    shop.ok("rejects f --export bad.csv");
    let text = std::fs::read_to_string(shop.path("bad.csv")).expect("the export");
    shop.write("bad.csv", text.replace(",2,two", ",2,2"));
    shop.ok("rejects --take bad.csv");
    let rows = || staging.query(&shop, "SELECT id, n FROM f ORDER BY id");
    assert_eq!(rows(), ["1|1", "2|2"]);
    shop.run("replay f_20260302.csv --yes");
    assert_eq!(rows(), ["1|1", "2|2"]);
    shop.write("in/f_20260302.csv", "id,n\n1,1\n2,22\n");
    shop.ok("load");
    assert_eq!(rows(), ["1|1", "2|22"]);
}

/// Rejects of two rows whose export has been changed as somebody might, in a spreadsheet or by a script.
fn changed_export(change: impl Fn(Vec<Vec<String>>) -> Vec<Vec<String>>) -> (Workshop, Staging) {
    let (shop, staging) = begun(Sqlite);
    shop.ok("rejects f --export bad.csv");
    let mut reader =
        csv::ReaderBuilder::new().has_headers(false).from_path(shop.path("bad.csv")).expect("the export");
    let rows: Vec<Vec<String>> =
        reader.records().map(|record| record.expect("a row").iter().map(str::to_owned).collect()).collect();
    let mut rows = change(rows);
    let at = rows[0].iter().position(|name| name == "draught");
    for row in rows.iter_mut().skip(1) {
        if let Some(at) = at {
            row[at] = "6,30".into();
        }
        row.last_mut().expect("a field").clear();
    }
    let mut out = csv::Writer::from_path(shop.path("bad.csv")).expect("a file");
    rows.iter().for_each(|row| out.write_record(row).expect("a row"));
    out.flush().expect("written");
    (shop, staging)
}

#[test]
fn an_export_that_lacks_a_column_is_refused_row_by_row() {
    let without_berth = |mut rows: Vec<Vec<String>>| {
        let at = rows[0].iter().position(|name| name == "berth").expect("a column");
        rows.iter_mut().for_each(|row| drop(row.remove(at)));
        rows
    };
    let (shop, staging) = changed_export(without_berth);
    let run = shop.run("rejects --take bad.csv");
    assert_eq!(run.code, Some(3), "{}{}", run.out, run.err);
    assert!(run.out.contains("it lacks `berth`, which the export had"), "{}", run.out);
    assert_eq!(account(&staging, &shop), ["4|1|3|0"]);
}

#[test]
fn numbers_that_were_moved_are_refused_row_by_row() {
    let swapped = |mut rows: Vec<Vec<String>>| {
        let (first, second) = (rows[1][0].clone(), rows[2][0].clone());
        (rows[1][0], rows[2][0]) = (second, first);
        rows
    };
    let (shop, staging) = changed_export(swapped);
    let run = shop.run("rejects --take bad.csv");
    assert_eq!(run.code, Some(3), "{}{}", run.out, run.err);
    assert!(run.out.contains("its `hd_mark` belongs to another reject"), "{}", run.out);
    // The third is the reject it says.
    assert_eq!(account(&staging, &shop), ["4|2|2|0"]);
    assert_eq!(staging.query(&shop, "SELECT id, berth FROM f ORDER BY id"), ["1|N1", "4|N4"]);
}

#[test]
fn columns_that_no_reject_has_are_left_out_and_told() {
    let with_more = |mut rows: Vec<Vec<String>>| {
        for (at, row) in rows.iter_mut().enumerate() {
            row.insert(7, if at == 0 { "checked by".into() } else { "Ola".into() });
        }
        rows
    };
    let (shop, staging) = changed_export(with_more);
    let run = shop.ok("rejects --take bad.csv");
    assert!(run.out.contains("column `checked by` is left out: no reject has it"), "{}", run.out);
    assert_eq!(account(&staging, &shop), ["4|4|0|0"]);
}

/// A spreadsheet takes none of the values for a formula, and they come back as they were.
#[rstest]
fn an_export_for_spreadsheets_is_guarded_and_comes_back_exactly(
    #[values(false, true)] for_spreadsheet: bool,
) {
    let (shop, staging) = (workshop(), Staging::new(Sqlite));
    configure(&shop, &staging, "[feed.f.columns.n]\ntype = \"integer\"");
    let notes = ["=1+1", "+49 40", "-5 m", "@quay", "'quoted", "''twice", "plain"];
    let rows: String = notes.iter().enumerate().map(|(at, note)| format!("{at},{note},x\n")).collect();
    shop.write("in/f_20260302.csv", format!("id,note,n\n{rows}9,all well,1\n"));
    shop.attention("load");
    shop.ok(&format!(
        "rejects f --export bad.csv{}",
        if for_spreadsheet { " --for-spreadsheet" } else { "" }
    ));
    let mut reader =
        csv::ReaderBuilder::new().has_headers(false).from_path(shop.path("bad.csv")).expect("the export");
    let rows: Vec<csv::StringRecord> = reader.records().map(|record| record.expect("a row")).collect();
    let is_formula = |value: &str| value.starts_with(['=', '+', '-', '@', '\t', '\r']);
    assert_eq!(rows.iter().flatten().any(is_formula), !for_spreadsheet);
    let text = std::fs::read_to_string(shop.path("bad.csv")).expect("the export");
    shop.write("bad.csv", text.replace(",x\n", ",7\n"));
    shop.ok("rejects --take bad.csv");
    let found = staging.query(&shop, "SELECT note FROM f WHERE id < 9 ORDER BY id");
    assert_eq!(found, notes);
}
