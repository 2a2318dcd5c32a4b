//! Dates, times and timestamps in the usual orders, with the names of months in
//! the languages of Europe, to the microsecond. What a microsecond cannot hold exactly is not a timestamp but text.

mod calendar;
mod names;

pub use super::date_order::{ANY_ORDER, DateOrder, Orders};
use super::{Class, Fraction, Recognised, RecognisedTemporal};
pub use calendar::{DAY, SECOND, civil, days, write_date, write_time, write_timestamp};
use names::{is_weekday, month};

/// A place in the bytes, moved along as they are read.
struct Cursor<'a>(
    &'a [u8],
    /// Whether the second has digits beyond its millionths, and the first of them.
    Option<u8>,
);

impl<'a> Cursor<'a> {
    #[inline]
    fn peek(&self) -> Option<u8> {
        self.0.first().copied()
    }

    #[inline]
    fn take(&mut self, byte: u8) -> bool {
        let found = self.peek() == Some(byte);
        if found {
            self.0 = &self.0[1..];
        }
        found
    }

    /// Between one and `most` digits: their value and their number.
    #[inline]
    fn digits(&mut self, most: usize) -> Option<(u32, usize)> {
        let (mut value, mut count) = (0u32, 0);
        while count < most
            && let Some(digit) = self.0.get(count).map(|b| b.wrapping_sub(b'0'))
            && digit <= 9
        {
            value = value * 10 + digit as u32;
            count += 1;
        }
        self.0 = &self.0[count..];
        (count > 0).then_some((value, count))
    }

    #[inline]
    fn two_digits(&mut self) -> Option<u32> {
        let (value, count) = self.digits(2)?;
        (count == 2).then_some(value)
    }

    fn blanks(&mut self) {
        while self.take(b' ') {}
    }

    fn letters(&mut self) -> &'a [u8] {
        let count = self.0.iter().take_while(|b| b.is_ascii_alphabetic() || !b.is_ascii()).count();
        let (word, rest) = self.0.split_at(count);
        self.0 = rest;
        word
    }
}

/// Whether a value starts with the name of a month or a weekday, as a date might.
#[inline]
pub fn starts_with_name(bytes: &[u8]) -> bool {
    let &[a, b, c, ..] = bytes else { return false };
    // Most words are told from names by their first three letters.
    let initial = [a | 0x20, b | 0x20, c | 0x20];
    bytes.len() >= 8
        && matches!(
            &initial,
            b"jan"
                | b"feb"
                | b"mar"
                | b"apr"
                | b"may"
                | b"jun"
                | b"jul"
                | b"aug"
                | b"sep"
                | b"oct"
                | b"nov"
                | b"dec"
                | b"mon"
                | b"tue"
                | b"wed"
                | b"thu"
                | b"fri"
                | b"sat"
                | b"sun"
        )
        && bytes.iter().any(u8::is_ascii_digit)
}

/// A year of two digits: 69 to 99 are the 1900s, 00 to 68 the 2000s, as POSIX `strptime` has it.
fn full_year(value: u32, count: usize) -> Option<i32> {
    match count {
        4 => Some(value as i32),
        2 => Some(value as i32 + if value >= 69 { 1900 } else { 2000 }),
        _ => None,
    }
}

/// The date part of a value: its days per order.
struct DatePart {
    orders: Orders,
    days: [i32; 3],
    short_year: bool,
    pair: (u8, u8),
    mark: u8,
}

impl DatePart {
    fn certain(days: i32, short_year: bool) -> DatePart {
        DatePart { orders: ANY_ORDER, days: [days; 3], short_year, pair: (0, 0), mark: 0 }
    }
}

