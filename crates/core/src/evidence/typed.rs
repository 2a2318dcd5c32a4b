//! What a typed value shows by being what it is.

use crate::record::Cell;
use crate::spelling::number::digit_count;
use crate::spelling::temporal::{ANY_ORDER, DAY};
use crate::spelling::{BoolWords, Class, Recognised, RecognisedNumber, RecognisedTemporal, recognise};
use crate::types::Digits;

/// What a value is. Texts may be anything, and a float is what its digits are.
pub fn recognised(cell: Cell, text: &[u8], wide: &[i128]) -> Recognised {
    match cell {
        Cell::Integer(value) => Recognised::Integer(value, digit_count(value.into())),
        Cell::Decimal { .. } | Cell::Wide { .. } => match cell.number(wide) {
            Some(number) => {
                let int = digit_count(number.mantissa).saturating_sub(number.scale);
                let digits = Digits { int, scale: number.scale, ..Digits::default() };
                Recognised::Number(RecognisedNumber {
                    class: Class::Point,
                    number,
                    digits,
                    accounting: false,
                })
            }
            None => recognise(text),
        },
        Cell::Date(days) => moment(Class::Date, i64::from(days) * DAY),
        Cell::Timestamp(micros) => moment(Class::Timestamp, micros),
        Cell::TimestampTz(micros) => moment(Class::TimestampTz, micros),
        Cell::Time(micros) => Recognised::Time(micros),
        Cell::Boolean(_) => Recognised::Boolean(BoolWords::TrueFalse),
        Cell::Uuid { .. } => Recognised::Uuid,
        Cell::Null | Cell::Float(_) | Cell::Text { .. } => recognise(text),
    }
}

fn moment(class: Class, micros: i64) -> Recognised {
    let (orders, micros) = (ANY_ORDER, [micros; 3]);
    Recognised::Temporal(RecognisedTemporal { class, orders, micros, short_year: false, pair: (0, 0) })
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn seen(cell: Cell) -> (Recognised, Recognised) {
        let mut text = Vec::new();
        cell.write(&[], &[], &mut text);
        (recognised(cell, &text, &[]), recognise(&text))
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
