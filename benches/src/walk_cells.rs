//! Walks the cells of a workbook's first sheet with the workbook library and nothing else: what
//! the load of a workbook is measured against.

use std::io::BufReader;

use calamine::{DataRef, Reader, Xlsx, open_workbook};

fn main() -> Result<(), Box<dyn std::error::Error>> {
    let path = std::env::args().nth(1).ok_or("usage: walk-cells FILE")?;
    let mut book: Xlsx<BufReader<std::fs::File>> = open_workbook(path)?;
    let name = book.sheet_names().first().cloned().ok_or("no sheet")?;
    let mut cells = book.worksheet_cells_reader(&name)?;
    let mut filled = 0u64;
    while let Some(cell) = cells.next_cell()? {
        filled += u64::from(*cell.get_value() != DataRef::Empty);
    }
    println!("{filled} cells");
    Ok(())
}
