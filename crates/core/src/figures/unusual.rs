//! Figures that stand far outside what the files before had.
//!
//! A figure is unusual where it lies beyond the range of those before by more than that range is wide, by
//! more than four standard errors, and by more than a floor below which nobody would look: so growth and
//! seasons are quiet, and a factor of ten is not.

use std::collections::BTreeMap;
use std::fmt;

use serde::{Deserialize, Serialize};

use super::summary::{ColumnSummary, Spread};

/// So many files have to have come before anything is called unusual.
pub const ENOUGH_FILES: usize = 5;

/// No more of the files before are looked at than these.
pub const MOST_FILES: usize = 30;

/// Fewer values than these tell nothing.
const FEW_VALUES: u64 = 10;

/// A share of nulls, zeros or numbers below zero that differs by less is not looked at.
const FAR_SHARE: f64 = 0.1;

/// The share of a word, likewise.
const FAR_SHARE_OF_WORDS: f64 = 0.35;

/// The size of numbers, likewise, in powers of two: a factor of two and a half.
const FAR_SIZE: f64 = 1.32;

/// The length of texts, likewise, in bytes.
const FAR_LENGTH: f64 = 2.0;

/// Which figure of a column is unusual.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum UnusualFigure {
    /// The share of nulls.
    Nulls,
    /// How large numbers are.
    Size,
    /// The share of zeros.
    Zeros,
    /// The share of numbers below zero.
    Negatives,
    /// How long texts are.
    Length,
    /// A word that a code list had not.
    NewWord,
    /// All values are the same.
    Constant,
    /// How often each word of a short list comes.
    Words,
    /// How many rows the file has. It is no figure of a column.
    Rows,
}

/// A figure of a column that stands far outside what is usual.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Unusual {
    /// The column, by its name in the table.
    pub column: String,
    /// The figure.
    pub figure: UnusualFigure,
    /// What it is, in words.
    pub now: String,
    /// What it was in the files before, in words.
    pub before: String,
}

impl fmt::Display for Unusual {
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        let Unusual { column, figure, now, before } = self;
        match figure {
            UnusualFigure::Nulls => {
                write!(out, "`{column}` is null in {now} of the rows, usually in {before}")
            }
            UnusualFigure::Size => {
                write!(out, "numbers of `{column}` are {now} on average, usually {before}")
            }
            UnusualFigure::Zeros => write!(out, "`{column}` is 0 in {now} of the rows, usually in {before}"),
            UnusualFigure::Negatives => {
                write!(out, "`{column}` is below 0 in {now} of the rows, usually in {before}")
            }
            UnusualFigure::Length => {
                write!(out, "texts of `{column}` have {now} bytes on average, usually {before}")
            }
            UnusualFigure::NewWord => write!(out, "`{column}` holds {now}, until now only {before}"),
            UnusualFigure::Constant => write!(out, "`{column}` is {now} in every row, usually {before}"),
            UnusualFigure::Rows => write!(out, "{now} rows, usually {before}"),
            UnusualFigure::Words => write!(out, "`{column}` is {now} of the rows, usually {before}"),
        }
    }
}

/// The figures of a column that are unusual, against those of the files before, the newest first.
///
/// With fewer than [`ENOUGH_FILES`] before, nothing is.
pub fn unusual<'f>(
    column: &str,
    now: &ColumnSummary,
    before: impl Iterator<Item = &'f ColumnSummary> + Clone,
) -> Vec<Unusual> {
    let before = before.filter(|file| file.rows >= FEW_VALUES).take(MOST_FILES);
    if before.clone().next().is_none_or(|newest| is_like(now, newest)) {
        return Vec::new();
    }
    judged(column, now, &before.collect::<Vec<_>>())
}

/// The same, held against all of the files.
fn judged(column: &str, now: &ColumnSummary, before: &[&ColumnSummary]) -> Vec<Unusual> {
    if before.len() < ENOUGH_FILES || now.rows < FEW_VALUES {
        return Vec::new();
    }
    let judge = Judge { column, now, before };
    let found = [
        judge.nulls(),
        judge.size(),
        judge.share(UnusualFigure::Zeros, &|file| file.zeros),
        judge.share(UnusualFigure::Negatives, &|file| file.negatives),
        judge.length(),
        judge.new_word(),
        judge.constant(),
        judge.word_shares(),
    ];
    let mut found: Vec<Unusual> = found.into_iter().flatten().collect();
    // One reason says enough where they are the same: all null, all zero, all one word.
    if found.iter().any(|one| one.figure == UnusualFigure::Nulls) && now.rows == now.nulls {
        found.retain(|one| one.figure == UnusualFigure::Nulls);
    }
    if found.iter().any(|one| one.figure == UnusualFigure::Constant) {
        found.retain(|one| matches!(one.figure, UnusualFigure::Constant | UnusualFigure::Nulls));
    }
    found
}

