//! Which dialect a text is written in, by trying those it could be and looking at what comes
//! out: records of equal width whose fields look like values.
//!
//! The weighing of row patterns against value types follows the idea of van den Burg,
//! Nazábal and Sutton, "Wrangling messy CSV files by detecting row and type patterns" (2019).

use hypodoke_core::record::{Origin, Records};
use hypodoke_core::spelling::{Recognised, recognise};

use super::tokenise::{End, Tokeniser};
use crate::dialect::{Delimiter, Dialect, Escape, Marks};

/// The most text that is tried, and the most records of it that are weighed.
const SAMPLE_BYTES: usize = 48 * 1024;
const SAMPLE_RECORDS: usize = 120;

/// What the user says of the dialect; the rest is found.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct DialectOptions {
    /// What stands between fields.
    pub delimiter: Option<Delimiter>,
    /// What stands around fields; `Some(None)` is nothing.
    pub quote: Option<Option<u8>>,
    /// How a quote is written inside such a field.
    pub escape: Option<Escape>,
    /// What begins a comment line; `Some(None)` is nothing.
    pub comment: Option<Option<u8>>,
}

/// Finds the dialect of a text by its beginning; `whole` if that is all of it.
///
/// ```
/// use hypodoke_formats::text::Delimiter;
/// use hypodoke_formats::text::detect::{DialectOptions, detect};
///
/// let dialect = detect(b"berth;draught\nN1;7,50\nN2;6,25\n", true, DialectOptions::default());
/// assert_eq!(dialect.delimiter, Delimiter::Char(';'));
/// ```
pub fn detect(text: &[u8], whole: bool, options: DialectOptions) -> Dialect {
    let (sample, whole) = cut(text, whole);
    let base =
        Dialect { comment: options.comment.unwrap_or_else(|| comment_mark(sample)), ..Dialect::default() };
    let mut best =
        (f64::MIN, Dialect { delimiter: options.delimiter.unwrap_or(Delimiter::Char(',')), ..base });
    // A carriage return in the middle of a line ends it, unless the lines are more even without.
    let mut records = Records::default();
    let line_ends: &[bool] = if has_stray_cr(sample) { &[true, false] } else { &[true] };
    for (delimiter, prior) in delimiters(sample, options.delimiter) {
        for (quote, escape) in quotes(sample, &options) {
            for blanks_before in before_fields(sample, delimiter, quote) {
                for lone_cr in line_ends {
                    let dialect =
                        Dialect { delimiter, quote, escape, blanks_before, lone_cr: *lone_cr, ..base };
                    let quoting = if quote.is_none() { 0.97 } else { 1.0 };
                    let score = weigh(sample, whole, dialect, &mut records) * prior * quoting;
                    if score > best.0 {
                        best = (score, dialect);
                    }
                }
            }
        }
    }
    best.1
}

/// Whether blanks before fields may be no part of them: both are tried where quotes follow blanks, and
/// where every delimiter has a blank behind it they are not.
fn before_fields(sample: &[u8], delimiter: Delimiter, quote: Option<u8>) -> Vec<bool> {
    let Delimiter::Char(mark @ (',' | ';' | '|' | ':')) = delimiter else { return vec![false] };
    let mark = mark as u8;
    let (mut spaced, mut all, mut before_quotes) = (0, 0, false);
    for pair in sample.windows(2).filter(|pair| pair[0] == mark && !matches!(pair[1], b'\r' | b'\n')) {
        all += 1;
        spaced += usize::from(pair[1] == b' ');
    }
    if let Some(quote) = quote {
        before_quotes = sample.windows(3).any(|three| three == [mark, b' ', quote]);
    }
    match () {
        () if spaced > 2 && spaced == all => vec![true],
        () if before_quotes => vec![false, true],
        () => vec![false],
    }
}

fn cut(text: &[u8], whole: bool) -> (&[u8], bool) {
    if text.len() <= SAMPLE_BYTES { (text, whole) } else { (&text[..SAMPLE_BYTES], false) }
}

/// Whether some carriage returns have no line feed behind them, and fewer than there are line feeds.
fn has_stray_cr(sample: &[u8]) -> bool {
    let returns = sample.windows(2).filter(|pair| pair[0] == b'\r' && pair[1] != b'\n').count();
    returns > 0 && returns < memchr::memchr_iter(b'\n', sample).count()
}

/// Lines before the table that begin with `#` make it the comment mark, as `%` and `//` are
/// too rare to be worth mistaking data for.
fn comment_mark(sample: &[u8]) -> Option<u8> {
    let mut lines = sample.split(|b| *b == b'\n').filter(|line| !line.is_empty());
    let first = lines.next()?;
    if first.first() != Some(&b'#') {
        return None;
    }
    // A header may begin with `#` too: `#id,name` over rows of as many fields is no comment.
    let second = lines.next().unwrap_or_default();
    let marks = |line: &[u8]| line.iter().filter(|b| matches!(b, b',' | b';' | b'\t' | b'|')).count();
    let header = marks(first) > 0 && marks(first) == marks(second) && second.first() != Some(&b'#');
    (!header).then_some(b'#')
}

