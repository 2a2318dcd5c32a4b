//! How a file is written, whatever its format.

use crate::text::TextFacts;

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
