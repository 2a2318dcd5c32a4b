//! Numbers: every usual way of writing one, recognised and read without losing a digit.

mod exact;
mod style;

use super::{Class, Recognised, RecognisedNumber, words};
use crate::types::{Digits, MAX_DIGITS, Unit};
pub use exact::{Number, power_of_ten};
pub use style::{ALL_STYLES, Group, NumberStyle, Styles};

/// A whole number in plain digits that fits 64 bits, and how many digits it has. No leading
/// zeros. A single minus or plus may stand before it.
#[inline]
pub fn plain_integer(bytes: &[u8]) -> Option<(i64, u16)> {
    let (negative, digits) = match bytes {
        [b'-', rest @ ..] => (true, rest),
        [b'+', rest @ ..] => (false, rest),
        _ => (false, bytes),
    };
    if digits.is_empty() || digits.len() > 18 || digits[0] == b'0' && digits.len() > 1 {
        return None;
    }
    let mut value = 0i64;
    for &byte in digits {
        let digit = byte.wrapping_sub(b'0');
        if digit > 9 {
            return None;
        }
        value = value * 10 + digit as i64;
    }
    let count = if value == 0 { 0 } else { digits.len() as u16 };
    Some((if negative { -value } else { value }, count))
}

/// A decimal in plain digits with one point in it, at `point`: `12.50`. No sign, at most 18
/// digits, and no leading zero but the one before the point.
#[inline]
pub fn plain_point(bytes: &[u8], point: usize) -> Option<RecognisedNumber> {
    let scale = bytes.len() - point - 1;
    if bytes.len() > 19 || scale == 0 || bytes[0] == b'0' && point > 1 {
        return None;
    }
    let mut mantissa = 0i64;
    for &byte in &bytes[..point] {
        mantissa = mantissa * 10 + (byte - b'0') as i64;
    }
    let whole = mantissa != 0;
    for &byte in &bytes[point + 1..] {
        let digit = byte.wrapping_sub(b'0');
        if digit > 9 {
            return None;
        }
        mantissa = mantissa * 10 + digit as i64;
    }
    let grouped = whole && scale == 3 && point <= 3;
    let class = if grouped { Class::PointOrGroup } else { Class::Point };
    let int = if whole { point as u16 } else { 0 };
    let digits = Digits { int, scale: scale as u16, ..Digits::default() };
    let number = Number { mantissa: mantissa as i128, scale: scale as u16 };
    Some(RecognisedNumber { class, number, digits, accounting: false })
}

/// Whether a value starts with the code of a currency.
#[inline]
pub fn starts_with_currency(bytes: &[u8]) -> bool {
    matches!(
        bytes,
        [b'E', b'U', b'R', ..] | [b'U', b'S', b'D', ..] | [b'G', b'B', b'P', ..] | [b'J', b'P', b'Y', ..]
    ) && bytes.iter().any(u8::is_ascii_digit)
}

/// A number taken out of what may stand around it: signs, parentheses, units.
struct Bare<'a> {
    core: &'a [u8],
    negative: bool,
    accounting: bool,
    unit: Unit,
}

const CURRENCY_SIGNS: &[(&str, char)] = &[
    ("$", '$'),
    ("€", '€'),
    ("£", '£'),
    ("¥", '¥'),
    ("₹", '₹'),
    ("₽", '₽'),
    ("₩", '₩'),
    ("₺", '₺'),
    ("₪", '₪'),
    ("฿", '฿'),
    ("₫", '₫'),
    ("₴", '₴'),
    ("¢", '¢'),
    ("EUR", '€'),
    ("USD", '$'),
    ("GBP", '£'),
    ("JPY", '¥'),
];

fn take_sign<'a>(bytes: &'a [u8], seen: &mut Option<bool>) -> Option<&'a [u8]> {
    let (negative, rest) = match bytes {
        [b'-', rest @ ..] => (true, rest),
        [b'+', rest @ ..] => (false, rest),
        // U+2212, the minus sign of typesetters.
        [0xE2, 0x88, 0x92, rest @ ..] => (true, rest),
        _ => return Some(bytes),
    };
    if seen.replace(negative).is_some() { None } else { Some(super::trim(rest)) }
}

