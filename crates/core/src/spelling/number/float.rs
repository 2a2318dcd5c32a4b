//! Decimal digits and the 64-bit floats that print them.

use std::fmt::Write;

use crate::spelling::exact::{Number, Short, digit_count, nearest};
use crate::types::{Digits, Unit};

/// Decimal numbers of so many digits are all told apart by 64-bit floats.
const SAFE_DIGITS: u16 = 15;

/// The greatest whole number up to which a 64-bit float holds every one.
const SAFE_WHOLE: u64 = 1 << 53;

/// What the shortest digits of a float are below.
const SHORTEST: u128 = 100_000_000_000_000_000;

/// So many leading digits of a float are had quickly.
const LEADING: u16 = 18;

/// Digits after the mark from which a number of 16 or more digits looks like a printed float.
const FINE: u16 = 9;

/// Whether a 64-bit float prints as these digits: all of them, or no more than it takes to tell it from
/// its neighbours. Up to 15 digits one always does.
pub(super) fn prints(value: f64, mantissa: i128) -> bool {
    let digits = digit_count(mantissa);
    digits <= SAFE_DIGITS || prints_long(value.abs(), mantissa.unsigned_abs(), digits)
}

fn prints_long(value: f64, mantissa: u128, digits: u16) -> bool {
    if digits > LEADING && !agrees_in_front(value, mantissa, digits) {
        return false;
    }
    let wanted = significant(mantissa);
    let mut shortest = Short::new();
    // It never has more than 17 digits.
    if wanted < SHORTEST
        && write!(shortest, "{value:e}").is_ok()
        && mantissa_of(shortest.text()) == Some(wanted)
    {
        return true;
    }
    let mut all = Short::new();
    write!(all, "{value:.*e}", usize::from(digits).saturating_sub(1)).is_ok()
        && mantissa_of(all.text()) == Some(wanted)
}

/// Whether the first digits of a float are those of a number, as far as rounding lets that be told. Most
/// numbers of many digits are told from floats by this, which is much faster than all digits of the float.
fn agrees_in_front(value: f64, mantissa: u128, digits: u16) -> bool {
    let mut front = Short::new();
    if write!(front, "{value:.*e}", usize::from(LEADING) - 1).is_err() {
        return true;
    }
    let printed = front.text().bytes().take_while(|byte| *byte != b'e').filter(u8::is_ascii_digit);
    let printed = printed.fold(0u64, |all, digit| all * 10 + u64::from(digit - b'0'));
    let Some(rest) = 10u128.checked_pow(u32::from(digits - LEADING)) else { return true };
    (mantissa / rest).abs_diff(printed.into()) <= 1
}

/// The digits of a number in scientific notation, as a whole number without zeros at its end.
fn mantissa_of(text: &str) -> Option<u128> {
    let digits = || text.bytes().take_while(|byte| *byte != b'e').filter(u8::is_ascii_digit);
    if digits().count() < 19 {
        // These fit 64 bits, which is much faster.
        let whole = digits().fold(0u64, |all, digit| all * 10 + u64::from(digit - b'0'));
        return Some(significant(whole.into()));
    }
    let whole =
        digits().try_fold(0u128, |all, digit| all.checked_mul(10)?.checked_add(u128::from(digit - b'0')))?;
    Some(significant(whole))
}

fn significant(mut mantissa: u128) -> u128 {
    if let Ok(mut short) = u64::try_from(mantissa) {
        while short != 0 && short.is_multiple_of(10) {
            short /= 10;
        }
        return short.into();
    }
    while mantissa != 0 && mantissa.is_multiple_of(10) {
        mantissa /= 10;
    }
    mantissa
}

/// Whether a whole number of 64 bits may lie between two neighbouring floats.
pub fn may_be_beyond_floats(value: i64) -> bool {
    value.unsigned_abs() > SAFE_WHOLE
}

/// Whether it does.
pub fn is_beyond_floats(value: i64) -> bool {
    may_be_beyond_floats(value) && value as f64 as i128 != i128::from(value)
}

/// The digits that a number needs which stands without an exponent, and what they tell of the program
/// that wrote it.
pub fn digits_of(number: Number, unit: Unit) -> Digits {
    let count = digit_count(number.mantissa);
    let is_whole = number.scale == 0;
    let mut digits =
        Digits { int: count.saturating_sub(number.scale), scale: number.scale, unit, ..Digits::default() };
    digits.beyond_i64 = is_whole && i64::try_from(number.mantissa).is_err();
    if count <= SAFE_DIGITS {
        return digits;
    }
    digits.exact = match i64::try_from(number.mantissa) {
        Ok(value) if is_whole => is_beyond_floats(value),
        _ => !nearest(number.mantissa, number.scale, 0).is_some_and(|value| prints(value, number.mantissa)),
    };
    digits.binary = !digits.exact && number.scale >= FINE;
    digits
}

/// Whether a number of this many digits has to be asked which float prints it.
pub fn is_long(mantissa: i128) -> bool {
    mantissa.unsigned_abs() >= 1_000_000_000_000_000
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case::shortest(31302260289310702, 17, true)]
    #[case::fifteen_digits(467699143493002, 15, true)]
    #[case::sum(30000000000000004, 17, true)]
    #[case::padded(15000000000000000, 16, true)]
    #[case::of_twenty_digits(10000000000000000555, 20, true)]
    #[case::between_two_floats(31302260289310704, 17, false)]
    #[case::eighteen(123456789012345678, 18, false)]
    fn the_digits_of_a_float_are_told_from_others(
        #[case] mantissa: i128,
        #[case] scale: u16,
        #[case] is_printed: bool,
    ) {
        let value = nearest(mantissa, scale, 0).expect("a float");
        assert_eq!(prints(value, mantissa), is_printed);
    }

    #[rstest]
    #[case::money(1234567890123456, 2, false, false)]
    #[case::ratio(31302260289310702, 17, true, false)]
    #[case::eighteen_digits(123456789012345678, 18, false, true)]
    #[case::whole(12345678901234567, 0, false, true)]
    #[case::whole_of_a_float(999999999999998592, 0, false, false)]
    #[case::short(125, 2, false, false)]
    fn digits_tell_what_wrote_them(
        #[case] mantissa: i128,
        #[case] scale: u16,
        #[case] binary: bool,
        #[case] exact: bool,
    ) {
        let digits = digits_of(Number { mantissa, scale }, Unit::Bare);
        assert_eq!((digits.binary, digits.exact), (binary, exact));
    }
}
