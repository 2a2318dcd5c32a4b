//! The greatest value of a column: where a file stands among others.

use hypodoke_core::cast::{Cell, Rows};
use hypodoke_core::spelling::Number;
use hypodoke_stores::sortable_number;
use hypodoke_stores::sql::moment_text;

/// The greatest value of a column so far.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Greatest(Option<Value>);

#[derive(Clone, Debug, PartialEq, PartialOrd)]
enum Value {
    Number(i128, u16),
    Float(f64),
    Moment(i64),
    Text(Vec<u8>),
}

impl Greatest {
    /// Takes in the rows of a batch. What the database refused counts too: it stands in the file.
    pub fn add(&mut self, rows: &Rows, column: usize) {
        for index in 0..rows.len() {
            let value = match rows.row(index).get(column) {
                // Text is only copied where it is the greatest so far.
                Some(Cell::Text { start, len }) => {
                    let text = rows.bytes(*start, *len);
                    if matches!(&self.0, Some(Value::Text(known)) if text <= known.as_slice()) {
                        continue;
                    }
                    Some(Value::Text(text.to_vec()))
                }
                Some(cell) => value_of(*cell, rows),
                None => None,
            };
            if value > self.0 {
                self.0 = value;
            }
        }
    }

    /// The value, written so that texts compare as the values do; empty where there was none.
    pub fn key(&self) -> String {
        match &self.0 {
            None => String::new(),
            Some(Value::Number(mantissa, scale)) => {
                sortable_number(Number { mantissa: *mantissa, scale: *scale })
            }
            // The order of floats is that of their bits, those of negative ones turned.
            Some(Value::Float(value)) => {
                let bits = value.to_bits();
                let turned = if value.is_sign_negative() { !bits } else { bits | 1 << 63 };
                format!("{turned:020}")
            }
            Some(Value::Moment(micros)) => moment_text(*micros),
            Some(Value::Text(text)) => String::from_utf8_lossy(text).into_owned(),
        }
    }
}

fn value_of(cell: Cell, rows: &Rows) -> Option<Value> {
    Some(match cell {
        Cell::Float(value) => Value::Float(value),
        Cell::Date(days) => Value::Moment(i64::from(days) * hypodoke_core::spelling::temporal::DAY),
        Cell::Time(micros) | Cell::Timestamp(micros) | Cell::TimestampTz(micros) => Value::Moment(micros),
        Cell::Boolean(value) => Value::Number(value.into(), 0),
        Cell::Uuid { start } => Value::Text(rows.bytes(start, 36).to_vec()),
        other => {
            let Number { mantissa, scale } = other.number(&rows.wide)?;
            Value::Number(mantissa, scale)
        }
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    fn key(cells: &[Cell], bytes: &[u8]) -> String {
        let mut greatest = Greatest::default();
        for cell in cells {
            let mut rows = Rows { width: 1, cells: vec![*cell], kept: vec![0], ..Rows::default() };
            rows.records.bytes = bytes.to_vec();
            greatest.add(&rows, 0);
        }
        greatest.key()
    }

    #[test]
    fn the_greatest_value_stands_whatever_came_when() {
        assert_eq!(key(&[Cell::Null], b""), "");
        assert!(
            key(&[Cell::Integer(9), Cell::Integer(10), Cell::Null], b"") == key(&[Cell::Integer(10)], b"")
        );
        assert!(key(&[Cell::Integer(-2)], b"") < key(&[Cell::Integer(-1)], b""));
        assert!(key(&[Cell::Float(-2.5)], b"") < key(&[Cell::Float(-1.0)], b""));
        assert!(key(&[Cell::Float(-0.5)], b"") < key(&[Cell::Float(0.25)], b""));
        assert!(key(&[Cell::Date(10)], b"") < key(&[Cell::Date(100)], b""));
        assert_eq!(key(&[Cell::text(0..1), Cell::text(1..3), Cell::text(0..2)], b"abc"), "bc");
    }
}