#[inline]
fn date_part(cursor: &mut Cursor<'_>) -> Option<DatePart> {
    if cursor.peek()?.is_ascii_alphabetic() {
        return named_first(cursor);
    }
    let (a, a_count) = cursor.digits(8)?;
    if a_count == 8 && cursor.peek() == Some(b'T') {
        return Some(DatePart::certain(days((a / 10_000) as i32, a / 100 % 100, a % 100)?, false));
    }
    if a_count != 4 && a_count > 2 {
        return None;
    }
    let separator = cursor.peek()?;
    if matches!(separator, b' ' | b'-' | b'.' | b'/') || separator.is_ascii_alphabetic() {
        // `2. March 2026`
        let is_ordinal = cursor.0.starts_with(b". ");
        let next = cursor.0.get(1 + usize::from(is_ordinal)).copied().unwrap_or_default();
        if separator.is_ascii_alphabetic() || next.is_ascii_alphabetic() || !next.is_ascii() {
            if is_ordinal {
                cursor.take(b'.');
            }
            return named_second(cursor, a, a_count);
        }
    }
    if !matches!(separator, b'-' | b'/' | b'.') {
        return None;
    }
    cursor.take(separator);
    let (b, b_count) = cursor.digits(2)?;
    if !cursor.take(separator) {
        return None;
    }
    let (c, c_count) = cursor.digits(4)?;
    if a_count == 4 {
        // One digit for month or day is fine; `2026.3.2` is a date, `1234.5.6` is one too.
        return (c_count <= 2 && b_count <= 2)
            .then(|| days(a as i32, b, c))
            .flatten()
            .map(|d| DatePart::certain(d, false));
    }
    let part = ordered_date(a, b, c, (a_count, c_count))?;
    Some(DatePart { mark: separator, ..part })
}

/// `a/b/c` with the year at the end, or short and at either end.
fn ordered_date(a: u32, b: u32, c: u32, (a_count, c_count): (usize, usize)) -> Option<DatePart> {
    let mut part =
        DatePart { orders: 0, days: [0; 3], short_year: c_count == 2, pair: (a as u8, b as u8), mark: 0 };
    let year = full_year(c, c_count)?;
    let mut admit = |order: DateOrder, found: Option<i32>| {
        if let Some(found) = found {
            part.orders |= order.bit();
            part.days[order as usize] = found;
        }
    };
    admit(DateOrder::Dmy, days(year, b, a));
    admit(DateOrder::Mdy, days(year, a, b));
    if c_count == 2 && a_count == 2 {
        admit(DateOrder::Ymd, full_year(a, 2).and_then(|year| days(year, b, c)));
    }
    (part.orders != 0).then_some(part)
}

/// `2 Mar 2026`, `02-Mar-26`, `2Mar2026`, `2026-Mar-02`
fn named_second(cursor: &mut Cursor<'_>, a: u32, a_count: usize) -> Option<DatePart> {
    let separator = cursor.peek().filter(|b| !b.is_ascii_alphabetic());
    if let Some(separator) = separator {
        cursor.take(separator);
    }
    let word = cursor.letters();
    let is_ordinal = separator.is_none() && matches!(word, b"st" | b"nd" | b"rd" | b"th" | b"er");
    // `2 de marzo de 2026`
    if is_ordinal || separator == Some(b' ') && word == b"de" {
        cursor.take(b' ');
        return named_second_after(cursor, a, a_count, None);
    }
    finish_named(cursor, word, a, a_count, separator)
}

fn named_second_after(
    cursor: &mut Cursor<'_>,
    a: u32,
    count: usize,
    separator: Option<u8>,
) -> Option<DatePart> {
    let word = cursor.letters();
    finish_named(cursor, word, a, count, separator.or(Some(b' ')))
}

fn finish_named(
    cursor: &mut Cursor<'_>,
    word: &[u8],
    a: u32,
    a_count: usize,
    separator: Option<u8>,
) -> Option<DatePart> {
    let month = month(word)?;
    cursor.take(b'.');
    if let Some(separator) = separator {
        cursor.take(b',');
        cursor.take(separator);
        if let Some(rest) = cursor.0.strip_prefix(b"de ") {
            cursor.0 = rest;
        }
    }
    let (c, c_count) = cursor.digits(4)?;
    let (found, short) = if a_count == 4 {
        (days(a as i32, month, c)?, false)
    } else {
        (days(full_year(c, c_count)?, month, a)?, c_count == 2)
    };
    Some(DatePart::certain(found, short))
}

