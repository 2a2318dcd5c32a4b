//! Typed values: sixteen bytes each, texts as places in the buffer of their batch.

use std::io::Write;
use std::ops::Range;

use crate::spelling::{Number, temporal};

/// A typed value. Texts point into the bytes of the records they came from.
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum Cell {
    /// Null.
    Null,
    /// A truth value.
    Boolean(bool),
    /// An integer.
    Integer(i64),
    /// A decimal of the column's scale.
    Decimal {
        /// All its digits.
        mantissa: i64,
        /// How many of them stand after the mark.
        scale: u8,
    },
    /// A decimal whose digits do not fit 64 bits: its place among the batch's wide mantissas.
    Wide {
        /// The place.
        index: u32,
        /// How many digits stand after the mark.
        scale: u8,
    },
    /// A float.
    Float(f64),
    /// Days since 1970-01-01.
    Date(i32),
    /// Microseconds since midnight.
    Time(i64),
    /// Microseconds since 1970-01-01 00:00:00, without a zone.
    Timestamp(i64),
    /// Microseconds since 1970-01-01T00:00:00Z.
    TimestampTz(i64),
    /// A text: where it stands.
    Text {
        /// Its first byte.
        start: u32,
        /// Its length in bytes.
        len: u32,
    },
    /// A UUID in its 36 characters.
    Uuid {
        /// Its first byte.
        start: u32,
    },
}

impl Cell {
    /// The cell of a text at these bytes.
    pub fn text(range: Range<usize>) -> Cell {
        Cell::Text { start: range.start as u32, len: (range.end - range.start) as u32 }
    }
}

/// Floats that are written without an exponent.
const PLAIN: Range<f64> = 1e-7..1e17;

impl Cell {
    /// Writes the value as a file of text would have it; nothing for null. Texts stand in `bytes`,
    /// wide mantissas in `wide`.
    pub fn write(self, bytes: &[u8], wide: &[i128], out: &mut Vec<u8>) {
        let text = |start: u32, len: u32| bytes.get(start as usize..start as usize + len as usize);
        // Writing to memory does not fail.
        let _ = match self {
            Cell::Null => Ok(()),
            Cell::Boolean(value) => write!(out, "{value}"),
            Cell::Integer(value) => write!(out, "{value}"),
            Cell::Decimal { mantissa, scale } => {
                write!(out, "{}", Number { mantissa: mantissa.into(), scale: scale.into() })
            }
            Cell::Wide { index, scale } => {
                let mantissa = wide.get(index as usize).copied().unwrap_or_default();
                write!(out, "{}", Number { mantissa, scale: scale.into() })
            }
            Cell::Float(value) if value == 0.0 || PLAIN.contains(&value.abs()) => write!(out, "{value}"),
            Cell::Float(value) => write!(out, "{value:e}"),
            Cell::Date(days) => return temporal::write_date(days, out),
            Cell::Time(micros) => return temporal::write_time(micros, out),
            Cell::Timestamp(micros) => return temporal::write_timestamp(micros, out),
            Cell::TimestampTz(micros) => {
                temporal::write_timestamp(micros, out);
                write!(out, "+00:00")
            }
            Cell::Text { start, len } => out.write_all(text(start, len).unwrap_or_default()),
            Cell::Uuid { start } => out.write_all(text(start, 36).unwrap_or_default()),
        };
    }

    /// The value as JSON has it: numbers that are exact as numbers, what JSON has no word for as a text.
    pub fn json(self, bytes: &[u8], wide: &[i128]) -> serde_json::Value {
        match self {
            Cell::Null => serde_json::Value::Null,
            Cell::Boolean(value) => value.into(),
            Cell::Integer(value) => value.into(),
            Cell::Float(value) if value.is_finite() => value.into(),
            _ => {
                let mut text = Vec::new();
                self.write(bytes, wide, &mut text);
                String::from_utf8_lossy(&text).into_owned().into()
            }
        }
    }

    /// The exact number that it is, if it is one.
    pub fn number(self, wide: &[i128]) -> Option<Number> {
        match self {
            Cell::Integer(value) => Some(Number { mantissa: value.into(), scale: 0 }),
            Cell::Decimal { mantissa, scale } => {
                Some(Number { mantissa: mantissa.into(), scale: scale.into() })
            }
            Cell::Wide { index, scale } => {
                Some(Number { mantissa: *wide.get(index as usize)?, scale: scale.into() })
            }
            _ => None,
        }
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;
    use crate::spelling::temporal::DAY;

    #[rstest]
    #[case::null(Cell::Null, "")]
    #[case::truth(Cell::Boolean(true), "true")]
    #[case::integer(Cell::Integer(-42), "-42")]
    #[case::decimal(Cell::Decimal { mantissa: -5, scale: 2 }, "-0.05")]
    #[case::wide(Cell::Wide { index: 0, scale: 3 }, "12345678901234567.890")]
    #[case::float(Cell::Float(0.25), "0.25")]
    #[case::great(Cell::Float(1e300), "1e300")]
    #[case::none(Cell::Float(0.0), "0")]
    #[case::date(Cell::Date(0), "1970-01-01")]
    #[case::time(Cell::Time(1_000_000), "00:00:01")]
    #[case::timestamp(Cell::Timestamp(DAY), "1970-01-02 00:00:00")]
    #[case::zoned(Cell::TimestampTz(DAY), "1970-01-02 00:00:00+00:00")]
    #[case::text(Cell::text(1..4), "mol")]
    #[case::text_that_is_not_there(Cell::text(3..9), "")]
    fn a_value_is_written_as_a_file_of_text_would_have_it(#[case] cell: Cell, #[case] expected: &str) {
        let mut out = Vec::new();
        cell.write(b"amole", &[12_345_678_901_234_567_890], &mut out);
        assert_eq!(String::from_utf8(out).expect("text"), expected);
    }
}