/// Whether no figure is further from those of one file before than what nobody would look at: then none is
/// further beyond the range of all. Most files are like the one before, and are done with by this.
fn is_like(now: &ColumnSummary, before: &ColumnSummary) -> bool {
    let is_near = |now: Option<f64>, before: Option<f64>, floor: f64| match (now, before) {
        (Some(now), Some(before)) => (now - before).abs() <= floor,
        (now, _) => now.is_none(),
    };
    let mean = |spread: Option<Spread>| spread.filter(|all| all.count >= FEW_VALUES).map(|all| all.mean);
    let words_are_near = match (&now.words, &before.words) {
        (Some(now), Some(before)) => {
            let share = |words: &BTreeMap<String, u64>, word: &str| {
                let all: u64 = words.values().sum();
                words.get(word).copied().unwrap_or_default() as f64 / all.max(1) as f64
            };
            now.keys().all(|word| before.contains_key(word))
                && before.keys().all(|word| {
                    is_near(Some(share(now, word)), Some(share(before, word)), FAR_SHARE_OF_WORDS)
                })
        }
        (now, _) => now.is_none(),
    };
    is_near(Some(now.null_share()), Some(before.null_share()), FAR_SHARE)
        && is_near(now.zeros, before.zeros, FAR_SHARE)
        && is_near(now.negatives, before.negatives, FAR_SHARE)
        && is_near(mean(now.size), mean(before.size), FAR_SIZE)
        && is_near(mean(now.length), mean(before.length), FAR_LENGTH)
        && words_are_near
        && now.is_constant() != Some(true)
}

/// Whether a file has far fewer rows than those before, the newest first: less than a fifth of what is usual,
/// and than half of what any of them had.
///
/// ```
/// use hypodoke_core::figures::far_fewer_rows;
///
/// let before = [1000, 1010, 990, 1005, 995, 1001];
/// assert!(far_fewer_rows(3, &before).is_some());
/// assert!(far_fewer_rows(998, &before).is_none());
/// ```
pub fn far_fewer_rows(now: u64, before: &[u64]) -> Option<Unusual> {
    if before.first().is_none_or(|newest| now.saturating_mul(2) >= *newest) {
        return None;
    }
    let before: Vec<f64> = before.iter().take(MOST_FILES).map(|rows| *rows as f64).collect();
    let (_, least, greatest) = beyond(0.0, &before);
    let rows = now as f64;
    let is_few = rows * 5.0 < median(&before) && rows * 2.0 < least && median(&before) >= FEW_VALUES as f64;
    (before.len() >= ENOUGH_FILES && is_few).then(|| Unusual {
        column: "rows".to_owned(),
        figure: UnusualFigure::Rows,
        now: crate::count::number(now),
        before: range(crate::count::number(least as u64), crate::count::number(greatest as u64)),
    })
}

struct Judge<'f> {
    column: &'f str,
    now: &'f ColumnSummary,
    before: &'f [&'f ColumnSummary],
}

/// How far a figure lies beyond the range of those before; 0 within it. And that range.
fn beyond(now: f64, before: &[f64]) -> (f64, f64, f64) {
    let least = before.iter().copied().fold(f64::INFINITY, f64::min);
    let greatest = before.iter().copied().fold(f64::NEG_INFINITY, f64::max);
    ((now - greatest).max(least - now).max(0.0), least, greatest)
}