/// Whether a character that is none of the usual delimiters may be one.
fn may_divide(c: char) -> bool {
    let is_symbol = c.is_ascii_punctuation() || c.is_ascii_control() || !c.is_ascii() && !c.is_alphanumeric();
    let is_tried = matches!(c, ',' | ';' | '\t' | '|');
    // Values contain these characters: quotes, brackets, signs and units.
    let is_of_values = matches!(
        c,
        '"' | '\''
            | '.'
            | '-'
            | '_'
            | ' '
            | '('
            | ')'
            | '['
            | ']'
            | '{'
            | '}'
            | '%'
            | '€'
            | '£'
            | '°'
            | '+'
            | '@'
    );
    is_symbol && !is_tried && !is_of_values && c != '\u{FFFD}'
}

/// How likely such a character is a delimiter, before looking.
fn prior_of(c: char) -> f64 {
    match c {
        ':' => 0.5,
        '/' | '=' => 0.35,
        '^' | '~' | '¦' | '§' | '¬' | '!' | '*' | '#' | '&' => 0.8,
        c if c.is_ascii_control() => 0.95,
        _ => 0.5,
    }
}

/// The delimiters worth trying, with how likely each is before looking.
fn delimiters(sample: &[u8], wished: Option<Delimiter>) -> Vec<(Delimiter, f64)> {
    if let Some(delimiter) = wished {
        return vec![(delimiter, 1.0)];
    }
    let mut found: Vec<(Delimiter, f64)> = Vec::new();
    for (c, prior) in [(',', 1.0), (';', 1.0), ('\t', 1.0), ('|', 0.95)] {
        // The comma is always tried: it stands for a single column where there is none.
        if c == ',' || sample.contains(&(c as u8)) {
            found.push((Delimiter::Char(c), prior));
        }
    }
    let lines: Vec<&str> = sample
        .split(|b| matches!(b, b'\n' | b'\r'))
        .filter(|line| !line.is_empty())
        .take(60)
        .filter_map(|line| std::str::from_utf8(line).ok())
        .collect();
    for marks in several(&lines) {
        // Where the mark never stands alone, it is no delimiter by itself.
        let Some(delimiter) = Marks::new(&marks) else { continue };
        let core = marks.trim().chars().next();
        found.retain(|(other, _)| !matches!(other, Delimiter::Char(c) if Some(*c) == core));
        found.push((Delimiter::Several(delimiter), 1.0));
    }
    let taken: Vec<char> = found
        .iter()
        .filter_map(|(delimiter, _)| match delimiter {
            Delimiter::Several(marks) => marks.text().trim().chars().next(),
            _ => None,
        })
        .collect();
    let often = |c: char| lines.iter().filter(|line| line.contains(c)).count() * 10 >= lines.len() * 7;
    let mut others: Vec<char> =
        lines.iter().skip(lines.len() / 2).take(1).flat_map(|line| line.chars()).collect();
    others.sort_unstable();
    others.dedup();
    others.retain(|c| may_divide(*c) && !taken.contains(c) && often(*c));
    found.extend(others.into_iter().map(|c| (Delimiter::Char(c), prior_of(c))));
    if lines.len() > 1 && (often(' ') || often('\t')) {
        found.push((Delimiter::Blanks, 0.7));
    }
    found
}

/// Delimiters of several characters that all lines have: a mark that is always doubled, or that always
/// stands between the same blanks.
fn several(lines: &[&str]) -> Vec<String> {
    let mut found = Vec::new();
    for mark in ['|', ':', ';', ',', '~', '^', '#', '@', '$', '*', '!', '§', '¦'] {
        let has_all = lines.len() > 1 && lines.iter().all(|line| line.contains(mark));
        if !has_all {
            continue;
        }
        if is_doubled(lines, mark) {
            found.push(format!("{mark}{mark}"));
        } else if mark == '|'
            && let Some(blank) = [' ', '\t'].into_iter().find(|blank| is_between(lines, mark, *blank))
        {
            found.push(format!("{blank}{mark}{blank}"));
        }
    }
    found
}

/// Whether a mark stands twice as often in all lines, and hardly ever alone.
fn is_doubled(lines: &[&str], mark: char) -> bool {
    let (mut doubled, mut alone) = (Vec::new(), 0);
    for line in lines {
        let runs = line.split(|c| c != mark).map(|run| run.chars().count()).filter(|length| *length > 0);
        let (even, odd): (Vec<usize>, Vec<usize>) = runs.partition(|length| length % 2 == 0);
        doubled.push(even.iter().sum::<usize>() / 2);
        alone += odd.len();
    }
    let first = doubled.first().copied().unwrap_or(0);
    first > 0 && doubled.iter().all(|count| *count == first) && alone * 4 <= lines.len() * first
}

/// Whether a mark always has this blank on both sides, but for the ends of lines.
fn is_between(lines: &[&str], mark: char, blank: char) -> bool {
    lines.iter().all(|line| {
        let parts: Vec<&str> = line.split(mark).collect();
        let last = parts.len() - 1;
        parts.iter().enumerate().all(|(at, part)| {
            (at == 0 || part.starts_with(blank) || at == last && part.is_empty())
                && (at == last || part.ends_with(blank))
        })
    })
}

