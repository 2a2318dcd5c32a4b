//! How a file is written, whatever its format.

use hypodoke_core::count;

use crate::dialect::{Dialect, Escape};

/// How a file is written, as far as it is known. Whatever is asked of a format is answered here, so
/// that nobody has to know which one it is.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct FormatFacts {
    /// Its family: `text`, `json`, `workbook`.
    pub family: &'static str,
    /// What it is within that: `csv`, `fixed`, `json_lines`, `json`, `xlsx`.
    pub kind: String,
    /// Of a text: its dialect, and where its table begins.
    pub text: Option<TextFacts>,
    /// What is worth knowing of how it is written, each in a few words.
    pub remarks: Vec<String>,
    /// The options that say what was found here, so that it need not be found again.
    pub options: Vec<FoundOption>,
    /// Its columns have no names: there is no header.
    pub is_nameless: bool,
    /// Every record names its own columns: they have no order, and no file lacks one.
    pub names_in_records: bool,
    /// Its beginning shows how the rest is written, and is quickly read.
    pub is_uniform: bool,
    /// It says itself what its columns are.
    pub is_declared: bool,
    /// Unpacking it takes longer than all that is done with its rows.
    pub is_slow: bool,
    /// Lists that have to become tables, which was not known before its records were read.
    pub late_lists: Vec<String>,
}

/// An option, and the value it should have.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct FoundOption {
    /// Its name.
    pub name: &'static str,
    /// Its value.
    pub value: FoundValue,
}

/// The value of an option.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum FoundValue {
    /// One text.
    One(String),
    /// Several of them.
    List(Vec<String>),
}

/// What was found of a text file.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct TextFacts {
    /// The dialect.
    pub dialect: Dialect,
    /// The names of the columns, as the header has them.
    pub names: Vec<String>,
    /// Lines before the header.
    pub skipped_lines: u64,
    /// Lines of the header: 0 where there is none.
    pub header_lines: usize,
    /// Records after the table that are left out, known once the end is read.
    pub footer: Vec<String>,
    /// Whether the text begins with a byte-order mark.
    pub marked: bool,
    /// Records that end early are filled up with nulls.
    pub short_rows: bool,
    /// The fields stand at fixed places, and the dialect says nothing.
    pub is_fixed: bool,
}

impl TextFacts {
    /// The same in the terms of all formats.
    pub(crate) fn in_general(&self) -> FormatFacts {
        FormatFacts {
            family: "text",
            kind: if self.is_fixed { "fixed" } else { "csv" }.to_owned(),
            text: Some(self.clone()),
            remarks: self.remarks(),
            is_nameless: self.header_lines == 0,
            is_uniform: true,
            ..FormatFacts::default()
        }
    }

    fn remarks(&self) -> Vec<String> {
        let mut remarks = Vec::new();
        match self.dialect.quote {
            Some(b'"') => {}
            Some(quote) => remarks.push(format!("quoted with {}", quote as char)),
            None => remarks.push("no quotes".to_owned()),
        }
        let mut remark = |is_so: bool, words: &str| remarks.extend(is_so.then(|| words.to_owned()));
        remark(self.dialect.escape == Escape::Backslash, "backslash escapes");
        remark(self.dialect.trailing_delimiter, "a delimiter ends every row");
        remark(self.short_rows, "rows that end early are filled up with nulls");
        if self.skipped_lines > 0 {
            remarks.push(format!("{} before the header", count::of(self.skipped_lines, "line", "lines")));
        }
        match self.header_lines {
            0 => remarks.push("no header".to_owned()),
            1 => {}
            lines => remarks.push(format!("header of {lines} lines")),
        }
        remarks
    }
}
