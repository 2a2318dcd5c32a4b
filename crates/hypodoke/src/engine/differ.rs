//! How a file differs from the one before it and from its table.

use std::collections::BTreeMap;

use hypodoke_core::drift::{
    Alike, Change, Drift, HeaderPolicy, Hold, Policy, Rename, WayOut, likeliest, name_likeness,
};
use hypodoke_core::evidence::overlap;
use hypodoke_core::layout::{Format, Layout};
use hypodoke_core::names::match_key;
use hypodoke_core::spelling::{BoolWords, DateOrder, NumberStyle, temporal};
use hypodoke_core::types::Type;
use hypodoke_formats::text::Dialect;
use hypodoke_formats::{Shape, TableHead};
use hypodoke_stores::{ColumnSample, Store, StoreError};
use serde::{Deserialize, Serialize};

use super::look::LookedTable;

/// How a file is written, as the ledger keeps it.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(default)]
pub struct Written {
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
    pub formats: BTreeMap<String, Spelled>,
}

/// How the numbers, dates and truth values of a column are written.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Spelled {
    /// Decimal mark and grouping.
    pub number: NumberStyle,
    /// The order of day, month and year.
    pub date: DateOrder,
    /// The pair of truth words.
    pub truth: BoolWords,
}

impl Spelled {
    /// As a format has it.
    pub fn of(format: Format) -> Spelled {
        Spelled { number: format.number, date: format.date, truth: format.truth }
    }

    /// The format with this way of writing.
    pub fn over(self, format: Format) -> Format {
        Format { number: self.number, date: self.date, truth: self.truth, ..format }
    }
}

impl Written {
    /// How a file with these tables is written.
    pub fn of(shape: &Shape, encoding: Option<&str>, heads: &[TableHead]) -> Written {
        let names = heads.first().map(|head| head.names.clone()).unwrap_or_default();
        let sheets = heads.iter().skip(1).filter(|head| !head.is_child);
        let sheets = sheets.map(|head| (head.path.clone(), head.names.clone())).collect();
        let mut written = Written { names, sheets, ..Written::default() };
        match shape {
            Shape::Text(text) => {
                written.format = "text".to_owned();
                written.encoding = encoding.map(str::to_owned);
                written.dialect = (!text.is_fixed).then_some(text.dialect);
                written.header_lines = Some(text.header_lines);
            }
            Shape::Json(_) => {
                written.format = "json".to_owned();
                // A JSON record names what it has, in any order.
                written.names.clear();
            }
            Shape::Workbook(_) => written.format = "workbook".to_owned(),
        }
        written
    }

    fn has_header(&self) -> Option<bool> {
        self.header_lines.map(|lines| lines > 0)
    }