/// `Mar 2, 2026`, `March 2 2026`, `Mon, 2 Mar 2026`, `Mon Mar 2 2026`
fn named_first(cursor: &mut Cursor<'_>) -> Option<DatePart> {
    let mut word = cursor.letters();
    if is_weekday(word) && month(word).is_none() {
        cursor.take(b'.');
        cursor.take(b',');
        cursor.blanks();
        if cursor.peek()?.is_ascii_digit() {
            let (a, count) = cursor.digits(2)?;
            return named_second(cursor, a, count);
        }
        word = cursor.letters();
    }
    let month = month(word)?;
    cursor.take(b'.');
    if !cursor.take(b' ') && !cursor.take(b'-') && !cursor.take(b'/') {
        return None;
    }
    let (day, _) = cursor.digits(2)?;
    if matches!(cursor.peek(), Some(b's' | b'n' | b'r' | b't')) {
        cursor.letters();
    }
    cursor.take(b',');
    if !cursor.take(b' ') && !cursor.take(b'-') && !cursor.take(b'/') {
        return None;
    }
    let (year, count) = cursor.digits(4)?;
    Some(DatePart::certain(days(full_year(year, count)?, month, day)?, count == 2))
}

/// A time of day in microseconds. `compact` is `101500` as ISO 8601 basic has it.
#[inline]
fn time_part(cursor: &mut Cursor<'_>, compact: bool) -> Option<i64> {
    let (mut hour, count) = cursor.digits(2)?;
    if compact && count != 2 || !compact && !cursor.take(b':') {
        return None;
    }
    let minute = cursor.two_digits()?;
    let mut second = 0;
    let mut fraction = 0;
    let more = if compact { cursor.peek().is_some_and(|b| b.is_ascii_digit()) } else { cursor.take(b':') };
    if more {
        second = cursor.two_digits()?;
        if cursor.take(b'.') || cursor.take(b',') {
            fraction = fraction_micros(cursor)?;
        }
    }
    let spaced = cursor.peek() == Some(b' ');
    let half = cursor.0.get(spaced as usize).map(u8::to_ascii_lowercase);
    let meridiem = cursor.0.get(spaced as usize + 1).map(u8::to_ascii_lowercase) == Some(b'm');
    if let (Some(half @ (b'a' | b'p')), true) = (half, meridiem) {
        if hour == 0 || hour > 12 {
            return None;
        }
        hour = hour % 12 + if half == b'p' { 12 } else { 0 };
        cursor.0 = &cursor.0[spaced as usize + 2..];
    }
    if hour > 23 || minute > 59 || second > 59 {
        return None;
    }
    Some((hour * 3600 + minute * 60 + second) as i64 * SECOND + fraction)
}

/// Digits after the second. Those beyond the sixth are noted, unless they are zeros.
fn fraction_micros(cursor: &mut Cursor<'_>) -> Option<i64> {
    let count = cursor.0.iter().take_while(|b| b.is_ascii_digit()).count();
    let (digits, rest) = cursor.0.split_at(count);
    cursor.0 = rest;
    if count == 0 || count > 12 {
        return None;
    }
    if digits.iter().skip(6).any(|b| *b != b'0') {
        cursor.1 = digits.get(6).copied();
    }
    let kept = digits.iter().take(6).fold(0i64, |value, b| value * 10 + (b - b'0') as i64);
    Some(kept * 10i64.pow(6 - count.min(6) as u32))
}

/// An offset from UTC in microseconds: `Z`, `UTC`, `+02:00`, `+0200`, `+02`.
fn zone_part(cursor: &mut Cursor<'_>) -> Option<i64> {
    match cursor.peek()? {
        b'Z' | b'z' | b'U' | b'u' | b'G' | b'g' => {
            let word = cursor.letters();
            [&b"z"[..], b"utc", b"gmt"].iter().any(|zone| word.eq_ignore_ascii_case(zone)).then_some(0)
        }
        sign @ (b'+' | b'-') => {
            cursor.take(sign);
            let hours = cursor.two_digits()? as i64;
            let colon = cursor.take(b':');
            let minutes = if colon || !cursor.0.is_empty() { cursor.two_digits()? as i64 } else { 0 };
            if hours > 18 || minutes > 59 {
                return None;
            }
            let offset = (hours * 60 + minutes) * 60 * SECOND;
            Some(if sign == b'-' { -offset } else { offset })
        }
        _ => None,
    }
}

