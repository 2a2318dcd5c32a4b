//! Workbooks, as offices send them.

use hypodoke_testkit::Workshop;
use rstest::rstest;
use rust_xlsxwriter::{ExcelDateTime, Format, Formula, Table, TableColumn, Workbook, Worksheet, XlsxError};

use crate::workshop;

/// Titles, a header of two rows with merged cells, a total, a note, a table beside it.
fn dues(sheet: &mut Worksheet) -> Result<(), XlsxError> {
    let plain = Format::new();
    sheet.merge_range(0, 0, 0, 7, "Harbour of Quillane: tariff of dues", &plain)?;
    sheet.write(1, 0, "valid from the first of March")?;
    sheet.merge_range(3, 1, 3, 2, "Vessel", &plain)?;
    sheet.merge_range(3, 3, 3, 4, "Dues", &plain)?;
    for (column, name) in
        ["class", "from GT", "to GT", "per call", "rebate", "code", "valid from"].iter().enumerate()
    {
        sheet.write(4, column as u16, *name)?;
    }
    let (percent, code, day) = (
        Format::new().set_num_format("0.0%"),
        Format::new().set_num_format("00000"),
        Format::new().set_num_format("dd/mm/yyyy"),
    );
    for row in 0..6u32 {
        let at = 5 + row;
        sheet.write(at, 1, row * 500)?;
        sheet.write(at, 2, row * 500 + 499)?;
        sheet.write(at, 3, 12.35 * f64::from(row + 1))?;
        sheet.write_with_format(at, 4, f64::from(row) * 0.025, &percent)?;
        if row % 2 == 0 {
            sheet.write_with_format(at, 5, 7 + row, &code)?;
        } else {
            sheet.write(at, 5, format!("0010{row}"))?;
        }
        sheet.write_with_format(at, 6, ExcelDateTime::from_ymd(2026, 3, 1 + row as u8)?, &day)?;
    }
    sheet.merge_range(5, 0, 7, 0, "coaster", &plain)?;
    sheet.merge_range(8, 0, 10, 0, "trawler", &plain)?;
    sheet.write(11, 0, "Total")?;
    sheet.write_formula(11, 3, Formula::new("=SUM(D6:D11)").set_result("259.35"))?;
    sheet.write(13, 0, "* rebates need the harbour master's stamp")?;
    sheet.write(6, 9, "berth")?;
    sheet.write(6, 10, "length")?;
    for row in 0..3u32 {
        sheet.write(7 + row, 9, format!("N{row}"))?;
        sheet.write(7 + row, 10, 120 + row)?;
    }
    Ok(())
}

fn fees(sheet: &mut Worksheet, shift: f64) -> Result<(), XlsxError> {
    let (moment, span) =
        (Format::new().set_num_format("yyyy-mm-dd hh:mm"), Format::new().set_num_format("[h]:mm"));
    for (column, name) in ["id", "fee", "logged", "worked", "paid", "checked"].iter().enumerate() {
        sheet.write(0, column as u16, *name)?;
    }
    for row in 1..=5u32 {
        sheet.write(row, 0, row)?;
        sheet.write(row, 1, if row == 3 { 0.1 + 0.2 } else { f64::from(row) / 10.0 })?;
        sheet.write_with_format(row, 2, 46_083.25 - shift + f64::from(row), &moment)?;
        sheet.write_with_format(row, 3, 1.25 + f64::from(row), &span)?;
        sheet.write(row, 4, row % 2 == 0)?;
        if row == 2 {
            sheet.write_formula(row, 5, Formula::new("=NA()").set_result("#N/A"))?;
        } else {
            sheet.write(row, 5, row * 3)?;
        }
    }
    Ok(())
}

/// The workbook of the dues office: two tables, and what is no table.
fn tariff(shop: &Workshop) {
    let mut book = Workbook::new();
    dues(book.add_worksheet().set_name("Dues 2026").expect("a name")).expect("dues");
    fees(book.add_worksheet().set_name("Fees").expect("a name"), 0.0).expect("fees");
    let hidden = book.add_worksheet().set_name("Old").expect("a name");
    fees(hidden.set_hidden(true), 0.0).expect("fees");
    book.add_worksheet()
        .set_name("Read me")
        .expect("a name")
        .write(1, 1, "supersedes the list of February")
        .expect("a note");
    book.add_worksheet().set_name("Empty").expect("a name");
    book.save(shop.path("tariff.xlsx")).expect("a workbook");
}