    /// How it is written otherwise than the file before it.
    pub fn drift_from(&self, before: &Written) -> Vec<Drift> {
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

    /// Whether its columns cannot be matched by name with those of the file before: a header is
    /// gone, or has appeared.
    fn is_out_of_step(&self, before: &Written) -> bool {
        let same = || before.names == self.names;
        match (before.has_header(), self.has_header()) {
            (Some(_), Some(false)) => before.names.iter().any(|name| !name.is_empty()),
            (Some(false), Some(true)) => !same(),
            (Some(true), Some(true)) => before.by_place && !same(),
            _ => false,
        }
    }

    /// Why a file without the header it used to have, or with one it had not, is held; and one
    /// without a header that has another number of columns.
    pub fn holds_after(&self, before: &Written, policy: &Policy) -> Vec<Hold> {
        let hold = |why: String| vec![Hold { why, ways: vec![WayOut::LoadAnyway] }];
        if policy.header == HeaderPolicy::ByPlace {
            return Vec::new();
        }
        if self.is_out_of_step(before) {
            return hold(match self.has_header() {
                Some(false) => "its header is gone: the first line is a row, and columns can only be told by their place",
                _ => "it has a header, which the files before it had not: columns can only be told by their place",
            }.to_owned());
        }
        if self.has_header() == Some(false) && before.names.len() != self.names.len() {
            return hold(format!(
                "{} columns instead of {}, and without a header nobody can say which",
                self.names.len(),
                before.names.len()
            ));
        }
        Vec::new()
    }

    /// Whether columns are to be matched with those of the table by their place: a header is gone
    /// or has appeared, and a person or the policy says so.
    pub fn goes_by_place(&self, before: &Written, policy: &Policy) -> bool {
        policy.header == HeaderPolicy::ByPlace && self.is_out_of_step(before)
    }
}

/// The first of the columns in common that stands elsewhere.
fn moved(before: &[String], now: &[String]) -> Option<String> {
    let place = |names: &[String], name: &str| names.iter().position(|n| match_key(n) == match_key(name));
    let common: Vec<(&String, usize)> =
        now.iter().filter_map(|name| place(before, name).map(|at| (name, at))).collect();
    common.windows(2).find(|pair| pair[1].1 < pair[0].1).map(|pair| pair[1].0.clone())
}

/// A file without a header two or more of whose columns no longer hold what they held.
pub fn columns_changed_places(drift: &[Drift], now: &Written, policy: &Policy) -> Option<Hold> {
    if now.has_header() != Some(false) || policy.header == HeaderPolicy::ByPlace {
        return None;
    }
    let other: Vec<&str> = drift
        .iter()
        .filter_map(|drift| match &drift.change {
            Change::Widened { column, from, .. } if *from != Type::Unknown => Some(column.as_str()),
            _ => None,
        })
        .collect();
    (other.len() > 1).then(|| Hold {
        why: format!(
            "{} hold other kinds of values than before, and without a header columns that changed places cannot be told",
            other.iter().map(|name| format!("`{name}`")).collect::<Vec<_>>().join(" and ")
        ),
        ways: vec![WayOut::LoadAnyway],
    })
}

/// Columns of the file that seem to be columns of the table under new names: alike in name, or in
/// what they hold.
pub fn renames(
    store: &mut dyn Store,
    name: &str,
    table: &Layout,
    looked: &LookedTable,
    policy: &Policy,
) -> Result<Vec<Rename>, StoreError> {
    let file = &looked.layout;
    let key = |name: &str| match_key(name);
    let is_there = |columns: &[hypodoke_core::layout::Column], name: &str| {
        columns.iter().any(|column| key(&column.name) == key(name))
    };
    let ignored = |source: &str| policy.ignore.iter().any(|name| key(name) == key(source));
    let gone: Vec<usize> =
        (0..table.columns.len()).filter(|at| !is_there(&file.columns, &table.columns[*at].name)).collect();
    let new: Vec<usize> = (0..looked.evidence.columns.len())
        .filter(|at| {
            !is_there(&table.columns, &file.columns[*at].name) && !ignored(&file.columns[*at].source)
        })
        .collect();
    if gone.is_empty() || new.is_empty() {
        return Ok(Vec::new());
    }
    let mut candidates = Vec::new();
    for gone in gone {
        let old = &table.columns[gone];
        let sample = store.column_sample(name, &old.name)?;
        for new in &new {
            candidates.push(Rename { gone, new: *new, alike: alike(old, &sample, looked, *new) });
        }
    }
    Ok(likeliest(candidates))
}

fn alike(
    old: &hypodoke_core::layout::Column,
    sample: &ColumnSample,
    looked: &LookedTable,
    at: usize,
) -> Alike {
    let new = &looked.layout.columns[at];
    let (evidence, decision) = (&looked.evidence.columns[at], &looked.decisions[at]);
    let number = |text: &Option<String>| text.as_deref().and_then(|text| text.parse::<f64>().ok());
    let range = match (number(&sample.least), number(&sample.greatest), evidence.numeric_range(decision)) {
        (Some(least), Some(greatest), Some(range)) => Some(overlap((least, greatest), range)),
        _ => None,
    };
    let is_text = |ty: Type| matches!(ty, Type::Text | Type::Uuid);
    // Numbers and moments are spelled one way in the table and another in the file.
    let values =
        (is_text(old.ty()) && is_text(new.ty())).then(|| evidence.share_of(&sample.values)).flatten();
    let kinds = hypodoke_core::drift::same_kind(old, new) && sample.least.is_some() && evidence.values() > 0;
    let kinds = kinds
        && !(old.ty() == Type::Date && days_apart(sample, evidence.instant_range(decision.format.date)));
    let names = name_likeness(&old.source, &new.source).max(name_likeness(&old.name, &new.name));
    Alike { names, range, values, kinds }
}

/// Whether a column of days and one of moments lie years apart, as a birthday and an arrival do.
fn days_apart(sample: &ColumnSample, range: Option<(i64, i64)>) -> bool {
    const YEARS: i64 = 5 * 366 * temporal::DAY;
    let moment = |text: &Option<String>| {
        text.as_deref().and_then(|text| temporal::read_date(text.as_bytes(), temporal::DateOrder::Ymd))
    };
    match (moment(&sample.least), moment(&sample.greatest), range) {
        (Some(least), Some(greatest), Some((first, last))) => {
            let (least, greatest) = (i64::from(least) * temporal::DAY, i64::from(greatest) * temporal::DAY);
            first > greatest + YEARS || last < least - YEARS
        }
        _ => false,
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    fn text(names: &[&str], header_lines: usize, encoding: &str) -> Written {
        Written {
            format: "text".into(),
            encoding: Some(encoding.into()),
            dialect: Some(Dialect::default()),
            header_lines: Some(header_lines),
            names: names.iter().map(|name| (*name).to_owned()).collect(),
            ..Written::default()
        }
    }

    #[rstest]
    #[case::same(text(&["a", "b"], 1, "utf-8"), &[])]
    #[case::order(text(&["b", "a"], 1, "utf-8"), &["reordered"])]
    #[case::more(text(&["a", "x", "b"], 1, "utf-8"), &[])]
    #[case::encoding(text(&["a", "b"], 1, "utf-16le"), &["written"])]
    #[case::header(text(&["", ""], 0, "utf-8"), &["written"])]
    fn what_is_written_otherwise_is_noted(#[case] now: Written, #[case] expected: &[&str]) {
        let before = text(&["a", "b"], 1, "utf-8");
        let words: Vec<_> = now.drift_from(&before).iter().map(|drift| drift.change.parts().1).collect();
        assert_eq!(words, expected);
    }

    #[rstest]
    #[case::gone(1, 0, 2, true)]
    #[case::appeared(0, 1, 2, true)]
    #[case::never_any(0, 0, 2, false)]
    #[case::other_width(0, 0, 3, true)]
    fn headers_that_come_and_go_hold_a_file(
        #[case] before: usize,
        #[case] now: usize,
        #[case] width: usize,
        #[case] held: bool,
    ) {
        let named = |lines: usize, names: [&'static str; 3], width: usize| {
            let names = if lines > 0 { names } else { [""; 3] };
            text(&names[..width], lines, "utf-8")
        };
        let before = named(before, ["a", "b", "c"], 2);
        let now = named(now, ["x", "y", "z"], width);
        assert_eq!(!now.holds_after(&before, &Policy::default()).is_empty(), held);
        let by_place = Policy { header: HeaderPolicy::ByPlace, ..Policy::default() };
        assert!(now.holds_after(&before, &by_place).is_empty());
    }
}
