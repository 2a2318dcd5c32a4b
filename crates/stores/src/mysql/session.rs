//! MySQL's way of running the ledger's statements.

use hypodoke_core::spelling::temporal::{self, DAY, SECOND};
use mysql_async::consts::ColumnType;
use mysql_async::{Column, Row, Value};

use crate::sql::{Misread, SqlRow, SqlValue};

/// The character set of columns of bytes (MySQL Internals Manual, "Character Set").
const BINARY: u16 = 63;

/// A value as a parameter.
pub fn parameter(value: &SqlValue) -> Value {
    match value {
        SqlValue::Null => Value::NULL,
        SqlValue::Integer(value) => Value::Int(*value),
        SqlValue::Text(text) => Value::Bytes(text.as_bytes().to_vec()),
        SqlValue::Bytes(bytes) => Value::Bytes(bytes.clone()),
        SqlValue::Moment(micros) => moment(*micros),
    }
}

fn moment(micros: i64) -> Value {
    let (days, rest) = (micros.div_euclid(DAY), micros.rem_euclid(DAY));
    let (year, month, day) = temporal::civil(days as i32);
    let (seconds, fraction) = (rest / SECOND, rest % SECOND);
    let part = |value: i64| value as u8;
    Value::Date(
        year.clamp(0, 9999) as u16,
        month as u8,
        day as u8,
        part(seconds / 3600),
        part(seconds / 60 % 60),
        part(seconds % 60),
        fraction as u32,
    )
}

/// A row as the ledger reads it.
pub fn row_of(row: Row) -> Result<SqlRow, Misread> {
    let columns = row.columns();
    let values = row.unwrap_raw().into_iter().zip(columns.iter());
    values
        .map(|(value, column)| value_of(value.unwrap_or(Value::NULL), column))
        .collect::<Result<_, _>>()
        .map(SqlRow)
}

fn value_of(value: Value, column: &Column) -> Result<SqlValue, Misread> {
    let wrong = |what: &str| {
        Misread(format!("column `{}` of a row is {what}, which no ledger has", column.name_str()))
    };
    Ok(match value {
        Value::NULL => SqlValue::Null,
        Value::Int(value) => SqlValue::Integer(value),
        Value::UInt(value) => SqlValue::Integer(i64::try_from(value).unwrap_or(i64::MAX)),
        Value::Bytes(bytes) if is_number(column) => {
            let text = String::from_utf8_lossy(&bytes);
            SqlValue::Integer(text.parse().map_err(|_| wrong("a number with a fraction"))?)
        }
        Value::Bytes(bytes) if column.character_set() == BINARY => SqlValue::Bytes(bytes),
        Value::Bytes(bytes) => {
            SqlValue::Text(String::from_utf8(bytes).map_err(|_| wrong("a text that is not UTF-8"))?)
        }
        Value::Date(year, month, day, hour, minute, second, fraction) => {
            let days =
                temporal::days(year.into(), month.into(), day.into()).ok_or_else(|| wrong("no day"))?;
            let seconds = (i64::from(hour) * 60 + i64::from(minute)) * 60 + i64::from(second);
            SqlValue::Moment(i64::from(days) * DAY + seconds * SECOND + i64::from(fraction))
        }
        Value::Float(_) | Value::Double(_) => return Err(wrong("a float")),
        Value::Time(..) => return Err(wrong("a time of day")),
    })
}

/// Whether a column holds whole numbers, which queries without parameters give as texts.
fn is_number(column: &Column) -> bool {
    matches!(
        column.column_type(),
        ColumnType::MYSQL_TYPE_LONGLONG
            | ColumnType::MYSQL_TYPE_LONG
            | ColumnType::MYSQL_TYPE_INT24
            | ColumnType::MYSQL_TYPE_SHORT
            | ColumnType::MYSQL_TYPE_TINY
    )
}

/// A moment as a literal, and as a value of a text: `2026-03-02 07:15:00.000001`.
pub fn moment_text(micros: i64) -> String {
    let mut out = Vec::with_capacity(26);
    temporal::write_timestamp(micros, &mut out);
    String::from_utf8(out).unwrap_or_default()
}