#[test]
fn each_sheet_goes_to_a_table_as_a_person_sees_it() {
    let shop = workshop();
    tariff(&shop);
    let run = shop.ok("load tariff.xlsx");
    for part in [
        "hidden sheet is left out: `Old`",
        "left out: `Read me` (no table: 1 row of notes), `Empty` (empty)",
        "another table stands beside the one at A6, at `J7:K10`",
        "1 cell holds an error, taken as null; first Fees!F3 with #N/A",
        "lines after the table left out: Total",
    ] {
        assert!(run.out.contains(part), "{part} in {}", run.out);
    }
    let dues = shop.query("hypodoke.db", "SELECT * FROM tariff_dues_2026");
    assert_eq!(dues[0], "coaster|0|499|12.35|0|00007|2026-03-01|1|6");
    assert_eq!(dues[5], "trawler|2500|2999|74.1|0.125|00105|2026-03-06|1|11");
    assert_eq!(dues.len(), 6);
    let names = shop.query("hypodoke.db", "SELECT name FROM pragma_table_info('tariff_dues_2026') LIMIT 7");
    let expected =
        ["class", "vessel_from_gt", "vessel_to_gt", "dues_per_call", "dues_rebate", "code", "valid_from"];
    assert_eq!(names, expected);
    let fees = shop.query("hypodoke.db", "SELECT * FROM tariff_fees WHERE id IN (2, 3)");
    assert_eq!(
        fees,
        ["2|0.2|2026-03-04 06:00:00|78:00:00|1||1|3", "3|0.3|2026-03-05 06:00:00|102:00:00|0|9|1|4"]
    );
    assert_eq!(shop.query("hypodoke.db", "SELECT rows_read, rows_loaded FROM hd_files"), ["11|11"]);
    assert_eq!(
        shop.query("hypodoke.db", "SELECT path, rows_loaded FROM hd_parts"),
        ["Dues 2026|6", "Fees|5"]
    );
    assert!(shop.ok("load tariff.xlsx").out.contains("nothing new"));
}

#[rstest]
#[case::one_sheet("--sheets Fees", "SELECT count(*), sum(fee) FROM t", &["5|1.5"])]
#[case::a_hidden_sheet("--sheets Old", "SELECT count(*) FROM t", &["5"])]
#[case::a_range("--sheets Fees --range A1:B3", "SELECT * FROM t", &["1|0.1|1|2", "2|0.2|1|3"])]
#[case::from_a_cell("--range J7 --sheets Dues*", "SELECT berth, length FROM t", &["N0|120", "N1|121", "N2|122"])]
#[case::a_range_with_its_sheet("--range Fees!A1:A2", "SELECT * FROM t", &["1|1|2"])]
#[case::errors_as_rejects("--sheets Fees --error-cells reject", "SELECT count(*) FROM t", &["4"])]
#[case::one_table("--sheets Fees,Old --one-table", "SELECT sheet, count(*) FROM t GROUP BY sheet", &["Fees|5", "Old|5"])]
fn what_is_wanted_of_a_workbook_can_be_said(
    #[case] options: &str,
    #[case] sql: &str,
    #[case] expected: &[&str],
) {
    let shop = workshop();
    tariff(&shop);
    shop.done(&format!("load tariff.xlsx --into sqlite:h.db --table t {options}"));
    assert_eq!(shop.query("h.db", sql), expected);
}

#[rstest]
#[case("--sheets Tolls", "the workbook has no sheet `Tolls`; it has `Dues 2026`, `Fees`")]
#[case("--range Nowhere", "`Nowhere` is neither a range (B4:H200) nor a name in the workbook")]
#[case("--sheets Empty", "the workbook holds no table: sheets `Empty` (empty)")]
fn what_is_not_there_is_told_with_what_is(#[case] options: &str, #[case] expected: &str) {
    let shop = workshop();
    tariff(&shop);
    let run = shop.run(&format!("load tariff.xlsx {options}"));
    assert_eq!(run.code, Some(1));
    assert!(run.out.contains(expected), "{}", run.out);
}