impl Judge<'_> {
    fn found(&self, figure: UnusualFigure, now: String, before: String) -> Option<Unusual> {
        Some(Unusual { column: self.column.to_owned(), figure, now, before })
    }

    fn nulls(&self) -> Option<Unusual> {
        let before: Vec<f64> = self.before.iter().map(|file| file.null_share()).collect();
        self.share_of(UnusualFigure::Nulls, self.now.null_share(), self.now.rows, before)
    }

    fn share(&self, figure: UnusualFigure, of: &dyn Fn(&ColumnSummary) -> Option<f64>) -> Option<Unusual> {
        let values = self.now.rows - self.now.nulls.min(self.now.rows);
        let before: Vec<f64> = self.before.iter().filter_map(|file| of(file)).collect();
        self.share_of(figure, of(self.now)?, values, before)
    }

    fn share_of(&self, figure: UnusualFigure, now: f64, values: u64, before: Vec<f64>) -> Option<Unusual> {
        if before.len() < ENOUGH_FILES || values < FEW_VALUES {
            return None;
        }
        let (far, least, greatest) = beyond(now, &before);
        let usual = median(&before);
        // By chance alone a share may be off by so much.
        let error = (usual.max(0.5 / values as f64) * (1.0 - usual).max(0.05) / values as f64).sqrt();
        let is_far = far > FAR_SHARE && far > greatest - least && far > 4.5 * error;
        is_far.then(|| self.found(figure, percent(now), range(percent(least), percent(greatest))))?
    }

    fn size(&self) -> Option<Unusual> {
        let spreads: Vec<_> = self.before.iter().filter_map(|file| file.size).collect();
        let now = self.now.size.filter(|now| now.count >= FEW_VALUES)?;
        let means: Vec<f64> =
            spreads.iter().filter(|before| before.count >= FEW_VALUES).map(|before| before.mean).collect();
        if means.len() < ENOUGH_FILES {
            return None;
        }
        let (far, least, greatest) = beyond(now.mean, &means);
        let widest = spreads.iter().map(|spread| spread.deviation).fold(now.deviation, f64::max);
        let error = widest / (now.count as f64).sqrt();
        if far <= FAR_SIZE || far <= greatest - least || far <= 4.5 * error {
            return None;
        }
        let means: Vec<f64> = self.before.iter().filter_map(|file| file.mean).collect();
        let (_, least, greatest) = beyond(0.0, &means);
        let now = figure(self.now.mean?);
        self.found(UnusualFigure::Size, now, range(figure(least), figure(greatest)))
    }

    fn length(&self) -> Option<Unusual> {
        let lengths: Vec<_> = self.before.iter().filter_map(|file| file.length).collect();
        let now = self.now.length.filter(|now| now.count >= FEW_VALUES)?;
        let means: Vec<f64> =
            lengths.iter().filter(|before| before.count >= FEW_VALUES).map(|before| before.mean).collect();
        if means.len() < ENOUGH_FILES {
            return None;
        }
        let (far, least, greatest) = beyond(now.mean, &means);
        let widest = lengths.iter().map(|spread| spread.deviation).fold(now.deviation, f64::max);
        let error = widest / (now.count as f64).sqrt();
        let floor = (0.5 * median(&means)).max(FAR_LENGTH);
        let is_far = far > floor && far > greatest - least && far > 4.5 * error;
        is_far.then(|| {
            self.found(UnusualFigure::Length, figure(now.mean), range(figure(least), figure(greatest)))
        })?
    }

    /// A word that no file before had, where the list of words was closed: each of them came in many of
    /// the files.
    fn new_word(&self) -> Option<Unusual> {
        let now = self.now.words.as_ref().filter(|_| self.now.length.is_some())?;
        let mut files: BTreeMap<&str, usize> = BTreeMap::new();
        for words in self.before.iter().map(|file| file.words.as_ref()) {
            // Where there were too many in one of them it is no list of codes.
            for word in words?.keys() {
                *files.entry(word).or_default() += 1;
            }
        }
        let is_closed = files.values().all(|count| *count * 2 >= self.before.len());
        let new: Vec<String> = now
            .keys()
            .filter(|word| !files.contains_key(word.as_str()))
            .map(|word| format!("`{word}`"))
            .collect();
        // Whole new lists are told by other figures, or are none.
        if new.is_empty() || !is_closed || files.len() < 2 || new.len() > files.len() {
            return None;
        }
        let known: Vec<String> = files.keys().map(|word| format!("`{word}`")).collect();
        self.found(UnusualFigure::NewWord, some(&new), some(&known))
    }

    /// A column that is the same in every row, and was not in any file before.
    fn constant(&self) -> Option<Unusual> {
        if self.now.is_constant() != Some(true) {
            return None;
        }
        let values = self.now.rows - self.now.nulls;
        let varies = self.before.iter().all(|file| file.is_constant() == Some(false));
        if !varies || values < FEW_VALUES {
            return None;
        }
        // What the commonest word was, all rows may be by chance.
        let commonest = |file: &&ColumnSummary| {
            let words = file.words.as_ref()?;
            let all: u64 = words.values().sum();
            Some(words.values().max().copied().unwrap_or_default() as f64 / all.max(1) as f64)
        };
        let share = self.before.iter().filter_map(commonest).fold(0.0, f64::max);
        let fewest = if share == 0.0 { 20 } else { FEW_VALUES };
        if values < fewest || share.powf(values as f64) > 1e-6 {
            return None;
        }
        let now = match (&self.now.words, self.now.least) {
            (Some(words), _) => words.keys().next().map(|word| format!("`{word}`"))?,
            (None, least) => figure(least?),
        };
        self.found(UnusualFigure::Constant, now, "not".to_owned())
    }

    /// Words of a short list that come far more or less often than usual.
    fn word_shares(&self) -> Option<Unusual> {
        let share = |file: &ColumnSummary, word: &str| {
            let words = file.words.as_ref()?;
            let all: u64 = words.values().sum();
            Some(words.get(word).copied().unwrap_or_default() as f64 / all.max(1) as f64)
        };
        let values = self.now.rows - self.now.nulls.min(self.now.rows);
        if values < 3 * FEW_VALUES {
            return None;
        }
        let known: Vec<&String> =
            self.before.iter().filter_map(|file| file.words.as_ref()).flat_map(BTreeMap::keys).collect();
        let mut furthest: Option<(f64, Unusual)> = None;
        let mut seen = std::collections::BTreeSet::new();
        for word in known.into_iter().filter(|word| seen.insert(word.as_str())) {
            let before: Vec<f64> = self.before.iter().filter_map(|file| share(file, word)).collect();
            if before.len() < ENOUGH_FILES {
                return None;
            }
            let now = share(self.now, word)?;
            let (far, least, greatest) = beyond(now, &before);
            if far > FAR_SHARE_OF_WORDS
                && far > greatest - least
                && furthest.as_ref().is_none_or(|(known, _)| far > *known)
            {
                let (now, before) = (
                    format!("`{word}` in {}", percent(now)),
                    format!("in {}", range(percent(least), percent(greatest))),
                );
                furthest = Some((far, self.found(UnusualFigure::Words, now, before)?));
            }
        }
        furthest.map(|(_, found)| found)
    }
}

