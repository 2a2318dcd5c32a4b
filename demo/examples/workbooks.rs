//! The dues office: tariffs in workbooks, as offices lay them out. They are kept in `demo/workbooks`, so that
//! the program is built without what writes them: `cargo run -p hypodoke-demo --example workbooks`.

use std::io::{self, Cursor, Read, Write};
use std::path::Path;

use rust_xlsxwriter::{DocProperties, ExcelDateTime, Format, FormatAlign, Workbook, Worksheet, XlsxError};

/// Classes of vessels, and what each pays for the first hundred of gross tonnage, in cents.
const CLASSES: [(&str, u32); 6] = [
    ("Coaster", 1_240),
    ("Trawler", 985),
    ("Tanker", 2_315),
    ("Reefer", 1_870),
    ("Ferry", 1_105),
    ("Yacht", 640),
];

/// Bands of gross tonnage.
const BANDS: [(u32, u32); 4] = [(0, 499), (500, 1_499), (1_500, 4_999), (5_000, 19_999)];

/// Days between the first days that spreadsheets count from.
const SYSTEMS_APART: u32 = 1_462;

/// 1 March 2026 as spreadsheets that count from 1900 keep it.
const FIRST_OF_MARCH: u32 = 46_082;

fn main() -> io::Result<()> {
    let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("workbooks");
    std::fs::write(folder.join("tariff.xlsx"), tariff(0, false)?)?;
    std::fs::write(folder.join("tariff_island.xlsx"), tariff(5, true)?)
}

/// A workbook of tariffs. With `from_1904` it is one of a program that counts its days
/// from there; `share` is what the office adds to every due, in percent.
fn tariff(share: u32, from_1904: bool) -> io::Result<Vec<u8>> {
    let shift = if from_1904 { SYSTEMS_APART } else { 0 };
    let bytes = workbook(share, shift).map_err(io::Error::other)?;
    if from_1904 { mark_1904(&bytes) } else { Ok(bytes) }
}

fn workbook(share: u32, shift: u32) -> Result<Vec<u8>, XlsxError> {
    let mut book = Workbook::new();
    let written = ExcelDateTime::from_ymd(2026, 2, 24)?;
    book.set_properties(
        &DocProperties::new().set_author("Dues office, Quillane").set_creation_datetime(&written),
    );
    berth_dues(book.add_worksheet().set_name("Berth dues")?, share, shift)?;
    pilotage(book.add_worksheet().set_name("Pilotage")?, share)?;
    storage(book.add_worksheet().set_name("Storage")?, share)?;
    let old = book.add_worksheet().set_name("2025")?;
    old.set_hidden(true).write(0, 0, "superseded")?;
    book.save_to_buffer()
}

fn money(cents: u32, share: u32) -> f64 {
    f64::from(cents * (100 + share) / 100) / 100.0
}

fn titles(sheet: &mut Worksheet, title: &str) -> Result<(), XlsxError> {
    let heading = Format::new().set_bold().set_align(FormatAlign::Center);
    sheet.merge_range(0, 0, 0, 6, "Harbour of Quillane, dues office", &heading)?;
    sheet.write(1, 0, title)?;
    Ok(())
}

/// A header of two rows, classes in merged cells, percentages, days, a note beneath.
fn berth_dues(sheet: &mut Worksheet, share: u32, shift: u32) -> Result<(), XlsxError> {
    let (plain, percent) = (Format::new(), Format::new().set_num_format("0.0%"));
    let day = Format::new().set_num_format("dd/mm/yyyy");
    titles(sheet, "Berth dues, in shells")?;
    sheet.merge_range(3, 0, 4, 0, "Class", &plain)?;
    sheet.merge_range(3, 1, 3, 2, "Gross tonnage", &plain)?;
    sheet.merge_range(3, 3, 3, 4, "Due", &plain)?;
    sheet.merge_range(3, 5, 4, 5, "Code", &plain)?;
    sheet.merge_range(3, 6, 4, 6, "Valid from", &plain)?;
    for (column, name) in ["from", "to", "per call", "rebate"].iter().enumerate() {
        sheet.write(4, 1 + column as u16, *name)?;
    }
    let mut row = 5;
    for (at, (class, cents)) in CLASSES.iter().enumerate() {
        sheet.merge_range(row, 0, row + 3, 0, class, &plain)?;
        for (band, (from, to)) in BANDS.iter().enumerate() {
            sheet.write(row, 1, *from)?;
            sheet.write(row, 2, *to)?;
            sheet.write(row, 3, money(cents * (1 + 3 * band as u32), share))?;
            sheet.write_with_format(row, 4, 0.025 * band as f64, &percent)?;
            sheet.write(row, 5, format!("0{at}{band}7"))?;
            sheet.write_with_format(row, 6, FIRST_OF_MARCH - shift + band as u32, &day)?;
            row += 1;
        }
    }
    sheet.write(row + 1, 0, "* rebates need the harbour master's stamp")?;
    Ok(())
}

