//! What a value could be, seen by itself.

use super::class::Class;
use super::date_order::Orders;
use super::exact::Number;
use super::words::{BoolWords, Pairs};
use crate::types::Digits;

/// What one value could be.
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum Recognised {
    /// A spelling of null, by its index in `words::NULL_SPELLINGS`.
    Null(u8),
    /// A whole number without marks that fits 64 bits: by far the commonest number.
    Integer(i64, u16),
    /// Any other number.
    Number(RecognisedNumber),
    /// A date or a timestamp.
    Temporal(RecognisedTemporal),
    /// A time of day, in microseconds.
    Time(i64),
    /// A truth word of one of these pairs.
    Boolean(Pairs),
    /// A UUID.
    Uuid,
    /// A JSON object or array.
    Json,
    /// Digits with a leading zero, which a number would lose.
    LeadingZero,
    /// None of these.
    Text,
}

/// What was seen of a number.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct RecognisedNumber {
    /// Its class, which says in which styles it is a number.
    pub class: Class,
    /// Its value, an ambiguous mark read as the decimal mark.
    pub number: Number,
    /// The digits it needs, read so.
    pub digits: Digits,
    /// It was written in parentheses or with its minus behind it.
    pub accounting: bool,
}

/// What was seen of a date or timestamp.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct RecognisedTemporal {
    /// `Date`, `Timestamp` or `TimestampTz`.
    pub class: Class,
    /// The orders in which it is one.
    pub orders: Orders,
    /// Per order (by `DateOrder` as an index), microseconds since 1970-01-01.
    pub micros: [i64; 3],
    /// Its year was written with two digits.
    pub short_year: bool,
    /// The first and second number of a date whose order is not plain; 0 otherwise.
    pub pair: (u8, u8),
    /// What stands between them; 0 where the order is plain.
    pub mark: u8,
    /// Its second has more than six digits: the next one of them, and 0 where it has not.
    pub next_digit: u8,
}

impl Recognised {
    /// Its class; `None` for a null.
    pub fn class(&self) -> Option<Class> {
        Some(match self {
            Recognised::Null(_) => return None,
            Recognised::Integer(..) => Class::Integer,
            Recognised::Number(number) => number.class,
            Recognised::Temporal(temporal) => temporal.class,
            Recognised::Time(_) => Class::Time,
            Recognised::Boolean(pairs) => match BoolWords::first_of(*pairs) {
                Some(BoolWords::TrueFalse) => Class::TrueFalse,
                Some(BoolWords::YesNo) => Class::YesNo,
                Some(BoolWords::Yn) => Class::Yn,
                Some(BoolWords::Tf) => Class::Tf,
                Some(BoolWords::OnOff) => Class::OnOff,
                _ => Class::OtherTruth,
            },
            Recognised::Uuid => Class::Uuid,
            Recognised::Json => Class::Json,
            Recognised::LeadingZero => Class::LeadingZero,
            Recognised::Text => Class::Text,
        })
    }
}