fn take_unit<'a>(bytes: &'a [u8], unit: &mut Unit) -> Option<&'a [u8]> {
    let (rest, found) = if let [rest @ .., b'%'] = bytes {
        (rest, Unit::Percent)
    } else if bytes.iter().all(|b| b.is_ascii_digit() || matches!(b, b'.' | b',')) {
        return Some(bytes);
    } else {
        let sign = CURRENCY_SIGNS.iter().find_map(|(sign, mark)| {
            let sign = sign.as_bytes();
            let rest = bytes.strip_prefix(sign).or_else(|| bytes.strip_suffix(sign))?;
            Some((rest, Unit::Currency(*mark)))
        });
        match sign {
            Some(found) => found,
            None => return Some(bytes),
        }
    };
    if *unit != Unit::Bare {
        return None;
    }
    *unit = found;
    Some(super::trim(rest))
}

fn strip(bytes: &[u8]) -> Option<Bare<'_>> {
    let mut bare = Bare { core: bytes, negative: false, accounting: false, unit: Unit::Bare };
    let mut sign = None;
    if let [b'(', inner @ .., b')'] = bare.core {
        bare.core = super::trim(inner);
        bare.accounting = true;
        sign = Some(true);
    }
    bare.core = take_sign(bare.core, &mut sign)?;
    bare.core = take_unit(bare.core, &mut bare.unit)?;
    bare.core = take_sign(bare.core, &mut sign)?;
    if let [rest @ .., b'-'] = bare.core
        && sign.replace(true).is_none()
    {
        bare.core = super::trim(rest);
        bare.accounting = true;
        bare.core = take_unit(bare.core, &mut bare.unit)?;
    }
    bare.negative = sign == Some(true);
    Some(bare)
}

/// The runs of digits of a number and the marks between them.
struct Runs {
    mantissa: i128,
    digits: u16,
    /// Digits of the first run, of the last run; how many marks; first and last mark.
    first: u16,
    last: u16,
    marks: u16,
    group: u8,
    end: u8,
    grouped: bool,
    leading_zero: bool,
    used: usize,
}

/// Walks digits and marks up to the end or an exponent. A space is a mark as `b' '`.
fn walk(core: &[u8]) -> Option<Runs> {
    let mut runs = Runs {
        mantissa: 0,
        digits: 0,
        first: 0,
        last: 0,
        marks: 0,
        group: 0,
        end: 0,
        grouped: true,
        leading_zero: core.len() > 1 && core[0] == b'0' && core[1].is_ascii_digit(),
        used: 0,
    };
    let mut at = 0;
    let mut run = 0u16;
    while at < core.len() {
        let byte = core[at];
        let (mark, width) = match byte {
            b'0'..=b'9' => {
                runs.mantissa = runs.mantissa * 10 + (byte - b'0') as i128;
                runs.digits += (runs.mantissa != 0) as u16;
                if runs.digits > MAX_DIGITS {
                    return None;
                }
                run += 1;
                at += 1;
                continue;
            }
            b'.' | b',' | b'\'' | b' ' => (byte, 1),
            0xC2 if core.get(at + 1) == Some(&0xA0) => (b' ', 2),
            0xE2 if core.get(at + 1..at + 3) == Some(&[0x80, 0xAF]) => (b' ', 3),
            0xE2 if core.get(at + 1..at + 3) == Some(&[0x80, 0x99]) => (b'\'', 3),
            b'e' | b'E' => break,
            _ => return None,
        };
        if runs.marks == 0 {
            runs.first = run;
            runs.group = mark;
            runs.grouped = (1..=3).contains(&run) && !(run == 1 && runs.mantissa == 0);
        } else {
            // A mark after the decimal mark, or a decimal mark after runs that are not groups.
            if runs.end != runs.group || run != 3 {
                return None;
            }
        }
        runs.end = mark;
        runs.marks += 1;
        run = 0;
        at += width;
    }
    runs.last = run;
    if runs.marks == 0 {
        runs.first = run;
    }
    runs.used = at;
    Some(runs)
}