/// The day or moment whose digits a number is, without any marks: `20260302`, `20260302071500`, from 1900
/// to 2099. In microseconds since 1970, with its class.
#[inline]
pub fn of_digits(value: i64) -> Option<(i64, Class)> {
    let (date, time) = match value {
        19_000_101..=20_991_231 => (value, None),
        19_000_101_000_000..=20_991_231_235_959 => (value / 1_000_000, Some(value % 1_000_000)),
        _ => return None,
    };
    let (month, day) = ((date / 100 % 100) as u32, (date % 100) as u32);
    let day = i64::from(days((date / 10_000) as i32, month, day)?) * DAY;
    let Some(time) = time else { return Some((day, Class::Date)) };
    let (hour, minute, second) = (time / 10_000, time / 100 % 100, time % 100);
    let is_time = hour < 24 && minute < 60 && second < 60;
    is_time.then(|| (day + (hour * 3600 + minute * 60 + second) * SECOND, Class::Timestamp))
}

/// The same of bytes that are all digits.
#[inline]
fn digits_alone(bytes: &[u8]) -> Option<(i64, Class)> {
    if !matches!(bytes.len(), 8 | 14) {
        return None;
    }
    of_digits(super::number::plain_integer(bytes)?.0)
}

/// Recognises a date, a timestamp or a time of day in a trimmed value whose first byte that
/// is no digit stands at `mark`.
#[inline]
pub fn recognise(bytes: &[u8], mark: usize) -> Option<Recognised> {
    // A separator stands within the first nine bytes of every date and time written in
    // digits, and numbers of one point are told from dates by the second separator.
    if bytes.len() < 4 || bytes.len() > 48 || mark > 8 {
        return None;
    }
    match bytes[mark] {
        b':' if mark == 1 || mark == 2 => {
            let mut cursor = Cursor(bytes, None);
            let micros = time_part(&mut cursor, false)?;
            return (cursor.0.is_empty() && cursor.1.is_none()).then_some(Recognised::Time(micros));
        }
        b'.' if bytes.get(mark + 1).is_none_or(u8::is_ascii_digit) && !bytes[mark + 1..].contains(&b'.') => {
            return None;
        }
        b'-' if mark == 4 => {
            if let Some((micros, class)) = iso(bytes) {
                let sight = RecognisedTemporal {
                    class,
                    orders: ANY_ORDER,
                    micros: [micros; 3],
                    short_year: false,
                    pair: (0, 0),
                    mark: 0,
                    next_digit: 0,
                };
                return Some(Recognised::Temporal(sight));
            }
        }
        _ => {}
    }
    stamp(bytes).map(Recognised::Temporal)
}

/// The value of two digits.
#[inline]
fn pair(bytes: &[u8], at: usize) -> Option<u32> {
    let (a, b) = (bytes[at].wrapping_sub(b'0'), bytes[at + 1].wrapping_sub(b'0'));
    (a <= 9 && b <= 9).then(|| a as u32 * 10 + b as u32)
}

/// `2026-03-02`, `2026-03-02 07:15` and `2026-03-02T07:15:30`, by far the commonest forms.
#[inline]
fn iso(bytes: &[u8]) -> Option<(i64, Class)> {
    let length = bytes.len();
    if !matches!(length, 10 | 16 | 19) || bytes[4] != b'-' || bytes[7] != b'-' {
        return None;
    }
    let year = pair(bytes, 0)? * 100 + pair(bytes, 2)?;
    let day = days(year as i32, pair(bytes, 5)?, pair(bytes, 8)?)? as i64 * DAY;
    if length == 10 {
        return Some((day, Class::Date));
    }
    if !matches!(bytes[10], b' ' | b'T') || bytes[13] != b':' {
        return None;
    }
    let (hour, minute) = (pair(bytes, 11)?, pair(bytes, 14)?);
    let second = if length == 19 {
        if bytes[16] != b':' {
            return None;
        }
        pair(bytes, 17)?
    } else {
        0
    };
    if hour > 23 || minute > 59 || second > 59 {
        return None;
    }
    Some((day + (hour * 3600 + minute * 60 + second) as i64 * SECOND, Class::Timestamp))
}

