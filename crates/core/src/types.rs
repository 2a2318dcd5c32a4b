//! The types a column can have and the semilattice they form.
//!
//! [`Type`] is what people see and what a table column is made of. [`Domain`] is what is
//! joined: the type together with the digits it has to hold, so that joining two columns
//! gives the same answer whatever the order in which their values were met.

use std::fmt;
use std::str::FromStr;

use serde::{Deserialize, Serialize};

/// The widest decimal that is stored exactly, in digits. Mantissas travel as `i128`.
pub const MAX_DIGITS: u16 = 38;

/// The type of a column.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, Default)]
pub enum Type {
    /// No value yet.
    #[default]
    Unknown,
    /// True or false.
    Boolean,
    /// A signed 64-bit integer.
    Integer,
    /// An exact decimal number.
    Decimal {
        /// All digits, before and after the mark; 1 to [`MAX_DIGITS`].
        precision: u16,
        /// Digits after the mark.
        scale: u16,
    },
    /// A 64-bit binary floating-point number.
    Float,
    /// A calendar date.
    Date,
    /// A time of day, to the microsecond.
    Time,
    /// A date and a time of day without a zone, to the microsecond.
    Timestamp,
    /// An instant: a timestamp with its offset from UTC, to the microsecond.
    TimestampTz,
    /// A universally unique identifier (RFC 9562).
    Uuid,
    /// A JSON text (RFC 8259).
    Json,
    /// Text of any length: the top of the lattice.
    Text,
}

/// The words for the types that have no parameters.
const WORDS: [(Type, &str); 11] = [
    (Type::Unknown, "unknown"),
    (Type::Boolean, "boolean"),
    (Type::Integer, "integer"),
    (Type::Float, "float"),
    (Type::Date, "date"),
    (Type::Time, "time"),
    (Type::Timestamp, "timestamp"),
    (Type::TimestampTz, "timestamp_tz"),
    (Type::Uuid, "uuid"),
    (Type::Json, "json"),
    (Type::Text, "text"),
];

impl fmt::Display for Type {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match (self, WORDS.iter().find(|(ty, _)| ty == self)) {
            (Type::Decimal { precision, scale }, _) => write!(f, "decimal({precision},{scale})"),
            (_, Some((_, word))) => f.pad(word),
            (_, None) => f.pad("?"),
        }
    }
}

/// The spellings a configuration may use for a type, for messages.
pub const TYPE_WORDS: &[&str] = &[
    "boolean",
    "integer",
    "decimal(p,s)",
    "float",
    "date",
    "time",
    "timestamp",
    "timestamp_tz",
    "uuid",
    "json",
    "text",
];

impl Type {
    /// Whether its values are days, or moments.
    ///
    /// ```
    /// use hypodoke_core::types::Type;
    ///
    /// assert!(Type::TimestampTz.is_calendar());
    /// assert!(!Type::Time.is_calendar() && !Type::Integer.is_calendar());
    /// ```
    pub fn is_calendar(self) -> bool {
        matches!(self, Type::Date | Type::Timestamp | Type::TimestampTz)
    }
}

impl FromStr for Type {
    type Err = String;

    fn from_str(text: &str) -> Result<Self, String> {
        let word = text.trim();
        match WORDS.iter().find(|(_, known)| *known == word) {
            Some((ty, _)) => Ok(*ty),
            None => decimal_from(word),
        }
    }
}

fn decimal_from(word: &str) -> Result<Type, String> {
    let inner = word.strip_prefix("decimal(").and_then(|rest| rest.strip_suffix(')'));
    let (precision, scale) = inner
        .and_then(|inner| inner.split_once(','))
        .and_then(|(p, s)| Some((p.trim().parse::<u16>().ok()?, s.trim().parse::<u16>().ok()?)))
        .ok_or_else(|| format!("no type is called `{word}`; the types are {}", TYPE_WORDS.join(", ")))?;
    if precision == 0 || precision > MAX_DIGITS || scale > precision {
        return Err(format!(
            "`{word}` is not possible: precision is 1 to {MAX_DIGITS} and scale at most the precision"
        ));
    }
    Ok(Type::Decimal { precision, scale })
}

impl Serialize for Type {
    fn serialize<S: serde::Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.collect_str(self)
    }
}

impl<'de> Deserialize<'de> for Type {
    fn deserialize<D: serde::Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        String::deserialize(deserializer)?.parse().map_err(serde::de::Error::custom)
    }
}