impl Runs {
    /// The class of the number, and how many of its digits stand after the decimal mark.
    fn class(&self) -> Option<(Class, u16)> {
        let threes = self.grouped && self.last == 3;
        let decimals = self.last;
        Some(match (self.marks, self.group, self.end) {
            (0, ..) => (if self.first == 0 { return None } else { Class::Integer }, 0),
            (1, b'.', _) if self.first == 0 && self.last == 0 => return None,
            (1, b'.', _) if threes => (Class::PointOrGroup, 3),
            (1, b'.', _) => (Class::Point, decimals),
            (1, b',', _) if self.first == 0 || self.last == 0 => return None,
            (1, b',', _) if threes => (Class::CommaOrGroup, 3),
            (1, b',', _) => (Class::Comma, decimals),
            (_, group, end) if group == end => match group {
                _ if !threes => return None,
                b'.' => (Class::PointGroups, 0),
                b',' => (Class::CommaGroups, 0),
                b' ' => (Class::SpaceWhole, 0),
                _ => (Class::ApostropheWhole, 0),
            },
            _ if !self.grouped || self.last == 0 => return None,
            (_, b',', b'.') => (Class::CommaGroups, decimals),
            (_, b'.', b',') => (Class::PointGroups, decimals),
            (_, b' ', b'.') => (Class::SpacePoint, decimals),
            (_, b' ', b',') => (Class::SpaceComma, decimals),
            (_, b'\'', b'.') => (Class::ApostrophePoint, decimals),
            (_, b'\'', b',') => (Class::ApostropheComma, decimals),
            _ => return None,
        })
    }
}

/// Recognises any number that [`plain_integer`] does not; digits with a leading zero too,
/// which are told apart because they are not to become numbers.
pub fn recognise(bytes: &[u8]) -> Option<Recognised> {
    let bare = strip(bytes)?;
    if words::is_infinite(bare.core) && bare.unit == Unit::Bare {
        let digits = Digits { float: true, ..Digits::default() };
        let number = Number { mantissa: if bare.negative { i128::MIN } else { i128::MAX }, scale: 0 };
        return Some(Recognised::Number(RecognisedNumber {
            class: Class::Infinite,
            number,
            digits,
            accounting: false,
        }));
    }
    let runs = walk(bare.core)?;
    let (mut class, scale) = runs.class()?;
    let mut digits = digits_of(&runs, scale, class, bare.unit);
    if runs.used < bare.core.len() {
        class = match class {
            Class::Integer => Class::ExponentWhole,
            Class::Point | Class::PointOrGroup => Class::Exponent,
            Class::Comma | Class::CommaOrGroup => Class::ExponentComma,
            _ => return None,
        };
        read_exponent(bare.core, runs.used, class == Class::ExponentComma)?;
        digits.float = true;
        digits.beyond_i64 = false;
    } else if runs.leading_zero {
        return Some(Recognised::LeadingZero);
    }
    let number = Number { mantissa: if bare.negative { -runs.mantissa } else { runs.mantissa }, scale };
    if class == Class::Integer && bare.unit == Unit::Bare && !bare.accounting && !digits.beyond_i64 {
        return Some(Recognised::Integer(i64::try_from(number.mantissa).ok()?, digits.int));
    }
    Some(Recognised::Number(RecognisedNumber { class, number, digits, accounting: bare.accounting }))
}

fn digits_of(runs: &Runs, scale: u16, class: Class, unit: Unit) -> Digits {
    let beyond = scale == 0 && class != Class::Exponent && i64::try_from(runs.mantissa).is_err();
    Digits { int: runs.digits.saturating_sub(scale), scale, beyond_i64: beyond, float: false, unit }
}

/// Reads `1.5e3` as a float; `None` where it overflows, or vanishes without being zero.
fn read_exponent(core: &[u8], at: usize, comma: bool) -> Option<f64> {
    let exponent = core.get(at + 1..)?;
    let digits = match exponent {
        [b'+' | b'-', rest @ ..] => rest,
        _ => exponent,
    };
    if digits.is_empty() || digits.len() > 4 || !digits.iter().all(u8::is_ascii_digit) {
        return None;
    }
    let mut text = [0u8; 64];
    let text = text.get_mut(..core.len())?;
    text.copy_from_slice(core);
    if comma {
        text.iter_mut().filter(|b| **b == b',').for_each(|b| *b = b'.');
    }
    let value: f64 = std::str::from_utf8(text).ok()?.parse().ok()?;
    let zero = core[..at].iter().all(|b| !(b'1'..=b'9').contains(b));
    (value.is_finite() && (value != 0.0 || zero)).then_some(value)
}

