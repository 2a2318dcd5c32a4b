//! What comes after the table: totals, record counts, closing words, notes.

use hypodoke_core::record::Records;
use hypodoke_core::spelling::{Family, Recognised, recognise, trim};

/// How many of the last records are looked at: a footer is at most a few lines.
const LOOKED_AT: usize = 12;

/// What stands after a table.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Footer {
    /// How many of the last records are no rows.
    pub records: usize,
    /// Whether the figures of totals are those of the rows, in words.
    pub notes: Vec<String>,
}

/// Finds the footer among the last records of a table. `is_all` says that all of its rows are there, so
/// that totals can be held against them; `names` are those of its columns.
pub fn find(records: &Records, width: usize, names: &[String], is_all: bool) -> Footer {
    let count = records.len();
    let mut footer = Footer::default();
    // What stands above a line of it may belong to it.
    for at in (count.saturating_sub(LOOKED_AT)..count).rev() {
        if records.fault(at).is_some() {
            break;
        }
        let line = Line { records, at, width };
        let sums = (is_all && line.is_total()).then(|| line.compare(names));
        if !line.is_footer(sums.as_ref()) {
            break;
        }
        footer.records = count - at;
        footer.notes.extend(sums.and_then(|sums| sums.in_words(&line.shown())));
    }
    footer.notes.reverse();
    footer
}

/// Whether one of the last records may be a total.
pub fn may_have_totals(records: &Records, width: usize) -> bool {
    let first = records.len().saturating_sub(LOOKED_AT);
    (first..records.len()).any(|at| Line { records, at, width }.is_total())
}

/// The figures of a total, held against the rows above it.
#[derive(Debug, Default)]
struct Sums {
    alike: usize,
    /// The columns that differ: their names, what the total says, and what the rows add up to.
    other: Vec<(String, String, f64)>,
}

impl Sums {
    fn is_sum(&self) -> bool {
        self.alike > 0 && self.alike >= self.other.len()
    }

    fn in_words(&self, line: &str) -> Option<String> {
        if self.alike == 0 && self.other.is_empty() {
            return None;
        }
        if self.other.is_empty() {
            return Some(format!("the total beneath the table (`{line}`) agrees with the rows"));
        }
        let other = self.other.iter().map(|(name, says, sum)| {
            format!("`{name}` says {says}, and the rows add up to {}", (sum * 1e6).round() / 1e6)
        });
        let other: Vec<String> = other.collect();
        Some(format!(
            "the total beneath the table (`{line}`) is another than that of the rows: {}",
            other.join("; ")
        ))
    }
}

/// A record that may be part of a footer.
struct Line<'r> {
    records: &'r Records,
    at: usize,
    width: usize,
}