/// One fee is not settled yet: its cell shows an error.
fn pilotage(sheet: &mut Worksheet, share: u32) -> Result<(), XlsxError> {
    titles(sheet, "Pilotage, in shells per metre of draught")?;
    for (column, name) in ["Leg", "Draught up to (m)", "Fee", "Night fee"].iter().enumerate() {
        sheet.write(3, column as u16, *name)?;
    }
    let mut row = 4;
    for leg in ["Roads to north mole", "North mole to basin", "Basin to lock"] {
        for step in 0..4u32 {
            sheet.write(row, 0, leg)?;
            sheet.write(row, 1, 4.5 + 2.25 * f64::from(step))?;
            sheet.write(row, 2, money(420 + 115 * step, share))?;
            if row == 9 {
                let unsettled = rust_xlsxwriter::Formula::new("=VLOOKUP(A10,Rates!A:B,2)").set_result("#N/A");
                sheet.write_formula(row, 3, unsettled)?;
            } else {
                sheet.write(row, 3, money(630 + 170 * step, share))?;
            }
            row += 1;
        }
    }
    Ok(())
}

/// A total beneath.
fn storage(sheet: &mut Worksheet, share: u32) -> Result<(), XlsxError> {
    titles(sheet, "Storage, in shells per tonne and day")?;
    for (column, name) in ["Goods", "Shed", "Quay", "Free days"].iter().enumerate() {
        sheet.write(3, column as u16, *name)?;
    }
    let goods = ["Timber", "Cod, salted", "Cod, iced", "Nets", "Barley", "Machines", "Cork", "Slate"];
    for (at, name) in goods.iter().enumerate() {
        let row = 4 + at as u32;
        sheet.write(row, 0, *name)?;
        sheet.write(row, 1, money(35 + 12 * at as u32, share))?;
        sheet.write(row, 2, money(20 + 7 * at as u32, share))?;
        sheet.write(row, 3, (at as u32 * 5) % 4)?;
    }
    sheet.write(12, 0, "Total")?;
    sheet.write(12, 3, 12)?;
    Ok(())
}

/// The one mark by which a workbook says that its days count from 1904.
fn mark_1904(bytes: &[u8]) -> io::Result<Vec<u8>> {
    let mut from = zip::ZipArchive::new(Cursor::new(bytes)).map_err(io::Error::other)?;
    let mut to = zip::ZipWriter::new(Cursor::new(Vec::new()));
    for at in 0..from.len() {
        let mut member = from.by_index(at).map_err(io::Error::other)?;
        let name = member.name().map_err(io::Error::other)?.into_owned();
        let mut content = Vec::new();
        member.read_to_end(&mut content)?;
        if name == "xl/workbook.xml" {
            let text =
                String::from_utf8_lossy(&content).replacen("<workbookPr", "<workbookPr date1904=\"1\"", 1);
            content = text.into_bytes();
        }
        to.start_file(name, zip::write::SimpleFileOptions::default()).map_err(io::Error::other)?;
        to.write_all(&content)?;
    }
    Ok(to.finish().map_err(io::Error::other)?.into_inner())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_workbooks_that_are_kept_are_these() -> io::Result<()> {
        assert!(tariff(0, false)? == include_bytes!("../workbooks/tariff.xlsx"));
        assert!(tariff(5, true)? == include_bytes!("../workbooks/tariff_island.xlsx"));
        Ok(())
    }
}