#[test]
fn a_table_of_the_sheet_and_a_named_range_are_found_by_name() {
    let shop = workshop();
    let mut book = Workbook::new();
    let sheet = book.add_worksheet().set_name("S 1").expect("a name");
    sheet.write(0, 0, "a title").expect("a cell");
    for (row, cells) in [["id", "fee"], ["1", "5"], ["2", "6"]].iter().enumerate() {
        sheet.write(3 + row as u32, 2, cells[0]).expect("a cell");
        sheet.write(3 + row as u32, 3, cells[1]).expect("a cell");
    }
    sheet
        .add_table(
            3,
            2,
            5,
            3,
            &Table::new()
                .set_name("Fees")
                .set_columns(&[TableColumn::new().set_header("id"), TableColumn::new().set_header("fee")]),
        )
        .expect("a table");
    book.define_name("Tolls", "='S 1'!$C$4:$C$6").expect("a name");
    book.save(shop.path("a.xlsx")).expect("a workbook");
    shop.ok("load a.xlsx --range Fees --into sqlite:a.db");
    shop.ok("load a.xlsx --range tolls --into sqlite:b.db");
    assert_eq!(shop.query("a.db", "SELECT sum(fee), min(hd_line) FROM a"), ["11|5"]);
    assert_eq!(shop.query("b.db", "SELECT count(*) FROM a"), ["2"]);
}

#[test]
fn a_reject_of_a_sheet_has_its_values_under_their_own_names() {
    let shop = workshop();
    let mut book = Workbook::new();
    for (name, columns) in [("Fees", ["berth", "fee"]), ("Old", ["fee", "berth"])] {
        let sheet = book.add_worksheet().set_name(name).expect("a name");
        sheet.write_row(0, 0, columns).expect("a header");
        for row in 1..4 {
            for (at, column) in (0..).zip(columns) {
                match column {
                    "fee" if row == 2 => sheet.write_string(row, at, "to be agreed"),
                    "fee" => sheet.write_number(row, at, f64::from(row) + 0.5),
                    _ => sheet.write_string(row, at, format!("{name} {row}")),
                }
                .expect("a cell");
            }
        }
    }
    book.save(shop.path("fees.xlsx")).expect("a workbook");
    let load = "load fees.xlsx --into sqlite:h.db --table fees --one-table --type fee=decimal(5,2)";
    assert!(shop.attention(load).out.contains("2 rows rejected"), "the fees that are not agreed");
    shop.ok("rejects 1 --into sqlite:h.db --export bad.csv");
    let bad = std::fs::read_to_string(shop.path("bad.csv")).expect("an export");
    let rows: Vec<&str> = bad.lines().collect();
    assert!(rows[0].ends_with("sheet,berth,fee"), "{bad}");
    assert!(rows[1].ends_with("Fees,Fees 2,to be agreed"), "{bad}");
    assert!(rows[2].ends_with("Old,Old 2,to be agreed"), "{bad}");
}

#[test]
fn a_reject_of_a_sheet_keeps_the_errors_that_stand_in_its_row() {
    let shop = workshop();
    let mut book = Workbook::new();
    let sheet = book.add_worksheet();
    sheet.write_row(0, 0, ["berth", "fee", "checked"]).expect("a header");
    // So many rows that some are carried from one batch to the next.
    for row in 1..=30_000u32 {
        sheet.write_string(row, 0, format!("N{row}")).expect("a cell");
        if row % 1000 == 0 {
            sheet.write_string(row, 1, "to be agreed").expect("a cell");
            let error = Formula::new("=NA()").set_result("#N/A");
            sheet.write_formula(row, 2, error).expect("a cell");
        } else {
            sheet.write_number(row, 1, f64::from(row) / 4.0).expect("a cell");
            sheet.write_number(row, 2, row).expect("a cell");
        }
    }
    book.save(shop.path("fees.xlsx")).expect("a workbook");
    shop.attention("load fees.xlsx --into sqlite:h.db --table fees --type fee=decimal(7,2)");
    let raw = shop.query("h.db", "SELECT count(*), min(CAST(raw AS TEXT)) FROM hd_rejects WHERE CAST(raw AS TEXT) LIKE '%\tto be agreed\t#N/A'");
    assert_eq!(raw, ["30|N1000\tto be agreed\t#N/A"]);
    assert_eq!(shop.query("h.db", "SELECT count(*), count(checked) FROM fees"), ["29970|29970"]);
}

