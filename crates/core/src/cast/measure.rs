//! Values held against what a configuration writes: bounds, words, patterns.

use std::cmp::Ordering;

use super::{Cell, value};
use crate::layout::Format;
use crate::record::Origin;
use crate::spelling::{Number, NumberStyle, number, temporal, trim};
use crate::types::{Type, Unit};

/// A value as a configuration writes it, read as a column's type.
#[derive(Clone, Debug, PartialEq)]
pub enum Literal {
    /// Of a column of numbers.
    Number(Number),
    /// Of a column of floats.
    Float(f64),
    /// Of dates and moments: microseconds since 1970; of times: since midnight.
    Micros(i64),
    /// Of any other: the text.
    Text(String),
}

impl Literal {
    /// Reads a literal for a column; the error says what it is not.
    pub fn read(text: &str, ty: Type) -> Result<Literal, String> {
        let bytes = trim(text.as_bytes());
        let order = temporal::DateOrder::Ymd;
        let style = NumberStyle::default();
        let read = match ty {
            Type::Integer | Type::Decimal { .. } => {
                number::read(bytes, style, Unit::Bare).map(Literal::Number)
            }
            Type::Float => {
                number::read_float(bytes, style, Unit::Bare).map(|(value, _)| Literal::Float(value))
            }
            Type::Date | Type::Timestamp => temporal::read_timestamp(bytes, order)
                .or_else(|| temporal::read_date(bytes, order).map(|days| i64::from(days) * temporal::DAY))
                .map(Literal::Micros),
            Type::TimestampTz => temporal::read_timestamp_tz(bytes, order).map(Literal::Micros),
            Type::Time => temporal::read_time(bytes).map(Literal::Micros),
            _ => Some(Literal::Text(text.to_owned())),
        };
        read.ok_or_else(|| format!("`{text}` is not of type {ty}"))
    }

    /// How a value stands to it; `None` where they are of different kinds.
    pub fn compare(&self, cell: Cell, bytes: &[u8], wide: &[i128]) -> Option<Ordering> {
        let exact = |mantissa: i128, scale: u8| Number { mantissa, scale: scale.into() };
        Some(match (cell, self) {
            (Cell::Integer(value), Literal::Number(other)) => exact(value.into(), 0).cmp(other),
            (Cell::Decimal { mantissa, scale }, Literal::Number(other)) => {
                exact(mantissa.into(), scale).cmp(other)
            }
            (Cell::Wide { index, scale }, Literal::Number(other)) => {
                exact(wide[index as usize], scale).cmp(other)
            }
            (Cell::Float(value), Literal::Float(other)) => value.partial_cmp(other)?,
            (Cell::Date(days), Literal::Micros(other)) => (i64::from(days) * temporal::DAY).cmp(other),
            (
                Cell::Time(value) | Cell::Timestamp(value) | Cell::TimestampTz(value),
                Literal::Micros(other),
            ) => value.cmp(other),
            (Cell::Boolean(value), Literal::Text(other)) => if value { "true" } else { "false" }.cmp(other),
            (Cell::Text { start, len }, Literal::Text(other)) => {
                trim(&bytes[start as usize..(start + len) as usize]).cmp(other.as_bytes())
            }
            (Cell::Uuid { start }, Literal::Text(other)) => {
                let mut ours = bytes[start as usize..start as usize + 36].to_vec();
                ours.make_ascii_lowercase();
                ours.as_slice().cmp(other.to_ascii_lowercase().as_bytes())
            }
            _ => return None,
        })
    }
}

/// What a configuration asks of a column's values.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Demand {
    /// No value is null.
    pub not_null: bool,
    /// Values are among these.
    pub one_of: Vec<Literal>,
    /// No value is less.
    pub least: Option<Literal>,
    /// No value is greater.
    pub most: Option<Literal>,
    /// No value comes twice in a file.
    pub unique: bool,
    /// A row that does not meet it is a reject; otherwise it is only counted.
    pub rejects: bool,
}

impl Demand {
    /// Whether anything is asked.
    pub fn is_any(&self) -> bool {
        self.not_null || self.unique || !self.one_of.is_empty() || self.least.is_some() || self.most.is_some()
    }

    /// What a value does not meet, in words; uniqueness is asked elsewhere.
    pub(super) fn unmet(&self, cell: Cell, bytes: &[u8], wide: &[i128]) -> Option<&'static str> {
        if cell == Cell::Null {
            return self.not_null.then_some("null, and the feed expects none");
        }
        let against = |bound: &Literal| bound.compare(cell, bytes, wide);
        if self.least.as_ref().and_then(against) == Some(Ordering::Less) {
            return Some("less than the feed expects");
        }
        if self.most.as_ref().and_then(against) == Some(Ordering::Greater) {
            return Some("more than the feed expects");
        }
        let among = self.one_of.iter().any(|word| against(word) == Some(Ordering::Equal));
        (!self.one_of.is_empty() && !among).then_some("not one of the values the feed expects")
    }
}

