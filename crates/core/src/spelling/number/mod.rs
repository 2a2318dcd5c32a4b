//! Numbers: every usual way of writing one, recognised and read without losing a digit.

mod float;
mod style;

pub use super::exact::{Number, digit_count, power_of_ten};
use super::{Class, Recognised, RecognisedNumber, words};
use crate::types::{Digits, MAX_DIGITS, Unit};

use super::exact;
pub use float::{digits_of, is_beyond_floats, is_long, may_be_beyond_floats};
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
    let number = Number { mantissa: mantissa as i128, scale: scale as u16 };
    if is_long(number.mantissa) {
        let digits = digits_of(number, Unit::Bare);
        return Some(RecognisedNumber { class, number, digits, accounting: false });
    }
    let int = if whole { point as u16 } else { 0 };
    let digits = Digits { int, scale: scale as u16, ..Digits::default() };
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
                if runs.digits == MAX_DIGITS {
                    return None;
                }
                runs.mantissa = runs.mantissa * 10 + (byte - b'0') as i128;
                runs.digits += (runs.mantissa != 0) as u16;
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
        let digits = Digits { float: true, infinite: true, ..Digits::default() };
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
    let mut number = Number { mantissa: runs.mantissa, scale };
    let digits;
    if runs.used < bare.core.len() {
        class = match class {
            Class::Integer => Class::ExponentWhole,
            Class::Point | Class::PointOrGroup => Class::Exponent,
            Class::Comma | Class::CommaOrGroup => Class::ExponentComma,
            _ => return None,
        };
        let shifted = Shifted::of(number, exponent(bare.core, runs.used)?)?;
        (number, digits) = (shifted.number(), Digits { unit: bare.unit, ..shifted.digits() });
    } else if runs.leading_zero {
        return Some(Recognised::LeadingZero);
    } else {
        digits = digits_of(number, bare.unit);
    }
    if bare.negative {
        number.mantissa = -number.mantissa;
    }
    if class == Class::Integer && bare.unit == Unit::Bare && !bare.accounting && !digits.beyond_i64 {
        return Some(Recognised::Integer(i64::try_from(number.mantissa).ok()?, digits.int));
    }
    Some(Recognised::Number(RecognisedNumber { class, number, digits, accounting: bare.accounting }))
}

/// The number behind the `e` of `1.5e3`.
fn exponent(core: &[u8], at: usize) -> Option<i32> {
    let exponent = core.get(at + 1..)?;
    let (sign, digits) = match exponent {
        [b'-', rest @ ..] => (-1, rest),
        [b'+', rest @ ..] => (1, rest),
        _ => (1, exponent),
    };
    if digits.is_empty() || digits.len() > 4 || !digits.iter().all(u8::is_ascii_digit) {
        return None;
    }
    Some(sign * digits.iter().fold(0, |all, digit| all * 10 + i32::from(digit - b'0')))
}

