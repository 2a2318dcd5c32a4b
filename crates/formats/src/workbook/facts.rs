//! What was found of a workbook.

use hypodoke_core::count;
use hypodoke_core::sanitize::clean;

use crate::facts::{FormatFacts, FoundOption, FoundValue};

/// What was found of a workbook.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct WorkbookFacts {
    /// What it is: `xlsx`, `xls`, `html`.
    pub kind: String,
    /// The sheets that are read, and where on them.
    pub read: Vec<SheetFacts>,
    /// What there is to say before any row is read.
    pub remarks: Vec<String>,
}

/// Where on a sheet a table was found.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct SheetFacts {
    /// The sheet.
    pub name: String,
    /// Its first row behind the header, counted from 1.
    pub first_row: u32,
    /// Its first and last column.
    pub columns: (String, String),
    /// Rows of the header.
    pub header_rows: usize,
    /// Filled rows before the header.
    pub titles: u64,
}

impl WorkbookFacts {
    /// The same in the terms of all formats.
    pub(super) fn in_general(&self) -> FormatFacts {
        let has_sheets = !matches!(&*self.kind, "html" | "xml");
        let names = || self.read.iter().map(|sheet| sheet.name.clone()).collect();
        let option = || FoundOption { name: "sheets", value: FoundValue::List(names()) };
        let several = self.read.len() > 1;
        FormatFacts {
            family: "workbook",
            kind: self.kind.clone(),
            remarks: self.read.iter().map(|sheet| sheet.remark(several)).collect(),
            options: has_sheets.then(option).into_iter().collect(),
            is_slow: true,
            ..FormatFacts::default()
        }
    }
}

impl SheetFacts {
    /// Where the table stands, in words.
    fn remark(&self, is_named: bool) -> String {
        let place = format!("rows from {}{} to column {}", self.columns.0, self.first_row, self.columns.1);
        let mut remark = if is_named { format!("{}: {place}", clean(&self.name)) } else { place };
        match self.header_rows {
            0 => remark.push_str(", no header"),
            1 => {}
            rows => remark.push_str(&format!(", header of {rows} rows")),
        }
        if self.titles > 0 {
            remark.push_str(&format!(", {} above it", count::of(self.titles, "row", "rows")));
        }
        remark
    }
}