#[test]
fn days_counted_from_1904_are_the_same_days() {
    let shop = workshop();
    let mut book = Workbook::new();
    fees(book.add_worksheet(), 1462.0).expect("fees");
    book.save(shop.path("plain.xlsx")).expect("a workbook");
    // The one mark that tells the two systems apart.
    let script = "import zipfile\n\
        a = zipfile.ZipFile('plain.xlsx'); b = zipfile.ZipFile('apple.xlsx', 'w')\n\
        for name in a.namelist():\n    data = a.read(name)\n    if name == 'xl/workbook.xml':\n        assert b'<workbookPr' in data\n        data = data.replace(b'<workbookPr', b'<workbookPr date1904=\"1\"', 1)\n    b.writestr(name, data)\nb.close()\n";
    let done = std::process::Command::new("python3").args(["-c", script]).current_dir(shop.path("")).status();
    assert!(done.expect("python").success());
    let run = shop.ok("load apple.xlsx");
    assert!(run.out.contains("its days count from 1904"), "{}", run.out);
    assert_eq!(
        shop.query("hypodoke.db", "SELECT min(logged), max(logged) FROM apple"),
        ["2026-03-03 06:00:00|2026-03-07 06:00:00"]
    );
}

#[rstest]
#[case::a_page(
    "a.xls",
    "<html><body><table><tr><th>id<th>fee<tr><td>1<td>2,5</table>",
    "html",
    "an HTML page"
)]
#[case::text("a.xls", "id;fee\n1;2,5\n", "text", "delimited text")]
#[case::json("a.xlsx", "[{\"id\":1,\"fee\":\"2.5\"}]", "json", "JSON")]
#[case::markup(
    "a.xls",
    "<?xml version=\"1.0\"?><Workbook xmlns=\"urn:schemas-microsoft-com:office:spreadsheet\" xmlns:ss=\"urn:schemas-microsoft-com:office:spreadsheet\"><Worksheet ss:Name=\"Fees\"><Table><Row><Cell><Data ss:Type=\"String\">id</Data></Cell><Cell><Data ss:Type=\"String\">fee</Data></Cell></Row><Row><Cell><Data ss:Type=\"Number\">1</Data></Cell><Cell ss:Index=\"2\"><Data ss:Type=\"Number\">2.5</Data></Cell></Row></Table></Worksheet></Workbook>",
    "xml",
    "sheets in XML"
)]
fn what_is_called_a_workbook_and_is_none_is_read_as_what_it_is(
    #[case] name: &str,
    #[case] text: &str,
    #[case] kind: &str,
    #[case] words: &str,
) {
    let shop = workshop();
    shop.write(name, text);
    let document = shop.json(&format!("load {name}"), 0);
    let line = &document["files"][0];
    assert!(line["kind"].as_str().expect("a kind").starts_with(kind), "{line}");
    let note = format!("it is called as if it were a workbook, but is {words}");
    assert!(line["notes"][0].as_str().expect("a note").starts_with(&note), "{line}");
    assert_eq!(shop.query("hypodoke.db", "SELECT id, fee FROM a"), ["1|2.5"]);
}

#[rstest]
#[case::cut_short(|bytes: &[u8]| bytes[..bytes.len() / 2].to_vec(), "the workbook cannot be read")]
#[case::no_archive(|bytes: &[u8]| [&bytes[..4], &[0; 400]].concat(), "cannot be read")]
fn a_damaged_workbook_is_told_and_loads_nothing(
    #[case] damage: fn(&[u8]) -> Vec<u8>,
    #[case] expected: &str,
) {
    let shop = workshop();
    tariff(&shop);
    let bytes = std::fs::read(shop.path("tariff.xlsx")).expect("bytes");
    shop.write("bad.xlsx", damage(&bytes));
    let run = shop.run("load bad.xlsx");
    assert_eq!(run.code, Some(1), "{}{}", run.out, run.err);
    assert!(run.out.contains(expected) && run.out.contains("ask for the file again"), "{}", run.out);
}