/// Reads an exact number in a known style. `None` where it is not one.
///
/// ```
/// use hypodoke_core::spelling::number::read;
/// use hypodoke_core::spelling::{Number, NumberStyle};
/// use hypodoke_core::types::Unit;
///
/// let number = read(b"12.50", NumberStyle::default(), Unit::Bare);
/// assert_eq!(number, Some(Number { mantissa: 1250, scale: 2 }));
/// assert_eq!(read(b"aground", NumberStyle::default(), Unit::Bare), None);
/// ```
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
    let is_plain = runs.used == bare.core.len() && !runs.leading_zero && bare.unit == unit;
    if !is_plain || class.styles() & style.bit() == 0 {
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

/// Reads a number that is written with an exponent, exactly. `None` where it is none, or has more
/// digits than are kept.
pub fn read_shifted(bytes: &[u8], style: NumberStyle, unit: Unit) -> Option<Number> {
    let (shifted, is_negative) = shifted(bytes, style, unit)?;
    let number = shifted.exact?;
    Some(Number { mantissa: if is_negative { -number.mantissa } else { number.mantissa }, ..number })
}

/// Reads a 64-bit float in a known style, and the digits that it is written with: exponents and
/// infinities too. `None` where the float could not give the digits back.
pub fn read_float(bytes: &[u8], style: NumberStyle, unit: Unit) -> Option<(f64, Digits)> {
    if let Some(number) = read(bytes, style, unit) {
        return as_float(number, unit);
    }
    if let Some((shifted, is_negative)) = shifted(bytes, style, unit) {
        let digits = Digits { unit, ..shifted.digits() };
        let value = if is_negative { -shifted.value } else { shifted.value };
        return (!digits.exact).then_some((value, digits));
    }
    let bare = strip(bytes)?;
    let digits = Digits { float: true, infinite: true, unit, ..Digits::default() };
    let value = if bare.negative { f64::NEG_INFINITY } else { f64::INFINITY };
    (bare.unit == unit && words::is_infinite(bare.core)).then_some((value, digits))
}

fn shifted(bytes: &[u8], style: NumberStyle, unit: Unit) -> Option<(Shifted, bool)> {
    let bare = strip(bytes)?;
    let runs = walk(bare.core)?;
    if runs.used == bare.core.len() || bare.unit != unit {
        return None;
    }
    let (class, scale) = runs.class()?;
    let is_of_style = match class {
        Class::Integer => true,
        Class::Point | Class::PointOrGroup => !style.comma,
        Class::Comma | Class::CommaOrGroup => style.comma,
        _ => false,
    };
    let number = Number { mantissa: runs.mantissa, scale };
    let shifted = Shifted::of(number, exponent(bare.core, runs.used)?)?;
    is_of_style.then_some((shifted, bare.negative))
}

/// What stands for a number with an exponent that has more digits than are kept.
pub(crate) const BEYOND: i128 = i128::MAX - 1;

/// A number with an exponent.
struct Shifted {
    /// Its 64-bit float.
    value: f64,
    /// What stands before the exponent, all digits taken as one whole number.
    mantissa: i128,
    /// By how many digits the mark stands left of its end; below zero, right of it.
    scale: i32,
    /// The number without its exponent, where that is not too long.
    exact: Option<Number>,
}

impl Shifted {
    /// `None` where no 64-bit float is near it.
    fn of(number: Number, exponent: i32) -> Option<Shifted> {
        let value = exact::nearest(number.mantissa, number.scale, exponent)?;
        let scale = i32::from(number.scale) - exponent;
        let exact = match u16::try_from(scale) {
            Ok(scale) => Some(Number { mantissa: number.mantissa, scale }),
            Err(_) => u16::try_from(-scale)
                .ok()
                .and_then(power_of_ten)
                .and_then(|power| number.mantissa.checked_mul(power))
                .filter(|mantissa| digit_count(*mantissa) <= MAX_DIGITS)
                .map(|mantissa| Number { mantissa, scale: 0 }),
        };
        Some(Shifted { value, mantissa: number.mantissa, scale, exact })
    }

    /// The number, or where it is too long the greatest there is.
    fn number(&self) -> Number {
        self.exact.unwrap_or(Number { mantissa: BEYOND, scale: 0 })
    }

    fn digits(&self) -> Digits {
        let count = i32::from(digit_count(self.mantissa));
        let within = |digits: i32| u16::try_from(digits.max(0)).unwrap_or(u16::MAX);
        Digits {
            int: within(count - self.scale),
            scale: within(self.scale),
            beyond_i64: self.scale <= 0 && self.exact.is_none_or(|n| i64::try_from(n.mantissa).is_err()),
            float: true,
            exact: !float::prints(self.value, self.mantissa),
            ..Digits::default()
        }
    }
}

/// The 64-bit float of a number, and the digits that it is written with; `None` where the float could
/// not give the digits back.
pub fn as_float(number: Number, unit: Unit) -> Option<(f64, Digits)> {
    let digits = digits_of(number, unit);
    (!digits.exact).then(|| (number.to_f64(), digits))
}

#[cfg(test)]
mod tests;