/// The digits that numbers of a column need, and what they tell of the program that wrote them.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, Default, Serialize, Deserialize)]
#[serde(from = "StoredDigits")]
pub struct Digits {
    /// Digits before the decimal mark, without leading zeros; 0 for values below one.
    pub int: u16,
    /// Digits after the mark.
    pub scale: u16,
    /// Some whole number lies beyond 64 bits.
    pub beyond_i64: bool,
    /// Some value was written with an exponent.
    pub float: bool,
    /// Some value is infinite, or beyond any number of digits.
    pub infinite: bool,
    /// Some value has the 16 or more digits by which programs print a 64-bit float.
    pub binary: bool,
    /// Some value is not what its nearest 64-bit float prints as: no float holds it.
    pub exact: bool,
    /// Some value is not eight digits that are a day of these centuries, and some value is not that or
    /// fourteen digits that are such a day and a time.
    pub not_days: bool,
    /// See `not_days`.
    pub not_moments: bool,
    /// There is more than one value.
    pub several: bool,
    /// The sign that every value carries.
    pub unit: Unit,
}

/// Digits as they stand in a layout, some written before all of this was asked.
#[derive(Deserialize)]
struct StoredDigits {
    int: u16,
    scale: u16,
    beyond_i64: bool,
    float: bool,
    infinite: Option<bool>,
    #[serde(default)]
    binary: bool,
    exact: Option<bool>,
    not_days: Option<bool>,
    not_moments: Option<bool>,
    #[serde(default)]
    several: bool,
    #[serde(default)]
    unit: Unit,
}

impl From<StoredDigits> for Digits {
    fn from(stored: StoredDigits) -> Digits {
        let StoredDigits { int, scale, beyond_i64, float, infinite, binary, exact, unit, .. } = stored;
        Digits {
            int,
            scale,
            beyond_i64,
            float,
            infinite: infinite.unwrap_or(float),
            binary,
            exact: exact.unwrap_or(!float && int + scale > 15),
            not_days: stored.not_days.unwrap_or(true),
            not_moments: stored.not_moments.unwrap_or(true),
            several: stored.several,
            unit,
        }
    }
}

/// The sign that the numbers of a column carry. It is taken off only where every value of
/// the column has it, so columns that differ in it have no number type in common.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, Default, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Unit {
    /// None: bare numbers.
    #[default]
    Bare,
    /// A percent sign. The number is kept as written: `12.5%` is 12.5.
    Percent,
    /// A currency sign.
    Currency(char),
}

impl Digits {
    /// The least digits that hold what both hold.
    pub fn join(self, other: Digits) -> Digits {
        Digits {
            int: self.int.max(other.int),
            scale: self.scale.max(other.scale),
            beyond_i64: self.beyond_i64 || other.beyond_i64,
            float: self.float || other.float,
            infinite: self.infinite || other.infinite,
            binary: self.binary || other.binary,
            exact: self.exact || other.exact,
            not_days: self.not_days || other.not_days,
            not_moments: self.not_moments || other.not_moments,
            several: self.several || other.several,
            unit: self.unit,
        }
    }

    /// The digits a column of this type declares.
    fn of(ty: Type) -> Digits {
        Digits { not_days: true, not_moments: true, several: true, ..Digits::declared(ty) }
    }

    /// What the values may be besides numbers: days, or moments.
    fn calendar(self) -> Option<Type> {
        match self {
            Digits { unit: Unit::Bare, not_days: false, int: 8, .. } => Some(Type::Date),
            Digits { unit: Unit::Bare, not_moments: false, int: 8 | 14, .. } => Some(Type::Timestamp),
            _ => None,
        }
    }

    fn declared(ty: Type) -> Digits {
        match ty {
            Type::Decimal { precision, scale } => {
                let beyond_i64 = scale == 0;
                Digits { int: precision - scale, scale, beyond_i64, exact: true, ..Digits::default() }
            }
            Type::Integer => Digits { int: 19, exact: true, ..Digits::default() },
            Type::Float => Digits { float: true, infinite: true, ..Digits::default() },
            _ => Digits::default(),
        }
    }
}

/// An element of the lattice: the family of a column's values and the digits they need.
///
/// `join` is associative, commutative and idempotent, and `Text` is its top.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, Default, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Domain {
    /// No value yet: the bottom.
    #[default]
    Unknown,
    /// Truth values.
    Boolean,
    /// Numbers that need these digits.
    Number(Digits),
    /// Calendar dates.
    Date,
    /// Times of day.
    Time,
    /// Timestamps without a zone.
    Timestamp,
    /// Instants.
    TimestampTz,
    /// UUIDs.
    Uuid,
    /// JSON texts.
    Json,
    /// Anything.
    Text,
}

