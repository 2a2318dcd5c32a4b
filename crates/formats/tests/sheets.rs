//! Sheets of a large workbook are walked side by side: each comes whole, and in its order.

use hypodoke_formats::bytes::SeekableBytes;
use hypodoke_formats::{ByteSource, FormatOptions};
use rust_xlsxwriter::Workbook;

const SHEETS: u32 = 5;
const ROWS: u32 = 7_000;

/// A workbook of more than a megabyte; the rows of each sheet say which they are.
fn workbook() -> Vec<u8> {
    let mut book = Workbook::new();
    for sheet in 0..SHEETS {
        let page = book.add_worksheet().set_name(format!("pier {sheet}")).expect("a name");
        for (column, name) in ["sheet", "row", "mark"].iter().enumerate() {
            page.write(0, column as u16, *name).expect("a name");
        }
        for row in 1..=ROWS + sheet {
            let mark = u64::from(sheet * 7_919 + row).wrapping_mul(0x9E37_79B9_7F4A_7C15);
            page.write(row, 0, sheet).expect("a number");
            page.write(row, 1, row).expect("a number");
            page.write(row, 2, format!("{mark:x}{:x}", mark.rotate_left(17))).expect("a text");
        }
    }
    book.save_to_buffer().expect("a workbook")
}

#[test]
fn every_sheet_comes_whole_and_in_its_order() {
    let bytes = workbook();
    assert!(bytes.len() > 1 << 20, "{}", bytes.len());
    let source = ByteSource::of_stream(Box::new(std::io::Cursor::new(bytes)));
    let opened =
        hypodoke_formats::open(source, "piers.xlsx", &FormatOptions::default(), &[]).expect("opened");
    let mut reader = opened.reader;
    let paths: Vec<String> = reader.tables().iter().map(|head| head.path.clone()).collect();
    assert_eq!(paths[1..], ["pier 0", "pier 1", "pier 2", "pier 3", "pier 4"]);
    let mut lines = vec![Vec::new(); paths.len()];
    let mut batch = Vec::new();
    while reader.next(&mut batch).expect("it is read") {
        for (table, records) in batch.iter().enumerate() {
            lines[table].extend((0..records.len()).map(|at| records.line(at)));
        }
    }
    assert!(lines[0].is_empty());
    for sheet in 0..SHEETS {
        let wanted: Vec<u64> = (2..=u64::from(ROWS + sheet) + 1).collect();
        assert!(lines[sheet as usize + 1] == wanted, "sheet {sheet}");
    }
}

/// A reader that is dropped half-way leaves no walker waiting.
#[test]
fn a_reader_may_be_dropped_early() {
    let bytes = SeekableBytes::from(workbook());
    let source = ByteSource::of_stream(Box::new(bytes.reader()));
    let opened =
        hypodoke_formats::open(source, "piers.xlsx", &FormatOptions::default(), &[]).expect("opened");
    let (mut reader, mut batch) = (opened.reader, Vec::new());
    assert!(reader.next(&mut batch).expect("it is read"));
    drop(reader);
}
