//! How a file is written, as the ledger keeps it.

use std::collections::{BTreeMap, HashMap};

use hypodoke_core::drift::{Change, Drift};
use hypodoke_core::layout::Format;
use hypodoke_core::names::match_key;
use hypodoke_core::spelling::{BoolWords, DateOrder, NumberStyle};
use hypodoke_formats::text::Dialect;
use hypodoke_formats::{FormatFacts, TableHead};
use hypodoke_stores::FileEntry;
use serde::{Deserialize, Serialize};

/// How a file is written, as the ledger keeps it.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(default)]
pub struct FileFormat {
    /// `text`, `json` or `workbook`.
    pub format: String,
    /// Its encoding.
    pub encoding: Option<String>,
    /// Its dialect, of a delimited text.
    pub dialect: Option<Dialect>,
    /// Lines of its header, of a text.
    pub header_lines: Option<usize>,
    /// The names of the main table's columns, in their order.
    pub names: Vec<String>,
    /// Columns were matched by their place, and `names` are those they were matched with.
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    pub by_place: bool,
    /// The names of the columns of each sheet that has a table of its own.
    #[serde(skip_serializing_if = "BTreeMap::is_empty")]
    pub sheets: BTreeMap<String, Vec<String>>,
    /// How columns are written that are not written in the usual way, by their names in the file.
    #[serde(skip_serializing_if = "BTreeMap::is_empty")]
    pub formats: BTreeMap<String, ColumnFormat>,
}

/// How the numbers, dates and truth values of a column are written.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct ColumnFormat {
    /// Decimal mark and grouping.
    pub number: NumberStyle,
    /// The order of day, month and year.
    pub date: DateOrder,
    /// The pair of truth words.
    pub truth: BoolWords,
}

impl ColumnFormat {
    /// As a format has it.
    pub fn of(format: Format) -> ColumnFormat {
        ColumnFormat { number: format.number, date: format.date, truth: format.truth }
    }

    /// The format with this way of writing.
    pub fn over(self, format: Format) -> Format {
        Format { number: self.number, date: self.date, truth: self.truth, ..format }
    }
}

impl FileFormat {
    /// How a file with these tables is written.
    pub fn of(facts: &FormatFacts, encoding: Option<&str>, heads: &[TableHead]) -> FileFormat {
        let names = heads.first().map(|head| head.names.clone()).unwrap_or_default();
        let sheets = heads.iter().skip(1).filter(|head| !head.is_child);
        let sheets = sheets.map(|head| (head.path.clone(), head.names.clone())).collect();
        let text = facts.text.as_ref();
        FileFormat {
            format: facts.family.to_owned(),
            encoding: text.and(encoding).map(str::to_owned),
            dialect: text.filter(|text| !text.is_fixed).map(|text| text.dialect),
            header_lines: text.map(|text| text.header_lines),
            // Names that each record has of its own are in no order.
            names: if facts.names_in_records { Vec::new() } else { names },
            sheets,
            ..FileFormat::default()
        }
    }

    /// Whether it has a header, of a text.
    pub fn has_header(&self) -> Option<bool> {
        self.header_lines.map(|lines| lines > 0)
    }

    /// How the file of an entry is written; `None` where the ledger does not say, as of entries of
    /// older versions and of files that were not read.
    ///
    /// # Errors
    ///
    /// What the ledger keeps is not a format.
    pub fn of_entry(entry: &FileEntry) -> Result<Option<FileFormat>, serde_json::Error> {
        entry.shape.as_deref().map(serde_json::from_str).transpose()
    }

    /// As the ledger keeps it.
    ///
    /// # Errors
    ///
    /// It cannot be written as JSON.
    pub fn to_json(&self) -> Result<String, serde_json::Error> {
        serde_json::to_string(self)
    }

    /// How it is written otherwise than the file before it.
    pub fn drift_from(&self, before: &FileFormat) -> Vec<Drift> {
        let mut drift = Vec::new();
        let mut written = |column: &str, from: String, to: String| {
            if from != to {
                drift.push(Drift::noted(Change::Written { column: column.to_owned(), from, to }));
            }
        };
        written("format", before.format.clone(), self.format.clone());
        if let (Some(from), Some(to)) = (before.dialect, self.dialect) {
            written("delimiter", from.delimiter.to_string(), to.delimiter.to_string());
        }
        if let (Some(from), Some(to)) = (&before.encoding, &self.encoding) {
            written("encoding", from.clone(), to.clone());
        }
        if let (Some(from), Some(to)) = (before.has_header(), self.has_header()) {
            let word = |there: bool| if there { "there" } else { "gone" }.to_owned();
            written("header", word(from), word(to));
        }
        if before.has_header() != Some(false) && self.has_header() != Some(false) {
            drift.extend(
                moved(&before.names, &self.names).map(|column| Drift::noted(Change::Reordered { column })),
            );
        }
        drift
    }
}

/// The first of the columns in common that stands elsewhere.
fn moved(before: &[String], now: &[String]) -> Option<String> {
    let mut places: HashMap<String, usize> = HashMap::new();
    for (at, name) in before.iter().enumerate() {
        places.entry(match_key(name)).or_insert(at);
    }
    let common: Vec<(&String, usize)> =
        now.iter().filter_map(|name| places.get(&match_key(name)).map(|at| (name, *at))).collect();
    common.windows(2).find(|pair| pair[1].1 < pair[0].1).map(|pair| pair[1].0.clone())
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    fn text(names: &[&str], header_lines: usize, encoding: &str) -> FileFormat {
        FileFormat {
            format: "text".into(),
            encoding: Some(encoding.into()),
            dialect: Some(Dialect::default()),
            header_lines: Some(header_lines),
            names: names.iter().map(|name| (*name).to_owned()).collect(),
            ..FileFormat::default()
        }
    }

    #[rstest]
    #[case::same(text(&["a", "b"], 1, "utf-8"), &[])]
    #[case::order(text(&["b", "a"], 1, "utf-8"), &["reordered"])]
    #[case::more(text(&["a", "x", "b"], 1, "utf-8"), &[])]
    #[case::encoding(text(&["a", "b"], 1, "utf-16le"), &["written"])]
    #[case::header(text(&["", ""], 0, "utf-8"), &["written"])]
    fn what_is_written_otherwise_is_noted(#[case] now: FileFormat, #[case] expected: &[&str]) {
        let before = text(&["a", "b"], 1, "utf-8");
        let words: Vec<_> = now.drift_from(&before).iter().map(|drift| drift.change.parts().1).collect();
        assert_eq!(words, expected);
    }
}