impl Domain {
    /// The narrowest type whose columns hold every value of the domain exactly.
    pub fn ty(self) -> Type {
        match self {
            Domain::Unknown => Type::Unknown,
            Domain::Boolean => Type::Boolean,
            Domain::Number(digits) => number_type(digits),
            Domain::Date => Type::Date,
            Domain::Time => Type::Time,
            Domain::Timestamp => Type::Timestamp,
            Domain::TimestampTz => Type::TimestampTz,
            Domain::Uuid => Type::Uuid,
            Domain::Json => Type::Json,
            Domain::Text => Type::Text,
        }
    }

    /// The domain of a column that is declared, not observed.
    ///
    /// ```
    /// use hypodoke_core::types::{Domain, Type};
    ///
    /// let price = Type::Decimal { precision: 12, scale: 2 };
    /// assert_eq!(Domain::of(price).ty(), price);
    /// ```
    pub fn of(ty: Type) -> Domain {
        match ty {
            Type::Unknown => Domain::Unknown,
            Type::Boolean => Domain::Boolean,
            Type::Integer | Type::Decimal { .. } | Type::Float => Domain::Number(Digits::of(ty)),
            Type::Date => Domain::Date,
            Type::Time => Domain::Time,
            Type::Timestamp => Domain::Timestamp,
            Type::TimestampTz => Domain::TimestampTz,
            Type::Uuid => Domain::Uuid,
            Type::Json => Domain::Json,
            Type::Text => Domain::Text,
        }
    }

    /// The narrowest domain that holds both.
    ///
    /// ```
    /// use hypodoke_core::types::{Domain, Type};
    ///
    /// let (whole, part) = (Domain::of(Type::Integer), Domain::of(Type::Decimal { precision: 6, scale: 2 }));
    /// assert_eq!(whole.join(part), part.join(whole));
    /// assert_eq!(whole.join(Domain::Unknown), whole);
    /// assert_eq!(Domain::Date.join(Domain::Boolean).ty(), Type::Text);
    /// ```
    pub fn join(self, other: Domain) -> Domain {
        use Domain::{Date, Number, Text, Timestamp, Unknown};
        match (self, other) {
            (Unknown, any) | (any, Unknown) => any,
            (Number(a), Number(b)) if a.unit == b.unit => {
                let joined = Number(a.join(b));
                if joined.ty() == Type::Text { Text } else { joined }
            }
            (Date, Timestamp) | (Timestamp, Date) => Timestamp,
            // Days written as digits alone are days beside others.
            (Number(digits), other @ (Date | Timestamp)) | (other @ (Date | Timestamp), Number(digits)) => {
                match (digits.calendar(), other) {
                    (Some(Type::Date), other) => other,
                    (Some(_), _) => Timestamp,
                    (None, _) => Text,
                }
            }
            (a, b) if a == b => a,
            _ => Text,
        }
    }

    /// Whether every value of `self` is a value of `wider`.
    ///
    /// ```
    /// use hypodoke_core::types::Domain;
    ///
    /// assert!(Domain::Date.fits(Domain::Text));
    /// assert!(!Domain::Text.fits(Domain::Date));
    /// ```
    pub fn fits(self, wider: Domain) -> bool {
        self.join(wider).ty() == wider.ty()
    }
}

/// Numbers that are all days of the calendar are dates. Numbers that no numeric type holds exactly become text. Where floats hold all of them, those that
/// only a float is written as make them floats.
fn number_type(digits: Digits) -> Type {
    if let (Some(ty), true) = (digits.calendar(), digits.several) {
        return ty;
    }
    let all = digits.int.saturating_add(digits.scale);
    let has_decimals = !digits.infinite && all <= MAX_DIGITS;
    match digits.exact {
        false if digits.float || digits.binary || !has_decimals => Type::Float,
        true if !has_decimals => Type::Text,
        _ if digits.scale == 0 && !digits.beyond_i64 && digits.int <= 19 => Type::Integer,
        _ => Type::Decimal { precision: all.max(1), scale: digits.scale },
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_type_is_read_back_as_it_is_written() {
        let decimal = Type::Decimal { precision: 12, scale: 2 };
        for ty in WORDS.iter().map(|(ty, _)| *ty).chain([decimal]) {
            assert_eq!(ty.to_string().parse(), Ok(ty));
        }
        for word in TYPE_WORDS.iter().filter(|word| !word.contains('(')) {
            assert!(word.parse::<Type>().is_ok(), "{word}");
        }
    }
}