/// Reads an exact number in a known style. `None` where it is not one.
#[inline]
pub fn read(bytes: &[u8], style: NumberStyle, unit: Unit) -> Option<Number> {
    if let Some((value, _)) = plain_integer(bytes)
        && unit == Unit::Bare
    {
        return Some(Number { mantissa: value as i128, scale: 0 });
    }
    if !style.comma
        && unit == Unit::Bare
        && let Some(number) = read_point(bytes)
    {
        return Some(number);
    }
    read_marked(bytes, style, unit)
}

/// `-123.45`, up to 18 digits: the common case, read in one pass.
#[inline]
fn read_point(bytes: &[u8]) -> Option<Number> {
    let (negative, digits) = match bytes {
        [b'-', rest @ ..] => (true, rest),
        _ => (false, bytes),
    };
    if digits.len() > 18
        || !digits.first()?.is_ascii_digit()
        || digits[0] == b'0' && digits.get(1)?.is_ascii_digit()
    {
        return None;
    }
    let (mut mantissa, mut point) = (0i64, None);
    for (at, &byte) in digits.iter().enumerate() {
        let digit = byte.wrapping_sub(b'0');
        if digit <= 9 {
            mantissa = mantissa * 10 + digit as i64;
        } else if byte == b'.' && point.is_none() {
            point = Some(at);
        } else {
            return None;
        }
    }
    let scale = point.map_or(0, |at| digits.len() - at - 1);
    let mantissa = if negative { -mantissa } else { mantissa };
    Some(Number { mantissa: mantissa as i128, scale: scale as u16 })
}

fn read_marked(bytes: &[u8], style: NumberStyle, unit: Unit) -> Option<Number> {
    let bare = strip(bytes)?;
    let runs = walk(bare.core)?;
    let (class, mut scale) = runs.class()?;
    let exact = runs.used == bare.core.len() && !runs.leading_zero && bare.unit == unit;
    if !exact || class.styles() & style.bit() == 0 {
        return None;
    }
    let grouped = match class {
        Class::PointOrGroup => style.comma,
        Class::CommaOrGroup => !style.comma,
        _ => false,
    };
    if grouped {
        scale = 0;
    }
    Some(Number { mantissa: if bare.negative { -runs.mantissa } else { runs.mantissa }, scale })
}

/// Reads a 64-bit float in a known style, and the digits that it is written with: exponents and
/// infinities too. `None` where the float could not give the digits back.
pub fn read_float(bytes: &[u8], style: NumberStyle, unit: Unit) -> Option<(f64, Digits)> {
    if let Some(number) = read(bytes, style, unit) {
        return as_float(number, unit);
    }
    let bare = strip(bytes)?;
    let sign = if bare.negative { -1.0 } else { 1.0 };
    if bare.unit != unit {
        return None;
    }
    if words::is_infinite(bare.core) {
        return Some((sign * f64::INFINITY, float_digits(0, 0, unit)));
    }
    let runs = walk(bare.core)?;
    if runs.used == bare.core.len() || runs.digits > crate::types::FLOAT_DIGITS {
        return None;
    }
    let (class, scale) = runs.class()?;
    let comma = matches!(class, Class::Comma | Class::CommaOrGroup);
    let plain = class == Class::Integer || comma == style.comma;
    if !plain || !matches!(class, Class::Integer | Class::Point | Class::PointOrGroup) && !comma {
        return None;
    }
    let digits = float_digits(runs.digits.saturating_sub(scale), scale, unit);
    read_exponent(bare.core, runs.used, comma).map(|value| (sign * value, digits))
}

/// The 64-bit float of a number, and the digits that it is written with; `None` where the float could
/// not give the digits back.
pub fn as_float(number: Number, unit: Unit) -> Option<(f64, Digits)> {
    let count = digit_count(number.mantissa);
    let digits = float_digits(count.saturating_sub(number.scale), number.scale, unit);
    (count <= crate::types::FLOAT_DIGITS).then(|| (number.to_f64(), digits))
}

fn float_digits(int: u16, scale: u16, unit: Unit) -> Digits {
    Digits { int, scale, beyond_i64: false, float: true, unit }
}

/// How many digits a mantissa has; 0 for zero.
pub fn digit_count(mantissa: i128) -> u16 {
    match mantissa.unsigned_abs().checked_ilog10() {
        Some(log) => log as u16 + 1,
        None => 0,
    }
}

#[cfg(test)]
mod tests;
