//! Values of columns whose types the file itself declares: the declaration decides, and the values give
//! nulls, extremes and how many are distinct.

use std::hash::{BuildHasher, Hasher};

use super::column::HASH;
use super::decide::{Decision, Forced, Hints, against, decide_by_values};
use super::{ColumnEvidence, Spot};
use crate::format::Format;
use crate::record::Cell;
use crate::spelling::number::{digit_count, digits_of, is_beyond_floats};
use crate::spelling::temporal;
use crate::spelling::words::{self, BoolWords, NullSet};
use crate::spelling::{Class, Fraction, Number, Recognised, recognise, trim};
use crate::types::{Digits, Domain, Type, Unit};

impl ColumnEvidence {
    /// Takes in a value of a column that is declared to be of this domain. A text where it is declared to
    /// be something else is a value that is not exact as that.
    pub(super) fn add_declared(
        &mut self,
        cell: Cell,
        domain: Domain,
        bytes: &[u8],
        wide: &[i128],
        spot: impl Fn() -> Spot,
    ) {
        if !self.also_null.is_empty() && self.is_named_null(cell, bytes, wide) {
            self.present += 1;
            return self.nulls[words::EMPTY as usize].add(&spot, b"");
        }
        let class = match cell {
            Cell::Null => {
                self.present += 1;
                return self.nulls[words::EMPTY as usize].add(&spot, b"");
            }
            Cell::Text { start, len } => {
                let text = bytes.get(start as usize..start as usize + len as usize).unwrap_or_default();
                return self.add_declared_text(text, domain, spot);
            }
            Cell::Boolean(_) => {
                self.pairs &= BoolWords::TrueFalse.bit();
                Class::TrueFalse
            }
            Cell::Integer(value) => {
                self.add_declared_integer(value);
                Class::Integer
            }
            Cell::Decimal { .. } | Cell::Wide { .. } => self.add_declared_number(cell.number(wide)),
            Cell::Float(value) => self.add_declared_float(value),
            Cell::Date(days) => self.add_instant(Class::Date, i64::from(days) * temporal::DAY),
            Cell::Timestamp(micros) => self.add_instant(Class::Timestamp, micros),
            Cell::TimestampTz(micros) => self.add_instant(Class::TimestampTz, micros),
            Cell::Time(micros) => {
                self.times.add(micros);
                Class::Time
            }
            Cell::Uuid { .. } => Class::Uuid,
        };
        self.present += 1;
        let tally = &mut self.classes[class as usize];
        if tally.first.is_some() {
            tally.count += 1;
        } else {
            let mut text = Vec::new();
            cell.write(bytes, wide, &mut text);
            tally.add(spot, &text);
        }
        self.distinct.add(hash_of(cell, bytes, wide));
    }

    /// Whether the user says that this value is null.
    fn is_named_null(&self, cell: Cell, bytes: &[u8], wide: &[i128]) -> bool {
        let mut text = Vec::new();
        cell.write(bytes, wide, &mut text);
        self.also_null.iter().any(|word| word.as_bytes() == trim(&text))
    }

    fn add_declared_text(&mut self, text: &[u8], domain: Domain, spot: impl Fn() -> Spot) {
        match domain {
            Domain::Text => self.add_text_as_such(text, spot),
            Domain::Json => {
                self.present += 1;
                self.classes[Class::Json as usize].add(spot, text);
                let mut hasher = HASH.build_hasher();
                hasher.write(text);
                self.distinct.add(hasher.finish());
            }
            _ => {
                self.astray += 1;
                self.add(text, spot);
            }
        }
    }

    fn add_declared_integer(&mut self, value: i64) {
        let seen = &mut self.digits[Class::Integer as usize];
        seen.int = seen.int.max(digit_count(value.into()));
        seen.exact |= is_beyond_floats(value);
        self.integers.add(value);
    }

    fn add_declared_number(&mut self, number: Option<Number>) -> Class {
        if let Some(number) = number {
            let at = Class::Point as usize;
            self.digits[at] = self.digits[at].join(digits_of(number, Unit::Bare));
            self.numbers[at].add(number);
        }
        Class::Point
    }

    /// A float is only looked at closely where it is an extreme so far: there it is what its digits say.
    fn add_declared_float(&mut self, value: f64) -> Class {
        let (least, greatest) = self.floats.unwrap_or((f64::INFINITY, f64::NEG_INFINITY));
        if value < least || value > greatest {
            self.floats = Some((least.min(value), greatest.max(value)));
            let mut text = Vec::new();
            Cell::Float(value).write(&[], &[], &mut text);
            let numbers = &mut self.numbers[Class::Point as usize];
            match recognise(&text) {
                Recognised::Number(found) => numbers.add(found.number),
                Recognised::Integer(whole, _) => numbers.add(Number { mantissa: whole.into(), scale: 0 }),
                _ => {}
            }
        }
        Class::Point
    }

    fn add_instant(&mut self, class: Class, micros: i64) -> Class {
        self.orders[temporal::ANY_ORDER as usize].count += 1;
        self.instants.iter_mut().for_each(|instants| instants.add(micros));
        class
    }

    /// The digits that the whole numbers of a declared column have.
    fn declared_digits(&self) -> Digits {
        let seen = self.digits[Class::Integer as usize];
        Digits { int: seen.int.max(1), not_days: true, not_moments: true, several: true, ..seen }
    }
}

