//! What a cell shows: its value, exactly.

use std::io::Write;

use hypodoke_core::record::Cell;
use hypodoke_core::spelling::temporal::DAY;

/// What a cell holds.
#[derive(Clone, Copy, Debug)]
pub enum Value<'a> {
    /// A text.
    Text(&'a str),
    /// A number and how it is shown.
    Number(f64, CellFormat),
    /// A truth value.
    Boolean(bool),
    /// An error, as it is shown.
    Error(&'a str),
}

/// A cell, its row and column counted from 0.
#[derive(Clone, Copy, Debug)]
pub struct CellAt<'a> {
    /// Its row.
    pub row: u32,
    /// Its column.
    pub column: u32,
    /// What it holds.
    pub value: Value<'a>,
}

/// How a cell's number is shown, as far as it changes what the number means.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum CellFormat {
    /// As a number.
    #[default]
    Number,
    /// As a percentage.
    Percent,
    /// With the sign of a currency.
    Money,
    /// As digits of a fixed count, zeros before them.
    Padded(usize),
    /// As a point in time, with the parts that its format names; neither where that is unknown.
    Moment {
        /// It shows a day.
        day: bool,
        /// It shows a time of day.
        time: bool,
    },
    /// As hours and minutes that may be more than a day's.
    Span,
}

impl CellFormat {
    /// What a number format (ECMA-376, 18.8.31) makes of a number. Only the format for positive
    /// numbers is looked at, and only what is outside quotes.
    pub fn of_code(code: &str) -> CellFormat {
        let first = sections(code);
        let plain: String = first.chars().map(|c| c.to_ascii_lowercase()).collect();
        if plain.contains('%') {
            return CellFormat::Percent;
        }
        if code.contains("[$") && !code.contains("[$-")
            || code.contains(['$', '€', '£', '¥']) && plain.contains('0')
        {
            return CellFormat::Money;
        }
        if plain.len() >= 2 && plain.bytes().all(|b| b == b'0') {
            return CellFormat::Padded(plain.len());
        }
        let time = plain.contains(['h', 's']);
        CellFormat::Moment { day: plain.contains(['y', 'd']) || plain.contains('m') && !time, time }
    }
}

/// The first section of a format, without what stands in quotes, brackets or behind a backslash.
fn sections(code: &str) -> String {
    let mut out = String::new();
    let mut chars = code.chars();
    while let Some(c) = chars.next() {
        match c {
            ';' => break,
            '"' => {
                chars.by_ref().take_while(|c| *c != '"').for_each(drop);
            }
            '[' => {
                chars.by_ref().take_while(|c| *c != ']').for_each(drop);
            }
            '\\' | '_' | '*' => {
                chars.next();
            }
            c => out.push(c),
        }
    }
    out
}

/// Whether a number has more digits than the program that kept it could keep.
pub fn is_rounded(value: f64) -> bool {
    value.fract() == 0.0 && value.abs() >= 9_007_199_254_740_992.0
}

/// What a cell holds, as it is shown; nothing where that is an empty text. Texts are added to `text`.
pub fn value_of(found: &CellAt<'_>, is_1904: bool, text: &mut Vec<u8>) -> Option<Cell> {
    let own = match found.value {
        Value::Boolean(value) => Some(Cell::Boolean(value)),
        Value::Number(value, CellFormat::Number | CellFormat::Percent | CellFormat::Money) => {
            Some(number(value))
        }
        Value::Number(value, CellFormat::Moment { day, time }) => Some(moment(value, day, time, is_1904)),
        Value::Number(..) | Value::Text(_) | Value::Error(_) => None,
    };
    if own.is_some() {
        return own;
    }
    let start = text.len();
    match found.value {
        Value::Text(shown) | Value::Error(shown) => text.extend_from_slice(shown.as_bytes()),
        Value::Number(value, CellFormat::Padded(width)) => write_padded(value, width, text),
        Value::Number(value, CellFormat::Span) => write_span(value, text),
        Value::Number(..) | Value::Boolean(_) => {}
    }
    (text.len() > start).then(|| Cell::text(start..text.len()))
}