/// The same sheets as other programs keep them.
#[rstest]
#[case("tariff.xls", "xls, 2 sheets", "valid_from")]
#[case("tariff.ods", "ods, 2 sheets", "dues_valid_from")]
fn older_and_open_formats_are_read_alike(#[case] name: &str, #[case] kind: &str, #[case] day: &str) {
    let shop = workshop();
    let folder = concat!(env!("CARGO_MANIFEST_DIR"), "/tests/it/workbooks");
    std::fs::copy(format!("{folder}/{name}"), shop.path(name)).expect("a workbook");
    let document = shop.json(&format!("load {name}"), 0);
    assert_eq!(document["files"][0]["kind"], kind);
    let sql = format!("SELECT vessel_to_gt, dues_per_call, {day} FROM tariff_dues_2026 LIMIT 1");
    let dues = shop.query("hypodoke.db", &sql);
    assert_eq!(dues, ["499|12.35|2026-03-01"]);
    let fees = shop.query("hypodoke.db", "SELECT id, fee, logged, worked FROM tariff_fees WHERE id = 3");
    assert_eq!(fees, ["3|0.3|2026-03-05 06:00:00|102:00:00"]);
}

#[test]
fn a_workbook_with_a_password_is_told() {
    let shop = workshop();
    let folder = concat!(env!("CARGO_MANIFEST_DIR"), "/tests/it/workbooks");
    std::fs::copy(format!("{folder}/locked.xlsx"), shop.path("locked.xlsx")).expect("a workbook");
    let run = shop.run("load locked.xlsx");
    assert_eq!(run.code, Some(1));
    assert!(run.out.contains("protected by a password"), "{}", run.out);
}

#[test]
fn a_draft_of_workbooks_and_json_loads_straight_after() {
    let shop = workshop();
    tariff(&shop);
    std::fs::create_dir(shop.path("in")).expect("a folder");
    std::fs::rename(shop.path("tariff.xlsx"), shop.path("in/tariff_20260301.xlsx")).expect("a move");
    shop.write(
        "in/log_20260301.json",
        "{\"data\":[{\"id\":1,\"moves\":[{\"n\":\"5\"}]},{\"id\":2,\"moves\":[]}]}",
    );
    shop.ok("draft in");
    let text = std::fs::read_to_string(shop.path("hypodoke.toml")).expect("a draft");
    for part in [
        "rows_at = \"$.data[*]\"",
        "sheets = [\"Dues 2026\", \"Fees\"]",
        "\"moves.n\" = { type = \"integer\" }",
    ] {
        assert!(text.contains(part), "{part} in {text}");
    }
    shop.ok("load");
    assert_eq!(shop.query("hypodoke.db", "SELECT n FROM log_moves"), ["5"]);
    assert_eq!(shop.query("hypodoke.db", "SELECT count(*) FROM tariff_fees"), ["5"]);
}

/// A workbook of one sheet, its rows parted by `/` and its cells by `|`.
fn sheet_of(shop: &Workshop, name: &str, rows: &str) {
    let mut book = Workbook::new();
    let sheet = book.add_worksheet();
    for (row, cells) in rows.split('/').enumerate() {
        for (column, cell) in cells.split('|').enumerate().filter(|(_, cell)| !cell.is_empty()) {
            let place = (row as u32, column as u16);
            match cell.parse::<f64>() {
                Ok(number) => sheet.write(place.0, place.1, number).expect("a cell"),
                Err(_) => sheet.write(place.0, place.1, cell).expect("a cell"),
            };
        }
    }
    book.save(shop.path(name)).expect("a workbook");
}