impl<'r> Line<'r> {
    fn cells(&self, row: usize) -> impl Iterator<Item = &'r [u8]> {
        let records = self.records;
        records.fields(row).iter().map(|field| trim(records.value(*field)))
    }

    fn filled(&self, row: usize) -> usize {
        self.cells(row).filter(|cell| !cell.is_empty()).count()
    }

    fn shown(&self) -> String {
        let raw = String::from_utf8_lossy(self.records.raw(self.at)).into_owned();
        raw.split_whitespace().collect::<Vec<_>>().join(" ").chars().take(80).collect()
    }

    /// Whether it begins with a word for a total.
    fn is_total(&self) -> bool {
        self.width > 1 && self.cells(self.at).find(|cell| !cell.is_empty()).is_some_and(is_total)
    }

    fn is_footer(&self, sums: Option<&Sums>) -> bool {
        let (width, fields) = (self.width, self.records.fields(self.at).len());
        let Some(first) = self.cells(self.at).find(|cell| !cell.is_empty()) else {
            return width > 1 && !self.are_sparse();
        };
        let more = self.filled(self.at) - 1;
        if fields == width {
            // As wide as a row: only a total, and only where the columns that name a row are blank, a
            // blank line divides it from the rows, or its figures are their sums.
            let leaves_blank = width > 2 && more + 1 < width;
            return self.is_total() && (leaves_blank || self.is_divided() || sums.is_some_and(Sums::is_sum));
        }
        if width < 2 {
            return false;
        }
        let leads = self.cells(self.at).next() == Some(first);
        is_total(first) || is_closing(first) || leads && more == 0 && is_note(first)
    }

    /// Whether blank lines stand between it and the record before.
    fn is_divided(&self) -> bool {
        let Some(before) = self.at.checked_sub(1) else { return false };
        let raw = self.records.raw(before);
        let feeds = memchr::memchr_iter(b'\n', raw).count();
        let inside = if feeds > 0 { feeds } else { memchr::memchr_iter(b'\r', raw).count() };
        self.records.line(self.at) > self.records.line(before) + inside as u64 + 1
    }

    /// Whether rows with hardly a value are usual above it.
    fn are_sparse(&self) -> bool {
        let rows = self.at.saturating_sub(200)..self.at;
        let sparse = rows.clone().filter(|row| self.filled(*row) * 2 < self.width).count();
        sparse * 2 >= rows.len().max(1)
    }

    /// Holds its figures against the rows above it.
    fn compare(&self, names: &[String]) -> Sums {
        let mut sums = Sums::default();
        for (column, cell) in self.cells(self.at).enumerate().skip(1) {
            let Some((total, scale)) = number(cell) else { continue };
            let Some(sum) = self.sum_of(column) else { continue };
            let near = 0.500_001 * 0.1f64.powi(scale.into()) + sum.abs() * 1e-12;
            // A total may also say how many rows there are.
            if (sum - total).abs() < near || total == self.at as f64 {
                sums.alike += 1;
            } else {
                let name = names.get(column).filter(|name| !name.is_empty()).cloned();
                let name = name.unwrap_or_else(|| format!("column {}", column + 1));
                sums.other.push((name, String::from_utf8_lossy(cell).into_owned(), sum));
            }
        }
        sums
    }

    /// What the numbers of a column add up to above it; nothing where they are not all numbers.
    fn sum_of(&self, column: usize) -> Option<f64> {
        let mut sum = 0.0;
        for row in 0..self.at {
            let Some(field) = self.records.fields(row).get(column) else { continue };
            let value = trim(self.records.value(*field));
            if !matches!(recognise(value), Recognised::Null(_)) {
                sum += number(value)?.0;
            }
        }
        Some(sum)
    }
}

/// A number, and how many digits it has after its mark.
fn number(value: &[u8]) -> Option<(f64, u16)> {
    match recognise(value) {
        Recognised::Integer(number, _) => Some((number as f64, 0)),
        Recognised::Number(found) => Some((found.number.to_f64(), found.number.scale)),
        _ => None,
    }
}

const TOTALS: &[&str] = &[
    "total",
    "totals",
    "grand total",
    "sum",
    "subtotal",
    "sub-total",
    "summe",
    "gesamt",
    "gesamtsumme",
    "insgesamt",
    "somme",
    "total général",
    "suma",
    "totale",
    "totaal",
    "soma",
    "razem",
    "celkem",
    "итого",
    "всего",
];

fn is_total(value: &[u8]) -> bool {
    let text = String::from_utf8_lossy(value).to_lowercase();
    let text = text.trim_end_matches([':', '.', ' ']);
    TOTALS.iter().any(|total| {
        text == *total || text.strip_prefix(total).is_some_and(|rest| rest.starts_with([' ', ':']))
    })
}

const CLOSINGS: &[&str] = &[
    "end of",
    "eof",
    "*** end",
    "-- end",
    "--- end",
    "end-of",
    "records:",
    "record count",
    "rows:",
    "row count",
    "number of",
    "count:",
    "trailer",
    "trl",
    "footer",
    "generated",
    "exported",
    "printed",
    "source:",
    "note:",
    "notes:",
    "lines:",
    "***",
    "===",
    "---",
    "records",
    "(end",
];

fn is_closing(value: &[u8]) -> bool {
    let text = String::from_utf8_lossy(value).to_lowercase();
    let counted = text.split_once(' ').is_some_and(|(number, rest)| {
        number.chars().all(|c| c.is_ascii_digit())
            && ["record", "row", "line", "entries", "items"].iter().any(|word| rest.starts_with(word))
    });
    counted || text == "end" || text == "(end)" || CLOSINGS.iter().any(|word| text.starts_with(word))
}

/// One field alone, of several words: a remark. A row that was cut short is rarely that.
fn is_note(value: &[u8]) -> bool {
    value.iter().filter(|b| **b == b' ').count() >= 2
        && recognise(value).class().is_some_and(|c| c.family() == Family::Text)
}