#[inline]
fn stamp(bytes: &[u8]) -> Option<RecognisedTemporal> {
    let mut cursor = Cursor(bytes, None);
    let date = date_part(&mut cursor)?;
    let mut sight = RecognisedTemporal {
        class: Class::Date,
        orders: date.orders,
        micros: date.days.map(|days| days as i64 * DAY),
        short_year: date.short_year,
        pair: date.pair,
        mark: date.mark,
        next_digit: 0,
    };
    if cursor.0.is_empty() {
        return Some(sight);
    }
    let compact = bytes.get(8) == Some(&b'T');
    cursor.take(b',');
    if !cursor.take(b'T') && !cursor.take(b't') && !cursor.take(b' ') {
        return None;
    }
    let compact = compact && !cursor.0.contains(&b':');
    let mut offset = time_part(&mut cursor, compact)?;
    sight.class = Class::Timestamp;
    if !cursor.0.is_empty() {
        cursor.take(b' ');
        offset -= zone_part(&mut cursor)?;
        sight.class = Class::TimestampTz;
    }
    if !cursor.0.is_empty() {
        return None;
    }
    if let Some(digit) = cursor.1 {
        sight.next_digit = digit;
        sight.class = match sight.class {
            Class::TimestampTz => Class::FineTimestampTz,
            _ => Class::FineTimestamp,
        };
    }
    sight.micros = sight.micros.map(|micros| micros + offset);
    Some(sight)
}

/// Reads a date in a known order: days since 1970-01-01.
#[inline]
pub fn read_date(bytes: &[u8], order: DateOrder) -> Option<i32> {
    if let Some((micros, Class::Date)) = iso(bytes).or_else(|| digits_alone(bytes)) {
        return Some(micros.div_euclid(DAY) as i32);
    }
    let sight = stamp_at_most(bytes)?;
    (sight.class == Class::Date)
        .then(|| in_order(&sight, order))
        .flatten()
        .map(|micros| (micros / DAY) as i32)
}

/// Reads a timestamp without a zone in a known order: microseconds since 1970-01-01. A date
/// alone is its midnight.
#[inline]
pub fn read_timestamp(bytes: &[u8], order: DateOrder) -> Option<i64> {
    read_moment(bytes, order, None, false)
}

/// Reads an instant in a known order: microseconds since 1970-01-01T00:00:00Z.
#[inline]
pub fn read_timestamp_tz(bytes: &[u8], order: DateOrder) -> Option<i64> {
    read_moment(bytes, order, None, true)
}

/// Reads a timestamp, or an instant if it is `with_zone`. Digits of a second that are not kept are rounded or
/// cut off, or make it none.
#[inline]
pub fn read_moment(
    bytes: &[u8],
    order: DateOrder,
    fraction: Option<Fraction>,
    with_zone: bool,
) -> Option<i64> {
    if !with_zone && let Some((micros, _)) = iso(bytes).or_else(|| digits_alone(bytes)) {
        return Some(micros);
    }
    let sight = stamp_at_most(bytes)?;
    let has_zone = matches!(sight.class, Class::TimestampTz | Class::FineTimestampTz);
    let more = match (sight.next_digit, fraction) {
        (0, _) | (_, Some(Fraction::Cut)) => 0,
        (digit, Some(Fraction::Round)) => i64::from(digit >= b'5'),
        (_, Some(Fraction::Text) | None) => return None,
    };
    (has_zone == with_zone).then(|| in_order(&sight, order)).flatten().map(|micros| micros + more)
}

/// Reads a time of day in microseconds.
#[inline]
pub fn read_time(bytes: &[u8]) -> Option<i64> {
    let mut cursor = Cursor(bytes, None);
    let micros = time_part(&mut cursor, false)?;
    (cursor.0.is_empty() && cursor.1.is_none()).then_some(micros)
}

#[inline]
fn stamp_at_most(bytes: &[u8]) -> Option<RecognisedTemporal> {
    if bytes.len() < 6 || bytes.len() > 48 { None } else { stamp(bytes) }
}

/// Whether a day that was read in a known order would lie near another day if day and month changed places,
/// and does not as it is: less than seven weeks are near.
pub fn is_nearer_in_other_order(read: i32, day: i32) -> bool {
    const NEAR: u32 = 45;
    if read.abs_diff(day) <= NEAR {
        return false;
    }
    let (year, month, of_month) = civil(read);
    days(year, of_month, month).is_some_and(|other| other.abs_diff(day) <= NEAR)
}

fn in_order(sight: &RecognisedTemporal, order: DateOrder) -> Option<i64> {
    (sight.orders & order.bit() != 0).then(|| sight.micros[order as usize])
}

#[cfg(test)]
mod tests;
