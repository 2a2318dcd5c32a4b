//! What a typed value shows by being what it is.

use crate::record::Cell;
use crate::spelling::number::{digit_count, digits_of};
use crate::spelling::temporal::{ANY_ORDER, DAY};
use crate::spelling::{BoolWords, Class, Recognised, RecognisedNumber, RecognisedTemporal, recognise};
use crate::types::Unit;

/// What a value is. Texts may be anything, and a float is what its digits are.
pub fn recognised(cell: Cell, text: &[u8], wide: &[i128]) -> Recognised {
    match cell {
        Cell::Integer(value) => Recognised::Integer(value, digit_count(value.into())),
        Cell::Decimal { .. } | Cell::Wide { .. } => match cell.number(wide) {
            Some(number) if number.scale > 0 => {
                let digits = digits_of(number, Unit::Bare);
                Recognised::Number(RecognisedNumber {
                    class: Class::Point,
                    number,
                    digits,
                    accounting: false,
                })
            }
            _ => recognise(text),
        },
        Cell::Date(days) => moment(Class::Date, i64::from(days) * DAY),
        Cell::Timestamp(micros) => moment(Class::Timestamp, micros),
        Cell::TimestampTz(micros) => moment(Class::TimestampTz, micros),
        Cell::Time(micros) => Recognised::Time(micros),
        Cell::Boolean(_) => Recognised::Boolean(BoolWords::TrueFalse.bit()),
        Cell::Uuid { .. } => Recognised::Uuid,
        Cell::Null | Cell::Float(_) | Cell::Text { .. } => recognise(text),
    }
}

fn moment(class: Class, micros: i64) -> Recognised {
    let (orders, micros) = (ANY_ORDER, [micros; 3]);
    Recognised::Temporal(RecognisedTemporal {
        class,
        orders,
        micros,
        short_year: false,
        pair: (0, 0),
        mark: 0,
        next_digit: 0,
    })
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;
    use crate::evidence::TableEvidence;
    use crate::record::Records;

    fn seen(cell: Cell) -> (Recognised, Recognised) {
        let mut text = Vec::new();
        cell.write(&[], &[], &mut text);
        (recognised(cell, &text, &[]), recognise(&text))
    }

    /// Records of one column, each a text or a decimal of the same digits.
    fn records(cells: &[bool]) -> Records {
        let mut records = Records::default();
        records.begin_typed(1);
        for (line, is_text) in (1..).zip(cells) {
            let start = records.bytes.len();
            records.bytes.extend_from_slice(b"1.234");
            let text = Cell::text(start..records.bytes.len());
            let cell = if *is_text { text } else { Cell::Decimal { mantissa: 1234, scale: 3 } };
            records.push_typed(&[cell], line);
        }
        records
    }

    #[test]
    fn a_decimal_and_a_text_of_the_same_digits_are_counted_apart_in_any_order() {
        let classes = |cells: &[bool]| {
            let mut evidence = TableEvidence::new(1);
            evidence.add(&records(cells), 0);
            let column = &evidence.columns[0];
            (column.class(Class::Point).count, column.class(Class::PointOrGroup).count)
        };
        let many: Vec<bool> = (0..1000).map(|at| at % 2 == 0).collect();
        let sorted: Vec<bool> = (0..1000).map(|at| at < 500).collect();
        let reversed: Vec<bool> = (0..1000).map(|at| at >= 500).collect();
        for cells in [many, sorted, reversed] {
            assert_eq!(classes(&cells), (500, 500));
        }
    }

    proptest! {
        #[test]
        fn a_typed_value_is_what_its_text_is(value in any::<i64>(), days in -25_000i32..90_000, of_day in 0..86_400i64) {
            let moment = i64::from(days) * DAY + of_day * 1_000_000;
            let cells = [Cell::Integer(value), Cell::Date(days), Cell::Timestamp(moment), Cell::Time(of_day * 1_000_000), Cell::Boolean(value > 0)];
            for cell in cells {
                let (typed, text) = seen(cell);
                prop_assert_eq!(typed, text);
            }
        }

        #[test]
        fn a_typed_decimal_is_what_its_text_is_and_never_a_number_of_thousands(mantissa in -999_999_999_999i64..999_999_999_999, scale in 1u8..9) {
            let (typed, text) = seen(Cell::Decimal { mantissa, scale });
            let (Recognised::Number(typed), Recognised::Number(text)) = (typed, text) else { panic!("no numbers") };
            prop_assert_eq!((typed.number, typed.digits), (text.number, text.digits));
            prop_assert_eq!(typed.class, Class::Point);
        }
    }
}