/// Two values are hashed alike if they are alike, whichever part of the column they stand in.
fn hash_of(cell: Cell, bytes: &[u8], wide: &[i128]) -> u64 {
    let mut hasher = HASH.build_hasher();
    match cell {
        Cell::Null => {}
        Cell::Boolean(value) => hasher.write_u64(value.into()),
        Cell::Integer(value) | Cell::Time(value) | Cell::Timestamp(value) | Cell::TimestampTz(value) => {
            hasher.write_i64(value);
        }
        Cell::Decimal { .. } | Cell::Wide { .. } => {
            hasher.write_i128(cell.number(wide).map_or(0, |number| number.mantissa));
        }
        Cell::Float(value) => hasher.write_u64(value.to_bits()),
        Cell::Date(days) => hasher.write_i32(days),
        Cell::Text { start, len } => {
            hasher.write(bytes.get(start as usize..start as usize + len as usize).unwrap_or_default());
        }
        Cell::Uuid { start } => {
            hasher.write(bytes.get(start as usize..start as usize + 36).unwrap_or_default());
        }
    }
    hasher.finish()
}

/// Decides one column: by what it is declared to be, or by its values where nothing is declared.
pub fn decide(column: &ColumnEvidence, hints: Hints, forced: Forced) -> Decision {
    match column.declared {
        Some(domain) => decide_declared(column, domain, forced),
        None => decide_by_values(column, hints, forced),
    }
}

/// Decides a column that is declared to be of this domain: it is that, unless some value is not exact as
/// such, which makes it text.
fn decide_declared(column: &ColumnEvidence, declared: Domain, forced: Forced) -> Decision {
    let keeps_fine = matches!(forced.fraction, Some(Fraction::Round | Fraction::Cut));
    let is_astray = column.astray > if keeps_fine { column.fine() } else { 0 };
    let domain = match declared {
        _ if is_astray => Domain::Text,
        Domain::Number(_) if declared.ty() == Type::Integer => Domain::Number(column.declared_digits()),
        declared => declared,
    };
    let nulls = column.missing + column.nulls().map(|(_, tally)| tally.count).sum::<u64>();
    let format = Format {
        nulls: if matches!(domain, Domain::Text | Domain::Unknown) { NullSet::ALWAYS } else { NullSet::ALL },
        ..Format::default()
    };
    Decision {
        format,
        nullable: nulls > 0,
        nulls,
        is_too_fine: is_astray && column.fine() > 0 && forced.fraction.is_none(),
        against: if is_astray { against(column, domain) } else { Vec::new() },
        ..Decision::of_domain(domain)
    }
}

#[cfg(test)]
mod tests {
    use std::sync::Arc;

    use rstest::rstest;

    use super::*;
    use crate::evidence::TableEvidence;
    use crate::record::Records;

    /// Evidence of one column that is declared as `domain`; a text stands for itself.
    fn evidence(domain: Domain, cells: &[Cell], text: &str) -> TableEvidence {
        let mut records = Records::default();
        records.begin_declared(&Arc::from([vec!["load".to_owned()]]));
        records.bytes.extend_from_slice(text.as_bytes());
        records.fill_column(0).expect("a column").cells.extend_from_slice(cells);
        records.end_typed(1..=cells.len() as u64);
        let mut table = TableEvidence::new(1);
        table.columns[0].declared = Some(domain);
        table.add(&records, 0);
        table
    }

    fn decided(domain: Domain, cells: &[Cell], text: &str) -> Decision {
        decide(&evidence(domain, cells, text).columns[0], Hints::default(), Forced::default())
    }

    #[rstest]
    #[case::days_as_numbers(Domain::of(Type::Integer), &[Cell::Integer(20_260_304)], "", Type::Integer)]
    #[case::zero_and_one(Domain::of(Type::Integer), &[Cell::Integer(0), Cell::Integer(1)], "", Type::Integer)]
    #[case::whole_floats(Domain::of(Type::Float), &[Cell::Float(1.0), Cell::Null], "", Type::Float)]
    #[case::midnights(Domain::Timestamp, &[Cell::Timestamp(0)], "", Type::Timestamp)]
    #[case::digits_as_text(Domain::Text, &[Cell::text(0..3)], "007", Type::Text)]
    #[case::nothing_at_all(Domain::Date, &[Cell::Null], "", Type::Date)]
    #[case::decimals(Domain::of(Type::Decimal { precision: 12, scale: 2 }), &[Cell::Decimal { mantissa: 100, scale: 2 }], "", Type::Decimal { precision: 12, scale: 2 })]
    #[case::finer_than_is_kept(Domain::Timestamp, &[Cell::Timestamp(0), Cell::text(0..29)], "2026-03-04 05:06:07.123456789", Type::Text)]
    fn the_declared_type_is_the_type(
        #[case] domain: Domain,
        #[case] cells: &[Cell],
        #[case] text: &str,
        #[case] expected: Type,
    ) {
        let decision = decided(domain, cells, text);
        assert_eq!(decision.domain.ty(), expected);
        assert_eq!(decision.nulls, cells.iter().filter(|cell| **cell == Cell::Null).count() as u64);
    }

    #[test]
    fn parts_of_a_column_merge_to_the_whole() {
        let (one, other) = ([Cell::Integer(7), Cell::Null], [Cell::Integer(70), Cell::Integer(7)]);
        let mut merged = evidence(Domain::of(Type::Integer), &one, "");
        merged.merge(&evidence(Domain::of(Type::Integer), &other, ""));
        let whole = evidence(Domain::of(Type::Integer), &[one, other].concat(), "");
        let decided = |table: &TableEvidence| decide(&table.columns[0], Hints::default(), Forced::default());
        assert_eq!(decided(&merged), decided(&whole));
        assert_eq!(merged.columns[0].values(), 3);
    }
}
