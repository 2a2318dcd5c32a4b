//! The figures of one column, taken value by value.

use super::summary::{ColumnSummary, Spread, round};
use super::words::WordCounts;
use crate::record::Cell;

/// What a column's values come to, in figures.
///
/// Numbers are taken as 64-bit floats: figures are for comparing, not for the account.
#[derive(Clone, Debug)]
pub struct ColumnFigures {
    rows: u64,
    nulls: u64,
    numbers: u64,
    zeros: u64,
    negatives: u64,
    trues: u64,
    sum: f64,
    least: f64,
    greatest: f64,
    /// The sum of the logarithms of the sizes of numbers, and of their squares.
    sizes: (f64, f64),
    texts: u64,
    /// The sum of the lengths of texts, and of their squares.
    lengths: (f64, f64),
    words: WordCounts,
}

impl Default for ColumnFigures {
    fn default() -> Self {
        ColumnFigures {
            rows: 0,
            nulls: 0,
            numbers: 0,
            zeros: 0,
            negatives: 0,
            trues: 0,
            sum: 0.0,
            least: f64::INFINITY,
            greatest: f64::NEG_INFINITY,
            sizes: (0.0, 0.0),
            texts: 0,
            lengths: (0.0, 0.0),
            words: WordCounts::default(),
        }
    }
}

/// Powers of ten by which decimals are scaled.
const TENS: [f64; 39] = {
    let mut tens = [1.0; 39];
    let mut at = 1;
    while at < tens.len() {
        tens[at] = tens[at - 1] * 10.0;
        at += 1;
    }
    tens
};

fn scaled(mantissa: f64, scale: u8) -> f64 {
    mantissa / TENS.get(usize::from(scale)).copied().unwrap_or(f64::INFINITY)
}

impl ColumnFigures {
    /// Takes values in. Texts stand in `bytes`, wide mantissas in `wide`.
    #[inline]
    pub fn add_all(&mut self, cells: impl Iterator<Item = Cell>, bytes: &[u8], wide: &[i128]) {
        for cell in cells {
            self.rows += 1;
            match cell {
                Cell::Null => self.nulls += 1,
                Cell::Integer(value) => self.add_number(value as f64),
                Cell::Float(value) => self.add_number(value),
                Cell::Decimal { mantissa, scale } => self.add_number(scaled(mantissa as f64, scale)),
                Cell::Wide { index, scale } => {
                    let mantissa = wide.get(index as usize).copied().unwrap_or_default();
                    self.add_number(scaled(mantissa as f64, scale));
                }
                Cell::Boolean(value) => {
                    self.trues += u64::from(value);
                    self.words.add(if value { b"true" } else { b"false" });
                }
                Cell::Text { start, len } => {
                    let (start, len) = (start as usize, len as usize);
                    self.add_text(bytes.get(start..start + len).unwrap_or_default());
                }
                Cell::Date(days) => self.add_moment(f64::from(days)),
                Cell::Time(micros) | Cell::Timestamp(micros) | Cell::TimestampTz(micros) => {
                    self.add_moment(micros as f64);
                }
                Cell::Uuid { .. } => {}
            }
        }
    }

    #[inline]
    fn add_number(&mut self, value: f64) {
        if !value.is_finite() {
            return;
        }
        self.numbers += 1;
        self.sum += value;
        self.least = self.least.min(value);
        self.greatest = self.greatest.max(value);
        self.negatives += u64::from(value < 0.0);
        if value == 0.0 {
            self.zeros += 1;
            return;
        }
        let size = rough_log2(value.abs());
        self.sizes.0 += size;
        self.sizes.1 += size * size;
    }

    /// Of moments only the extremes are kept: they go on from file to file.
    #[inline]
    fn add_moment(&mut self, value: f64) {
        self.least = self.least.min(value);
        self.greatest = self.greatest.max(value);
    }

    #[inline]
    fn add_text(&mut self, text: &[u8]) {
        let length = text.len() as f64;
        self.texts += 1;
        self.lengths.0 += length;
        self.lengths.1 += length * length;
        if !self.words.is_over() {
            self.words.add(text);
        }
    }

    /// Takes in what was found of other rows of the file.
    pub fn merge(&mut self, other: &ColumnFigures) {
        self.rows += other.rows;
        self.nulls += other.nulls;
        self.numbers += other.numbers;
        self.zeros += other.zeros;
        self.negatives += other.negatives;
        self.trues += other.trues;
        self.sum += other.sum;
        self.least = self.least.min(other.least);
        self.greatest = self.greatest.max(other.greatest);
        self.sizes = (self.sizes.0 + other.sizes.0, self.sizes.1 + other.sizes.1);
        self.texts += other.texts;
        self.lengths = (self.lengths.0 + other.lengths.0, self.lengths.1 + other.lengths.1);
        self.words.merge(&other.words);
    }

    /// The figures as they are kept.
    pub fn summary(&self) -> ColumnSummary {
        let share = |count: u64, of: u64| (of > 0).then(|| count as f64 / of as f64);
        let has_extremes = self.least <= self.greatest;
        let is_empty = self.rows == self.nulls;
        ColumnSummary {
            rows: self.rows,
            nulls: self.nulls,
            mean: (self.numbers > 0).then(|| round(self.sum / self.numbers as f64)),
            least: has_extremes.then_some(self.least),
            greatest: has_extremes.then_some(self.greatest),
            zeros: share(self.zeros, self.numbers).map(round),
            negatives: share(self.negatives, self.numbers).map(round),
            size: Spread::of(self.numbers - self.zeros, self.sizes),
            length: Spread::of(self.texts, self.lengths),
            words: self.words.words().filter(|words| !words.is_empty() && !is_empty),
        }
    }
}

/// The logarithm to the base of two, as exact as a straight line between powers of two is.
#[inline]
fn rough_log2(value: f64) -> f64 {
    const MANTISSA: f64 = (1u64 << 52) as f64;
    value.to_bits() as f64 / MANTISSA - 1023.0
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn parts_merge_to_the_figures_of_the_whole() {
        let cells: Vec<Cell> =
            (0..100).map(|at| if at % 10 == 0 { Cell::Null } else { Cell::Integer(at - 50) }).collect();
        let figures = |cells: &[Cell]| {
            let mut figures = ColumnFigures::default();
            figures.add_all(cells.iter().copied(), &[], &[]);
            figures
        };
        let whole = figures(&cells).summary();
        let mut parts = figures(&cells[..37]);
        parts.merge(&figures(&cells[37..]));
        assert_eq!(parts.summary(), whole);
        assert_eq!(
            (whole.rows, whole.nulls, whole.least, whole.greatest),
            (100, 10, Some(-49.0), Some(49.0))
        );
        assert_eq!(whole.mean, Some(0.0));
    }

    #[test]
    fn a_factor_of_ten_moves_sizes_by_its_logarithm() {
        let of = |factor: f64| {
            let mut figures = ColumnFigures::default();
            figures.add_all((1..1000).map(|at| Cell::Float(f64::from(at) * factor)), &[], &[]);
            figures.summary().size.expect("sizes").mean
        };
        assert!((of(10.0) - of(1.0) - 10f64.log2()).abs() < 0.06, "{} {}", of(10.0), of(1.0));
    }
}
