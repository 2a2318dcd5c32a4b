//! Limits that a column sets within its type.

use super::Cell;
use crate::record::{Field, Records};

/// What a column holds of its type.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Limit {
    /// Texts of so many characters.
    Characters(u32),
    /// Integers of so many bits.
    Bits(u8),
    /// Floats of 32 bits.
    SingleFloat,
    /// Numbers of so many significant digits.
    Digits(u8),
    /// Times of so many digits of a second.
    SecondDigits(u8),
}

impl Limit {
    /// Whether a value is within it.
    #[inline]
    pub fn holds(self, value: Cell, records: &Records) -> bool {
        match (self, value) {
            (Limit::Characters(most), Cell::Text { start, len }) => {
                len <= most || {
                    let bytes = records.value(Field::new(start as usize..(start + len) as usize, false));
                    bytes.iter().filter(|b| (**b as i8) >= -0x40).count() as u32 <= most
                }
            }
            (Limit::Bits(bits), Cell::Integer(value)) => {
                let beyond = 1i64 << (bits - 1);
                (-beyond..beyond).contains(&value)
            }
            (Limit::Digits(most), Cell::Decimal { mantissa, .. }) => {
                has_digits(mantissa.unsigned_abs().into(), most)
            }
            // No number of more than 64 bits has so few, but for its zeros, which are left in.
            (Limit::Digits(_), Cell::Wide { .. }) => false,
            (
                Limit::SecondDigits(digits),
                Cell::Time(micros) | Cell::Timestamp(micros) | Cell::TimestampTz(micros),
            ) => micros % 10i64.pow(6 - u32::from(digits.min(6))) == 0,
            (Limit::SingleFloat, Cell::Float(value)) => !value.is_finite() || (value as f32).is_finite(),
            _ => true,
        }
    }
}

fn has_digits(mut mantissa: u128, most: u8) -> bool {
    let beyond = 10u128.checked_pow(most.into()).unwrap_or(u128::MAX);
    while mantissa >= beyond && mantissa.is_multiple_of(10) {
        mantissa /= 10;
    }
    mantissa < beyond
}

impl std::fmt::Display for Limit {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            Limit::Characters(most) => write!(f, "longer than the column's {most} characters"),
            Limit::Bits(bits) => write!(f, "too large for the column's {bits} bits"),
            Limit::Digits(most) => write!(f, "of more than the {most} digits that the column keeps"),
            Limit::SecondDigits(0) => {
                f.write_str("more digits of a second than the column keeps, which is none")
            }
            Limit::SecondDigits(most) => write!(f, "more digits of a second than the column's {most}"),
            Limit::SingleFloat => f.write_str("too large for the column's 32-bit float"),
        }
    }
}