/// Writes what a cell shows.
pub fn write(found: &CellAt<'_>, is_1904: bool, out: &mut Vec<u8>) {
    let mut text = Vec::new();
    if let Some(value) = value_of(found, is_1904, &mut text) {
        value.write(&text, &[], out);
    }
}

/// The exact number that these programs keep as a float: the decimal of the fewest digits that gives
/// it back. What is left of a sum in binary, `0.30000000000000004`, is taken for what is shown, `0.3`:
/// they keep 15 digits and no more, so a number of which 15 digits are short was that number.
pub fn number(value: f64) -> Cell {
    if value.fract() == 0.0 && value.abs() < 1e17 {
        return Cell::Integer(value as i64);
    }
    if let Some(decimal) = short_decimal(value) {
        return decimal;
    }
    // More digits than these programs keep: those are written down to be counted.
    let digits = format!("{value:e}");
    let count = digits.split('e').next().unwrap_or_default().bytes().filter(u8::is_ascii_digit).count();
    if count > 15 {
        let shown = format!("{value:.14e}");
        let mantissa = shown.split('e').next().unwrap_or_default().trim_end_matches('0');
        if mantissa.bytes().filter(u8::is_ascii_digit).count() <= 12
            && let Ok(value) = shown.parse::<f64>()
        {
            return short_decimal(value).unwrap_or(Cell::Float(value));
        }
    }
    long_decimal(value).unwrap_or(Cell::Float(value))
}

/// The decimal of the fewest digits that is this float, if 15 digits will do and none of them needs
/// an exponent.
fn short_decimal(value: f64) -> Option<Cell> {
    let mut power = 10.0;
    for scale in 1..=22u8 {
        let mantissa = (value * power).round();
        if mantissa.abs() >= 1e15 || !(1e-7..1e17).contains(&value.abs()) {
            return None;
        }
        // Both are exact, so the quotient is the float nearest to the decimal.
        if mantissa / power == value {
            return Some(Cell::Decimal { mantissa: mantissa as i64, scale });
        }
        power *= 10.0;
    }
    None
}

/// The decimal of the fewest digits that is this float, however many they are.
fn long_decimal(value: f64) -> Option<Cell> {
    let is_plain = (1e-7..1e17).contains(&value.abs());
    let shown = is_plain.then(|| value.to_string())?;
    let (whole, part) = shown.split_once('.')?;
    let mantissa = format!("{whole}{part}").parse().ok()?;
    Some(Cell::Decimal { mantissa, scale: u8::try_from(part.len()).ok()? })
}

/// Writes a number as it is shown.
fn write_number(value: f64, out: &mut Vec<u8>) {
    number(value).write(&[], &[], out);
}

/// Writes digits with zeros before them.
fn write_padded(value: f64, width: usize, out: &mut Vec<u8>) {
    if value.fract() == 0.0 && (0.0..1e15).contains(&value) {
        let _ = write!(out, "{:0width$}", value as i64);
    } else {
        write_number(value, out);
    }
}

/// The moment that is kept as days since the system's first one, to the millisecond. What is no day of
/// the calendar stays the number that it is.
fn moment(value: f64, day: bool, time: bool, is_1904: bool) -> Cell {
    if !(0.0..2_958_466.0).contains(&value) {
        return number(value);
    }
    let millis = (value * 86_400_000.0).round() as i64;
    let (days, rest) = (millis.div_euclid(86_400_000), millis.rem_euclid(86_400_000));
    let micros = rest * 1000;
    if days == 0 && (time || rest != 0) && !(is_1904 && day) {
        return Cell::Time(micros);
    }
    let date = match days {
        // Days since 1904-01-01.
        _ if is_1904 => days - 24_107,
        // The 1900 system has a 29th of February that never was, and counts from a day before it.
        0 | 60 => return number(value),
        1..=59 => days - 25_568,
        _ => days - 25_569,
    };
    if rest != 0 || time {
        return Cell::Timestamp(date * DAY + micros);
    }
    i32::try_from(date).map_or_else(|_| number(value), Cell::Date)
}

