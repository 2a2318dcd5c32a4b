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
    /// Numbers whose last so many digits are zeros: others would be rounded.
    LastZeros(u8),
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
            (Limit::LastZeros(zeros), Cell::Decimal { mantissa, scale }) => {
                let power = 10i64.checked_pow(u32::from(zeros) + u32::from(scale));
                power.map_or(mantissa == 0, |power| mantissa % power == 0)
            }
            (Limit::LastZeros(_), Cell::Wide { .. }) => false,
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
            Limit::LastZeros(zeros) => {
                write!(
                    f,
                    "not a multiple of 1{}, which is all that the column keeps",
                    "0".repeat((*zeros).into())
                )
            }
            Limit::SecondDigits(0) => {
                f.write_str("more digits of a second than the column keeps, which is none")
            }
            Limit::SecondDigits(most) => write!(f, "more digits of a second than the column's {most}"),
            Limit::SingleFloat => f.write_str("too large for the column's 32-bit float"),
        }
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case::multiple(Limit::LastZeros(2), 1200, 0, true)]
    #[case::negative_multiple(Limit::LastZeros(2), -300, 0, true)]
    #[case::would_be_rounded(Limit::LastZeros(2), 1250, 0, false)]
    #[case::zeros_behind_the_mark(Limit::LastZeros(2), 120_000, 2, true)]
    #[case::a_fraction(Limit::LastZeros(1), 105, 1, false)]
    #[case::nothing(Limit::LastZeros(30), 0, 0, true)]
    #[case::no_number_has_so_many(Limit::LastZeros(30), 1, 0, false)]
    #[case::digits(Limit::Digits(3), 12_300, 0, true)]
    #[case::too_many_digits(Limit::Digits(3), 12_340, 0, false)]
    fn decimals_are_within_a_limit_or_not(
        #[case] limit: Limit,
        #[case] mantissa: i64,
        #[case] scale: u8,
        #[case] expected: bool,
    ) {
        assert_eq!(limit.holds(Cell::Decimal { mantissa, scale }, &Records::default()), expected);
    }

    #[rstest]
    #[case(Limit::Bits(16), 32_767, true)]
    #[case(Limit::Bits(16), 32_768, false)]
    #[case(Limit::Bits(16), -32_768, true)]
    #[case(Limit::Bits(32), -2_147_483_649, false)]
    fn integers_are_within_a_limit_or_not(#[case] limit: Limit, #[case] value: i64, #[case] expected: bool) {
        assert_eq!(limit.holds(Cell::Integer(value), &Records::default()), expected);
    }
}
