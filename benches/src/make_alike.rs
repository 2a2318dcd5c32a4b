//! Writes berth movements as other formats have them: JSON lines of so many megabytes, or a
//! workbook of so many rows and 12 columns.

use std::io::{BufWriter, Write};

use hypodoke_demo::movements::{Movements, date};
use rust_xlsxwriter::{ExcelDateTime, Format, Workbook};

fn main() -> Result<(), Box<dyn std::error::Error>> {
    let arguments: Vec<String> = std::env::args().skip(1).collect();
    let [kind, size, path] = &arguments[..] else {
        return Err("usage: make-alike json|xlsx SIZE FILE".into());
    };
    let size: u64 = size.parse()?;
    if kind == "json" { json(size << 20, path) } else { xlsx(size as u32, path) }
}

fn json(bytes: u64, path: &str) -> Result<(), Box<dyn std::error::Error>> {
    let mut out = BufWriter::new(std::fs::File::create(path)?);
    let mut written = 0;
    for m in Movements::new(7, 1, 'N', 60, 4000) {
        let (year, month, day) = date(m.arrived.0);
        let line = serde_json::json!({
            "movement_id": m.id, "vessel": m.vessel, "berth": m.berth,
            "arrived": format!("{year:04}-{month:02}-{day:02}T{:02}:{:02}:00", m.arrived.1 / 60, m.arrived.1 % 60),
            "size": { "draught_m": f64::from(m.draught_cm) / 100.0, "length_m": f64::from(m.length_dm) / 10.0 },
            "cargo_t": m.cargo_t, "tugs": m.tugs, "pilot": m.pilot, "agent": m.agent, "remark": m.remark,
        });
        let line = line.to_string();
        written += line.len() as u64 + 1;
        if written > bytes {
            break;
        }
        writeln!(out, "{line}")?;
    }
    Ok(out.flush()?)
}

fn xlsx(rows: u32, path: &str) -> Result<(), Box<dyn std::error::Error>> {
    let mut book = Workbook::new();
    let moment = Format::new().set_num_format("yyyy-mm-dd hh:mm");
    let sheet = book.add_worksheet();
    let names = [
        "movement_id",
        "vessel",
        "berth",
        "arrived",
        "stayed",
        "draught_m",
        "length_m",
        "cargo_t",
        "tugs",
        "pilot",
        "agent",
        "remark",
    ];
    for (column, name) in names.iter().enumerate() {
        sheet.write(0, column as u16, *name)?;
    }
    for (at, m) in Movements::new(7, 1, 'N', 60, 4000).take(rows as usize).enumerate() {
        let row = at as u32 + 1;
        let (year, month, day) = date(m.arrived.0);
        let time = ExcelDateTime::from_ymd(year as u16, month as u8, day as u8)?.and_hms(
            m.arrived.1 as u16 / 60,
            m.arrived.1 as u8 % 60,
            0,
        )?;
        sheet.write(row, 0, m.id as f64)?;
        sheet.write(row, 1, &m.vessel)?;
        sheet.write(row, 2, &m.berth)?;
        sheet.write_with_format(row, 3, &time, &moment)?;
        sheet.write(row, 4, m.stayed.unwrap_or(0))?;
        sheet.write(row, 5, f64::from(m.draught_cm) / 100.0)?;
        sheet.write(row, 6, f64::from(m.length_dm) / 10.0)?;
        sheet.write(row, 7, m.cargo_t.unwrap_or(0))?;
        sheet.write(row, 8, m.tugs)?;
        sheet.write(row, 9, m.pilot)?;
        sheet.write(row, 10, m.agent)?;
        sheet.write(row, 11, m.remark.unwrap_or(""))?;
    }
    Ok(book.save(path)?)
}