fn quotes(sample: &[u8], options: &DialectOptions) -> Vec<(Option<u8>, Escape)> {
    let quotes = match options.quote {
        Some(quote) => vec![quote],
        None => {
            let mut quotes = vec![Some(b'"')];
            if sample.contains(&b'\'') {
                quotes.push(Some(b'\''));
            }
            if sample.contains(&b'"') {
                quotes.push(None);
            }
            quotes
        }
    };
    let mut found = Vec::new();
    for quote in quotes {
        let slashed = quote.is_some_and(|quote| sample.windows(2).any(|pair| pair == [b'\\', quote]));
        match options.escape {
            Some(escape) => found.push((quote, escape)),
            None => {
                found.push((quote, Escape::Doubled));
                if slashed {
                    found.push((quote, Escape::Backslash));
                }
            }
        }
    }
    found
}

/// How good the records look that a dialect gives: 0 to a little over 1. They are left in `records`.
fn weigh(sample: &[u8], whole: bool, dialect: Dialect, records: &mut Records) -> f64 {
    records.clear();
    records.bytes.extend_from_slice(sample);
    let end = if whole { End::Last } else { End::More };
    let taken = Tokeniser::new(dialect, 1).run(records, end);
    if taken * 2 < sample.len() && !whole {
        // A quote that is not closed in all of the sample: one bad row, or no quote at all.
        records.clear();
        records.bytes.extend_from_slice(sample);
        Tokeniser::new(dialect, 1).run(records, End::Last);
    }
    let count = records.len().min(SAMPLE_RECORDS);
    if count == 0 {
        return 0.0;
    }
    let sound = (0..count).filter(|at| records.fault(*at).is_none());
    let widths: Vec<usize> = sound.map(|at| records.fields(at).len()).collect();
    let count = widths.len();
    if count == 0 {
        return 0.0;
    }
    let width = usual_width(&widths);
    // Titles before the table and notes after it are not held against a dialect.
    let first = widths.iter().position(|w| *w == width).unwrap_or(0);
    let last = widths.iter().rposition(|w| *w == width).unwrap_or(0);
    let outside = (count - (last - first + 1)) as f64;
    let inside = &widths[first..=last];
    let alike = inside.iter().filter(|w| **w == width).count() as f64;
    // Words of a sentence are parted by blanks too: there every line counts.
    let weight = if width > 1 && dialect.delimiter != Delimiter::Blanks { 0.25 } else { 1.0 };
    let even = alike / (inside.len() as f64 + outside * weight);
    // One stray quote in a short file is a bad row, not another dialect.
    let faults = records.faults().len() as f64 / count.max(20) as f64;
    let looks = looks(records, first, records.len().min(SAMPLE_RECORDS), width, dialect.quote);
    let breadth = if width > 1 { 1.0 - 0.6 / width as f64 } else { 0.3 };
    even * even * (0.15 + looks) * breadth * (1.0 - faults.min(1.0))
}

/// The number of fields that most records have, wider ones counting a little more.
pub fn usual_width(widths: &[usize]) -> usize {
    let mut counts = std::collections::BTreeMap::new();
    for width in widths {
        *counts.entry(*width).or_insert(0usize) += 1;
    }
    let weight = |(width, count): (&usize, &usize)| *count * if *width > 1 { 3 } else { 2 };
    let best = counts.iter().max_by_key(|(w, c)| (weight((w, c)), **w));
    best.map_or(1, |(width, _)| *width)
}

/// The share of fields that look like values: typed ones wholly, plain words mostly, and
/// what still holds delimiters or half a quote hardly.
fn looks(records: &Records, first: usize, count: usize, width: usize, quote: Option<u8>) -> f64 {
    let (mut sum, mut cells) = (0.0, 0usize);
    for at in (first..count).filter(|at| records.fields(*at).len() == width) {
        for field in records.fields(at) {
            let value = records.value(*field);
            cells += 1;
            sum += if field.origin() == Origin::Quoted { 1.0 } else { look(value, quote) };
        }
    }
    if cells == 0 { 0.0 } else { sum / cells as f64 }
}

fn look(value: &[u8], quote: Option<u8>) -> f64 {
    match recognise(value) {
        Recognised::Null(0) => 0.7,
        Recognised::Null(_) => 0.9,
        Recognised::Text => {
            let trimmed = hypodoke_core::spelling::trim(value);
            let (head, tail) = (trimmed.first().copied(), trimmed.last().copied());
            let half = |b: Option<u8>| b == Some(b'"') || quote.is_some() && b == quote;
            let marks = trimmed.iter().filter(|b| matches!(b, b',' | b';' | b'\t' | b'|')).count();
            match (half(head) || half(tail), marks) {
                (true, _) => 0.05,
                (_, 0) if memchr::memchr_iter(b':', trimmed).count() > 1 => 0.4,
                (_, 0) if trimmed.len() <= 40 => 0.75,
                (_, 0) => 0.6,
                (_, 1) => 0.4,
                _ => 0.15,
            }
        }
        _ => 1.0,
    }
}
