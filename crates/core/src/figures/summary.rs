//! Figures as they are kept in the ledger.

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};

/// A mean and how far values lie from it.
#[derive(Clone, Copy, Debug, PartialEq, Serialize, Deserialize)]
pub struct Spread {
    /// How many values there are.
    #[serde(rename = "n")]
    pub count: u64,
    /// Their mean.
    #[serde(rename = "m")]
    pub mean: f64,
    /// Their standard deviation.
    #[serde(rename = "d")]
    pub deviation: f64,
}

impl Spread {
    /// Of so many values, by their sum and the sum of their squares; `None` where there are none.
    pub fn of(count: u64, (sum, squares): (f64, f64)) -> Option<Spread> {
        let n = count as f64;
        (count > 0).then(|| {
            let mean = sum / n;
            let variance = (squares / n - mean * mean).max(0.0);
            Spread { count, mean: round(mean), deviation: round(variance.sqrt()) }
        })
    }

    /// How far the mean of so many values may be off by chance.
    pub fn error(&self) -> f64 {
        self.deviation / (self.count.max(1) as f64).sqrt()
    }
}

/// What a column of a file holds, in figures.
///
/// ```
/// use hypodoke_core::figures::ColumnFigures;
/// use hypodoke_core::record::Cell;
///
/// let mut figures = ColumnFigures::default();
/// figures.add_all([Cell::Integer(2), Cell::Null, Cell::Integer(4)].iter(), &[], &[]);
/// let summary = figures.summary();
/// assert_eq!((summary.rows, summary.nulls, summary.mean), (3, 1, Some(3.0)));
/// ```
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct ColumnSummary {
    /// Rows loaded.
    pub rows: u64,
    /// Rows without a value.
    #[serde(default, skip_serializing_if = "is_zero")]
    pub nulls: u64,
    /// The mean of numbers.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub mean: Option<f64>,
    /// The least number, or day (since 1970) or moment (in microseconds).
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub least: Option<f64>,
    /// The greatest.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub greatest: Option<f64>,
    /// The share of numbers that are zero.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub zeros: Option<f64>,
    /// The share of numbers below zero.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub negatives: Option<f64>,
    /// The logarithms, to the base of two, of the sizes of numbers that are not zero.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub size: Option<Spread>,
    /// The lengths of texts, in bytes.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub length: Option<Spread>,
    /// How often each word came, where there are few.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub words: Option<BTreeMap<String, u64>>,
}

fn is_zero(count: &u64) -> bool {
    *count == 0
}

impl ColumnSummary {
    /// The share of rows without a value.
    pub fn null_share(&self) -> f64 {
        if self.rows == 0 { 0.0 } else { self.nulls as f64 / self.rows as f64 }
    }

    /// Whether all values are the same, as far as figures tell; `None` where there is no value.
    pub fn is_constant(&self) -> Option<bool> {
        if self.rows == self.nulls {
            return None;
        }
        match (&self.words, self.least, self.greatest) {
            (Some(words), ..) => Some(words.len() == 1),
            (None, Some(least), Some(greatest)) => Some(least == greatest),
            // Texts of which there are too many to tell apart.
            _ => Some(false),
        }
    }
}

/// The figures of a file: those of each column of each of its tables, by their names.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct FileFigures {
    /// Records read.
    pub rows: u64,
    /// Its tables.
    pub tables: BTreeMap<String, BTreeMap<String, ColumnSummary>>,
}

impl FileFigures {
    /// The figures of a column.
    pub fn column(&self, table: &str, column: &str) -> Option<&ColumnSummary> {
        self.tables.get(table)?.get(column)
    }
}

/// The number with so many digits as figures are good for.
pub(super) fn round(value: f64) -> f64 {
    if value == 0.0 || !value.is_finite() {
        return value;
    }
    let digits = 4 - value.abs().log10().floor() as i32;
    let ten = 10f64.powi(digits.clamp(-300, 300));
    let rounded = (value * ten).round() / ten;
    if rounded.is_finite() { rounded } else { value }
}