/// What a row has to be to be kept.
#[derive(Clone, Debug)]
pub enum Test {
    /// The value is one of these.
    OneOf(Vec<Literal>),
    /// It is not less.
    AtLeast(Literal),
    /// It is not greater.
    AtMost(Literal),
    /// Its text matches.
    Matches(regex::bytes::Regex),
    /// It is null, or it is not.
    IsNull(bool),
}

/// A condition on a column: rows that do not meet it are left out.
#[derive(Clone, Debug)]
pub struct Condition {
    /// The field of the record.
    pub field: usize,
    /// What its values are read as.
    pub ty: Type,
    /// How they are written.
    pub format: Format,
    /// What is asked of them.
    pub test: Test,
}

impl Condition {
    /// Whether a field's value meets it. A value that is no value of the column's type meets it:
    /// whoever casts it finds out and says so.
    pub fn is_met(&self, text: &[u8], origin: Origin, wide: &mut Vec<i128>) -> bool {
        let read = if origin == Origin::Missing {
            Ok(Cell::Null)
        } else {
            value::Reader::plain(self.ty, self.format, wide).read_alone(text, origin)
        };
        let compared = |literal: &Literal| match read {
            Ok(Cell::Null) | Err(_) => None,
            Ok(cell) => literal.compare(cell, text, wide),
        };
        match &self.test {
            Test::IsNull(wanted) => matches!(read, Ok(Cell::Null)) == *wanted,
            Test::Matches(pattern) => !matches!(read, Ok(Cell::Null)) && pattern.is_match(trim(text)),
            _ if read.is_err() => true,
            Test::OneOf(literals) => {
                literals.iter().any(|literal| compared(literal) == Some(Ordering::Equal))
            }
            Test::AtLeast(literal) => compared(literal).is_some_and(Ordering::is_ge),
            Test::AtMost(literal) => compared(literal).is_some_and(Ordering::is_le),
        }
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    const MONEY: Type = Type::Decimal { precision: 6, scale: 2 };

    fn condition(ty: Type, test: Test) -> Condition {
        Condition { field: 0, ty, format: Format::default(), test }
    }

    fn literal(text: &str, ty: Type) -> Literal {
        Literal::read(text, ty).expect("a literal")
    }

    #[rstest]
    #[case(Type::Integer, "5", "7", true)]
    #[case(Type::Integer, "5", "5", true)]
    #[case(Type::Integer, "5", "-6", false)]
    #[case(MONEY, "5.5", "5.49", false)]
    #[case(MONEY, "5.5", "5.50", true)]
    #[case(Type::Float, "1.5", "1e3", true)]
    #[case(Type::Date, "2026-03-02", "2026-03-01", false)]
    #[case(Type::Timestamp, "2026-03-02", "2026-03-02 00:00:01", true)]
    #[case(Type::Time, "07:00", "06:59", false)]
    #[case(Type::Text, "m", "n", true)]
    #[case::null(Type::Integer, "5", "", false)]
    #[case::no_such_value(Type::Integer, "5", "many", true)]
    fn values_are_at_least(#[case] ty: Type, #[case] bound: &str, #[case] value: &str, #[case] met: bool) {
        let condition = condition(ty, Test::AtLeast(literal(bound, ty)));
        assert_eq!(condition.is_met(value.as_bytes(), Origin::Plain, &mut Vec::new()), met);
    }

    #[rstest]
    #[case::word(Test::OneOf(vec![Literal::Text("north".into()), Literal::Text("east".into())]), " east ", true)]
    #[case::other(Test::OneOf(vec![Literal::Text("north".into())]), "south", false)]
    #[case::pattern(Test::Matches(regex::bytes::Regex::new("^Q-[0-9]+$").expect("a pattern")), "Q-12", true)]
    #[case::no_match(Test::Matches(regex::bytes::Regex::new("^Q-[0-9]+$").expect("a pattern")), "R-12", false)]
    #[case::null(Test::IsNull(true), "", true)]
    #[case::not_null(Test::IsNull(false), "", false)]
    #[case::present(Test::IsNull(false), "x", true)]
    fn texts_are_tested(#[case] test: Test, #[case] value: &str, #[case] met: bool) {
        assert_eq!(condition(Type::Text, test).is_met(value.as_bytes(), Origin::Plain, &mut Vec::new()), met);
    }

    #[rstest]
    #[case(Type::Integer, "a")]
    #[case(Type::Date, "soon")]
    #[case(Type::Time, "25:99")]
    fn a_literal_of_another_kind_is_refused(#[case] ty: Type, #[case] text: &str) {
        assert!(Literal::read(text, ty).expect_err("no literal").contains(text));
    }
}