/// Writes a span of time as hours, minutes and seconds.
fn write_span(value: f64, out: &mut Vec<u8>) {
    let millis = (value.abs() * 86_400_000.0).round() as u64;
    if value < 0.0 {
        out.push(b'-');
    }
    let (hours, minutes, seconds) = (millis / 3_600_000, millis / 60_000 % 60, millis / 1000 % 60);
    let _ = write!(out, "{hours:02}:{minutes:02}:{seconds:02}");
    if !millis.is_multiple_of(1000) {
        let _ = write!(out, ".{:03}", millis % 1000);
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    fn written(write: impl FnOnce(&mut Vec<u8>)) -> String {
        let mut out = Vec::new();
        write(&mut out);
        String::from_utf8(out).expect("text")
    }

    #[rstest]
    #[case(0.1, "0.1")]
    #[case(0.1 + 0.2, "0.3")]
    #[case(1.1, "1.1")]
    #[case(-12.5, "-12.5")]
    #[case(42.0, "42")]
    #[case(51.507_351_234_567_89, "51.50735123456789")]
    #[case(1.0 / 3.0, "0.3333333333333333")]
    #[case(1e300, "1e300")]
    #[case(2.5e-12, "2.5e-12")]
    #[case(12_345_678_901_234_568.0, "12345678901234568")]
    fn numbers_are_exact_and_short(#[case] value: f64, #[case] expected: &str) {
        assert_eq!(written(|out| write_number(value, out)), expected);
    }

    #[rstest]
    #[case(46_083.0, true, false, false, "2026-03-02")]
    #[case(46_083.302_083_333_336, true, true, false, "2026-03-02 07:15:00")]
    #[case(44_621.0, true, false, true, "2026-03-02")]
    #[case(1.0, true, false, false, "1900-01-01")]
    #[case(59.0, true, false, false, "1900-02-28")]
    #[case(60.0, true, false, false, "60")]
    #[case(0.0, true, false, false, "0")]
    #[case(2_958_465.0, true, false, false, "9999-12-31")]
    #[case(2_958_466.0, true, false, false, "2958466")]
    #[case(61.0, true, false, false, "1900-03-01")]
    #[case(0.302_083_333_333_333_3, false, true, false, "07:15:00")]
    #[case(0.0, true, false, true, "1904-01-01")]
    #[case(-3.0, true, false, false, "-3")]
    fn moments_count_from_their_systems_first_day(
        #[case] value: f64,
        #[case] day: bool,
        #[case] time: bool,
        #[case] is_1904: bool,
        #[case] expected: &str,
    ) {
        let value = Value::Number(value, CellFormat::Moment { day, time });
        let found = CellAt { row: 0, column: 0, value };
        assert_eq!(written(|out| write(&found, is_1904, out)), expected);
    }

    #[rstest]
    #[case("0.00%", CellFormat::Percent)]
    #[case("00000", CellFormat::Padded(5))]
    #[case("#,##0.00 [$€-407]", CellFormat::Money)]
    #[case("\"$\"#,##0.00", CellFormat::Money)]
    #[case("dd/mm/yyyy", CellFormat::Moment { day: true, time: false })]
    #[case("[$-409]h:mm AM/PM", CellFormat::Moment { day: false, time: true })]
    #[case("yyyy\\-mm\\-dd hh:mm", CellFormat::Moment { day: true, time: true })]
    #[case("\"100%\" 0", CellFormat::Moment { day: false, time: false })]
    fn formats_say_what_is_seen(#[case] code: &str, #[case] expected: CellFormat) {
        assert_eq!(CellFormat::of_code(code), expected);
    }

    #[rstest]
    #[case(1.5, "36:00:00")]
    #[case(0.25, "06:00:00")]
    #[case(-0.5, "-12:00:00")]
    fn spans_may_be_longer_than_a_day(#[case] value: f64, #[case] expected: &str) {
        assert_eq!(written(|out| write_span(value, out)), expected);
    }
}