/// Small sheets are tables too, and what a person would pass over is passed over and told.
#[rstest]
#[case::one_row("1|2.5|N1", &["1|2.5|N1"], "")]
#[case::two_rows_without_a_header("1|2.5/2|3.5", &["1|2.5", "2|3.5"], "")]
#[case::one_column("berth/4/7", &["4", "7"], "")]
#[case::one_row_under_a_header("id|berth/1|N1", &["1|N1"], "")]
#[case::remark_beneath_the_header(
    "id|qty|price/(see the note below)/1|5|1.5/2|6|2.5/3|7|3.5/4|8|4.5",
    &["1|5|1.5", "2|6|2.5", "3|7|3.5", "4|8|4.5"],
    "row 2 beneath the header left out: (see the note below)"
)]
#[case::notes_of_several_cells(
    "Report|of the office/Period|March|2026/By|the clerk/id|berth|qty|price/1|N1|5|1.5/2|N2|6|2.5/3|N3|7|3.5/4|N4|8|4.5//printed by the office",
    &["1|N1|5|1.5", "2|N2|6|2.5", "3|N3|7|3.5", "4|N4|8|4.5"],
    "printed by the office"
)]
#[case::total(
    "berth|calls/N1|3/N2|5/Total|8",
    &["N1|3", "N2|5"],
    "agrees with the rows"
)]
#[case::total_that_is_another(
    "berth|side|calls/N1|a|3/N2|b|5//Total||9",
    &["N1|a|3", "N2|b|5"],
    "`calls` says 9, and the rows add up to 8"
)]
fn small_and_odd_sheets(#[case] rows: &str, #[case] expected: &[&str], #[case] said: &str) {
    let shop = workshop();
    sheet_of(&shop, "a.xlsx", rows);
    let run = shop.ok("load a.xlsx --into sqlite:h.db --table t");
    assert!(run.out.contains(said), "{}", run.out);
    let names = shop.query(
        "h.db",
        "SELECT group_concat('\"' || name || '\"') FROM pragma_table_info('t') WHERE name NOT LIKE 'hd_%'",
    );
    assert_eq!(shop.query("h.db", &format!("SELECT {} FROM t", names[0])), expected);
}

/// A percentage is the number that is kept, whatever the format of the file, and so is money.
#[test]
fn a_percentage_is_its_number() {
    let shop = workshop();
    let mut book = Workbook::new();
    let sheet = book.add_worksheet();
    let (percent, money) =
        (Format::new().set_num_format("0.0%"), Format::new().set_num_format("#,##0.00 [$€-407]"));
    for (column, name) in ["rebate", "fee"].iter().enumerate() {
        sheet.write(0, column as u16, *name).expect("a cell");
    }
    for row in 1..4 {
        sheet.write_with_format(row, 0, f64::from(row) * 0.125, &percent).expect("a cell");
        sheet.write_with_format(row, 1, f64::from(row) * 10.5, &money).expect("a cell");
    }
    book.save(shop.path("a.xlsx")).expect("a workbook");
    let run = shop.ok("load a.xlsx --into sqlite:h.db --table t");
    assert!(
        run.out.contains("3 numbers are shown as percentages and kept as stored: first Sheet1!A2, 0.125"),
        "{}",
        run.out
    );
    assert!(run.out.contains("3 numbers are shown with the sign of a currency"), "{}", run.out);
    assert_eq!(shop.query("h.db", "SELECT rebate, fee FROM t"), ["0.125|10.5", "0.25|21", "0.375|31.5"]);
}

/// Numbers with blanks around them are read as a spreadsheet program reads them.
#[test]
fn numbers_with_blanks_around_are_numbers() {
    let shop = workshop();
    sheet_of(&shop, "a.xlsx", "id|qty/1|5/2|6");
    let script = "import zipfile, re\nold = zipfile.ZipFile('a.xlsx')\nnew = zipfile.ZipFile('b.xlsx', 'w')\nfor name in old.namelist():\n    data = old.read(name)\n    if name.startswith('xl/worksheets/'):\n        data = re.sub(rb'<c r=\"B2\"([^>]*)><v>5</v>', rb'<c r=\"B2\"\\1 t=\"n\"><v> 5\\n</v>', data)\n    new.writestr(name, data)\nnew.close()";
    let status =
        std::process::Command::new("python3").current_dir(shop.path(".")).args(["-c", script]).status();
    assert!(status.expect("python3").success());
    shop.ok("load b.xlsx --into sqlite:h.db --table t");
    assert_eq!(shop.query("h.db", "SELECT id, qty FROM t"), ["1|5", "2|6"]);
}
