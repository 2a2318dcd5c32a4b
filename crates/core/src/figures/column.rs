//! The figures of one column, taken value by value.

use std::collections::BTreeMap;

use super::summary::{ColumnSummary, Spread, round};
use super::words::WordCounts;
use crate::record::Cell;

/// What a column's values come to, in figures.
///
/// Numbers are taken as 64-bit floats: figures are for comparing, not for the account.
#[derive(Clone, Debug, Default)]
pub struct ColumnFigures {
    rows: u64,
    nulls: u64,
    trues: u64,
    falses: u64,
    numbers: Numbers,
    texts: Texts,
    words: WordCounts,
}

/// What is summed up of numbers. It is copied while many are taken in, so that it stays in registers.
#[derive(Clone, Copy, Debug)]
struct Numbers {
    count: u64,
    zeros: u64,
    negatives: u64,
    sum: f64,
    least: f64,
    greatest: f64,
    /// The sum of the logarithms of the sizes of numbers, and of their squares.
    sizes: (f64, f64),
}

impl Default for Numbers {
    fn default() -> Self {
        let (least, greatest) = (f64::INFINITY, f64::NEG_INFINITY);
        Numbers { count: 0, zeros: 0, negatives: 0, sum: 0.0, least, greatest, sizes: (0.0, 0.0) }
    }
}

/// What is summed up of texts.
#[derive(Clone, Copy, Debug, Default)]
struct Texts {
    count: u64,
    /// The sum of their lengths, and of the squares of these.
    lengths: (f64, f64),
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

/// Divided, so that it is the decimal's nearest number, as people wrote it.
fn scaled(mantissa: f64, scale: u8) -> f64 {
    mantissa / TENS.get(usize::from(scale)).copied().unwrap_or(f64::INFINITY)
}

impl Numbers {
    #[inline]
    fn add(&mut self, value: f64) {
        if !value.is_finite() {
            return;
        }
        self.count += 1;
        self.sum += value;
        self.add_moment(value);
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
        self.least = if value < self.least { value } else { self.least };
        self.greatest = if value > self.greatest { value } else { self.greatest };
    }

    fn merge(&mut self, other: &Numbers) {
        self.count += other.count;
        self.zeros += other.zeros;
        self.negatives += other.negatives;
        self.sum += other.sum;
        self.least = self.least.min(other.least);
        self.greatest = self.greatest.max(other.greatest);
        self.sizes = (self.sizes.0 + other.sizes.0, self.sizes.1 + other.sizes.1);
    }
}

impl Texts {
    /// Takes in so many texts, the sum of their lengths and that of the squares.
    fn add(&mut self, count: u64, length: u64, squares: u64) {
        self.count += count;
        self.lengths.0 += length as f64;
        self.lengths.1 += squares as f64;
    }

    fn merge(&mut self, other: &Texts) {
        self.count += other.count;
        self.lengths = (self.lengths.0 + other.lengths.0, self.lengths.1 + other.lengths.1);
    }
}

impl ColumnFigures {
    /// Takes a few hundred values in at the most. Texts stand in `bytes`, wide mantissas in `wide`.
    #[inline]
    pub fn add_all<'c>(&mut self, cells: impl Iterator<Item = &'c Cell>, bytes: &[u8], wide: &[i128]) {
        let (mut numbers, mut rows) = (self.numbers, 0);
        // In whole numbers: the longest text has some 2^26 bytes, and there are few of them at a time.
        let (mut texts, mut length, mut squares) = (0, 0_u64, 0_u64);
        for cell in cells {
            rows += 1;
            match *cell {
                Cell::Null => self.nulls += 1,
                Cell::Integer(value) => numbers.add(value as f64),
                Cell::Float(value) => numbers.add(value),
                Cell::Decimal { mantissa, scale } => numbers.add(scaled(mantissa as f64, scale)),
                Cell::Wide { index, scale } => {
                    let mantissa = wide.get(index as usize).copied().unwrap_or_default();
                    numbers.add(scaled(mantissa as f64, scale));
                }
                Cell::Boolean(value) => {
                    self.trues += u64::from(value);
                    self.falses += u64::from(!value);
                }
                Cell::Text { start, len } => {
                    let (start, len) = (start as usize, len as usize);
                    texts += 1;
                    length += len as u64;
                    squares = squares.wrapping_add(len as u64 * len as u64);
                    if !self.words.is_over() {
                        self.words.add(bytes.get(start..start + len).unwrap_or_default());
                    }
                }
                Cell::Date(days) => numbers.add_moment(f64::from(days)),
                Cell::Time(micros) | Cell::Timestamp(micros) | Cell::TimestampTz(micros) => {
                    numbers.add_moment(micros as f64);
                }
                Cell::Uuid { .. } => {}
            }
        }
        self.numbers = numbers;
        self.texts.add(texts, length, squares);
        self.rows += rows;
    }

    /// Takes in what was found of other rows of the file.
    pub fn merge(&mut self, other: &ColumnFigures) {
        self.rows += other.rows;
        self.nulls += other.nulls;
        self.trues += other.trues;
        self.falses += other.falses;
        self.numbers.merge(&other.numbers);
        self.texts.merge(&other.texts);
        self.words.merge(&other.words);
    }

    /// The figures as they are kept.
    pub fn summary(&self) -> ColumnSummary {
        let share = |count: u64, of: u64| (of > 0).then(|| count as f64 / of as f64);
        let (numbers, texts) = (&self.numbers, &self.texts);
        let has_extremes = numbers.least <= numbers.greatest;
        let is_empty = self.rows == self.nulls;
        ColumnSummary {
            rows: self.rows,
            nulls: self.nulls,
            mean: (numbers.count > 0).then(|| round(numbers.sum / numbers.count as f64)),
            least: has_extremes.then_some(numbers.least),
            greatest: has_extremes.then_some(numbers.greatest),
            zeros: share(numbers.zeros, numbers.count).map(round),
            negatives: share(numbers.negatives, numbers.count).map(round),
            size: Spread::of(numbers.count - numbers.zeros, numbers.sizes),
            length: Spread::of(texts.count, texts.lengths),
            words: self.all_words().filter(|words| !words.is_empty() && !is_empty),
        }
    }

    /// The words, and with them the truth values; `None` where there are too many.
    fn all_words(&self) -> Option<BTreeMap<String, u64>> {
        let mut words = self.words.words()?;
        for (word, count) in [("true", self.trues), ("false", self.falses)] {
            if count > 0 {
                *words.entry(word.to_owned()).or_default() += count;
            }
        }
        Some(words)
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
            figures.add_all(cells.iter(), &[], &[]);
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
            let cells: Vec<Cell> = (1..1000).map(|at| Cell::Float(f64::from(at) * factor)).collect();
            figures.add_all(cells.iter(), &[], &[]);
            figures.summary().size.expect("sizes").mean
        };
        assert!((of(10.0) - of(1.0) - 10f64.log2()).abs() < 0.06, "{} {}", of(10.0), of(1.0));
    }
}