fn median(values: &[f64]) -> f64 {
    let mut sorted = values.to_vec();
    sorted.sort_by(f64::total_cmp);
    sorted.get(sorted.len() / 2).copied().unwrap_or_default()
}

/// A share in percent: `34%`, `0.4%`.
pub fn percent(share: f64) -> String {
    let percent = share * 100.0;
    if percent == 0.0 || percent >= 9.95 { format!("{percent:.0}%") } else { format!("{percent:.1}%") }
}

/// A number with three digits or so: `40,066`, `38.2`, `0.0025`.
pub fn figure(value: f64) -> String {
    match value.abs() {
        size if size >= 1e15 || size < 1e-4 && size > 0.0 => format!("{value:.2e}"),
        size if size >= 100.0 => {
            let sign = if value < 0.0 { "-" } else { "" };
            format!("{sign}{}", crate::count::number(size.round() as u64))
        }
        size if size >= 10.0 => format!("{value:.1}"),
        size if size >= 1.0 || size == 0.0 => format!("{value:.2}"),
        _ => format!("{value:.4}"),
    }
}

/// `3% to 5%`, or one of them where they are the same.
fn range(least: String, greatest: String) -> String {
    if least == greatest { least } else { format!("{least} to {greatest}") }
}

/// The first of some words.
fn some(words: &[String]) -> String {
    const SHOWN: usize = 6;
    match words.len() {
        0..=SHOWN => words.join(", "),
        all => format!("{} and {} more", words.get(..SHOWN).unwrap_or_default().join(", "), all - SHOWN),
    }
}

#[cfg(test)]
#[path = "unusual_tests.rs"]
mod tests;
