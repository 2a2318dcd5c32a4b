//! Decimals in SQLite: a REAL wherever it gives the same digits back, so that numbers compare as
//! numbers, and text for the values that have more.

use hypodoke_core::record::Cell;
use hypodoke_core::spelling::number::{self, Number, NumberStyle};
use hypodoke_core::types::{Type, Unit};
use rusqlite::functions::{Context, FunctionFlags};
use rusqlite::types::{Value, ValueRef};
use rusqlite::{Connection, Result};

/// The most digits of a decimal that a REAL gives back as they were.
pub const REAL_DIGITS: u16 = 15;

/// The SQL function that gives a number's digits as text: `hd_digits(value, digits after the mark)`, or
/// as few as it takes where these are below zero.
const DIGITS: &str = "hd_digits";

/// The SQL function that gives the value which a column of decimals keeps of a text: `hd_decimal(text)`.
const DECIMAL: &str = "hd_decimal";

/// Whether a column may have decimals that no REAL gives back.
pub fn may_be_text(ty: Type) -> bool {
    matches!(ty, Type::Decimal { precision, .. } if precision > REAL_DIGITS)
}

/// Whether a REAL gives the digits of a number back.
pub fn is_real(mantissa: i128) -> bool {
    let mut significant = mantissa.unsigned_abs();
    // Most numbers are short, and are not divided at all.
    while significant >= 1_000_000_000_000_000 && significant.is_multiple_of(10) {
        significant /= 10;
    }
    significant < 1_000_000_000_000_000
}

/// Makes our functions known to a connection.
pub fn register(connection: &Connection) -> Result<()> {
    let flags = FunctionFlags::SQLITE_UTF8 | FunctionFlags::SQLITE_DETERMINISTIC;
    connection.create_scalar_function(DIGITS, 2, flags, digits)?;
    connection.create_scalar_function(DECIMAL, 1, flags, decimal)
}

/// The expression for a column's digits as text, with so many after the mark.
pub fn digits_sql(column: &str, scale: Option<u16>) -> String {
    format!("{DIGITS}({column}, {})", scale.map_or(-1, i32::from))
}

/// The expression for what a column of decimals keeps of a text of digits.
pub fn decimal_sql(text: &str) -> String {
    format!("{DECIMAL}({text})")
}

fn number_of(value: ValueRef<'_>) -> Option<Number> {
    match value {
        ValueRef::Integer(value) => Some(Number { mantissa: value.into(), scale: 0 }),
        ValueRef::Real(value) => read(value.to_string().as_bytes()),
        ValueRef::Text(text) => read(text),
        ValueRef::Null | ValueRef::Blob(_) => None,
    }
}

fn read(text: &[u8]) -> Option<Number> {
    number::read(text, NumberStyle::default(), Unit::Bare)
}

fn digits(context: &Context<'_>) -> Result<Value> {
    let value = context.get_raw(0);
    let wanted = u16::try_from(context.get::<i64>(1)?).ok();
    // A float without a wish is spelled as everywhere, with an exponent where the digits would run on.
    if let (ValueRef::Real(real), None) = (value, wanted) {
        let mut text = Vec::new();
        Cell::Float(real).write(&[], &[], &mut text);
        return Ok(Value::Text(String::from_utf8_lossy(&text).into_owned()));
    }
    let Some(number) = number_of(value) else {
        return Ok(match value {
            ValueRef::Real(value) => Value::Text(value.to_string()),
            other => other.try_into()?,
        });
    };
    let scaled = wanted.and_then(|scale| Some(Number { mantissa: number.rescale(scale)?, scale }));
    Ok(Value::Text(scaled.unwrap_or_else(|| number.without_zeros()).to_string()))
}

fn decimal(context: &Context<'_>) -> Result<Value> {
    let value = context.get_raw(0);
    Ok(match number_of(value) {
        Some(number) if is_real(number.mantissa) => Value::Real(number.to_f64()),
        _ => value.try_into()?,
    })
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case("hd_digits(10.5, 18)", "10.500000000000000000")]
    #[case("hd_digits(0.1, -1)", "0.1")]
    #[case("hd_digits(9.5e-05, -1)", "0.000095")]
    #[case("hd_digits(1e300, -1)", "1e300")]
    #[case("hd_digits(7, 2)", "7.00")]
    #[case("hd_digits('12345678901234567.500', -1)", "12345678901234567.5")]
    #[case("hd_digits(1200, -1)", "1200")]
    #[case("hd_digits('0.123456789012345678', 20)", "0.12345678901234567800")]
    #[case("hd_digits(0.467699143493002, 15)", "0.467699143493002")]
    #[case("typeof(hd_decimal('10.500000000000000000'))", "real")]
    #[case("typeof(hd_decimal('0.123456789012345678'))", "text")]
    #[case("typeof(hd_decimal(NULL))", "null")]
    #[case("hd_digits(hd_decimal('999999999999999.000'), 3)", "999999999999999.000")]
    fn digits_are_kept(#[case] expression: &str, #[case] value: &str) {
        let connection = Connection::open_in_memory().expect("a database");
        register(&connection).expect("functions");
        let found: String =
            connection.query_row(&format!("SELECT {expression}"), [], |row| row.get(0)).expect("a value");
        assert_eq!(found, value);
    }
}
